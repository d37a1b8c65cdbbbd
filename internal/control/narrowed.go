package control

import (
	"context"
	"reflect"
	"slices"
	"sync"
	"time"

	"aditus/internal/core/berth"
	"aditus/internal/core/declare"
	"aditus/internal/core/policy"
	"aditus/internal/ledger"
	"aditus/internal/status"
	"aditus/internal/target"
	"aditus/internal/view"
)

// For gives a Control as somebody may see it: nothing is told of berths that they may not look at, and each that they may says what they
// may not do there. Who gives an order is asked again when it is given.
func For(c Control, who policy.Actor) Control { return &narrowed{Control: c, who: who} }

type narrowed struct {
	Control
	who policy.Actor

	mu   sync.Mutex
	of   uintptr                              // the teams that not was worked out from
	not  map[berth.ID]map[policy.Scope]string // what may not be done, as it was worked out before
	skip skipped
}

// skipped are facts of which none is told: those after a number up to another one.
type skipped struct{ from, to int64 }

// mayNot tells what whoever asks may not do at a berth. It is worked out once for each as long as the teams are the same.
func (n *narrowed) mayNot(p policy.Policy, id berth.ID) map[policy.Scope]string {
	n.mu.Lock()
	defer n.mu.Unlock()
	if of := reflect.ValueOf(p.Teams).Pointer(); n.not == nil || n.of != of {
		n.of, n.not, n.skip = of, map[berth.ID]map[policy.Scope]string{}, skipped{}
	}
	known, ok := n.not[id]
	if !ok {
		known = p.MayNot(n.who, id.Workload, id.Site)
		n.not[id] = known
	}
	return known
}

// may tells why whoever asks may not look at a berth; with no site, at one of a workload; with neither, at the line as a whole.
func (n *narrowed) may(ctx context.Context, workload, site string) error {
	p := n.Policy(ctx)
	if workload == "" || site != "" {
		return p.May(n.who, workload, site, policy.Look)
	}
	for _, site := range n.Control.Snapshot(ctx).Sites {
		if p.May(n.who, workload, site, policy.Look) == nil {
			return nil
		}
	}
	return p.May(n.who, workload, "", policy.Look)
}

// whole tells whether all of a policy is of no concern to whoever asks.
func (n *narrowed) whole(p policy.Policy) bool {
	return p.Open() && n.who.Within.Whole() && len(n.who.Scopes) == len(policy.Scopes)
}

// Snapshot implements Reader.
func (n *narrowed) Snapshot(ctx context.Context) status.Snapshot {
	s := n.Control.Snapshot(ctx)
	p := s.Policy
	p.Sites = s.Teams
	if n.whole(p) {
		return s
	}
	s.Berths = slices.Clone(s.Berths)
	seen := s.Berths[:0]
	for _, b := range s.Berths {
		if b.MayNot = n.mayNot(p, b.ID); b.MayNot[policy.Look] == "" {
			seen = append(seen, b)
		}
	}
	s.Berths = seen
	if p.May(n.who, "", "", policy.Look) == nil {
		return s
	}
	s.Sites = slices.DeleteFunc(slices.Clone(s.Sites), func(site string) bool {
		return !slices.ContainsFunc(seen, func(b status.Berth) bool { return b.Site == site })
	})
	s.Links, s.Problems, s.Policy = nil, nil, policy.Policy{}
	for _, l := range n.Control.Snapshot(ctx).Links {
		if slices.ContainsFunc(seen, func(b status.Berth) bool { return b.Link == l.Name }) {
			l.Warnings, l.Wrong, l.Berths = nil, nil, 0 // they may be about others
			if l.Problem != nil {
				l.Problem = &status.Problem{About: l.Problem.About, Text: "it has trouble, which is told to whoever may look at the whole line", Since: l.Problem.Since}
			}
			s.Links = append(s.Links, l)
		}
	}
	return s
}

// Watch implements Reader.
func (n *narrowed) Watch(ctx context.Context, id berth.ID, rollout int64) (w view.Watch, err error) {
	if err = n.may(ctx, id.Workload, id.Site); err == nil {
		w, err = n.Control.Watch(ctx, id, rollout)
	}
	return w, err
}

// Compare implements Reader.
func (n *narrowed) Compare(ctx context.Context, id berth.ID, against view.Against) (c view.Comparison, err error) {
	if err = n.may(ctx, id.Workload, id.Site); err == nil {
		c, err = n.Control.Compare(ctx, id, against)
	}
	return c, err
}

// Declared implements Reader.
func (n *narrowed) Declared(ctx context.Context, id berth.ID) (d *declare.Desired, err error) {
	if err = n.may(ctx, id.Workload, id.Site); err == nil {
		d, err = n.Control.Declared(ctx, id)
	}
	return d, err
}

// Bench implements Reader.
func (n *narrowed) Bench(ctx context.Context, id berth.ID, guard string) (b view.Bench, err error) {
	if err = n.may(ctx, id.Workload, id.Site); err == nil {
		b, err = n.Control.Bench(ctx, id, guard)
	}
	return b, err
}

// Log implements Reader.
func (n *narrowed) Log(ctx context.Context, id berth.ID, instance string, since time.Time, most int) (lines []target.LogLine, err error) {
	if err = n.may(ctx, id.Workload, id.Site); err == nil {
		lines, err = n.Control.Log(ctx, id, instance, since, most)
	}
	return lines, err
}

// Tree implements Reader.
func (n *narrowed) Tree(ctx context.Context, id berth.ID) (nodes []status.Node, err error) {
	if err = n.may(ctx, id.Workload, id.Site); err == nil {
		nodes, err = n.Control.Tree(ctx, id)
	}
	return nodes, err
}

// Sheet implements Reader.
func (n *narrowed) Sheet(ctx context.Context, id berth.ID, node string) (s status.Sheet, err error) {
	if err = n.may(ctx, id.Workload, id.Site); err == nil {
		s, err = n.Control.Sheet(ctx, id, node)
	}
	return s, err
}

// Course implements Reader.
func (n *narrowed) Course(ctx context.Context, workload, ref string) (c status.Course, err error) {
	if err = n.may(ctx, workload, ""); err == nil {
		c, err = n.Control.Course(ctx, workload, ref)
	}
	return c, err
}

// Sites implements Reader.
func (n *narrowed) Sites(ctx context.Context) (all []status.Site, err error) {
	own := n.Snapshot(ctx)
	if all, err = n.Control.Sites(ctx); err != nil {
		return nil, err
	}
	if len(own.Sites) == 0 {
		return nil, n.may(ctx, "", "")
	}
	shown := []status.Site{}
	for _, s := range all {
		if !slices.Contains(own.Sites, s.Name) {
			continue
		}
		if n.may(ctx, "", s.Name) != nil { // who may look at some of its berths is told of those, and no more
			s.Ground.Room, s.Ground.Told, s.Ground.Wrong, s.Since = nil, nil, "", time.Time{}
			if s.Trouble = ""; !s.Answers {
				s.Trouble = "it does not answer"
			}
			s.Count(own.Berths)
		}
		shown = append(shown, s)
	}
	return shown, nil
}

// Strays implements Reader. What is told of them may be taken over, and is for who may do that.
func (n *narrowed) Strays(ctx context.Context, site string) ([]status.Stray, error) {
	if err := n.Policy(ctx).May(n.who, "", site, policy.Change); err != nil {
		return nil, err
	}
	return n.Control.Strays(ctx, site)
}

// Calendar implements Reader.
func (n *narrowed) Calendar(ctx context.Context, from, until time.Time) (c status.Calendar, err error) {
	if err = n.may(ctx, "", ""); err == nil {
		c, err = n.Control.Calendar(ctx, from, until)
	}
	return c, err
}

// Review implements Reader.
func (n *narrowed) Review(ctx context.Context, ref string) (r status.Review, err error) {
	if err = n.may(ctx, "", ""); err == nil {
		r, err = n.Control.Review(ctx, ref)
	}
	return r, err
}

// page is how many facts are read at once where some of them are not told.
const page = 1000

// Facts implements Reader: those of berths that whoever asks may look at, and the line's own where that is all of it.
func (n *narrowed) Facts(ctx context.Context, q ledger.Query) ([]ledger.Fact, error) {
	p := n.Policy(ctx)
	if p.May(n.who, "", "", policy.Look) == nil {
		return n.Control.Facts(ctx, q)
	}
	if q.Berth != (berth.ID{}) {
		if err := p.May(n.who, q.Berth.Workload, q.Berth.Site, policy.Look); err != nil {
			return nil, err
		}
		return n.Control.Facts(ctx, q)
	}
	tells := func(f ledger.Fact) bool {
		return f.Workload != "" && n.mayNot(p, f.Berth())[policy.Look] == ""
	}
	if newest := q.Newest; newest > 0 {
		q.Newest, q.Most = max(newest, lookBack), 0
		facts, err := n.Control.Facts(ctx, q)
		facts = slices.DeleteFunc(facts, func(f ledger.Fact) bool { return !tells(f) })
		return facts[max(0, len(facts)-newest):], err
	}
	return n.following(ctx, q, tells)
}

// lookBack is among how many of the newest facts those are looked for that are told.
const lookBack = 20_000

// following gives the facts after a number that are told, a page of them at most. Those that are not told are not read again by whoever asks
// for the same once more.
func (n *narrowed) following(ctx context.Context, q ledger.Query, tells func(ledger.Fact) bool) (told []ledger.Fact, err error) {
	most, from := q.Most, q.After
	if most == 0 || most > page {
		most = page
	}
	all := q.Rollout == 0 && q.Since.IsZero()
	n.mayNot(n.Policy(ctx), berth.ID{}) // by other teams others may be told
	n.mu.Lock()
	if all && n.skip.from == q.After {
		q.After = max(q.After, n.skip.to)
	}
	n.mu.Unlock()
	q.Most = page
	for {
		facts, err := n.Control.Facts(ctx, q)
		if err != nil {
			return nil, err
		}
		for _, f := range facts {
			if q.After = f.Seq; tells(f) {
				if told = append(told, f); len(told) == most {
					return told, nil
				}
			}
		}
		if len(facts) < page {
			break
		}
	}
	if all && len(told) == 0 {
		n.mu.Lock()
		n.skip = skipped{from, q.After}
		n.mu.Unlock()
	}
	return told, nil
}
