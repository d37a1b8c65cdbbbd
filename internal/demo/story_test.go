package demo

import (
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"aditus/internal/control"
	"aditus/internal/core/berth"
	"aditus/internal/ledger"
	"aditus/internal/status"
	"aditus/internal/target"
	"aditus/internal/view"
)

var refresh = flag.Bool("refresh", false, "write the story's snapshot anew, which the tests of the faces are made on")

// storyFile is a moment of the story, for the tests of what shows it.
const storyFile = "../view/storytest/story.json"

// moment is when everything of the story is to be seen at once.
const moment = 150 * time.Second

var begin = time.Date(2026, 3, 12, 9, 30, 0, 0, time.UTC)

// TestStory runs the whole story as fast as it goes: it ends as it should, every fact of the ledger can be exported and
// read back, and facts come in the order of time.
func TestStory(t *testing.T) {
	var mu sync.Mutex
	kinds := map[berth.Kind]int{}
	w, err := Open(t.TempDir(), Options{Start: begin, Recorded: func(facts []ledger.Fact) {
		mu.Lock()
		defer mu.Unlock()
		for _, f := range facts {
			if !f.At.Before(begin) {
				kinds[f.Kind]++
			}
		}
	}})
	if err != nil {
		t.Fatal(err)
	}
	defer w.Close()
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	if *refresh {
		w.clock.Join()
		go func() {
			defer w.clock.Leave()
			w.clock.Wait(ctx, begin.Add(moment), nil)
			capture(t, w)
		}()
	}
	var ending Ending
	if err := w.Run(ctx, func(e Ending) { ending = e; cancel() }); err != nil {
		t.Fatal(err)
	}
	for _, part := range ending.Parts {
		if !part.Reached {
			t.Errorf("the story did not come to this: %s", part.Name)
		}
	}
	for kind, least := range map[berth.Kind]int{"declared": 2, "taken": 6, "breach": 2, "rolled back": 2, "barred": 2, "waiting": 1, "drifted": 1, "proven": 2} {
		if kinds[kind] < least {
			t.Errorf("%d facts of kind %q, want %d at least; all: %v", kinds[kind], kind, least, kinds)
		}
	}
	facts, err := w.Ledger.Facts(ledger.Query{})
	if err != nil {
		t.Fatal(err)
	}
	var out bytes.Buffer
	if err := ledger.WriteFacts(&out, facts); err != nil {
		t.Fatal(err)
	}
	lines := strings.Split(strings.TrimSpace(out.String()), "\n")
	if len(lines) != len(facts) {
		t.Fatalf("%d facts make %d lines", len(facts), len(lines))
	}
	for i, line := range lines {
		if f, err := ledger.DecodeFact([]byte(line)); err != nil || f.Seq != facts[i].Seq || f.Text != facts[i].Text {
			t.Fatalf("line %d: %v", i+1, err)
		}
	}
}

// BenchmarkStory runs the whole story and tells how much faster than real time that is.
func BenchmarkStory(b *testing.B) {
	var told time.Duration
	for b.Loop() {
		w, err := Open(b.TempDir(), Options{Start: begin})
		if err != nil {
			b.Fatal(err)
		}
		ctx, cancel := context.WithCancel(b.Context())
		if err := w.Run(ctx, func(e Ending) { told += e.After; cancel() }); err != nil {
			b.Fatal(err)
		}
		cancel()
		w.Close()
	}
	b.ReportMetric(told.Seconds()/b.Elapsed().Seconds(), "times-real")
}

// compared are the berths whose comparison the faces are tested on.
var compared = []string{"boarding/north", "boarding/isles", "fares/south", "tides/isles", "piers/slipway", "lookout/south", "accounts/north"}

// capture writes what the faces would see now.
func capture(t *testing.T, w *World) {
	live := control.Live{Engine: w.Engine, Ledger: w.Ledger}
	story := struct {
		Snapshot    status.Snapshot
		Watches     map[string]view.Watch
		Comparisons map[string]view.Comparison
		Lines       []target.LogLine
		Benches     map[string]view.Bench
		Calendar    status.Calendar
	}{live.Snapshot(t.Context()), map[string]view.Watch{}, map[string]view.Comparison{}, nil, map[string]view.Bench{}, status.Calendar{}}
	from, until := view.TwoWeeks.Range(story.Snapshot.Now, 0, time.UTC)
	var err error
	if story.Calendar, err = live.Calendar(t.Context(), from, until); err != nil {
		t.Error(err)
	}
	for _, name := range []string{"slow share", "errors"} {
		bench, err := live.Bench(t.Context(), Breached, name)
		if err != nil {
			t.Error(err)
		}
		story.Benches[Breached.String()+" "+name] = bench
	}
	for _, b := range story.Snapshot.Berths {
		if watch, err := live.Watch(t.Context(), b.ID, 0); err == nil {
			story.Watches[b.ID.String()] = watch
		}
		if id := b.ID.String(); slices.Contains(compared, id) {
			c, err := live.Compare(t.Context(), b.ID, view.Against{})
			if err != nil {
				t.Error(err)
			}
			story.Comparisons[id] = c
		}
	}
	if b, ok := story.Snapshot.Find(berth.ID{Workload: "lookout", Site: "north"}); ok {
		lines, err := live.Log(t.Context(), b.ID, b.Cohorts[0].Instances[0].ID, time.Time{}, 200)
		if err != nil {
			t.Error(err)
		}
		story.Lines = lines
	}
	for i := range story.Snapshot.Links {
		l := &story.Snapshot.Links[i]
		l.Repository, l.Took = "/srv/skerry-line", time.Millisecond
		if l.Bundle {
			l.Repository, l.Took = "oci://registry.skerry.example/line/notices", 12*time.Millisecond
		}
	}
	text, err := json.Marshal(story)
	if err == nil {
		err = os.WriteFile(storyFile, text, 0o644)
	}
	if err != nil {
		t.Errorf("write %s: %v", storyFile, err)
	}
}

// TestGoesOn ends the story's program at many moments and starts it anew on the same folder, until it has come to its end.
func TestGoesOn(t *testing.T) {
	folder := t.TempDir()
	var ending Ending
	for runs := 0; ending.Parts == nil; runs++ {
		if runs > 60 {
			t.Fatal("the story never ends")
		}
		w, err := Open(folder, Options{Start: begin})
		if err != nil {
			t.Fatal(err)
		}
		if w.Resumed != (runs > 0) {
			t.Fatalf("run %d goes on: %v", runs, w.Resumed)
		}
		ctx, cancel := context.WithCancel(t.Context())
		w.clock.Join()
		go func() {
			defer w.clock.Leave()
			w.clock.Wait(ctx, w.clock.Now().Add(time.Duration(17+runs)*time.Second), nil)
			cancel()
		}()
		if err := w.Run(ctx, func(e Ending) { ending = e }); err != nil {
			t.Fatal(err)
		}
		cancel()
		w.Close()
	}
	for _, part := range ending.Parts {
		if !part.Reached {
			t.Errorf("the story did not come to this: %s", part.Name)
		}
	}
}

// TestOurs holds what a story may clear away for a new one against what the documents say that a data folder has.
func TestOurs(t *testing.T) {
	text, err := os.ReadFile("../../docs/settings.md")
	if err != nil {
		t.Fatal(err)
	}
	_, table, _ := strings.Cut(string(text), "| file | what it is |")
	names := 0
	for line := range strings.Lines(table) {
		if !strings.HasPrefix(line, "| `") {
			continue
		}
		cell, _, _ := strings.Cut(line[2:], " | ")
		for name := range strings.SplitSeq(cell, ", ") {
			names++
			if name = strings.Trim(name, "`/ "); !ours(name) {
				t.Errorf("%s is in a data folder, and keeps the demo from being told anew", name)
			}
		}
	}
	if names < 20 {
		t.Errorf("only %d names were read", names)
	}
}

func TestOpenProblems(t *testing.T) {
	folder := t.TempDir()
	if err := os.WriteFile(filepath.Join(folder, "thesis.txt"), []byte("years of work"), 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(folder, Options{Anew: true, Start: begin}); err == nil || !strings.Contains(err.Error(), "thesis.txt") {
		t.Errorf("a folder with somebody's work: %v", err)
	}
	if _, err := os.Stat(filepath.Join(folder, "thesis.txt")); err != nil {
		t.Errorf("it is gone: %v", err)
	}
	used := t.TempDir()
	half := filepath.Join(used, ".demo.json3702520915434679286") // of a program that was killed
	if err := os.WriteFile(half, []byte(`{"st`), 0o600); err != nil {
		t.Fatal(err)
	}
	w, err := Open(used, Options{Start: begin})
	if err != nil {
		t.Fatal(err)
	}
	defer w.Close()
	if _, err := os.Stat(half); err == nil {
		t.Error("half of a file stays for good")
	}
	if _, err := Open(used, Options{Start: begin}); err == nil || !strings.Contains(err.Error(), "in use") {
		t.Errorf("a second program on the same folder: %v", err)
	}
}

// TestHalfIndex commits to a repository in which a program that was killed has left half an index.
func TestHalfIndex(t *testing.T) {
	folder := t.TempDir()
	if _, err := makeRepository(folder, begin); err != nil {
		t.Fatal(err)
	}
	for size, version := range []string{"9.1.0", "9.2.0", "9.3.0"} {
		if err := push(folder, change{workload: "accounts", version: version, author: "Ilse Varga", subject: version}, begin); err != nil {
			t.Fatalf("after the index was cut to %d bytes: %v", size, err)
		}
		text, err := exec.Command("git", "-C", folder, "show", "--stat", "HEAD").CombinedOutput()
		if err != nil || !strings.Contains(string(text), "1 file changed") {
			t.Errorf("%v\n%s", err, text)
		}
		if err := os.Truncate(filepath.Join(folder, ".git", "index"), int64(10*size)); err != nil {
			t.Fatal(err)
		}
	}
}
