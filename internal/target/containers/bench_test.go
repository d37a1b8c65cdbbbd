package containers

import (
	"testing"
	"time"

	"aditus/internal/core/declare"
	"aditus/internal/target"
)

// BenchmarkHundred is how long 100 containers of an image that is at hand take until all are ready: from when they are asked for.
func BenchmarkHundred(b *testing.B) {
	e := startEngine(b)
	s := opened(b, e, shortTemp(b))
	followed(b, s)
	desired := declare.Desired{Format: 1, Workload: workload, Parts: map[string]declare.Part{
		"deck": {Kind: declare.Service, Artifact: reference(1), Ports: map[string]int{"http": 8080}, Probes: map[string]declare.Probe{"ready": ferry(1).Parts["deck"].Probes["ready"]}},
	}}
	scale := func(n int) {
		if err := s.Apply(b.Context(), workload, []target.Want{target.Prepare(revision(1), desired), target.Scale(revision(1), "deck", n)}); err != nil {
			b.Fatal(err)
		}
	}
	for b.Loop() {
		b.StopTimer()
		scale(1)
		await(b, s, 1, "the image is at hand", running(1))
		b.StartTimer()
		began := time.Now()
		scale(101)
		await(b, s, 1, "all are ready", running(101))
		b.ReportMetric(time.Since(began).Seconds(), "s/100")
		b.StopTimer()
		scale(0)
		await(b, s, 1, "all are gone", running(0))
		b.StartTimer()
	}
}
