package signal

import (
	"strconv"
	"testing"
	"time"
)

// TestManyLabels sees that an explosion of labels is bounded and that the increase is still right.
func TestManyLabels(t *testing.T) {
	page := func(add float64) Page {
		samples := make([]Sample, 10*MostSeries)
		for i := range samples {
			samples[i] = Sample{Labels: map[string]string{"user": strconv.Itoa(i)}, Value: float64(i%7) + add}
		}
		return Page{"requests": samples}
	}
	source := Source{Kind: Rate, Of: Series{Metric: "requests"}}
	before, _ := source.Read(page(0))
	after, _ := source.Read(page(2))
	if got := source.Between(before, after, time.Second).Part; got != 2*10*MostSeries || len(after.of) > MostSeries+1 {
		t.Errorf("%v more in %d series, want %d in %d at most", got, len(after.of), 20*MostSeries, MostSeries+1)
	}
}
