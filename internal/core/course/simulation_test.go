package course

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"testing"
	"time"

	"aditus/internal/core/calendar"
	"aditus/internal/core/declare"
)

// weekly is a window of the simulation that can be told without any rule: on some days of the week, by the clock of a zone.
type weekly struct {
	days          [7]bool
	from, minutes int // of the day
}

// world is a made-up line with what happens in it.
type world struct {
	*rand.Rand
	line    declare.Line
	rules   *Rules
	weekly  map[string]weekly        // by the window's name
	freezes map[string]calendar.Span // by name
	zone    *time.Location
	takes   time.Duration
	sites   []string
	now     time.Time
	real    time.Time // which the clock may be set apart from
	berths  map[string]*made
	author  string
	kind    bool      // people do what they are asked
	next    time.Time // when something is due
}

// made is the workload at a site.
type made struct {
	Berth
	Offer *Offer
	began time.Time
	bad   bool
}

var people = []string{"Edda Marsh", "Joren Falk", "Ilse Varga", "Maren Oake"}

func newWorld(seed uint64, t *testing.T) *world {
	w := &world{Rand: rand.New(rand.NewPCG(seed, 5)), weekly: map[string]weekly{}, freezes: map[string]calendar.Span{}, berths: map[string]*made{}, now: time.Date(2026, time.Month(1+seed%12), 1+int(seed%28), 7, 0, 0, 0, time.UTC)}
	w.real = w.now
	w.takes = time.Duration(1+w.IntN(120)) * time.Minute
	name := []string{"UTC", "Europe/Oslo", "America/St_Johns", "Australia/Lord_Howe"}[w.IntN(4)]
	w.zone, _ = time.LoadLocation(name)
	w.line.Roles = map[string][]string{"leads": people[:2], "crew": people[2:]}
	c := declare.Course{Name: "line", On: true}
	for i := range 2 + w.IntN(4) {
		s := declare.Step{Back: []declare.Back{declare.BackStops, declare.BackGoesOn, declare.BackAll}[w.IntN(3)]}
		for j := range 1 + w.IntN(3) {
			site := fmt.Sprintf("s%d%d", i, j)
			s.Sites, w.sites = append(s.Sites, site), append(w.sites, site)
		}
		if i > 0 {
			s.After, s.Any = slices.Clone(c.Steps[w.IntN(i)].Sites), w.IntN(2) == 0
			if w.IntN(2) == 0 {
				s.For = declare.Span{Duration: time.Duration(w.IntN(30)) * time.Hour}
			}
		}
		if w.IntN(3) == 0 {
			s.SignOff = &declare.SignOff{By: []string{"leads"}, Count: 1, Others: true}
		}
		if w.IntN(3) == 0 {
			s.Consent = &declare.Consent{By: []string{"crew"}, Notice: declare.Span{Duration: 2 * time.Hour}}
			if w.IntN(2) == 0 {
				s.Consent.LastDay = declare.Span{Duration: time.Duration(1+w.IntN(72)) * time.Hour}
			}
		}
		if w.IntN(3) == 0 {
			s.AtOnce = 1 + w.IntN(2)
		}
		c.Steps = append(c.Steps, s)
	}
	w.line.Courses = []declare.Course{c}
	for i := range w.IntN(3) {
		k := weekly{from: w.IntN(24 * 60), minutes: int(w.takes.Minutes()) + 1 + w.IntN(400)}
		days := ""
		for d, text := range []string{"SU", "MO", "TU", "WE", "TH", "FR", "SA"} {
			if k.days[d] = w.IntN(2) == 0 || d == i; k.days[d] {
				days += "," + text
			}
		}
		window := declare.Window{Name: fmt.Sprint("window ", i), Times: calendar.Times{Zone: name, Starts: fmt.Sprintf("2025-12-01T%02d:%02d", k.from/60, k.from%60), Rule: "FREQ=WEEKLY;BYDAY=" + days[1:], Lasts: fmt.Sprintf("%dm", k.minutes)}}
		if i == 1 {
			window.Sites = []string{"s1*"}
		}
		w.line.Windows, w.weekly[window.Name] = append(w.line.Windows, window), k
	}
	if w.IntN(2) == 0 {
		from := w.now.Add(time.Duration(w.IntN(200)) * time.Hour).In(w.zone).Truncate(time.Minute)
		until := from.Add(time.Duration(1+w.IntN(100)) * time.Hour)
		w.freezes["freeze"] = calendar.Span{From: from, Until: until}
		w.line.Freezes = []declare.Window{{Name: "freeze", Times: calendar.Times{From: from.UTC().Format("2006-01-02T15:04"), Until: until.UTC().Format("2006-01-02T15:04")}}}
	}
	for _, site := range w.sites {
		if w.IntN(8) > 0 || site == "s00" {
			w.berths[site] = &made{}
		}
	}
	w.restart(t)
	return w
}

// restart reads the rules anew, from what was written of them.
func (w *world) restart(t *testing.T) {
	text, err := json.Marshal(w.line)
	if err == nil {
		var line declare.Line
		if err = json.Unmarshal(text, &line); err == nil {
			w.rules, err = New(line, w.now)
		}
	}
	if err != nil {
		t.Fatal(err)
	}
}

// release declares a new revision everywhere.
func (w *world) release() {
	w.author = people[w.IntN(len(people))]
	for site := range w.berths {
		w.berths[site] = &made{Berth: Berth{Declared: true}, bad: w.IntN(12) == 0 && !w.kind}
	}
}

func (w *world) query(site string) Query {
	b := w.berths[site]
	q := Query{Now: w.now, Workload: "boarding", Site: site, Author: w.author, Takes: w.takes, Here: b.Berth, Offer: b.Offer, Elsewhere: map[string]Berth{}}
	for other, b := range w.berths {
		if other != site {
			q.Elsewhere[other] = b.Berth
		}
	}
	return q
}

// step lets some time pass, and everybody act.
func (w *world) step() error {
	passed := time.Duration(1+w.IntN(90)) * time.Minute
	if w.kind {
		if passed *= 3; w.next.After(w.now) {
			passed = min(passed, w.next.Sub(w.now)) // people look when something is due
		}
		w.next = time.Time{}
	}
	if w.IntN(200) == 0 && !w.kind {
		passed = time.Duration(w.IntN(200)) * time.Hour // nothing ran meanwhile
	}
	w.real = w.real.Add(passed)
	w.now = w.now.Add(passed)
	if w.IntN(300) == 0 && !w.kind {
		w.now = w.now.Add(-time.Duration(w.IntN(120)) * time.Minute) // the clock was set
	}
	for _, site := range w.sites {
		b := w.berths[site]
		if b == nil || !b.Declared {
			continue
		}
		if b.Rolling && w.now.Sub(b.began) >= w.takes {
			if b.Rolling = false; b.bad {
				b.Turned, b.Has = "it was bad", false
			} else {
				b.Proven = w.now
			}
		}
		if why := w.rules.GoesBack(w.query(site)); why != "" {
			b.Rolling, b.Has, b.Turned, b.Proven = false, false, why, time.Time{}
		}
		if b.Has || b.Turned != "" {
			continue
		}
		w.persons(site, b)
		q := w.query(site)
		if w.rules.Announces(q) {
			b.Offer.Announce, q.Offer.Announce = w.now, w.now
		}
		answer := w.rules.Judge(q)
		if answer.Offer && b.Offer == nil {
			b.Offer = &Offer{Since: w.now}
		}
		if w.next = earliest(w.next, answer.Until); answer.May() {
			if err := w.may(site, b); err != nil {
				return err
			}
			b.Rolling, b.Has, b.began = true, true, w.now
		}
	}
	return nil
}

// persons do what they like.
func (w *world) persons(site string, b *made) {
	if w.kind || w.IntN(20) == 0 {
		b.Signs = append(b.Signs, Sign{By: people[w.IntN(len(people))], At: w.now})
	}
	if b.Offer == nil || b.Offer.Answer == Takes {
		return
	}
	switch {
	case w.kind:
		b.Offer.Answer, b.Offer.By = Takes, people[2]
	case w.IntN(30) == 0:
		b.Offer.Answer, b.Offer.By, b.Offer.Until = PutsOff, people[3], w.now.Add(time.Duration(w.IntN(20))*time.Hour)
	case w.IntN(40) == 0:
		b.Offer.Answer, b.Offer.By = Takes, people[2]
	}
}

// may holds a beginning against the line, in other words than the rules have for it.
func (w *world) may(site string, b *made) error {
	c := w.line.Courses[0]
	i := slices.IndexFunc(c.Steps, func(s declare.Step) bool { return slices.Contains(s.Sites, site) })
	s := c.Steps[i]
	for name, freeze := range w.freezes {
		if w.now.Before(freeze.Until) && w.now.Add(w.takes).After(freeze.From) {
			return fmt.Errorf("%s begins in %s", site, name)
		}
	}
	for _, k := range w.line.Windows {
		if len(k.Sites) > 0 && site[:2] != "s1" {
			continue
		}
		if !w.open(w.weekly[k.Name]) {
			return fmt.Errorf("%s begins outside of %s", site, k.Name)
		}
	}
	counted, has := 0, 0
	sites := w.waited(c, s)
	for _, other := range sites {
		counted++
		if o := w.berths[other]; o.Has && !o.Rolling && o.Turned == "" && !w.now.Before(o.Proven.Add(s.For.Duration)) {
			has++
		}
	}
	if counted > 0 && (s.Any && has == 0 || !s.Any && has < counted) {
		return fmt.Errorf("%s begins with %d of %d proven before it", site, has, counted)
	}
	if s.SignOff != nil {
		signed := false
		for _, other := range s.Sites {
			if o := w.berths[other]; o != nil {
				signed = signed || slices.ContainsFunc(o.Signs, func(x Sign) bool { return slices.Contains(people[:2], x.By) && x.By != w.author })
			}
		}
		if !signed {
			return fmt.Errorf("%s begins without a sign-off", site)
		}
	}
	if s.Consent != nil {
		o := b.Offer
		due := o != nil && s.Consent.LastDay.Duration > 0 && w.now.Sub(o.Since) >= s.Consent.LastDay.Duration && !o.Announce.IsZero() && w.now.Sub(o.Announce) >= s.Consent.Notice.Duration
		if o == nil || o.Answer != Takes && !due {
			return fmt.Errorf("%s begins without its team's consent: %+v", site, o)
		}
	}
	rolling := 0
	for _, other := range s.Sites {
		o := w.berths[other]
		if o != nil && other != site && o.Rolling {
			rolling++
		}
		if o != nil && o.Turned != "" && s.Back != declare.BackGoesOn {
			return fmt.Errorf("%s begins though %s was rolled back", site, other)
		}
	}
	if s.AtOnce > 0 && rolling >= s.AtOnce {
		return fmt.Errorf("%s begins beside %d others", site, rolling)
	}
	return nil
}

// waited are the sites that a step waits for, where a site without the workload is what that one waits for.
func (w *world) waited(c declare.Course, s declare.Step) (sites []string) {
	for _, other := range s.After {
		if w.berths[other] != nil {
			sites = append(sites, other)
			continue
		}
		for _, above := range c.Steps {
			if slices.Contains(above.Sites, other) {
				sites = append(sites, w.waited(c, above)...)
			}
		}
	}
	return sites
}

// open tells whether a window is open until a rollout that begins now ends, minute by minute.
func (w *world) open(k weekly) bool {
	for at := w.now; at.Before(w.now.Add(w.takes)); at = at.Add(time.Minute) {
		in := false
		for back := range 4 {
			day := at.In(w.zone).AddDate(0, 0, -back)
			from := time.Date(day.Year(), day.Month(), day.Day(), k.from/60, k.from%60, 0, 0, w.zone)
			if k.days[day.Weekday()] && !at.Before(from) && at.Before(from.Add(time.Duration(k.minutes)*time.Minute)) {
				in = true
			}
		}
		if !in {
			return false
		}
	}
	return true
}

// seeds is how many worlds are played; ADITUS_SEEDS asks for more.
func seeds() int {
	if n, err := strconv.Atoi(os.Getenv("ADITUS_SEEDS")); err == nil {
		return n
	}
	return 100
}

// TestSimulation plays made-up weeks of made-up lines: nothing begins that the line does not allow, and with obliging people all
// that may come does, or says why not.
func TestSimulation(t *testing.T) {
	begun := 0
	for seed := range uint64(seeds()) {
		w := newWorld(seed, t)
		w.release()
		for i := range 250 {
			if w.IntN(100) == 0 {
				w.release()
			}
			if w.IntN(50) == 0 {
				w.restart(t)
			}
			if err := w.step(); err != nil {
				t.Fatalf("seed %d, step %d, %s: %v", seed, i, w.now, err)
			}
		}
		w.kind = true
		w.now = w.real
		w.release()
		for range 600 {
			if err := w.step(); err != nil {
				t.Fatalf("seed %d, with obliging people, %s: %v", seed, w.now, err)
			}
		}
		for site, b := range w.berths {
			if b.Has && !b.Proven.IsZero() {
				begun++
				continue
			}
			answer := w.rules.Judge(w.query(site))
			for range 5 { // what opens only once the clocks change does then
				if answer.Kind != Window || !answer.Until.After(w.now) {
					break
				}
				w.now = answer.Until
				answer = w.rules.Judge(w.query(site))
			}
			if _, ever := w.rules.Opens(w.now, "boarding", site, w.takes); !answer.May() && answer.Kind != Before && (ever || answer.Kind != Window) {
				t.Fatalf("seed %d: %s never has it, though nobody keeps it waiting: %q", seed, site, answer.Why)
			}
		}
	}
	if begun < seeds() {
		t.Errorf("only %d of %d lines saw a revision", begun, seeds())
	}
}

// TestTurns has schedules of made-up lines come through years of running, outages and clocks that are set: each has its turn once, in
// order, at a time at which it comes, and none that is over is forgotten; a life that is extended ends no earlier.
func TestTurns(t *testing.T) {
	crons := []string{"0 2 * * *", "30 1 * * *", "*/15 * * * *", "0 22 * * 1-5", "0 0 29 2 *", "15 6,18 * * *", "0 3 1 */3 *", "@daily", "@hourly", "5 0 * * 0"}
	zones := []string{"", "Atlantic/Faroe", "Australia/Lord_Howe", "America/St_Johns", "Pacific/Apia"}
	for seed := range seeds() {
		chance := rand.New(rand.NewPCG(uint64(seed), 23))
		line := declare.Line{}
		for i := range 1 + chance.IntN(5) {
			s := declare.Schedule{Name: fmt.Sprint("schedule ", i), Do: declare.ActPreview, Cron: crons[chance.IntN(len(crons))], Zone: zones[chance.IntN(len(zones))]}
			if chance.IntN(5) == 0 {
				s.Cron, s.Zone, s.At = "", "", time.Date(2026, time.Month(1+chance.IntN(12)), 1+chance.IntN(28), chance.IntN(24), 0, 0, 0, time.UTC).Format(time.RFC3339)
			}
			line.Schedules = append(line.Schedules, s)
		}
		now := time.Date(2026, 1, 1+chance.IntN(300), chance.IntN(24), chance.IntN(60), 0, 0, time.UTC)
		r, err := New(line, now)
		if err != nil {
			t.Fatal(err)
		}
		had := map[string]time.Time{}
		for _, name := range r.Scheduled("fares", "north") {
			had[name] = now
		}
		for range 60 {
			switch chance.IntN(8) {
			case 0: // nothing runs for a while
				now = now.Add(time.Duration(chance.IntN(40*24)) * time.Hour)
			case 1: // the clock is set back
				now = now.Add(-time.Duration(chance.IntN(26*60)) * time.Minute)
			default: // the program is there, and looks when it said that it would
				if next, comes := r.Next("fares", "north", had, now); comes && next.After(now) && next.Sub(now) < 40*24*time.Hour {
					now = next
				} else {
					now = now.Add(time.Hour)
				}
			}
			for _, due := range r.Due("fares", "north", had, now) {
				ticks, err := calendar.NewTicks(due.Cron, due.Zone, due.Schedule.At)
				if err != nil {
					t.Fatal(err)
				}
				at, comes := ticks.After(due.At.Add(-time.Second))
				switch {
				case !due.At.After(had[due.Name]) || due.At.After(now):
					t.Fatalf("seed %d: %s has its turn of %s at %s, after the one of %s", seed, due.Name, due.At, now, had[due.Name])
				case !comes || !at.Equal(due.At):
					t.Fatalf("seed %d: %s does not come at %s", seed, due.Name, due.At)
				case !due.Missed && now.Sub(due.At) > Grace:
					t.Fatalf("seed %d: %s of %s is done at %s, and not told as missed", seed, due.Name, due.At, now)
				}
				had[due.Name] = due.At
				if after, comes := ticks.After(due.At); comes && !after.After(now) {
					t.Fatalf("seed %d: %s came at %s too, before %s", seed, due.Name, after, now)
				}
			}
		}
	}
}
