package anatomy

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"aditus/internal/core/health"
	"aditus/internal/core/say"
	"aditus/internal/status"
	"aditus/internal/tui/kit"
	"aditus/internal/view"
	"aditus/internal/words"
)

// sideBySide is how wide a page must be for the inspector to stand beside the tree; on others it stands under it.
const sideBySide = 140

// View draws the anatomy. The page's last two rows are left to the bar of keys.
func (m *Model) View(p *kit.Page) {
	x := p.Head(m.berth.Workload+" · "+m.berth.Site, "anatomy", m.now.Local().Format(time.TimeOnly))
	headline, tone := words.Headline(m.berth, m.now)
	role := kit.RoleOf(tone)
	if tone == words.Quiet {
		role = kit.Bright
	}
	p.PutIn(x, 0, p.W-x-12, role, headline)
	end := p.H - 2
	if p.W >= sideBySide {
		m.split = p.W * 46 / 100
		if len(m.nodes) > 0 { // it has more levels, and longer names
			m.split = p.W * 56 / 100
		}
		m.tree(p, kit.Margin+1, 3, m.split-2, end)
		for y := 2; y < end; y++ {
			p.Put(m.split, y, kit.Rule, "│")
		}
		m.inspector(p, m.split+3, 3, p.W-m.split-5, end)
		return
	}
	m.split = 0
	half := 2 + (end-2)*9/20
	m.tree(p, kit.Margin+1, 2, p.W-2*kit.Margin-2, half)
	p.Rule(half)
	m.inspector(p, kit.Margin+1, half+1, p.W-2*kit.Margin-2, end)
}

// tree draws what belongs to what.
func (m *Model) tree(p *kit.Page, x, y, width, end int) {
	if len(m.rows) == 0 {
		p.Put(x, y, kit.Dim, "Nothing of it is at the site.")
		return
	}
	m.rowsAt, m.room = y, end-y
	from, to := m.list.Window(end-y, len(m.rows))
	name := min(27, width*4/10)
	if len(m.nodes) > 0 {
		name = min(44, width*5/10)
	}
	for i := from; i < to; i++ {
		if i == m.list.At {
			choose(p, y, x-1, width+2)
		}
		m.branch(p, x, y, width, name, i)
		y++
	}
}

// choose marks a row of the tree with a bar before it, as the inspector stands on the same rows.
func choose(p *kit.Page, y, x, _ int) { p.Put(x, y, kit.New, "▸") }

func (m *Model) branch(p *kit.Page, x, y, width, name, i int) {
	r := m.rows[i]
	indent := ""
	for level := 1; level <= r.Depth; level++ {
		switch follows := r.Stems>>level&1 == 1; {
		case level == r.Depth && r.Last:
			indent += "└─ "
		case level == r.Depth:
			indent += "├─ "
		case follows:
			indent += "│  "
		default:
			indent += "   "
		}
	}
	at := p.PutIn(x+1, y, width-1, kit.Rule, indent)
	role := kit.Text
	switch {
	case r.Tone == words.Bad:
		role = kit.Bright
	case r.Depth == 0 && r.Side == words.Moves:
		role = kit.New
	case r.Depth == 0:
		role = kit.Old
	case r.Depth == 2 && r.Node == nil, r.Others:
		role = kit.Dim
	}
	if i == m.list.At {
		role = kit.Bright
	}
	text := r.Name
	if r.Depth >= 2 {
		text = ending(strings.TrimPrefix(r.Name, m.berth.Workload+"-"), x+name-at)
	}
	end := p.PutIn(at, y, x+name-at, role, text)
	if r.Kind != "" {
		end = p.PutIn(end+1, y, x+name+4-end, kit.Dim, r.Kind)
	}
	tone := kit.Dim
	if r.Tone != words.Quiet {
		tone = kit.RoleOf(r.Tone)
	}
	told := r.Words
	at = max(end+2, x+name+6)
	if r.Why != "" && r.Tone == words.Bad {
		told += ": " + r.Why
	} else {
		told = whole(told, x+width-at)
	}
	p.PutIn(at, y, x+width-at, tone, told)
	if m.folded[r.ID] {
		p.Put(x+width-1, y, kit.Dim, "…")
	}
}

// whole leaves out the last of several things that are told, where they have no room.
func whole(told string, width int) string {
	for kit.Width(told) > width {
		last := strings.LastIndex(told, ", ")
		if last < 0 {
			break
		}
		told = told[:last]
	}
	return told
}

// ending keeps the end of a name that has no room: there instances differ.
func ending(text string, width int) string {
	runes := []rune(text)
	if width < 2 || len(runes) <= width {
		return text
	}
	return "…" + string(runes[len(runes)-width+1:])
}

// inspector tells all about what is selected.
func (m *Model) inspector(p *kit.Page, x, y, width, end int) {
	for i, name := range tabNames {
		role := kit.Dim
		if Tab(i) == m.tab {
			role = kit.Bright
		}
		if x+len(name)+2 < p.W {
			at := p.Put(x, y, kit.New, fmt.Sprint(i+1))
			at = p.Put(at+1, y, role, name)
			width -= at + 3 - x
			x = at + 3
		}
	}
	width += x
	x = kit.Margin + 1
	if m.split > 0 {
		x = m.split + 3
	}
	width -= x
	y += 2
	in := m.instance()
	if m.node() != "" && m.tab != Signals {
		m.object(p, x, y, width, end)
		return
	}
	if in == nil && m.tab != Signals {
		m.plain(p, x, y, width, end)
		return
	}
	if m.tab == Object {
		told := "Its site knows no more of it than its instances."
		if len(m.nodes) > 0 {
			told = "Choose an object, or what belongs to one, in the tree."
		}
		p.Wrap(x, y, width, 2, kit.Dim, told)
		return
	}
	if m.tab != Signals {
		at := p.Put(x, y, kit.Text, in.ID)
		role := kit.RoleOf(toneOf(in))
		if in.Done {
			role = kit.Dim
		}
		word := string(in.Health.Word)
		if in.Done {
			word = "ran to its end"
		}
		p.Put(at+2, y, role, word)
		y++
		if in.Health.Reason != "" && !in.Done {
			y = p.Wrap(x, y, width, 2, kit.Bad, say.Sentence(in.Health.Reason))
		}
		if place := view.Place(in); place != "" && in.Memory > 0 {
			p.PutIn(x, y, width, kit.Dim, place)
			y++
		}
		y++
	}
	switch m.tab {
	case Events:
		m.events(p, x, y, width, end, in)
	case Log:
		m.lines(p, x, y, width, end, in)
	case Environment:
		m.environment(p, x, y, width, end, in)
	case Probes:
		m.probes(p, x, y, width, end, in)
	case Signals:
		m.signals(p, x, y, width, end)
	}
}

func toneOf(in *status.Instance) words.Tone {
	switch in.Health.Word {
	case health.Failing, health.Silent:
		return words.Bad
	case health.Starting:
		return words.Moves
	}
	return words.Good
}

// plain tells a part that has no instances: its fields as they are live.
func (m *Model) plain(p *kit.Page, x, y, width, end int) {
	r, ok := m.selected()
	if !ok || r.Part == nil {
		p.Put(x, y, kit.Dim, "It has no instances.")
		return
	}
	p.Put(x, y, kit.Text, r.Part.Name)
	y += 2
	write := func(name string, value any) {
		if y < end {
			p.PutIn(x, y, 22, kit.Dim, name)
			y = p.Wrap(x+24, y, width-24, 3, kit.Text, view.Value(value))
		}
	}
	for _, field := range []string{"artifact", "host", "service", "to", "size", "instances"} {
		if value, ok := r.Part.Live[field]; ok && !(field == "instances" && r.Kind != "service") {
			write(field, value)
		}
	}
	values, _ := r.Part.Live["values"].(map[string]any)
	for _, name := range sorted(values) {
		write(name, values[name])
	}
}

func (m *Model) events(p *kit.Page, x, y, width, end int, in *status.Instance) {
	if len(in.Events) == 0 {
		p.Put(x, y, kit.Dim, "The target tells no events.")
	}
	for i := len(in.Events) - 1; i >= 0 && y < end; i-- {
		e := in.Events[i]
		role := kit.Text
		if e.Bad {
			role = kit.Bad
		}
		p.Put(x, y, kit.Dim, e.At.Local().Format(time.TimeOnly))
		y = p.Wrap(x+10, y, width-10, 2, role, say.Capital(e.Text))
	}
}

// lines draws the log, the newest at the bottom.
func (m *Model) lines(p *kit.Page, x, y, width, end int, in *status.Instance) {
	state := "followed"
	if m.paused {
		state = "paused"
	}
	if m.filter != "" {
		state += fmt.Sprintf(", only lines with “%s”", m.filter)
	}
	p.PutIn(x, y, width, kit.Dim, state)
	y++
	switch {
	case m.logOf != in.ID:
		p.Put(x, y, kit.Dim, "is read")
		return
	case m.failed != "":
		p.Wrap(x, y, width, 3, kit.Bad, say.Sentence(m.failed))
		return
	}
	shown := m.log
	if m.filter != "" {
		shown = nil
		for _, line := range m.log {
			if strings.Contains(strings.ToLower(line.Text), strings.ToLower(m.filter)) {
				shown = append(shown, line)
			}
		}
	}
	if len(shown) == 0 {
		p.Put(x, y, kit.Dim, "No lines.")
		return
	}
	room := end - y
	m.back = min(m.back, max(0, len(shown)-room))
	to := len(shown) - m.back
	for _, line := range shown[max(0, to-room):to] {
		role := kit.Text
		if text := strings.ToLower(line.Text); strings.HasPrefix(text, "error") || strings.HasPrefix(text, "warn") {
			role = kit.New
		}
		p.Put(x, y, kit.Dim, line.At.Local().Format(time.TimeOnly))
		p.PutIn(x+10, y, width-10, role, line.Text)
		y++
	}
}

func (m *Model) environment(p *kit.Page, x, y, width, end int, in *status.Instance) {
	name := min(24, width/3)
	value := (width - name) / 2
	p.Put(x, y, kit.Dim, "VARIABLE")
	p.Put(x+name, y, kit.Dim, "the instance has")
	p.Put(x+name+value, y, kit.Dim, "declared")
	y++
	list := view.Environment(in, m.part(in))
	if len(list) == 0 {
		p.Put(x, y, kit.Dim, "None is declared, and it has none.")
	}
	for _, v := range list {
		if y >= end {
			return
		}
		role, declared := kit.Text, "·"
		if v.Note != "" {
			role, declared = kit.Bad, v.Declared
		}
		p.PutIn(x, y, name-2, kit.Text, v.Name)
		p.PutIn(x+name, y, value-2, role, v.Has)
		p.PutIn(x+name+value, y, value-2, kit.Dim, declared)
		y++
		if v.Note != "" && y < end {
			p.PutIn(x+2, y, width-2, kit.Bad, say.Capital(v.Note))
			y++
		}
	}
}

func (m *Model) probes(p *kit.Page, x, y, width, end int, in *status.Instance) {
	if len(in.Probes) == 0 {
		p.Wrap(x, y, width, 2, kit.Dim, "No probe is declared: the instance counts as healthy once it is there.")
	}
	for _, probe := range in.Probes {
		if y+2 > end {
			return
		}
		at := p.Put(x, y, kit.Text, probe.Name)
		p.Put(at+2, y, kit.Dim, probe.Asks)
		y++
		switch {
		case probe.At.IsZero():
			p.Put(x+2, y, kit.Dim, "not asked yet")
		case probe.Passed:
			p.Put(x+2, y, kit.Clear, fmt.Sprintf("passed %s, %d in a row", say.Ago(m.now.Sub(probe.At)), probe.Passes))
		default:
			p.PutIn(x+2, y, width-2, kit.Bad, fmt.Sprintf("failed %s, %d in a row: %s", say.Ago(m.now.Sub(probe.At)), probe.Fails, probe.Reason))
		}
		y += 2
	}
}

// signals are those of the whole berth: guards compare cohorts, not instances.
func (m *Model) signals(p *kit.Page, x, y, width, end int) {
	if len(m.berth.Verdicts) == 0 {
		p.Wrap(x, y, width, 2, kit.Dim, "Nothing is measured here now.")
		return
	}
	const value = 10
	name := width - 2*value - 14
	p.Put(x, y, kit.Dim, "GUARD")
	p.Right(x+name+value, y, kit.Dim, "old")
	p.Right(x+name+2*value, y, kit.Dim, "new")
	y++
	for _, v := range m.berth.Verdicts {
		if y >= end {
			return
		}
		p.PutIn(x, y, name, kit.Text, v.Guard+", "+v.Limit.String())
		if v.Old != nil {
			p.Right(x+name+value, y, kit.Old, v.Limit.Unit.Format(v.Old.Value))
		}
		if v.New != nil {
			p.Right(x+name+2*value, y, kit.New, v.Limit.Unit.Format(v.New.Value))
		}
		p.PutIn(x+name+2*value+2, y, 12, kit.RoleOf(words.VerdictTone(v)), words.VerdictWord(v))
		y++
	}
}

// object tells all that the site knows of a node: how it is doing, what differs, what its controllers say, what happened, and the
// object itself.
func (m *Model) object(p *kit.Page, x, y, width, end int) {
	r, _ := m.selected()
	at := p.Put(x, y, kit.Text, r.Name)
	p.PutIn(at+2, y, width-(at+2-x), kit.Dim, r.Kind)
	y++
	role := kit.Dim
	if r.Tone != words.Quiet {
		role = kit.RoleOf(r.Tone)
	}
	told := r.Words
	if r.Why != "" {
		told += ": " + r.Why
	}
	y = p.Wrap(x, y, width, 3, role, say.Capital(told))
	y++
	switch {
	case m.sheet.ID != r.Node.ID:
		p.Put(x, y, kit.Dim, "is read")
		return
	case m.noPage != "":
		p.Wrap(x, y, width, 3, kit.Bad, say.Sentence(m.noPage))
		return
	}
	var page kit.Lines
	for _, d := range m.sheet.Differences {
		page.Add(kit.Bad, say.Capital(d.String()))
	}
	if m.sheet.Memory > 0 {
		page.Add(kit.Text, "Uses "+view.Uses(m.sheet.Cores, m.sheet.Memory))
	}
	for _, h := range m.sheet.Others {
		text := strings.Join(h.Fields, ", ")
		if h.More > 0 {
			text += fmt.Sprintf(" and %d more", h.More)
		}
		page.Add(kit.Dim, h.Owner+" looks after "+text)
	}
	for _, c := range m.sheet.Conditions {
		text := fmt.Sprintf("%s is %s", c.Type, strings.ToLower(c.Status))
		if !c.Since.IsZero() {
			text += " since " + c.Since.Local().Format(time.TimeOnly)
		}
		if why := cmp.Or(c.Message, c.Reason); why != "" {
			text += ": " + why
		}
		page.Add(kit.Text, text)
	}
	page.Gap()
	for _, e := range slices.Backward(m.sheet.Events) {
		role := kit.Text
		if e.Bad {
			role = kit.Bad
		}
		page.Add(role, e.At.Local().Format(time.TimeOnly)+"  "+e.Text)
	}
	page.Gap()
	if m.sheet.Declared != "" {
		page.Add(kit.Dim, "declared")
		page.AddAll(kit.Text, m.sheet.Declared)
		page.Gap()
	}
	page.Add(kit.Dim, "live")
	page.AddAll(kit.Text, m.sheet.Live)
	m.back = page.Draw(p, x, y, width, end, m.back)
}

func sorted(m map[string]any) []string { return slices.Sorted(maps.Keys(m)) }
