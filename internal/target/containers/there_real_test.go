package containers

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math/big"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	v1 "github.com/google/go-containerregistry/pkg/v1"

	"aditus/internal/core/declare"
	"aditus/internal/probe"
	"aditus/internal/socket/porttest"
	"aditus/internal/target"
	"aditus/internal/target/containers/agent"
	"aditus/internal/target/containers/host"
	"aditus/internal/target/containers/images"
	"aditus/internal/target/local/keeper"
	"aditus/internal/target/local/store"
	"aditus/internal/target/targettest"
)

// certificates are an authority, a server's and a client's certificate, as files of a folder.
func certificates(t testing.TB) (folder string) {
	t.Helper()
	folder = t.TempDir()
	made := func(name string, of *x509.Certificate, by *x509.Certificate, with *ecdsa.PrivateKey) (*x509.Certificate, *ecdsa.PrivateKey) {
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			t.Fatal(err)
		}
		if by == nil {
			by, with = of, key
		}
		text, err := x509.CreateCertificate(rand.Reader, of, by, &key.PublicKey, with)
		if err != nil {
			t.Fatal(err)
		}
		secret, _ := x509.MarshalECPrivateKey(key)
		os.WriteFile(filepath.Join(folder, name+".pem"), pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: text}), 0o600)
		os.WriteFile(filepath.Join(folder, name+"-key.pem"), pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: secret}), 0o600)
		one, _ := x509.ParseCertificate(text)
		return one, key
	}
	base := func(n int64, name string) *x509.Certificate {
		return &x509.Certificate{SerialNumber: big.NewInt(n), Subject: pkix.Name{CommonName: name}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth}}
	}
	root := base(1, "authority")
	root.IsCA, root.BasicConstraintsValid, root.KeyUsage = true, true, x509.KeyUsageCertSign
	authority, with := made("ca", root, nil, nil)
	server := base(2, "engine")
	server.IPAddresses = []net.IP{net.IPv4(127, 0, 0, 1)}
	made("server", server, authority, with)
	made("client", base(3, "aditus"), authority, with)
	return folder
}

// gate leads connections from an address to a socket, and can be shut: what is open then hangs, and nothing new is led.
type gate struct {
	address string
	mu      sync.Mutex
	shut    bool
	open    []net.Conn
}

// lead begins to lead.
func (g *gate) lead(t testing.TB, listener net.Listener, network, to string) {
	g.address = listener.Addr().String()
	t.Cleanup(func() { listener.Close() })
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				if g.isShut() {
					return
				}
				there, err := net.Dial(network, to)
				if err != nil {
					return
				}
				defer there.Close()
				g.mu.Lock()
				g.open = append(g.open, conn, there)
				g.mu.Unlock()
				done := make(chan bool, 2)
				for _, pair := range [][2]net.Conn{{conn, there}, {there, conn}} {
					go func() {
						io.Copy(pair[0], pair[1])
						if half, is := pair[0].(interface{ CloseWrite() error }); is {
							half.CloseWrite()
						}
						done <- true
					}()
				}
				<-done
				<-done
			}()
		}
	}()
}

func (g *gate) isShut() bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.shut
}

// set shuts the gate, or opens it.
func (g *gate) set(shut bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.shut = shut
	if shut {
		for _, conn := range g.open {
			conn.Close()
		}
		g.open = nil
	}
}

// byTLS is a way to an engine by TLS, through a gate.
func byTLS(t testing.TB, e *engine) (host.Way, *gate) {
	t.Helper()
	at := certificates(t)
	own, err := tls.LoadX509KeyPair(filepath.Join(at, "server.pem"), filepath.Join(at, "server-key.pem"))
	if err != nil {
		t.Fatal(err)
	}
	pool := x509.NewCertPool()
	text, _ := os.ReadFile(filepath.Join(at, "ca.pem"))
	pool.AppendCertsFromPEM(text)
	listener, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{Certificates: []tls.Certificate{own}, ClientCAs: pool, ClientAuth: tls.RequireAndVerifyClientCert})
	if err != nil {
		t.Fatal(err)
	}
	g := &gate{}
	g.lead(t, listener, "unix", strings.TrimPrefix(e.address, host.Scheme))
	return host.Way{Address: "tcp+tls://" + g.address, CA: filepath.Join(at, "ca.pem"), Certificate: filepath.Join(at, "client.pem"), Key: filepath.Join(at, "client-key.pem")}, g
}

// there is a site at an engine of another machine, which is this one.
type there struct {
	agent.Site
	link    *agent.Link
	bringer *agent.Bringer
	host    *host.Host
	listen  string
}

// openedThere is a site in a data folder at an engine of another machine.
func openedThere(t testing.TB, e *engine, way host.Way, owner string, with ...func(*there)) *there {
	t.Helper()
	built, err := program()
	if err != nil {
		t.Fatal(err)
	}
	log := slog.New(slog.NewTextHandler(t.Output(), nil))
	h := host.Open(way)
	s := &there{host: h, listen: porttest.Free(t), bringer: &agent.Bringer{Host: h, Way: way, Owner: owner, Program: built, Log: log}}
	for _, set := range with {
		set(s)
	}
	fetch := func(_ context.Context, ref string) (v1.Image, error) {
		for version := range 5 {
			if ref == reference(version) {
				return image(t, fmt.Sprint(version)), nil
			}
		}
		return nil, fmt.Errorf("%w: %s", store.ErrNone, ref)
	}
	s.link = agent.OpenLink(agent.Ends{
		Name: way.Address, Reach: s.bringer.Reach, Now: time.Now, Images: images.Open(h, 1<<30, t.TempDir(), fetch), Log: log,
		Open: func(sealed string) (string, error) { return strings.TrimPrefix(sealed, "sealed:"), nil },
		Setup: func() (agent.Setup, error) {
			c, err := credentials(way)
			return agent.Setup{Server: "harbor-1", Sites: []agent.Works{{Name: "quay", Listen: s.listen, Ports: [2]int{21000, 29999}}}, Engine: c, Called: way.Address}, err
		},
	})
	s.Site = s.link.Site("quay")
	t.Cleanup(func() {
		s.link.Close()
		if t.Failed() {
			all, _ := h.List(context.Background(), map[string]string{keeper.LabelAgent: owner})
			for _, l := range all {
				out, _ := e.podman("logs", l.ID).CombinedOutput()
				t.Logf("%s", out)
			}
			folder, _ := e.podman("volume", "inspect", "--format", "{{.Mountpoint}}", "aditus-"+owner[:6]+"-agent").Output()
			out, _ := os.ReadFile(filepath.Join(strings.TrimSpace(string(folder)), "keeper.log"))
			t.Logf("%s", out)
		}
		ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
		defer cancel()
		if err := s.bringer.End(ctx); err != nil {
			t.Error(err)
		}
		if all, err := h.List(ctx, map[string]string{keeper.LabelAgent: owner}); err != nil || len(all) > 0 {
			t.Errorf("there is still %v (%v)", all, err)
		}
	})
	eventually(t, "the agent is there", func() bool { _, err := s.Observe(t.Context(), "none"); return err == nil })
	return s
}

// TestRealThereConformance holds a site at an engine of another machine against the contract of all drivers.
func TestRealThereConformance(t *testing.T) {
	e := startEngine(t)
	way, _ := byTLS(t, e)
	n := 0
	targettest.Run(t, func(t *testing.T) target.Driver {
		n++
		return openedThere(t, e, way, fmt.Sprintf("abc%03d-conformance", n))
	}, targettest.Options{Artifact: reference, Missing: "registry.skerry.example/none:1", Settles: time.Minute})
}

// visitors ask a site again and again, and count what they were not answered.
type visitors struct {
	asked, lost atomic.Int64
	why         atomic.Value
	stop        func()
}

func visit(s *there) *visitors {
	v := &visitors{}
	ctx, cancel := context.WithCancel(context.Background())
	var group sync.WaitGroup
	for range 4 {
		group.Go(func() {
			for ctx.Err() == nil {
				response, err := http.Get("http://" + s.listen + "/")
				v.asked.Add(1)
				if err == nil {
					io.Copy(io.Discard, response.Body)
					response.Body.Close()
					if response.StatusCode != http.StatusOK {
						err = errors.New(response.Status)
					}
				}
				if err != nil && ctx.Err() == nil {
					v.lost.Add(1)
					v.why.Store(err.Error())
				}
			}
		})
	}
	v.stop = func() { cancel(); group.Wait() }
	return v
}

// decks are the instances of a part of a revision, as the site sees them.
func (s *there) decks(t testing.TB, n int) (all []target.Instance, err error) {
	seen, err := s.Observe(t.Context(), workload)
	c, _ := seen.Cohort(revision(n))
	return slices.DeleteFunc(slices.Clone(c.Instances), func(in target.Instance) bool { return in.Part != "deck" }), err
}

// await waits until the instances are as wanted.
func (s *there) await(t testing.TB, n int, what string, is func([]target.Instance) bool) (all []target.Instance) {
	t.Helper()
	var last string
	defer func() {
		if t.Failed() {
			t.Log("there is " + last)
		}
	}()
	eventually(t, what, func() (so bool) {
		var err error
		all, err = s.decks(t, n)
		last = fmt.Sprintf("%+v (%v)", all, err)
		return err == nil && is(all)
	})
	return all
}

// TestRealThere has happen to an agent, its link and its engine what happens, under load: what runs runs on, what ends is started anew, and a
// program that takes over from another one loses no request.
func TestRealThere(t *testing.T) {
	e := startEngine(t)
	way, g := bySSH(t, e)
	s := openedThere(t, e, way, "def000-faults")
	followed, stop := context.WithCancel(t.Context())
	defer stop()
	changes := make(chan string, 1000)
	go s.Follow(followed, func(workload string) { changes <- workload })
	if err := s.Apply(t.Context(), workload, []target.Want{target.Prepare(revision(1), ferry(1)), target.Scale(revision(1), "deck", 2), target.Scale(revision(1), "engine", 1), target.SetShare(revision(1), 1, "")}); err != nil {
		t.Fatal(err)
	}
	in := s.await(t, 1, "they run", running(2))
	if len(changes) == 0 {
		t.Error("nothing was heard of it")
	}
	id := func(in target.Instance) string {
		all, err := host.New(e.address).List(context.Background(), map[string]string{"aditus.instance": in.ID})
		if err != nil || len(all) != 1 {
			return ""
		}
		return all[0].ID
	}
	before := []string{id(in[0]), id(in[1])}
	same := func(when string) {
		t.Helper()
		if now := []string{id(in[0]), id(in[1])}; !slices.Equal(now, before) {
			t.Errorf("%s: the containers are others than before", when)
		}
	}

	// What it is asked is answered there, and its ports are reached through it.
	for path, want := range map[string]string{"/environment": "WORD=ahoy\n", "/file?name=/run/aditus/secrets/pass/word": "ahoy", "/file?name=/run/aditus/settings/hours/opens.at": "06:30", "/reach?at=http://engine:8080/": "200 OK"} {
		if response, err := http.Get("http://" + s.listen + path); err != nil {
			t.Error(err)
		} else if text, _ := io.ReadAll(response.Body); !strings.Contains(string(text), want) {
			t.Errorf("%s: %s", path, text)
		}
	}
	prober := probe.New()
	for _, p := range []declare.Probe{{HTTP: &declare.Endpoint{Port: "http", Path: "/"}}, {TCP: &declare.Endpoint{Port: "http"}}} {
		p.Timeout.Duration = 5 * time.Second
		if why := prober.Through(in[0].Through).Ask(t.Context(), in[0].Address, in[0].Ports, p); why != "" {
			t.Errorf("%+v is told %q", p, why)
		}
		if why := prober.Through(in[0].Through).Ask(t.Context(), in[0].Address, map[string]int{"http": 22}, p); !strings.Contains(why, "is no port that instances are given") {
			t.Errorf("%+v of another port is told %q", p, why)
		}
	}
	if lines, err := s.Log(t.Context(), workload, in[0].ID, time.Time{}, 10); err != nil || len(lines) == 0 || lines[0].Text != "ready on 8080" {
		t.Errorf("it wrote %v (%v)", lines, err)
	}
	if said, err := s.Exec(t.Context(), workload, in[0].ID, []string{"/service", "read", "/nowhere"}); err != nil || !strings.Contains(said, "exited with status") {
		t.Errorf("a command that fails: %q (%v)", said, err)
	}
	if _, err := s.Log(t.Context(), workload, "none", time.Time{}, 10); !errors.Is(err, target.ErrNoInstance) {
		t.Errorf("the log of nobody: %v", err)
	}
	if ground, err := s.Ground(t.Context()); err != nil || len(ground.Room) < 2 || !strings.HasPrefix(ground.On, "containers of ssh://root@") {
		t.Errorf("it stands on %+v (%v)", ground, err)
	}

	// The link is cut: nothing is known, and all goes on, what ends is started anew too.
	v := visit(s)
	g.set(true)
	eventually(t, "a site that is not reached is silent", func() bool { _, err := s.decks(t, 1); return errors.Is(err, target.ErrUnreachable) })
	started := func(id string) time.Time {
		c, err := host.New(e.address).Inspect(t.Context(), id)
		if err != nil || !c.State.Running {
			return time.Time{}
		}
		return c.State.StartedAt
	}
	first := started(before[1])
	if out, err := e.podman("kill", before[1]).CombinedOutput(); err != nil {
		t.Fatalf("%s: %v", out, err)
	}
	eventually(t, "it is started anew there", func() bool { return started(before[1]).After(first) })
	g.set(false)
	s.await(t, 1, "it is reached again, and what happened is known", func(all []target.Instance) bool {
		return running(2)(all) && len(all[1].Restarts)+len(all[0].Restarts) == 1
	})
	same("after the link was cut")

	// Another program takes over.
	text, err := os.ReadFile(s.bringer.Program)
	if err != nil {
		t.Fatal(err)
	}
	other := filepath.Join(t.TempDir(), "aditus")
	if err := os.WriteFile(other, append(text, '\n'), 0o700); err != nil {
		t.Fatal(err)
	}
	asked, listen := v.asked.Load(), s.listen
	agents := func() (ids []string) {
		all, _ := s.host.List(t.Context(), map[string]string{keeper.LabelAgent: "def000-faults"})
		for _, l := range all {
			ids = append(ids, l.ID)
		}
		return ids
	}
	was := agents()
	s.link.Close()
	s = openedThere(t, e, way, "def000-faults", func(s *there) { s.bringer.Program, s.listen = other, listen })
	eventually(t, "another program works there alone", func() bool { now := agents(); return len(now) == 1 && now[0] != was[0] })
	s.await(t, 1, "it says what runs", running(2))
	same("under another program")
	if v.asked.Load() == asked {
		t.Error("nobody asked meanwhile")
	}
	v.stop()
	if lost := v.lost.Load(); lost > 0 {
		t.Errorf("%d of %d requests were lost: %v", lost, v.asked.Load(), v.why.Load())
	}

	// The agent itself ends, while nobody reaches it: it is started anew, and goes on with what it knows.
	s.link.Close()
	own, err := host.New(e.address).Inspect(t.Context(), agents()[0])
	if err != nil || syscall.Kill(own.State.Pid, syscall.SIGKILL) != nil {
		t.Fatalf("the agent cannot be killed: %v", err)
	}
	first = started(before[0])
	if out, err := e.podman("kill", before[0]).CombinedOutput(); err != nil {
		t.Errorf("%v: %s", err, out)
	}
	eventually(t, "it goes on without a server", func() bool { return started(before[0]).After(first) })
	s = openedThere(t, e, way, "def000-faults", func(s *there) { s.bringer.Program, s.listen = other, listen })
	s.await(t, 1, "it says what runs", running(2))
	same("after the agent was killed")
}

// bySSH is a way to an engine by the machine's sshd, through a gate.
func bySSH(t testing.TB, e *engine) (host.Way, *gate) {
	t.Helper()
	sshd, err := exec.LookPath("sshd")
	if err != nil {
		t.Skip("there is no sshd: make test installs it")
	}
	at := t.TempDir()
	for _, name := range []string{"host", "user"} {
		if out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", filepath.Join(at, name)).CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
	}
	port := porttest.Free(t)
	_, number, _ := net.SplitHostPort(port)
	settings := fmt.Sprintf("ListenAddress 127.0.0.1:%s\nHostKey %[2]s/host\nAuthorizedKeysFile %[2]s/user.pub\nPidFile none\nUsePAM no\nStrictModes no\nPermitRootLogin yes\n", number, at)
	if err := os.WriteFile(filepath.Join(at, "sshd_config"), []byte(settings), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.MkdirAll("/run/sshd", 0o755); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command(sshd, "-D", "-e", "-f", filepath.Join(at, "sshd_config"))
	said, err := os.Create(filepath.Join(at, "log"))
	if err != nil {
		t.Fatal(err)
	}
	cmd.Stderr = said
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		cmd.Process.Kill()
		cmd.Wait()
		said.Close()
		if text, _ := os.ReadFile(said.Name()); t.Failed() {
			t.Logf("%s", text)
		}
	})
	eventually(t, "sshd answers", func() bool {
		conn, err := net.Dial("tcp", port)
		if err == nil {
			conn.Close()
		}
		return err == nil
	})
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	g := &gate{}
	g.lead(t, listener, "tcp", port)
	key, _ := os.ReadFile(filepath.Join(at, "host.pub"))
	_, own, _ := net.SplitHostPort(g.address)
	os.WriteFile(filepath.Join(at, "known"), fmt.Appendf(nil, "[127.0.0.1]:%s %s", own, key), 0o600)
	return host.Way{Address: "ssh://root@" + g.address + strings.TrimPrefix(e.address, host.Scheme), Key: filepath.Join(at, "user"), KnownHosts: filepath.Join(at, "known")}, g
}

// TestRealWays is told what to mend where an engine is not reached.
func TestRealWays(t *testing.T) {
	e := startEngine(t)
	byTLS, _ := byTLS(t, e)
	bySSH, _ := bySSH(t, e)
	t.Setenv("SSH_AUTH_SOCK", "")
	at := t.TempDir()
	if out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", filepath.Join(at, "other")).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	known, _ := os.ReadFile(bySSH.KnownHosts)
	name, _, _ := strings.Cut(string(known), " ")
	key, _ := os.ReadFile(filepath.Join(at, "other.pub"))
	os.WriteFile(filepath.Join(at, "changed"), fmt.Appendf(nil, "%s %s", name, key), 0o600)
	os.WriteFile(filepath.Join(at, "none"), nil, 0o600)
	change := func(way host.Way, do func(*host.Way)) host.Way { do(&way); return way }
	for _, way := range []host.Way{byTLS, bySSH} {
		if _, err := host.Open(way).Ping(t.Context()); err != nil {
			t.Error(err)
		}
	}
	for want, way := range map[string]host.Way{
		"its certificate is not trusted: name the one that signed it in ca": change(byTLS, func(w *host.Way) { w.CA = "" }),
		"it does not take the certificate that it is shown":                 change(byTLS, func(w *host.Way) { w.Certificate, w.Key = "", "" }),
		"its certificate is another machine's":                              change(byTLS, func(w *host.Way) { w.Address = strings.Replace(w.Address, "127.0.0.1", "localhost", 1) }),
		"has no certificate in PEM":                                         change(byTLS, func(w *host.Way) { w.CA = w.Key }),
		"the key of 127.0.0.1":                                              change(bySSH, func(w *host.Way) { w.KnownHosts = filepath.Join(at, "none") }),
		"shows another key than the one on record":                          change(bySSH, func(w *host.Way) { w.KnownHosts = filepath.Join(at, "changed") }),
		"does not let root in":                                              change(bySSH, func(w *host.Way) { w.Key = filepath.Join(at, "other") }),
		"no file of known hosts can be read":                                change(bySSH, func(w *host.Way) { w.KnownHosts = filepath.Join(at, "nowhere") }),
		"there is no key for ssh":                                           change(bySSH, func(w *host.Way) { w.Key = "" }),
		"/nowhere.sock cannot be opened there by root":                      change(bySSH, func(w *host.Way) { w.Address = strings.Replace(w.Address, e.folder+"/engine.sock", "/nowhere.sock", 1) }),
		"connection refused":                                                change(byTLS, func(w *host.Way) { w.Address = "tcp+tls://127.0.0.1:1" }),
	} {
		_, err := host.Open(way).Ping(t.Context())
		if err == nil || !errors.Is(err, host.ErrSilent) || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %q", err, want)
		}
	}
}

// TestRealThereEnded ends what runs at an engine by TLS, with its agent. Before that the agent is nobody's container to take over.
func TestRealThereEnded(t *testing.T) {
	e := startEngine(t)
	way, _ := byTLS(t, e)
	s := openedThere(t, e, way, "bca000-ended")
	if err := s.Apply(t.Context(), workload, []target.Want{target.Prepare(revision(1), ferry(1)), target.Scale(revision(1), "deck", 1), target.SetShare(revision(1), 1, "")}); err != nil {
		t.Fatal(err)
	}
	s.await(t, 1, "it runs", running(1))
	if all, err := s.Strays(t.Context()); err != nil || len(all) > 0 {
		t.Errorf("what could be taken over is %v (%v)", all, err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	s.link.Close()
	if err := s.bringer.End(ctx); err != nil {
		t.Error(err)
	}
	if all, err := host.New(e.address).List(ctx, nil); err != nil || len(all) > 0 {
		t.Errorf("there is still %v (%v)", all, err)
	}
}
