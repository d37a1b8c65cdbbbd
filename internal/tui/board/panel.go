package board

import (
	"fmt"
	"math"

	"aditus/internal/core/guard"
	"aditus/internal/status"
	"aditus/internal/tui/kit"
	"aditus/internal/words"
)

// panelHeight is how many rows the selected berth gets.
func (m *Model) panelHeight(p *kit.Page) int {
	many := len(m.rows) > p.H-16-needsShown(p.H)-8 // more than there would be room for
	switch {
	case p.H >= 40 && !many:
		return 16
	case p.H >= 30:
		return 10
	}
	return 6
}

// viewPanel tells the selected berth in full sentences, with its guards.
func (m *Model) viewPanel(p *kit.Page, y, height int) {
	end := y + height
	p.Rule(y)
	left := kit.Margin + 1
	if n := m.selectedNeed(); m.unfolded != "" && n >= 0 {
		p.Put(left, y+2, kit.Bright, m.needs[n].About)
		p.Wrap(left, y+4, p.W-2*left, end-y-4, kit.RoleOf(m.needs[n].Tone), m.needs[n].Text)
		return
	}
	b, ok := m.selected()
	if !ok {
		if g := m.groups[m.cursor().group]; g != nil && m.cursor().heading() {
			p.Put(left, y+2, kit.Bright, g.name)
			p.Wrap(left, y+4, p.W-2*left, end-y-4, kit.Dim, g.says()+". Enter folds and unfolds it, z puts rows together otherwise, = marks all of it.")
			return
		}
		if id := m.Berth(); id.Workload != "" {
			p.Put(left, y+1, kit.Dim, fmt.Sprintf("%s is not declared for %s.", id.Workload, id.Site))
		}
		return
	}
	roomy := height > 12
	if roomy {
		y++
	}
	y++
	m.viewTitle(p, y, b)
	y++
	if roomy {
		y++
	}
	lines := words.Describe(b, m.snapshot.Now)
	spare := max(0, end-y-len(lines)-len(b.Verdicts)-2)
	for _, line := range lines {
		if y >= end {
			return
		}
		p.Put(left, y, kit.Dim, line.Label)
		width := p.W - left - 11 - kit.Margin
		if rows := min(kit.Rows(line.Text, width), 1+spare); rows > 1 {
			y = p.Wrap(left+10, y, width, rows, kit.RoleOf(line.Tone), line.Text)
			spare -= rows - 1
			continue
		}
		p.PutIn(left+10, y, width, kit.RoleOf(line.Tone), line.Text)
		y++
	}
	if roomy {
		y++
	}
	if len(b.Verdicts) > 0 && y+1 < end {
		m.viewGuards(p, y, end, b)
	}
}

func (m *Model) viewTitle(p *kit.Page, y int, b status.Berth) {
	x := p.Put(kit.Margin+1, y, kit.Bright, b.Workload+" · "+b.Site) + 3
	switch r := b.Rollout; {
	case r != nil:
		x = p.Revisions(x, y, r.From, r.To)
	case b.Applied != nil:
		x = p.Put(x, y, kit.Text, b.Applied.Version)
		if p.W >= 100 {
			x = p.Put(x+1, y, kit.Dim, b.Applied.Fingerprint.Short())
		}
		x += 2
	}
	text, tone := words.Headline(b, m.snapshot.Now)
	p.Put(x+1, y, kit.RoleOf(tone), text)
}

// viewGuards draws a row for each guard: old, new, and the distance to the limit.
func (m *Model) viewGuards(p *kit.Page, y, end int, b status.Berth) {
	left := kit.Margin + 1
	rolling := b.Rollout != nil
	chart, chartWidth := left+42, max(0, min(48, p.W-left-42-50))
	limit := chart + chartWidth + 2
	if chartWidth < 12 {
		chartWidth, limit = 0, left+42
	}
	verdict := limit + 28
	p.Put(left, y, kit.Dim, "GUARD")
	if rolling {
		p.Right(left+27, y, kit.Dim, "old")
		p.Right(left+39, y, kit.Dim, "new")
	} else {
		p.Right(left+39, y, kit.Dim, "now")
	}
	if chartWidth > 0 {
		p.PutIn(chart, y, chartWidth, kit.Dim, fmt.Sprintf("against the limit, %.0f %% interval", guard.Confidence*100))
	}
	p.Put(limit, y, kit.Dim, "limit")
	p.Put(verdict, y, kit.Dim, "verdict")
	nearest := nearestGuard(b.Verdicts)
	y++
	for i, v := range b.Verdicts {
		if y >= end {
			return
		}
		m.viewGuard(p, y, v, rolling, i == nearest, chart, chartWidth, limit, verdict)
		y++
		switch shown := v.Old != nil || v.New != nil; {
		case v.Word != guard.Silent || v.Why == "":
		case chartWidth > 0 && !shown: // in the place of what it does not show
			y = p.Wrap(left+19, y-1, limit-left-21, min(2, end-y+1), kit.Dim, v.Why)
		default:
			y = p.Wrap(left+2, y, p.W-left-3, min(2, end-y), kit.Dim, v.Why)
		}
	}
}

func (m *Model) viewGuard(p *kit.Page, y int, v guard.Verdict, rolling, nearest bool, chart, width, limit, verdict int) {
	left, unit := kit.Margin+1, v.Limit.Unit
	p.PutIn(left, y, 17, kit.Text, v.Guard)
	if rolling && v.Old != nil {
		p.Right(left+27, y, kit.Old, unit.Format(v.Old.Value))
	}
	if v.New != nil {
		role := kit.New
		if !rolling {
			role = kit.Text
		}
		p.Right(left+39, y, role, unit.Format(v.New.Value))
	}
	tone := words.VerdictTone(v)
	shown, bound := v.Held()
	apart := v.Limit.Relative() && v.Bound == nil
	if width > 0 && shown != nil {
		from, to := 0.0, bound*1.25
		if apart {
			from = -bound
		}
		to = max(to, shown.Value*1.1)
		if spread := shown.High - shown.Low; !apart && spread < bound/10 && unit != guard.Share {
			from = math.Max(0, bound*0.5)
		}
		if v.Limit.Below() { // both are seen apart, however high they lie
			room := max(math.Abs(shown.Value-bound), shown.High-shown.Low, math.Abs(bound)/1000)
			from, to = max(0, min(shown.Value, bound)-room), max(shown.Value, bound)+room
		}
		role := kit.Text
		if tone != words.Good {
			role = kit.RoleOf(tone)
		}
		p.Interval(chart, y, width, shown.Low, shown.Value, shown.High, from, to, bound, role)
	}
	p.PutIn(limit, y, verdict-limit-1, kit.Dim, v.Limit.String())
	word := words.VerdictWords(v)
	if nearest && v.Word == guard.Clear {
		word += ", nearest"
	}
	if verdict+len(word) > p.W {
		word = words.VerdictWord(v)
	}
	p.Put(verdict, y, kit.RoleOf(tone), word)
}

// nearestGuard is the guard that is closest to its limit.
func nearestGuard(verdicts []guard.Verdict) int {
	best, least := -1, math.Inf(1)
	for i, v := range verdicts {
		if margin, ok := v.Margin(); ok && margin < least {
			best, least = i, margin
		}
	}
	return best
}
