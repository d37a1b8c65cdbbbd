package ledger

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"aditus/internal/core/berth"
	"aditus/internal/core/declare"
	"aditus/internal/core/rollout"
	"aditus/internal/ledger/postgrestest"
)

var (
	at            = time.UnixMilli(1773307800000)
	boardingNorth = berth.ID{Workload: "boarding", Site: "north"}
)

func open1(t *testing.T, folder string) *Ledger {
	t.Helper()
	l, err := Open(folder, nil)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	return l
}

// file is the file that a ledger lies in.
func file(l *Ledger) *embedded { return l.store.(*embedded) }

// opens opens one ledger, again and again; whoever does closes it before.
type opens func(told func([]Fact)) *Ledger

// each runs a test on ledgers of each kind of store.
func each(t *testing.T, test func(t *testing.T, fresh func() opens)) {
	t.Run("file", func(t *testing.T) {
		test(t, func() opens {
			folder := t.TempDir()
			return func(told func([]Fact)) *Ledger {
				l, err := Open(folder, told)
				if err != nil {
					t.Fatal(err)
				}
				t.Cleanup(func() { l.Close() })
				return l
			}
		})
	})
	t.Run("PostgreSQL", func(t *testing.T) {
		test(t, func() opens {
			address := postgrestest.Start(t).Database(t)
			return func(told func([]Fact)) *Ledger {
				l, _ := lead(t, address, told)
				return l
			}
		})
	})
}

func record(t *testing.T, l *Ledger, e Entry) {
	t.Helper()
	if err := l.Record(t.Context(), e); err != nil {
		t.Fatal(err)
	}
}

// TestRoundTrip writes an entry of everything and reads it back from a ledger that was opened anew.
func TestRoundTrip(t *testing.T) { each(t, testRoundTrip) }

func testRoundTrip(t *testing.T, fresh func() opens) {
	open := fresh()
	l := open(nil)
	desired := &declare.Desired{Format: 1, Workload: "boarding", Parts: map[string]declare.Part{"gate": {Kind: declare.Service, Artifact: "r.example/gate:1", Instances: 2}}}
	revision := berth.Revision{Fingerprint: desired.Fingerprint(), Workload: "boarding", Version: "1", Commit: "abc", Subject: "Say “hello”", Author: "Ilse Varga", At: at, Desired: desired}
	id := l.NextRollout()
	roll := rollout.Begin(rollout.Side{}, rollout.Side{Revision: revision.Fingerprint, Parts: map[string]int{"gate": 2}}, declare.Rollout{}, "aditus", "why", time.Time{}, at)
	roll.ID = id
	state := berth.State{Applied: revision.Fingerprint, AppliedAt: at, Rollout: id, Bars: []berth.Bar{{Revision: "x", Why: "slow", At: at}}}
	record(t, l, Entry{
		Berth: boardingNorth, Revision: &revision, State: &state, Rollout: &roll,
		Facts:   []Fact{{At: at, Workload: "boarding", Site: "north", Rollout: id, Kind: "taken", By: "aditus", Revision: revision.Fingerprint, Text: "taken", Data: json.RawMessage(`{"a":1}`)}},
		Points:  []Point{{Guard: "slow", Revision: revision.Fingerprint, At: at, Value: 0.1, Part: 1, Whole: 10}},
		Traffic: &Traffic{At: at, Asked: 0.1, Share: 0.1, Requests: [2]float64{9, 1}, Old: 6, New: 1},
	})
	if err := l.KeepPicture(t.Context(), "board", at, map[string]int{"a": 1}); err != nil {
		t.Fatal(err)
	}
	l.Close()

	l = open(nil)
	states, err := l.Berths()
	if err != nil || !reflect.DeepEqual(normal(states[boardingNorth]), normal(state)) {
		t.Errorf("the state came back as %+v (%v)", states[boardingNorth], err)
	}
	again, where, err := l.Rollout(id)
	if err != nil || where != boardingNorth || !reflect.DeepEqual(normal(again), normal(roll)) {
		t.Errorf("the rollout came back as %+v at %s (%v)", again, where, err)
	}
	names, err := l.RevisionNames()
	if err != nil || len(names) != 1 || names[0] != (RevisionName{revision.Workload, revision.Fingerprint, revision.Version}) {
		t.Errorf("the revisions' names came back as %+v (%v)", names, err)
	}
	for name, want := range map[string]int{revision.Version: 1, string(revision.Fingerprint[:4]): 1, string(revision.Fingerprint[:3]): 0, string(revision.Fingerprint): 1, "": 0, "%": 0} {
		if found, err := l.Revisions(revision.Workload, name); err != nil || len(found) != want {
			t.Errorf("%q is %d revisions (%v)", name, len(found), err)
		}
	}
	revisions, err := l.Revisions(revision.Workload, revision.Version)
	if err != nil || len(revisions) != 1 || !reflect.DeepEqual(revisions[0].Desired, desired) || revisions[0].Subject != revision.Subject {
		t.Errorf("the revisions came back as %+v (%v)", revisions, err)
	}
	facts, err := l.Facts(Query{Berth: boardingNorth})
	if err != nil || len(facts) != 1 || facts[0].Text != "taken" || string(facts[0].Data) != `{"a":1}` {
		t.Errorf("the facts came back as %+v (%v)", facts, err)
	}
	points, err := l.Points(boardingNorth, at, at)
	looks, err2 := l.Traffic(id)
	if err != nil || err2 != nil || len(points) != 1 || points[0].Whole != 10 || len(looks) != 1 || looks[0].Requests != [2]float64{9, 1} {
		t.Errorf("points %+v (%v), looks %+v (%v)", points, err, looks, err2)
	}
	var picture map[string]int
	if when, err := l.Picture("board", &picture); err != nil || picture["a"] != 1 || !when.Equal(at) {
		t.Errorf("the picture came back as %v of %s (%v)", picture, when, err)
	}
	if latest, err := l.Latest(); err != nil || !latest.Equal(at) {
		t.Errorf("the newest moment is %s (%v)", latest, err)
	}
	if next := l.NextRollout(); next != id+1 {
		t.Errorf("the next rollout is %d, want %d", next, id+1)
	}
}

func normal(v any) string {
	text, _ := json.Marshal(v)
	return string(text)
}

func TestQueries(t *testing.T) { each(t, testQueries) }

func testQueries(t *testing.T, fresh func() opens) {
	open := fresh()
	l := open(nil)
	for i, site := range []string{"north", "south", "north", "north"} {
		record(t, l, Entry{Facts: []Fact{{At: at.Add(time.Duration(i) * time.Second), Workload: "boarding", Site: site, Kind: "stage", Text: site, Rollout: int64(i)}}})
	}
	for _, test := range []struct {
		query Query
		want  []int64
	}{
		{Query{}, []int64{1, 2, 3, 4}}, {Query{Berth: boardingNorth}, []int64{1, 3, 4}}, {Query{Berth: boardingNorth, Newest: 2}, []int64{3, 4}}, {Query{After: 2}, []int64{3, 4}},
		{Query{Since: at.Add(3 * time.Second)}, []int64{4}}, {Query{Rollout: 2}, []int64{3}}, {Query{Berth: berth.ID{Workload: "else", Site: ""}}, nil},
	} {
		facts, err := l.Facts(test.query)
		var got []int64
		for _, f := range facts {
			got = append(got, f.Seq)
		}
		if err != nil || !reflect.DeepEqual(got, test.want) {
			t.Errorf("%+v gives %v (%v), want %v", test.query, got, err, test.want)
		}
	}
	if _, err := l.LastRollout(boardingNorth); !errors.Is(err, ErrNone) {
		t.Errorf("a berth without rollouts: %v", err)
	}
	want := []Point{
		{Guard: "slow", Revision: "old", At: at, Value: 0.25, Part: 1, Whole: 4, Stage: -1}, {Guard: "slow", Revision: "new", At: at.Add(time.Millisecond), Value: 2, Part: 1e12, Whole: 3, Stage: 0},
		{Guard: "slow", Revision: "old", At: at.Add(time.Hour), Value: -1.5, Stage: 300},
	}
	record(t, l, Entry{Berth: boardingNorth, Points: append([]Point{{Guard: "slow", Revision: "older", At: at}, {Guard: "wrong", Revision: "old", At: at}, {Guard: "slow", Revision: "old", At: at.Add(2 * time.Hour)}}, want...)})
	points, err := l.PointsOf(boardingNorth, "slow", [2]declare.Fingerprint{"old", "new"}, at, at.Add(time.Hour))
	if err != nil || !slices.EqualFunc(points, want, func(x, y Point) bool {
		return x.At.Equal(y.At) && x.Part == y.Part && x.Whole == y.Whole && x.Value == y.Value && x.Stage == y.Stage && x.Revision == y.Revision && x.Guard == y.Guard
	}) {
		t.Errorf("the points of a guard came back as %+v (%v)", points, err)
	}
}

// TestFullDisk fills the database: an entry is recorded whole or not at all, and what was there stays.
func TestFullDisk(t *testing.T) {
	l := open1(t, t.TempDir())
	record(t, l, Entry{Berth: boardingNorth, State: &berth.State{Applied: "before"}, Facts: []Fact{{At: at, Kind: "stage", Text: "before"}}})
	if _, err := file(l).write.Exec("PRAGMA max_page_count = 1"); err != nil { // SQLite takes the present size for the least
		t.Fatal(err)
	}
	err := l.Record(t.Context(), Entry{Berth: boardingNorth, State: &berth.State{Applied: "after"}, Facts: []Fact{{At: at, Kind: "stage", Text: strings.Repeat("x", 1<<20)}}})
	if !errors.Is(err, ErrFull) || !strings.Contains(err.Error(), "free some space") {
		t.Fatalf("a full disk gives %v", err)
	}
	if _, err := os.Stat(file(l).spare); !errors.Is(err, os.ErrNotExist) {
		t.Error("the spare room was not given up")
	}
	states, _ := l.Berths()
	facts, _ := l.Facts(Query{})
	if states[boardingNorth].Applied != "before" || len(facts) != 1 {
		t.Errorf("half an entry was recorded: %+v, %d facts", states[boardingNorth], len(facts))
	}
	if _, err := file(l).write.Exec("PRAGMA max_page_count = 1000000"); err != nil {
		t.Fatal(err)
	}
	record(t, l, Entry{Facts: []Fact{{At: at, Kind: "stage", Text: "goes on"}}})
	file(l).spares(time.Now().Add(spareEvery))
	if info, err := os.Stat(file(l).spare); err != nil || info.Size() != spareSize {
		t.Errorf("the spare room is not there again: %v", err)
	}
}

func TestOpenProblems(t *testing.T) {
	folder := t.TempDir()
	if _, err := OpenToRead(folder); err == nil || !strings.Contains(err.Error(), "aditus demo") {
		t.Errorf("an empty folder: %v", err)
	}
	if err := os.WriteFile(filepath.Join(folder, FileName), bytes.Repeat([]byte("no database "), 500), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(folder, nil); err == nil || !strings.Contains(err.Error(), "damaged") {
		t.Errorf("a damaged file: %v", err)
	}
	newer := t.TempDir()
	l := open1(t, newer)
	if _, err := file(l).write.Exec("PRAGMA user_version = 99"); err != nil {
		t.Fatal(err)
	}
	l.Close()
	if _, err := Open(newer, nil); err == nil || !strings.Contains(err.Error(), "newer Aditus") {
		t.Errorf("a newer schema: %v", err)
	}
}

func TestLockFolder(t *testing.T) {
	folder := filepath.Join(t.TempDir(), "made", "here")
	release, err := LockFolder(folder)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := LockFolder(folder); !errors.Is(err, ErrInUse) || !strings.Contains(err.Error(), "--data") {
		t.Errorf("a second program got %v", err)
	}
	release()
	again, err := LockFolder(folder)
	if err != nil {
		t.Fatalf("a folder that was let go: %v", err)
	}
	again()
}

func TestTold(t *testing.T) { each(t, testTold) }

func testTold(t *testing.T, fresh func() opens) {
	open := fresh()
	var told []int64
	l := open(func(facts []Fact) {
		for _, f := range facts {
			told = append(told, f.Seq)
		}
	})
	record(t, l, Entry{Facts: []Fact{{At: at, Kind: "a"}, {At: at, Kind: "b"}}})
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	if err := l.Record(ctx, Entry{Facts: []Fact{{At: at, Kind: "c"}}}); err == nil {
		t.Error("an entry was recorded for a caller that was gone")
	}
	if !reflect.DeepEqual(told, []int64{1, 2}) {
		t.Errorf("told %v", told)
	}
}

func TestDecodeFact(t *testing.T) {
	for _, test := range []struct{ line, problem string }{
		{`{"seq":1,"at":"2026-03-12T09:30:00Z","kind":"stage","by":"aditus","text":"x"}`, ""},
		{`{"seq":0,"at":"2026-03-12T09:30:00Z","kind":"stage"}`, "seq"}, {`{"seq":1,"kind":"stage"}`, "at is missing"}, {`{"seq":1,"at":"2026-03-12T09:30:00Z","kind":" "}`, "kind is missing"},
		{`{"seq":1,"at":"2026-03-12T09:30:00Z","kind":"a","what":1}`, "unknown field"}, {`{"seq":1,"at":"2026-03-12T09:30:00Z","kind":"a"} {}`, "more than one"}, {``, "EOF"},
	} {
		_, err := DecodeFact([]byte(test.line))
		if (err == nil) != (test.problem == "") || err != nil && !strings.Contains(err.Error(), test.problem) {
			t.Errorf("%s: %v, want %q", test.line, err, test.problem)
		}
	}
}

// FuzzDecodeFact sees that whatever is read is written back the same.
func FuzzDecodeFact(f *testing.F) {
	f.Add([]byte(`{"seq":1,"at":"2026-03-12T09:30:00Z","workload":"a","site":"b","rollout":3,"kind":"stage","by":"aditus","revision":"abc","text":"x","data":{"a":[1,2]}}`))
	f.Add([]byte(`{"seq":9223372036854775807,"at":"0001-01-01T00:00:01Z","kind":"\u0000","by":"","text":"\ud800"}`))
	f.Fuzz(func(t *testing.T, line []byte) {
		fact, err := DecodeFact(line)
		if err != nil {
			return
		}
		text, err := fact.Encode()
		if err != nil {
			t.Fatalf("a fact that was read cannot be written: %v", err)
		}
		again, err := DecodeFact(text)
		if err != nil {
			t.Fatalf("%s was written and cannot be read: %v", text, err)
		}
		if twice, _ := again.Encode(); !bytes.Equal(text, twice) {
			t.Fatalf("%s became %s", text, twice)
		}
	})
}

// TestSynchronous sees that what is recorded is on disk before it is told to be, and that readers read only.
func TestSynchronous(t *testing.T) {
	l := open1(t, t.TempDir())
	var synchronous, only int
	var journal string
	if err := errors.Join(file(l).write.QueryRow("PRAGMA synchronous").Scan(&synchronous), file(l).write.QueryRow("PRAGMA journal_mode").Scan(&journal), l.read.QueryRow("PRAGMA query_only").Scan(&only)); err != nil {
		t.Fatal(err)
	}
	if synchronous != 2 || journal != "wal" || only != 1 { // 2 is FULL
		t.Errorf("synchronous %d, journal %s, readers read only %d", synchronous, journal, only)
	}
}
