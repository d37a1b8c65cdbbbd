package engine

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"aditus/internal/core/berth"
	"aditus/internal/ledger"
)

// TestRefused puts on record who asked for what they may not, once a minute each, and not more than so many of all of them.
func TestRefused(t *testing.T) {
	r := newRig(t)
	r.push("1")
	r.run()
	for range 5 {
		r.engine.Refused(t.Context(), "pipeline", "192.0.2.7", "sync of fares/north")
	}
	r.engine.Refused(t.Context(), "pipeline", "192.0.2.7", "lock of fares/north")
	for i := range 2 * refusedMost {
		r.engine.Refused(t.Context(), "nobody", fmt.Sprint("192.0.2.", i), "a token")
	}
	r.wait(refusedEach + time.Second)
	r.engine.Refused(t.Context(), "pipeline", "192.0.2.7", "sync of fares/north")
	facts, err := r.book.Facts(ledger.Query{})
	r.must(err)
	var told []string
	for _, f := range facts {
		if f.Kind == berth.Refused {
			told = append(told, f.Text)
		}
	}
	if len(told) != refusedMost+1 || told[0] != "sync of fares/north, asked by pipeline from 192.0.2.7, who may not" || !strings.HasPrefix(told[1], "lock") || told[refusedMost] != told[0] {
		t.Errorf("%d are told: %.300s", len(told), strings.Join(told, "\n"))
	}
}
