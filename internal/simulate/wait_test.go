package simulate

import (
	"testing"
	"time"

	"aditus/internal/core/guard"
)

// TestWait sees that an undecided guard is decided within the time it tells, in four of five cases, whichever way it goes.
func TestWait(t *testing.T) {
	for _, test := range []struct{ requests, bad, above, worse, share float64 }{
		{300, 0.05, 0.01, 0, 0.25}, {1000, 0.01, 0.005, 0.02, 0.05}, {4000, 0.02, 0.005, 0.01, 0.05},
	} {
		kept, told := 0, 0
		for seed := range uint64(30) {
			s := Kinds(test.requests, test.bad)[0].start(seed)
			p := guard.NewProcess(Ratio(test.above), 0.01, Every)
			for range lead {
				p.Lead(s.interval(s.next(0, 0)).Old, nil)
			}
			p.Begin(0, time.Unix(0, 0))
			var due []time.Time
			for range 1500 {
				i := s.interval(s.next(test.share, test.worse))
				p.Add(i)
				v := p.Verdict(i.At)
				if v.Word == guard.Undecided {
					if v.Wait < guard.Longest {
						due = append(due, i.At.Add(v.Wait))
					}
					continue
				}
				for _, by := range due {
					if told++; !by.Before(i.At) {
						kept++
					}
				}
				break
			}
		}
		if told < 300 || float64(kept) < 0.8*float64(told) {
			t.Errorf("%+v: %d of %d were decided in the time that was told", test, kept, told)
		}
	}
}
