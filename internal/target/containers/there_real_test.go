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
	"fmt"
	"io"
	"log/slog"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	v1 "github.com/google/go-containerregistry/pkg/v1"

	"aditus/internal/socket/porttest"
	"aditus/internal/target"
	"aditus/internal/target/containers/agent"
	"aditus/internal/target/containers/host"
	"aditus/internal/target/containers/images"
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
		Name: way.Address, Reach: s.bringer.Reach, Images: images.Open(h, 1<<30, t.TempDir(), fetch), Log: log,
		Open: func(sealed string) (string, error) { return strings.TrimPrefix(sealed, "sealed:"), nil },
		Setup: func() (agent.Setup, error) {
			c, err := credentials(way)
			return agent.Setup{Server: "harbor-1", Sites: []agent.Works{{Name: "quay", Listen: s.listen, Ports: [2]int{21000, 29999}}}, Engine: c}, err
		},
	})
	s.Site = s.link.Site("quay")
	t.Cleanup(func() {
		s.link.Close()
		if t.Failed() {
			all, _ := h.List(context.Background(), map[string]string{agent.Label: owner})
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
		if all, err := h.List(ctx, map[string]string{agent.Label: owner}); err != nil || len(all) > 0 {
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
