package api_test

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"os/user"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/prometheus/common/expfmt"
	"github.com/prometheus/common/model"
	"github.com/santhosh-tekuri/jsonschema/v6"

	"aditus/internal/config"
	"aditus/internal/control"
	"aditus/internal/control/api"
	"aditus/internal/core/berth"
	"aditus/internal/core/course"
	"aditus/internal/core/declare"
	"aditus/internal/core/fault"
	"aditus/internal/core/health"
	"aditus/internal/core/policy"
	"aditus/internal/core/signal"
	"aditus/internal/ledger"
	"aditus/internal/source"
	"aditus/internal/status"
	"aditus/internal/target"
	"aditus/internal/view"
	"aditus/internal/view/storytest"
)

// story answers as the demo's story stood, and remembers what was asked.
type story struct {
	control.Control
	storytest.Story

	mu      sync.Mutex
	asked   []string
	refused []string
	changed chan struct{}
	runs    bool // its clock does
	facts   int64
	fails   error // what holding ends with
}

func (s *story) note(format string, args ...any) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.asked = append(s.asked, fmt.Sprintf(format, args...))
}

var errRefused = errors.New("no rollout is under way")

func (s *story) Policy(context.Context) policy.Policy {
	return policy.Policy{Teams: s.Story.Snapshot.Policy.Teams, Sites: s.Story.Snapshot.Teams}
}

func (s *story) Snapshot(context.Context) status.Snapshot {
	s.mu.Lock()
	defer s.mu.Unlock()
	now := s.Story.Snapshot
	if s.runs {
		now.Now = time.Now()
	}
	return now
}
func (s *story) Changed(context.Context) <-chan struct{} { return s.changed }
func (s *story) Refused(_ context.Context, who policy.Actor, what string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.refused = append(s.refused, fmt.Sprintf("%s by %s from %s", what, who.Name, who.From))
}

func (s *story) Measured(context.Context) []status.Measured {
	page := target.Measured(map[int]uint64{200: 90, 500: 10}, []float64{0.1, 1}, []float64{50, 49, 1}, 12.5)
	page[target.MemoryMetric] = []signal.Sample{signal.NewSample(nil, 24e6)}
	return []status.Measured{{ID: berth.ID{Workload: "fares", Site: "north"}, Revision: "1234567890", Instance: `odd"name`, Page: page}}
}
func (s *story) Do(_ context.Context, who policy.Actor, o berth.Order) error {
	s.note("%s %s by %s from %s %v %s", o.Verb, o.Berth, who.Person(), who.From, o.Parts, o.Note)
	if o.Verb == berth.Hold && s.fails != nil {
		return s.fails
	} else if o.Verb == berth.Hold {
		return errRefused
	}
	return nil
}
func (s *story) LookNow(_ context.Context, _ policy.Actor, links ...string) error {
	s.note("look %v", links)
	return nil
}
func (s *story) Accept(_ context.Context, who policy.Actor, link string) error {
	s.note("accept %s by %s from %s", link, who.Name, who.From)
	return nil
}
func (s *story) Watch(_ context.Context, id berth.ID, rollout int64) (view.Watch, error) {
	w, ok := s.Watches[id.String()]
	if !ok {
		return w, fmt.Errorf("%s: %w", id, ledger.ErrNone)
	}
	return w, nil
}
func (s *story) Compare(_ context.Context, id berth.ID, against view.Against) (view.Comparison, error) {
	c := s.Comparisons[id.String()]
	c.Two = against.From == "8.1.4" && against.To == "8.2.0" || against.Site == "north"
	if c.Preview = against.Ref != ""; against.Ref == "nowhere" {
		return c, errors.New("there is no branch nowhere")
	}
	return c, nil
}
func (s *story) Declared(_ context.Context, id berth.ID) (*declare.Desired, error) {
	return &declare.Desired{Parts: map[string]declare.Part{id.Workload: {Kind: declare.Settings, Values: map[string]string{"opens.at": "06:30"}}}}, nil
}
func (s *story) OfferRevert(_ context.Context, who policy.Actor, id berth.ID) (source.Proposal, error) {
	s.note("the revert of %s by %s from %s", id, who.Name, who.From)
	return source.Proposal{Branch: "revert-" + id.Workload}, nil
}
func (s *story) OfferLive(_ context.Context, who policy.Actor, id berth.ID, pointers []string) (source.Proposal, error) {
	s.note("%v of %s as it is, by %s from %s", pointers, id, who.Name, who.From)
	return source.Proposal{Branch: fmt.Sprint("live-", len(pointers))}, nil
}
func (s *story) Bench(_ context.Context, id berth.ID, guard string) (view.Bench, error) {
	if guard == "" {
		guard = "slow share"
	}
	return s.Benches[id.String()+" "+guard], nil
}
func (s *story) OfferLimit(_ context.Context, who policy.Actor, b view.Bench, limit float64) (source.Proposal, error) {
	s.note("another limit of %s of %s by %s from %s", b.Rule.Name, b.Berth, who.Name, who.From)
	return source.Proposal{Branch: fmt.Sprint("limit-", limit)}, nil
}
func (s *story) Tree(context.Context, berth.ID) ([]status.Node, error) {
	pod := status.Node{ID: "v1 Pod gate-1", Kind: "Pod", Name: "gate-1", State: health.State{Word: health.Healthy}, Instance: "gate-1"}
	return []status.Node{{ID: "apps/v1 Deployment gate", Kind: "Deployment", Name: "gate", State: health.State{Word: health.Healthy}, Below: []status.Node{pod}}}, nil
}

func (s *story) Sites(context.Context) ([]status.Site, error) {
	return []status.Site{{Name: "north", Took: 2 * time.Millisecond, Berths: 99, Trouble: "fares cannot be read", Ground: status.Ground{On: "this machine", Takes: []declare.Kind{declare.Service}, Told: []string{"what is the line's"}, Room: []status.Room{{Of: "memory", Used: 1, Has: 2}}}}}, nil
}

func (s *story) Strays(_ context.Context, site string) ([]status.Stray, error) {
	return []status.Stray{{ID: "Deployment/buoys", With: "buoys", Says: "healthy at " + site, Object: map[string]any{"kind": "Deployment"}}}, nil
}

func (s *story) TakeOver(_ context.Context, who policy.Actor, what status.TakeOver) (source.Proposal, error) {
	s.note("take over %v at %s as %s by %s", what.Strays, what.Site, what.Workload, who.Name)
	return source.Proposal{Branch: "take-over-" + what.Workload}, nil
}

func (s *story) Calendar(_ context.Context, from, until time.Time) (status.Calendar, error) {
	return status.Calendar{From: from, Until: until, Sites: []string{"north"}, Entries: []course.Entry{{Sort: course.SortEnd, Name: "the trial", From: from, Text: "it ends"}}}, nil
}

func (s *story) Review(_ context.Context, ref string) (status.Review, error) {
	return status.Review{Ref: ref, Workloads: []status.ReviewWorkload{{Workload: "fares", Sites: []status.ReviewSite{{Site: "north", Does: []string{"change engine"}}}}}}, nil
}

func (s *story) KeepReview(ctx context.Context, who policy.Actor, ref string) (status.Review, error) {
	r, err := s.Review(ctx, ref)
	r.Kept = 7
	return r, err
}

func (s *story) Course(_ context.Context, workload, ref string) (status.Course, error) {
	if workload == "nobody" {
		return status.Course{}, fault.New(fault.ErrNotFound, "no link declares nobody")
	}
	return status.Course{Workload: workload, Course: "line", On: true, Version: ref, Legs: []course.Leg{{Site: "north", Step: 1, After: []string{}}}}, nil
}

func (s *story) Sheet(_ context.Context, _ berth.ID, node string) (status.Sheet, error) {
	return status.Sheet{ID: node, Live: "kind: Deployment\n", Conditions: []status.Condition{{Type: "Available", Status: "True"}}}, nil
}

func (s *story) Log(_ context.Context, _ berth.ID, instance string, since time.Time, most int) ([]target.LogLine, error) {
	if instance == "nobody" {
		return nil, target.ErrNoInstance
	}
	return []target.LogLine{{At: since, Text: fmt.Sprintf("%s %d", instance, most)}}, nil
}
func (s *story) Settings(context.Context, policy.Actor) (map[string]any, error) {
	return map[string]any{"line": "Skerry Line"}, nil
}
func (s *story) PutSettings(_ context.Context, who policy.Actor, given map[string]source.Credential, entries ...config.Entry) error {
	for name, c := range given {
		s.note("credential of %s, %v, by %s", name, c.Password != "", who.Name)
	}
	s.note("put %v by %s", entries, who.Name)
	return nil
}
func (s *story) DropSetting(_ context.Context, who policy.Actor, section, name string) error {
	s.note("drop %s of %s by %s", name, section, who.Name)
	return nil
}
func (s *story) PutCredential(_ context.Context, who policy.Actor, name string, c *source.Credential) error {
	s.note("credential of %s, %v, by %s", name, c != nil && c.Password != "", who.Name)
	return nil
}
func (s *story) MakeHook(context.Context, policy.Actor, string) (string, error) { return "whsec", nil }
func (s *story) Explore(_ context.Context, who policy.Actor, a control.Asked) (control.Offer, error) {
	s.note("look at %s by %s", a.Repository, who.Name)
	return control.Offer{Where: a.Repository, Branch: "main"}, nil
}
func (s *story) Record(_ context.Context, who policy.Actor, what string) error {
	s.note("%s by %s", what, who.Name)
	return nil
}
func (s *story) TestSink(_ context.Context, who policy.Actor, sink string) error {
	s.note("test of %s by %s from %s", sink, who.Name, who.From)
	return nil
}
func (s *story) Try(_ context.Context, _ policy.Actor, link string) (string, error) {
	return link + " answers", nil
}
func (s *story) SetEvery(_ context.Context, who policy.Actor, link string, every time.Duration) error {
	s.note("every %s %s by %s from %s", link, every, who.Name, who.From)
	return nil
}
func (s *story) Facts(_ context.Context, q ledger.Query) ([]ledger.Fact, error) {
	var all []ledger.Fact
	for n := q.After + 1; n <= max(3, s.facts) && (q.Most == 0 || len(all) < q.Most); n++ {
		all = append(all, ledger.Fact{Seq: n, At: s.Story.Snapshot.Now, Workload: []string{"boarding", "fares"}[n%2], Site: "north", Kind: "told", By: "aditus", Text: fmt.Sprint("fact ", n)})
	}
	return all, nil
}
func tell(t *testing.T) (*story, *api.Server, *api.Tokens) {
	t.Helper()
	s := &story{Story: storytest.Load(t), changed: make(chan struct{}, 1)}
	tokens := api.OpenTokens(t.TempDir())
	return s, api.New(t.Context(), s, tokens, slog.New(slog.DiscardHandler)), tokens
}

// onSocket serves a server on a socket, and gives the client for it.
func onSocket(t *testing.T, server *api.Server) *api.Remote {
	t.Helper()
	folder, err := os.MkdirTemp("", "aditus")
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	ready, ended := make(chan struct{}), make(chan error, 1)
	go func() { ended <- api.ServeSocket(ctx, folder, server, func() { close(ready) }) }()
	t.Cleanup(func() {
		cancel()
		if err := <-ended; err != nil {
			t.Error(err)
		}
		os.RemoveAll(folder)
	})
	select {
	case <-ready:
	case err := <-ended:
		ended <- err
		t.Fatal(err)
	}
	if info, err := os.Stat(filepath.Join(folder, api.SocketFile)); err != nil || info.Mode().Perm() != 0o600 {
		t.Fatal("others may use the socket", info, err)
	}
	return api.Dial(folder)
}

// TestRemote sees that a face over the socket gets the same values as one in the same process.
func TestRemote(t *testing.T) {
	s, server, _ := tell(t)
	r := onSocket(t, server)
	id := berth.ID{Workload: "boarding", Site: "north"}
	ctx := t.Context()
	same := func(what string, got any, err error, want any) {
		t.Helper()
		a, _ := json.Marshal(got)
		b, _ := json.Marshal(want)
		if err != nil || !bytes.Equal(a, b) {
			t.Errorf("%s: %v\ngot  %.300s\nwant %.300s", what, err, a, b)
		}
	}
	snapshot, err := r.Renew(ctx)
	same("snapshot", snapshot, err, s.Story.Snapshot)
	same("snapshot kept", r.Snapshot(ctx), nil, s.Story.Snapshot)
	watch, err := r.Watch(ctx, id, 0)
	same("watch", watch, err, s.Watches[id.String()])
	if !reflect.DeepEqual(watch.Rollout, s.Watches[id.String()].Rollout) {
		t.Error("a rollout does not come through as it is")
	}
	comparison, err := r.Compare(ctx, id, view.Against{})
	same("compare", comparison, err, s.Comparisons[id.String()])
	bench, err := r.Bench(ctx, id, "slow share")
	kept := s.Benches[id.String()+" slow share"]
	same("bench", bench, err, kept)
	same("a bench tried", bench.Try(0.02), nil, kept.Try(0.02))
	lines, err := r.Log(ctx, id, "gate-1", s.Story.Snapshot.Now, 5)
	same("log", lines, err, []target.LogLine{{At: s.Story.Snapshot.Now, Text: "gate-1 5"}})
	facts, err := r.Facts(ctx, ledger.Query{After: 1})
	if err != nil || len(facts) != 2 || facts[1].Text != "fact 3" {
		t.Errorf("facts: %v %v", facts, err)
	}
	maren := policy.Actor{Name: "maren", From: "nowhere", Scopes: policy.Scopes} // whoever it claims to be
	p, err := r.OfferRevert(ctx, maren, id)
	same("revert", p.Branch, err, "revert-boarding")
	p, err = r.OfferLive(ctx, maren, id, []string{"/parts/gate/instances", "/parts/gate/user"})
	same("live", p.Branch, err, "live-2")
	strays, err := r.Strays(ctx, "north")
	same("strays", strays, err, []status.Stray{{ID: "Deployment/buoys", With: "buoys", Says: "healthy at north", Object: map[string]any{"kind": "Deployment"}}})
	p, err = r.TakeOver(ctx, maren, status.TakeOver{Site: "north", Workload: "buoys", Strays: []string{"Deployment/buoys"}})
	same("take over", p.Branch, err, "take-over-buoys")
	p, err = r.OfferLimit(ctx, maren, bench, 0.04)
	same("limit", p.Branch, err, "limit-0.04")
	text, err := r.Try(ctx, maren, "skerry-line")
	same("try", text, err, "skerry-line answers")
	for what, err := range map[string]error{
		"order":  r.Do(ctx, maren, berth.Order{Verb: berth.Sync, Berth: id, By: "maren", From: "nowhere", Parts: []string{"gate"}}),
		"accept": r.Accept(ctx, maren, "skerry-line"),
		"every":  r.SetEvery(ctx, maren, "skerry-line", 30*time.Second),
	} {
		if err != nil {
			t.Errorf("%s: %v", what, err)
		}
	}
	if err := r.LookNow(ctx, maren, "skerry-line"); err != nil {
		t.Errorf("look: %v", err)
	}
	if err := r.Do(ctx, maren, berth.Order{Verb: berth.Hold, Berth: id}); err == nil || err.Error() != errRefused.Error() {
		t.Errorf("a refusal: %v", err)
	}
	for _, against := range []view.Against{{From: "8.1.4", To: "8.2.0"}, {Site: "north"}} {
		if two, err := r.Compare(ctx, id, against); err != nil || !two.Two {
			t.Errorf("%+v: %+v %v", against, two, err)
		}
	}
	here, _ := s.Declared(ctx, id)
	if there, err := r.Declared(ctx, id); err != nil || there.Fingerprint() != here.Fingerprint() {
		t.Errorf("%s is declared, not %s: %v", there.Canonical(), here.Canonical(), err)
	}
	if _, err := r.Compare(ctx, id, view.Against{Ref: "nowhere"}); err == nil || !strings.Contains(err.Error(), "no branch nowhere") {
		t.Errorf("a branch that is not there: %v", err)
	}
	heard := strings.Join(s.asked, "\n")
	account, err := user.Current()
	if err != nil {
		t.Fatal(err)
	}
	by := fmt.Sprintf("by %s from the socket, uid %s", account.Username, account.Uid)
	for _, want := range []string{
		"sync boarding/north " + by + " [gate]", "every skerry-line 30s " + by, "accept skerry-line " + by, "look [skerry-line]",
		"the revert of boarding/north " + by, "another limit of slow share of boarding/north " + by,
	} {
		if !strings.Contains(heard, want) {
			t.Errorf("%q was not heard in\n%s", want, heard)
		}
	}
}

// TestLost takes the server away from a face and brings it back.
// TestEvents sees that a reader is sent one snapshot for each change, though the clock runs, hears now and then that the
// server is there, and is let go when the server stops.
func TestEvents(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s, _, tokens := tell(t)
		s.runs = true
		token, err := tokens.Add("reader", []policy.Scope{policy.Look}, time.Time{})
		if err != nil {
			t.Fatal(err)
		}
		ctx, stop := context.WithCancel(t.Context())
		server := api.New(ctx, s, tokens, slog.New(slog.DiscardHandler))
		request := httptest.NewRequest(http.MethodGet, "/v1/events", nil)
		request.Header.Set("Authorization", "Bearer "+token)
		out := httptest.NewRecorder()
		ended := make(chan struct{})
		go func() { server.ServeHTTP(out, request); close(ended) }()
		heard := func(what string, snapshots, beats int) {
			t.Helper()
			synctest.Wait()
			text := out.Body.String()
			if s, b := strings.Count(text, "event: snapshot"), strings.Count(text, ": still here"); s != snapshots || b != beats {
				t.Errorf("%s: %d snapshots and %d heartbeats, want %d and %d", what, s, b, snapshots, beats)
			}
		}
		time.Sleep(25 * time.Second)
		heard("calm", 1, 2)
		for range 3 {
			s.mu.Lock()
			s.Story.Snapshot.Seq++
			s.mu.Unlock()
			s.changed <- struct{}{}
			time.Sleep(time.Second)
		}
		heard("three changes", 4, 2)
		stop()
		synctest.Wait()
		select {
		case <-ended:
		default:
			t.Error("the stream goes on though the server stopped")
		}
	})
}

// TestFaults sees that an error keeps its sentence and its kind over HTTP, with the status that stands for it.
func TestFaults(t *testing.T) {
	s, server, _ := tell(t)
	r := onSocket(t, server)
	for _, test := range []struct {
		err    error
		status int
		kinds  []error
	}{
		{fault.New(fault.ErrNotFound, "there is no berth quay/west"), http.StatusNotFound, []error{fault.ErrNotFound}},
		{fmt.Errorf("record it: %w", ledger.ErrFull), http.StatusServiceUnavailable, []error{fault.ErrUnavailable}},
		{fmt.Errorf("dock: %w", target.ErrUnreachable), http.StatusBadGateway, []error{fault.ErrUnreachable}},
		{errors.New("sync is not possible: locked"), http.StatusConflict, nil},
	} {
		s.fails = test.err
		err := r.Do(t.Context(), policy.Actor{}, berth.Order{Verb: berth.Hold, Berth: berth.ID{Workload: "boarding", Site: "north"}})
		var p *api.Problem
		if !errors.As(err, &p) || p.Status != test.status || err.Error() != test.err.Error() {
			t.Errorf("%v came as %v", test.err, err)
		}
		for _, kind := range []error{fault.ErrNotFound, fault.ErrUnavailable, fault.ErrUnreachable} {
			if errors.Is(err, kind) != slices.Contains(test.kinds, kind) {
				t.Errorf("%v: whether it is of the kind %q is lost", test.err, kind)
			}
		}
	}
}

// TestPages sees that a client gets all facts, though an answer holds a page of them.
func TestPages(t *testing.T) {
	s, server, _ := tell(t)
	s.facts = 2500
	facts, err := onSocket(t, server).Facts(t.Context(), ledger.Query{After: 7})
	if err != nil || len(facts) != 2493 || facts[2492].Seq != 2500 {
		t.Errorf("%d facts: %v", len(facts), err)
	}
}

func TestLost(t *testing.T) {
	s, server, _ := tell(t)
	r := onSocket(t, server)
	var handler http.Handler = server
	var mu sync.Mutex
	front := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		mu.Lock()
		h := handler
		mu.Unlock()
		h.ServeHTTP(w, q)
	}))
	front.Start()
	defer front.Close()
	if _, err := r.Renew(t.Context()); err != nil {
		t.Fatal(err)
	}
	tokens := api.OpenTokens(t.TempDir())
	token, err := tokens.Add("wall", []policy.Scope{policy.Look}, time.Time{})
	if err != nil {
		t.Fatal(err)
	}
	handler = api.New(t.Context(), s, tokens, slog.New(slog.DiscardHandler))
	far, err := api.DialURL(front.URL, token, "")
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	go far.Follow(ctx)
	await := func(what string, is func() bool) {
		t.Helper()
		for end := time.After(20 * time.Second); !is(); {
			select {
			case <-far.Changed(ctx):
			case <-time.After(20 * time.Millisecond):
			case <-end:
				t.Fatal(what)
			}
		}
	}
	await("it never hears anything", func() bool { return far.Snapshot(ctx).Line != "" })
	mu.Lock()
	good := handler
	handler = http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { panic(http.ErrAbortHandler) })
	mu.Unlock()
	front.CloseClientConnections()
	await("it does not notice", func() bool { s := far.Snapshot(ctx); return s.Lost != nil && s.Lost.Why != "" })
	if far.Snapshot(ctx).Line == "" {
		t.Error("the last picture is gone")
	}
	s.mu.Lock()
	s.Story.Snapshot.Line = "Another line"
	s.mu.Unlock()
	mu.Lock()
	handler = good
	mu.Unlock()
	await("it does not come back", func() bool {
		s := far.Snapshot(ctx)
		return s.Lost == nil && s.Line == "Another line"
	})
	request, _ := http.NewRequestWithContext(ctx, http.MethodGet, front.URL+"/v1/events?changes=true", nil)
	request.Header.Set("Authorization", "Bearer "+token)
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	lines := bufio.NewScanner(response.Body)
	lines.Buffer(nil, 1<<24)
	for lines.Scan() && !strings.HasPrefix(lines.Text(), "data: ") {
	}
	s.mu.Lock()
	s.Story.Snapshot.Seq++
	s.Story.Snapshot.Berths = slices.Clone(s.Story.Snapshot.Berths)
	s.Story.Snapshot.Berths[3].Waits = "waits for the tide"
	s.mu.Unlock()
	close(s.changed)
	await("it never hears of a change", func() bool { return far.Snapshot(ctx).Berths[3].Waits == "waits for the tide" })
	var sent string
	for lines.Scan() && !strings.HasPrefix(sent, "data: ") {
		if sent = lines.Text(); strings.HasPrefix(sent, "event: ") && sent != "event: change" {
			t.Errorf("instead of the change came %q", sent)
		}
	}
	if len(sent) > 500 || !strings.Contains(sent, "the tide") {
		t.Errorf("for one change came %.600q", sent)
	}
}

// TestFollow reads facts as they come.
func TestFollow(t *testing.T) {
	_, server, _ := tell(t)
	r := onSocket(t, server)
	var got []int64
	enough := errors.New("enough")
	err := r.FollowFacts(t.Context(), ledger.Query{After: 1}, func(f ledger.Fact) error {
		if got = append(got, f.Seq); len(got) == 2 {
			return enough
		}
		return nil
	})
	if !errors.Is(err, enough) || fmt.Sprint(got) != "[2 3]" {
		t.Errorf("%v %v", got, err)
	}
}

// TestDocument holds the OpenAPI document against the handlers: every operation is called, and what it answers is as the
// document says.
func TestDocument(t *testing.T) {
	_, server, tokens := tell(t)
	token, err := tokens.Add("all", policy.Scopes, time.Time{})
	if err != nil {
		t.Fatal(err)
	}
	var document struct {
		OpenAPI string
		Paths   map[string]map[string]json.RawMessage
	}
	if err := json.Unmarshal(api.Document(), &document); err != nil || document.OpenAPI != "3.1.0" {
		t.Fatal(err, document.OpenAPI)
	}
	compiler := jsonschema.NewCompiler()
	whole, err := jsonschema.UnmarshalJSON(bytes.NewReader(api.Document()))
	if err != nil {
		t.Fatal(err)
	}
	if err := compiler.AddResource("mem:openapi", whole); err != nil {
		t.Fatal(err)
	}
	fits := func(at string, body []byte) {
		t.Helper()
		schema, err := compiler.Compile("mem:openapi#" + at)
		if err != nil {
			t.Fatalf("%s: %v", at, err)
		}
		value, err := jsonschema.UnmarshalJSON(bytes.NewReader(body))
		if err == nil {
			err = schema.Validate(value)
		}
		if err != nil {
			t.Errorf("%s: %v\n%.400s", at, err, body)
		}
	}
	ask := func(method, at, body string) *httptest.ResponseRecorder {
		ctx, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond) // streams have no end of their own
		defer cancel()
		request := httptest.NewRequestWithContext(ctx, method, at, strings.NewReader(body))
		request.Header.Set("Authorization", "Bearer "+token)
		w := httptest.NewRecorder()
		server.ServeHTTP(w, request)
		return w
	}
	bodies := map[string]string{
		"order": `{"verb":"sync","berth":{"workload":"boarding","site":"north"}}`, "every": `{"every":"30s"}`, "limit": `{"guard":"slow share","limit":0.04}`, "revert": "{}", "takeOver": `{"workload":"buoys","strays":["Deployment/buoys"]}`, "live": `{"fields":["/parts/gate/instances"]}`, "look": `{"links":["a"]}`, "keepReview": `{"with":"new-tariff"}`, "explore": `{"repository":"https://git.skerry.example/x"}`,
		"putSetting": `{"repository":"https://git.skerry.example/x"}`, "putSettings": `{"links":{"x":{"branch":"main"}},"credentials":{"x":{"password":"y"}}}`, "putCredential": `{"user":"x","password":"y"}`, "makeToken": `{"name":"new","scopes":["look"]}`,
	}
	if _, err := tokens.Add("spare", policy.Scopes, time.Time{}); err != nil {
		t.Fatal(err)
	}
	queries := map[string]string{"review": "?with=new-tariff"}
	called := 0
	for at, methods := range document.Paths {
		for method, raw := range methods {
			if method == "parameters" {
				continue
			}
			var operation struct {
				OperationID string
				RequestBody *struct{}
				Responses   map[string]struct{ Content map[string]json.RawMessage }
			}
			if err := json.Unmarshal(raw, &operation); err != nil {
				t.Fatal(err)
			}
			body, has := bodies[operation.OperationID]
			if has != (operation.RequestBody != nil) {
				t.Errorf("%s: the test has a body: %v, the document: %v", operation.OperationID, has, operation.RequestBody != nil)
			}
			path := strings.NewReplacer("{workload}", "boarding", "{site}", "north", "{link}", "skerry-line", "{section}", "links", "{name}", "spare", "{sink}", "pager").Replace(at)
			w := ask(strings.ToUpper(method), path+queries[operation.OperationID], body)
			called++
			kind, _, _ := strings.Cut(w.Header().Get("Content-Type"), ";")
			if _, told := operation.Responses["200"].Content[kind]; w.Code != 200 || !told {
				t.Errorf("%s %s: status %d, %s, which the document does not know\n%.300s", method, at, w.Code, kind, w.Body)
				continue
			}
			if kind == "application/json" {
				pointer := strings.NewReplacer("~", "~0", "/", "~1").Replace(at)
				fits("/paths/"+pointer+"/"+method+"/responses/200/content/application~1json/schema", w.Body.Bytes())
			}
		}
	}
	if called < 18 {
		t.Errorf("only %d operations were called", called)
	}
	for _, test := range []struct {
		method, at, body string
		status           int
	}{
		{"GET", "/v1/nothing", "", 404},
		{"DELETE", "/v1/snapshot", "", 405},
		{"GET", "/v1/berths/boarding/nowhere/watch", "", 404},
		{"GET", "/v1/berths/boarding/nowhere", "", 404},
		{"GET", "/v1/berths/boarding/north/watch?rollout=x", "", 400},
		{"GET", "/v1/berths/boarding/north/watch?rolout=1", "", 400},
		{"GET", "/v1/berths/boarding/north/log?instance=nobody", "", 404},
		{"GET", "/v1/ledger?site=north", "", 400},
		{"POST", "/v1/orders", `{"verb":`, 400},
		{"POST", "/v1/orders", `{"word":"sync"}`, 400},
		{"POST", "/v1/orders", `{"verb":"hold","berth":{"workload":"boarding","site":"north"}}`, 409},
		{"POST", "/v1/orders", `"` + strings.Repeat("x", 2<<20) + `"`, 413},
	} {
		w := ask(test.method, test.at, test.body)
		if w.Code != test.status || w.Header().Get("Content-Type") != "application/problem+json" {
			t.Errorf("%s %s: status %d, %s, want %d: %.200s", test.method, test.at, w.Code, w.Header().Get("Content-Type"), test.status, w.Body)
			continue
		}
		fits("/components/schemas/api.Problem", w.Body.Bytes())
	}
}

// TestTokens holds the scopes, and what a wrong token gets.
func TestTokens(t *testing.T) {
	s, server, tokens := tell(t)
	ask := func(token, method, at, body string) int {
		request := httptest.NewRequestWithContext(t.Context(), method, at, strings.NewReader(body))
		request.RemoteAddr = "192.0.2.7:1234"
		if token != "" {
			request.Header.Set("Authorization", "Bearer "+token)
		}
		w := httptest.NewRecorder()
		server.ServeHTTP(w, request)
		return w.Code
	}
	order := func(verb berth.Verb) string {
		return fmt.Sprintf(`{"verb":%q,"by":"somebody else","berth":{"workload":"boarding","site":"north"}}`, verb)
	}
	for _, scope := range policy.Scopes {
		token, err := tokens.Add("only "+string(scope), []policy.Scope{scope}, time.Time{})
		if err != nil {
			t.Fatal(err)
		}
		for needs, verbs := range map[policy.Scope][]berth.Verb{
			policy.Sync: {berth.Advance, berth.RollBack}, policy.SignOff: {berth.SignOff}, policy.Lock: {berth.LockIt}, policy.Change: {berth.LiftBar, "anything"},
		} {
			want := http.StatusForbidden
			if needs == scope || needs == policy.Lock && scope == policy.Change {
				want = http.StatusOK
			}
			for _, verb := range verbs {
				if got := ask(token, "POST", "/v1/orders", order(verb)); got != want {
					t.Errorf("%s with a token for %s: status %d, want %d", verb, scope, got, want)
				}
			}
		}
		if got := ask(token, "GET", "/v1/snapshot", ""); got != 200 {
			t.Errorf("looking with a token for %s: status %d", scope, got)
		}
	}
	if len(s.asked) == 0 || !strings.Contains(s.asked[0], "by only sync from 192.0.2.7 with the token only sync") {
		t.Errorf("an order is not in its token's name: %v", s.asked)
	}
	old, _ := tokens.Add("old", []policy.Scope{policy.Look}, time.Now().Add(-time.Second))
	gone, _ := tokens.Add("gone", []policy.Scope{policy.Look}, time.Time{})
	if err := tokens.Remove("gone"); err != nil {
		t.Fatal(err)
	}
	for what, token := range map[string]string{"none": "", "an expired one": old, "a removed one": gone, "a made-up one": "aditus_x"} {
		if got := ask(token, "GET", "/v1/snapshot", ""); got != http.StatusUnauthorized {
			t.Errorf("with %s: status %d", what, got)
		}
	}
	last := 0
	for range 20 {
		last = ask("aditus_guess", "GET", "/v1/snapshot", "")
	}
	if last != http.StatusTooManyRequests {
		t.Errorf("after twenty wrong tokens: status %d", last)
	}
	if told := strings.Join(s.refused, "\n"); !strings.Contains(told, "by only look from 192.0.2.7 with the token only look") || !strings.Contains(told, "a token that is not known, or has expired by nobody from 192.0.2.7") {
		t.Errorf("what was refused is not told: %s", told)
	}
	right, _ := tokens.Add("right", []policy.Scope{policy.Look}, time.Time{})
	if got := ask(right, "GET", "/v1/snapshot", ""); got != 200 {
		t.Errorf("a right token among wrong ones: status %d", got)
	}
	if err := tokens.Remove("right"); err != nil {
		t.Fatal(err)
	}
	if got := ask("", "GET", "/healthz", ""); got != 200 {
		t.Errorf("/healthz needs no token: status %d", got)
	}
	list, _ := tokens.List()
	text, _ := json.Marshal(list)
	if strings.Contains(string(text), old) || len(list) != 8 {
		t.Errorf("a token is kept as it is, or lost: %s", text)
	}
	for _, scopes := range [][]policy.Scope{nil, {"everything"}} {
		if _, err := tokens.Add("new", scopes, time.Time{}); err == nil {
			t.Errorf("a token with the scopes %v was made", scopes)
		}
	}
}

func TestPlainText(t *testing.T) {
	for address, fine := range map[string]bool{"127.0.0.1:0": true, "[::1]:0": true, "localhost:1": true, "0.0.0.0:1": false, ":8791": false, "192.0.2.1:1": false, "nonsense": false} {
		if err := (api.TCP{Address: address}).Check(); (err == nil) != fine {
			t.Errorf("listening on %s without TLS: %v", address, err)
		}
	}
	for address, fine := range map[string]bool{"http://127.0.0.1:1": true, "http://aditus.example": false, "https://aditus.example": true, "aditus.example": false} {
		if _, err := api.DialURL(address, "t", ""); (err == nil) != fine {
			t.Errorf("dialling %s: %v", address, err)
		}
	}
}

// TestMetrics holds /metrics against a parser that is not ours.
func TestMetrics(t *testing.T) {
	_, server, tokens := tell(t)
	token, _ := tokens.Add("scraper", []policy.Scope{policy.Look}, time.Time{})
	request := httptest.NewRequestWithContext(t.Context(), "GET", "/metrics", nil)
	request.Header.Set("Authorization", "Bearer "+token)
	w := httptest.NewRecorder()
	server.ServeHTTP(w, request)
	text, _ := io.ReadAll(w.Body)
	parser := expfmt.NewTextParser(model.UTF8Validation)
	found, err := parser.TextToMetricFamilies(bytes.NewReader(text))
	if err != nil || !strings.HasSuffix(string(text), "# EOF\n") {
		t.Fatalf("%v\n%s", err, text)
	}
	took := found["route_request_duration_seconds"].GetMetric()
	if len(took) != 1 || took[0].GetHistogram().GetSampleCount() != 100 || len(took[0].GetHistogram().GetBucket()) != 3 || found["aditus_berths"] == nil {
		t.Errorf("%v\n%s", took, text)
	}
}

// TestStandby has a server lose the lead and take it again: whoever follows it is told, and orders are refused meanwhile.
func TestStandby(t *testing.T) {
	s, server, _ := tell(t)
	far := onSocket(t, server)
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	go far.Follow(ctx)
	await := func(what string, is func(status.Snapshot) bool) {
		t.Helper()
		for end := time.After(20 * time.Second); !is(far.Snapshot(ctx)); {
			select {
			case <-far.Changed(ctx):
			case <-time.After(20 * time.Millisecond):
			case <-end:
				t.Fatal(what)
			}
		}
	}
	get := func(path string) (int, string) {
		out := httptest.NewRecorder()
		server.ServeHTTP(out, httptest.NewRequest(http.MethodGet, path, nil))
		return out.Code, out.Body.String()
	}
	await("it never hears anything", func(s status.Snapshot) bool { return len(s.Berths) > 0 })
	if code, _ := get("/leads"); code != http.StatusOK {
		t.Errorf("one that shares its ledger with nobody leads, and says %d", code)
	}
	book, err := ledger.Connect("postgres://aditus@127.0.0.1:1/x", "", nil) // which does not answer
	if err != nil {
		t.Fatal(err)
	}
	defer book.Close()
	standby := control.NewStandby(book, s.Story.Snapshot)
	standby.Saw(ledger.Lead{Server: ledger.Server{Name: "harbor-1", Address: "https://harbor-1.example"}, Turn: 3})
	server.Serve(standby)
	await("it is not told that another one leads", func(s status.Snapshot) bool {
		return s.Leader != nil && s.Leader.Name == "harbor-1" && !s.Leader.Here && len(s.Berths) > 0
	})
	err = far.Do(ctx, policy.Actor{}, berth.Order{Verb: berth.Sync, Berth: s.Story.Snapshot.Berths[0].ID})
	if !errors.Is(err, fault.ErrUnavailable) || !strings.Contains(err.Error(), "harbor-1 leads: ask there, with --server https://harbor-1.example") {
		t.Errorf("an order: %v", err)
	}
	if code, text := get("/leads"); code != http.StatusServiceUnavailable || !strings.Contains(text, "harbor-1 leads") {
		t.Errorf("/leads: %d %s", code, text)
	}
	if code, _ := get("/healthz"); code != http.StatusOK {
		t.Errorf("/healthz of one that stands by: %d", code)
	}
	standby.Saw(ledger.Lead{Trouble: errors.New("the database does not answer")})
	await("trouble is not told", func(s status.Snapshot) bool {
		return len(s.Problems) > 0 && strings.Contains(s.Problems[0].Text, "the database does not answer; this server stands by")
	})
	if code, _ := get("/healthz"); code != http.StatusServiceUnavailable {
		t.Errorf("/healthz without a database: %d", code)
	}
	server.Serve(s)
	await("it is not told that it leads again", func(s status.Snapshot) bool { return s.Leader == nil })
}

// TestNarrowed asks for everything with a token for one workload, and in a line with teams: what is not theirs is told nowhere, and each
// berth says what may not be done there, and who may.
func TestNarrowed(t *testing.T) {
	s, server, tokens := tell(t)
	s.Story.Snapshot.Policy.Teams = policy.Teams{
		"gates": {People: []string{"Maren Oake"}, May: []policy.Right{{Do: []policy.Scope{policy.Sync}, Narrow: policy.Narrow{Workloads: []string{"boarding"}}}}},
		"watch": {People: []string{"wall"}, May: []policy.Right{{Do: []policy.Scope{policy.Look}}}},
	}
	narrow, err1 := tokens.Make(api.Token{Name: "gates-build", Owner: "Maren Oake", Scopes: policy.Scopes, Narrow: policy.Narrow{Sites: []string{"north"}}})
	gates, err2 := tokens.Make(api.Token{Name: "phone", Owner: "Maren Oake", Scopes: policy.Scopes})
	wall, err3 := tokens.Make(api.Token{Name: "wall", Scopes: policy.Scopes})
	stranger, err4 := tokens.Make(api.Token{Name: "stranger", Scopes: policy.Scopes})
	if err := errors.Join(err1, err2, err3, err4); err != nil {
		t.Fatal(err)
	}
	ask := func(token, method, at, body string) (int, string) {
		request := httptest.NewRequestWithContext(t.Context(), method, at, strings.NewReader(body))
		request.Header.Set("Authorization", "Bearer "+token)
		w := httptest.NewRecorder()
		server.ServeHTTP(w, request)
		return w.Code, w.Body.String()
	}
	other := s.Story.Snapshot.Berths[slices.IndexFunc(s.Story.Snapshot.Berths, func(b status.Berth) bool { return b.Workload != "boarding" })]
	for _, test := range []struct {
		who, token string
		berths     int // that are seen, of all; -1 for all
		of         string
		status     int // of what is asked about another workload
	}{
		{"one berth", narrow, 1, "north", 403}, {"one workload", gates, -2, "boarding", 403}, {"the wall", wall, -1, "", 200}, {"a stranger", stranger, 0, "", 403},
	} {
		code, text := ask(test.token, "GET", "/v1/snapshot", "")
		var seen status.Snapshot
		if test.berths == 0 {
			if code != 403 || !strings.Contains(text, "that is for watch (wall)") {
				t.Errorf("%s looks: %d %s", test.who, code, text)
			}
		} else if err := json.Unmarshal([]byte(text), &seen); err != nil || test.berths >= 0 && len(seen.Berths) != test.berths || test.berths == -1 && len(seen.Berths) != len(s.Story.Snapshot.Berths) {
			t.Errorf("%s sees %d berths (%v)", test.who, len(seen.Berths), err)
		}
		for _, b := range seen.Berths {
			if test.berths != -1 && (b.Workload != "boarding" || test.berths == 1 && b.Site != "north") {
				t.Errorf("%s sees %s", test.who, b.ID)
			}
			if not := b.MayNot[policy.Lock]; !strings.Contains(not, "nobody") {
				t.Errorf("%s may lock %s: %q", test.who, b.ID, not)
			}
		}
		for _, at := range []string{"", "/watch", "/bench", "/compare", "/declared", "/tree"} {
			if code, text := ask(test.token, "GET", "/v1/berths/"+other.Workload+"/"+other.Site+at, ""); code != test.status && (test.status == 403 || code == 403) {
				t.Errorf("%s asks for %s of %s: %d %.200s", test.who, at, other.ID, code, text)
			}
		}
		if code, _ := ask(test.token, "POST", "/v1/orders", fmt.Sprintf(`{"verb":"sync","berth":{"workload":%q,"site":%q}}`, other.Workload, other.Site)); code != 403 {
			t.Errorf("%s syncs %s: %d", test.who, other.ID, code)
		}
		code, text = ask(test.token, "GET", "/v1/ledger", "")
		if told := strings.Count(text, `"workload":"boarding"`); code == 200 && (told != 1 || strings.Count(text, `"workload":"fares"`) != map[int]int{-1: 2}[test.berths]) {
			t.Errorf("%s reads %s", test.who, text)
		}
		code, text = ask(test.token, "GET", "/v1/sites", "")
		all := strings.Contains(text, "what is the line's") && strings.Contains(text, `"memory"`) && strings.Contains(text, `"berths":99`) && strings.Contains(text, "fares")
		some := strings.Contains(text, `"berths":1`) && strings.Contains(text, "it does not answer") && !strings.Contains(text, "the line's") && !strings.Contains(text, `"memory"`) && !strings.Contains(text, "fares")
		if sites := strings.Contains(text, `"site":"north"`); test.berths == 0 && code != 403 || test.berths != 0 && !sites || all != (test.berths == -1) || some != (test.of != "") {
			t.Errorf("%s asks for the sites: %d %s", test.who, code, text)
		}
		for _, at := range []string{"/v1/calendar", "/v1/review?with=x"} {
			if code, _ := ask(test.token, "GET", at, ""); (code == 403) != (test.berths != -1) {
				t.Errorf("%s asks for %s: %d", test.who, at, code)
			}
		}
		if code, text := ask(test.token, "GET", "/metrics", ""); test.berths == 1 && (code != 200 || strings.Contains(text, other.Workload)) {
			t.Errorf("%s measures: %d", test.who, code)
		}
	}
	elsewhere, err := tokens.Make(api.Token{Name: "elsewhere", Owner: "Maren Oake", Scopes: policy.Scopes, Narrow: policy.Narrow{Sites: []string{"n*"}}})
	if err != nil {
		t.Fatal(err)
	}
	for of, want := range map[string]int{"tides": 0, "fares": 2} { // what was passed over is read once the teams say otherwise
		s.Story.Snapshot.Policy.Teams = policy.Teams{"gates": {People: []string{"Maren Oake"}, May: []policy.Right{{Do: []policy.Scope{policy.Sync}, Narrow: policy.Narrow{Workloads: []string{of}}}}}}
		for range 2 {
			if code, text := ask(elsewhere, "GET", "/v1/ledger?after=0", ""); code != 200 || strings.Count(text, `"workload":"fares"`) != want {
				t.Errorf("who may look at %s reads %d %s", of, code, text)
			}
		}
	}
	s.Story.Snapshot.Policy.Teams = policy.Teams{"gates": {People: []string{"Maren Oake"}, May: []policy.Right{{Do: []policy.Scope{policy.Sync}}}}}
	if code, text := ask(gates, "POST", "/v1/orders", `{"verb":"sync","berth":{"workload":"boarding","site":"north"}}`); code != 200 || !strings.Contains(strings.Join(s.asked, "\n"), "by Maren Oake from") {
		t.Errorf("an order of its own: %d %s: %v", code, text, s.asked)
	}
	if used := api.OpenTokens(t.TempDir()).Used(); len(used) != 0 {
		t.Errorf("used in another folder: %v", used)
	}
	if used := tokens.Used(); used["phone"].IsZero() || len(used) != 5 {
		t.Errorf("used are %v", used)
	}
}

// TestSettled makes a link with its credential and its site in one call, and tokens; nobody gives away what they may not, or counts as another.
func TestSettled(t *testing.T) {
	s, server, tokens := tell(t)
	s.Story.Snapshot.Policy.Teams = policy.Teams{"shore": {People: []string{"Maren Oake", "fares-build"}, May: []policy.Right{{Do: []policy.Scope{policy.Change, policy.Sync}}}}}
	front := httptest.NewServer(server)
	defer front.Close()
	as := func(like api.Token) *api.Remote {
		t.Helper()
		token, err := tokens.Make(like)
		if err != nil {
			t.Fatal(err)
		}
		r, err := api.DialURL(front.URL, token, "")
		if err != nil {
			t.Fatal(err)
		}
		return r
	}
	maren := as(api.Token{Name: "phone", Owner: "Maren Oake", Scopes: policy.Scopes})
	narrow := as(api.Token{Name: "narrow", Owner: "Maren Oake", Scopes: policy.Scopes, Narrow: policy.Narrow{Sites: []string{"*"}}})
	lesser := as(api.Token{Name: "lesser", Owner: "Maren Oake", Scopes: []policy.Scope{policy.Change}})
	whole := api.Settings{
		Links: map[string]map[string]any{"tides": {"repository": "https://git.skerry.example/tides", "branch": "main"}}, Sites: map[string]map[string]any{"isle": {"target": map[string]any{"kind": "stand-in"}}},
		Credentials: map[string]source.Credential{"tides": {User: "x", Password: "y"}},
	}
	if err := maren.PutSettings(t.Context(), policy.Actor{}, whole.Credentials, whole.Entries()...); err != nil {
		t.Fatal(err)
	}
	if told := strings.Join(s.asked, "\n"); !strings.Contains(told, "credential of tides, true, by phone\nput [{links tides map[branch:main repository:https://git.skerry.example/tides]} {sites isle") {
		t.Errorf("asked for is %s", told)
	}
	for name, test := range map[string]struct {
		by   *api.Remote
		make control.NewToken
		want string
	}{
		"a program's":                   {maren, control.NewToken{Name: "wall", Scopes: []policy.Scope{policy.Look}}, ""},
		"one's own":                     {maren, control.NewToken{Name: "tablet", Owner: "Maren Oake", Scopes: []policy.Scope{policy.Sync}}, ""},
		"somebody else's":               {maren, control.NewToken{Name: "x", Owner: "Edda Marsh", Scopes: []policy.Scope{policy.Sync}}, "is made by Edda Marsh"},
		"one that counts as another":    {maren, control.NewToken{Name: "fares-build", Scopes: []policy.Scope{policy.Sync}}, "is of the team shore"},
		"more than the team may":        {maren, control.NewToken{Name: "y", Scopes: []policy.Scope{policy.SignOff}}, "may not sign off"},
		"more than the token may":       {lesser, control.NewToken{Name: "z", Scopes: []policy.Scope{policy.Sync}}, "may not sync"},
		"by one that is not for all":    {narrow, control.NewToken{Name: "w", Scopes: []policy.Scope{policy.Look}}, "is not for the line"},
		"with a scope that there isn't": {maren, control.NewToken{Name: "v", Scopes: []policy.Scope{"rule"}}, "rule"},
	} {
		token, err := test.by.MakeToken(t.Context(), policy.Actor{}, test.make)
		if test.want == "" && (err != nil || token == "") || test.want != "" && (err == nil || !strings.Contains(err.Error(), test.want)) {
			t.Errorf("%s: %v, want %q", name, err, test.want)
		}
	}
	list, err := maren.Tokens(t.Context(), policy.Actor{})
	if err != nil || len(list) != 5 || list[0].Used.IsZero() {
		t.Errorf("the tokens are %+v (%v)", list, err)
	}
	if err := errors.Join(maren.RemoveToken(t.Context(), policy.Actor{}, "wall"), maren.DropSetting(t.Context(), policy.Actor{}, "links", "tides")); err != nil {
		t.Error(err)
	}
	if err := maren.RemoveToken(t.Context(), policy.Actor{}, "wall"); err == nil || !strings.Contains(err.Error(), "there is no token") {
		t.Errorf("removed twice: %v", err)
	}
}
