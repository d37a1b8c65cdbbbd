package wanted

import (
	"errors"
	"os"
	"path/filepath"
	"testing"
	"time"

	"aditus/internal/core/declare"
	"aditus/internal/disk"
	"aditus/internal/target"
)

const one, two = declare.Fingerprint("1111111111"), declare.Fingerprint("2222222222")

var morning = time.Date(2026, 3, 12, 9, 30, 0, 0, time.UTC)

// TestAbove tells since when a cohort's share has been above a bound, however it came there.
func TestAbove(t *testing.T) {
	for _, test := range []struct {
		name   string
		shares []float64 // one a minute
		since  int       // the minute, -1 for not above
	}{
		{"never any", nil, -1}, {"not yet", []float64{0.05, 0.1}, -1}, {"in one step", []float64{0.25}, 0}, {"since the first of them", []float64{0.05, 0.25, 0.5, 1}, 1},
		{"down and up again", []float64{0.25, 0.05, 0.5}, 2}, {"none in between", []float64{0.25, 0, 0.5, 1}, 2}, {"taken back", []float64{0.25, 0}, -1}, {"the same again", []float64{0.25, 0.25}, 0},
	} {
		var c Cohort
		for i, share := range test.shares {
			c.setShare(share, morning.Add(time.Duration(i)*time.Minute))
		}
		want := morning.Add(time.Duration(test.since) * time.Minute)
		if test.since < 0 {
			want = time.Time{}
		}
		if got := c.Above(0.2); !got.Equal(want) {
			t.Errorf("%s: above since %v, want %v", test.name, got, want)
		}
	}
	var c Cohort
	for i := range 10 * mostShares {
		c.setShare(0.5+float64(i%2)/4, morning.Add(time.Duration(i)*time.Minute))
	}
	if len(c.Shares) != mostShares {
		t.Errorf("%d shares are remembered", len(c.Shares))
	}
}

func splits(map[declare.Fingerprint]*Cohort) bool { return true }

// TestBook sees that what is asked for comes back from disk, that many things are kept at once, and that what could not be
// written is written with the next.
func TestBook(t *testing.T) {
	folder := filepath.Join(t.TempDir(), "north")
	file := filepath.Join(folder, "tides.json")
	b, err := Open("north", folder, "", disk.Machine)
	if err != nil {
		t.Fatal(err)
	}
	parts := map[string]declare.Part{"web": {Kind: declare.Service, Environment: map[string]string{"SEASON": "summer"}}}
	if err := os.Remove(folder); err != nil {
		t.Fatal(err)
	}
	if err := b.Apply("tides", []target.Want{target.Prepare(one, declare.Desired{Parts: parts})}, splits, morning); err == nil {
		t.Error("there is no folder to keep it in, and nothing is said")
	}
	if err := os.MkdirAll(folder, 0o700); err != nil {
		t.Fatal(err)
	}
	err = b.Together(func() error {
		err := b.Apply("tides", []target.Want{target.Scale(one, "web", 3), target.SetShare(one, 1, "")}, splits, morning)
		if _, missing := os.Stat(file); missing == nil {
			t.Error("each of many things is kept")
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	for i := range 2 * mostRestarts {
		if err := b.Restart("tides", "tides-web-1111111-2", morning.Add(time.Duration(i)*time.Hour)); err != nil {
			t.Fatal(err)
		}
	}
	again, err := Open("north", folder, "", disk.Machine)
	if err != nil {
		t.Fatal(err)
	}
	again.Read("tides", func(cohorts map[declare.Fingerprint]*Cohort) {
		c := cohorts[one]
		if in := c.Instances[1]; len(c.Instances) != 3 || c.Share != 1 || in.Again != 2*mostRestarts || len(in.Restarts) != mostRestarts || in.Environment["SEASON"] != "summer" {
			t.Errorf("%+v", c)
		}
	})
	if err := again.Restart("tides", "tides-web-1111111-9", morning); !errors.Is(err, target.ErrNoInstance) {
		t.Error(err)
	}
	if err := again.Apply("tides", []target.Want{target.SetShare(one, 0.5, two)}, splits, morning); err == nil {
		t.Error("the rest goes to a revision that is not there")
	}
}
