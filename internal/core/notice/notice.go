// Package notice says who is told of what that happens, and how: which facts a rule is for, what is told together, when, and what came to
// need a person or does not any more.
package notice

import (
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"aditus/internal/core/calendar"
	"aditus/internal/core/declare"
	"aditus/internal/core/say"
)

// Item is one fact, as far as it is told.
type Item struct {
	Seq            int64     `json:"seq"`
	At             time.Time `json:"at"`
	Workload, Site string
	Kind           string
	By             string
	Revision       declare.Fingerprint
	Text           string
}

// Rule is what of all that happens is told to somebody, and when. Make it with New.
type Rule struct {
	declare.Notice
	line  *declare.Line
	ticks *calendar.Ticks
	quiet calendar.Recurrence
}

// New makes a rule of what is declared, for some years around a moment. The line says whose sites are a team's; it may be nil.
func New(n declare.Notice, line *declare.Line, around time.Time) (*Rule, error) {
	r := &Rule{Notice: n, line: line}
	if line == nil {
		r.line = &declare.Line{}
	}
	if len(r.About) == 0 {
		r.About = []string{Needs}
	}
	for _, p := range r.About {
		if _, err := path.Match(p, ""); err != nil {
			return nil, fmt.Errorf("about: %q is no kind of fact, and no pattern of some", p)
		}
	}
	if n.Digest != "" {
		ticks, err := calendar.NewTicks(n.Digest, n.Zone, "")
		if err != nil {
			return nil, fmt.Errorf("digest: %w", err)
		}
		r.ticks = &ticks
	}
	if n.Quiet != nil {
		quiet := *n.Quiet
		if quiet.Zone == "" {
			quiet.Zone = n.Zone
		}
		var err error
		if r.quiet, err = calendar.New(quiet, around); err != nil {
			return nil, fmt.Errorf("quiet: %w", err)
		}
	}
	return r, nil
}

// Needs is the kind of facts that something needs a person, and SeenTo that it does not any more. A rule about the one is about both.
const (
	Needs  = "needs"
	SeenTo = "seen to"
)

// Tells tells whether a rule is for a fact.
func (r *Rule) Tells(i Item) bool {
	kind := i.Kind
	if kind == SeenTo {
		kind = Needs
	}
	if !slices.ContainsFunc(r.About, func(p string) bool { fits, _ := path.Match(p, kind); return fits || p == i.Kind }) {
		return false
	}
	if i.Workload == "" {
		return r.Selector.None()
	}
	return r.line.Selects(&r.Selector, i.Workload, i.Site)
}

// Due is when what came by a moment is told: at once, when it is not quiet any more, or with the next digest. digest tells that it is told
// in one.
func (r *Rule) Due(came time.Time) (at time.Time, digest bool) {
	at = came
	if r.ticks != nil {
		next, ok := r.ticks.After(came)
		if !ok {
			return came, false
		}
		at, digest = next, true
	}
	if span, quiet := r.quiet.At(at); quiet {
		return span.Until, true
	}
	return at, digest
}

// Message is what is told at once.
type Message struct {
	ID      string   `json:"id"` // the same for the same, however often it is told
	Subject string   `json:"subject"`
	Lines   []string `json:"lines"`
	Items   []Item   `json:"-"`
}

// Text is all of a message.
func (m Message) Text() string { return m.Subject + "\n" + strings.Join(m.Lines, "\n") }

// Group puts together what has one cause: what came of one revision, at whatever sites, and otherwise what is of one kind. Messages come in
// the order of the first of each, and in each its items in theirs.
func Group(items []Item) []Message {
	var order []string
	groups := map[string][]Item{}
	for _, i := range items {
		cause := "kind " + i.Kind
		switch {
		case i.Revision != "":
			cause = "revision " + i.Workload + " " + string(i.Revision)
		case i.Workload != "":
			cause = "workload " + i.Workload + " " + i.Kind
		}
		if groups[cause] == nil {
			order = append(order, cause)
		}
		groups[cause] = append(groups[cause], i)
	}
	var all []Message
	for _, cause := range order {
		all = append(all, Of(groups[cause]))
	}
	return all
}

// mostLines is how many lines a message has; of more it says how many.
const mostLines = 40

// Of makes one message of some items.
func Of(items []Item) Message {
	m := Message{ID: idOf(items[0], items[len(items)-1]), Items: items}
	var kinds, sites []string
	add := func(to *[]string, one string) {
		if one != "" && !slices.Contains(*to, one) {
			*to = append(*to, one)
		}
	}
	workload, mixed := items[0].Workload, false
	for _, i := range items {
		add(&kinds, phrase(i.Kind))
		add(&sites, i.Site)
		mixed = mixed || i.Workload != workload
	}
	what := strings.Join(kinds[:min(len(kinds), 4)], ", ")
	switch {
	case mixed:
		m.Subject = say.Count(len(items), "notice") + ": " + what
	case workload == "":
		m.Subject = what
	case len(sites) > 3:
		m.Subject = fmt.Sprintf("%s at %d sites: %s", workload, len(sites), what)
	default:
		m.Subject = fmt.Sprintf("%s at %s: %s", workload, say.List(sites), what)
	}
	for n, i := range items {
		if n == mostLines {
			m.Lines = append(m.Lines, fmt.Sprintf("and %d more", len(items)-n))
			break
		}
		m.Lines = append(m.Lines, line(i))
	}
	return m
}

// idOf names what is told by the first and the last of it.
func idOf(first, last Item) string {
	if first.Seq == last.Seq {
		return fmt.Sprint(first.Seq)
	}
	return fmt.Sprintf("%d-%d", first.Seq, last.Seq)
}

// phrase is how a kind is said.
func phrase(kind string) string {
	if kind == Needs {
		return "needs you"
	}
	return kind
}

func line(i Item) string {
	where := ""
	if i.Workload != "" {
		where = i.Workload + " at " + i.Site + ": "
	}
	return i.At.UTC().Format("15:04:05 UTC") + "  " + where + i.Text
}

// Tally is what a digest is made of: what there was of each kind, and the first lines. It stays small, however much there was.
type Tally struct {
	First, Last Item
	Kinds       map[string]int
	Count       int
	lines       []string
}

// Add takes one more item.
func (t *Tally) Add(i Item) {
	if t.Count == 0 {
		t.First, t.Kinds = i, map[string]int{}
	}
	t.Last = i
	t.Count++
	t.Kinds[i.Kind]++
	if len(t.lines) < mostLines {
		t.lines = append(t.lines, line(i))
	}
}

// Message is the digest of what was taken.
func (t *Tally) Message() Message {
	var kinds []string
	for _, kind := range slices.Sorted(maps.Keys(t.Kinds)) {
		kinds = append(kinds, fmt.Sprintf("%d %s", t.Kinds[kind], phrase(kind)))
	}
	m := Message{ID: idOf(t.First, t.Last), Items: []Item{t.First, t.Last}, Lines: t.lines}
	m.Subject = fmt.Sprintf("%s to %s: %s", say.Moment(t.First.At), say.Moment(t.Last.At), say.List(kinds))
	if more := t.Count - len(t.lines); more > 0 {
		m.Lines = append(slices.Clone(t.lines), fmt.Sprintf("and %d more", more))
	}
	return m
}

// How long is waited between two tries to tell the same.
const (
	firstWait   = time.Second
	longestWait = 10 * time.Minute
)

// Wait is how long is waited after so many tries that failed.
func Wait(tries int) time.Duration {
	wait := firstWait
	for range tries - 1 {
		if wait *= 2; wait >= longestWait {
			return longestWait
		}
	}
	return wait
}

// For how long it is tried to tell the same: where it was not to be had, and where whoever is told says that it is not right.
const (
	TriedFor   = 24 * time.Hour
	RefusedFor = 10 * time.Minute
)
