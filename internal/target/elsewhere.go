package target

import (
	"context"
	"time"

	"aditus/internal/core/fault"
	"aditus/internal/core/signal"
	"aditus/internal/status"
)

// Elsewhere is a site on another machine, which that machine's server alone can reach. Nothing is known of it here, and what runs
// there goes on.
type Elsewhere struct {
	Machine string
}

var (
	_ Driver   = Elsewhere{}
	_ Grounded = Elsewhere{}
)

func (e Elsewhere) err() error {
	return fault.New(ErrUnreachable, "it is on the machine %s, whose server does not lead now; what runs there goes on, and is looked after once it does", e.Machine)
}

// Ground implements Grounded.
func (e Elsewhere) Ground(context.Context) (status.Ground, error) {
	return status.Ground{On: "the machine " + e.Machine}, e.err()
}

// Observe implements Driver.
func (e Elsewhere) Observe(context.Context, Berth) (o Observation, err error) { return o, e.err() }

// Apply implements Driver.
func (e Elsewhere) Apply(context.Context, Berth, []Want) error { return e.err() }

// Exec implements Driver.
func (e Elsewhere) Exec(context.Context, Berth, string, []string) (string, error) { return "", e.err() }

// Restart implements Driver.
func (e Elsewhere) Restart(context.Context, Berth, string) error { return e.err() }

// Measure implements Driver.
func (e Elsewhere) Measure(context.Context, Berth) (map[string]signal.Page, error) {
	return nil, e.err()
}

// Log implements Driver.
func (e Elsewhere) Log(context.Context, Berth, string, time.Time, int) ([]LogLine, error) {
	return nil, e.err()
}
