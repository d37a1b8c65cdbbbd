package panel

import (
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"aditus/internal/core/declare"
)

// TestThin sums points up: what they are of in all stays, one share is the share of all, stages and revisions stay apart, and thinning
// in two steps comes to the same as in one.
func TestThin(t *testing.T) {
	start := time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)
	random := rand.New(rand.NewPCG(1, 2))
	var points []Point
	for i := range 360 {
		stage := i / 100
		for _, revision := range []declare.Fingerprint{"old", "new"} {
			whole := float64(random.IntN(50))
			part := math.Floor(whole * random.Float64() / 10)
			value := 0.0
			if whole > 0 {
				value = part / whole
			}
			points = append(points, Point{Guard: "errors", Revision: revision, At: start.Add(time.Duration(i) * 10 * time.Second), Value: value, Part: part, Whole: whole, Stage: stage})
		}
	}
	minutes := Thin(points, time.Minute)
	if len(minutes) >= len(points)/5 || len(minutes) < len(points)/6 {
		t.Errorf("%d points became %d", len(points), len(minutes))
	}
	sum := func(points []Point) (part, whole float64) {
		for _, p := range points {
			part, whole = part+p.Part, whole+p.Whole
			if p.Whole > 0 && math.Abs(p.Value-p.Part/p.Whole) > 1e-9 {
				t.Fatalf("%+v is no share", p)
			}
		}
		return part, whole
	}
	partAll, wholeAll := sum(points)
	if part, whole := sum(minutes); math.Abs(part-partAll) > 1e-6 || whole != wholeAll {
		t.Errorf("%v of %v became %v of %v", partAll, wholeAll, part, whole)
	}
	seen := map[time.Time]int{}
	for _, p := range minutes {
		if seen[p.At]++; p.Stage != int(p.At.Sub(start)/(10*time.Second))/100 {
			t.Errorf("%+v is of another stage", p)
		}
	}
	for at, n := range seen {
		if n != 2 {
			t.Errorf("at %s there are %d points", at, n)
		}
	}
	once, twice := Thin(points, time.Hour), Thin(minutes, time.Hour)
	if len(once) != 8 || len(once) != len(twice) {
		t.Fatalf("%d and %d", len(once), len(twice))
	}
	for i := range once {
		if once[i].At != twice[i].At || math.Abs(once[i].Value-twice[i].Value) > 1e-9 {
			t.Errorf("%+v is not %+v", once[i], twice[i])
		}
	}
	if got := Thin([]Point{{Guard: "queue", At: start, Value: 3}, {Guard: "queue", At: start.Add(time.Second), Value: 5}}, time.Minute); len(got) != 1 || math.Abs(got[0].Value-4) > 1e-9 {
		t.Errorf("values without a whole came to %+v", got)
	}
}
