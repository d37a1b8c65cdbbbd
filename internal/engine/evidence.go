package engine

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"aditus/internal/core/berth"
	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
	"aditus/internal/core/guard/panel"
	"aditus/internal/core/health"
	"aditus/internal/core/rollout"
	"aditus/internal/core/signal"
	"aditus/internal/ledger"
	"aditus/internal/target"
)

const (
	askTimeout = 10 * time.Second // for a target to say what is there
	atOnce     = 32               // probes and scrapes of one berth under way at the same time
)

// evidence is what was seen in one step.
type evidence struct {
	reached   bool   // the target answered
	stale     string // why it is not fresh
	trouble   error  // what a person should know of
	target    target.Observation
	health    map[string]health.Instance // by instance
	evaluated bool
	old, new  declare.Fingerprint
	judged    panel.Judgement
	dead      []string // instances to be started anew
	unmarked  bool     // the target still knows what is applied by the revision it had before
}

// probed is what is remembered of an instance: the course of each of its probes, and when it is due.
type probed struct {
	tracks map[string]health.Track
	due    map[string]time.Time
	asked  []time.Time // when it was started anew because somebody asked for that

	log       target.LogMark     // up to where its log was read
	lines     map[string]float64 // how many lines it wrote since, by the regular expression that is found in them
	restarts  float64            // how often it was started anew by itself, since it was first looked at
	restarted time.Time          // the last time of these; zero before it was looked at
}

// count counts how often an instance was started anew by itself. Its site tells the last times alone.
func (p *probed) count(in target.Instance) float64 {
	first, last := p.restarted.IsZero(), p.restarted
	for _, at := range p.unasked(in.Restarts) {
		if at.After(last) {
			if p.restarted = at; !first {
				p.restarts++
			}
		}
	}
	if p.restarted.IsZero() {
		p.restarted = in.Started.Add(-1)
	}
	return p.restarts
}

// observe looks at the target, probes and scrapes what is due, and judges.
func (b *loop) observe(ctx context.Context, now time.Time) *evidence {
	seen := &evidence{health: map[string]health.Instance{}, old: b.state.Applied}
	if b.state.Roll != nil {
		seen.old, seen.new = b.state.Roll.Old.Revision, b.state.Roll.New.Revision
	}
	asking, cancel := context.WithTimeout(ctx, askTimeout)
	defer cancel()
	var err error
	if seen.target, err = b.driver.Observe(asking, b.id.Workload); err != nil {
		seen.stale, seen.trouble = err.Error(), fmt.Errorf("%w; what is live stays as it is, and nothing advances until it answers", err)
		b.last = seen
		return seen
	}
	seen.reached = true
	if t := seen.target.Trouble; t != "" {
		seen.stale, seen.trouble = t, errors.New(t)
	}
	b.translate(seen)
	if err := b.hold(seen, "", nil); err != nil {
		seen.reached, seen.stale, seen.trouble = false, err.Error(), err
		b.last = seen
		return seen
	}
	b.probe(ctx, seen, now)
	if rules := b.rules(seen); rules != nil {
		about := panel.Subject{Rules: rules, Roll: b.state.Roll, Applied: b.state.Applied, Past: b.past(rules, now), Standing: b.e.standing}
		if (b.state.Roll != nil || len(rules.Guards) > 0) && !now.Before(b.panel.Due(about)) {
			var elsewhere error
			asking := errgroup.Group{}
			asking.Go(func() error {
				about.Elsewhere, elsewhere = b.elsewhere(ctx, seen, rules)
				return nil
			})
			scrapes, here := b.scrape(ctx, seen)
			asking.Wait()
			b.unread = cmp.Or(here, elsewhere, exploded(rules, scrapes, about.Elsewhere))
			b.panel.Evaluate(about, scrapes, func(id string) bool { return b.instances[id] != nil }, now)
			seen.evaluated = true
		}
		if b.state.Roll == nil && len(rules.Guards) == 0 {
			b.unread = nil
		}
		seen.trouble = cmp.Or(seen.trouble, b.unread)
		seen.judged = b.panel.Judge(about, seen.evaluated, now)
	}
	b.last = seen
	return seen
}

// exploded tells of a metric with more series than are told apart; nil where there is none.
func exploded(rules *declare.Desired, scrapes []panel.Scrape, elsewhere map[string][]panel.Scrape) error {
	for _, rule := range rules.Guards {
		shown := scrapes
		if rule.Signal.Elsewhere() {
			shown = elsewhere[rule.Name]
		}
		for _, s := range shown {
			if metric, series := rule.Signal.Explodes(s.Page); series > 0 {
				return fmt.Errorf("%s of %s has %d series: %d are told apart, and the rest is summed up as one, in which a reset cannot be seen; have it expose fewer values of its labels", metric, s.Instance, series, signal.MostSeries)
			}
		}
	}
	return nil
}

// pastEvery is how often a workload's own past is read anew.
const pastEvery = 5 * time.Minute

// past reads what the workload showed while it served alone, for guards with a limit above that. A guard whose past
// cannot be read is silent, and says so.
func (b *loop) past(rules *declare.Desired, now time.Time) map[string][]signal.Point {
	if since := now.Sub(b.pastRead); since >= 0 && since < pastEvery && b.pastOf == rules {
		return b.pasts
	}
	b.pasts, b.pastRead, b.pastOf = map[string][]signal.Point{}, now, rules
	for _, rule := range rules.Guards {
		if rule.Limit.Base() != guard.OwnPast {
			continue
		}
		rows, err := b.e.ledger.Steady(b.id, rule.Name, now.AddDate(0, 0, -guard.PastDays-1))
		if err != nil {
			continue
		}
		for _, r := range rows {
			b.pasts[rule.Name] = append(b.pasts[rule.Name], r.Signal())
		}
	}
	return b.pasts
}

// translate names a cohort by the revision that it was made to be, where the target does not know that yet.
func (b *loop) translate(seen *evidence) {
	if _, ok := seen.target.Cohort(b.state.Applied); ok || b.state.MarkedFrom == "" {
		return
	}
	for i := range seen.target.Cohorts {
		if seen.target.Cohorts[i].Revision == b.state.MarkedFrom {
			seen.target.Cohorts[i].Revision, seen.unmarked = b.state.Applied, true
		}
	}
}

// desired gives what a cohort was made from; nil when that is not on record.
func (b *loop) desired(revision declare.Fingerprint) *declare.Desired {
	if r := b.held[revision]; r != nil {
		return r.Desired
	}
	return nil
}

// rules are the declaration whose guards count now.
func (b *loop) rules(seen *evidence) *declare.Desired {
	if seen.new != "" {
		return b.desired(seen.new)
	}
	return b.desired(seen.old)
}

// probe asks every instance that is due and judges the health of all.
func (b *loop) probe(ctx context.Context, seen *evidence, now time.Time) {
	var mu sync.Mutex
	group, there := errgroup.Group{}, map[string]bool{}
	group.SetLimit(atOnce)
	for _, cohort := range seen.target.Cohorts {
		desired := b.desired(cohort.Revision)
		if desired == nil {
			continue
		}
		for _, in := range cohort.Instances {
			there[in.ID] = true
			s := b.instances[in.ID]
			if s == nil {
				s = &probed{tracks: map[string]health.Track{}, due: map[string]time.Time{}}
				b.instances[in.ID] = s
			}
			for name, probe := range desired.Parts[in.Part].Probes {
				if why, told := in.Told[name]; told {
					s.tracks[name] = s.tracks[name].Tell(health.Outcome{At: now, Passed: why == "", Reason: why})
					continue
				}
				if now.Before(s.due[name]) {
					continue
				}
				s.due[name] = now.Add(probe.Every.Duration)
				group.Go(func() error {
					reason := b.ask(ctx, in, probe)
					mu.Lock()
					defer mu.Unlock()
					s.tracks[name] = s.tracks[name].Observe(health.Outcome{At: now, Passed: in.Address != "" && reason == "", Reason: reason}, probe.Thresholds())
					return nil
				})
			}
		}
	}
	group.Wait()
	for id := range b.instances {
		if !there[id] {
			delete(b.instances, id)
		}
	}
	b.judgeHealth(seen, now)
}

// ask has a probe ask an instance, and tells why it did not pass; empty where it did.
func (b *loop) ask(ctx context.Context, in target.Instance, probe declare.Probe) string {
	switch {
	case in.Reason != "" || in.Address == "":
		return in.Reason
	case len(probe.Command) == 0:
		return b.e.prober.Through(in.Through).Ask(ctx, in.Address, in.Ports, probe)
	}
	ctx, cancel := context.WithTimeout(ctx, probe.Timeout.Duration)
	defer cancel()
	reason, err := b.driver.Exec(ctx, b.id.Workload, in.ID, probe.Command)
	if errors.Is(err, context.DeadlineExceeded) {
		return fmt.Sprintf("%s: no end within %s", probe.Command[0], probe.Timeout)
	} else if err != nil {
		return err.Error()
	}
	return reason
}

func (b *loop) judgeHealth(seen *evidence, now time.Time) {
	for _, cohort := range seen.target.Cohorts {
		desired := b.desired(cohort.Revision)
		if desired == nil {
			continue
		}
		for _, in := range cohort.Instances {
			if desired.Parts[in.Part].Kind == declare.Task {
				continue // it runs to its end, and is done or failed then
			}
			judged := desired.Parts[in.Part].Health(b.instances[in.ID].tracks, in.Started, b.instances[in.ID].unasked(in.Restarts), in.Again, now)
			switch {
			case in.CannotStart != "":
				judged.Word, judged.Reason = health.Failing, in.CannotStart
			case in.Ails != "" && judged.Word != health.Failing:
				judged.Word, judged.Reason = health.Failing, in.Ails
			case in.Waits != "" && judged.Word == health.Healthy:
				judged.Word, judged.Reason = health.Starting, in.Waits
			case judged.Word == health.Failing && len(judged.Reason) > 0 && lastWords(in) != "":
				judged.Reason = lastWords(in) + "; " + judged.Reason
			case in.Address == "" && judged.Word == health.Healthy: // no probe asks, and it does not run
				judged.Word, judged.Reason = health.Starting, in.Reason
			}
			seen.health[in.ID] = judged
			if judged.Dead {
				seen.dead = append(seen.dead, in.ID)
			}
			if judged.Word == health.Silent && seen.stale == "" {
				seen.stale = fmt.Sprintf("%s is silent: %s", in.ID, judged.Reason)
			}
		}
	}
}

// lastWords is how an instance ended last, with what it wrote; empty where it did not.
func lastWords(in target.Instance) string {
	for _, e := range slices.Backward(in.Events) {
		if e.Bad {
			return e.Text
		}
	}
	return in.Reason
}

// askedWithin is how far the time at which a site notes a restart may be from when it was asked for one.
const askedWithin = 5 * time.Second

// unasked are the restarts that nobody asked for: those that are, such as all instances one by one, tell nothing of its health.
func (s *probed) unasked(restarts []time.Time) []time.Time {
	if len(s.asked) == 0 {
		return restarts
	}
	return slices.DeleteFunc(slices.Clone(restarts), func(at time.Time) bool {
		return slices.ContainsFunc(s.asked, func(asked time.Time) bool { return at.Sub(asked).Abs() < askedWithin })
	})
}

// scraped is what one instance showed, or why that could not be read.
type scraped struct {
	panel.Scrape
	restarts float64
	lines    signal.Page
	err      error
}

// staleAfter is how many intervals ago something may have been measured to count for this one.
const staleAfter = 3

// scrape fetches the metrics pages of all instances of the old and the new cohort at the same moment, and adds what the
// site itself measured of each. An instance that is not well and whose page cannot be read is left out: that is for its
// health to tell.
func (b *loop) scrape(ctx context.Context, seen *evidence) (read []panel.Scrape, trouble error) {
	var pages []*scraped
	expressions := expressionsOf(b.rules(seen))
	var measured map[string]signal.Page
	group := errgroup.Group{}
	group.SetLimit(atOnce)
	group.Go(func() (err error) {
		ctx, cancel := context.WithTimeout(ctx, askTimeout)
		defer cancel()
		if measured, err = b.driver.Measure(ctx, b.id.Workload); err != nil && ctx.Err() == nil {
			trouble = fmt.Errorf("what the site measures cannot be read: %w; guards on it are silent until that is mended", err)
		}
		return nil
	})
	for _, cohort := range seen.target.Cohorts {
		desired := b.desired(cohort.Revision)
		if desired == nil || (cohort.Revision != seen.old && cohort.Revision != seen.new) {
			continue
		}
		since := b.e.clock.Now().Add(-staleAfter * desired.Rollout.Interval.Duration)
		for _, in := range cohort.Instances {
			if in.Address == "" || desired.Parts[in.Part].Kind == declare.Task {
				continue
			}
			s := &scraped{Scrape: panel.Scrape{Instance: in.ID, Part: in.Part, Revision: cohort.Revision, Started: in.Started, Requests: target.RequestsMetric}}
			if roll := b.state.Roll; roll != nil {
				_, s.Both = roll.New.Alike[in.Part]
			}
			if known := b.instances[in.ID]; known != nil {
				s.restarts = known.count(in)
			}
			pages = append(pages, s)
			if metrics := desired.Parts[in.Part].Metrics; metrics != nil {
				s.Requests = cmp.Or(metrics.Requests, target.RequestsMetric)
			}
			group.Go(func() error {
				s.Page, s.err = b.page(ctx, in, desired, since)
				return nil
			})
			if known := b.instances[in.ID]; known != nil && len(expressions) > 0 {
				group.Go(func() error {
					s.lines = b.countLines(ctx, in.ID, known, expressions)
					return nil
				})
			}
		}
	}
	group.Wait()
	for _, s := range pages {
		well := seen.health[s.Instance].Word == health.Healthy
		s.Measured = maps.Clone(measured[s.Instance])
		if s.Measured == nil {
			s.Measured = signal.Page{}
		}
		maps.Copy(s.Measured, s.lines)
		s.Measured[target.RestartsMetric] = []signal.Sample{signal.NewSample(nil, s.restarts)}
		if s.err != nil {
			s.Unread = s.err.Error()
		}
		if s.err == nil || well {
			read = append(read, s.Scrape)
		}
		if s.err != nil && well && trouble == nil && ctx.Err() == nil {
			trouble = fmt.Errorf("the metrics of %s cannot be read: %w; guards on them are silent until that is mended", s.Instance, s.err)
		}
	}
	return read, trouble
}

// page fetches the metrics page of an instance that was made by a declaration; nothing of one that has none.
func (b *loop) page(ctx context.Context, in target.Instance, desired *declare.Desired, since time.Time) (signal.Page, error) {
	part := desired.Parts[in.Part]
	if part.Metrics == nil {
		return nil, nil
	}
	if _, has := in.Ports[part.Metrics.Port]; !has && part.Kind == declare.Objects {
		return nil, nil // not all that runs in objects exposes any
	}
	access, err := b.access(desired.Parts[part.Metrics.Secret])
	if err != nil {
		return nil, err
	}
	return b.e.scraper.Through(in.Through).Fetch(ctx, in.Address, in.Ports, *part.Metrics, access, since)
}

// access are the values of a secret that metrics are asked for with; none of a part that has none.
func (b *loop) access(part declare.Part) (map[string]string, error) {
	if len(part.Sealed) == 0 {
		return nil, nil
	}
	access := make(map[string]string, len(part.Sealed))
	for _, key := range declare.MetricsKeys {
		sealed, has := part.Sealed[key]
		if !has {
			continue
		}
		if b.e.access.Opener == nil {
			return nil, fmt.Errorf("the secret %s cannot be opened: there is no key", key)
		}
		plain, err := b.e.access.Opener.Open(sealed)
		if err != nil {
			return nil, fmt.Errorf("the secret %s: %w", key, err)
		}
		access[key] = plain
	}
	return access, nil
}

// core is the evidence as the decision takes it.
func (seen *evidence) core() berth.Seen {
	out := berth.Seen{
		Reached: seen.reached, Stale: seen.stale, Whole: seen.target.Whole, Step: seen.target.Step, TakesOver: seen.target.TakesOver, Evaluated: seen.evaluated, Verdicts: seen.judged.Verdicts,
		Unmarked: seen.unmarked, Dead: seen.dead,
	}
	for _, c := range seen.target.Cohorts {
		cohort := berth.Cohort{Revision: c.Revision, Share: c.Share, Preview: c.Preview, Live: c.Live, Owners: c.Owners}
		for _, o := range c.Objects {
			cohort.Objects = append(cohort.Objects, berth.Object{Part: o.Part, ID: o.ID, There: o.There, State: o.State})
		}
		for _, in := range c.Instances {
			one := berth.Instance{ID: in.ID, Part: in.Part, Done: in.Done, Failed: in.Failed, CannotStart: in.CannotStart, Found: in.Found}
			if h, ok := seen.health[in.ID]; ok {
				one.Health = &h
			}
			cohort.Instances = append(cohort.Instances, one)
		}
		out.Cohorts = append(out.Cohorts, cohort)
	}
	return out
}

// sum rolls the health of a revision's instances up. At least the given number should be there.
func (seen *evidence) sum(revision declare.Fingerprint, least int) health.Summary {
	return seen.core().Health(revision, least)
}

// traffic is the rollout's traffic and instances, for the record.
func (seen *evidence) traffic(roll *rollout.State, now time.Time) *ledger.Traffic {
	if seen == nil || !seen.reached {
		return nil
	}
	new, _ := seen.target.Cohort(roll.New.Revision)
	return &ledger.Traffic{
		At: now, Asked: roll.AskedShare(), Share: new.Share, Requests: seen.judged.Requests,
		Old: seen.sum(roll.Old.Revision, 0).Total, New: seen.sum(roll.New.Revision, 0).Total,
	}
}
