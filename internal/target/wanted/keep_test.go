package wanted

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"aditus/internal/core/berth"
	"aditus/internal/core/declare"
	"aditus/internal/disk"
	"aditus/internal/disk/disktest"
	"aditus/internal/target"
)

// story asks for many things, one after the other, and tells after each that it was answered.
func story(t *testing.T, b *Book, answered func()) {
	t.Helper()
	parts := map[string]declare.Part{"web": {Kind: declare.Service, Environment: map[string]string{"SEASON": strings.Repeat("summer ", 200)}}}
	do := func(workload string, wants ...target.Want) {
		if err := b.Apply(workload, wants, splits, morning); err != nil {
			t.Fatal(err)
		}
		answered()
	}
	do("tides", target.Prepare(one, declare.Desired{Parts: parts}), target.Noted(1))
	do("piers", target.Prepare(one, declare.Desired{Parts: parts}), target.Noted(1))
	do("tides", target.Scale(one, "web", 3), target.SetShare(one, 1, ""), target.Noted(2))
	do("tides", target.Prepare(two, declare.Desired{Parts: parts}), target.Scale(two, "web", 1), target.Noted(3))
	do("tides", target.SetShare(two, 0.5, one), target.Noted(4))
	do("piers", target.Delete(one))
	do("tides", target.SetShare(two, 1, ""), target.Delete(one), target.Noted(5))
	if err := b.Restart("tides", "tides-web-2222222-1", morning); err != nil {
		t.Fatal(err)
	}
	answered()
}

// shown is all of a book as one text.
func shown(b *Book) string {
	all := map[string]*page{}
	for _, workload := range b.Workloads() {
		all[workload] = b.pages[workload]
	}
	text, _ := json.Marshal(all)
	return string(text)
}

// TestPowerCut replays what is left of a book after a power cut at each moment: it opens, and has what was answered for, or
// what was just being asked for.
func TestPowerCut(t *testing.T) {
	folder := t.TempDir()
	r := disktest.Record(folder)
	b, err := Open("north", filepath.Join(folder, "asked"), filepath.Join(folder, "asked.json"), r)
	if err != nil {
		t.Fatal(err)
	}
	states := []string{shown(b)}
	story(t, b, func() {
		r.Ack()
		states = append(states, shown(b))
	})
	tried := disktest.Try(t, r, disktest.Ways(6), func(folder string, acked int) error {
		again, err := Open("north", filepath.Join(folder, "asked"), filepath.Join(folder, "asked.json"), disktest.Unflushed{Disk: disk.Machine})
		if err != nil {
			return err
		}
		if len(again.spoilt) > 0 {
			return fmt.Errorf("damaged: %v", again.spoilt)
		}
		for _, good := range states[acked:min(acked+2, len(states))] {
			if shown(again) == good {
				return nil
			}
		}
		return fmt.Errorf("the book has %s", shown(again))
	})
	t.Logf("%d states", tried)
}

// TestDamaged sees that a spoilt page is brought back from the one before, and that one that cannot be read at all is set
// aside: nothing is changed for its workload, and the others go on.
func TestDamaged(t *testing.T) {
	folder := t.TempDir()
	open := func() *Book {
		b, err := Open("north", folder, "", disk.Machine)
		if err != nil {
			t.Fatal(err)
		}
		return b
	}
	story(t, open(), func() {})
	file := filepath.Join(folder, "tides.json")
	for _, spoilt := range []string{"", `{"format":2}`, strings.Repeat("\x00", 300)} {
		os.WriteFile(file, []byte(spoilt), 0o600)
		b := open()
		if b.Spoilt("tides") != nil || b.Step("tides") == 0 {
			t.Errorf("%.20q: %v, step %d", spoilt, b.Spoilt("tides"), b.Step("tides"))
		}
		if err := b.Apply("tides", []target.Want{target.Scale(two, "web", 2)}, splits, morning); err != nil {
			t.Error(err)
		}
	}
	os.WriteFile(file, nil, 0o600)
	os.WriteFile(file+before, nil, 0o600)
	b := open()
	if err := b.Spoilt("tides"); err == nil || !b.Partly() || !strings.Contains(err.Error(), "put "+file+" back") {
		t.Error(err)
	}
	if err := b.Apply("tides", []target.Want{target.Scale(two, "web", 2)}, splits, morning); err == nil {
		t.Error("something was asked of what cannot be read")
	}
	if err := b.Apply("piers", []target.Want{target.Prepare(one, declare.Desired{})}, splits, morning); err != nil {
		t.Error(err)
	}
	if err := open().Spoilt("tides"); err == nil {
		t.Error("it is forgotten at the next start")
	}
	aside, _ := filepath.Glob(file + ".damaged-*")
	for _, name := range aside {
		os.Remove(name)
	}
	if b := open(); b.Partly() || len(aside) != 1 {
		t.Errorf("%d set aside, and then %v", len(aside), b.spoilt)
	}
}

// TestFirstFormat opens a book of the first format, one file for all: it becomes pages, once.
func TestFirstFormat(t *testing.T) {
	folder := t.TempDir()
	whole := filepath.Join(folder, "asked.json")
	if err := os.WriteFile(whole, []byte(`{"tides":{"1111111111":{"share":1,"parts":{"web":{"kind":"service","instances":1}},"next":{"web":1},"instances":[{"id":"tides-web-1111111-1","part":"web","created":"2026-03-12T09:30:00Z"}]}}}`), 0o600); err != nil {
		t.Fatal(err)
	}
	for range 2 {
		b, err := Open("north", filepath.Join(folder, "asked"), whole, disk.Machine)
		if err != nil {
			t.Fatal(err)
		}
		b.Read("tides", func(cohorts map[declare.Fingerprint]*Cohort) {
			if c := cohorts[one]; c == nil || c.Share != 1 || len(c.Instances) != 1 {
				t.Errorf("%+v", c)
			}
		})
		if _, err := os.Stat(whole); !errors.Is(err, os.ErrNotExist) {
			t.Error("the old book is still there")
		}
	}
	os.WriteFile(whole, []byte(`{`), 0o600)
	if _, err := Open("north", filepath.Join(folder, "asked"), whole, disk.Machine); err == nil {
		t.Error("a damaged book is taken for an empty one")
	}
	os.WriteFile(filepath.Join(folder, "asked", "tides.json"), []byte(`{"format":3,"workload":"tides","cohorts":{}}`), 0o600)
	os.Remove(whole)
	if b, err := Open("north", filepath.Join(folder, "asked"), whole, disk.Machine); err != nil || b.Spoilt("tides") == nil {
		t.Errorf("a newer format: %v", err)
	}
}

// TestRemembered sees that a revision comes back from the site as it was, and that one which is not what its name says does not.
func TestRemembered(t *testing.T) {
	folder := t.TempDir()
	desired := declare.Desired{Format: 1, Workload: "tides", Parts: map[string]declare.Part{"web": {Kind: declare.Service, Artifact: "r.example/tides:1", Instances: 2}}}
	r := &berth.Revision{Fingerprint: desired.Fingerprint(), Workload: "tides", Version: "1", Commit: "abc", Author: "Ilse Varga", At: morning, Desired: &desired}
	b, err := Open("north", folder, "", disk.Machine)
	if err != nil {
		t.Fatal(err)
	}
	want := target.Prepare(r.Fingerprint, desired)
	want.Remember = target.Remember(r)
	if err := b.Apply("tides", []target.Want{want}, splits, time.Time{}); err != nil {
		t.Fatal(err)
	}
	if b, err = Open("north", folder, "", disk.Machine); err != nil {
		t.Fatal(err)
	}
	again := b.Remembered("tides", r.Fingerprint)
	if again == nil || again.Version != "1" || again.Author != r.Author || again.Desired.Parts["web"].Instances != 2 || b.Remembered("tides", two) != nil || b.Remembered("piers", two) != nil {
		t.Errorf("%+v", again)
	}
	b.pages["tides"].Cohorts[r.Fingerprint].Revision.Declares = []byte(`{"format":1,"workload":"tides"}`)
	if again := b.Remembered("tides", r.Fingerprint); again != nil {
		t.Errorf("%+v", again)
	}
}
