package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"github.com/spf13/cobra"

	"aditus/internal/control"
	"aditus/internal/core/berth"
	"aditus/internal/core/compare"
	"aditus/internal/core/rollout"
	"aditus/internal/status"
	"aditus/internal/view"
	"aditus/internal/words"
)

func newSync() *cobra.Command {
	var r connection
	var o syncOptions
	cmd := &cobra.Command{
		Use:   "sync BERTH...",
		Short: "Bring berths what is declared, or put back what was changed by hand",
		Long: `Starts the rollout of what Git declares at each berth, as y does on the board, and
waits until it is proven, rolled back, or waits for a person. A berth that is as
declared is left alone. Parts go in the order in which they need each other; where
one does not become healthy the next do not start, and what is healthy stays.

Where no Aditus runs on the data folder, one runs for as long as this takes, and
takes nothing else meanwhile. The exit code is 1 where a berth did not come to what
was asked.`,
		Example: `  aditus sync fares/north --dry-run
  aditus sync fares/north tides/north
  aditus sync fares/north --part engine --part engine-settings
  aditus sync fares/north --remove-orphans`,
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 {
				return usageError{errors.New("aditus sync takes at least one berth, written WORKLOAD/SITE")}
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			var berths []berth.ID
			for _, text := range args {
				id, err := parseBerth(text)
				if err != nil {
					return err
				}
				berths = append(berths, id)
			}
			return runSync(cmd, r, berths, o)
		},
	}
	connectionFlags(cmd, &r)
	flags := cmd.Flags()
	flags.BoolVar(&o.dry, "dry-run", false, "tell what would be done, and do nothing")
	flags.StringArrayVar(&o.parts, "part", nil, "only this `part`; may stand several times")
	flags.StringVar(&o.override, "override", "", "pass over what the line's rules put in the way, with this `reason`; for those who may")
	flags.BoolVar(&o.orphans, "remove-orphans", false, "remove parts that are live and not declared any more")
	flags.BoolVar(&o.noWait, "no-wait", false, "do not wait for the end; only where an Aditus runs")
	flags.BoolVar(&o.json, "json", false, "a JSON object for each thing that is told")
	flags.DurationVar(&o.timeout, "timeout", 30*time.Minute, "how long to wait at most")
	return cmd
}

type syncOptions struct {
	dry, orphans, noWait bool
	json                 bool
	parts                []string
	override             string
	timeout              time.Duration
}

func runSync(cmd *cobra.Command, r connection, berths []berth.ID, o syncOptions) error {
	ctx, cancel := context.WithTimeout(cmd.Context(), o.timeout)
	defer cancel()
	remote, folder, err := r.running()
	if err != nil {
		return err
	}
	if remote != nil {
		look := func() (status.Snapshot, error) { return remote.Renew(ctx) }
		if err := lookFirst(ctx, remote, look); err != nil {
			return err
		}
		return syncAll(ctx, cmd.OutOrStdout(), remote, berths, o, look)
	}
	if o.noWait {
		return usageError{errors.New("--no-wait needs an Aditus that runs on the data folder")}
	}
	return onlyAsked(ctx, folder, o.dry, func(s *localEngine) error {
		return syncAll(ctx, cmd.OutOrStdout(), s.Live, berths, o, func() (status.Snapshot, error) { return s.Snapshot(ctx), nil })
	})
}

// lookFirst has a running Aditus read its links, so that what was pushed a moment ago is taken.
func lookFirst(ctx context.Context, remote control.Control, look func() (status.Snapshot, error)) error {
	before, err := look()
	if err == nil {
		err = remote.LookNow(ctx, whoami(fromShell))
	}
	for begun := time.Now(); err == nil && time.Since(begun) < settleTime; {
		var now status.Snapshot
		if now, err = look(); err != nil {
			break
		}
		read := true
		for _, l := range now.Links {
			for _, b := range before.Links {
				read = read && (l.Name != b.Name || l.Looked.After(b.Looked))
			}
		}
		if read {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(pollSnapshot / 4):
		}
	}
	return err
}

// syncAll gives the orders and waits for what becomes of them.
func syncAll(ctx context.Context, w io.Writer, to control.Control, berths []berth.ID, o syncOptions, look func() (status.Snapshot, error)) error {
	wrong := false
	for _, id := range berths {
		b, err := waitFor(ctx, look, id, func(b status.Berth) bool {
			return !b.Looked.IsZero() && b.SyncStatus != compare.Unread || b.Problem != nil
		})
		if err != nil {
			return err
		}
		c, err := to.Compare(ctx, b.ID, view.Against{})
		if err != nil {
			return err
		}
		if o.dry && o.json {
			if err := writeLine(w, c); err != nil {
				return err
			}
			continue
		}
		if o.dry {
			printComparison(w, c, false)
			continue
		}
		if ok, err := syncOne(ctx, w, to, b, o, look); err != nil {
			return err
		} else if !ok {
			wrong = true
		}
	}
	if wrong {
		return errWrong
	}
	return nil
}

// syncOne syncs a berth and tells what came of it. It is false where that is not what was asked for.
func syncOne(ctx context.Context, w io.Writer, to control.Control, b status.Berth, o syncOptions, look func() (status.Snapshot, error)) (bool, error) {
	by := whoami(fromShell)
	if o.orphans && len(words.Orphans(b)) > 0 {
		if err := to.Do(ctx, by, berth.Order{Verb: berth.RemoveOrphans, Berth: b.ID}); err != nil {
			printBerth(w, b.ID, o.json, err.Error())
			return false, nil
		}
		printBerth(w, b.ID, o.json, "orphans removed")
	}
	if b.Rollout == nil && b.SyncStatus == compare.Aligned {
		printBerth(w, b.ID, o.json, "aligned, nothing to do")
		return true, nil
	}
	if b.Rollout == nil {
		if err := to.Do(ctx, by, berth.Order{Verb: berth.Sync, Berth: b.ID, Parts: o.parts, Override: o.override}); err != nil {
			printBerth(w, b.ID, o.json, err.Error())
			return false, nil
		}
	}
	if o.noWait {
		printBerth(w, b.ID, o.json, "begun")
		return true, nil
	}
	last, begun := "", time.Now()
	end, err := waitFor(ctx, look, b.ID, func(now status.Berth) bool {
		text, _ := words.Headline(now, time.Now())
		if r := now.Rollout; r != nil {
			text = string(r.Phase)
			if r.Phase.Forward() && r.Phase != rollout.Proving {
				text = fmt.Sprintf("stage %d of %d, %s", r.Stage+1, len(r.Rules.Stages), r.Phase)
			}
		}
		if text != last {
			printBerth(w, b.ID, o.json, text)
			last = text
		}
		r := now.Rollout
		return r == nil && (now.SyncStatus != b.SyncStatus || now.Bar != nil || now.InPart || time.Since(begun) > settleTime) || r != nil && (r.Phase == rollout.Waiting || r.Phase == rollout.Held)
	})
	if err != nil {
		return false, err
	}
	switch {
	case end.Rollout != nil:
		printBerth(w, b.ID, o.json, "waits for a person: "+end.Rollout.Why)
		return false, nil
	case end.Bar != nil:
		printBerth(w, b.ID, o.json, "rolled back: "+end.Bar.Why)
		return false, nil
	}
	return end.SyncStatus == compare.Aligned || len(o.parts) > 0, nil
}

// settleTime is how long a berth that stands as before may take to show that something began.
const settleTime = 15 * time.Second

// pollSnapshot is how often a snapshot is looked at while waiting.
const pollSnapshot = 200 * time.Millisecond

// waitFor waits until a berth is as wanted.
func waitFor(ctx context.Context, look func() (status.Snapshot, error), id berth.ID, as func(status.Berth) bool) (status.Berth, error) {
	ticker := time.NewTicker(pollSnapshot)
	defer ticker.Stop()
	begun := time.Now()
	for {
		s, err := look()
		if err != nil {
			return status.Berth{}, err
		}
		b, ok := s.Find(id)
		if !ok {
			for _, l := range s.Links {
				if l.Problem != nil {
					return b, fmt.Errorf("there is no berth %s, and the link %s says: %s", id, l.Name, l.Problem.Text)
				}
			}
			if time.Since(begun) > settleTime {
				return b, fmt.Errorf("there is no berth %s; %s", id, nearBerths(s, id))
			}
		}
		if ok && as(b) {
			return b, nil
		}
		select {
		case <-ctx.Done():
			return b, fmt.Errorf("%s: not at its end yet: %w", id, ctx.Err())
		case <-ticker.C:
		}
	}
}
