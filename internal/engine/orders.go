package engine

import (
	"context"
	"fmt"
	"time"

	"aditus/internal/config"
	"aditus/internal/core/berth"
	"aditus/internal/core/declare"
	"aditus/internal/core/fault"
)

// order is one that waits for its answer.
type order struct {
	berth.Order
	done chan error
}

// wishes are the orders without the way to answer them.
func wishes(orders []*order) []berth.Order {
	all := make([]berth.Order, len(orders))
	for i, o := range orders {
		all[i] = o.Order
	}
	return all
}

func (o *order) answer(err error) {
	select {
	case o.done <- err:
	default: // answered already
	}
}

// Do carries out an order at the berth's next step and tells why where it was not possible.
func (e *Engine) Do(ctx context.Context, wish berth.Order) error {
	e.mu.Lock()
	b := e.berths[wish.Berth]
	e.mu.Unlock()
	if b == nil {
		return fault.New(fault.ErrNotFound, "there is no berth %s", wish.Berth)
	}
	o := &order{Order: wish, done: make(chan error, 1)}
	b.mu.Lock()
	b.orders = append(b.orders, o)
	b.mu.Unlock()
	b.nudge()
	select {
	case err := <-o.done:
		return err
	case <-ctx.Done():
		return fmt.Errorf("%s at %s: no answer yet, it may still be done: %w", wish.Verb, wish.Berth, ctx.Err())
	}
}

// Asked puts on record what a person asked for and was granted: who, from where, what. The zero berth stands for none.
func (e *Engine) Asked(ctx context.Context, id berth.ID, by, from, what string) error {
	text := fmt.Sprintf("%s, asked by %s from %s", what, by, from)
	if err := e.note(context.WithoutCancel(ctx), id, berth.Asked, by, "", text, berth.Origin{From: from}); err != nil {
		return fmt.Errorf("it is done, but who asked for it is not on record: %w", err)
	}
	return nil
}

// Note puts a fact on record that is of no decision.
func (e *Engine) Note(ctx context.Context, id berth.ID, kind berth.Kind, text string) error {
	return e.note(context.WithoutCancel(ctx), id, kind, "aditus", "", text, nil)
}

// Rules gives the settings, and what the line's rules say; nil where there are none.
func (e *Engine) Rules() (config.Settings, *declare.Line) {
	e.mu.Lock()
	defer e.mu.Unlock()
	line, _ := e.line()
	return e.settings, line
}

// What is refused is put on record this often at most: each thing of each who asks, and all together.
const (
	refusedEach = time.Minute
	refusedMost = 60 // in that time
)

// Refused puts on record that somebody asked for something who may not. Whoever asks again and again does not fill the ledger.
func (e *Engine) Refused(ctx context.Context, by, from, what string) {
	now := e.clock.Now()
	e.mu.Lock()
	for key, at := range e.refused {
		if now.Sub(at) >= refusedEach {
			delete(e.refused, key)
		}
	}
	key := by + " " + from + " " + what
	_, lately := e.refused[key]
	enough := len(e.refused) >= refusedMost
	if !lately && !enough {
		e.refused[key] = now
	}
	e.mu.Unlock()
	if lately || enough {
		return
	}
	e.report("ledger", e.note(context.WithoutCancel(ctx), berth.ID{}, berth.Refused, by, "", fmt.Sprintf("%s, asked by %s from %s, who may not", what, by, from), berth.Origin{From: from}))
}

func (b *loop) takeOrders() []*order {
	b.mu.Lock()
	defer b.mu.Unlock()
	orders := b.orders
	b.orders = nil
	return orders
}

// answer answers the orders of a step. Those that wait for a later one are kept.
func (b *loop) answer(orders []*order, answers []berth.Answer) {
	for i, o := range orders {
		if !answers[i].Again {
			o.answer(answers[i].Err)
			continue
		}
		b.mu.Lock()
		b.orders = append(b.orders, o)
		b.mu.Unlock()
	}
}

// unrecorded answers a step's orders with why nothing of it could be recorded; one that was not possible anyway keeps
// its reason.
func unrecorded(answers []berth.Answer, err error) []berth.Answer {
	for i := range answers {
		if answers[i].Err == nil {
			answers[i] = berth.Answer{Err: err}
		}
	}
	return answers
}

// refuse answers all orders that will not be carried out any more.
func (b *loop) refuse(err error) {
	for _, o := range b.takeOrders() {
		o.answer(fmt.Errorf("%s at %s was not carried out: %w", o.Verb, b.id, err))
	}
}
