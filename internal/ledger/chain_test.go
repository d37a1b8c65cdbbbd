package ledger

import (
	"database/sql"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"
)

// TestVerify changes, removes and adds facts behind the ledger's back: each of it is found, at its place, and what was not changed is
// found whole.
func TestVerify(t *testing.T) { each(t, testVerify) }

func testVerify(t *testing.T, fresh func() opens) {
	const n = PageSize + 10
	fill := func() *Ledger {
		l := fresh()(nil)
		var facts []Fact
		for i := range n {
			f := Fact{At: at.Add(time.Duration(i) * time.Second), Workload: "boarding", Site: "north", Kind: "stage", By: "Ma\xeftre", Text: fmt.Sprint("fact ", i)}
			if i%3 == 0 {
				f.Data = json.RawMessage(`{"a":1}`)
			}
			facts = append(facts, f)
		}
		record(t, l, Entry{Facts: facts[:5]})
		record(t, l, Entry{Facts: facts[5:]})
		return l
	}
	l := fill()
	whole, err := l.Verify(t.Context())
	if err != nil || whole.Facts != n || whole.Older != 0 || whole.Head.Seq != n || len(whole.Head.Chain) != 64 {
		t.Fatalf("%+v (%v)", whole, err)
	}
	record(t, l, Entry{Facts: []Fact{{At: at, Kind: "stage", Text: "later"}}})
	if v, err := l.Verify(t.Context(), whole.Head); err != nil || v.Facts != n+1 {
		t.Errorf("with what was noted before: %+v (%v)", v, err)
	}
	behind := func(l *Ledger, text string, args ...any) {
		t.Helper()
		if err := l.change(t.Context(), func(tx *sql.Tx) error {
			_, err := tx.Exec(text, args...)
			return err
		}); err != nil {
			t.Fatal(err)
		}
	}
	for text, want := range map[string]string{
		`UPDATE facts SET text = 'another' WHERE seq = 500`:  "fact 500 is not what was written",
		`UPDATE facts SET actor = 'nobody' WHERE seq = 1`:    "fact 1 is not what was written",
		`UPDATE facts SET data = '{"a":2}' WHERE seq = 1000`: "fact 1000 is not what was written",
		`UPDATE facts SET at = at + 1 WHERE seq = 1010`:      "fact 1010 is not what was written",
		`DELETE FROM facts WHERE seq = 700`:                  "1 facts are missing after fact 699",
		`DELETE FROM facts WHERE seq > 1005`:                 "fact 1010 was noted, and the last one is 1005",
		`UPDATE facts SET chain = '' WHERE seq = 20`:         "fact 20 is not chained",
		`UPDATE facts SET seq = 5000 WHERE seq = 300`:        "1 facts are missing after fact 299",
		`UPDATE facts SET chain = '' WHERE seq > 0`:          "fact 1010 has another sum than was noted",
		`INSERT INTO facts SELECT 1011, at, workload, site, rollout, kind, actor, revision, 'mine', data, chain FROM facts WHERE seq = 1010`: "fact 1011 is not what was written",
	} {
		l := fill()
		behind(l, text)
		if v, err := l.Verify(t.Context(), whole.Head); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %+v, %v, want %q", text, v, err, want)
		}
	}
	pruned := fill()
	behind(pruned, `DELETE FROM facts WHERE seq < 400`)
	if v, err := pruned.Verify(t.Context(), whole.Head); err != nil || v.Facts != n-399 {
		t.Errorf("where the oldest were pruned: %+v (%v)", v, err)
	}
	older := fill()
	behind(older, `UPDATE facts SET chain = '' WHERE seq > 0`)
	record(t, older, Entry{Facts: []Fact{{At: at, Kind: "stage", Text: "by this version"}}})
	if v, err := older.Verify(t.Context()); err != nil || v.Facts != 1 || v.Older != n {
		t.Errorf("after older ones: %+v (%v)", v, err)
	}
}
