package api

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"log"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"sync"
	"time"

	"golang.org/x/net/netutil"

	"aditus/internal/core/policy"
	"aditus/internal/dial"
	"aditus/internal/socket"
)

// SocketFile is the Unix socket in a data folder on which a running Aditus answers.
const SocketFile = "aditus.sock"

// Bounds on those who come over TCP: how long they may take for what they send, and how many may come at once.
const (
	mostHeader      = 64 << 10
	mostConnections = 1000
)

var bodyWait = 30 * time.Second

// stopWait is how long requests that are under way may take when the server stops.
const stopWait = 5 * time.Second

// ServeSocket answers on the data folder's socket until ctx ends. The socket is the owner's alone. ready is called once it
// listens.
func ServeSocket(ctx context.Context, folder string, s *Server, ready func()) error {
	listener, err := socket.Listen(ctx, filepath.Join(folder, SocketFile))
	if err != nil {
		return fmt.Errorf("answer the shell: %w", err)
	}
	server := &http.Server{Handler: s, ReadHeaderTimeout: 5 * time.Second, ConnContext: func(ctx context.Context, c net.Conn) context.Context {
		return context.WithValue(ctx, socketKey{}, peer(c))
	}}
	ready()
	return run(ctx, server, func() error { return server.Serve(listener) })
}

// peer tells who is at the other end of the socket, by the system's word. The socket is its owner's alone, who may do
// everything.
func peer(c net.Conn) policy.Actor {
	owner := policy.Actor{Name: "the owner", Known: policy.ByAccount, From: "the socket", Scopes: policy.Scopes}
	if who := socket.Peer(c); who != nil {
		uid := strconv.Itoa(int(who.UID))
		owner.Name, owner.From = "uid "+uid, "the socket, uid "+uid
		if account, err := user.LookupId(uid); err == nil {
			owner.Name = account.Username
		}
	}
	return owner
}

// TCP says how to answer over TCP.
type TCP struct {
	Address   string
	Cert, Key string // files of a certificate and its key (PEM); both empty for none
	ClientCA  string // a file of those that sign certificates of clients; empty where none is asked for
}

// Check refuses to answer strangers in plain text.
func (t TCP) Check() error {
	host, _, err := net.SplitHostPort(t.Address)
	if err != nil {
		return fmt.Errorf("%q is no address; write it like 127.0.0.1:8791", t.Address)
	}
	if (t.Cert == "") != (t.Key == "") {
		return errors.New("a certificate and its key go together")
	}
	if t.ClientCA != "" && t.Cert == "" {
		return errors.New("clients show certificates over TLS alone: give --tls-cert and --tls-key too")
	}
	if t.Cert == "" && !dial.Loopback(host) {
		return fmt.Errorf("%s is reached from other machines, and tokens would go there in plain text: give a certificate with --tls-cert and --tls-key, or listen on 127.0.0.1", t.Address)
	}
	return nil
}

// guarded lets in no page of a browser that comes from elsewhere: neither one that asks in its visitor's name, whose certificate the browser
// shows, nor one whose own name was made to lead to this machine.
func (t TCP) guarded(next http.Handler) http.Handler {
	pages := http.NewCrossOriginProtection()
	pages.SetDenyHandler(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		refuse(w, r, &Problem{Status: http.StatusForbidden, Detail: "a page of another origin asks for this"})
	}))
	return pages.Handler(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Sec-Fetch-Site") == "cross-site" || !t.known(r.Host) {
			refuse(w, r, &Problem{Status: http.StatusMisdirectedRequest, Detail: fmt.Sprintf("nothing here is called %s", r.Host)})
			return
		}
		next.ServeHTTP(w, r)
	}))
}

// known tells whether a server that is asked on this machine alone is asked by a name of this machine.
func (t TCP) known(host string) bool {
	at, _, err := net.SplitHostPort(t.Address)
	if err != nil || !dial.Loopback(at) {
		return true
	}
	if name, _, err := net.SplitHostPort(host); err == nil {
		host = name
	}
	return dial.Loopback(host)
}

// ServeTCP answers over TCP until ctx ends. ready is told the address that it came to be.
func ServeTCP(ctx context.Context, t TCP, s *Server, ready func(address string)) error {
	if err := t.Check(); err != nil {
		return err
	}
	var config net.ListenConfig
	listener, err := config.Listen(ctx, "tcp", t.Address)
	if err != nil {
		return fmt.Errorf("answer on %s: %w; choose another address", t.Address, err)
	}
	server := &http.Server{Handler: t.guarded(s), ReadHeaderTimeout: 5 * time.Second, ReadTimeout: bodyWait, MaxHeaderBytes: mostHeader, IdleTimeout: 2 * time.Minute, ErrorLog: errorLog(s.log), TLSConfig: &tls.Config{MinVersion: tls.VersionTLS12}}
	pool := x509.NewCertPool()
	if t.Cert != "" {
		own := &certificate{TCP: t, log: s.log}
		if err := own.read(); err != nil {
			listener.Close()
			return err
		}
		server.TLSConfig.GetCertificate = own.get
		if t.ClientCA != "" {
			text, err := os.ReadFile(t.ClientCA)
			if err == nil && !pool.AppendCertsFromPEM(text) {
				err = errors.New("there is no certificate in it")
			}
			if err != nil {
				listener.Close()
				return fmt.Errorf("read %s, whose certificates sign those of clients: %w", t.ClientCA, err)
			}
			server.TLSConfig.ClientCAs, server.TLSConfig.ClientAuth = pool, tls.VerifyClientCertIfGiven
		}
	}
	ready(listener.Addr().String())
	listener = netutil.LimitListener(listener, mostConnections)
	return run(ctx, server, func() error {
		if t.Cert != "" {
			return server.ServeTLS(listener, "", "")
		}
		return server.Serve(listener)
	})
}

// certificate is that of a server, read anew when its files were changed, as one has to be before it ends.
type certificate struct {
	TCP
	log *slog.Logger

	mu     sync.Mutex
	looked time.Time
	made   [2]time.Time // when the files were written that it is from
	pair   *tls.Certificate
}

// certificateEvery is how often it is looked whether its files were changed.
const certificateEvery = time.Second

// get gives the certificate as it is now. Files that are no certificate, as while they are being written, leave the one before in force.
func (c *certificate) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if time.Since(c.looked) >= certificateEvery && c.changed() {
		if err := c.read(); err != nil {
			c.log.Warn("the certificate was changed, and the one before stays in force", "error", err)
		}
	}
	return c.pair, nil
}

// written tells when the files were written.
func (c *certificate) written() (at [2]time.Time) {
	for i, name := range []string{c.Cert, c.Key} {
		if info, err := os.Stat(name); err == nil {
			at[i] = info.ModTime()
		}
	}
	return at
}

func (c *certificate) changed() bool {
	c.looked = time.Now()
	return c.written() != c.made
}

func (c *certificate) read() error {
	at := c.written()
	pair, err := tls.LoadX509KeyPair(c.Cert, c.Key)
	if err != nil {
		return fmt.Errorf("read the certificate: %w", err)
	}
	c.pair, c.made = &pair, at
	return nil
}

func errorLog(l *slog.Logger) *log.Logger { return slog.NewLogLogger(l.Handler(), slog.LevelWarn) }

// run serves until ctx ends, and lets what is under way end then.
func run(ctx context.Context, server *http.Server, serve func() error) error {
	ended := make(chan struct{})
	stop := context.AfterFunc(ctx, func() {
		defer close(ended)
		wait, cancel := context.WithTimeout(context.Background(), stopWait)
		defer cancel()
		if server.Shutdown(wait) != nil {
			server.Close()
		}
	})
	err := serve()
	if !stop() {
		<-ended
	}
	if errors.Is(err, http.ErrServerClosed) {
		return nil
	}
	return err
}
