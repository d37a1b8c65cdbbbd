package view_test

import (
	"cmp"
	"os"
	"strconv"
	"testing"
	"time"

	"aditus/internal/ledger"
	"aditus/internal/ledger/ledgertest"
	"aditus/internal/status"
	"aditus/internal/view"
)

// shown is a snapshot in which the berth of the years is.
func shown() status.Snapshot {
	applied := ledgertest.New
	return status.Snapshot{Now: ledgertest.Now, Berths: []status.Berth{{ID: ledgertest.Berth, Applied: &applied}}}
}

// TestYears looks at a ledger of years: each picture has what it should, and no more of it than asked for.
func TestYears(t *testing.T) {
	folder := t.TempDir()
	ledgertest.Years(t, folder, 100_000)
	book, err := ledger.Open(folder, nil)
	if err != nil {
		t.Fatal(err)
	}
	defer book.Close()
	w, err := view.NewWatch(book, shown(), ledgertest.Berth, 0)
	if err != nil || len(w.Events) != 50 || len(w.Lanes) != 2 || len(w.Lanes[0].New) < 50 {
		t.Errorf("the watch has %d events and %d lanes (%v)", len(w.Events), len(w.Lanes), err)
	}
	b, err := view.NewBench(book, shown(), ledgertest.Berth, "slow")
	if err != nil || len(b.Releases) != 1 || len(b.History) < 8000 {
		t.Errorf("the bench has %d releases and a history of %d (%v)", len(b.Releases), len(b.History), err)
	}
	since := ledgertest.Now.Add(-10 * 24 * time.Hour)
	n, seen := 0, int64(0)
	err = ledger.Page(ledger.Query{Since: since}, func(q ledger.Query) ([]ledger.Fact, error) { return book.Facts(q) }, func(f ledger.Fact) error {
		if f.At.Before(since) || f.Seq <= seen {
			t.Fatalf("%+v does not belong there", f)
		}
		n, seen = n+1, f.Seq
		return nil
	})
	if want := 100_000 * 10 / 730; err != nil || n < want-100 || n > want+100 {
		t.Errorf("since ten days ago there are %d facts, want about %d (%v)", n, want, err)
	}
}

// BenchmarkYears looks at a ledger of a million facts, or so many as ADITUS_FACTS says.
func BenchmarkYears(b *testing.B) {
	facts, err := strconv.Atoi(cmp.Or(os.Getenv("ADITUS_FACTS"), "1000000"))
	if err != nil {
		b.Fatal(err)
	}
	folder := b.TempDir()
	began := time.Now()
	ledgertest.Years(b, folder, facts)
	b.Logf("made in %s", time.Since(began).Round(time.Second))
	book, err := ledger.Open(folder, nil)
	if err != nil {
		b.Fatal(err)
	}
	defer book.Close()
	for _, look := range []struct {
		name string
		do   func() error
	}{
		{"watch", func() error { _, err := view.NewWatch(book, shown(), ledgertest.Berth, 0); return err }},
		{"bench", func() error { _, err := view.NewBench(book, shown(), ledgertest.Berth, ""); return err }},
		{"newest", func() error { _, err := book.Facts(ledger.Query{Newest: 50}); return err }},
		{"newest-of-berth", func() error { _, err := book.Facts(ledger.Query{Berth: ledgertest.Berth, Newest: 50}); return err }},
		{"since-an-hour", func() error { _, err := book.Facts(ledger.Query{Since: ledgertest.Now.Add(-time.Hour)}); return err }},
		{"since-a-year", func() error {
			_, err := book.Facts(ledger.Query{Since: ledgertest.Now.AddDate(-1, 0, 0), Most: ledger.PageSize})
			return err
		}},
		{"open", func() error {
			other, err := ledger.OpenToRead(folder)
			if err != nil {
				return err
			}
			defer other.Close()
			if _, err := other.Latest(); err != nil {
				return err
			}
			if _, err := other.RevisionNames(); err != nil {
				return err
			}
			_, err = other.Berths()
			return err
		}},
	} {
		b.Run(look.name, func(b *testing.B) {
			for b.Loop() {
				if err := look.do(); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}
