package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"sync"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"

	"aditus/internal/control"
	"aditus/internal/core/berth"
	"aditus/internal/core/compare"
	"aditus/internal/core/rollout"
	"aditus/internal/core/say"
	"aditus/internal/status"
	"aditus/internal/view"
	"aditus/internal/words"
)

func newSync() *cobra.Command {
	var r connection
	var o syncOptions
	cmd := &cobra.Command{
		Use:   "sync [BERTH|PATTERN...]",
		Short: "Bring berths what is declared, or put back what was changed by hand",
		Long: `Starts the rollout of what Git declares at each berth, as y does on the board, and
waits until all are proven, rolled back, or wait for a person. They go together; one
that needs another one of them begins when that one is there. A berth that is as
declared is left alone. Berths are named, or chosen by patterns and selectors. Parts go
in the order in which they need each other; where one does not become healthy the next
do not start, and what is healthy stays.

Where no Aditus runs on the data folder, one runs for as long as this takes, and
takes nothing else meanwhile. The exit code is 1 where a berth did not come to what
was asked.`,
		Example: `  aditus sync fares/north --dry-run
  aditus sync fares/north tides/north
  aditus sync --all --site north --until-asked
  aditus sync 'fares/*' --team islanders
  aditus sync fares/north -m "the fix of what was rolled back"
  aditus sync fares/north --part engine --part engine-settings
  aditus sync fares/north --remove-orphans`,
		Args: func(cmd *cobra.Command, args []string) error { return o.which.read(args) },
		RunE: func(cmd *cobra.Command, args []string) error { return runSync(cmd, r, o) },
	}
	connectionFlags(cmd, &r)
	flags := cmd.Flags()
	flags.BoolVar(&o.dry, "dry-run", false, "tell what would be done, and do nothing")
	flags.StringArrayVar(&o.parts, "part", nil, "only this `part`; may stand several times")
	flags.StringVar(&o.override, "override", "", "pass over what the line's rules put in the way, with this `reason`; for those who may")
	selectionFlags(cmd, &o.which, "every berth that is not as declared")
	flags.StringVarP(&o.message, "message", "m", "", "why, for the record; needed while a berth cools down after a rollback")
	flags.BoolVar(&o.untilAsked, "until-asked", false, "return as soon as one of them waits for a person")
	flags.BoolVar(&o.orphans, "remove-orphans", false, "remove parts that are live and not declared any more")
	flags.BoolVar(&o.noWait, "no-wait", false, "do not wait for the end; only where an Aditus runs")
	jsonFlag(cmd, &o.json)
	flags.DurationVar(&o.timeout, "timeout", 30*time.Minute, "how long to wait at most")
	return cmd
}

type syncOptions struct {
	which                selection
	dry, orphans, noWait bool
	untilAsked           bool
	json                 bool
	parts                []string
	override, message    string
	timeout              time.Duration
}

func runSync(cmd *cobra.Command, r connection, o syncOptions) error {
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
		return syncChosen(ctx, cmd.OutOrStdout(), remote, o, look)
	}
	if o.noWait {
		return usageError{errors.New("--no-wait needs an Aditus that runs on the data folder")}
	}
	return onlyAsked(ctx, folder, o.dry, func(s *localEngine) error {
		return syncChosen(ctx, cmd.OutOrStdout(), s.Live, o, func() (status.Snapshot, error) { return s.Snapshot(ctx), nil })
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

// syncChosen syncs the berths that are chosen, or tells what that would do.
func syncChosen(ctx context.Context, w io.Writer, to control.Control, o syncOptions, look func() (status.Snapshot, error)) error {
	berths, err := o.which.of(ctx, look)
	if err != nil {
		return err
	}
	if o.dry {
		return dryRun(ctx, w, to, berths, o.json, look)
	}
	s := syncing{to: to, look: look, o: o, out: w}
	return s.all(ctx, berths, func(id berth.ID) bool { return slices.Contains(o.which.named, id) })
}

// syncing is a sync of several berths at a time.
type syncing struct {
	to   control.Control
	look func() (status.Snapshot, error)
	o    syncOptions

	mu  sync.Mutex // one writes at a time
	out io.Writer

	came int // how many orders were taken and berths came to their end, until the last look
}

// synced is one of its berths on its way.
type synced struct {
	id      berth.ID
	quiet   bool // nobody named it: it is not told that there was nothing to do
	was     compare.SyncStatus
	ordered bool
	again   time.Time // when an order that was refused is given again
	tried   int       // how much had come when it was refused last
	begun   time.Time
	told    string
	end     ending
}

// ending is what became of a berth.
type ending string

const (
	syncUnder   ending = ""
	syncDone    ending = "synced"
	syncAligned ending = "as declared already"
	syncAsks    ending = "waiting for a person"
	syncBack    ending = "rolled back"
	syncRefused ending = "not synced"
)

// endings are all of them, in the order in which they are told.
var endings = []ending{syncDone, syncAligned, syncAsks, syncBack, syncRefused}

// atOnce is how many orders are given at a time.
const atOnce = 16

// all syncs berths together and tells what becomes of each.
func (s *syncing) all(ctx context.Context, berths []berth.ID, named func(berth.ID) bool) error {
	var all []*synced
	for _, id := range berths {
		all = append(all, &synced{id: id, quiet: !named(id)})
	}
	ticker := time.NewTicker(pollSnapshot)
	defer ticker.Stop()
	for begun := time.Now(); ; {
		now, err := s.look()
		if err != nil {
			return err
		}
		var group errgroup.Group
		group.SetLimit(atOnce)
		others := map[*synced]bool{} // told beforehand, as each is changed by its own step
		s.came = 0
		for _, one := range all {
			if others[one] = s.others(all, one); one.ordered {
				s.came++
			}
			if one.end != syncUnder {
				s.came++
			}
		}
		for _, one := range all {
			b, there := now.Find(one.id)
			switch {
			case one.end != syncUnder:
			case there:
				group.Go(func() error { return s.step(ctx, one, b, others[one]) })
			case time.Since(begun) > settleTime:
				s.tell(one, "it is gone")
				one.end = syncRefused
			}
		}
		if err := group.Wait(); err != nil {
			return err
		}
		left := slices.ContainsFunc(all, func(one *synced) bool { return one.end == syncUnder })
		asked := s.o.untilAsked && slices.ContainsFunc(all, func(one *synced) bool { return one.end == syncAsks })
		if !left || asked {
			return s.sum(all)
		}
		select {
		case <-ctx.Done():
			for _, one := range all {
				if one.end == syncUnder {
					err = errors.Join(err, fmt.Errorf("%s: not at its end yet: %w", one.id, ctx.Err()))
				}
			}
			return err
		case <-ticker.C:
		}
	}
}

// others tells whether something else of the command is on its way at a berth's site, or about to be, which it may wait for.
func (s *syncing) others(all []*synced, own *synced) bool {
	return slices.ContainsFunc(all, func(one *synced) bool {
		return one != own && one.id.Site == own.id.Site && one.end == syncUnder && (one.ordered || one.again.IsZero())
	})
}

// tell tells something of a berth, once.
func (s *syncing) tell(one *synced, text string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if text != one.told {
		one.told = text
		printBerth(s.out, one.id, s.o.json, text)
	}
}

// sum tells what became of several berths.
func (s *syncing) sum(all []*synced) error {
	count := map[ending]int{}
	for _, one := range all {
		count[one.end]++
	}
	if len(all) > 1 && !s.o.json {
		var parts []string
		for _, end := range append(slices.Clone(endings), syncUnder) {
			if n := count[end]; n > 0 {
				parts = append(parts, fmt.Sprintf("%d %s", n, cmp.Or(end, "still on the way")))
			}
		}
		fmt.Fprintf(s.out, "Of %d berths %s.\n", len(all), say.List(parts))
	}
	if count[syncDone]+count[syncAligned] < len(all) {
		return errWrong
	}
	return nil
}

// step brings one berth one step further: it gives the order as soon as the berth was looked at, and follows what comes of it.
func (s *syncing) step(ctx context.Context, one *synced, b status.Berth, others bool) error {
	if one.ordered {
		s.follow(one, b)
		return nil
	}
	looked := !b.Looked.IsZero() && b.SyncStatus != compare.Unread || b.Problem != nil
	if !looked || time.Now().Before(one.again) {
		return nil
	}
	by := whoami(fromShell)
	if s.o.orphans && len(words.Orphans(b)) > 0 {
		if err := s.to.Do(ctx, by, berth.Order{Verb: berth.RemoveOrphans, Berth: b.ID}); err != nil {
			s.tell(one, err.Error())
			one.end = syncRefused
			return nil
		}
		s.tell(one, "orphans removed")
	}
	moves := b.Rollout != nil && !b.Keeps()
	if !moves && b.SyncStatus == compare.Aligned {
		if one.end = syncAligned; !one.quiet {
			s.tell(one, "aligned, nothing to do")
		}
		return nil
	}
	if !moves {
		err := s.to.Do(ctx, by, berth.Order{Verb: berth.Sync, Berth: b.ID, Parts: s.o.parts, Override: s.o.override, Note: s.o.message})
		switch {
		case err != nil && ctx.Err() != nil:
			return nil // the time is over
		case err != nil && (others || s.came > one.tried && s.came > 0): // it may wait for one that is on its way, or came meanwhile
			s.tell(one, err.Error()+"; tried again as others come to their end")
			one.again, one.tried = time.Now().Add(tryAgain), s.came
			return nil
		case err != nil:
			s.tell(one, err.Error())
			one.end = syncRefused
			return nil
		}
	}
	if one.ordered, one.was, one.begun = true, b.SyncStatus, time.Now(); s.o.noWait {
		s.tell(one, "begun")
		one.end = syncDone
	}
	return nil
}

// tryAgain is when an order that was refused is given again, while others are on their way.
const tryAgain = 2 * time.Second

// follow tells how a berth comes on, and takes note of its end.
func (s *syncing) follow(one *synced, b status.Berth) {
	r := b.Rollout
	text, _ := words.Headline(b, time.Now())
	if r != nil {
		text = phaseText(r.State)
	}
	s.tell(one, text)
	switch {
	case r != nil && (r.Phase == rollout.Waiting || r.Phase == rollout.Held):
		s.tell(one, "waits for a person: "+r.Why)
		one.end = syncAsks
	case r != nil && (r.Phase != rollout.Proven || r.Possible(rollout.Release) != nil && time.Since(r.Since) < settleTime): // what is left of the old side goes
	case r == nil && b.Bar != nil:
		s.tell(one, "rolled back: "+b.Bar.Why)
		one.end = syncBack
	case r != nil && !r.Return && b.Declared != nil && r.New.Revision == b.Declared.Fingerprint, r == nil && (b.SyncStatus != one.was || b.InPart || time.Since(one.begun) > settleTime):
		if one.end = syncRefused; b.SyncStatus == compare.Aligned || len(s.o.parts) > 0 || r != nil {
			one.end = syncDone
		}
	}
}

// phaseText tells where a rollout is.
func phaseText(r rollout.State) string {
	text, lasts := string(r.Phase), time.Duration(0)
	switch {
	case r.Phase == rollout.Proving:
		lasts = r.Rules.Proving.Duration
	case r.Phase.Forward():
		text = fmt.Sprintf("stage %d of %d, %s", r.Stage+1, len(r.Rules.Stages), r.Phase)
		if r.Phase == rollout.Soaking {
			lasts = r.Rules.Stages[min(r.Stage, len(r.Rules.Stages)-1)].Soak.Duration
		}
	}
	if lasts >= time.Second {
		text += " for " + say.Span(lasts)
	}
	return text
}

// dryRun tells what a sync of berths would do.
func dryRun(ctx context.Context, w io.Writer, to control.Control, berths []berth.ID, asJSON bool, look func() (status.Snapshot, error)) error {
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
		if !asJSON {
			printComparison(w, c, false)
		} else if err := writeLine(w, c); err != nil {
			return err
		}
	}
	return nil
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
					return b, fmt.Errorf("there is no berth %s (%s), and the link %s says: %s", id, nearBerths(s, id), l.Name, l.Problem.Text)
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
