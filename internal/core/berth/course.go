package berth

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"time"

	"aditus/internal/core/course"
	"aditus/internal/core/declare"
	"aditus/internal/core/rollout"
	"aditus/internal/core/say"
)

// Course is what the line's rules have to say of what is declared, and what there is to be asked with.
type Course struct {
	Name  string        // of these rules: another one for others
	Rules *course.Rules // as they are now
	Also  *course.Rules // that were in force before the commit which what is declared came with; nil where it changed none
	Began *course.Rules // that the rollout under way began by; nil where they are not known any more
	Query course.Query  // all but who asks by hand, and what stands in the berth's own state
}

// Signed is a go-ahead for a revision to come here.
type Signed struct {
	Revision declare.Fingerprint `json:"revision"`
	course.Sign
}

// Offer is a revision that is offered to the site's team.
type Offer struct {
	Revision declare.Fingerprint `json:"revision"`
	course.Offer
}

// Ask is what somebody is asked for before what is declared may come.
type Ask struct {
	Kind  course.Kind `json:"kind"` // sign-off or consent
	Who   []string    `json:"who"`  // names and roles
	Why   string      `json:"why"`
	Since time.Time   `json:"since"`
	Last  time.Time   `json:"last,omitzero"` // when it comes without, at the latest
}

// SignsOf are the go-aheads for a revision.
func (s State) SignsOf(revision declare.Fingerprint) (signs []course.Sign) {
	for _, one := range s.Signs {
		if one.Revision == revision {
			signs = append(signs, one.Sign)
		}
	}
	return signs
}

// OfferOf is the offer of a revision; nil where it was not offered.
func (s State) OfferOf(revision declare.Fingerprint) *course.Offer {
	if s.Offer == nil || s.Offer.Revision != revision {
		return nil
	}
	return &s.Offer.Offer
}

// Judge asks the line's rules whether what is declared may come, as far as they go; those from before its commit first, where that
// changed them: it cannot help itself.
func (c *Course) Judge(state State, declared declare.Fingerprint, by, override string, now time.Time) course.Answer {
	q := c.Query
	q.Now, q.By, q.Override = now, by, override
	q.Here.Signs, q.Offer = state.SignsOf(declared), state.OfferOf(declared)
	over := ""
	if c.Also != nil {
		a := c.Also.Judge(q)
		if !a.May() {
			a.Why += " (by the rules from before its own commit)"
			return a
		}
		over = a.Over
	}
	a := c.Rules.Judge(q)
	a.Over = cmp.Or(a.Over, over)
	return a
}

// onCourse puts what the line's rules say into the question, and tells what somebody passes over.
func (d *decision) onCourse(q *rollout.Question, declared *Revision, asked *order) (passes string) {
	c := d.world.Course
	if c == nil || declared.Fingerprint == d.State.Applied {
		return ""
	}
	by, override, scheduled := "", "", asked != nil && asked.schedule != ""
	if asked != nil && !scheduled {
		by, override = asked.By, asked.Override
	}
	own := *c
	own.Query.Scheduled = scheduled
	answer := own.Judge(d.State, declared.Fingerprint, by, override, d.now)
	q.Automatic, q.After, q.AfterProven = true, "", true
	if answer.May() {
		return answer.Over
	}
	q.Course = answer.Why
	if d.State.MayCome = answer.Until; !answer.Until.After(d.now) {
		d.State.MayCome = d.now.Add(askAgain)
	}
	if by == "" && len(answer.Who) > 0 {
		_, step := d.asking(consents)
		d.State.Asks = &Ask{Kind: answer.Kind, Who: answer.Who, Why: answer.Why, Since: d.now, Last: course.LastDay(step, d.State.OfferOf(declared.Fingerprint))}
		if was := d.was.Asks; was != nil && was.Kind == answer.Kind && d.was.Change.Declared == declared.Fingerprint {
			d.State.Asks.Since = was.Since
		}
		if o := d.State.OfferOf(declared.Fingerprint); o != nil && answer.Kind == course.Consent {
			d.State.Asks.Since = o.Since
		}
	}
	if asked != nil && override != "" {
		q.Course += fmt.Sprintf("; %s may not pass over that", by)
	}
	return ""
}

// asks takes go-aheads and answers to offers, makes an offer where only that is missing, and announces its end.
func (d *decision) asks() {
	c, declared := d.world.Course, d.world.Declared
	if c == nil || declared == nil || declared.Fingerprint == d.State.Applied || d.State.bars(declared.Fingerprint) {
		if len(d.State.Signs) > 0 || d.State.Offer != nil {
			d.State.Signs, d.State.Offer, d.Durable = nil, nil, true // what they were for came, or will not
		}
		d.refuseAnswers()
		return
	}
	if kept := slices.DeleteFunc(d.State.Signs, func(s Signed) bool { return s.Revision != declared.Fingerprint }); len(kept) < len(d.State.Signs) {
		d.State.Signs, d.Durable = kept, true
	}
	if o := d.State.Offer; o != nil && o.Revision != declared.Fingerprint {
		d.State.Offer, d.Durable = nil, true
	}
	d.each(SignOff, func(o *order) error { return d.sign(declared, o) })
	answer := c.Judge(d.State, declared.Fingerprint, "", "", d.now)
	rules, step := d.asking(consents)
	if answer.Offer {
		d.State.Offer = &Offer{declared.Fingerprint, course.Offer{Since: d.now}}
		text := fmt.Sprintf("%s (%s) is offered to %s: “%s” by %s", declared.Version, declared.Fingerprint.Short(), say.Or(answer.Who), declared.Subject, declared.By())
		if last := course.LastDay(step, d.State.OfferOf(declared.Fingerprint)); !last.IsZero() {
			text += "; it is taken on " + say.Moment(last) + " at the latest"
		}
		d.fact(OfferMade, rollout.Automatic, declared.Fingerprint, text, nil)
	}
	for verb, answered := range map[Verb]course.Answered{TakeOffer: course.Takes, PutOff: course.PutsOff, Decline: course.Declines} {
		d.each(verb, func(o *order) error { return d.answered(rules, step, declared, o, answered) })
	}
	q := c.Query
	if q.Now, q.Offer = d.now, d.State.OfferOf(declared.Fingerprint); rules.Announces(q) {
		next := *d.State.Offer
		next.Announce = d.now
		d.State.Offer = &next
		d.fact(OfferAnnounced, rollout.Automatic, declared.Fingerprint, fmt.Sprintf("%s is taken here without an answer from %s on", declared.Version, say.Moment(course.LastDay(step, q.Offer))), nil)
	}
}

// asking gives the rules that ask for something, with their step: those from before the commit first, as they have to be satisfied too.
func (d *decision) asking(asks func(*declare.Step) bool) (*course.Rules, *declare.Step) {
	for _, rules := range []*course.Rules{d.world.Course.Also, d.world.Course.Rules} {
		if rules == nil {
			continue
		}
		if c := rules.CourseOf(d.id.Workload); c != nil {
			if step := c.StepOf(d.id.Site); step != nil && asks(step) {
				return rules, step
			}
		}
	}
	return d.world.Course.Rules, nil
}

func consents(s *declare.Step) bool { return s.Consent != nil }

func signsOff(s *declare.Step) bool { return s.SignOff != nil }

// refuseAnswers tells those who answer an offer that there is none.
func (d *decision) refuseAnswers() {
	for _, verb := range []Verb{TakeOffer, PutOff, Decline} {
		d.each(verb, func(o *order) error {
			return fmt.Errorf("%s is not possible: nothing is offered to %s", o.Verb, d.id)
		})
	}
}

// sign notes a go-ahead for what is declared to come here.
func (d *decision) sign(declared *Revision, o *order) error {
	rules, step := d.asking(signsOff)
	switch {
	case step == nil:
		return errors.New("sign off is not possible: no sign-off is asked for at " + d.id.String())
	case !rules.Plays(o.By, step.SignOff.By):
		return fmt.Errorf("sign off is not possible: it is for %s, and you are %s", say.Or(step.SignOff.By), o.By)
	case (step.SignOff.Others || d.world.TwoPersons) && declared.MadeBy(o.By):
		return fmt.Errorf("sign off is not possible: %s made the change, and somebody else is to look at it", o.By)
	case slices.ContainsFunc(d.State.SignsOf(declared.Fingerprint), func(s course.Sign) bool { return s.By == o.By }):
		return fmt.Errorf("sign off is not possible: %s has signed it off already", o.By)
	}
	d.State.Signs = append(d.State.Signs, Signed{declared.Fingerprint, course.Sign{By: o.By, At: d.now, Note: o.Note}})
	text := fmt.Sprintf("%s signed off that %s (%s) comes here", o.By, declared.Version, declared.Fingerprint.Short())
	if o.Note != "" {
		text += ": " + o.Note
	}
	d.fact(SignedOff, o.By, declared.Fingerprint, text, nil)
	return nil
}

// answered notes what a site's team says to an offer.
func (d *decision) answered(rules *course.Rules, step *declare.Step, declared *Revision, o *order, answer course.Answered) error {
	offer := d.State.OfferOf(declared.Fingerprint)
	if offer == nil || step == nil {
		return fmt.Errorf("%s is not possible: nothing is offered to %s", o.Verb, d.id)
	}
	last, team := course.LastDay(step, offer), rules.Team(step, d.id.Site)
	switch {
	case !rules.Plays(o.By, team):
		return fmt.Errorf("%s is not possible: it is offered to %s, and you are %s", o.Verb, say.Or(team), o.By)
	case answer != course.Takes && o.Note == "":
		return fmt.Errorf("%s is not possible without a reason: who made it reads it", o.Verb)
	case answer == course.Declines && !last.IsZero():
		return fmt.Errorf("decline is not possible: it is taken on %s at the latest; put it off until then", say.Moment(last))
	case answer == course.PutsOff && !o.Until.IsZero() && !o.Until.After(d.now):
		return fmt.Errorf("put off is not possible until %s: that is over", say.Moment(o.Until))
	case answer == course.PutsOff && !last.IsZero() && o.Until.After(last):
		return fmt.Errorf("put off is not possible until %s: it is taken on %s at the latest", say.Moment(o.Until), say.Moment(last))
	}
	next := *d.State.Offer
	next.By, next.Answer, next.At, next.Why, next.Until = o.By, answer, d.now, o.Note, o.Until
	d.State.Offer = &next
	text := fmt.Sprintf("%s takes %s (%s)", o.By, declared.Version, declared.Fingerprint.Short())
	switch answer {
	case course.PutsOff:
		text = fmt.Sprintf("%s puts %s off", o.By, declared.Version)
		if !o.Until.IsZero() {
			text += " until " + say.Moment(o.Until)
		}
	case course.Declines:
		text = fmt.Sprintf("%s declines %s; the next revision is offered again", o.By, declared.Version)
	}
	if o.Note != "" {
		text += ": " + o.Note
	}
	d.fact(OfferAnswered, o.By, declared.Fingerprint, text, next)
	return nil
}

// goBackWithOthers goes back from what is applied where the line says that it goes back with others.
func (d *decision) goBackWithOthers() {
	c, declared := d.world.Course, d.world.Declared
	if c == nil || declared == nil || declared.Fingerprint != d.State.Applied || d.State.Lock != nil {
		return
	}
	why := c.Rules.GoesBack(c.Query)
	if why == "" {
		return
	}
	to, err := d.backTo("")
	if err != nil {
		d.call(why, err.Error())
		return
	}
	d.goBack(d.State.Applied, to, rollout.Automatic, []rollout.Cause{{Kind: rollout.ByCourse, Text: why, At: d.now}})
}

// byLine is what the line's rules ask of the rollout under way: to go back with others, to be held while nothing may move, and to go
// on afterwards. What a person asks of it at the same time comes first.
func (d *decision) byLine(s rollout.State, asked []*order) (commands []rollout.Command) {
	c := d.world.Course
	if c == nil || len(asked) > 0 {
		if slices.ContainsFunc(asked, func(o *order) bool { return o.Verb == GoOn }) && d.State.Caught != "" {
			d.State.Caught, d.State.LetPass = "", true
		}
		return nil
	}
	if declared := d.world.Declared; declared != nil && declared.Fingerprint == s.New.Revision && s.Ahead() && s.Possible(rollout.TurnBack) == nil {
		if why := c.Rules.GoesBack(c.Query); why != "" {
			return []rollout.Command{{Verb: rollout.TurnBack, By: rollout.Automatic, Note: why}}
		}
	}
	why := ""
	if c.Began != nil && !d.State.LetPass && !s.Return { // going back needs no window
		why = c.Began.Holds(d.now, d.id.Workload, d.id.Site)
	}
	switch {
	case why != "" && s.Ahead() && s.Phase != rollout.Proven && s.Possible(rollout.HoldOn) == nil:
		d.State.Caught = why
		return []rollout.Command{{Verb: rollout.HoldOn, By: rollout.Automatic, Note: why}}
	case why == "" && d.State.Caught != "" && s.Possible(rollout.GoOn) == nil:
		d.State.Caught = ""
		return []rollout.Command{{Verb: rollout.GoOn, By: rollout.Automatic, Note: "it may move again"}}
	}
	return nil
}

// opens is when something may move here at the earliest, by the line's windows and freezes; a while from now where they do not tell.
func (d *decision) opens() time.Time {
	if d.world.Rules == nil {
		return d.now
	}
	answer := d.world.Rules.Open(d.now, d.id.Workload, d.id.Site, 0)
	switch {
	case answer.May():
		return d.now
	case answer.Until.After(d.now):
		return answer.Until
	}
	return d.now.Add(askAgain)
}

// askAgain is when it is asked again whether something may move.
const askAgain = time.Hour
