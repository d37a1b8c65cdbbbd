package tui

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"aditus/internal/core/berth"
	"aditus/internal/ledger"
)

// happened is what a ledger has, some of it noted later than it was.
func happened(now time.Time) (facts []ledger.Fact) {
	add := func(ago time.Duration, f ledger.Fact) {
		f.Seq, f.At = int64(len(facts)+1), now.Add(-ago)
		facts = append(facts, f)
	}
	add(9*24*time.Hour, ledger.Fact{Workload: "lookout", Site: "north", Kind: "proven", By: "aditus", Revision: "d6c60d6bd000", Text: "5.0.1 (d6c60d6) is proven"})
	add(30*time.Hour, ledger.Fact{Workload: "fares", Site: "isles", Kind: "locked", By: "Edda Marsh", Text: "“the gate printers are being exchanged until Thursday”"})
	add(20*24*time.Hour, ledger.Fact{Workload: "boarding", Site: "north", Kind: "proven", By: "aditus", Revision: "a5ae05704000", Text: "4.12.2 (a5ae057) is proven"})
	boarding := func(kind berth.Kind, text string) ledger.Fact {
		return ledger.Fact{Workload: "boarding", Site: "north", Rollout: 6, Kind: kind, By: "aditus", Revision: "7941b4ab7000", Text: text}
	}
	add(5*time.Minute, boarding("taken", "4.13.0 (7941b4a), “Read tickets offline” by Ilse Varga, taken automatically: change gate"))
	add(3*time.Minute, boarding("breach", "slow share 8.5 %, at most 5 % is allowed (7.6 % to 9.5 %), decided 48 s into stage 2 of 5"))
	add(2*time.Minute, boarding("rolled back", "4.12.2 serves alone again; slow share 8.5 %, at most 5 % is allowed"))
	add(2*time.Minute, boarding("barred", "4.13.0 (7941b4a) is barred until Git moves on or a person lifts the bar"))
	add(time.Minute, ledger.Fact{Kind: "asked", By: "Maren Oake", Text: "the link line of the links set"})
	return facts
}

// TestLedger finds what happened, and goes from there to the rollout, to what differs, and back to a revision.
func TestLedger(t *testing.T) {
	a, f := app(t)
	shows := func(want ...string) {
		t.Helper()
		for _, text := range want {
			if got := frame(a, 158, 47); !strings.Contains(got, text) {
				t.Errorf("%q is not on the screen:\n%s", text, got)
			}
		}
	}
	press(a, "H")
	shows("8 facts since", "1 rollout", "the line", "▸ rolled back", "3 min", "TODAY", "YESTERDAY")
	if text := frame(a, 158, 47); strings.Contains(text, "breach") || strings.Index(text, "a5ae057") < strings.Index(text, "d6c60d6") {
		t.Errorf("what came of a rollout stands for it, and what is older stands below:\n%s", text)
	}
	press(a, "down right")
	shows("breach", "taken", "barred")
	press(a, "g")
	shows("breach")
	press(a, "g / b y : e d d a")
	shows("locked")
	if text := frame(a, 158, 47); strings.Contains(text, "rolled back") {
		t.Errorf("it is not refined while it is typed:\n%s", text)
	}
	press(a, "esc")
	shows("rolled back")
	press(a, "/ s i n c e : s o o n enter")
	shows("is no moment")
	press(a, "/ esc / x enter") // behind what stands there
	press(a, "esc H / n o b o d y enter")
	shows("Nothing on record fits.")
	press(a, "esc H c")
	shows("Mark a revision first")
	press(a, "end m up up") // over the name of a day
	shows("● ", "a5ae057 of boarding is marked")
	press(a, "c")
	shows("Choose another revision of boarding.")
	press(a, "home down r")
	shows("Roll boarding at north back to 7941b4a?", "What differs:")
	press(a, "enter")
	if len(f.orders) != 1 || f.orders[0].Verb != berth.RollBack || f.orders[0].To != "7941b4ab7000" {
		t.Errorf("it was ordered %+v", f.orders)
	}
	f.facts = append(f.facts, ledger.Fact{Seq: 9, At: f.Story.Snapshot.Now, Workload: "tides", Site: "isles", Kind: "drifted", By: "someone", Text: "=cmd()|gauge instances 3 → 5"})
	run(a, a.snap())
	shows("gauge instances 3 → 5", "9 facts since")
	press(a, "/ d r i f t enter x")
	written, err := filepath.Glob(filepath.Join(a.options.Pictures, "ledger-*"))
	if err != nil || len(written) != 4 {
		t.Fatalf("%v are written (%v)", written, err)
	}
	for _, name := range written {
		if ext := filepath.Ext(name); ext == ".svg" || ext == ".pdf" {
			continue
		}
		if text, err := os.ReadFile(name); err != nil || strings.Contains(string(text), ",=cmd") || !strings.Contains(string(text), "gauge instances") || strings.Contains(string(text), "printers") {
			t.Errorf("%s: %s (%v)", name, text, err)
		}
	}
	f.facts = nil
	for i := range 5000 {
		f.facts = append(f.facts, ledger.Fact{Seq: int64(i + 1), At: f.Story.Snapshot.Now.Add(time.Duration(i-5000) * time.Minute), Kind: "asked", By: "Maren Oake", Text: fmt.Sprint("order ", i)})
	}
	press(a, "esc H end")
	shows("000 facts since 11 Mar 2026", "older ones with ↓ at the end", "order 3000")
	press(a, "down")
	shows("000 facts since 8 Mar 2026")
	press(a, "end")
	shows("order 0")
}
