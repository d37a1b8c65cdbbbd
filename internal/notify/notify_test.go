package notify

import (
	"context"
	"errors"
	"fmt"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"aditus/internal/config"
	"aditus/internal/core/berth"
	"aditus/internal/core/declare"
	"aditus/internal/core/fault"
	"aditus/internal/core/notice"
	"aditus/internal/ledger"
	"aditus/internal/status"
)

// line is a ledger and what works on it, in memory: what the notices are told of.
type line struct {
	mu       sync.Mutex
	facts    []ledger.Fact
	grown    chan struct{}
	cursors  map[string]int64
	pictures map[string]any
	snapshot status.Snapshot
	problems map[string]string
	told     []string // problems that came
	sinks    []config.Sink
	rules    *declare.Line
	large    string // data of each fact
}

func newLine() *line {
	return &line{grown: make(chan struct{}), cursors: map[string]int64{}, pictures: map[string]any{}, problems: map[string]string{}}
}

func (l *line) put(facts ...ledger.Fact) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, f := range facts {
		if f.Seq = int64(len(l.facts) + 1); f.At.IsZero() {
			f.At = time.Now()
		}
		l.facts = append(l.facts, f)
	}
	close(l.grown)
	l.grown = make(chan struct{})
}

func (l *line) Facts(q ledger.Query) (page []ledger.Fact, err error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if q.Newest > 0 {
		return slices.Clone(l.facts[max(0, len(l.facts)-q.Newest):]), nil
	}
	for _, f := range l.facts[min(int(q.After), len(l.facts)):] {
		if len(page) < q.Most {
			if l.large != "" {
				f.Data = []byte(l.large + " ")
			}
			page = append(page, f)
		}
	}
	return page, nil
}

func (l *line) Where(_ context.Context, c ledger.Cursor) (int64, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if _, known := l.cursors[c.Name]; !known {
		l.cursors[c.Name] = c.After
	}
	return l.cursors[c.Name], nil
}

func (l *line) Keep(_ context.Context, c ledger.Cursor) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.cursors[c.Name] = c.After
	return nil
}

func (l *line) Grown() <-chan struct{} {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.grown
}

func (l *line) Last() (int64, error) { return int64(len(l.facts)), nil }

func (l *line) Picture(name string, into any) (time.Time, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if kept, ok := l.pictures[name]; ok {
		*into.(*notice.Tracker) = kept.(notice.Tracker)
		return time.Time{}, nil
	}
	return time.Time{}, fault.New(fault.ErrNotFound, "none")
}

func (l *line) KeepPicture(_ context.Context, name string, _ time.Time, value any) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.pictures[name] = value
	return nil
}

func (l *line) Snapshot(context.Context) status.Snapshot {
	l.mu.Lock()
	defer l.mu.Unlock()
	s := l.snapshot
	s.Now = time.Now()
	return s
}

func (l *line) Changed(context.Context) <-chan struct{} { return nil }

func (l *line) Rules() (config.Settings, *declare.Line) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return config.Settings{Line: "Skerry Line", Sinks: l.sinks}, l.rules
}

func (l *line) Note(_ context.Context, id berth.ID, kind berth.Kind, text string) error {
	l.put(ledger.Fact{Workload: id.Workload, Site: id.Site, Kind: kind, By: "aditus", Text: text})
	return nil
}

func (l *line) Report(about string, err error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if err == nil {
		delete(l.problems, about)
		return
	}
	if l.problems[about] != err.Error() {
		l.told = append(l.told, about+": "+err.Error())
	}
	l.problems[about] = err.Error()
}

// receiver takes messages, and fails as it is told.
type receiver struct {
	mu    sync.Mutex
	got   []string
	at    []time.Time
	fails func(m notice.Message, tries int) error
	tries int
	slow  time.Duration
}

func (r *receiver) send(ctx context.Context, m notice.Message, _ []ledger.Fact) error {
	if r.slow > 0 && !pause(ctx, r.slow) {
		return ctx.Err()
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.tries++
	if r.fails != nil {
		if err := r.fails(m, r.tries); err != nil {
			return err
		}
	}
	r.got, r.at, r.tries = append(r.got, m.ID), append(r.at, time.Now()), 0
	return nil
}

// tell runs a teller of a rule until stop is called.
func (l *line) tell(t *testing.T, r *receiver, n declare.Notice, each bool) (stop func()) {
	t.Helper()
	rule, err := notice.New(n, nil, time.Now())
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	one := &teller{Notifier: &Notifier{Host: l, Book: l}, rule: rule, to: r, each: each, name: "crew", cursor: "notice crew"}
	var ends sync.WaitGroup
	ends.Go(func() {
		if err := one.run(ctx); err != nil {
			t.Error(err)
		}
	})
	return func() { cancel(); ends.Wait() }
}

func back(n int) []ledger.Fact {
	var all []ledger.Fact
	for range n {
		all = append(all, ledger.Fact{Workload: "fares", Site: "north", Kind: "rolled back", Revision: "a", Text: "it breached"})
	}
	return all
}

// TestInOrder has a sink fail for hours and over restarts: all is told, at least once, in order, and the trouble is told meanwhile.
func TestInOrder(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l, r := newLine(), &receiver{}
		l.put(back(3)...) // from before there was a sink
		down := true
		r.fails = func(notice.Message, int) error {
			if down {
				return errors.New("it does not answer")
			}
			return nil
		}
		stop := l.tell(t, r, declare.Notice{Name: "crew", About: []string{"rolled back"}}, true)
		synctest.Wait()
		l.put(back(2)...)
		l.put(ledger.Fact{Kind: "asked"})
		time.Sleep(3 * time.Hour)
		if len(r.got) > 0 || !strings.Contains(l.problems["sink crew"], "no notice arrives: it does not answer") {
			t.Errorf("told %v, problems %v", r.got, l.problems)
		}
		stop()
		l.put(back(400)...)
		stop = l.tell(t, r, declare.Notice{Name: "crew", About: []string{"rolled back"}}, true)
		time.Sleep(5 * time.Hour)
		down = false
		time.Sleep(15 * time.Minute)
		stop()
		var want []string
		for seq := 4; seq <= 406; seq++ {
			if seq != 6 {
				want = append(want, fmt.Sprint(seq))
			}
		}
		if !slices.Equal(r.got, want) || len(l.problems) > 0 || l.cursors["notice crew"] != 406 {
			t.Errorf("told %d: %v…, problems %v, cursor %d", len(r.got), r.got[:min(9, len(r.got))], l.problems, l.cursors["notice crew"])
		}
	})
}

// TestGivenUp has one message that is refused for ever, and one that is never taken: each is given up in its time, told, and the rest goes on.
func TestGivenUp(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l, r := newLine(), &receiver{}
		r.fails = func(m notice.Message, _ int) error {
			switch m.ID {
			case "1":
				return refusal{errors.New("status 400")}
			case "2":
				return errors.New("status 500")
			case "3":
				if time.Now().Before(r.at[len(r.at)-1]) {
					return nil
				}
			}
			return nil
		}
		stop := l.tell(t, r, declare.Notice{Name: "crew", About: []string{"rolled back"}}, true)
		synctest.Wait()
		r.at = []time.Time{time.Now()}
		began := time.Now()
		l.put(back(3)...)
		time.Sleep(25 * time.Hour)
		stop()
		var given []string
		for _, f := range l.facts {
			if f.Kind == berth.Undelivered {
				given = append(given, fmt.Sprintf("%s after %s", f.Text, f.At.Sub(began).Round(time.Hour)))
			}
		}
		if !slices.Equal(r.got, []string{"3"}) || len(given) != 2 || !strings.Contains(given[0], "status 400 after 0s") || !strings.Contains(given[1], "status 500 after 24h") {
			t.Errorf("told %v, given up %q", r.got, given)
		}
	})
}

// TestAsked waits as long as whoever is told asks for.
func TestAsked(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l, r := newLine(), &receiver{}
		r.fails = func(_ notice.Message, tries int) error {
			if tries == 1 {
				return later{errors.New("status 429"), 17 * time.Minute}
			}
			return nil
		}
		stop := l.tell(t, r, declare.Notice{Name: "crew", About: []string{"*"}}, true)
		synctest.Wait()
		began := time.Now()
		l.put(back(1)...)
		time.Sleep(time.Hour)
		stop()
		if len(r.at) != 1 || r.at[0].Sub(began) != 17*time.Minute {
			t.Errorf("told at %v", r.at)
		}
	})
}

// TestTogether has what comes within seconds told together, by its cause; by night all at once in the morning; and with a digest at its time.
func TestTogether(t *testing.T) {
	synctest.Test(t, func(t *testing.T) { // which begins at midnight, UTC
		l, r := newLine(), &receiver{}
		night := declare.Notice{Name: "crew", About: []string{"*"}, Digest: "", Zone: "UTC"}
		stop := l.tell(t, r, night, false)
		synctest.Wait()
		l.put(back(2)...)
		time.Sleep(time.Second)
		l.put(ledger.Fact{Workload: "fares", Site: "south", Kind: "barred", Revision: "a"}, ledger.Fact{Workload: "tides", Site: "south", Kind: "proven", Revision: "b"})
		time.Sleep(time.Minute)
		stop()
		if want := []string{"1-3", "4"}; !slices.Equal(r.got, want) {
			t.Errorf("told %v, want %v", r.got, want)
		}
		r.got, r.at = nil, nil
		night.Digest = "0 6 * * *"
		stop = l.tell(t, r, night, false)
		for range 700 {
			l.put(back(1)...)
			time.Sleep(10 * time.Second)
		}
		time.Sleep(10 * time.Hour)
		l.put(back(1)...)
		time.Sleep(24 * time.Hour)
		stop()
		if want := []string{"5-704", "705"}; !slices.Equal(r.got, want) || r.at[0].UTC().Hour() != 6 || r.at[1].Sub(r.at[0]) != 24*time.Hour {
			t.Errorf("digests are %v at %v", r.got, r.at)
		}
	})
}

// TestNeeds has a berth need a person, and not any more, while rules change: it is on record once each, over a restart too.
func TestNeeds(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := newLine()
		l.sinks = []config.Sink{{Name: "siren", Program: []string{"/bin/true"}}}
		run := func() (stop func()) {
			ctx, cancel := context.WithCancel(t.Context())
			var ends sync.WaitGroup
			ends.Go(func() { (&Notifier{Host: l, Book: l}).Run(ctx) })
			return func() { cancel(); ends.Wait() }
		}
		l.rules = &declare.Line{Notices: []declare.Notice{{Name: "lost", To: "nowhere"}}} // which tells nobody, so that nothing is run here
		count := func(kind berth.Kind) (n int) {
			l.mu.Lock()
			defer l.mu.Unlock()
			for _, f := range l.facts {
				if f.Kind == kind {
					n++
				}
			}
			return n
		}
		broken := status.Berth{ID: berth.ID{Workload: "fares", Site: "north"}, Problem: &status.Problem{About: "fares", Text: "it cannot be seen", Since: time.Now()}}
		l.rules.Notices = append(l.rules.Notices, declare.Notice{Name: "none", To: "siren", About: []string{"nothing"}})
		stop := run()
		time.Sleep(time.Minute)
		if !strings.Contains(l.problems["notices in part"], `there is no sink "nowhere"`) {
			t.Errorf("problems are %v", l.problems)
		}
		l.snapshot.Berths = []status.Berth{broken}
		time.Sleep(time.Minute)
		stop()
		stop = run()
		time.Sleep(time.Minute)
		if n := count(berth.Needed); n != 1 || count(berth.SeenTo) != 0 {
			t.Errorf("needed %d times", n)
		}
		l.mu.Lock()
		l.snapshot.Berths, l.rules = nil, &declare.Line{Notices: l.rules.Notices[1:]}
		l.mu.Unlock()
		time.Sleep(2 * time.Minute)
		stop()
		if count(berth.Needed) != 1 || count(berth.SeenTo) != 1 || len(l.problems) != 0 {
			t.Errorf("needed %d times, seen to %d times, problems %v", count(berth.Needed), count(berth.SeenTo), l.problems)
		}
	})
}

// TestSlow has ten thousand facts wait for a slow sink: they take no room.
func TestSlow(t *testing.T) {
	l, r := newLine(), &receiver{}
	begun := make(chan struct{})
	gate := make(chan struct{})
	r.fails = func(m notice.Message, _ int) error {
		if m.ID == "5000" {
			close(begun)
			<-gate
		}
		return nil
	}
	stop := l.tell(t, r, declare.Notice{Name: "crew", About: []string{"*"}}, true)
	for l.mu.Lock(); l.cursors["notice crew"] != 0 || len(l.cursors) == 0; l.mu.Lock() {
		l.mu.Unlock()
		runtime.Gosched()
	}
	l.mu.Unlock()
	l.large = `"` + strings.Repeat("evidence ", 200) + `"`
	l.put(back(10_000)...)
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	<-begun
	runtime.GC()
	runtime.ReadMemStats(&after)
	if grown := int64(after.HeapAlloc) - int64(before.HeapAlloc); grown > 20<<20 {
		t.Errorf("10,000 facts that wait take %d MB", grown>>20)
	}
	close(gate)
	for l.mu.Lock(); l.cursors["notice crew"] < 10_000; l.mu.Lock() {
		l.mu.Unlock()
		runtime.Gosched()
	}
	l.mu.Unlock()
	stop()
	if len(r.got) != 10_000 || !slices.IsSortedFunc(r.got, func(a, b string) int { return len(a)*100000 + int(a[0]) - len(b)*100000 - int(b[0]) }) {
		t.Errorf("told %d", len(r.got))
	}
}
