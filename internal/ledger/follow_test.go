package ledger

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"testing"
	"time"
)

// TestFollow sees that whoever follows a cursor is given each fact once, in order, in pages that are bounded, over
// failures and restarts, and a page again that was not finished.
func TestFollow(t *testing.T) { each(t, testFollow) }

func testFollow(t *testing.T, fresh func() opens) {
	open := fresh()
	l := open(nil)
	write := func(n int) {
		t.Helper()
		var facts []Fact
		for range n {
			facts = append(facts, Fact{At: time.Unix(1, 0), Workload: "tides", Site: "north", Kind: "told", Text: "x"})
		}
		if err := l.Record(t.Context(), Entry{Facts: facts}); err != nil {
			t.Error(err)
		}
	}
	write(2*followPage + 10)
	var got []int64
	errEnough := errors.New("enough")
	follow := func(c Cursor, until int, then error) {
		t.Helper()
		got = nil
		ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
		defer cancel()
		err := l.Follow(ctx, c, func(facts []Fact) error {
			if len(facts) > followPage {
				t.Errorf("a page has %d facts", len(facts))
			}
			for _, f := range facts {
				got = append(got, f.Seq)
			}
			if len(got) >= until {
				cancel()
				return then
			}
			return nil
		})
		if want := then; want == nil && !errors.Is(err, context.Canceled) || want != nil && !errors.Is(err, want) {
			t.Errorf("it ended with %v", err)
		}
	}
	from := func(first, n int) []int64 {
		all := make([]int64, n)
		for i := range all {
			all[i] = int64(first + i)
		}
		return all
	}
	same := func(what string, first, n int) {
		t.Helper()
		if want := from(first, n); !slices.Equal(got, want) {
			t.Errorf("%s: %s, want %s", what, ends(got), ends(want))
		}
	}
	sink := Cursor{Name: "sink"}
	follow(sink, followPage, errEnough)
	same("the first page, which fails", 1, followPage)
	follow(sink, 2*followPage+10, nil)
	same("all of it, from the page that failed on", 1, 2*followPage+10)
	l.Close()
	l = open(nil)
	write(3)
	follow(Cursor{Name: "sink", After: 1}, 3, nil)
	same("after a restart, what is new", 2*followPage+11, 3)
	go write(2)
	follow(sink, 2, nil)
	same("what comes while it waits", 2*followPage+14, 2)
	follow(Cursor{After: 2*followPage + 12}, 3, nil)
	same("without a name, from where it is told", 2*followPage+13, 3)
}

func ends(all []int64) string {
	if len(all) == 0 {
		return "none"
	}
	return fmt.Sprintf("%d facts from %d to %d", len(all), all[0], all[len(all)-1])
}
