package tui

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"

	"aditus/internal/core/berth"
	"aditus/internal/core/compare"
	"aditus/internal/core/course"
	"aditus/internal/core/declare"
	"aditus/internal/core/health"
	"aditus/internal/core/policy"
	"aditus/internal/ledger"
	"aditus/internal/source"
	"aditus/internal/status"
	"aditus/internal/target"
	"aditus/internal/tui/kit"
	"aditus/internal/view"
	"aditus/internal/view/storytest"
)

// fake is a Control that shows the story and keeps the orders it is given.
type fake struct {
	lost time.Time // since when the engine is not heard of
	storytest.Story
	mu      sync.Mutex
	orders  []berth.Order // guarded by mu: many are given at once
	refuse  error
	looked  int
	every   []string
	offered []string // reverts and limits
	asked   int      // what takes time with a server far away

	settings settled
	facts    []ledger.Fact
}

func (f *fake) TestSink(context.Context, policy.Actor, string) error { return nil }

func (f *fake) Policy(context.Context) policy.Policy { return policy.Policy{} }

func (f *fake) Snapshot(context.Context) status.Snapshot {
	s := f.Story.Snapshot
	if !f.lost.IsZero() {
		s.Lost = &status.Lost{Since: f.lost, Why: "connection refused"}
	}
	return s
}
func (f *fake) Changed(context.Context) <-chan struct{} { return make(chan struct{}) }
func (f *fake) LookNow(context.Context, policy.Actor, ...string) error {
	f.looked++
	f.asked++
	return nil
}
func (f *fake) Accept(context.Context, policy.Actor, string) error { return nil }

func (f *fake) Compare(_ context.Context, b berth.ID, against view.Against) (view.Comparison, error) {
	f.asked++
	c, ok := f.Comparisons[b.String()]
	if !ok || against.Ref == "nowhere" {
		return c, fmt.Errorf("there is no %s%s", b, against.Ref)
	}
	c.Preview = against.Ref != ""
	return c, nil
}

func (f *fake) Log(context.Context, berth.ID, string, time.Time, int) ([]target.LogLine, error) {
	f.asked++
	return f.Lines, nil
}

// Sites has one that is well, one that is tight and one that is silent.
func (f *fake) Sites(context.Context) ([]status.Site, error) {
	all := make([]status.Site, len(f.Story.Snapshot.Sites))
	for i, name := range f.Story.Snapshot.Sites {
		all[i] = status.Site{Name: name, Answers: true, Took: time.Duration(i+1) * 4 * time.Millisecond, Automatic: i > 0, Team: f.Story.Snapshot.Teams[name], Berths: 12, Absent: i, Instances: 20 + i, Ground: status.Ground{
			On: "cluster harbour, namespace " + name, Version: "v1.37.2", Takes: []declare.Kind{declare.Service, declare.Task, declare.Objects}, Told: []string{"the account may do in the namespace " + name + " what is needed"},
			Room: []status.Room{{Of: "processors", Used: 31, Has: 48}, {Of: "memory", Used: 70e9, Has: 100e9}},
		}}
	}
	if n := len(all); n > 2 {
		now := f.Story.Snapshot.Now
		all[0].Lists, all[n-1].Lists = true, true
		all[0].Ground = status.Ground{On: "this machine, traffic on 8080", Room: []status.Room{{Of: "processors", Used: 1.25, Has: 2}, {Of: "memory", Used: 6e9, Has: 10e9}, {Of: "disk", Used: 96e9, Has: 100e9}}, Takes: []declare.Kind{declare.Service, declare.Volume}}
		all[1].After, all[1].SignOff = []string{all[0].Name}, []string{"a harbour-master"}
		all[1].Windowed, all[1].Times = true, []course.Entry{{Sort: course.SortWindow, Name: "mornings", From: now.Add(20 * time.Hour), Until: now.Add(22 * time.Hour), Text: "mornings: something may begin"}}
		all[n-1].Answers, all[n-1].Since, all[n-1].Trouble = false, now.Add(-4*time.Minute), "ssh: connect to quay.skerry.example port 22: no route to host"
		all[n-1].Instances, all[n-1].Rules = 0, "skerry-line"
	}
	return all, nil
}

// Tree gives of one berth what a cluster would: what belongs to what, and who looks after it.
func (f *fake) Calendar(_ context.Context, from, until time.Time) (status.Calendar, error) {
	c := f.Story.Calendar
	c.From, c.Until = from, until
	return c, nil
}

func (f *fake) Review(context.Context, string) (r status.Review, err error) { return r, nil }

func (f *fake) KeepReview(context.Context, policy.Actor, string) (r status.Review, err error) {
	return r, nil
}

func (f *fake) Course(context.Context, string, string) (c status.Course, err error) { return c, nil }

func (f *fake) Tree(_ context.Context, at berth.ID) ([]status.Node, error) {
	f.asked++
	b, _ := f.Story.Snapshot.Find(at)
	if at.String() != "boarding/north" || len(b.Cohorts) == 0 {
		return nil, nil
	}
	c, well := b.Cohorts[0], health.State{Word: health.Healthy}
	part := c.Parts[slices.IndexFunc(c.Parts, func(p status.Part) bool { return p.Kind == declare.Service })].Name
	set := status.Node{ID: "apps/v1 ReplicaSet " + part + "-6f4", Kind: "ReplicaSet", Name: at.Workload + "-" + part + "-6f4d9c7b55", State: well, Owner: "kube-controller-manager", Note: "1 of 2 ready"}
	for i, in := range c.Instances {
		if in.Part != part {
			continue
		}
		pod := status.Node{ID: "v1 Pod " + in.ID, Kind: "Pod", Name: in.ID, State: well, Since: in.Health.Started, Instance: in.ID, Note: fmt.Sprintf("10.244.0.%d on shore-1", i+7)}
		pod.Below = []status.Node{{ID: pod.ID + "/main", Kind: "container", Name: "main", State: well, Since: in.Health.Started, Instance: in.ID, Note: "gate:4.12.2"}}
		set.Below = append(set.Below, pod)
	}
	set.Below = append(set.Below, status.Node{ID: "v1 Pod new", Kind: "Pod", Name: at.Workload + "-" + part + "-6f4d9c7b55-x2k9p", State: health.State{Word: health.Failing, Reason: "cannot pull its image: gate:4.13.0: not found"}, Restarts: 3})
	return []status.Node{
		{ID: "apps/v1 Deployment gate", Kind: "Deployment", Name: at.Workload + "-" + part, Part: part, State: health.State{Word: health.Starting, Reason: "1 of 2 instances are available", Moves: true}, Note: "1 of 2 ready", Below: []status.Node{set}},
		{ID: "v1 Service gate", Kind: "Service", Name: at.Workload + "-" + part, Part: part, State: well, Note: "1 of 2 addresses ready"},
	}, nil
}

func (f *fake) Sheet(_ context.Context, _ berth.ID, node string) (status.Sheet, error) {
	return status.Sheet{
		ID: node, Live: "apiVersion: apps/v1\nkind: Deployment\nspec:\n  replicas: 3\n", Declared: "apiVersion: apps/v1\nkind: Deployment\nspec:\n  replicas: 2\n",
		Differences: []compare.Difference{{Pointer: "/parts/all/objects/Deployment~1gate/spec/replicas", Kind: compare.Drift, Applied: 2.0, Declared: 2.0, Live: 3.0, Owner: "somebody at 09:10:11 UTC on 12 March"}},
		Conditions:  []status.Condition{{Type: "Available", Status: "False", Reason: "MinimumReplicasUnavailable", Message: "Deployment does not have minimum availability.", Since: time.Date(2026, 3, 12, 9, 10, 11, 0, time.UTC)}},
		Events:      []status.Event{{At: time.Date(2026, 3, 12, 9, 10, 11, 0, time.UTC), Text: "ScalingReplicaSet: Scaled up replica set gate-6f4 from 2 to 3"}},
	}, nil
}

func (f *fake) Facts(_ context.Context, q ledger.Query) (found []ledger.Fact, err error) {
	for _, fact := range f.facts {
		if fact.Seq > q.After && !fact.At.Before(q.Since) {
			found = append(found, fact)
		}
	}
	if q.Newest > 0 {
		found = found[max(0, len(found)-q.Newest):]
	}
	return found, nil
}
func (f *fake) Declared(context.Context, berth.ID) (*declare.Desired, error) {
	return nil, nil
}

func (f *fake) Try(_ context.Context, _ policy.Actor, link string) (string, error) {
	return "The link " + link + " answers.", nil
}

func (f *fake) SetEvery(_ context.Context, _ policy.Actor, link string, every time.Duration) error {
	f.every = append(f.every, fmt.Sprint(link, " ", every))
	return nil
}

func (f *fake) OfferRevert(_ context.Context, _ policy.Actor, b berth.ID) (source.Proposal, error) {
	f.offered = append(f.offered, "revert "+b.String())
	return source.Proposal{Branch: "aditus/revert"}, f.refuse
}

func (f *fake) Strays(_ context.Context, site string) ([]status.Stray, error) {
	return []status.Stray{
		{ID: "Deployment/buoys", With: "buoys", Says: "healthy, registry.skerry.example/buoys:2.1, since 4 Jan 2025", Object: map[string]any{"kind": "Deployment"}},
		{ID: "Service/buoys", With: "buoys", Says: "since 4 Jan 2025", Object: map[string]any{"kind": "Service"}},
		{ID: "Secret/buoys", With: "buoys", Says: "2 values, since 4 Jan 2025", Not: "what it holds is secret and is not written down: seal it, and declare it by hand"},
		{ID: "ConfigMap/lamps", With: "lamps", Says: "14 values, since 9 Mar 2026", Object: map[string]any{"kind": "ConfigMap"}},
		{ID: "?", Says: "not looked for", Not: "Role and RoleBinding: the account may not list them"},
	}, f.refuse
}

func (f *fake) TakeOver(_ context.Context, _ policy.Actor, t status.TakeOver) (source.Proposal, error) {
	f.offered = append(f.offered, fmt.Sprintf("take over %v at %s as %s", t.Strays, t.Site, t.Workload))
	return source.Proposal{Branch: "aditus/take-over"}, f.refuse
}

func (f *fake) OfferLive(_ context.Context, _ policy.Actor, b berth.ID, pointers []string) (source.Proposal, error) {
	f.offered = append(f.offered, fmt.Sprint("live ", b, " ", pointers))
	return source.Proposal{Branch: "aditus/live"}, f.refuse
}

func (f *fake) Bench(_ context.Context, b berth.ID, guard string) (view.Bench, error) {
	f.asked++
	bench, ok := f.Benches[b.String()+" "+cmp.Or(guard, "slow share")]
	if !ok {
		return bench, fmt.Errorf("%s has no guard %q", b, guard)
	}
	return bench, nil
}

func (f *fake) OfferLimit(_ context.Context, _ policy.Actor, b view.Bench, limit float64) (source.Proposal, error) {
	key, text := b.Declared(limit)
	f.offered = append(f.offered, key+" "+text)
	return source.Proposal{Branch: "aditus/limit"}, f.refuse
}

func (f *fake) Do(_ context.Context, who policy.Actor, o berth.Order) error {
	o.By, o.From = who.Name, who.From
	f.mu.Lock()
	defer f.mu.Unlock()
	f.orders = append(f.orders, o)
	return f.refuse
}

func (f *fake) Watch(_ context.Context, b berth.ID, _ int64) (view.Watch, error) {
	f.asked++
	w, ok := f.Watches[b.String()]
	if !ok {
		return w, ledger.ErrNone
	}
	return w, nil
}

func app(t testing.TB) (*App, *fake) {
	t.Helper()
	f := &fake{Story: storytest.Load(t), settings: settled{offer: connectable()}, facts: happened(storytest.Load(t).Snapshot.Now)}
	a := New(t.Context(), f, Options{Who: policy.Actor{Name: "Maren Oake", From: "the screens"}, Note: "demo", Pictures: t.TempDir(), Settings: &f.settings, Tokens: &f.settings})
	a.Update(tea.WindowSizeMsg{Width: 158, Height: 47})
	return a, f
}

var named = map[string]rune{"enter": tea.KeyEnter, "esc": tea.KeyEscape, "space": tea.KeySpace, "tab": tea.KeyTab, "up": tea.KeyUp, "down": tea.KeyDown, "left": tea.KeyLeft, "right": tea.KeyRight, "end": tea.KeyEnd, "home": tea.KeyHome}

// update has the app take a message, and carries out what that sets off.
func update(a *App, msg tea.Msg) {
	_, cmd := a.Update(msg)
	if a.prompt == nil && (a.editor == nil || a.editor.busy) { // an input's cursor blinks for ever
		run(a, cmd)
	}
}

func run(a *App, cmd tea.Cmd) {
	if cmd == nil {
		return
	}
	switch msg := cmd().(type) {
	case nil:
	case tea.BatchMsg:
		for _, one := range msg {
			run(a, one)
		}
	default:
		update(a, msg)
	}
}

// press types keys, separated by spaces, and carries out what they set off.
func press(a *App, keys string) {
	for key := range strings.FieldsSeq(keys) {
		msg := tea.KeyPressMsg{Text: key, Code: []rune(key)[0]}
		if key == "ctrl+s" || key == "ctrl+r" {
			msg = tea.KeyPressMsg{Code: rune(key[len(key)-1]), Mod: tea.ModCtrl}
		}
		if code, ok := named[strings.TrimPrefix(key, "shift+")]; ok {
			msg = tea.KeyPressMsg{Code: code}
			if key == "space" {
				msg.Text = " "
			}
			if strings.HasPrefix(key, "shift+") {
				msg.Mod = tea.ModShift
			}
		}
		update(a, msg)
	}
}

func frame(a *App, w, h int) string {
	lines := strings.Split(ansi.Strip(a.Frame(w, h)), "\n")
	for i := range lines {
		lines[i] = strings.TrimRight(lines[i], " ")
	}
	return strings.TrimRight(strings.Join(lines, "\n"), "\n") + "\n"
}

var sizes = [][2]int{{158, 47}, {100, 30}, {80, 24}}

// TestFrames holds the screens against golden frames, at every size they must work at.
func TestFrames(t *testing.T) {
	for _, screen := range []struct{ name, keys string }{
		{"board", "2"}, {"board-waiting", "3"}, {"watch-back", "2 enter"}, {"watch-soaking", "/ l o o k o u t enter right right enter"},
		{"menu", "3 space"}, {"question", "3 s"}, {"help", "?"}, {"find", "/ b a r r e d"}, {"find-nothing", "/ z z z enter"}, {"compare-drift", "4 c"}, {"compare-all", "4 c f"}, {"compare-folded", "4 c f z"}, {"anatomy", "3 i"}, {"anatomy-log", "3 i down down 2"}, {"anatomy-environment", "1 i down 3"}, {"anatomy-probes", "1 i down 4"}, {"anatomy-signals", "3 i 5"}, {"anatomy-tree", "/ b o a r d i n g enter right right i"}, {"anatomy-object", "/ b o a r d i n g enter right right i home down down down"},
		{"spread", "2 A enter"}, {"calendar", "K"}, {"calendar-quarter", "3 K - - right"}, {"calendar-day", "K + + end"}, {"links", "L"}, {"sites", "M"}, {"sites-silent", "M end"}, {"sites-berths", "M end up enter"}, {"find-busy", "."}, {"grouped", "z down"}, {"grouped-folded", "z > _ down down enter down"}, {"ordered", "> >"}, {"tear-down", "4 X"}, {"tear-down-site", "M end X"}, {"strays", "M end t down = down down"}, {"marked", "/ s i t e : n o r t h enter * m down"}, {"marked-asked", "* f r e g a t t a enter"}, {"settings", ", down"}, {"ledger", "H"}, {"ledger-open", "H down right down"}, {"ledger-refined", "H / s i t e : n o r t h enter"}, {"connect", "C esc"}, {"connect-found", "C q u a y enter"}, {"settings-written", ", down enter"}, {"links-bundle", "L down"}, {"bench", "2 b"}, {"bench-moved", "2 b pgdown down"}, {"bench-errors", "2 b tab right right"}, {"help-bench", "2 b ?"}, {"watch-blue-green", "/ a c c enter enter"}, {"watch-rolling", "/ p i e r enter enter"}, {"lock", "2 f"}, {"help-compare", "4 c ?"}, {"typed", "/ p i e r s enter right x"},
		{"cursor", "2 enter h h h h h h h h h h h h h h h h h h h h h h h h h h h h h h"},
	} {
		for _, size := range sizes {
			a, _ := app(t)
			press(a, screen.keys)
			got := frame(a, size[0], size[1])
			for i, line := range strings.Split(got, "\n") {
				if ansi.StringWidth(line) > size[0] {
					t.Errorf("%s at %v: line %d is %d wide", screen.name, size, i+1, ansi.StringWidth(line))
				}
			}
			storytest.Golden(t, fmt.Sprintf("%s-%dx%d.txt", screen.name, size[0], size[1]), got)
		}
	}
}

// TestNarrow sees that a terminal too narrow for a matrix has a list, in which the same berth is chosen, and back.
func TestNarrow(t *testing.T) {
	a, _ := app(t)
	press(a, "2")
	storytest.Golden(t, "board-list-40x24.txt", frame(a, 40, 24))
	before := a.shown().Berth()
	press(a, "m down")
	if at := a.shown().Berth(); at.Workload != before.Workload || at.Site == before.Site {
		t.Errorf("after %s comes %s", before, at)
	}
	press(a, "right")
	if at := a.shown().Berth(); at.Workload == before.Workload {
		t.Errorf("aside of %s is %s", before, at)
	}
	at := a.shown().Berth()
	a.Frame(158, 47)
	if a.shown().Berth() != at || len(a.home.Marked()) != 1 {
		t.Errorf("with room again %s is chosen instead of %s, and %v marked", a.shown().Berth(), at, a.home.Marked())
	}
}

// TestCursorStays sees that the cursor stays on its berth while others are found, and when all are shown again.
func TestCursorStays(t *testing.T) {
	a, _ := app(t)
	press(a, "2")
	at := a.shown().Berth()
	for what, do := range map[string]func(){
		"others are found": func() { a.desk.Find("site:north") }, "all are shown again": func() { a.desk.Find(""); a.desk.Find("site:slipway,north"); a.desk.Find("") },
		"rows are grouped": func() { press(a, "z") }, "rows are in another order": func() { press(a, "> >") },
	} {
		do()
		if is := a.shown().Berth(); is != at {
			t.Errorf("once %s the cursor is on %s instead of %s", what, is, at)
		}
	}
}

// TestAsks sees that what changes a site is asked about once, in a sentence, and done only on enter.
func TestAsks(t *testing.T) {
	for _, test := range []struct {
		keys  string
		order string // empty for none
		says  string
	}{
		{"3 s", "", "Sign off fares at slipway? 8.2.0 then gets 95 % of the traffic."}, {"3 s enter", "sign off fares/slipway", "Done: sign off at fares · slipway."},
		{"3 s esc", "", "Nothing was changed."}, {"3 s x x", "", "Sign off fares at slipway?"}, {"3 r enter", "roll back fares/slipway", "Done"}, {"3 o", "", "until someone lets it go on"},
		{"2 u enter", "lift the bar boarding/north", "Done"}, {"4 y enter", "sync tides/isles", "Done"}, {"4 y", "", "This undoes: gauge instances 3 → 5."},
		{"2 r", "", "Roll back boarding at north from 4.12.2 to 4.12.1"}, {"3 space s enter", "sign off fares/slipway", "Done"}, {"3 space enter", "", "Hold fares at slipway?"},
		{"4 c y enter", "sync tides/isles", "Done"}, {"4 c v", "", "Offer to declare gauge instances of tides at isles as it is there?"}, {"4 c v enter", "", "It is offered on the branch aditus/live"}, {"4 c m y enter", "sync tides/isles gauge", "Done"}, {"4 c m y", "", "Sync only gauge of tides at isles?"}, {"4 c p", "", "The JSON Patch is in the clipboard"},
		{"4 c b n o w h e r e enter", "", "There is no tides/islesnowhere"}, {"4 c b x enter", "", "a preview; nothing of it is taken"}, {"4 i c", "", "WHAT A SYNC DOES"},
		{"/ p i e r s enter right x", "", "Remove tally from piers at slipway?"}, {"/ p i e r s enter right x p i e r s enter", "remove orphans piers/slipway", "Done"},
		{"/ p i e r s enter right x p i e r enter", "", "Nothing was changed: that is not piers."}, {"/ p i e r s enter right x esc", "", "Nothing was changed."}, {"4 x", "", "nothing here is an orphan"}, {"4 e", "", "nothing is about to be put back"},
		{"L v", "", "The link skerry-line answers."}, {"L +", "", "is polled every 5 s from now on"}, {"L -", "", "is polled every 30 s from now on"}, {"L down down +", "", "keeps its interval"}, {"L n", "", "is read again"}, {"L t", "", "No branch was rewritten."},
		{"3 enter s enter", "sign off fares/slipway", "Done"}, {"t", "", "No branch was rewritten."}, {"/ a c c o u n t s enter right enter", "", "nothing was rolled out here yet"},
		{"2 v", "", "Offer the revert of 4.13.0?"}, {"2 v enter", "", "It is offered on the branch aditus/revert"}, {"/ t i d e s enter f n o space w a y enter", "lock tides/drydock", "Done"},
		{"/ t i d e s enter f", "", "Lock tides at drydock. Why?"}, {"2 b", "", "slow share"}, {"2 b tab", "", "errors"}, {"2 b up o enter", "", "It is offered on the branch aditus/limit"}, {"2 b o", "", "The limit is where it is declared"}, {"4 X enter", "", "Type tides, or tides with volumes, and why:"}, {"4 X enter t i d e s space o v e r enter", "tear down tides/isles", "Done"}, {"4 X enter t i d e enter", "", "Nothing was changed: that is not tides."}, {"4 X esc", "", "Nothing was changed."},
		{"M end X enter d r y d o c k enter", "", "Nothing was changed: that is not isles."}, {"M end t t", "", "Mark first what is to be taken over"}, {"M end t = t enter enter", "", "It is offered on the branch aditus/take-over"}, {"M end t down down m", "", "That cannot be taken over: what it holds is secret"},
		{"3 d", "", "Abandon the rollout of fares at slipway?"},
	} {
		a, f := app(t)
		press(a, test.keys)
		order := ""
		for _, o := range f.orders {
			order += strings.Join(append([]string{string(o.Verb), o.Berth.String()}, o.Parts...), " ")
			if o.By != "Maren Oake" {
				t.Errorf("%s: in the name of %q", test.keys, o.By)
			}
		}
		if text := frame(a, 158, 47); order != test.order || !strings.Contains(text, test.says) {
			t.Errorf("%s: ordered %q, want %q; the screen should say %q and says\n%s", test.keys, order, test.order, test.says, text[strings.LastIndex(strings.TrimSpace(text), "\n"):])
		}
	}
	a, f := app(t)
	f.refuse = errors.New("the stage soaks for 10 s more")
	press(a, "3 s enter")
	if !strings.Contains(frame(a, 158, 47), "The stage soaks for 10 s more") {
		t.Error("a refusal is not told")
	}
	press(a, "n")
	if f.looked != 1 || !strings.Contains(frame(a, 158, 47), "Git is read again") {
		t.Error("look now does not look")
	}
}

// TestMenuKeepsItsBerth sees that an action goes to the berth that the menu was opened for, and the question names, even
// if the cursor is somewhere else by then.
func TestMenuKeepsItsBerth(t *testing.T) {
	a, f := app(t)
	press(a, "3 space")
	for range 3 {
		update(a, tea.MouseWheelMsg{Button: tea.MouseWheelDown})
	}
	if id := a.home.Berth(); id.String() != "fares/slipway" {
		t.Errorf("the wheel moved the cursor behind the menu to %s", id)
	}
	a.home.Select(berth.ID{Workload: "lookout", Site: "north"}) // as when what was selected is gone
	press(a, "r enter")
	if len(f.orders) != 1 || f.orders[0].Berth.String() != "fares/slipway" {
		t.Errorf("the question was about fares at slipway, the orders are %+v", f.orders)
	}
}

// TestMoves goes about with keys and the mouse, and nothing falls over at the edges.
func TestMoves(t *testing.T) {
	a, _ := app(t)
	press(a, "k k k k k k k k k h h h h h h h")
	if id := a.home.Berth(); id.String() != "accounts/drydock" {
		t.Errorf("the first corner is %s", id)
	}
	press(a, "down down l right")
	if id := a.home.Berth(); id.String() != "crewing/north" {
		t.Errorf("two down and two right is %s", id)
	}
	press(a, "tab tab tab tab tab tab tab")
	if id := a.home.Berth(); id.String() != "crewing/drydock" {
		t.Errorf("seven needs on is %s", id)
	}
	a.Frame(158, 47)
	update(a, tea.MouseClickMsg{X: 60, Y: 17, Button: tea.MouseLeft})
	if id := a.home.Berth(); id.Site != "slipway" {
		t.Errorf("the mouse chose %s", id)
	}
	update(a, tea.MouseWheelMsg{Button: tea.MouseWheelUp})
	press(a, "2 enter")
	a.Frame(158, 47)
	update(a, tea.MouseClickMsg{X: 70, Y: 20, Button: tea.MouseLeft})
	if text := frame(a, 158, 47); !strings.Contains(text, "end goes back to now") {
		t.Error("a click on the chart shows no values")
	}
	press(a, "end p")
	if text := frame(a, 158, 47); !strings.Contains(text, "Written:") {
		t.Error("no picture was written")
	}
	press(a, "esc")
	if a.over != nil {
		t.Error("esc does not go back")
	}
}

// TestAnySize draws every screen at any size.
func TestAnySize(t *testing.T) {
	for _, keys := range []string{"", "2 enter", "space", "?", "3 s", "/ x"} {
		a, _ := app(t)
		press(a, keys)
		for w := 1; w < 200; w += 13 {
			for h := 1; h < 60; h += 5 {
				a.Frame(w, h)
			}
		}
	}
}

// TestHostileText sees that what comes from outside cannot reach the terminal raw.
func TestHostileText(t *testing.T) {
	a, f := app(t)
	evil := "\x1b]0;owned\x07\x1b[2Jred\u202eabc\r\nx"
	f.Story.Snapshot.Line = evil
	for i := range f.Story.Snapshot.Berths {
		b := &f.Story.Snapshot.Berths[i]
		if b.Applied != nil {
			b.Applied.Subject, b.Applied.Author, b.Applied.Version = evil, evil, evil
		}
		if b.Bar != nil {
			b.Bar.Why = evil
		}
		b.Health.Reason, b.Health.Word = evil, "failing"
	}
	run(a, a.snap())
	text := a.Frame(158, 47)
	for _, bad := range []string{"\x07", "\x1b]", "\x1b[2J", "\u202e", "\r"} {
		if strings.Contains(text, bad) {
			t.Errorf("%q reaches the terminal", bad)
		}
	}
}

// TestThemes draws with and without colour: the words stay the same.
func TestThemes(t *testing.T) {
	a, _ := app(t)
	press(a, "2")
	plain := frame(a, 158, 47)
	for _, profile := range []colorprofile.Profile{colorprofile.ASCII, colorprofile.ANSI, colorprofile.ANSI256, colorprofile.TrueColor} {
		for _, ground := range []kit.Ground{kit.Unknown, kit.OnDark, kit.OnLight} {
			a.look.told = ground
			a.Update(tea.ColorProfileMsg{Profile: profile})
			if got := frame(a, 158, 47); got != plain {
				t.Errorf("with %s, on ground %v, other words are shown", profile, ground)
			}
			if colours := strings.Contains(a.Frame(158, 47), "38;2;"); colours != (profile == colorprofile.TrueColor) && profile == colorprofile.ASCII {
				t.Errorf("with %s there is colour: %v", profile, colours)
			}
		}
	}
}

// many is a control with so many workloads at so many sites.
func many(t testing.TB, workloads, sites int) *App {
	f := &fake{Story: storytest.Load(t)}
	base := f.Story.Snapshot.Berths
	s := status.Snapshot{Line: "Skerry Line", Now: f.Story.Snapshot.Now}
	for i := range sites {
		s.Sites = append(s.Sites, fmt.Sprintf("site-%02d", i))
	}
	for i := range workloads {
		for j := range sites {
			b := base[(i*7+j)%len(base)]
			b.ID = berth.ID{Workload: fmt.Sprintf("workload-with-a-long-name-%04d", i), Site: s.Sites[j]}
			s.Berths = append(s.Berths, b)
		}
	}
	f.Story.Snapshot = s
	a := New(t.Context(), f, Options{})
	a.Update(tea.WindowSizeMsg{Width: 158, Height: 47})
	return a
}

// TestLongNeed sees that what concerns no berth can be read whole.
func TestLongNeed(t *testing.T) {
	a, f := app(t)
	f.Story.Snapshot.Links[0].Problem = &status.Problem{Text: "commit d4d3537 by You is not taken: " + strings.Repeat("workloads/notices.yaml:8:11: there is no kind of part; ", 4) + "what ccef0ec declared stays declared"}
	run(a, a.snap())
	press(a, "3")
	if text := frame(a, 158, 47); strings.Contains(text, "stays declared") {
		t.Fatal("the sentence is short enough already: the test proves nothing")
	}
	for _, keys := range []string{"1", "2 shift+tab"} {
		press(a, keys)
		if text := frame(a, 158, 47); !strings.Contains(strings.Join(strings.Fields(text), " "), "what ccef0ec declared stays declared.") {
			t.Errorf("%s does not tell it whole:\n%s", keys, text)
		}
	}
	press(a, "down")
	if text := frame(a, 158, 47); strings.Contains(text, "stays declared") {
		t.Error("the cursor moved on and it is still told")
	}
}

func TestMany(t *testing.T) {
	a := many(t, 10000, 1)
	press(a, "end")
	if text := frame(a, 158, 47); !strings.Contains(text, "workload-with-a-") || !strings.Contains(text, "of 10000") {
		t.Errorf("ten thousand workloads:\n%s", text)
	}
	a = many(t, 20, 40)
	for range 39 {
		press(a, "l")
	}
	if text := frame(a, 100, 30); !strings.Contains(text, "site-39") {
		t.Errorf("the last of forty sites is not reached:\n%s", text)
	}
}

// BenchmarkBoardFrame draws a board of 200 workloads at 8 sites; BenchmarkBoardSnapshot takes in a new snapshot too.
func BenchmarkBoardFrame(b *testing.B) {
	a := many(b, 200, 8)
	for b.Loop() {
		a.Frame(158, 47)
	}
}

func BenchmarkBoardSnapshot(b *testing.B) {
	a := many(b, 200, 8)
	for b.Loop() {
		run(a, a.snap())
		a.Frame(158, 47)
	}
}

// BenchmarkFleet draws a board of 1 000 workloads at 20 sites: as it is, after a key, with a new snapshot, and with all of it marked.
func BenchmarkFleet(b *testing.B) {
	for name, do := range map[string]func(a *App){
		"frame":    func(*App) {},
		"key":      func(a *App) { press(a, "down") },
		"snapshot": func(a *App) { run(a, a.snap()) },
		"find":     func(a *App) { a.desk.Find("site:north behind") },
		"marked":   func(a *App) { press(a, "* *") },
	} {
		b.Run(name, func(b *testing.B) {
			a := many(b, 1000, 20)
			for b.Loop() {
				do(a)
				a.Frame(158, 47)
			}
		})
	}
}

func BenchmarkWatchFrame(b *testing.B) {
	a, _ := app(b)
	press(a, "2 enter")
	if a.over == nil {
		b.Fatal("there is no watch")
	}
	for b.Loop() {
		a.Frame(158, 47)
	}
}

// TestLost sees that a face without its engine says so and keeps the last picture.
func TestLost(t *testing.T) {
	f := &fake{Story: storytest.Load(t)}
	a := New(t.Context(), f, Options{Who: policy.Actor{Name: "maren"}})
	if frame := ansi.Strip(a.Frame(158, 47)); strings.Contains(frame, "No word since") {
		t.Error("an engine that answers counts as lost")
	}
	f.lost = time.Date(2026, 3, 12, 9, 32, 30, 0, time.UTC)
	run(a, a.snap())
	frame := ansi.Strip(a.Frame(158, 47))
	for _, want := range []string{"No word since 09:32:30, this is how it was. Connecting again; q quits. Why: connection refused.", "nothing heard since 09:32:30", "Skerry Line", "NEEDS YOU"} {
		if !strings.Contains(frame, want) {
			t.Errorf("%q is not to be read in\n%s", want, frame)
		}
	}
}

// TestNothingWaits sees that no key and no click asks anything itself: a server far away may take its time, and the next
// key must not wait for it.
func TestNothingWaits(t *testing.T) {
	a, f := app(t)
	for _, opens := range []string{"enter", "c", "i down down down", "b", "L"} {
		press(a, "esc "+opens)
		before := f.asked
		a.Update(refreshMsg{})
		for _, key := range []string{"down", "enter", "n", "tab", "up", "w", "c", "b", "esc", "enter"} {
			msg := tea.KeyPressMsg{Text: key, Code: []rune(key)[0]}
			if key == "ctrl+s" || key == "ctrl+r" {
				msg = tea.KeyPressMsg{Code: rune(key[len(key)-1]), Mod: tea.ModCtrl}
			}
			if code, ok := named[key]; ok {
				msg = tea.KeyPressMsg{Code: code}
				if key == "space" {
					msg.Text = " "
				}
			}
			a.Update(msg)
			if f.asked != before {
				t.Fatalf("after %q the key %q asks at once", opens, key)
			}
		}
		a.Update(tea.MouseClickMsg{X: 60, Y: 17, Button: tea.MouseLeft})
		a.Update(tea.KeyPressMsg{Code: tea.KeyEscape})
	}
	if f.asked == 0 {
		t.Error("nothing was asked at all")
	}
}
