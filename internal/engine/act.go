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
)

// carryOut has the target do what is wanted.
func (b *loop) carryOut(ctx context.Context, intents []rollout.Intent) error {
	ctx, cancel := context.WithTimeout(ctx, askTimeout)
	defer cancel()
	var failed []error
	for _, i := range intents {
		if err := b.do(ctx, i); err != nil {
			failed = append(failed, err)
		}
	}
	return errors.Join(failed...)
}

func (b *loop) do(ctx context.Context, i rollout.Intent) error {
	workload := b.id.Workload
	switch i.Do {
	case rollout.Lay:
		r := b.e.revision(workload, i.Revision)
		if r == nil {
			return fmt.Errorf("revision %s is not on record", i.Revision.Short())
		}
		desired, err := b.opened(compare.KeepLeft(*r.Desired, b.state.Change.Live))
		if err != nil {
			return err
		}
		return b.driver.Lay(ctx, workload, i.Revision, desired)
	case rollout.Scale:
		return b.driver.Scale(ctx, workload, i.Revision, i.Part, i.Count, b.unwell(i.Part))
	case rollout.Preview:
		return b.driver.Preview(ctx, workload, i.Revision)
	case rollout.Run:
		return b.driver.Run(ctx, workload, i.Revision, i.Part)
	case rollout.SetShare:
		rest := declare.Fingerprint("")
		if b.state.Roll != nil {
			rest = b.state.Roll.Old.Revision
		}
		return b.driver.SetShare(ctx, workload, i.Revision, i.Share, rest)
	case rollout.Keep:
		return b.driver.Keep(ctx, workload, i.From, i.Revision, i.Part)
	case rollout.Prune:
		return b.driver.Remove(ctx, workload, i.Revision, i.Part)
	case rollout.Mark:
		return b.driver.Mark(ctx, workload, i.From, i.Revision)
	case rollout.Drop:
		return b.driver.Drop(ctx, workload, i.Revision)
	}
	return nil
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
func (b *loop) opened(desired declare.Desired) (declare.Desired, error) {
	parts := maps.Clone(desired.Parts)
	for name, part := range parts {
		if part.Kind != declare.Secret {
			continue
		}
		part.Opened = map[string]string{}
		for key, sealed := range part.Sealed {
			plain, err := b.e.outside.Opener.Open(sealed)
			if err != nil {
				return desired, fmt.Errorf("the secret %s of %s: %w; nothing of %s is laid down until it opens", key, name, err, b.id)
			}
			part.Opened[key] = plain
		}
		parts[name] = part
	}
	desired.Parts = parts
	return desired, nil
}
