package ledger

import (
	"context"
	"errors"
	"fmt"
	"testing"
	"time"

	"aditus/internal/core/berth"
	"aditus/internal/core/declare"
	"aditus/internal/core/rollout"
)

// TestSince finds facts since a moment, in pages, where a clock went an hour forward and back again.
func TestSince(t *testing.T) { each(t, testSince) }

func testSince(t *testing.T, fresh func() opens) {
	open := fresh()
	l := open(nil)
	const n = 5 * markEvery
	times := make([]time.Time, n)
	for i := range times {
		if times[i] = at.Add(time.Duration(i) * time.Second); i >= 2*markEvery && i < 2*markEvery+20 {
			times[i] = times[i].Add(time.Hour)
		}
	}
	for i := 0; i < n; i += 100 {
		e := Entry{Berth: boardingNorth}
		for j := i; j < min(n, i+100); j++ {
			e.Facts = append(e.Facts, Fact{At: times[j], Workload: boardingNorth.Workload, Site: []string{"north", "south"}[j%2], Kind: "stage", Rollout: int64(j / 10), Text: fmt.Sprint(j)})
		}
		record(t, l, e)
	}
	for _, since := range []int{0, 1, 100, 2*markEvery + 10, 3 * markEvery, n - 1, n, n + 1000, n + 4000} {
		from := at.Add(time.Duration(since) * time.Second)
		for _, q := range []Query{{Since: from}, {Since: from, Berth: boardingNorth}, {Since: from, Newest: 7}, {Newest: 1100}, {Since: from, Newest: 1100}, {Rollout: 40, Since: from}, {Rollout: 41, Berth: boardingNorth}} {
			var want []int64
			for i, when := range times {
				if (q.Since.IsZero() || !when.Before(q.Since)) && (q.Berth.Workload == "" || i%2 == 0) && (q.Rollout == 0 || int64(i/10) == q.Rollout) {
					want = append(want, int64(i+1))
				}
			}
			if q.Newest > 0 {
				want = want[max(0, len(want)-q.Newest):]
			}
			all, err := l.Facts(q)
			var got, paged []int64
			for _, f := range all {
				got = append(got, f.Seq)
			}
			err = errors.Join(err, Page(q, l.Facts, func(f Fact) error {
				paged = append(paged, f.Seq)
				return nil
			}))
			if err != nil || fmt.Sprint(got) != fmt.Sprint(want) || fmt.Sprint(paged) != fmt.Sprint(want) {
				t.Errorf("%+v: %d facts and %d in pages, want %d (%v)", q, len(got), len(paged), len(want), err)
			}
		}
	}
	if latest, err := l.Latest(); err != nil || !latest.Equal(times[2*markEvery+19]) {
		t.Errorf("the latest is %s (%v)", latest, err)
	}
}

// TestPrune gives up what is kept long enough, keeps what is under way, and comes to the same when it is ended and begun again.
func TestPrune(t *testing.T) { each(t, testPrune) }

func testPrune(t *testing.T, fresh func() opens) {
	day := 24 * time.Hour
	south := berth.ID{Workload: "boarding", Site: "south"}
	fill := func(t *testing.T) *Ledger {
		l := fresh()(nil)
		for i := range 100 {
			began := at.Add(time.Duration(i) * day)
			for _, id := range []berth.ID{boardingNorth, south} {
				s := rollout.State{ID: l.NextRollout(), Began: began, Ended: began.Add(time.Hour), Rules: declare.Rollout{Interval: declare.Span{Duration: 10 * time.Second}}}
				state := berth.State{}
				if id == south && i >= 39 { // it has one rollout under way for long
					if i > 39 {
						l.rollout.Add(-1)
					}
					s.ID, s.Began, s.Ended, state.Rollout = 80, at.Add(39*day), time.Time{}, 80
				}
				e := Entry{Berth: id, Rollout: &s, State: &state, Facts: []Fact{{At: began, Workload: id.Workload, Site: id.Site, Rollout: s.ID, Kind: "taken", Text: "x"}}, Traffic: &Traffic{At: began}}
				for k := range 12 {
					e.Points = append(e.Points, Point{Guard: "errors", Revision: "a", At: began.Add(time.Duration(k) * 10 * time.Second), Value: 0.1, Part: 1, Whole: 10, Stage: 0})
				}
				record(t, l, e)
			}
		}
		return l
	}
	now := at.Add(100 * day)
	keep := Keep{Points: 14 * day, Minutes: 60 * day, Traffic: 20 * day, Rollouts: 30 * day, Facts: 50 * day}
	count := func(l *Ledger, query string) (n int) {
		t.Helper()
		if err := l.read.QueryRow(query).Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	sums := func(l *Ledger) string {
		return fmt.Sprint(count(l, `SELECT count(*) FROM points WHERE site = 'north'`), count(l, `SELECT count(*) FROM points WHERE site = 'south'`), count(l, `SELECT CAST(round(sum(part)) AS INTEGER) FROM points`),
			count(l, `SELECT count(*) FROM looks WHERE rollout <> 80`), count(l, `SELECT count(*) FROM looks WHERE rollout = 80`), count(l, `SELECT count(*) FROM rollouts`), count(l, `SELECT count(*) FROM facts`))
	}
	l := fill(t)
	if err := l.Prune(t.Context(), now, keep); err != nil {
		t.Fatal(err)
	}
	// north: 40 days by the hour, 46 by the minute (12 points of 10 s are 2), 14 whole. south: the same 39 days before its rollout, whole since.
	want := fmt.Sprint(40*1+46*2+14*12, 39*1+61*12, 2*100*12, 20, 61, 30+1, 2*50)
	if got := sums(l); got != want {
		t.Errorf("there is %s, want %s", got, want)
	}
	if id := l.NextRollout(); id != 141 {
		t.Errorf("the next rollout is %d", id)
	}
	if _, _, err := l.Rollout(130); err != nil {
		t.Error(err)
	}
	if err := l.Prune(t.Context(), now, keep); err != nil || sums(l) != want {
		t.Errorf("once more there is %s (%v)", sums(l), err)
	}
	again := fill(t)
	if err := again.Prune(t.Context(), now.Add(-7*day-time.Hour), keep); err != nil {
		t.Fatal(err)
	}
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	if again.Prune(ended, now, keep) == nil {
		t.Error("it was ended and goes on")
	}
	if err := again.Prune(t.Context(), now, keep); err != nil || sums(again) != want {
		t.Errorf("in steps there is %s, want %s (%v)", sums(again), want, err)
	}
	all := fill(t)
	if err := all.Prune(t.Context(), now, Keep{}); err != nil || count(all, `SELECT count(*) FROM facts`) != 200 || count(all, `SELECT count(*) FROM points`) != 2400 {
		t.Error("what is kept for ever goes")
	}
}
