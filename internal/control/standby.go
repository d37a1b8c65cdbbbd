package control

import (
	"context"
	"fmt"
	"sync"
	"time"

	"aditus/internal/core/berth"
	"aditus/internal/core/declare"
	"aditus/internal/core/fault"
	"aditus/internal/core/policy"
	"aditus/internal/core/say"
	"aditus/internal/ledger"
	"aditus/internal/source"
	"aditus/internal/status"
	"aditus/internal/target"
	"aditus/internal/view"
)

// Standby is a Control of a server that waits to lead a ledger: it tells what the one that leads puts on record, and orders are to be
// given there. Make it with NewStandby, and Follow the ledger.
type Standby struct {
	book *ledger.Ledger

	mu    sync.Mutex
	last  status.Snapshot
	kept  time.Time // when the last picture was, by whoever made it
	read  time.Time // and when it was read here
	lead  ledger.Lead
	since time.Time // since when there is trouble with it
	seq   uint64
	heard map[chan struct{}]bool
}

var _ Control = (*Standby)(nil)

// NewStandby makes a standby that knows what was known last; the zero Snapshot where nothing was.
func NewStandby(book *ledger.Ledger, last status.Snapshot) *Standby {
	s := &Standby{book: book, last: last, kept: last.Now, read: time.Now(), seq: last.Seq + 1, heard: map[chan struct{}]bool{}}
	if last.Now.IsZero() {
		s.last.Now = s.read
	}
	return s
}

// followEvery is how often a standby looks for what is new.
const followEvery = time.Second

// Follow keeps what is told new until ctx ends.
func (s *Standby) Follow(ctx context.Context) {
	ticker := time.NewTicker(followEvery)
	defer ticker.Stop()
	for {
		s.renew()
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
	}
}

func (s *Standby) renew() {
	picture, err := Recorded(s.book)
	s.mu.Lock()
	defer s.mu.Unlock()
	if err == nil && !picture.Now.Equal(s.kept) {
		s.last, s.kept, s.read = picture, picture.Now, time.Now()
		s.tell()
	}
}

// Saw takes who leads, as it was seen last.
func (s *Standby) Saw(l ledger.Lead) {
	s.mu.Lock()
	defer s.mu.Unlock()
	changed := l.Server != s.lead.Server || (l.Trouble == nil) != (s.lead.Trouble == nil)
	if l.Name == "" {
		l.Server, l.Since, l.Turn = s.lead.Server, s.lead.Since, s.lead.Turn // it was not to be found out
	}
	if s.lead = l; l.Trouble == nil {
		s.since = time.Time{}
	} else if s.since.IsZero() {
		s.since = time.Now()
	}
	if changed {
		s.tell()
	}
}

// tell tells all who follow. The lock is held.
func (s *Standby) tell() {
	s.seq++
	for own := range s.heard {
		select {
		case own <- struct{}{}:
		default:
		}
	}
}

// Missing is why what takes an engine is not to be had here.
func (s *Standby) Missing() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case s.lead.Name == "":
		return fault.New(fault.ErrUnavailable, "this server does not lead, and which one does is not known: ask again in a moment")
	case s.lead.Address == "":
		return fault.New(fault.ErrUnavailable, "this server stands by, and %s leads: ask there", s.lead.Name)
	}
	return fault.New(fault.ErrUnavailable, "this server stands by, and %s leads: ask there, with --server %s", s.lead.Name, s.lead.Address)
}

// now is the record as it is now.
func (s *Standby) now() Record {
	missing := s.Missing()
	s.mu.Lock()
	defer s.mu.Unlock()
	told := s.last
	told.Seq = s.seq
	told.Now = told.Now.Add(time.Since(s.read)) // what it tells gets older
	told.Leader = &status.Leader{Name: s.lead.Name, Address: s.lead.Address, Since: s.lead.Since}
	if err := s.lead.Trouble; err != nil {
		told.Problems = append([]status.Problem{{About: "ledger", Text: err.Error() + "; this server stands by until then, and what runs goes on", Since: s.since}}, told.Problems...)
	} else if s.lead.Quiet > quietFor {
		told.Problems = append([]status.Problem{{About: "ledger", Text: fmt.Sprintf("nothing is heard of %s, which leads, for %s: this server takes the lead as soon as the ledger lets it", s.lead.Name, say.Span(s.lead.Quiet)), Since: time.Now().Add(-s.lead.Quiet)}}, told.Problems...)
	}
	return Record{s.book, told, missing}
}

// quietFor is for how long nothing may be heard of the one that leads before that is told.
const quietFor = 3 * time.Second

// Snapshot implements Reader.
func (s *Standby) Snapshot(context.Context) status.Snapshot { return s.now().snapshot }

// Policy implements Reader.
func (s *Standby) Policy(ctx context.Context) policy.Policy { return s.now().Policy(ctx) }

// Changed implements Reader.
func (s *Standby) Changed(ctx context.Context) <-chan struct{} {
	own := make(chan struct{}, 1)
	s.mu.Lock()
	defer s.mu.Unlock()
	s.heard[own] = true
	context.AfterFunc(ctx, func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		delete(s.heard, own)
	})
	return own
}

// Refused puts nothing on record: what stands by cannot.
func (s *Standby) Refused(context.Context, policy.Actor, string) {}

// Measured tells nothing: sites are asked by the one that leads.
func (s *Standby) Measured(context.Context) []status.Measured { return nil }

// Watch implements Reader.
func (s *Standby) Watch(ctx context.Context, id berth.ID, rollout int64) (view.Watch, error) {
	return s.now().Watch(ctx, id, rollout)
}

// Compare implements Reader.
func (s *Standby) Compare(ctx context.Context, id berth.ID, against view.Against) (view.Comparison, error) {
	return s.now().Compare(ctx, id, against)
}

// Declared implements Reader.
func (s *Standby) Declared(ctx context.Context, id berth.ID) (*declare.Desired, error) {
	return s.now().Declared(ctx, id)
}

// Bench implements Reader.
func (s *Standby) Bench(ctx context.Context, id berth.ID, guard string) (view.Bench, error) {
	return s.now().Bench(ctx, id, guard)
}

// Log implements Reader.
func (s *Standby) Log(ctx context.Context, id berth.ID, instance string, since time.Time, most int) ([]target.LogLine, error) {
	return s.now().Log(ctx, id, instance, since, most)
}

// Tree implements Reader.
func (s *Standby) Tree(ctx context.Context, id berth.ID) ([]status.Node, error) {
	return s.now().Tree(ctx, id)
}

// Course implements Reader.
func (s *Standby) Course(ctx context.Context, workload, ref string) (status.Course, error) {
	return s.now().Course(ctx, workload, ref)
}

// Strays implements Reader.
func (s *Standby) Strays(ctx context.Context, site string) ([]status.Stray, error) {
	return s.now().Strays(ctx, site)
}

// Sites implements Reader.
func (s *Standby) Sites(ctx context.Context) ([]status.Site, error) { return s.now().Sites(ctx) }

// Calendar implements Reader.
func (s *Standby) Calendar(ctx context.Context, from, until time.Time) (status.Calendar, error) {
	return s.now().Calendar(ctx, from, until)
}

// Review implements Reader.
func (s *Standby) Review(ctx context.Context, ref string) (status.Review, error) {
	return s.now().Review(ctx, ref)
}

// Sheet implements Reader.
func (s *Standby) Sheet(ctx context.Context, id berth.ID, node string) (status.Sheet, error) {
	return s.now().Sheet(ctx, id, node)
}

// Facts implements Reader.
func (s *Standby) Facts(ctx context.Context, q ledger.Query) ([]ledger.Fact, error) {
	return s.now().Facts(ctx, q)
}

// Do implements Writer.
func (s *Standby) Do(context.Context, policy.Actor, berth.Order) error {
	return s.Missing()
}

// OfferRevert implements Writer.
func (s *Standby) OfferRevert(context.Context, policy.Actor, berth.ID) (none source.Proposal, err error) {
	return none, s.Missing()
}

// OfferLive implements Writer.
func (s *Standby) OfferLive(context.Context, policy.Actor, berth.ID, []string) (none source.Proposal, err error) {
	return none, s.Missing()
}

// TakeOver implements Writer.
func (s *Standby) TakeOver(context.Context, policy.Actor, status.TakeOver) (none source.Proposal, err error) {
	return none, s.Missing()
}

// OfferLimit implements Writer.
func (s *Standby) OfferLimit(context.Context, policy.Actor, view.Bench, float64) (none source.Proposal, err error) {
	return none, s.Missing()
}

// KeepReview implements Writer.
func (s *Standby) KeepReview(context.Context, policy.Actor, string) (none status.Review, err error) {
	return none, s.Missing()
}

// LookNow implements Writer.
func (s *Standby) LookNow(context.Context, policy.Actor, ...string) error {
	return s.Missing()
}

// Try implements Writer.
func (s *Standby) Try(context.Context, policy.Actor, string) (none string, err error) {
	return none, s.Missing()
}

// TestSink implements Writer.
func (s *Standby) TestSink(context.Context, policy.Actor, string) error { return s.Missing() }

// Accept implements Writer.
func (s *Standby) Accept(context.Context, policy.Actor, string) error {
	return s.Missing()
}

// SetEvery implements Writer.
func (s *Standby) SetEvery(context.Context, policy.Actor, string, time.Duration) error {
	return s.Missing()
}
