package ledger

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"
)

// shipper is a ledger that is shipped while it is written to.
type shipper struct {
	t      *testing.T
	folder string
	to     string
	l      *Ledger
	end    func()
	facts  int
}

func (s *shipper) open() {
	s.t.Helper()
	s.l = open1(s.t, s.folder)
	if err := s.l.BeginShipping(); err != nil {
		s.t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	var ended sync.WaitGroup
	ended.Go(func() {
		s.l.Ship(ctx, Shipping{To: s.to, Every: time.Millisecond}, func(err error) {
			if err != nil {
				s.t.Error(err)
			}
		})
	})
	s.end = func() { cancel(); ended.Wait() }
	s.t.Cleanup(s.end)
}

func (s *shipper) write(n int) {
	s.t.Helper()
	for range n {
		s.facts++
		record(s.t, s.l, Entry{Berth: boardingNorth, Facts: []Fact{{At: at, Kind: "stage", Text: fmt.Sprint(s.facts, strings.Repeat(" x", 10_000))}}})
	}
}

// shipped waits until all was shipped.
func (s *shipper) shipped() {
	s.t.Helper()
	for range 10_000 {
		at, err := file(s.l).readShipped()
		_, size, err2 := file(s.l).log()
		if err == nil && err2 == nil && at.Size == size {
			return
		}
		time.Sleep(time.Millisecond)
	}
	s.t.Fatal("it is never shipped")
}

// rebuilt is how many facts a ledger has that is made of what was shipped, which must be the first ones, without a gap.
func (s *shipper) rebuilt() int64 {
	s.t.Helper()
	folder := s.t.TempDir()
	facts, err := Rebuild(s.to, filepath.Join(folder, FileName))
	if err != nil {
		s.t.Fatal(err)
	}
	again := open1(s.t, folder)
	all, err := again.Facts(Query{})
	if err != nil || int64(len(all)) != facts {
		s.t.Fatalf("%d facts, and %d (%v)", len(all), facts, err)
	}
	for i, f := range all {
		if !strings.HasPrefix(f.Text, fmt.Sprint(i+1, " ")) {
			s.t.Fatalf("fact %d is %.10q", i+1, f.Text)
		}
	}
	return facts
}

// TestShip ships a ledger over restarts, kills and logs that somebody else brought into the database: what was shipped is
// always a ledger as it was, without a gap, and soon all of it.
func TestShip(t *testing.T) {
	s := &shipper{t: t, folder: t.TempDir(), to: filepath.Join(t.TempDir(), "elsewhere")}
	all := func(when string) {
		t.Helper()
		s.shipped()
		if got := s.rebuilt(); got != int64(s.facts) {
			t.Fatalf("%s: %d facts of %d", when, got, s.facts)
		}
	}
	s.open()
	s.write(3)
	all("at first")
	s.write(1000) // the log is begun anew meanwhile
	all("after much")
	for at, err := file(s.l).readShipped(); err != nil || at.Segment < 2; at, err = file(s.l).readShipped() {
		time.Sleep(time.Millisecond)
	}
	s.write(3)
	all("after the log was begun anew")
	s.end()
	s.l.Close()
	if got := s.rebuilt(); got != int64(s.facts) {
		t.Errorf("after its end: %d facts of %d", got, s.facts)
	}
	s.open()
	s.write(5)
	all("after a restart")
	if found, _ := generations(s.to); len(found) != 1 {
		t.Errorf("after a restart there are %v", found)
	}
	s.end()
	s.l.Close()
	older, err := os.ReadFile(filepath.Join(s.folder, FileName))
	if err != nil {
		t.Fatal(err)
	}
	s.open()
	had := s.facts
	s.write(3)
	s.shipped()
	s.end()
	s.l.Close()
	if err := os.WriteFile(filepath.Join(s.folder, FileName), older, 0o600); err != nil {
		t.Fatal(err)
	}
	s.facts = had
	s.open()
	s.write(1)
	all("after an older copy was put back")
	if found, _ := generations(s.to); len(found) != 2 {
		t.Errorf("after an older copy was put back there are %v", found)
	}
	for round := range 4 { // killed: what comes after the last look was not shipped
		s.end()
		s.write(2)
		killed := t.TempDir()
		for _, name := range []string{FileName, FileName + "-wal", shippedState} {
			text, err := os.ReadFile(filepath.Join(s.folder, name))
			if err != nil {
				t.Fatal(err)
			}
			if name == shippedState { // the end was not told
				text = []byte(strings.Replace(string(text), `"closed":true`, `"closed":false`, 1))
			}
			if err := os.WriteFile(filepath.Join(killed, name), text, 0o600); err != nil {
				t.Fatal(err)
			}
		}
		s.l.Close()
		s.folder = killed
		if round%2 == 1 { // somebody looks, and brings the log into the database by going
			reader, err := OpenToRead(s.folder)
			if err != nil {
				t.Fatal(err)
			}
			reader.Facts(Query{Newest: 1})
			reader.Close()
		}
		s.open()
		s.write(2)
		all(fmt.Sprintf("after kill %d", round))
	}
	if found, _ := generations(s.to); len(found) > keepsOld {
		t.Errorf("there are %v", found)
	}
	s.end()
	if _, err := Rebuild(t.TempDir(), filepath.Join(t.TempDir(), FileName)); err == nil {
		t.Error("a ledger is made of nothing")
	}
	segments, _ := filepath.Glob(filepath.Join(s.to, "*", "00000001"+segmentEnd))
	for _, name := range segments {
		if err := os.Rename(name, filepath.Join(filepath.Dir(name), "00000009"+segmentEnd)); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := Rebuild(s.to, filepath.Join(t.TempDir(), FileName)); err == nil || !strings.Contains(err.Error(), "is missing before") {
		t.Errorf("a segment is missing: %v", err)
	}
}

// TestShipAway sees that a folder that is away keeps nothing from being recorded, and that shipping begins anew once it is there.
func TestShipAway(t *testing.T) {
	s := &shipper{t: t, folder: t.TempDir(), to: filepath.Join(t.TempDir(), "file", "elsewhere")}
	os.WriteFile(filepath.Dir(s.to), nil, 0o600) // no folder can be made in it
	s.l = open1(t, s.folder)
	if err := s.l.BeginShipping(); err != nil {
		t.Fatal(err)
	}
	told := make(chan error, 1)
	ctx, cancel := context.WithCancel(t.Context())
	var ended sync.WaitGroup
	ended.Go(func() {
		s.l.Ship(ctx, Shipping{To: s.to, Every: time.Millisecond}, func(err error) {
			select {
			case told <- err:
			default:
			}
		})
	})
	if err := <-told; err == nil || !strings.Contains(err.Error(), "nothing is lost here") {
		t.Errorf("it says %v", err)
	}
	s.write(3)
	os.Remove(filepath.Dir(s.to))
	for err := errors.New("not yet"); err != nil; {
		err = <-told
	}
	s.shipped()
	if got := s.rebuilt(); got != 3 {
		t.Errorf("%d facts", got)
	}
	cancel()
	ended.Wait()
}
