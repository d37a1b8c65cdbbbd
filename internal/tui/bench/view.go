package bench

import (
	"fmt"
	"time"

	"aditus/internal/core/say"
	"aditus/internal/tui/kit"
	"aditus/internal/view"
)

const labelWidth = 12

// View draws the bench. The page's last two rows are left to the bar of keys.
func (m *Model) View(p *kit.Page) {
	b, left := m.bench, kit.Margin+1
	p.Head(b.Heading(), "bench", b.Now.Local().Format(time.TimeOnly))
	x := left
	for _, name := range b.Guards {
		role := kit.Dim
		if name == b.Rule.Name {
			role = kit.Bright
			p.Put(x, 2, kit.New, "▸")
		}
		if x+2+kit.Width(name) > p.W-left {
			break
		}
		x = p.Put(x+2, 2, role, name) + 3
	}
	y := m.values(p, 4)
	rows := min(max(3, len(m.trial.Releases)), max(3, p.H/4))
	bottom := p.H - 2 - rows - 2
	if len(b.History) == 0 && len(b.Releases) == 0 {
		p.Wrap(left, y+1, p.W-2*left, 3, kit.Dim, "Nothing of this signal is on record yet. Its history grows by one value every five minutes while a revision serves, and with every rollout.")
		return
	}
	m.chart(p, y+2, bottom)
	m.releases(p, bottom, p.H-2)
}

// values tells the limit, what is usual, and the text to declare.
func (m *Model) values(p *kit.Page, y int) int {
	b, left := m.bench, kit.Margin+1
	x := p.Put(left, y, kit.Dim, "limit")
	x = p.Put(x+2, y, kit.Bright, b.With(m.limit).Limit.String())
	if m.moved() {
		x = p.Put(x+2, y, kit.Dim, "declared "+b.Rule.Limit.String())
	}
	right := ""
	if !b.Moves {
		right = fmt.Sprintf("%s of %s of history beyond it", say.Number(float64(m.trial.Beyond)), say.Number(float64(m.trial.Of)))
	}
	if stopped, undecided := m.trial.Count(); len(m.trial.Releases) > 0 {
		text := fmt.Sprintf("stops %d of %s", stopped, say.Count(len(m.trial.Releases), "release"))
		if undecided > 0 {
			text += fmt.Sprintf(", %d undecided", undecided)
		}
		role := kit.Clear
		if stopped > 0 {
			role = kit.Bad
		}
		x = p.Put(x+3, y, role, text)
	}
	if p.W >= 110 && x+3+kit.Width(right) < p.W-left {
		p.Put(x+3, y, kit.Dim, right)
	}
	for _, line := range b.Words() {
		y++
		p.PutIn(left+7, y, p.W-left-8, kit.Text, line)
	}
	if m.moved() {
		for i, line := range b.Text(m.limit) {
			y++
			label := ""
			if i == 0 {
				label = "text"
			}
			p.Put(left, y, kit.Dim, label)
			p.PutIn(left+7, y, p.W-left-8, kit.New, line)
		}
	}
	return y
}

// chart draws the history with the limit, and the releases below it.
func (m *Model) chart(p *kit.Page, y, bottom int) {
	b, left := m.bench, kit.Margin+1
	height, width := bottom-y-4, p.W-2*left-labelWidth
	if height < 2 || width < 10 {
		return
	}
	from, to := m.span()
	top := b.Top(m.limit, b.Rule.Limit.Value)
	unit := b.Rule.Limit.Unit
	p.Right(left+labelWidth-1, y, kit.Dim, unit.Format(top))
	p.Right(left+labelWidth-1, y+height-1, kit.Dim, unit.Format(0))
	plot := kit.NewPlot(width, height)
	begins := func(column int) time.Time {
		return from.Add(time.Duration(float64(column) / float64(plot.Columns()) * float64(to.Sub(from))))
	}
	line := func(samples []view.Sample, role kit.Role, gap time.Duration) {
		at := 0
		plot.Line(role, 1, func(column int) (float64, bool) {
			for begin := begins(column); at < len(samples) && samples[at].At.Before(begin); {
				at++
			}
			if at == len(samples) || at == 0 && samples[0].At.Sub(begins(column)) > gap || at > 0 && samples[at].At.Sub(samples[at-1].At) > gap {
				return 0, false
			}
			worst := samples[at].Value // of those that fall together, so that none beyond the limit is left out
			for end := begins(column + 1); at+1 < len(samples) && samples[at+1].At.Before(end); at++ {
				if next := samples[at+1].Value; b.Rule.Limit.Beyond(next, worst) {
					worst = next
				}
			}
			return worst / top, true
		})
	}
	gap := max(16*time.Minute, to.Sub(from)/time.Duration(plot.Columns())*3)
	line(b.History, kit.Old, gap)
	for _, r := range b.Releases {
		line(r.New, kit.New, gap)
	}
	if !b.Moves {
		if m.moved() {
			declared := b.Rule.Limit.Value / top
			plot.Line(kit.Dim, 4, func(int) (float64, bool) { return declared, true })
		}
		plot.Line(kit.Bad, 2, func(int) (float64, bool) { return m.limit / top, true })
	}
	plot.Draw(p, left+labelWidth, y)
	if !b.Moves {
		at := y + int((1-min(1, m.limit/top))*float64(height-1)+0.5)
		p.Right(left+labelWidth-1, at, kit.Bad, unit.Format(m.limit))
	}
	y += height
	column := func(at time.Time) int {
		return left + labelWidth + int(float64(at.Sub(from))/float64(to.Sub(from))*float64(width-1))
	}
	chosen := 0
	p.PutIn(left, y, labelWidth-1, kit.Dim, "releases")
	for i, r := range m.trial.Releases {
		if r.Began.Before(from) {
			continue
		}
		mark, role := "△", kit.RoleOf(r.Tone())
		if r.Stopped {
			mark = "▲"
		}
		p.Put(column(r.Began), y, role, mark)
		if i == m.list.At {
			chosen = column(r.Began)
		}
	}
	for x := range width {
		p.Put(left+labelWidth+x, y+1, kit.Rule, "─")
	}
	if chosen > 0 {
		p.Put(chosen, y+1, kit.Bright, "┴")
	}
	form := "2 Jan 15:04"
	if to.Sub(from) < 20*time.Hour {
		form = "15:04:05"
	}
	for x := 0; x+len(form) <= width; x += len(form) + 8 {
		at := from.Add(time.Duration(float64(x) / float64(width) * float64(to.Sub(from))))
		p.Put(left+labelWidth+x, y+2, kit.Dim, at.Local().Format(form))
	}
}

// releases lists what the limit would have made of each.
func (m *Model) releases(p *kit.Page, y, end int) {
	left := kit.Margin + 1
	p.Rule(y)
	y++
	began, phase, would := left+14, left+28, left+44
	if p.W < 100 {
		began, phase, would = left+9, left+23, left+36
	}
	p.Put(left, y, kit.Dim, "RELEASE")
	p.Put(began, y, kit.Dim, "began")
	p.Put(phase, y, kit.Dim, "came out")
	p.Put(would, y, kit.Dim, "with this limit")
	all := m.trial.Releases
	from, to := m.list.Window(end-y-1, len(all))
	p.More(y, from, to, len(all))
	if len(all) == 0 {
		p.Put(left, y+1, kit.Dim, "No release of this time showed the signal.")
	}
	for i := from; i < to; i++ {
		y++
		r := all[i]
		if i == m.list.At {
			p.Choose(y)
		}
		p.PutIn(left, y, began-left-1, kit.Text, r.Version)
		p.Put(began, y, kit.Dim, r.Began.Local().Format("2 Jan 15:04"))
		p.PutIn(phase, y, would-phase-1, kit.RoleOf(r.Tone()), string(r.Phase))
		text, tone := r.Outcome()
		p.PutIn(would, y, p.W-would-left, kit.RoleOf(tone), text)
	}
}
