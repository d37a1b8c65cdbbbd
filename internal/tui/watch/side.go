package watch

import (
	"fmt"
	"strings"
	"time"

	"aditus/internal/core/rollout"
	"aditus/internal/core/say"
	"aditus/internal/tui/kit"
	"aditus/internal/view"
	"aditus/internal/words"
)

// side tells why, what was done, and what is next.
func (m *Model) side(p *kit.Page, x, y, end int) {
	w, width := m.watch, p.W-kit.Margin-1-x
	heading := func(text string) bool {
		if y+1 >= end {
			return false
		}
		p.Put(x, y, kit.Dim, text)
		y++
		return true
	}
	if !m.at.IsZero() {
		m.moments(p, x, y, width)
		return
	}
	if heading("WHY") {
		for i, line := range w.Why() {
			role := kit.Text
			if i == 0 {
				role = kit.Bright
			}
			y = p.Wrap(x, y, width, max(1, end-y), role, line)
		}
		y++
	}
	if done := w.Done(); len(done) > 0 && heading("WHAT WAS DONE") {
		for _, e := range done {
			if y >= end {
				return
			}
			after := p.Put(x, y, kit.Dim, e.At.Local().Format("15:04:05.0")) + 2
			p.PutIn(after, y, x+width-after, doneRole(e), e.Text)
			y++
		}
		y++
	}
	if w.Met.Requests > 0 && heading("WHO NOTICED") {
		y = p.Wrap(x, y, width, 3, kit.Text, w.Met.String()) + 1
	}
	if seen := w.Seen(); seen != "" && heading("TRAFFIC SEEN") {
		p.Put(x, y, kit.Text, seen)
		y += 2
	}
	title := "VERDICTS"
	if w.Rollout.Phase == rollout.RollingBack || w.Rollout.Phase == rollout.RolledBack {
		title = "VERDICTS AT THE TURN"
	}
	if len(w.Verdicts)+len(w.Rollout.Checks) > 0 && heading(title) {
		y = m.verdicts(p, x, y, end, width) + 1
	}
	if heading("NEXT") {
		for _, line := range w.Next() {
			y = p.Wrap(x, y, width, max(1, end-y), kit.Text, line)
		}
	}
}

func doneRole(e view.Event) kit.Role {
	if e.Tone == words.Bad {
		return kit.Bad
	}
	return kit.Text
}

// verdicts has two rows for each guard: old, new and the word; their difference with its interval.
func (m *Model) verdicts(p *kit.Page, x, y, end, width int) int {
	for _, v := range m.watch.Verdicts {
		if y >= end {
			return y
		}
		unit := v.Limit.Unit
		p.PutIn(x, y, 11, kit.Text, v.Guard)
		if v.Old != nil {
			p.Right(x+19, y, kit.Old, unit.Format(v.Old.Value))
		}
		if v.New != nil {
			p.Right(x+27, y, kit.New, unit.Format(v.New.Value))
		}
		p.PutIn(x+29, y, width-29, kit.RoleOf(words.VerdictTone(v)), words.VerdictWord(v))
		y++
		if more := words.VerdictMore(v); more != "" && y < end {
			y = p.Wrap(x+2, y, width-2, min(6, end-y), kit.Dim, more) // why a guard is silent takes a sentence
		}
	}
	for _, c := range m.watch.Rollout.Checks {
		if y >= end {
			return y
		}
		p.PutIn(x, y, 28, kit.Text, c.Task)
		p.PutIn(x+29, y, width-29, kit.RoleOf(words.CheckTone(c)), words.CheckWord(c))
		if y++; y < end {
			y = p.Wrap(x+2, y, width-2, min(6, end-y), kit.Dim, words.CheckMore(c))
		}
	}
	return y
}

// moments tells the values under the cursor.
func (m *Model) moments(p *kit.Page, x, y, width int) {
	w := m.watch
	p.Put(x, y, kit.Dim, "AT ")
	p.Put(x+3, y, kit.Bright, m.at.Local().Format(time.TimeOnly))
	y += 2
	row := func(label, old, new string) {
		p.PutIn(x, y, 14, kit.Text, label)
		p.Right(x+25, y, kit.Old, old)
		p.Right(x+36, y, kit.New, new)
		y++
	}
	p.Right(x+25, y-1, kit.Dim, "old")
	p.Right(x+36, y-1, kit.Dim, "new")
	text := func(samples []view.Sample, format func(float64) string, held bool) string {
		value, ok := heldAt(samples, m.at)
		if !held {
			value, ok = measuredAt(samples, m.at, 4*w.Rollout.Rules.Interval.Duration)
		}
		if !ok {
			return "—"
		}
		return format(value)
	}
	row("traffic", text(w.Traffic, func(v float64) string { return say.Share(1 - v) }, true), text(w.Traffic, say.Share, true))
	whole := func(v float64) string { return fmt.Sprintf("%.0f", v) }
	row("instances", text(w.Old, whole, true), text(w.New, whole, true))
	for _, lane := range w.Lanes {
		row(lane.Guard, text(lane.Old, lane.Limit.Unit.Format, false), text(lane.New, lane.Limit.Unit.Format, false))
	}
	y++
	p.Put(x, y, kit.Dim, "end goes back to now")
}

// list is the events in words, the newest on top.
func (m *Model) list(p *kit.Page, y, end int) {
	p.Rule(y)
	y++
	left := kit.Margin + 1
	if p.W < sideFrom && y < end {
		y = m.summary(p, y, end)
	}
	for i := len(m.watch.Events) - 1 - m.scroll; i >= 0 && y < end; i-- {
		e := m.watch.Events[i]
		role := kit.Dim
		kind := kit.Text
		if e.Tone != words.Quiet {
			role, kind = kit.Text, kit.RoleOf(e.Tone)
		}
		p.Put(left, y, kit.Dim, e.At.Local().Format(time.TimeOnly))
		p.PutIn(left+10, y, 13, kind, string(e.Kind))
		p.PutIn(left+24, y, p.W-left-25, role, e.Text)
		y++
	}
}

// summary is what narrow pages show of the side: why, and the verdicts in one row.
func (m *Model) summary(p *kit.Page, y, end int) int {
	left := kit.Margin + 1
	if why := m.watch.Why(); len(why) > 0 {
		y = p.Wrap(left, y, p.W-2*left, 2, kit.Bright, strings.Join(why, " "))
	}
	if len(m.watch.Verdicts) == 0 || y >= end {
		return y
	}
	x := left
	for _, v := range m.watch.Verdicts {
		text := v.Guard + " " + words.VerdictWord(v)
		if x+kit.Width(text) > p.W-left {
			break
		}
		x = p.Put(x, y, kit.Dim, v.Guard)
		x = p.Put(x+1, y, kit.RoleOf(words.VerdictTone(v)), words.VerdictWord(v)) + 3
	}
	return y + 1
}
