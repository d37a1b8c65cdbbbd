package cli

import (
	"context"
	"fmt"
	"os"
	"runtime/debug"
	"runtime/metrics"
	"time"
)

// memoryEvery is how often it is looked how much memory is used.
const memoryEvery = 5 * time.Second

// watchMemory bounds the memory that this program means to get along with, and tells when it met that, until ctx ends. What is left
// then is needed: a bound that cannot be kept makes it slow, not wrong. GOMEMLIMIT goes before it.
func watchMemory(ctx context.Context, most int64, report func(about string, err error)) error {
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(most)
	}
	most = debug.SetMemoryLimit(-1)
	ticker := time.NewTicker(memoryEvery)
	defer ticker.Stop()
	for {
		report("memory", memoryProblem(used(), most))
		select {
		case <-ctx.Done():
			return nil
		case <-ticker.C:
		}
	}
}

// memoryProblem tells that a bound was met; nil where it was not.
func memoryProblem(used, most int64) error {
	if used < most {
		return nil
	}
	return fmt.Errorf("this server uses %d MB of memory, and means to get along with %d (memory: in the settings): it is slower than it could be; give it more, or fewer berths and links", used>>20, most>>20)
}

// used is the memory that the bound is about.
func used() int64 {
	samples := []metrics.Sample{{Name: "/memory/classes/total:bytes"}, {Name: "/memory/classes/heap/released:bytes"}}
	metrics.Read(samples)
	return int64(samples[0].Value.Uint64()) - int64(samples[1].Value.Uint64())
}
