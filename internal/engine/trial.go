package engine

import (
	"cmp"
	"context"
	"fmt"
	"time"

	"aditus/internal/core/berth"
	"aditus/internal/core/compare"
	"aditus/internal/core/declare"
	"aditus/internal/source"
	"aditus/internal/target"
)

// trial is what a site said that it would make of a revision, before anything of it is done.
type trial struct {
	of      declare.Fingerprint
	asked   time.Time // when it was asked; zero while it is being asked
	asking  bool
	refused string   // what it would refuse, or why it could not be asked
	told    []string // what it would make otherwise than it is declared, and take over
}

const (
	trialTakes = 2 * time.Minute        // at most, for what a workload has at once
	trialEach  = 400 * time.Millisecond // and for each object, as sites bound how often they are asked
	trialAgain = 30 * time.Second       // after which what was refused is asked for again
	trialHolds = time.Minute            // for a person's sync, which a newer answer is asked for after
	mostTold   = 20                     // of what a site would make otherwise
)

// cannot tells why a site cannot take what is declared; empty where it can. asking tells that this is not known yet. A site is
// asked in the background, once for a revision, and anew where it refused, or a person syncs a while after.
func (b *loop) cannot(declared *berth.Revision, synced bool, now time.Time) (why string, asking bool) {
	placer, ok := b.driver.(target.Placer)
	switch {
	case !ok && !declared.Desired.NeedsCluster():
		return "", false
	case !ok:
		return fmt.Sprintf("%s is no cluster, and what comes from objects of a cluster's API cannot be there: take its parts of kind objects, and those with from:, out for this site", b.id.Site), false
	case declared.Fingerprint == b.state.Applied || b.state.Roll != nil:
		return "", false
	}
	b.e.mu.Lock()
	defer b.e.mu.Unlock()
	t := &b.trial
	switch {
	case t.asking:
	case t.of == declared.Fingerprint && t.refused == "" && !(synced && now.Sub(t.asked) > trialHolds), t.of == declared.Fingerprint && t.refused != "" && now.Sub(t.asked) < trialAgain:
		return t.refused, false
	default:
		desired, err := b.e.opened(compare.KeepLeft(*declared.Desired, b.state.Change.Live))
		if err != nil {
			return err.Error(), false
		}
		refused := ""
		if t.of == declared.Fingerprint {
			refused = t.refused // until it is known anew
		}
		*t = trial{of: declared.Fingerprint, asking: true, refused: refused}
		go b.try(placer, declared.Fingerprint, desired)
	}
	if t.of == declared.Fingerprint && t.refused != "" {
		return t.refused, true
	}
	return "the site is being asked what it would make of it", true
}

// try asks a site what it would make of a revision.
func (b *loop) try(placer target.Placer, of declare.Fingerprint, desired declare.Desired) {
	takes := trialTakes
	for _, part := range desired.Parts {
		takes += time.Duration(len(part.Objects)) * trialEach
	}
	ctx, cancel := context.WithTimeout(context.Background(), takes)
	defer cancel()
	tried, err := placer.Try(ctx, b.id.Workload, desired)
	next := trial{of: of, asked: b.e.clock.Now()}
	if err != nil {
		next.refused = "the site could not be asked what it would make of it: " + err.Error()
	}
	refused := 0
	for _, t := range tried {
		name := cmp.Or(t.ID, t.Part)
		if t.Refused != "" {
			if refused++; refused == 1 {
				next.refused = name + b.where(t.ID) + ": " + t.Refused
			}
			continue
		}
		for _, text := range t.Told {
			next.told = append(next.told, name+": "+text)
		}
	}
	if refused > 1 {
		next.refused += fmt.Sprintf(" (and %d more)", refused-1)
	}
	if more := len(next.told) - mostTold; more > 0 {
		next.told = append(next.told[:mostTold], fmt.Sprintf("and %d more", more))
	}
	b.e.mu.Lock()
	if b.trial.of == of {
		b.trial = next
	}
	b.e.mu.Unlock()
	b.nudge()
}

// where tells where an object stands in Git, where that is known.
func (b *loop) where(id string) string {
	b.e.mu.Lock()
	defer b.e.mu.Unlock()
	for _, l := range b.e.links {
		if at := l.state.Places[source.PlaceOf(b.id.Workload, id)]; at != "" {
			return " (" + at + ")"
		}
	}
	return ""
}

// told is what the site would make otherwise of a revision than it is declared.
func (b *loop) told(of declare.Fingerprint) []string {
	b.e.mu.Lock()
	defer b.e.mu.Unlock()
	if b.trial.of != of {
		return nil
	}
	return b.trial.told
}
