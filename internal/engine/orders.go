package engine

import (
	"context"
	"fmt"

	"aditus/internal/core/rollout"
	"aditus/internal/ledger"
)

// Verb is what a person can ask for.
type Verb string

const (
	Advance  = Verb(rollout.Advance)
	Hold     = Verb(rollout.HoldOn)
	GoOn     = Verb(rollout.GoOn)
	RollBack = Verb(rollout.TurnBack)
	SignOff  = Verb(rollout.Sign)
	Abandon  = Verb(rollout.Abandon)
	LiftBar  = Verb("lift the bar")
	Sync     = Verb("sync")
	Remove   = Verb("remove orphans")
	Lock     = Verb("lock")
	Unlock   = Verb("unlock")
	LeaveIt  = Verb("leave it") // drift that would be corrected otherwise
)

// Order is a person's wish for a berth.
type Order struct {
	Verb  Verb         `json:"verb"`
	Berth ledger.Berth `json:"berth"`
	By    string       `json:"by"`
	From  string       `json:"from,omitempty"` // where it was given, for the record
	Note  string       `json:"note,omitempty"`
	Parts []string     `json:"parts,omitempty"` // Sync: only these parts; empty for all
	To    string       `json:"to,omitempty"`    // RollBack: a revision on record; empty for the last proven one
}

type order struct {
	Order
	taken bool
	again bool // it is to be carried out at a later step, once there is room for it
	err   error
	done  chan error
}

func (o *order) answer(err error) {
	select {
	case o.done <- err:
	default: // answered already
	}
}

// Do carries out an order at the berth's next step and tells why where it was not possible.
func (e *Engine) Do(ctx context.Context, wish Order) error {
	e.mu.Lock()
	b := e.berths[wish.Berth]
	e.mu.Unlock()
	if b == nil {
		return fmt.Errorf("there is no berth %s", wish.Berth)
	}
	o := &order{Order: wish, done: make(chan error, 1)}
	b.mu.Lock()
	b.orders = append(b.orders, o)
	b.mu.Unlock()
	b.nudge()
	select {
	case err := <-o.done:
		if err == nil && wish.From != "" {
			return e.Asked(ctx, wish.Berth, wish.By, wish.From, string(wish.Verb))
		}
		return err
	case <-ctx.Done():
		return fmt.Errorf("%s at %s: no answer yet, it may still be done: %w", wish.Verb, wish.Berth, ctx.Err())
	}
}

// AskedKind is the kind of the facts that tell what people asked for.
const AskedKind = "asked"

// Asked puts on record what a person asked for and was granted: who, from where, what. The zero berth stands for none.
func (e *Engine) Asked(ctx context.Context, id ledger.Berth, by, from, what string) error {
	text := fmt.Sprintf("%s, asked by %s from %s", what, by, from)
	if err := e.note(context.WithoutCancel(ctx), id, AskedKind, by, "", text, map[string]string{"from": from}); err != nil {
		return fmt.Errorf("it is done, but who asked for it is not on record: %w", err)
	}
	return nil
}

func (b *berth) takeOrders() []*order {
	b.mu.Lock()
	defer b.mu.Unlock()
	orders := b.orders
	b.orders = nil
	return orders
}

// answer answers the orders of a step. Those that wait for a later one are kept.
func (b *berth) answer(orders []*order) {
	for _, o := range orders {
		if !o.again {
			o.answer(o.err)
			continue
		}
		o.taken, o.again = false, false
		b.mu.Lock()
		b.orders = append(b.orders, o)
		b.mu.Unlock()
	}
}

// refuse answers all orders that will not be carried out any more.
func (b *berth) refuse(err error) {
	for _, o := range b.takeOrders() {
		o.answer(fmt.Errorf("%s at %s was not carried out: %w", o.Verb, b.id, err))
	}
}
