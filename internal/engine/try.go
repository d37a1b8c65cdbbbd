package engine

import (
	"context"
	"fmt"
	"time"

	"aditus/internal/source"
)

// Trial is what came of trying a link.
type Trial struct {
	Commit source.Commit
	Ref    string // what is watched
	Fresh  bool   // there is something new
	Took   time.Duration
}

// Try asks a link's repository at once whether it answers, and takes nothing from it.
func (e *Engine) Try(ctx context.Context, name string) (Trial, error) {
	e.mu.Lock()
	var found *link
	var seen source.Seen
	for _, l := range e.links {
		if l.source.Name == name {
			found, seen = l, l.state.Seen
		}
	}
	e.mu.Unlock()
	if found == nil {
		return Trial{}, fmt.Errorf("there is no link %q", name)
	}
	access := found.access()
	if access.Cache != "" {
		access.Cache += "-trial"
	}
	began := time.Now()
	look, err := source.LookAt(ctx, found.source, access, seen, false)
	t := Trial{Commit: look.Head, Ref: found.source.Ref(), Fresh: err == nil && look.Seen != seen, Took: time.Since(began)}
	if t.Commit.Hash == "" {
		t.Commit.Hash = look.Commit
	}
	return t, err
}
