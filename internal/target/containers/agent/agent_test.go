package agent

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"aditus/internal/core/berth"
	"aditus/internal/core/compare"
	"aditus/internal/core/declare"
	"aditus/internal/core/rollout"
	"aditus/internal/core/signal"
	"aditus/internal/dial"
	"aditus/internal/socket"
	"aditus/internal/status"
	"aditus/internal/target"
	"aditus/internal/target/local/store"
)

// model is a site that notes what it is asked, and says what a test has it say.
type model struct {
	mu      sync.Mutex
	asked   []string
	seen    target.Observation
	err     error
	changed func(target.Berth)
	follows chan struct{}
}

func (m *model) note(format string, args ...any) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.asked = append(m.asked, fmt.Sprintf(format, args...))
	return m.err
}

func (m *model) Observe(_ context.Context, workload string) (target.Observation, error) {
	return m.seen, m.note("observe %s", workload)
}

func (m *model) Apply(_ context.Context, workload string, wants []target.Want) error {
	for _, w := range wants {
		if w.Desired != nil && w.Desired.Fingerprint() != ferry.Fingerprint() {
			return m.note("another declaration")
		}
	}
	return m.note("apply %s %s", workload, wants[0].Do)
}

func (m *model) Exec(_ context.Context, workload, instance string, command []string) (string, error) {
	return "exited with status 3", m.note("exec %s %s %q", workload, instance, command)
}

func (m *model) Restart(_ context.Context, workload, instance string) error {
	return m.note("restart %s %s", workload, instance)
}

func (m *model) Measure(context.Context, string) (map[string]signal.Page, error) {
	return map[string]signal.Page{"a": {"took": {signal.NewSample(map[string]string{"le": "+Inf"}, 3)}}}, m.note("measure")
}

func (m *model) Log(_ context.Context, _, instance string, since time.Time, most int) ([]target.LogLine, error) {
	return []target.LogLine{{At: since, Text: "ready"}}, m.note("log %s %d", instance, most)
}

func (m *model) Follow(ctx context.Context, changed func(target.Berth)) {
	m.mu.Lock()
	m.changed = changed
	m.mu.Unlock()
	m.follows <- struct{}{}
	<-ctx.Done()
}

func (m *model) Remembered(workload string, revision declare.Fingerprint) *berth.Revision {
	if revision != ferry.Fingerprint() {
		return nil
	}
	return &berth.Revision{Fingerprint: revision, Workload: workload, Version: "1", Desired: &ferry}
}

func (m *model) Remembers() []target.Berth { return []string{"ferry"} }

func (m *model) Strays(context.Context) ([]status.Stray, error) {
	return []status.Stray{{ID: "container/old"}}, m.note("strays")
}

func (m *model) Ground(context.Context) (status.Ground, error) {
	return status.Ground{On: "an engine"}, m.note("ground")
}

func (m *model) Pledge(workload string, parts map[string]string) error {
	return m.note("pledge %s %v", workload, parts)
}

var ferry = declare.Desired{Format: 1, Workload: "ferry", Parts: map[string]declare.Part{
	"deck": {Kind: declare.Service, Artifact: "registry.skerry.example/web:1", Ports: map[string]int{"http": 8080}},
	"pass": {Kind: declare.Secret, Values: map[string]string{"word": "age 1234"}, Sealed: map[string]string{"word": "sealed:ahoy"}},
}}

// images bring what they are told to.
type images struct {
	mu    sync.Mutex
	has   map[string]Artifact
	gone  []string
	ready func()
	users func() []string
}

func (i *images) Get(reference string) (string, error) {
	i.mu.Lock()
	defer i.mu.Unlock()
	a, is := i.has[reference]
	if !is {
		return "", store.ErrWorking
	}
	return a.Image, a.err()
}

func (i *images) Gone(reference string) {
	i.mu.Lock()
	defer i.mu.Unlock()
	i.gone = append(i.gone, reference)
	delete(i.has, reference)
}

func (i *images) Use(_ string, references func() []string, ready func()) {
	i.users, i.ready = references, ready
}

func (i *images) set(reference string, a Artifact) {
	i.mu.Lock()
	i.has[reference] = a
	i.mu.Unlock()
	i.ready()
}

// world is an agent with its server.
type world struct {
	folder  string
	model   *model
	brought *Brought
	images  *images
	stop    func()
	off     time.Duration // of the server's clock, as the agent was told
}

// begin begins an agent in a folder, as some program.
func (w *world) begin(t *testing.T, program string) (stop func()) {
	t.Helper()
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() {
		ended <- Run(ctx, Options{
			Folder: w.folder, Memory: w.folder, Program: program, Log: slog.New(slog.DiscardHandler),
			End:   func(context.Context) error { return nil },
			Leads: func(context.Context) bool { return true },
			Open: func(setup Setup, as func(time.Time) time.Time, b *Brought) (map[string]Site, error) {
				w.brought = b
				if w.off = 0; as != nil {
					w.off = as(time.Unix(0, 0)).Sub(time.Unix(0, 0))
				}
				sites := map[string]Site{}
				for _, s := range setup.Sites {
					b.Use(s.Name, func() []string { return []string{"registry.skerry.example/web:1"} }, func() { w.model.note("ready") })
					sites[s.Name] = w.model
				}
				return sites, nil
			},
		})
	}()
	return sync.OnceFunc(func() {
		cancel()
		if err := <-ended; err != nil {
			t.Error(err)
		}
	})
}

// reach connects to the agent, as a command in its container does.
func (w *world) reach(ctx context.Context) (net.Conn, error) {
	return socket.Transport(filepath.Join(w.folder, SocketFile), 5*time.Second).DialContext(ctx, "", "")
}

// server is a server's end.
func (w *world) server(t *testing.T, name string, ahead time.Duration, port int) *Link {
	l := OpenLink(Ends{
		Name: "quay", Reach: w.reach, Images: w.images, Now: func() time.Time { return time.Now().Add(ahead) }, Log: slog.New(slog.DiscardHandler),
		Open: func(sealed string) (string, error) {
			plain, is := strings.CutPrefix(sealed, "sealed:")
			if !is {
				return "", errors.New("it was sealed for another key")
			}
			return plain, nil
		},
		Mark: func(plain string) string { return "age " + strconv.Itoa(len(plain)) },
		Setup: func() (Setup, error) {
			return Setup{Server: name, Sites: []Works{{Name: "north", Ports: [2]int{port, port}}}}, nil
		},
	})
	t.Cleanup(l.Close)
	return l
}

func newWorld(t *testing.T) *world {
	t.Helper()
	folder, err := os.MkdirTemp("", "agent")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(folder) })
	w := &world{folder: folder, model: &model{follows: make(chan struct{}, 10)}, images: &images{has: map[string]Artifact{}}}
	w.stop = w.begin(t, "one")
	t.Cleanup(func() { w.stop() })
	return w
}

// until waits until something is so.
func until(t *testing.T, what string, so func() bool) {
	t.Helper()
	for end := time.Now().Add(20 * time.Second); !so(); time.Sleep(5 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("it does not come to this: %s", what)
		}
	}
}

// TestAsked asks a site through its agent all that a driver can be asked, and is told what the site says, and its errors for what they are.
func TestAsked(t *testing.T) {
	w := newWorld(t)
	s := w.server(t, "harbor-1", 0, 0).Site("north")
	at := time.Date(2026, 5, 2, 6, 30, 0, 123, time.UTC)
	w.model.seen = target.Observation{Step: 7, TakesOver: true, Cohorts: []target.Cohort{{Revision: ferry.Fingerprint(), Share: 0.25, Live: compare.Live{"deck": compare.Show(ferry.Parts["deck"])}, Instances: []target.Instance{
		{ID: "a", Part: "deck", Address: "127.0.0.1", Ports: map[string]int{"http": 21000}, Started: at, Restarts: []time.Time{at}, Memory: 1 << 40, Events: []status.Event{{At: at, Text: "started"}}},
	}}}}
	ctx := t.Context()
	saw, err := s.Observe(ctx, "ferry")
	if err != nil || saw.Cohorts[0].Instances[0].Through == nil {
		t.Errorf("%+v (%v)", saw, err)
	}
	saw.Cohorts[0].Instances[0].Through = nil
	if !reflect.DeepEqual(saw, w.model.seen) {
		t.Errorf("it saw\n%+v, and is told\n%+v", w.model.seen, saw)
	}
	for want, do := range map[string]func() (any, error){
		`<nil>|apply ferry prepare`: func() (any, error) {
			return nil, s.Apply(ctx, "ferry", []target.Want{target.Prepare(ferry.Fingerprint(), ferry)})
		},
		`exited with status 3|exec ferry a ["check" "--all"]`: func() (any, error) { return s.Exec(ctx, "ferry", "a", []string{"check", "--all"}) },
		`<nil>|restart ferry a`:                               func() (any, error) { return nil, s.Restart(ctx, "ferry", "a") },
		`ready|log a 5`:                                       func() (any, error) { l, err := s.Log(ctx, "ferry", "a", at, 5); return text(l), err },
		`container/old|strays`:                                func() (any, error) { l, err := s.Strays(ctx); return stray(l), err },
		`an engine|ground`:                                    func() (any, error) { g, err := s.Ground(ctx); return g.On, err },
		`<nil>|pledge ferry map[a:deck]`:                      func() (any, error) { return nil, s.Pledge("ferry", map[string]string{"a": "deck"}) },
	} {
		said, asked, _ := strings.Cut(want, "|")
		w.model.asked, w.model.err = nil, nil
		got, err := do()
		if err != nil || fmt.Sprint(got) != said || !slices.Contains(w.model.asked, asked) {
			t.Errorf("%s: it said %v (%v), asked %q", want, got, err, w.model.asked)
		}
		for _, one := range []error{target.ErrUnreachable, target.ErrNoInstance, target.ErrNoArtifact, errors.New("the disk is full")} {
			w.model.err = fmt.Errorf("north: %w", one)
			_, err := do()
			if err == nil || err.Error() != w.model.err.Error() || one != target.ErrNoInstance && errors.Is(err, target.ErrNoInstance) || apartIs(one) && !errors.Is(err, one) {
				t.Errorf("%s: %v, want %v", want, err, w.model.err)
			}
		}
	}
	w.model.err = nil
	pages, err := s.Measure(ctx, "ferry")
	if err != nil || !reflect.DeepEqual(pages["a"]["took"], []signal.Sample{signal.NewSample(map[string]string{"le": "+Inf"}, 3)}) {
		t.Errorf("it measured %+v (%v)", pages, err)
	}
	if r := s.Remembered("ferry", ferry.Fingerprint()); r == nil || r.Version != "1" || r.Desired.Fingerprint() != ferry.Fingerprint() || s.Remembered("ferry", "other") != nil || !slices.Equal(s.Remembers(), []string{"ferry"}) {
		t.Errorf("it remembers %+v, %v", r, s.Remembers())
	}
	if _, err := w.link0(t).Site("south").Observe(ctx, "ferry"); !errors.Is(err, target.ErrUnreachable) {
		t.Errorf("a site that is not there: %v", err)
	}
}

// link0 is a link that only looks.
func (w *world) link0(t *testing.T) *Link {
	l := OpenLink(Ends{Name: "quay", Reach: w.reach, Look: true, Log: slog.New(slog.DiscardHandler)})
	t.Cleanup(l.Close)
	return l
}

func text(lines []target.LogLine) string {
	if len(lines) == 0 {
		return ""
	}
	return lines[0].Text
}

func stray(all []status.Stray) string {
	if len(all) == 0 {
		return ""
	}
	return all[0].ID
}

func apartIs(err error) bool {
	for _, one := range apart {
		if one == err {
			return true
		}
	}
	return false
}

// TestNews sees that what changes at a site is heard of, that the link is made anew where it is lost, and that it is silent until then.
func TestNews(t *testing.T) {
	w := newWorld(t)
	l := w.server(t, "harbor-1", 0, 0)
	s := l.Site("north")
	if _, err := s.Observe(t.Context(), "ferry"); err != nil {
		t.Fatal(err)
	}
	heard := make(chan string, 100)
	go s.Follow(t.Context(), func(workload string) { heard <- workload })
	<-w.model.follows
	until(t, "a change is heard of", func() bool {
		w.model.changed("ferry")
		select {
		case got := <-heard:
			return got == "ferry"
		default:
			return false
		}
	})
	w.stop()
	until(t, "it is silent", func() bool { _, err := s.Observe(t.Context(), "ferry"); return errors.Is(err, target.ErrUnreachable) })
	<-heard // as that is news too
	w.stop = w.begin(t, "one")
	until(t, "it answers again", func() bool {
		<-heard
		_, err := s.Observe(t.Context(), "ferry")
		return err == nil
	})
}

// TestSuccession has an agent of another program take over from one that works: it alone answers then, and knows what was known.
func TestSuccession(t *testing.T) {
	w := newWorld(t)
	l := w.server(t, "harbor-1", 0, 0)
	if _, err := l.Site("north").Observe(t.Context(), "ferry"); err != nil {
		t.Fatal(err)
	}
	first := w.stop
	w.stop = w.begin(t, "two")
	until(t, "the other one answers", func() bool {
		conn, err := w.reach(t.Context())
		if err != nil {
			return false
		}
		p, err := newPeer(conn)
		if err != nil {
			return false
		}
		defer p.close()
		hello, err := p.hello(t.Context())
		return err == nil && hello.Program == "two" && hello.Leads
	})
	until(t, "the site answers", func() bool { _, err := l.Site("north").Observe(t.Context(), "ferry"); return err == nil })
	first()
	if _, err := l.Site("north").Observe(t.Context(), "ferry"); err != nil {
		t.Errorf("with the first one gone: %v", err)
	}
}

// TestBrought has a site ask for an image and a secret: they come from the server, are told of as they are, and are remembered.
func TestBrought(t *testing.T) {
	const web = "registry.skerry.example/web:1"
	w := newWorld(t)
	if b := OpenBrought(t.TempDir(), t.TempDir()); true { // without a server it is said whose they are to bring
		_, err := b.Get(web)
		_, err2 := b.Open("sealed:ahoy")
		if !errors.Is(err, store.ErrWorking) || err2 == nil || !strings.Contains(err.Error()+err2.Error(), "the Aditus that leads") {
			t.Errorf("%v, %v", err, err2)
		}
	}
	l := w.server(t, "harbor-1", 0, 0)
	s := l.Site("north")
	if _, err := s.Observe(t.Context(), "ferry"); err != nil {
		t.Fatal(err)
	}
	get := func() string {
		image, err := w.brought.Get(web)
		if err != nil {
			image = err.Error()
		}
		return image
	}
	get()
	for _, a := range []Artifact{{Why: "12 MB brought", Working: true}, {Why: "the registry is silent"}, {Image: "localhost/web"}} {
		w.images.set(web, a)
		until(t, "it is told "+a.Image+a.Why, func() bool { return get() == a.Image+a.Why })
	}
	if used := w.images.users(); !slices.Contains(used, web) {
		t.Errorf("it is not among what stays: %v", used)
	}
	for n, a := range []Artifact{{Image: "localhost/web-again"}, {Why: "there is none", Final: true}} {
		until(t, "one that went is brought anew", func() bool {
			w.brought.Gone(web) // also where it is told of what was there just before
			w.images.mu.Lock()
			defer w.images.mu.Unlock()
			return len(w.images.gone) > n && len(w.images.has) == 0
		})
		w.images.set(web, a)
		until(t, "it is told "+a.Image+a.Why, func() bool { return get() == a.Image+a.Why })
	}
	w.images.set(web, Artifact{Image: "localhost/web"})

	until(t, "nothing is asked for any more", func() bool { get(); return len(w.brought.wishes().Asked) == 0 })

	open := func(sealed string) string {
		plain, err := w.brought.Open(sealed)
		if err != nil {
			plain = err.Error()
		}
		return plain
	}
	until(t, "a secret is opened", func() bool { return open("sealed:ahoy") == "ahoy" })
	until(t, "one that cannot be opened says why", func() bool { return open("other") == "it was sealed for another key" })
	if w.brought.Mark("ahoy") != "age 4" || !strings.HasPrefix(w.brought.Mark("changed"), "age ") || w.brought.Mark("changed") == "age 7" {
		t.Errorf("its fingerprints are %q and %q", w.brought.Mark("ahoy"), w.brought.Mark("changed"))
	}
	if err := s.Apply(t.Context(), "ferry", []target.Want{{Intent: rollout.Intent{Do: rollout.Prepare}, Desired: &ferry}}); err != nil {
		t.Fatal(err)
	}
	until(t, "the image is remembered", func() bool {
		image, err := OpenBrought(w.folder, w.folder).Get(web)
		return err == nil && image == "localhost/web"
	})
	if plain, err := OpenBrought(w.folder, w.folder).Open("sealed:ahoy"); err != nil || plain != "ahoy" {
		t.Errorf("the secret is not remembered: %q, %v", plain, err)
	}
	for _, name := range []string{"opened.json", "images.json", setupFile} {
		if info, err := os.Stat(filepath.Join(w.folder, name)); err != nil || info.Mode().Perm() != 0o600 {
			t.Errorf("%s: %v (%v)", name, info, err)
		}
	}
}

// TestServers refuses a second server while one works with an agent, and lets one that only looks.
func TestServers(t *testing.T) {
	w := newWorld(t)
	l := w.server(t, "harbor-1", 0, 0)
	until(t, "it is reached", func() bool { _, err := l.Site("north").Observe(t.Context(), "ferry"); return err == nil && w.listens() })
	other := w.server(t, "harbor-2", 0, 0)
	until(t, "the other one is told", func() bool {
		_, err := other.Site("north").Observe(t.Context(), "ferry")
		return err != nil && strings.Contains(err.Error(), "another Aditus works with this agent now, harbor-1")
	})
	if _, err := w.link0(t).Site("north").Observe(t.Context(), "ferry"); err != nil {
		t.Errorf("one that only looks: %v", err)
	}
	l.Close()
	until(t, "it works once the first is gone", func() bool { _, err := other.Site("north").Observe(t.Context(), "ferry"); return err == nil })
}

// listens tells whether a server hears what the agent says.
func (w *world) listens() bool {
	w.brought.mu.Lock()
	defer w.brought.mu.Unlock()
	return w.brought.server > 0
}

// TestClocks has an agent go by its server's clock, where that is set otherwise than its machine's.
func TestClocks(t *testing.T) {
	for ahead, want := range map[time.Duration]time.Duration{0: 0, time.Second: 0, -time.Hour: -time.Hour, 90 * time.Second: 90 * time.Second} {
		w := newWorld(t)
		l := w.server(t, "harbor-1", ahead, 0)
		if _, err := l.Site("north").Observe(t.Context(), "ferry"); err != nil {
			t.Fatal(err)
		}
		if off := w.off - want; max(off, -off) > time.Second {
			t.Errorf("a clock that is %s ahead is taken to be %s", ahead, w.off)
		}
	}
}

// TestThrough reaches the ports of instances through the agent, and none beside.
func TestThrough(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		text, _ := io.ReadAll(r.Body)
		fmt.Fprintf(w, "%s of %d", r.URL.Path, len(text))
	}))
	defer server.Close()
	w := newWorld(t)
	port := server.Listener.Addr().(*net.TCPAddr).Port
	l := w.server(t, "harbor-1", 0, port)
	if _, err := l.Site("north").Observe(t.Context(), "ferry"); err != nil {
		t.Fatal(err)
	}
	client := &http.Client{Transport: l.way}
	for range 3 {
		response, err := client.Post(server.URL+"/metrics", "text/plain", strings.NewReader(strings.Repeat("a", 300_000)))
		if err != nil {
			t.Fatal(err)
		}
		if text, _ := io.ReadAll(response.Body); string(text) != "/metrics of 300000" {
			t.Errorf("it says %q", text)
		}
		response.Body.Close()
	}
	for address, want := range map[string]string{"127.0.0.1:1": "is no port that instances are given", fmt.Sprintf("10.0.0.1:%d", port): "is no port", fmt.Sprintf("localhost:%d", port): "is no port"} {
		if _, err := dial.Way(l.way).DialContext(t.Context(), "tcp", address); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", address, err)
		}
	}
	server.Close()
	if _, err := l.way.DialContext(t.Context(), "tcp", fmt.Sprintf("127.0.0.1:%d", port)); err == nil || err.Error() != "nobody listens there" {
		t.Errorf("where nobody listens: %v", err)
	}
	short, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := l.way.DialContext(short, "tcp", fmt.Sprintf("127.0.0.1:%d", port)); err == nil {
		t.Error("one that nobody waits for is connected")
	}
}
