// Package postgrestest starts a PostgreSQL of its own for tests, Debian's, and stands between it and whoever uses it, so that the way
// there can be cut at any moment.
package postgrestest

import (
	"bytes"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"
)

// Server is a running server of which the tests of a package use a database each. Make it with Start.
type Server struct {
	folder, bin string
	as          *syscall.Credential // nil for whoever runs the tests
	door        *Way                // by which it is reached as long as the tests run: a port of its own would be another's once it is killed
	running     *exec.Cmd
	ended       chan struct{} // is closed once running has
	made        int
}

var (
	once    sync.Once
	shared  *Server
	trouble error
	mu      sync.Mutex
)

// Run runs a package's tests, and ends the server that they started.
func Run(m *testing.M) int {
	code := m.Run()
	if shared != nil {
		shared.Kill()
		shared.door.Close()
		os.RemoveAll(shared.folder)
	}
	return code
}

// Start gives the server of the package's tests, which call Run. Where there is no PostgreSQL it is installed; where that may not be the
// test is skipped.
func Start(tb testing.TB) *Server {
	tb.Helper()
	once.Do(func() { shared, trouble = start() })
	if trouble != nil {
		tb.Skipf("there is no PostgreSQL to test with: %v", trouble)
	}
	return shared
}

func start() (*Server, error) {
	s := &Server{}
	var err error
	if s.bin, err = find(); err != nil {
		return nil, err
	}
	if os.Getuid() == 0 { // which it refuses to run as
		nobody, err := user.Lookup("nobody")
		if err != nil {
			return nil, err
		}
		uid, _ := strconv.Atoi(nobody.Uid)
		gid, _ := strconv.Atoi(nobody.Gid)
		s.as = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
	}
	if s.folder, err = os.MkdirTemp("", "postgres-"); err != nil {
		return nil, err
	}
	if s.as != nil {
		if err := os.Chown(s.folder, int(s.as.Uid), int(s.as.Gid)); err != nil {
			return nil, err
		}
	}
	if s.door, err = s.way(); err != nil {
		return nil, err
	}
	if out, err := s.command("initdb", "--pgdata", s.data(), "--auth", "trust", "--username", "aditus", "--encoding", "UTF8", "--no-sync").CombinedOutput(); err != nil {
		return nil, fmt.Errorf("initdb: %w: %s", err, out)
	}
	return s, s.Up()
}

func (s *Server) data() string { return filepath.Join(s.folder, "data") }

// find gives the folder of PostgreSQL's programs.
func find() (string, error) {
	look := func() string {
		found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/initdb")
		if len(found) > 0 {
			return filepath.Dir(found[len(found)-1])
		}
		if at, err := exec.LookPath("initdb"); err == nil {
			return filepath.Dir(at)
		}
		return ""
	}
	if at := look(); at != "" {
		return at, nil
	}
	_, here, _, _ := runtime.Caller(0)
	out, err := exec.Command(filepath.Join(filepath.Dir(here), "..", "..", "..", "scripts", "install"), "postgresql").CombinedOutput()
	if at := look(); at != "" {
		return at, nil
	}
	return "", fmt.Errorf("install it: %w: %s", err, bytes.TrimSpace(out))
}

func (s *Server) command(name string, args ...string) *exec.Cmd {
	cmd := exec.Command(filepath.Join(s.bin, name), args...)
	cmd.Dir = s.folder
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: s.as, Pdeathsig: syscall.SIGQUIT}
	return cmd
}

// socket is where it listens.
func (s *Server) socket() string { return filepath.Join(s.folder, ".s.PGSQL.5432") }

// Up starts it, and waits until it answers.
func (s *Server) Up() error {
	s.running = s.command("postgres", "-D", s.data(), "-c", "listen_addresses=", "-k", s.folder, "-c", "fsync=off", "-c", "max_connections=200")
	log, err := os.OpenFile(filepath.Join(s.folder, "log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer log.Close()
	s.running.Stdout, s.running.Stderr = log, log
	started, ended := make(chan error, 1), make(chan struct{})
	s.ended = ended
	go func() {
		defer close(ended)
		runtime.LockOSThread() // Pdeathsig is of the thread that started it
		err := s.running.Start()
		if started <- err; err == nil {
			s.running.Wait()
		}
	}()
	if err := <-started; err != nil {
		return err
	}
	patience := time.After(time.Minute)
	for {
		if s.command("pg_isready", "-h", s.folder, "-t", "1", "-q").Run() == nil {
			return nil
		}
		var how string
		select {
		case <-ended:
			how = "ended"
		case <-patience:
			how = "does not answer"
		case <-time.After(50 * time.Millisecond):
			continue
		}
		text, _ := os.ReadFile(log.Name())
		return fmt.Errorf("it %s: %s", how, text)
	}
}

// Kill ends it as a machine does that loses its power, without what is not on disk.
func (s *Server) Kill() {
	s.running.Process.Signal(syscall.SIGQUIT)
	<-s.ended
}

// Database makes a database that is empty and gives its address, by way of another one where that is given.
func (s *Server) Database(tb testing.TB) string {
	tb.Helper()
	mu.Lock()
	defer mu.Unlock()
	s.made++
	name := fmt.Sprintf("line%d", s.made)
	if out, err := s.command("createdb", "-h", s.folder, "-U", "aditus", name).CombinedOutput(); err != nil {
		tb.Fatalf("make a database: %v: %s", err, out)
	}
	return fmt.Sprintf("postgres://aditus@%s/%s?sslmode=disable", s.door.listener.Addr(), name)
}

// Way is a way to the server that can be cut. Its users are told of nothing.
type Way struct {
	listener net.Listener
	server   *Server

	mu     sync.Mutex
	left   int // messages to the server that still pass; less than 0 for all
	frozen bool
	closed bool
	thawed *sync.Cond
	conns  []net.Conn
	passed int
	Cut    func() // is called once, at the moment that no more messages pass; nil for nothing
}

// Way opens a way to the server.
func (s *Server) Way(tb testing.TB) *Way {
	tb.Helper()
	w, err := s.way()
	if err != nil {
		tb.Fatal(err)
	}
	tb.Cleanup(w.Close)
	return w
}

func (s *Server) way() (*Way, error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	w := &Way{listener: listener, server: s, left: -1}
	w.thawed = sync.NewCond(&w.mu)
	go w.accept()
	return w, nil
}

// Of gives the address of a database by this way.
func (w *Way) Of(address string) string {
	return strings.Replace(address, w.server.door.listener.Addr().String(), w.listener.Addr().String(), 1)
}

// After lets so many messages pass to the server, and then cuts all connections, new ones too.
func (w *Way) After(messages int) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.left, w.passed = messages, 0
}

// Passed is how many messages passed since After.
func (w *Way) Passed() int {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.passed
}

// Freeze lets nothing pass in either direction, and nobody knows; until Thaw.
func (w *Way) Freeze() {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.frozen = true
}

// Thaw ends Freeze.
func (w *Way) Thaw() {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.frozen = false
	w.thawed.Broadcast()
}

// Close ends the way.
func (w *Way) Close() {
	w.listener.Close()
	w.Thaw()
	w.mu.Lock()
	defer w.mu.Unlock()
	w.closed = true
	for _, c := range w.conns {
		c.Close()
	}
}

func (w *Way) accept() {
	for {
		from, err := w.listener.Accept()
		if err != nil {
			return
		}
		to, err := net.Dial("unix", w.server.socket())
		if err != nil {
			from.Close()
			continue
		}
		w.mu.Lock()
		if w.conns = append(w.conns, from, to); w.closed {
			from.Close()
			to.Close()
		}
		w.mu.Unlock()
		go w.carry(from, to, true)
		go w.carry(to, from, false)
	}
}

// carry carries what one side says to the other; what a client says at once is one message.
func (w *Way) carry(from, to net.Conn, counts bool) {
	defer from.Close()
	defer to.Close()
	piece := make([]byte, 64<<10)
	for {
		n, err := from.Read(piece)
		if n > 0 && !w.pass(counts) {
			return
		}
		if n > 0 {
			if _, err := to.Write(piece[:n]); err != nil {
				return
			}
		}
		if err != nil {
			return
		}
	}
}

func (w *Way) pass(counts bool) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	for w.frozen {
		w.thawed.Wait()
	}
	if w.closed { // what was on its way then cuts nothing any more
		return false
	}
	if !counts {
		return true
	}
	if w.left < 0 {
		w.passed++
		return true
	}
	if w.left == 0 {
		if w.Cut != nil {
			w.Cut()
			w.Cut = nil
		}
		for _, c := range w.conns {
			c.Close()
		}
		return false
	}
	w.left--
	w.passed++
	return true
}
