package history

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"aditus/internal/core/berth"
	"aditus/internal/core/rollout"
	"aditus/internal/core/say"
	"aditus/internal/ledger"
	"aditus/internal/tui/kit"
	"aditus/internal/view"
)

// roleOf is how a kind of fact is told.
func roleOf(kind berth.Kind) kit.Role {
	switch kind {
	case berth.Kind(rollout.FactRolledBack), berth.Kind(rollout.FactBreach), berth.Refused, berth.NotDone, berth.Undelivered, berth.Drifted, berth.Fight:
		return kit.Bad
	case berth.Kind(rollout.FactProven), berth.Vouched:
		return kit.Clear
	case berth.Needed, berth.OfferMade:
		return kit.Asks
	case berth.Taken:
		return kit.New
	}
	return kit.Text
}

// columns are where the parts of a row begin.
type columns struct {
	berth, kind, took, text, by int
}

// View draws what happened. The page's last two rows are left to the bar of keys.
func (m *Model) View(p *kit.Page) {
	left, end := kit.Margin+1, p.H-2
	x := p.Head(m.snapshot.Line, "ledger", m.snapshot.Now.Local().Format(time.TimeOnly))
	p.PutIn(x, 0, p.W-x-12, kit.Dim, m.counted())
	y := 2
	if m.typed != "" {
		role := kit.New
		if m.wrong != nil {
			role = kit.Bad
		}
		p.PutIn(left, y, p.W-2*left, role, "/ "+m.typed)
	}
	y++
	if m.failed != nil {
		p.Wrap(left, y, p.W-2*left, 3, kit.Bad, say.Sentence(m.failed.Error()))
		return
	}
	if len(m.rows) == 0 {
		text := "Nothing is on record yet."
		if len(m.facts) > 0 {
			text = "Nothing on record fits. Words are found in all that is told, and fields select: " + strings.Join(view.RefineFields, " ") + ", such as kind:rolled on:tue; tab completes them."
		}
		p.Wrap(left, y, p.W-2*left, 3, kit.Dim, text)
		return
	}
	details := 5
	m.rowsAt, m.room = y, max(1, end-details-y)
	c := m.columns(p.W)
	from, to := m.list.Window(m.room, len(m.rows))
	for i := from; i < to; i++ {
		m.row(p, y, i, c)
		y++
	}
	p.More(2, from, to, len(m.rows))
	m.detail(p, end-details, end)
}

// counted says how much there is.
func (m *Model) counted() string {
	if len(m.facts) == 0 {
		return ""
	}
	rollouts := map[int64]bool{}
	for _, f := range m.facts {
		rollouts[f.Rollout] = true
	}
	delete(rollouts, 0)
	oldest := slices.MinFunc(m.facts, func(a, b ledger.Fact) int { return a.At.Compare(b.At) }).At
	text := fmt.Sprintf("%s since %s", say.Count(len(m.facts), "fact"), oldest.Local().Format("2 Jan 2006"))
	if len(rollouts) > 0 {
		text += ", " + say.Count(len(rollouts), "rollout")
	}
	if !m.all {
		text += "; older ones with ↓ at the end"
	}
	return text
}

func (m *Model) columns(width int) columns {
	left := kit.Margin + 1
	name := 12
	for _, r := range m.rows {
		if r.day == "" {
			name = max(name, kit.Width(place(r.about())))
		}
	}
	name = min(name, width/5)
	c := columns{berth: left + 10}
	c.kind = c.berth + name + 4
	c.text, c.by = c.kind+16, width
	if width >= 110 {
		c.took = c.kind + 16 + 10
		c.text, c.by = c.took+2, width-kit.Margin-1
	}
	return c
}

// place is the berth that a fact is about, or the line.
func place(f ledger.Fact) string {
	switch {
	case f.Workload == "":
		return "the line"
	case f.Site == "":
		return f.Workload
	}
	return f.Workload + " · " + f.Site
}

func (m *Model) row(p *kit.Page, y, i int, c columns) {
	left, r := kit.Margin+1, m.rows[i]
	if r.day != "" {
		p.Put(left, y, kit.Dim, r.day)
		return
	}
	if i == m.list.At {
		p.Choose(y)
	}
	f := r.about()
	p.Put(left, y, kit.Dim, f.At.Local().Format(time.TimeOnly))
	if r.fact == nil {
		p.PutIn(c.berth, y, c.kind-c.berth-4, kit.Bright, place(f))
	}
	kind := c.kind
	switch {
	case r.fact != nil:
		p.Put(kind-2, y, kit.Rule, "│")
	case r.what.Rollout != 0 && m.open[r.what.Rollout]:
		p.Put(kind-2, y, kit.Dim, "▾")
	case r.what.Rollout != 0:
		p.Put(kind-2, y, kit.Dim, "▸")
	}
	p.PutIn(kind, y, 15, roleOf(f.Kind), string(f.Kind))
	if took := r.what.Last().At.Sub(r.what.Began); c.took > 0 && r.fact == nil && r.what.Rollout != 0 && took > 0 {
		p.Right(c.took, y, kit.Dim, say.Span(took.Round(time.Second)))
	}
	end := p.W - kit.Margin - 1
	if c.by < p.W {
		by := f.By
		if by == "aditus" {
			by = ""
		}
		p.Right(c.by, y, kit.Dim, by)
		end = c.by - kit.Width(by) - 2
	}
	if marked := m.from.revision != "" && m.from.revision == f.Revision; marked {
		x := p.Put(c.text, y, kit.New, "● ")
		p.PutIn(x, y, end-x, kit.Text, f.Text)
		return
	}
	p.PutIn(c.text, y, end-c.text, kit.Text, f.Text)
}

// detail tells the selected fact whole.
func (m *Model) detail(p *kit.Page, y, end int) {
	r, ok := m.selected()
	p.Rule(y)
	if !ok {
		return
	}
	left, f := kit.Margin+1, r.about()
	x := p.Put(left, y+1, kit.Bright, place(f))
	about := fmt.Sprintf("%s, %s by %s", f.At.Local().Format("Mon 2 Jan 2006 15:04:05"), f.Kind, f.By)
	if f.Revision != "" {
		about += ", revision " + f.Revision.Short()
	}
	if f.Rollout != 0 {
		about += fmt.Sprintf(", rollout %d with %s", f.Rollout, say.Count(len(r.what.Facts), "fact"))
	}
	p.PutIn(x+3, y+1, p.W-x-5, kit.Dim, about)
	y = p.Wrap(left, y+2, p.W-2*left, 2, kit.Text, f.Text)
	if m.from.revision != "" && y < end {
		p.PutIn(left, y, p.W-2*left, kit.New, fmt.Sprintf("● %s of %s is marked; c on another one shows what differs", m.from.revision.Short(), m.from.at.Workload))
	}
}
