// Package course tells whether a revision may come to a site now, by the rules of its line: the course that its workload takes
// through the sites, sign-offs and consent, windows and freezes. It decides, and does nothing.
package course

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"aditus/internal/core/calendar"
	"aditus/internal/core/declare"
	"aditus/internal/core/say"
)

// Rules are a line's rules, ready to be asked. They are not changed, and safe for concurrent use.
type Rules struct {
	declare.Line
	windows, freezes []window
	schedules        []schedule
	ends             []end
}

type window struct {
	declare.Window
	times calendar.Recurrence
}

// New makes rules of what a line declares, for some years around a moment.
func New(l declare.Line, around time.Time) (*Rules, error) {
	r := &Rules{Line: l}
	for _, kind := range []struct {
		from []declare.Window
		to   *[]window
	}{{l.Windows, &r.windows}, {l.Freezes, &r.freezes}} {
		for _, w := range kind.from {
			times, err := calendar.New(w.Times, around)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", w.Name, err)
			}
			*kind.to = append(*kind.to, window{w, times})
		}
	}
	if err := r.agenda(); err != nil {
		return nil, err
	}
	return r, nil
}

// Query is what is asked: whether what is declared for a workload at a site may come there now.
type Query struct {
	Now            time.Time
	Workload, Site string
	Author         string        // as the commit claims
	Signed         string        // who vouches for it; empty for nobody
	Takes          time.Duration // its rollout takes at least
	Here           Berth
	Elsewhere      map[string]Berth // the workload at other sites
	Offer          *Offer           // nil where none was made
	Follows        bool             // another branch for a while, which waits for no course, but for windows
	Train          []Rider          // the others that ride with it, at this site
	By             string           // who asks for it by hand; empty where nobody does
	Scheduled      bool             // a schedule brings it, also where it comes by hand otherwise
	Override       string           // why whoever asks for it passes over what is in the way; empty where they do not
}

// Berth is a workload at one site, as far as a course cares.
type Berth struct {
	Declared bool      // by what all sites follow
	Proven   time.Time // since when what is declared there is applied and proven; zero where it is not
	Rolling  bool      // it is coming in
	Turned   string    // why it was rolled back there; empty where it was not
	Has      bool      // it is applied, or coming in
	Signs    []Sign    // given there for what is declared
}

// Sign is somebody's go-ahead.
type Sign struct {
	By   string    `json:"by"`
	At   time.Time `json:"at"`
	Note string    `json:"note,omitempty"`
}

// Offer is a revision that a site's team may take, and what it said.
type Offer struct {
	Since    time.Time `json:"since"`
	By       string    `json:"by,omitempty"`     // who answered
	Answer   Answered  `json:"answer,omitempty"` // empty where nobody has yet
	At       time.Time `json:"at,omitzero"`
	Why      string    `json:"why,omitempty"`
	Until    time.Time `json:"until,omitzero"`    // put off until then
	Announce time.Time `json:"announce,omitzero"` // when it was announced that it is taken without an answer
}

// Answered is what a team said to an offer.
type Answered string

const (
	Takes    Answered = "takes"
	PutsOff  Answered = "puts off"
	Declines Answered = "declines"
)

// Rider is another workload of a train.
type Rider struct {
	Workload string
	Pending  bool   // a revision of it is to come here too
	Waits    string // why that may not come yet; empty where it may
	Turned   string // why it was rolled back here, where it was
}

// Kind is what is in the way.
type Kind string

// What may be in the way of a revision.
const (
	Free    Kind = ""         // nothing
	Hand    Kind = "by hand"  // a person is to sync
	Stopped Kind = "stopped"  // it was rolled back at a site of the same step
	Before  Kind = "before"   // a site before is to prove it
	Soak    Kind = "soak"     // it is to be proven there for longer
	Others  Kind = "others"   // as many sites as may take it now
	Signing Kind = "sign-off" // somebody's go-ahead is missing
	Consent Kind = "consent"  // the site's team is to say
	Window  Kind = "window"   // nothing may move now
	Train   Kind = "train"    // another workload that rides with it
)

// Answer is whether it may come, and what is in the way otherwise.
type Answer struct {
	Kind  Kind
	Why   string    // in words; empty where it may come
	Who   []string  // whose turn it is: names and roles
	Until time.Time // when that ends by itself at the earliest; zero where that is not known
	Offer bool      // all but the team's consent is there: it is to be offered, where it was not yet
	Over  string    // what was passed over, where somebody did
}

// May tells whether it may come.
func (a Answer) May() bool { return a.Kind == Free }

// Judge answers a query.
func (r *Rules) Judge(q Query) Answer {
	passes := func(who []string) bool { return q.By != "" && q.Override != "" && r.Plays(q.By, who) }
	c := r.CourseOf(q.Workload)
	var answer Answer
	switch {
	case q.Follows:
	case c == nil:
		answer = Answer{Kind: Hand, Why: "no course of the line is for it, so that it comes by hand"}
		if q.By != "" || q.Scheduled {
			answer = Answer{}
		}
	default:
		answer = r.onCourse(c, q)
	}
	over := ""
	if !answer.May() && c != nil && passes(c.Override) {
		answer, over = Answer{}, answer.Why
	}
	if !answer.May() {
		return answer
	}
	times := r.Open(q.Now, q.Workload, q.Site, q.Takes)
	if !times.May() && passes(r.mayPass(q.Now, q.Workload, q.Site, q.Takes)) {
		times, over = Answer{}, strings.TrimPrefix(over+"; "+times.Why, "; ")
	}
	times.Over = over
	return times
}

// onCourse answers by a course alone.
func (r *Rules) onCourse(c *declare.Course, q Query) Answer {
	step := c.StepOf(q.Site)
	if step == nil || step.Off || !c.On {
		return r.byHand(c, step, q)
	}
	if step.Back != declare.BackGoesOn {
		for _, site := range step.Sites {
			if other := q.Elsewhere[site]; other.Declared && other.Turned != "" && site != q.Site {
				return Answer{Kind: Stopped, Why: fmt.Sprintf("stopped: it was rolled back at %s, a site of the same step: %s", site, other.Turned)}
			}
		}
	}
	if q.By == "" {
		if a := r.proven(c, step, q); !a.May() {
			return a
		}
	}
	if a := r.signed(step, q); !a.May() {
		return a
	}
	for _, other := range q.Train {
		if name, _ := r.TrainOf(q.Workload); other.Turned != "" {
			return Answer{Kind: Stopped, Why: fmt.Sprintf("stopped: %s, which rides in the train %s with it, was rolled back: %s", other.Workload, name, other.Turned)}
		}
	}
	if q.By == "" {
		for _, other := range q.Train {
			if other.Pending && other.Waits != "" {
				name, _ := r.TrainOf(q.Workload)
				return Answer{Kind: Train, Why: fmt.Sprintf("waits for %s, which rides in the train %s with it: that %s", other.Workload, name, other.Waits)}
			}
		}
	}
	if a := r.agreed(step, q); !a.May() {
		return a
	}
	if step.AtOnce > 0 && q.By == "" {
		var rolling []string
		for _, site := range step.Sites {
			if site != q.Site && q.Elsewhere[site].Rolling {
				rolling = append(rolling, site)
			}
		}
		if len(rolling) >= step.AtOnce {
			return Answer{Kind: Others, Why: fmt.Sprintf("waits until %s has it: %s", say.List(rolling), atOnce(step.AtOnce))}
		}
	}
	return Answer{}
}

func atOnce(n int) string {
	if n == 1 {
		return "one site of its step takes it at a time"
	}
	return fmt.Sprintf("%d sites of its step take it at a time", n)
}

// byHand is for a site that no step has, or whose step or course is off: a person syncs.
func (r *Rules) byHand(c *declare.Course, step *declare.Step, q Query) Answer {
	switch {
	case (q.By != "" || q.Scheduled) && step != nil:
		return r.signed(step, q)
	case q.By != "" || q.Scheduled:
		return Answer{}
	case step == nil:
		return Answer{Kind: Hand, Why: fmt.Sprintf("no step of the course %s has %s, so that it comes by hand", c.Name, q.Site)}
	case step.Off:
		return Answer{Kind: Hand, Why: fmt.Sprintf("%s is off in the course %s, so that it comes by hand", q.Site, c.Name)}
	}
	return Answer{Kind: Hand, Why: fmt.Sprintf("the course %s is off, so that it comes by hand", c.Name)}
}

// before are the sites whose proof a step waits for, as far as the workload is there: where it is not, those before that one are.
func before(c *declare.Course, step *declare.Step, q Query) (sites []string) {
	for _, site := range step.After {
		switch above := c.StepOf(site); {
		case q.Elsewhere[site].Declared:
			sites = append(sites, site)
		case above != nil:
			for _, more := range before(c, above, q) {
				if !slices.Contains(sites, more) {
					sites = append(sites, more)
				}
			}
		}
	}
	return sites
}

// proven tells whether the sites before have proven it, and for long enough.
func (r *Rules) proven(c *declare.Course, step *declare.Step, q Query) Answer {
	sites := before(c, step, q)
	if len(sites) == 0 {
		return Answer{}
	}
	var lacking []string
	var since time.Time // when the proof that counts came
	for _, site := range sites {
		at := q.Elsewhere[site].Proven
		switch {
		case at.IsZero():
			lacking = append(lacking, site)
		case since.IsZero(), step.Any && at.Before(since), !step.Any && at.After(since):
			since = at
		}
	}
	switch {
	case step.Any && len(lacking) == len(sites) && len(sites) > 1:
		return Answer{Kind: Before, Why: fmt.Sprintf("waits until one of %s has proven it", say.List(lacking))}
	case len(lacking) > 0 && (!step.Any || len(sites) == 1):
		have := "has"
		if len(lacking) > 1 {
			have = "have"
		}
		return Answer{Kind: Before, Why: fmt.Sprintf("waits until %s %s proven it", say.List(lacking), have)}
	}
	if due := since.Add(step.For.Duration); q.Now.Before(due) {
		return Answer{Kind: Soak, Why: fmt.Sprintf("waits until it is proven at %s for %s, in %s", say.List(sites), say.Span(step.For.Duration), say.Span(due.Sub(q.Now))), Until: due}
	}
	return Answer{}
}

// Signers are those whose go-ahead counts towards a step's sign-off, of all its sites, each once.
func (r *Rules) Signers(step *declare.Step, q Query) (signers []string) {
	if step.SignOff == nil {
		return nil
	}
	signs := slices.Clone(q.Here.Signs)
	for _, site := range step.Sites {
		if site != q.Site {
			signs = append(signs, q.Elsewhere[site].Signs...)
		}
	}
	for _, s := range signs {
		own := (step.SignOff.Others || r.TwoPersons) && (s.By == q.Author || s.By == q.Signed)
		if r.Plays(s.By, step.SignOff.By) && !own && !slices.Contains(signers, s.By) {
			signers = append(signers, s.By)
		}
	}
	return signers
}

func (r *Rules) signed(step *declare.Step, q Query) Answer {
	if step.SignOff == nil {
		return Answer{}
	}
	signers := r.Signers(step, q)
	missing := step.SignOff.Count - len(signers)
	if missing <= 0 {
		return Answer{}
	}
	why := "waits for a sign-off by " + say.Or(step.SignOff.By)
	if missing > 1 {
		why = fmt.Sprintf("waits for %d sign-offs by %s", missing, say.Or(step.SignOff.By))
	}
	if len(signers) > 0 {
		why += fmt.Sprintf(", beside %s", say.List(signers))
	}
	if (step.SignOff.Others || r.TwoPersons) && q.Author != "" {
		why += fmt.Sprintf("; %s made the change, and does not count", q.Author)
	}
	return Answer{Kind: Signing, Why: why, Who: step.SignOff.By}
}

// Team is who says whether a site takes a revision.
func (r *Rules) Team(step *declare.Step, site string) []string {
	switch {
	case step.Consent == nil:
		return nil
	case len(step.Consent.By) > 0:
		return step.Consent.By
	case r.Sites[site].Team != "":
		return []string{r.Sites[site].Team}
	}
	return []string{site}
}

// LastDay is when an offer is taken without an answer; zero for never.
func LastDay(step *declare.Step, offer *Offer) time.Time {
	if step == nil || step.Consent == nil || step.Consent.LastDay.Duration == 0 || offer == nil {
		return time.Time{}
	}
	return offer.Since.Add(step.Consent.LastDay.Duration)
}

// agreed tells whether the site's team takes it.
func (r *Rules) agreed(step *declare.Step, q Query) Answer {
	if step.Consent == nil {
		return Answer{}
	}
	team := r.Team(step, q.Site)
	if q.By != "" && r.Plays(q.By, team) {
		return Answer{} // who asks for it says so
	}
	offer := q.Offer
	if offer == nil {
		return Answer{Kind: Consent, Why: "is offered to " + say.Or(team), Who: team, Offer: true}
	}
	last := LastDay(step, offer)
	announced := !offer.Announce.IsZero() && !q.Now.Before(offer.Announce.Add(step.Consent.Notice.Duration))
	taken := ""
	if !last.IsZero() {
		taken = fmt.Sprintf(", and taken on %s at the latest", say.Moment(last))
	}
	switch {
	case offer.Answer == Takes:
		return Answer{}
	case !last.IsZero() && !q.Now.Before(last) && announced:
		return Answer{}
	case offer.Answer == Declines:
		return Answer{Kind: Consent, Why: fmt.Sprintf("declined by %s: %s; the next revision is offered again", offer.By, offer.Why)}
	case offer.Answer == PutsOff && (offer.Until.IsZero() || q.Now.Before(offer.Until)):
		until := ""
		if !offer.Until.IsZero() {
			until = " until " + say.Moment(offer.Until)
		}
		return Answer{Kind: Consent, Why: fmt.Sprintf("put off%s by %s: %s%s", until, offer.By, offer.Why, taken), Who: team, Until: earliest(offer.Until, last)}
	}
	return Answer{Kind: Consent, Why: fmt.Sprintf("is offered to %s%s", say.Or(team), taken), Who: team, Until: last}
}

func earliest(a, b time.Time) time.Time {
	if a.IsZero() || !b.IsZero() && b.Before(a) {
		return b
	}
	return a
}

// Announces tells whether it is time to announce that an offer is taken without an answer.
func (r *Rules) Announces(q Query) bool {
	c := r.CourseOf(q.Workload)
	if c == nil || q.Offer == nil || q.Offer.Answer == Takes || !q.Offer.Announce.IsZero() {
		return false
	}
	step := c.StepOf(q.Site)
	last := LastDay(step, q.Offer)
	return !last.IsZero() && !q.Now.Before(last.Add(-step.Consent.Notice.Duration))
}

// Ties tells whether a berth may have to go back with others.
func (r *Rules) Ties(workload, site string) bool {
	if c := r.CourseOf(workload); c != nil {
		if step := c.StepOf(site); step != nil && step.Back == declare.BackAll {
			return true
		}
	}
	_, with := r.TrainOf(workload)
	return len(with) > 0
}

// GoesBack tells why a berth that has a revision is to go back from it, though it does well there; empty where it is not.
func (r *Rules) GoesBack(q Query) string {
	if c := r.CourseOf(q.Workload); c != nil && q.Here.Has {
		if step := c.StepOf(q.Site); step != nil && step.Back == declare.BackAll {
			for _, site := range step.Sites {
				if other := q.Elsewhere[site]; site != q.Site && other.Declared && other.Turned != "" {
					return fmt.Sprintf("it was rolled back at %s, and all sites of its step go back together: %s", site, other.Turned)
				}
			}
		}
	}
	if q.Here.Has {
		for _, other := range q.Train {
			if other.Turned != "" {
				name, _ := r.TrainOf(q.Workload)
				return fmt.Sprintf("%s was rolled back, and the train %s goes back together: %s", other.Workload, name, other.Turned)
			}
		}
	}
	return ""
}

// Plays tells whether somebody is one of several names, or plays one of several roles.
func (r *Rules) Plays(name string, who []string) bool {
	return slices.ContainsFunc(who, func(one string) bool {
		return one == name || one == "*" || slices.Contains(r.Roles[one], name) || slices.Contains(r.Roles[one], "*")
	})
}
