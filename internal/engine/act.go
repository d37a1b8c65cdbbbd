package engine

import (
	"context"
	"errors"
	"fmt"
	"maps"

	"aditus/internal/core/compare"
	"aditus/internal/core/declare"
	"aditus/internal/core/health"
	"aditus/internal/core/rollout"
	"aditus/internal/target"
)

// carryOut has the target do what is wanted.
func (b *loop) carryOut(ctx context.Context, intents []rollout.Intent) error {
	ctx, cancel := context.WithTimeout(ctx, askTimeout)
	defer cancel()
	var failed []error
	var wants []target.Want
	for _, i := range intents {
		w, err := b.want(i)
		if err != nil {
			failed = append(failed, err)
			continue
		}
		wants = append(wants, w)
	}
	if step := b.state.Step; len(wants) > 0 || step != b.noted {
		if err := b.e.ledger.Leads(ctx); err != nil {
			return err
		}
		err := b.driver.Apply(ctx, b.id.Workload, append(wants, target.Noted(step)))
		if failed = append(failed, err); err == nil {
			b.noted = step
		}
	}
	return errors.Join(failed...)
}

// want is an intent with what it takes to do it.
func (b *loop) want(i rollout.Intent) (target.Want, error) {
	w := target.Want{Intent: i}
	switch i.Do {
	case rollout.Prepare:
		desired, err := b.laid(i.Revision)
		if err != nil {
			return w, err
		}
		w.Desired = &desired
		if r := b.held[i.Revision]; r != nil {
			w.Remember = target.Remember(r)
		}
	case rollout.Place:
		desired, err := b.laid(i.Revision)
		if err != nil {
			return w, err
		}
		w.Opened = desired.Parts[i.Part].Opened
	case rollout.Scale:
		w.First = b.unwell(i.Part)
	case rollout.SetShare:
		if b.state.Roll != nil {
			w.Rest = b.state.Roll.Old.Revision
		}
	}
	return w, nil
}

// laid is what a revision declares as it is laid down: with what it leaves to others as it is live, and its secrets opened.
func (b *loop) laid(revision declare.Fingerprint) (declare.Desired, error) {
	r := b.held[revision]
	if r == nil {
		var err error
		if r, err = b.e.revision(b.id.Workload, revision); err != nil {
			return declare.Desired{}, err
		} else if r == nil {
			return declare.Desired{}, fmt.Errorf("revision %s is not on record", revision.Short())
		}
	}
	return b.e.opened(compare.KeepLeft(*r.Desired, b.state.Change.Live))
}

// unwell names the instances of a part that are not healthy, so that they are the first to go.
func (b *loop) unwell(part string) (ids []string) {
	for _, cohort := range b.last.target.Cohorts {
		for _, in := range cohort.Instances {
			if in.Part == part && b.last.health[in.ID].Word != health.Healthy {
				ids = append(ids, in.ID)
			}
		}
	}
	return ids
}

// opened gives a desired state with its secrets opened, for the driver alone.
func (e *Engine) opened(desired declare.Desired) (declare.Desired, error) {
	parts := maps.Clone(desired.Parts)
	for name, part := range parts {
		if len(part.Sealed) == 0 {
			continue
		}
		part.Opened = map[string]string{}
		for key, sealed := range part.Sealed {
			plain, err := e.access.Opener.Open(sealed)
			if err != nil {
				return desired, fmt.Errorf("the secret %s of %s: %w; nothing of %s is laid down until it opens", key, name, err, desired.Workload)
			}
			part.Opened[key] = plain
		}
		parts[name] = part
	}
	desired.Parts = parts
	return desired, nil
}
