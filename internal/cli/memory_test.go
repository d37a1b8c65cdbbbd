package cli

import (
	"context"
	"math"
	"runtime/debug"
	"testing"
)

// TestMemory sees that the bound is set, and that it is told when it is met and not before.
func TestMemory(t *testing.T) {
	t.Setenv("GOMEMLIMIT", "")
	before := debug.SetMemoryLimit(-1)
	defer debug.SetMemoryLimit(before)
	for most, met := range map[int64]bool{1 << 20: true, math.MaxInt64 >> 1: false} {
		ctx, cancel := context.WithCancel(t.Context())
		told := 0
		err := watchMemory(ctx, most, func(about string, err error) {
			if told++; about != "memory" || (err != nil) != met {
				t.Errorf("of %d it is told: %v", most, err)
			}
			cancel()
		})
		if err != nil || told != 1 || debug.SetMemoryLimit(-1) != most {
			t.Errorf("it was told %d times, and the bound is %d (%v)", told, debug.SetMemoryLimit(-1), err)
		}
	}
}
