// Package history is the screen of the ledger: everything that happened, newest first, as it comes; found by what people type, grouped by rollout,
// with the way from there to the rollout's picture, to what differs between two revisions, and back to one.
package history

import (
	"context"
	"fmt"
	"slices"
	"time"

	tea "charm.land/bubbletea/v2"

	"aditus/internal/core/berth"
	"aditus/internal/core/declare"
	"aditus/internal/ledger"
	"aditus/internal/status"
	"aditus/internal/tui/comparison"
	"aditus/internal/tui/kit"
	"aditus/internal/tui/screen"
	"aditus/internal/tui/watch"
	"aditus/internal/view"
)

// Model is the list of what happened with a cursor.
type Model struct {
	desk     *screen.Desk
	snapshot status.Snapshot

	facts  []ledger.Fact // oldest first
	depth  int           // how many of the newest were asked for
	all    bool          // there are no older ones
	failed error

	typed     string
	refine    view.Refine
	wrong     error // with what is typed
	byRollout bool
	open      map[int64]bool // rollouts whose facts are shown
	from      mark           // the revision that was marked

	rows   []row
	list   kit.List
	rowsAt int
	room   int
}

// mark is a revision of a workload somewhere.
type mark struct {
	at       berth.ID
	revision declare.Fingerprint
}

// row is a day, what happened, or a fact of a rollout that is open.
type row struct {
	day  string
	what view.Happening
	fact *ledger.Fact // of an open rollout
}

// firstDepth is how many facts are asked for first, and deeper how many times as many where older ones are looked for.
const (
	firstDepth = 2000
	deeper     = 4
	mostDepth  = 128_000
)

// Open shows what happened at the line.
func Open(d *screen.Desk, s status.Snapshot, _ berth.ID) (screen.Screen, tea.Cmd) {
	m := &Model{desk: d, snapshot: s, depth: firstDepth, byRollout: true, open: map[int64]bool{}}
	return m, m.fetch()
}

// fetch asks for what is not known yet: what is new, or, once more is looked for, what is older.
func (m *Model) fetch() tea.Cmd {
	q := ledger.Query{Newest: m.depth}
	if n := len(m.facts); n > 0 {
		q = ledger.Query{After: m.facts[n-1].Seq}
	}
	return m.ask(q, func(found []ledger.Fact) {
		if q.Newest > 0 {
			m.facts, m.all = nil, len(found) < q.Newest
		}
		m.facts = append(m.facts, found...)
	})
}

// older asks for more than is there.
func (m *Model) older() tea.Cmd {
	if m.all || m.depth >= mostDepth {
		m.desk.Say("There is nothing older on record.", false)
		return nil
	}
	depth := m.depth * deeper
	m.desk.Say("What is older is read.", false)
	return m.ask(ledger.Query{Newest: depth}, func(found []ledger.Fact) {
		m.facts, m.depth, m.all = found, depth, len(found) < depth
	})
}

// since asks for all since the moment that is looked for, where that is older than what is there.
func (m *Model) since() tea.Cmd {
	if since := m.refine.Since; !since.IsZero() && !m.all && len(m.facts) > 0 && m.facts[0].At.After(since) {
		return m.ask(ledger.Query{Since: since}, func(found []ledger.Fact) {
			if len(found) > len(m.facts) {
				m.facts = found
			}
		})
	}
	return nil
}

// ask reads facts, page by page.
func (m *Model) ask(q ledger.Query, take func([]ledger.Fact)) tea.Cmd {
	return m.desk.Fetch(m, func(ctx context.Context) func() tea.Cmd {
		var found []ledger.Fact
		err := ledger.Page(q, func(q ledger.Query) ([]ledger.Fact, error) { return m.desk.Control.Facts(ctx, q) }, func(f ledger.Fact) error {
			found = append(found, f)
			return nil
		})
		return func() tea.Cmd {
			if m.failed = err; err == nil && (len(found) > 0 || q.Newest > 0) {
				take(found)
				m.arrange()
			}
			return nil
		}
	})
}

// arrange makes the rows of what is selected. The cursor stays on what it is on.
func (m *Model) arrange() {
	before, had := m.selected()
	m.rows = nil
	day := ""
	for _, h := range view.Happenings(m.facts, m.refine, m.byRollout) {
		if d := dayOf(h.Last().At, m.snapshot.Now); d != day {
			day = d
			m.rows = append(m.rows, row{day: day})
		}
		m.rows = append(m.rows, row{what: h})
		if h.Rollout != 0 && m.open[h.Rollout] {
			for i := range h.Facts {
				m.rows = append(m.rows, row{what: h, fact: &h.Facts[i]})
			}
		}
	}
	if had {
		if at := slices.IndexFunc(m.rows, func(r row) bool {
			return r.day == "" && r.about().Seq == before.about().Seq && (r.fact == nil) == (before.fact == nil)
		}); at >= 0 {
			m.list.At = at
		}
	}
	m.skip(1)
}

// dayOf names the day of a moment.
func dayOf(at, now time.Time) string {
	at, now = at.Local(), now.Local()
	switch day := at.Format(time.DateOnly); day {
	case now.Format(time.DateOnly):
		return "TODAY"
	case now.AddDate(0, 0, -1).Format(time.DateOnly):
		return "YESTERDAY"
	}
	return at.Format("Mon 2 Jan 2006")
}

// skip moves the cursor off the name of a day.
func (m *Model) skip(step int) {
	if m.list.At >= 0 && m.list.At < len(m.rows) && m.rows[m.list.At].day != "" {
		if m.list.At += step; m.list.At < 0 {
			m.list.At = 1
		}
	}
	m.list.At = max(0, min(m.list.At, len(m.rows)-1))
}

// about is the fact that a row is about: the one that says what became of a rollout; none of a day.
func (r row) about() ledger.Fact {
	switch {
	case r.fact != nil:
		return *r.fact
	case len(r.what.Facts) == 0:
		return ledger.Fact{}
	}
	return r.what.Outcome()
}

// selected is the row under the cursor.
func (m *Model) selected() (row, bool) {
	if m.list.At < 0 || m.list.At >= len(m.rows) || m.rows[m.list.At].day != "" {
		return row{}, false
	}
	return m.rows[m.list.At], true
}

// Berth implements screen.Screen.
func (m *Model) Berth() berth.ID {
	if r, ok := m.selected(); ok {
		return r.about().Berth()
	}
	return berth.ID{}
}

// Picture implements screen.Screen: there is none.
func (m *Model) Picture() *screen.Picture { return nil }

// Update implements screen.Screen.
func (m *Model) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case status.Snapshot:
		m.snapshot = msg
		return m.fetch()
	case tea.MouseClickMsg:
		from, to := m.list.Window(m.room, len(m.rows))
		if at := from + msg.Y - m.rowsAt; msg.Y >= m.rowsAt && at < to {
			m.list.At = at
			m.skip(1)
		}
	}
	return nil
}

// Keys implements screen.Screen.
func (m *Model) Keys() []screen.Key {
	r, ok := m.selected()
	does := func(text string, is bool) string {
		if !ok || !is {
			return ""
		}
		return text
	}
	compares := ""
	if ok && m.from.revision != "" && r.about().Revision != "" && m.from.at.Workload == r.about().Workload {
		compares = "compare with the marked"
	}
	move := screen.List(&m.list, func() int { return len(m.rows) })
	moves := move.Do
	move.Do = func(pressed string) tea.Cmd {
		at := m.list.At
		cmd := moves(pressed)
		m.skip(max(-1, min(1, m.list.At-at)))
		if down := pressed == "down" || pressed == "j" || pressed == "end" || pressed == "pgdown"; down && m.list.At == at && at == len(m.rows)-1 {
			return m.older()
		}
		return cmd
	}
	return []screen.Key{
		move,
		screen.Bind("enter", "enter", does("watch it", r.about().Rollout != 0), "watch the rollout at that moment", m.watch),
		screen.Bind("right l left h", "←→", does("unfold", r.what.Rollout != 0), "unfold a rollout, and fold it", m.fold),
		screen.Bind("/", "/", "refine", "refine: words, \"several words\", site: workload: by: kind: on: since: until:", m.find),
		screen.Bind("g", "g", map[bool]string{true: "by time", false: "by rollout"}[m.byRollout], "group by rollout, or each by its time", screen.Only(func(string) {
			m.byRollout = !m.byRollout
			m.arrange()
		})),
		screen.Bind("m", "m", does("mark", r.about().Revision != ""), "mark the revision, to compare another one with it", screen.Only(m.mark)),
		screen.Bind("c", "c", compares, "compare the revision with the marked one", m.compare),
		screen.Bind("x", "x", "export", "write what is selected as JSON lines, as CSV, and as a report of its releases (SVG, PDF)", m.export),
		screen.Bind("r", "r", does("roll back to this", r.about().Revision != ""), "roll the berth back to the revision, once what differs was seen", m.back),
	}
}

// watch opens the rollout at the moment of the fact.
func (m *Model) watch(string) tea.Cmd {
	r, ok := m.selected()
	if !ok || r.about().Rollout == 0 {
		m.desk.Say("This was no part of a rollout.", false)
		return nil
	}
	return watch.OpenAt(m.desk, m.snapshot, r.about().Berth(), r.about().Rollout, r.about().At)
}

func (m *Model) fold(pressed string) tea.Cmd {
	r, ok := m.selected()
	if !ok || r.what.Rollout == 0 {
		return nil
	}
	m.open[r.what.Rollout] = pressed == "right" || pressed == "l"
	if !m.open[r.what.Rollout] && r.fact != nil { // the cursor goes to the rollout
		m.list.At = slices.IndexFunc(m.rows, func(o row) bool { return o.day == "" && o.fact == nil && o.what.Rollout == r.what.Rollout })
	}
	m.arrange()
	return nil
}

// find has words and fields typed; what they select is shown while they are.
func (m *Model) find(string) tea.Cmd {
	take := func(text string) {
		m.typed = text
		if m.refine, m.wrong = view.ReadRefine(text, m.snapshot.Now); m.wrong == nil {
			m.arrange()
		}
	}
	before := m.typed
	return m.desk.Type(screen.Prompt{
		Label: "/", Text: m.typed, Hints: []kit.Hint{{Key: "enter", Does: "keep it"}, {Key: "esc", Does: "as before"}},
		Typed: take,
		Moved: func(pressed string) {
			m.list.Key(pressed, len(m.rows))
			m.skip(map[string]int{"up": -1, "down": 1}[pressed])
		},
		Done: func(text string) tea.Cmd {
			if take(text); m.wrong != nil {
				m.desk.Say(m.wrong.Error(), true)
				return nil
			}
			return m.since()
		},
		Left:     func() { take(before) },
		Complete: func(text string) string { return view.Complete(text, view.RefineFields, m.values) },
	})
}

// values are those that a field has among what is on record here.
func (m *Model) values(field string) (all []string) {
	switch field {
	case "since", "until", "on":
		return []string{"today", "yesterday", "monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"}
	}
	for _, f := range m.facts {
		value := map[string]string{"site": f.Site, "workload": f.Workload, "by": f.By, "kind": string(f.Kind)}[field]
		if value != "" {
			all = append(all, value)
		}
	}
	return slices.Compact(slices.Sorted(slices.Values(all)))
}

// mark keeps a revision, to compare another one with it.
func (m *Model) mark(string) {
	r, ok := m.selected()
	if !ok || r.about().Revision == "" {
		return
	}
	if at := (mark{r.about().Berth(), r.about().Revision}); m.from != at {
		m.from = at
		return
	}
	m.from = mark{}
}

// compare shows what differs between the marked revision and the one under the cursor.
func (m *Model) compare(string) tea.Cmd {
	r, ok := m.selected()
	switch {
	case !ok:
		return nil
	case m.from.revision == "":
		m.desk.Say("Mark a revision first, with m.", false)
		return nil
	case r.about().Revision == "" || r.about().Workload != m.from.at.Workload:
		m.desk.Say("Choose another revision of "+m.from.at.Workload+".", false)
		return nil
	}
	return comparison.OpenBetween(m.desk, r.about().Berth(), string(m.from.revision), string(r.about().Revision))
}

// back asks for a berth to be rolled back to a revision, and says what differs from what is there.
func (m *Model) back(string) tea.Cmd {
	r, ok := m.selected()
	if !ok || r.about().Revision == "" {
		return nil
	}
	at, to := r.about().Berth(), r.about().Revision
	b, known := m.snapshot.Find(at)
	if !known {
		m.desk.Say(fmt.Sprintf("%s · %s is no berth any more.", at.Workload, at.Site), true)
		return nil
	}
	d := m.desk
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(d.Ctx, screen.Timeout)
		defer cancel()
		differs := "It is there already."
		switch {
		case b.Applied == nil:
			differs = "Nothing is there yet."
		case b.Applied.Fingerprint != to:
			c, err := d.Control.Compare(ctx, at, view.Against{From: string(b.Applied.Fingerprint), To: string(to)})
			if err != nil {
				return screen.Answered{Err: err}
			}
			differs = "What differs: " + comparison.InShort(c) + "."
		}
		return screen.Asked{Question: screen.Question{
			Text: fmt.Sprintf("Roll %s at %s back to %s? %s What is left is barred until Git moves on or somebody lifts the bar.", at.Workload, at.Site, to.Short(), differs),
			Do: func(ctx context.Context) (string, error) {
				return fmt.Sprintf("%s · %s is on its way back to %s.", at.Workload, at.Site, to.Short()), d.Control.Do(ctx, d.Who, berth.Order{Verb: berth.RollBack, Berth: at, To: string(to)})
			},
		}}
	}
}
