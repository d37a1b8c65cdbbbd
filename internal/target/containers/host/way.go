package host

import (
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"
)

// Way says where an engine is, and how it is reached.
type Way struct {
	Address     string // unix:///PATH, tcp+tls://HOST:PORT, or ssh://USER@HOST/PATH
	CA          string // tcp+tls: a file of the certificates that may sign the engine's, in PEM; empty for those that the machine trusts
	Certificate string // tcp+tls: a file of the certificate to show, in PEM; empty for none
	Key         string // a file of its private key, in PEM; ssh: of that of the user; empty for those of the agent
	KnownHosts  string // ssh: a file of the keys of hosts; empty for the user's own and the machine's
}

// The schemes of addresses.
const (
	Scheme    = "unix://"
	schemeTLS = "tcp+tls"
	schemeSSH = "ssh"
)

// Here tells whether the engine is one of this machine.
func (w Way) Here() bool { return strings.HasPrefix(w.Address, Scheme) }

// Check tells what is wrong with how a way is written.
func (w Way) Check() error {
	written := fmt.Errorf("engine: %q is not the address of a container engine; write it like unix:///run/podman/podman.sock, tcp+tls://host.example:2376, or ssh://root@host.example/run/podman/podman.sock", w.Address)
	if path, is := strings.CutPrefix(w.Address, Scheme); is {
		switch {
		case !strings.HasPrefix(path, "/"):
			return written
		case w.CA+w.Certificate+w.Key+w.KnownHosts != "":
			return errors.New("engine: one on this machine takes no ca, certificate, key or known-hosts")
		}
		return nil
	}
	u, err := url.Parse(w.Address)
	if err != nil || u.Hostname() == "" || u.RawQuery != "" || u.Fragment != "" {
		return written
	}
	_, secret := u.User.Password()
	switch {
	case secret:
		return errors.New("engine: a password does not belong into its address; name a key")
	case u.Scheme == schemeTLS && (u.Port() == "" || strings.Trim(u.Path, "/") != "" || u.User != nil):
		return written
	case u.Scheme == schemeTLS && w.KnownHosts != "":
		return errors.New("known-hosts: is for engines by ssh; name the certificates that may sign this one's in ca")
	case u.Scheme == schemeTLS && (w.Certificate == "") != (w.Key == ""):
		return errors.New("certificate and key belong together: name both, or none")
	case u.Scheme == schemeSSH && strings.Trim(u.Path, "/") == "":
		return fmt.Errorf("engine: %s does not say which socket of that machine the engine's is; write it like ssh://%s/run/podman/podman.sock", w.Address, strings.TrimPrefix(strings.TrimSuffix(w.Address, "/"), "ssh://"))
	case u.Scheme == schemeSSH && w.CA+w.Certificate != "":
		return errors.New("ca, certificate: are for engines by tcp+tls; ssh takes key and known-hosts")
	case u.Scheme != schemeTLS && u.Scheme != schemeSSH:
		return written
	}
	for _, file := range []string{w.CA, w.Certificate, w.Key, w.KnownHosts} {
		if file != "" && !filepath.IsAbs(file) {
			return fmt.Errorf("%q is no file by its whole path", file)
		}
	}
	return nil
}

// Socket is the path of an engine's socket on its own machine; empty where it has none that is known.
func (w Way) Socket() string {
	if path, is := strings.CutPrefix(w.Address, Scheme); is {
		return path
	}
	if u, err := url.Parse(w.Address); err == nil && u.Scheme == schemeSSH {
		return u.Path
	}
	return ""
}

// dialWait is how long it may take to reach an engine's machine.
const dialWait = 15 * time.Second

// Dial opens a connection to the engine.
func (w Way) Dial(ctx context.Context) (net.Conn, error) { return w.dialer()(ctx) }

// dialer gives connections to the engine.
func (w Way) dialer() func(ctx context.Context) (net.Conn, error) {
	var d net.Dialer
	if path, is := strings.CutPrefix(w.Address, Scheme); is {
		return func(ctx context.Context) (net.Conn, error) { return d.DialContext(ctx, "unix", path) }
	}
	u, err := url.Parse(w.Address)
	switch {
	case err != nil:
		return func(context.Context) (net.Conn, error) { return nil, err }
	case u.Scheme == schemeSSH:
		return (&tunnel{way: w, host: net.JoinHostPort(u.Hostname(), cmp.Or(u.Port(), "22")), user: u.User.Username(), socket: u.Path}).dial
	}
	return func(ctx context.Context) (net.Conn, error) {
		settings, err := w.tls(u.Hostname())
		if err != nil {
			return nil, err
		}
		ctx, cancel := context.WithTimeout(ctx, dialWait)
		defer cancel()
		conn, err := (&tls.Dialer{Config: settings}).DialContext(ctx, "tcp", u.Host)
		return conn, trusted(err)
	}
}

// tls is how the engine is held to be who it is, and is told who asks. The files are read anew for each connection, as they are renewed.
func (w Way) tls(host string) (*tls.Config, error) {
	c := &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12, NextProtos: []string{"http/1.1"}}
	if w.CA != "" {
		text, err := os.ReadFile(w.CA)
		if err != nil {
			return nil, fmt.Errorf("ca: %w", err)
		}
		if c.RootCAs = x509.NewCertPool(); !c.RootCAs.AppendCertsFromPEM(text) {
			return nil, fmt.Errorf("ca: %s has no certificate in PEM", w.CA)
		}
	}
	if w.Certificate != "" {
		own, err := tls.LoadX509KeyPair(w.Certificate, w.Key)
		if err != nil {
			return nil, fmt.Errorf("certificate and key: %w", err)
		}
		c.Certificates = []tls.Certificate{own}
	}
	return c, nil
}

// trusted says what is to be mended where one side does not trust the other's certificate.
func trusted(err error) error {
	var unknown x509.UnknownAuthorityError
	var name x509.HostnameError
	switch {
	case errors.As(err, &unknown):
		return fmt.Errorf("its certificate is not trusted: name the one that signed it in ca (%w)", err)
	case errors.As(err, &name):
		return fmt.Errorf("its certificate is another machine's: write the name in engine that stands in it (%w)", err)
	}
	return err
}

// refusedTLS says that the engine does not take the certificate that it was shown.
func refusedTLS(err error) error {
	return fmt.Errorf("it does not take the certificate that it is shown: name one that it takes in certificate, with its key (%w)", err)
}
