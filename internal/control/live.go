package control

import (
	"context"
	"fmt"
	"slices"
	"time"

	"aditus/internal/config"
	"aditus/internal/core/berth"
	"aditus/internal/core/declare"
	"aditus/internal/core/fault"
	"aditus/internal/core/policy"
	"aditus/internal/core/say"
	"aditus/internal/engine"
	"aditus/internal/ledger"
	"aditus/internal/notify"
	"aditus/internal/source"
	"aditus/internal/status"
	"aditus/internal/target"
	"aditus/internal/view"
)

// Live is a Control over an engine in the same process.
type Live struct {
	*engine.Engine
	Ledger *ledger.Ledger
	Folder string                      // the data folder, with the settings
	Leader *status.Leader              // this server, where several share the ledger
	Check  func(config.Settings) error // what else has to be right of settings; may be nil
	Kinds  []target.Kind               // what new sites can run on
	Anew   func()                      // has the engine begin anew, with the settings as they are; nil where nobody can
}

var _ Control = Live{}

// Snapshot implements Reader.
func (l Live) Snapshot(context.Context) status.Snapshot {
	s := l.Engine.Snapshot()
	s.Leader = l.Leader
	return s
}

// Facts implements Reader.
func (l Live) Facts(_ context.Context, q ledger.Query) ([]ledger.Fact, error) {
	return l.Ledger.Facts(q)
}

// Watch implements Reader.
func (l Live) Watch(_ context.Context, berth berth.ID, rollout int64) (view.Watch, error) {
	return view.NewWatch(l.Ledger, l.Engine.Snapshot(), berth, rollout)
}

// Compare implements Reader.
func (l Live) Compare(ctx context.Context, id berth.ID, against view.Against) (view.Comparison, error) {
	return view.Compare(ctx, l.Ledger, l.Engine.Snapshot(), id, against, l.Preview)
}

// Declared implements Reader.
func (l Live) Declared(_ context.Context, id berth.ID) (*declare.Desired, error) {
	return view.Declared(l.Ledger, l.Engine.Snapshot(), id)
}

// Bench implements Reader.
func (l Live) Bench(_ context.Context, berth berth.ID, guard string) (view.Bench, error) {
	return view.NewBench(l.Ledger, l.Engine.Snapshot(), berth, guard)
}

// Do implements Writer.
func (l Live) Do(ctx context.Context, who policy.Actor, order berth.Order) error {
	if err := l.may(ctx, who, order.Berth, order.Needs()...); err != nil {
		return err
	}
	order.By, order.From = who.Person(), who.From
	return l.Engine.Do(ctx, order)
}

// may tells why somebody may not do something at a berth, or with the zero ID for the line as a whole; nil where they may.
func (l Live) may(ctx context.Context, who policy.Actor, id berth.ID, needs ...policy.Scope) error {
	return l.Policy(ctx).May(who, id.Workload, id.Site, needs...)
}

// OfferRevert implements Writer.
func (l Live) OfferRevert(ctx context.Context, who policy.Actor, id berth.ID) (p source.Proposal, err error) {
	if err = l.may(ctx, who, id, policy.Change); err == nil {
		p, err = l.revert(ctx, who, id)
	}
	return p, l.asked(ctx, who, id, err, "the revert of %s", id)
}

// revert offers the way back: a commit where a repository declares it, and an older version in the settings where a bundle does.
func (l Live) revert(ctx context.Context, who policy.Actor, id berth.ID) (p source.Proposal, err error) {
	name, digest, err := l.Engine.BundleBefore(ctx, id)
	if err != nil || name == "" {
		if err == nil {
			p, err = l.Engine.OfferRevert(ctx, id, who.Person())
		}
		return p, err
	}
	all, err := l.Settings(ctx, who)
	if err != nil {
		return p, err
	}
	entry, err := config.EntryOf(all, "links", name)
	if err != nil {
		return p, err
	}
	p.Setting = fmt.Sprintf("the link %s stays at %s, in place of %s", name, digest, entry.Value["version"])
	entry.Value["version"] = digest
	if err := l.PutSettings(ctx, who, nil, entry); err != nil {
		return source.Proposal{}, err
	}
	return p, l.Engine.Reverted(ctx, id, who.Person(), p.Setting)
}

// OfferLive implements Writer.
func (l Live) OfferLive(ctx context.Context, who policy.Actor, id berth.ID, pointers []string) (p source.Proposal, err error) {
	if err = l.may(ctx, who, id, policy.Change); err == nil {
		p, err = l.Engine.OfferLive(ctx, id, pointers, who.Person())
	}
	return p, l.asked(ctx, who, id, err, "to declare %s as it is there", id)
}

// TakeOver implements Writer.
func (l Live) TakeOver(ctx context.Context, who policy.Actor, what status.TakeOver) (p source.Proposal, err error) {
	id := berth.ID{Workload: what.Workload, Site: what.Site}
	if err = l.may(ctx, who, id, policy.Change); err == nil {
		p, err = l.Engine.TakeOver(ctx, what, who.Person())
	}
	return p, l.asked(ctx, who, id, err, "to take over what is at %s", what.Site)
}

// OfferLimit implements Writer.
func (l Live) OfferLimit(ctx context.Context, who policy.Actor, b view.Bench, limit float64) (p source.Proposal, err error) {
	if err = l.may(ctx, who, b.Berth, policy.Change); err == nil {
		kind, text := b.Declared(limit)
		p, err = l.Engine.OfferLimit(ctx, b.Berth, b.Rule.Name, kind, text, b.Try(limit).Summary(b), who.Person())
	}
	return p, l.asked(ctx, who, b.Berth, err, "another limit of %s of %s", b.Rule.Name, b.Berth)
}

// LookNow implements Writer.
func (l Live) LookNow(ctx context.Context, who policy.Actor, links ...string) error {
	err := l.Policy(ctx).Somewhere(who, policy.Sync)
	if err == nil {
		l.Engine.LookNow(links...)
	}
	return err
}

// Try implements Writer.
func (l Live) Try(ctx context.Context, who policy.Actor, link string) (string, error) {
	if err := l.Policy(ctx).Somewhere(who, policy.Sync); err != nil {
		return "", err
	}
	trial, err := l.Engine.Try(ctx, link)
	if err != nil {
		return "", fmt.Errorf("%w (asked for %s)", err, say.Took(trial.Took))
	}
	news := "as it was taken"
	if trial.Fresh {
		news = "which is new, and taken at the next look"
	}
	return fmt.Sprintf("The link %s answers in %s: %s is at %.7s, %s.", link, say.Took(trial.Took), trial.Ref, trial.Commit.Hash, news), nil
}

// TestSink implements Writer.
func (l Live) TestSink(ctx context.Context, who policy.Actor, name string) error {
	err := l.Policy(ctx).Somewhere(who, policy.Sync)
	if err != nil {
		return err
	}
	settings, _ := l.Rules()
	i := slices.IndexFunc(settings.Sinks, func(s config.Sink) bool { return s.Name == name })
	if i < 0 {
		return fault.New(fault.ErrNotFound, "%v", settings.ErrNoSink(name))
	}
	err = notify.Test(ctx, settings.Sinks[i], settings.Line, l.Credentials, who.Person())
	return l.asked(ctx, who, berth.ID{}, err, "a test of the sink %s", name)
}

// Credentials gives what the data folder keeps under a name.
func (l Live) Credentials(name string) source.Credential {
	key, err := source.OpenKey(l.Folder)
	if err != nil {
		return source.Credential{}
	}
	kept, err := key.Credentials(l.Folder)
	if err != nil {
		return source.Credential{}
	}
	return kept[name]
}

// Accept implements Writer.
func (l Live) Accept(ctx context.Context, who policy.Actor, link string) error {
	err := l.may(ctx, who, berth.ID{}, policy.Change)
	if err == nil {
		err = l.Engine.Accept(link)
	}
	return l.asked(ctx, who, berth.ID{}, err, "the rewritten history of the link %s accepted", link)
}

// SetEvery implements Writer.
func (l Live) SetEvery(ctx context.Context, who policy.Actor, link string, every time.Duration) error {
	err := l.may(ctx, who, berth.ID{}, policy.Change)
	if err == nil {
		err = config.SetEvery(l.Folder, link, every)
	}
	return l.asked(ctx, who, berth.ID{}, err, "the link %s polled every %s", link, every)
}

// asked puts on record what was asked for and went well: who, from where, what.
func (l Live) asked(ctx context.Context, who policy.Actor, id berth.ID, err error, what string, args ...any) error {
	if err != nil {
		return err
	}
	return l.Engine.Asked(ctx, id, who.Person(), who.From, fmt.Sprintf(what, args...))
}

// KeepReview implements Writer.
func (l Live) KeepReview(ctx context.Context, who policy.Actor, ref string) (status.Review, error) {
	if err := l.may(ctx, who, berth.ID{}, policy.Sync); err != nil {
		return status.Review{}, err
	}
	return l.Engine.KeepReview(ctx, ref, who.Person())
}

// Refused puts on record that somebody asked for something who may not.
func (l Live) Refused(ctx context.Context, who policy.Actor, what string) {
	l.Engine.Refused(ctx, who.Person(), who.From, what)
}
