package cli

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"aditus/internal/control"
	"aditus/internal/control/api"
	"aditus/internal/core/berth"
	"aditus/internal/core/calendar"
	"aditus/internal/core/say"
	"aditus/internal/source"
	"aditus/internal/words"
)

// command is an order that has a command of its own.
type command struct {
	name, short, long string
	verb              berth.Verb
	done              string // told once it is done
	alone             bool   // it needs no Aditus that runs
	message           string // what --message is; empty where there is none
	to                bool   // it takes --to
	until             bool   // it takes --until
	count             bool   // it takes --to as a number of instances, and --part
}

var commands = []command{
	{name: "advance", verb: berth.Advance, short: "Skip the rest of a stage's soak", done: "goes on to the next stage as soon as its guards let it",
		long: "A guard that is undecided is passed over; one that is silent or breaches is not."},
	{name: "hold", verb: berth.Hold, short: "Keep a rollout in its stage", done: "is held; guards stay on", message: "why, for the record"},
	{name: "go-on", verb: berth.GoOn, short: "Let a held rollout go on", done: "goes on"},
	{name: "sign-off", verb: berth.SignOff, short: "Give your go-ahead for the next stage, or for a revision to come", done: "is signed off", message: "what you looked at, for the record",
		long: "During a rollout it is for the stage that waits; otherwise for what Git declares to come\nto the site, where the line's course asks for that."},
	{name: "take", verb: berth.TakeOffer, short: "Take a revision that is offered to a site's team", done: "takes what was offered, as soon as it may come", message: "for the record"},
	{name: "put-off", verb: berth.PutOff, short: "Put a revision off that is offered to a site's team", done: "is put off", message: "why; who made it reads it; needed", until: true},
	{name: "decline", verb: berth.Decline, short: "Decline a revision that is offered to a site's team", done: "declines what was offered; the next revision is offered again", message: "why; who made it reads it; needed"},
	{name: "rollback", verb: berth.RollBack, short: "Go back to the old revision, or to any on record", done: "is on its way back; aditus status tells how far it is", message: "why, for the record", to: true,
		long: "During a rollout it is turned round. Otherwise the berth goes back to the revision\nthat was proven before the present one, or to the one named with --to. What is left\nis barred until Git moves on or someone lifts the bar."},
	{name: "abandon", verb: berth.Abandon, short: "Leave a rollout as it is, both cohorts and the traffic", done: "is left as it is; no guard acts on it any more", message: "why, for the record"},
	{name: "lock", verb: berth.LockIt, short: "Keep a berth at its revision", done: "is locked", message: "why, for your colleagues; needed", alone: true,
		long: "A locked berth takes no revision, by hand either, and its standing guards only tell."},
	{name: "unlock", verb: berth.Unlock, short: "Let revisions come to a berth again", done: "is unlocked", alone: true},
	{name: "scale", verb: berth.Scale, short: "Set another number of instances than is declared", done: "has the number of instances that was asked for", message: "why, for the record", count: true,
		long: "It stays until it is set again, with --to declared for as many as are declared, or\nuntil Git declares another number. It is nobody's drift meanwhile."},
	{name: "restart", verb: berth.Restart, short: "Start all instances anew, one by one", done: "starts its instances anew, one by one", message: "why, for the record",
		long: "Each is started anew once the one before is healthy again; where one does not become\nhealthy, no more are."},
	{name: "preview", verb: berth.Preview, short: "Keep in the ledger what a sync would do now", done: "is previewed; aditus ledger tells what a sync would do"},
	{name: "look-for-drift", verb: berth.LookForDrift, short: "Look now for what was changed by hand", done: "was looked at"},
	{name: "extend", verb: berth.Extend, short: "Let a berth live longer than its end of life", done: "lives longer", message: "why; needed", until: true, alone: true},
	{name: "let-go", verb: berth.LetGo, short: "Let go of what was taken over: it runs on, and is nobody's", done: "is being let go; all of it runs on", message: "why; needed",
		long: "Takes the marks off all objects of a berth, and forgets them. Nothing is changed or started\nanew. It is for workloads of objects alone; what Aditus made itself would be looked after\nby nobody. Take it out of Git too, or the next sync takes it over again."},
	{name: "vouch", verb: berth.Vouch, short: "Say that what was found at a site is good", done: "counts as proven; it goes on from there", message: "why, for the record", to: true,
		long: "Where the ledger is gone, or older than a site, what serves there is kept as it is and\nunproven, until somebody vouches for it or its own guards have held for as long as a\nproving takes. With --to it is another revision that is there."},
	{name: "lift-bar", verb: berth.LiftBar, short: "Let a barred revision come again", done: "may take the revision again", alone: true},
}

// newOrders makes a command for each order.
func newOrders() []*cobra.Command {
	var all []*cobra.Command
	for _, c := range commands {
		all = append(all, c.command())
	}
	return append(all, newTearDown(), newTakeOver(), newPropose(), newRevert())
}

func (c command) command() *cobra.Command {
	var r connection
	var message, to, until string
	var parts []string
	var asJSON bool
	long := c.short + "."
	if c.long != "" {
		long += " " + c.long
	}
	cmd := &cobra.Command{
		Use: c.name + " BERTH", Short: c.short, Long: long, Args: oneArg("berth, written WORKLOAD/SITE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := parseBerth(args[0])
			if err != nil {
				return err
			}
			order := berth.Order{Verb: c.verb, Berth: id, Note: message, To: to, Parts: parts}
			if c.count {
				order.To = ""
				if order.Count, err = words.ReadCount(to); err != nil {
					return usageError{fmt.Errorf("--to: %w", err)}
				}
			}
			if until != "" {
				if order.Until, err = calendar.Moment(until, time.Local); err != nil {
					return fmt.Errorf("--until: %w", err)
				}
			}
			if err := r.give(cmd.Context(), order, c.alone); err != nil {
				return err
			}
			if asJSON {
				printBerth(cmd.OutOrStdout(), id, true, c.done)
				return nil
			}
			fmt.Fprintf(cmd.OutOrStdout(), "%s %s.\n", id, c.done)
			return nil
		},
	}
	connectionFlags(cmd, &r)
	jsonFlag(cmd, &asJSON)
	if c.message != "" {
		cmd.Flags().StringVarP(&message, "message", "m", "", c.message)
	}
	if c.until {
		cmd.Flags().StringVar(&until, "until", "", "the `moment`, such as 2026-12-01 or 2026-12-01T18:00, in this machine's time")
	}
	if c.count {
		cmd.Flags().StringVar(&to, "to", "", "how many instances, or declared for as many as are declared")
		cmd.Flags().StringArrayVar(&parts, "part", nil, "only this service; may stand several times")
	}
	if c.to {
		cmd.Flags().StringVar(&to, "to", "", "the `revision` that is meant: a version, or the first digits of its fingerprint")
	}
	return cmd
}

// orderTimeout is how long an order from the shell may take.
const orderTimeout = 30 * time.Second

// give gives an order to the Aditus that runs, or, where one can do without, carries it out alone.
func (r connection) give(ctx context.Context, o berth.Order, alone bool) error {
	ctx, cancel := context.WithTimeout(ctx, orderTimeout)
	defer cancel()
	remote, folder, err := r.running()
	if err != nil {
		return err
	}
	if remote != nil {
		return remote.Do(ctx, whoami(fromShell), o)
	}
	if !alone {
		return fmt.Errorf("no Aditus runs on %s, so nothing is under way there: start one with aditus, or aditus sync", folder)
	}
	return onlyAsked(ctx, folder, true, func(s *localEngine) error { return s.Do(ctx, whoami(fromShell), o) })
}

// onlyAsked opens a folder, perhaps only to look at its sites, runs its engine while do is at it, and lets nothing else
// begin meanwhile.
func onlyAsked(ctx context.Context, folder string, readOnly bool, do func(*localEngine) error) error {
	s, err := openLocal(ctx, folder, localOptions{calm: true, readOnly: readOnly})
	if err != nil {
		return err
	}
	defer s.Close()
	running, stop := context.WithCancel(s.leads)
	ended := make(chan error, 1)
	go func() { ended <- s.Engine.Run(running) }()
	err = do(s)
	stop()
	return errors.Join(err, <-ended)
}

func newPropose() *cobra.Command {
	var r connection
	var asJSON bool
	var fields []string
	cmd := &cobra.Command{
		Use:   "propose BERTH",
		Short: "Offer to declare what was changed by hand, as a commit on a branch",
		Long: `What was changed by hand at a site may turn out to be right. This offers a commit that
declares it as it is there, on a branch of its own: in the site's small file, or in the
workload's where it is declared for that site alone; what is in an object of a cluster's
API stands in the object's own file. What else is in the files stays as it is written.
It is held against all rules before it is offered. The link must allow it: push: true in
settings.yaml. To put back what was changed instead: aditus sync BERTH.`,
		Example: "  aditus propose tides/isles\n  aditus propose tides/isles --field /parts/gauge/instances",
		Args:    oneArg("berth, written WORKLOAD/SITE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return offeredAt(cmd, r, args[0], asJSON, func(c control.Control, id berth.ID) (source.Proposal, error) {
				return c.OfferLive(cmd.Context(), whoami(fromShell), id, fields)
			})
		},
	}
	connectionFlags(cmd, &r)
	jsonFlag(cmd, &asJSON)
	cmd.Flags().StringArrayVar(&fields, "field", nil, "only this field, or what is below it, by its JSON `pointer` as aditus compare --json tells it; may stand several times")
	return cmd
}

// offeredAt has something offered about a berth.
func offeredAt(cmd *cobra.Command, r connection, named string, asJSON bool, offer func(control.Control, berth.ID) (source.Proposal, error)) error {
	id, err := parseBerth(named)
	if err != nil {
		return err
	}
	remote, err := r.mustRun()
	if err != nil {
		return err
	}
	return offered(cmd, asJSON, func() (source.Proposal, error) { return offer(remote, id) })
}

// offered has something offered, and tells on which branch it is.
func offered(cmd *cobra.Command, asJSON bool, offer func() (source.Proposal, error)) error {
	p, err := offer()
	if err != nil {
		return err
	}
	if asJSON {
		return writeLine(cmd.OutOrStdout(), p)
	}
	if p.Setting != "" {
		_, err := fmt.Fprintln(cmd.OutOrStdout(), p.Told())
		return err
	}
	fmt.Fprintf(cmd.OutOrStdout(), "Offered on the branch %s (%.7s): %s\n", p.Branch, p.Commit, say.List(p.Files))
	return nil
}

// mustRun gives the Aditus that runs where it is meant.
func (r connection) mustRun() (*api.Remote, error) {
	remote, folder, err := r.running()
	if err == nil && remote == nil {
		err = fmt.Errorf("no Aditus runs on %s; start one with aditus, and ask again", folder)
	}
	return remote, err
}

func newRevert() *cobra.Command {
	var r connection
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "revert BERTH",
		Short: "Offer the revert of a barred revision as a commit on a branch",
		Long: `After a rollback live and Git differ on purpose. This offers the way back in Git: a
commit that has the workload's files as they were for the revision that serves, on a
branch of its own, with the evidence in its message. Nothing is ever written to the
branch that the link watches. The link must allow it: push: true in settings.yaml.`,
		Args: oneArg("berth, written WORKLOAD/SITE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return offeredAt(cmd, r, args[0], asJSON, func(c control.Control, id berth.ID) (source.Proposal, error) {
				return c.OfferRevert(cmd.Context(), whoami(fromShell), id)
			})
		},
	}
	connectionFlags(cmd, &r)
	jsonFlag(cmd, &asJSON)
	return cmd
}
