package watch

import (
	"fmt"
	"math"
	"strings"
	"time"

	"aditus/internal/core/say"
	"aditus/internal/tui/kit"
	"aditus/internal/view"
	"aditus/internal/words"
)

const (
	labelWidth = 20
	sideWidth  = 39
	sideFrom   = 120 // pages at least this wide have the side
)

// View draws the watch. The page's last two rows are left to the bar of keys.
func (m *Model) View(p *kit.Page) {
	m.head(p)
	m.chart = span{labelWidth, p.W - kit.Margin - 1}
	if p.W >= sideFrom {
		m.chart.right -= sideWidth + 4
	}
	end := p.H - 2
	list := m.listHeight(p)
	m.drawing(p, 2, end-list)
	if p.W >= sideFrom {
		m.side(p, m.chart.right+4, 3, end-list)
	}
	m.list(p, end-list, end)
}

func (m *Model) head(p *kit.Page) {
	w := m.watch
	x := p.Put(kit.Margin+1, 0, kit.Bright, w.Berth.Workload+" · "+w.Berth.Site) + 4
	x = p.Revisions(x, 0, w.From, w.To)
	now := w.Now.Local().Format(time.TimeOnly)
	title, tone := w.Title()
	p.PutIn(x+2, 0, p.W-x-2-kit.Width(now)-4, titleRole(tone), title)
	p.Right(p.W-kit.Margin-1, 0, kit.Text, now)
	p.Rule(1)
}

func titleRole(tone words.Tone) kit.Role {
	if tone == words.Quiet {
		return kit.Bright
	}
	return kit.RoleOf(tone)
}

func (m *Model) listHeight(p *kit.Page) int {
	switch {
	case p.H >= 40:
		return 9
	case p.H >= 30:
		return 6
	}
	return 4
}

// column is where a moment is on the chart, in cells from its left end.
func (m *Model) column(at time.Time) float64 {
	total := m.watch.End.Sub(m.watch.Start)
	return float64(at.Sub(m.watch.Start)) / float64(total) * float64(m.chart.right-m.chart.left)
}

// moment is the time at the middle of a column of n.
func (m *Model) moment(column, n int) time.Time {
	total := m.watch.End.Sub(m.watch.Start)
	return m.watch.Start.Add(time.Duration((float64(column) + 0.5) / float64(n) * float64(total)))
}

// drawing lays the rows out on one time axis, as high as there is room.
func (m *Model) drawing(p *kit.Page, y, end int) {
	w := m.watch
	fixed := 2 + 2 + 3 // stages, instances, events with the axis
	room := end - y - fixed
	lanes := w.Lanes
	traffic := 2
	if room >= 14 {
		traffic = 3
	}
	for len(lanes) > 1 && (room-traffic)/len(lanes) < 3 {
		lanes = lanes[:len(lanes)-1]
	}
	height := 3
	if len(lanes) > 0 {
		height = max(2, min(8, (room-traffic-1)/len(lanes)))
	}
	gap := 0
	if spare := room - traffic - height*len(lanes); spare >= 3 {
		gap = 1
	}
	m.guides(p, y+2, end-2)
	m.stages(p, y+gap)
	y += 2 + gap
	y = m.traffic(p, y, traffic) + gap
	y = m.instances(p, y)
	for _, lane := range lanes {
		y = m.lane(p, y, height, lane)
	}
	m.axis(p, end-3)
}

// guides are the lines straight down from each stage's begin, from the breach, and from the cursor.
func (m *Model) guides(p *kit.Page, from, to int) {
	down := func(at time.Time, role kit.Role, mark string) {
		x := m.chart.left + int(m.column(at))
		if x < m.chart.left || x >= m.chart.right {
			return
		}
		for y := from; y < to; y++ {
			p.Put(x, y, role, mark)
		}
	}
	for _, s := range m.watch.Stages {
		role, mark := kit.Rule, "╎"
		if s.Tone == view.Back {
			role, mark = kit.Bad, "╏"
		}
		down(s.From, role, mark)
	}
	if !m.at.IsZero() {
		down(m.at, kit.Bright, "│")
	}
}

func (m *Model) label(p *kit.Page, y int, text, under string) {
	p.PutIn(kit.Margin+1, y, labelWidth-3, kit.Dim, text)
	if under != "" {
		p.PutIn(kit.Margin+1, y+1, labelWidth-3, kit.Dim, under)
	}
}

func stretchRole(t view.StretchTone) kit.Role {
	switch t {
	case view.Back:
		return kit.Bad
	case view.Alone:
		return kit.Old
	case view.Holds:
		return kit.Clear
	}
	return kit.New
}

// stages is the ruled track.
func (m *Model) stages(p *kit.Page, y int) {
	p.Put(kit.Margin+1, y, kit.Dim, "STAGES")
	free := 0
	for i, s := range m.watch.Stages {
		from, to := m.chart.left+int(m.column(s.From)), m.chart.left+int(m.column(s.To))
		to = min(max(to, from+1), m.chart.right)
		role := stretchRole(s.Tone)
		room := to - from - 1
		if i == len(m.watch.Stages)-1 {
			room = m.chart.right - from
		}
		label := s.Label
		if kit.Width(label) > room {
			label, _, _ = strings.Cut(label, "  ")
		}
		if from >= free && kit.Width(label) <= max(room, 5) {
			textRole := kit.Text
			if s.Tone != view.Entering {
				textRole = role
			}
			free = p.Put(from, y, textRole, label) + 1
		}
		p.Put(from, y+1, role, "┝")
		for x := from + 1; x < to; x++ {
			p.Put(x, y+1, role, "━")
		}
	}
}

var eighths = []string{" ", "▁", "▂", "▃", "▄", "▅", "▆", "▇", "█"}

// traffic is the share of the new cohort as an area.
func (m *Model) traffic(p *kit.Page, y, height int) int {
	most := m.watch.TopShare()
	under := ""
	if height > 2 {
		under = "share of new"
	}
	m.label(p, y, "TRAFFIC", under)
	p.Right(labelWidth-1, y, kit.Dim, say.Share(most))
	p.Right(labelWidth-1, y+height-1, kit.Dim, "0 %")
	columns := m.chart.right - m.chart.left
	for column := range columns {
		share, ok := heldAt(m.watch.Traffic, m.moment(column, columns))
		if !ok || share <= 0 {
			continue
		}
		filled := int(math.Round(share / most * float64(height*8)))
		for row := range height {
			part := min(8, filled-row*8)
			if part > 0 {
				p.Put(m.chart.left+column, y+height-1-row, kit.New, eighths[part])
			}
		}
	}
	return y + height
}

// instances are two lines, old above new, with the count where it changes.
func (m *Model) instances(p *kit.Page, y int) int {
	m.label(p, y, "INSTANCES", "")
	line := func(y int, name string, samples []view.Sample, role kit.Role) {
		columns := m.chart.right - m.chart.left
		for from := 0; from < columns; {
			count, ok := heldAt(samples, m.moment(from, columns))
			to := from + 1
			for ; to < columns; to++ {
				if next, _ := heldAt(samples, m.moment(to, columns)); next != count {
					break
				}
			}
			if ok && count > 0 {
				x := m.chart.left + from
				if text := fmt.Sprintf("%s %.0f ", name, count); kit.Width(text) <= to-from {
					x = p.Put(x, y, role, text)
				}
				p.Put(x, y, role, strings.Repeat("─", max(0, m.chart.left+to-x)))
			}
			from = to
		}
	}
	line(y, "old", m.watch.Old, kit.Old)
	line(y+1, "new", m.watch.New, kit.New)
	return y + 2
}

// lane draws a guard's signal for both cohorts, with its limit.
func (m *Model) lane(p *kit.Page, y, height int, lane view.Lane) int {
	role := kit.Text
	for _, v := range m.watch.Verdicts {
		if v.Guard == lane.Guard && words.VerdictTone(v) == words.Bad {
			role = kit.Bad
		}
	}
	unit := lane.Limit.Unit
	top := unit.Format(lane.High)
	p.PutIn(kit.Margin+1, y, labelWidth-4-kit.Width(top), role, lane.Guard)
	p.Right(labelWidth-1, y, kit.Dim, top)
	if height > 2 {
		limit := lane.Limit.String()
		if lane.Limit.Relative() {
			limit = lane.Limit.Amount()
		}
		p.PutIn(kit.Margin+1, y+1, labelWidth-3, kit.Dim, limit)
		against, room := lane.Limit.Against(), labelWidth-3
		if height == 3 { // beside the lowest value
			room -= kit.Width(unit.Format(lane.Low)) + 1
		}
		if lane.Limit.Relative() && kit.Width(against) <= room {
			p.PutIn(kit.Margin+1, y+2, room, kit.Dim, against)
		}
	}
	p.Right(labelWidth-1, y+height-1, kit.Dim, unit.Format(lane.Low))
	plot := kit.NewPlot(m.chart.right-m.chart.left, height)
	gap := 4 * m.watch.Rollout.Rules.Interval.Duration
	level := func(samples []view.Sample) func(int) (float64, bool) {
		return func(column int) (float64, bool) {
			value, ok := measuredAt(samples, m.moment(column, plot.Columns()), gap)
			return (value - lane.Low) / (lane.High - lane.Low), ok
		}
	}
	old, limit := 1, 2
	if p.Theme == kit.None {
		old, limit = 2, 4 // without colour the density of the dots tells them apart
	}
	bound := lane.Bound
	plot.Line(kit.Bad, limit, func(column int) (float64, bool) {
		if lane.Limit.Moves() {
			return level(bound)(column)
		}
		at := lane.Bound[0].Value // in steps, where it is another one in some hours
		for _, s := range lane.Bound {
			if s.At.After(m.moment(column, plot.Columns())) {
				break
			}
			at = s.Value
		}
		return (at - lane.Low) / (lane.High - lane.Low), true
	})
	plot.Line(kit.Old, old, level(lane.Old))
	plot.Line(kit.New, 1, level(lane.New))
	plot.Draw(p, m.chart.left, y)
	return y + height
}

// axis is the row of events, the rule and the times.
func (m *Model) axis(p *kit.Page, y int) {
	p.Put(kit.Margin+1, y, kit.Dim, "EVENTS")
	for _, e := range m.watch.Events {
		if e.At.Before(m.watch.Start) || e.At.After(m.watch.End) {
			continue
		}
		x := m.chart.left + min(int(m.column(e.At)), m.chart.right-m.chart.left-1)
		mark, role := "◇", kit.Text
		if e.Tone == words.Bad {
			mark, role = "◆", kit.Bad
		} else if e.Tone != words.Quiet {
			role = kit.RoleOf(e.Tone)
		}
		if e.Tone == words.Quiet && m.taken(x, e) {
			continue // a louder event stands there
		}
		p.Put(x, y, role, mark)
	}
	for x := m.chart.left; x < m.chart.right; x++ {
		p.Put(x, y+1, kit.Rule, "─")
	}
	columns := m.chart.right - m.chart.left
	for column := 0; column+8 <= columns; column += 17 {
		at := m.watch.Start.Add(time.Duration(float64(column) / float64(columns) * float64(m.watch.End.Sub(m.watch.Start))))
		p.Put(m.chart.left+column, y+2, kit.Dim, at.Local().Format(time.TimeOnly))
	}
}

func (m *Model) taken(x int, quiet view.Event) bool {
	for _, e := range m.watch.Events {
		if e.Tone != words.Quiet && e != quiet && m.chart.left+int(m.column(e.At)) == x {
			return true
		}
	}
	return false
}
