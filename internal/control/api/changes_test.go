package api

import (
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"aditus/internal/core/berth"
	"aditus/internal/core/compare"
	"aditus/internal/core/policy"
	"aditus/internal/status"
	"aditus/internal/view/storytest"
)

// many is a snapshot of many berths, each as one of the story's stands.
func many(tb testing.TB, workloads, sites int) status.Snapshot {
	tb.Helper()
	s := storytest.Load(tb).Snapshot
	of := slices.DeleteFunc(s.Berths, func(b status.Berth) bool { return len(b.Cohorts) == 0 })
	s.Sites, s.Berths = nil, nil
	for i := range sites {
		s.Sites = append(s.Sites, fmt.Sprintf("site-%02d", i))
	}
	for i := range workloads {
		for j, site := range s.Sites {
			b := of[(i+j)%len(of)]
			b.ID, b.Rev = berth.ID{Workload: fmt.Sprintf("workload-%04d", i), Site: site}, 1
			s.Berths = append(s.Berths, b)
		}
	}
	return s
}

// TestChanges makes snapshots of what changes at random, and holds them against those that they tell of.
func TestChanges(t *testing.T) {
	s := many(t, 6, 4)
	random := rand.New(rand.NewPCG(17, 3))
	var told teller
	var heard hearer
	text, _ := json.Marshal(s)
	newer := strings.Replace(string(text), `"health":`, `"of_a_newer_server":[1],"health":`, 3)
	if err := told.begin(s); err != nil {
		t.Fatal(err)
	}
	if err := heard.whole([]byte(newer)); err != nil {
		t.Fatal(err)
	}
	rev := uint64(1)
	turns := map[string]func(b *status.Berth){
		"share": func(b *status.Berth) { b.Cohorts[0].Share = random.Float64() },
		"instance": func(b *status.Berth) {
			b.Cohorts[0].Instances = append(slices.Clone(b.Cohorts[0].Instances), status.Instance{ID: fmt.Sprint(rev), Memory: 1 << 60})
		},
		"fewer":  func(b *status.Berth) { b.Cohorts[0].Instances = b.Cohorts[0].Instances[:len(b.Cohorts[0].Instances)/2] },
		"live":   func(b *status.Berth) { b.Live = compare.Live{"a/b~c": map[string]any{"": nil, "<": rev}} },
		"calm":   func(b *status.Berth) { b.Rollout, b.Verdicts, b.Live, b.Waits = nil, nil, nil, "" },
		"health": func(b *status.Berth) { b.Health.Reason = fmt.Sprint("<é\u202e", rev) },
		"all":    func(b *status.Berth) { *b = s.Berths[random.IntN(len(s.Berths))] },
	}
	names := slices.Sorted(maps.Keys(turns))
	for step := range 200 {
		s.Seq, s.Now, s.Berths = s.Seq+1, s.Now.Add(time.Second), slices.Clone(s.Berths)
		for range random.IntN(4) {
			i := random.IntN(len(s.Berths))
			switch b := &s.Berths[i]; random.IntN(6) {
			case 0:
				s.Berths = slices.Delete(s.Berths, i, i+1)
			case 1:
				another := s.Berths[i]
				rev++
				another.Workload, another.Rev = fmt.Sprintf("workload-%04d-%d", random.IntN(9), rev), rev
				s.Berths = append(s.Berths, another)
			case 2:
				b.MayNot = map[policy.Scope]string{policy.Sync: fmt.Sprint(step)}
			case 3:
				b.Looked = s.Now
			default:
				id := b.ID
				b.Cohorts = slices.Clone(b.Cohorts)
				turns[names[random.IntN(len(names))]](b)
				rev++
				b.ID, b.Rev = id, rev
			}
		}
		switch random.IntN(12) {
		case 0:
			s.Links = append([]status.Link(nil), s.Links[random.IntN(len(s.Links)):]...)
			s.Links = append(s.Links, status.Link{Name: fmt.Sprint(step)})
		case 1:
			s.Sites = append([]string{fmt.Sprint("new-", step)}, s.Sites...)
			slices.Reverse(s.Sites[1:])
		case 2:
			s.Problems, s.Teams = []status.Problem{{About: "ledger", Text: fmt.Sprint(step)}}, map[string]string{"a": fmt.Sprint(step)}
		}
		at := map[string]int{}
		for i, site := range s.Sites {
			at[site] = i
		}
		slices.SortFunc(s.Berths, func(a, b status.Berth) int {
			if d := strings.Compare(a.Workload, b.Workload); d != 0 {
				return d
			}
			return at[a.Site] - at[b.Site]
		})
		c, err := told.next(s)
		if err != nil {
			t.Fatal(step, err)
		}
		text, _ := json.Marshal(c)
		was := heard.latest
		kept, _ := json.Marshal(was)
		if err := heard.change(text); err != nil {
			t.Fatal(step, err)
		}
		if after, _ := json.Marshal(was); string(after) != string(kept) {
			t.Fatal(step, "a snapshot that was given out changed")
		}
		is := heard.latest
		if is.Berths = slices.Clone(is.Berths); !told.looked.Equal(s.Now) && len(is.Berths) == len(s.Berths) {
			for i := range is.Berths {
				is.Berths[i].Looked = s.Berths[i].Looked // it may be told a little later
			}
		}
		want, _ := json.Marshal(s)
		got, _ := json.Marshal(is)
		if string(got) != string(want) {
			at := 0
			for at < min(len(got), len(want)) && got[at] == want[at] {
				at++
			}
			t.Fatalf("step %d: the change %s makes\n…%s\ninstead of\n…%s", step, text, got[max(0, at-200):min(len(got), at+200)], want[max(0, at-200):min(len(want), at+200)])
		}
	}
}

// TestLooked sees that a look is told a while later, once for all, and not forgotten.
func TestLooked(t *testing.T) {
	s := many(t, 1, 3)
	var told teller
	if err := told.begin(s); err != nil {
		t.Fatal(err)
	}
	for second := 1; second <= 12; second++ {
		s.Now, s.Berths = s.Now.Add(time.Second), slices.Clone(s.Berths)
		if second == 1 {
			s.Berths[1].Looked = s.Now
		}
		if second > 6 {
			s.Berths[2].Looked = s.Now
		}
		c, err := told.next(s)
		if err != nil {
			t.Fatal(err)
		}
		want := map[int]string{5: s.Berths[1].Site, 10: s.Berths[2].Site}[second]
		if got := len(c.Berths); got > 1 || (got == 1) != (want != "") || got == 1 && c.Berths[0].Site != want {
			t.Errorf("second %d tells of %v, want %q", second, c.Berths, want)
		}
	}
}

// TestMisfit sees that a change of what was never told is refused, so that all is asked for anew.
func TestMisfit(t *testing.T) {
	var heard hearer
	text, _ := json.Marshal(many(t, 1, 1))
	if err := heard.whole(text); err != nil {
		t.Fatal(err)
	}
	for _, text := range []string{
		`{"berths":[{"workload":"x","site":"y","patch":[{"op":"replace","path":"/looked","value":1}]}]}`,
		`{"berths":[{"workload":"workload-0000","site":"site-00","patch":[{"op":"replace","path":"/not/there","value":1}]}]}`,
		`{"berths":[{"workload":"workload-0000","site":"site-00","patch":[{"op":"replace","path":"/looked","value":"soon"}]}]}`,
		`{"berths":[{"workload":"workload-0000","site":"site-00"}]}`,
		`{"patch":[{"op":"remove","path":"/links/99"}]}`, `{"patch":{}}`, `[]`, `{`,
	} {
		if err := heard.change([]byte(text)); err == nil {
			t.Errorf("%s is taken", text)
		}
	}
}

// BenchmarkChanges tells and hears a change of one berth among 20 000, and says how large it is beside all of it.
func BenchmarkChanges(b *testing.B) {
	s := many(b, 1000, 20)
	whole, _ := json.Marshal(s)
	var told teller
	var heard hearer
	if err := told.begin(s); err != nil {
		b.Fatal(err)
	}
	if err := heard.whole(whole); err != nil {
		b.Fatal(err)
	}
	var text []byte
	for b.Loop() {
		s.Seq, s.Now, s.Berths = s.Seq+1, s.Now.Add(time.Second), slices.Clone(s.Berths)
		one := &s.Berths[s.Seq*7919%uint64(len(s.Berths))]
		one.Rev, one.Cohorts = s.Seq+1, slices.Clone(one.Cohorts)
		one.Health.Reason, one.Cohorts[0].Share, one.Looked = fmt.Sprintf("%d of 9 ready", s.Seq), one.Cohorts[0].Share/2, s.Now
		c, err := told.next(s)
		if err != nil {
			b.Fatal(err)
		}
		if text, err = json.Marshal(c); err == nil {
			err = heard.change(text)
		}
		if err != nil {
			b.Fatal(err)
		}
	}
	b.ReportMetric(float64(len(text)), "B/change")
	b.ReportMetric(float64(len(whole))/1e6, "MB/whole")
}
