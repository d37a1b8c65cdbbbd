package engine

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"aditus/internal/core/berth"
	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
	"aditus/internal/core/health"
	"aditus/internal/core/signal"
	"aditus/internal/target"
)

const (
	askTimeout = 10 * time.Second // for a target to say what is there
	atOnce     = 32               // probes and scrapes of one berth under way at the same time
	seriesKept = 240              // evaluations remembered for each berth
	LeadIn     = 24               // evaluations before a rollout that go on record with it
)

// evidence is what was seen in one step.
type evidence struct {
	reached   bool   // the target answered
	stale     string // why it is not fresh
	trouble   error  // what a person should know of
	target    target.Observation
	health    map[string]health.Instance // by instance
	evaluated bool
	verdicts  []guard.Verdict
	old, new  declare.Fingerprint
	requests  [2]float64 // of the last interval, old and new
	observed  *guard.Estimate
	dead      []string // instances to be started anew
	unmarked  bool     // the target still knows what is applied by the revision it had before
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
		b.senses.last = seen
		return seen
	}
	seen.reached = true
	if t := seen.target.Trouble; t != "" {
		seen.stale, seen.trouble = t, errors.New(t)
	}
	b.translate(seen)
	b.probe(ctx, seen, now)
	if rules := b.rules(seen); rules != nil && (b.state.Roll != nil || len(rules.Guards) > 0) && now.Sub(b.senses.evaluated) >= rules.Rollout.Interval.Duration {
		b.evaluate(ctx, seen, rules, now)
	}
	b.judge(seen, now)
	b.senses.last = seen
	return seen
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
	if r := b.e.revision(b.id.Workload, revision); r != nil {
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
			s := b.senses.instances[in.ID]
			if s == nil {
				s = &sensed{tracks: map[string]health.Track{}, due: map[string]time.Time{}}
				b.senses.instances[in.ID] = s
			}
			for name, probe := range desired.Parts[in.Part].Probes {
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
	for id := range b.senses.instances {
		if !there[id] {
			delete(b.senses.instances, id)
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
		return b.e.sense.Probe(ctx, in.Address, in.Ports, probe)
	}
	ctx, cancel := context.WithTimeout(ctx, probe.Timeout.Duration)
	defer cancel()
	reason, err := b.driver.Check(ctx, b.id.Workload, in.ID, probe.Command)
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
			s := b.senses.instances[in.ID]
			var tracks []health.Track
			var rules []health.Thresholds
			probes := desired.Parts[in.Part].Probes
			for _, name := range slices.Sorted(maps.Keys(probes)) {
				probe := probes[name]
				tracks, rules = append(tracks, s.tracks[name]), append(rules, probe.Thresholds())
			}
			s.health = health.JudgeInstance(tracks, rules, in.Started, in.Restarts, in.Again, now)
			if in.CannotStart != "" {
				s.health.Word, s.health.Reason = health.Failing, in.CannotStart
			}
			seen.health[in.ID] = s.health
			if s.health.Dead {
				seen.dead = append(seen.dead, in.ID)
			}
			if s.health.Word == health.Silent && seen.stale == "" {
				seen.stale = fmt.Sprintf("%s is silent: %s", in.ID, s.health.Reason)
			}
		}
	}
}

// requestsGuard names the tracker that counts requests, for the traffic's observed split.
const requestsGuard = ""

// scraped is one instance's metrics page, or why there is none.
type scraped struct {
	revision declare.Fingerprint
	id       string
	requests string // the counter of its requests
	page     signal.Page
	err      error
}

// scrape fetches the pages of all instances of the old and the new cohort at the same moment, and adds what the site
// itself measured of each.
func (b *loop) scrape(ctx context.Context, seen *evidence) []*scraped {
	var pages []*scraped
	var measured map[string]signal.Page
	group := errgroup.Group{}
	group.SetLimit(atOnce)
	group.Go(func() (err error) {
		ctx, cancel := context.WithTimeout(ctx, askTimeout)
		defer cancel()
		if measured, err = b.driver.Measure(ctx, b.id.Workload); err != nil && seen.trouble == nil && ctx.Err() == nil {
			seen.trouble = fmt.Errorf("what the site measures cannot be read: %w; guards on it are silent until that is mended", err)
		}
		return nil
	})
	for _, cohort := range seen.target.Cohorts {
		desired := b.desired(cohort.Revision)
		if desired == nil || (cohort.Revision != seen.old && cohort.Revision != seen.new) {
			continue
		}
		for _, in := range cohort.Instances {
			if in.Address == "" || desired.Parts[in.Part].Kind == declare.Task {
				continue
			}
			s := &scraped{revision: cohort.Revision, id: in.ID, requests: target.RequestsMetric}
			pages = append(pages, s)
			if metrics := desired.Parts[in.Part].Metrics; metrics != nil {
				s.requests = cmp.Or(metrics.Requests, target.RequestsMetric)
				group.Go(func() error {
					s.page, s.err = b.e.sense.Scrape(ctx, in.Address, in.Ports, *metrics)
					return nil
				})
			}
		}
	}
	group.Wait()
	for _, s := range pages {
		s.page = together(s.page, measured[s.id])
	}
	return pages
}

// together is a page with what another one has beside it.
func together(page, other signal.Page) signal.Page {
	both := make(signal.Page, len(page)+len(other))
	maps.Copy(both, other)
	maps.Copy(both, page)
	return both
}

// evaluate scrapes every instance and makes one evaluation of all signals.
func (b *loop) evaluate(ctx context.Context, seen *evidence, rules *declare.Desired, now time.Time) {
	b.senses.evaluated, seen.evaluated = now, true
	e := &evaluation{at: now, points: map[string]map[declare.Fingerprint]*signal.Point{}, requests: map[declare.Fingerprint]float64{}}
	tallies := map[string]map[declare.Fingerprint]signal.Tally{}
	for _, rule := range rules.Guards {
		tallies[rule.Name] = map[declare.Fingerprint]signal.Tally{}
	}
	for _, s := range b.scrape(ctx, seen) {
		if s.err != nil {
			if seen.health[s.id].Word == health.Healthy && seen.trouble == nil && ctx.Err() == nil {
				seen.trouble = fmt.Errorf("the metrics of %s cannot be read: %w; guards on them are silent until that is mended", s.id, s.err)
			}
			continue
		}
		for _, rule := range rules.Guards {
			if tally, ok := b.senses.tracker(rule.Name).Take(rule.Signal, s.id, s.page, now); ok {
				tallies[rule.Name][s.revision] = tallies[rule.Name][s.revision].Add(tally)
			}
		}
		source := signal.Source{Kind: signal.Rate, Of: signal.Series{Metric: s.requests}}
		if tally, ok := b.senses.tracker(requestsGuard).Take(source, s.id, s.page, now); ok {
			e.requests[s.revision] += tally.Part
		}
	}
	for _, rule := range rules.Guards {
		e.points[rule.Name] = map[declare.Fingerprint]*signal.Point{}
		for revision, tally := range tallies[rule.Name] {
			if value, ok := rule.Signal.Value(tally); ok && !math.IsNaN(value) && !math.IsInf(value, 0) {
				e.points[rule.Name][revision] = &signal.Point{At: now, Value: value, Tally: tally}
			}
		}
	}
	e.stage = b.stageOf(now)
	b.senses.add(e)
	b.keepSteady(e, rules, now)
}

func later(a, b time.Time) time.Time {
	if b.After(a) {
		return b
	}
	return a
}

// core is the evidence as the decision takes it.
func (seen *evidence) core() berth.Seen {
	out := berth.Seen{
		Reached: seen.reached, Stale: seen.stale, Whole: seen.target.Whole, Evaluated: seen.evaluated, Verdicts: seen.verdicts,
		Unmarked: seen.unmarked, Dead: seen.dead,
	}
	for _, c := range seen.target.Cohorts {
		cohort := berth.Cohort{Revision: c.Revision, Share: c.Share, Preview: c.Preview, Live: c.Live}
		for _, in := range c.Instances {
			one := berth.Instance{ID: in.ID, Part: in.Part, Done: in.Done, Failed: in.Failed, CannotStart: in.CannotStart}
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
