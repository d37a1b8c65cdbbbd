package host

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/user"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/skeema/knownhosts"
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
)

// How it is seen that the other end of a tunnel is gone: it is asked while nothing comes, and given so long to answer.
const (
	sshBeat = 5 * time.Second
	sshWait = 10 * time.Second
)

// tunnel is the way to a socket of a machine by ssh: one connection for all that is asked there, made anew where it was lost.
type tunnel struct {
	way                Way
	host, user, socket string

	making sync.Mutex // one at a time
	mu     sync.Mutex
	client *ssh.Client // nil while there is none
}

// dial opens a connection to the socket.
func (t *tunnel) dial(ctx context.Context) (net.Conn, error) {
	for try := 0; ; try++ {
		client, err := t.connected(ctx)
		if err != nil {
			return nil, err
		}
		conn, err := client.DialContext(ctx, "unix", t.socket)
		var refused *ssh.OpenChannelError
		switch {
		case err == nil:
			return conn, nil
		case errors.As(err, &refused) && refused.Reason == ssh.Prohibited:
			return nil, fmt.Errorf("%s does not let sockets be forwarded: have its sshd allow AllowStreamLocalForwarding for %s", t.host, t.user)
		case errors.As(err, &refused):
			return nil, fmt.Errorf("%s cannot be opened there by %s: see that the engine runs, and that this user may (%s)", t.socket, t.user, cmp.Or(refused.Message, "refused"))
		case ctx.Err() != nil:
			return nil, ctx.Err()
		}
		if t.lose(client); try > 0 {
			return nil, err
		}
	}
}

// connected gives the connection to the machine.
func (t *tunnel) connected(ctx context.Context) (*ssh.Client, error) {
	t.making.Lock()
	defer t.making.Unlock()
	t.mu.Lock()
	client := t.client
	t.mu.Unlock()
	if client != nil {
		return client, nil
	}
	settings, done, err := t.settings()
	if err != nil {
		return nil, err
	}
	defer done()
	ctx, cancel := context.WithTimeout(ctx, dialWait)
	defer cancel()
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", t.host)
	if err != nil {
		return nil, err
	}
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	made, channels, requests, err := ssh.NewClientConn(conn, t.host, settings)
	if !stop() && err == nil {
		err = ctx.Err()
	}
	if err != nil {
		conn.Close()
		return nil, t.explain(cmp.Or(ctx.Err(), err))
	}
	client = ssh.NewClient(made, channels, requests)
	t.mu.Lock()
	t.client = client
	t.mu.Unlock()
	go t.beat(client)
	return client, nil
}

// lose lets go of a connection, with all that goes through it.
func (t *tunnel) lose(client *ssh.Client) {
	t.mu.Lock()
	if t.client == client {
		t.client = nil
	}
	t.mu.Unlock()
	client.Close()
}

// beat asks the machine time and again whether it is still there, and lets go of the connection once it is not: one that was cut somewhere says
// nothing by itself.
func (t *tunnel) beat(client *ssh.Client) {
	ended := make(chan struct{})
	go func() {
		client.Wait()
		close(ended)
	}()
	for {
		select {
		case <-ended:
			t.lose(client)
			return
		case <-time.After(sshBeat):
		}
		answered := make(chan struct{})
		go func() {
			if _, _, err := client.SendRequest("keepalive@openssh.com", true, nil); err == nil {
				close(answered)
			}
		}()
		select {
		case <-answered:
		case <-ended:
		case <-time.After(sshWait):
			t.lose(client)
			return
		}
	}
}

// settings say who asks, and whom they take the machine to be. done lets go of what was opened for it.
func (t *tunnel) settings() (settings *ssh.ClientConfig, done func(), err error) {
	if t.user == "" {
		own, err := user.Current()
		if err != nil {
			return nil, nil, fmt.Errorf("write the user into the address of the engine, as in ssh://root@%s: %w", t.host, err)
		}
		t.user = own.Username
	}
	hosts, err := t.hosts()
	if err != nil {
		return nil, nil, err
	}
	settings = &ssh.ClientConfig{User: t.user, HostKeyCallback: hosts.HostKeyCallback(), HostKeyAlgorithms: hosts.HostKeyAlgorithms(t.host)}
	if t.way.Key != "" {
		text, err := os.ReadFile(t.way.Key)
		if err != nil {
			return nil, nil, fmt.Errorf("key: %w", err)
		}
		signer, err := ssh.ParsePrivateKey(text)
		if err != nil {
			return nil, nil, fmt.Errorf("key: %s cannot be used: %w; one with a passphrase belongs into an ssh agent", t.way.Key, err)
		}
		settings.Auth = []ssh.AuthMethod{ssh.PublicKeys(signer)}
		return settings, func() {}, nil
	}
	conn, err := net.Dial("unix", os.Getenv("SSH_AUTH_SOCK"))
	if err != nil {
		return nil, nil, errors.New("there is no key for ssh: name a file of one in key, or start an ssh agent")
	}
	settings.Auth = []ssh.AuthMethod{ssh.PublicKeysCallback(agent.NewClient(conn).Signers)}
	return settings, func() { conn.Close() }, nil
}

// hosts are the keys of hosts that are known.
func (t *tunnel) hosts() (*knownhosts.HostKeyDB, error) {
	files := []string{t.way.KnownHosts}
	if t.way.KnownHosts == "" {
		files = nil
		home, _ := os.UserHomeDir() // where there is none, the machine's counts alone
		for _, file := range []string{filepath.Join(home, ".ssh", "known_hosts"), "/etc/ssh/ssh_known_hosts"} {
			if _, err := os.Stat(file); err == nil {
				files = append(files, file)
			}
		}
	}
	db, err := knownhosts.NewDB(files...)
	if err != nil {
		return nil, fmt.Errorf("no file of known hosts can be read: %w; write one with ssh-keyscan, compare it with the key that the machine's owner tells, and name it in known-hosts", err)
	}
	return db, nil
}

// explain says what is to be mended where a machine cannot be reached by ssh.
func (t *tunnel) explain(err error) error {
	switch {
	case knownhosts.IsHostKeyChanged(err):
		return fmt.Errorf("%s shows another key than the one on record: somebody may sit in between; ask who runs it before you change the file of known hosts", t.host)
	case knownhosts.IsHostUnknown(err):
		return fmt.Errorf("the key of %s is not known: write it into the file of known hosts with ssh-keyscan, and compare it with the one that its owner tells", t.host)
	case isAuthentication(err):
		return fmt.Errorf("%s does not let %s in: check the user, and that it takes the key", t.host, t.user)
	}
	return err
}

// isAuthentication tells whether all ways to say who asks were tried, of which there is no error of its own.
func isAuthentication(err error) bool {
	return strings.Contains(err.Error(), "unable to authenticate")
}
