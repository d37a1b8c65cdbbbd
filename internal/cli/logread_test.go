package cli

import (
	"context"
	"regexp"
	"slices"
	"testing"
	"time"

	"aditus/internal/control"
	"aditus/internal/core/berth"
	"aditus/internal/status"
	"aditus/internal/target"
)

// wroteSoFar is what an instance wrote so far, in whole seconds.
type wroteSoFar struct {
	control.Reader
	lines []target.LogLine
}

func (w *wroteSoFar) Log(_ context.Context, _ berth.ID, _ string, since time.Time, most int) ([]target.LogLine, error) {
	found := slices.DeleteFunc(slices.Clone(w.lines), func(l target.LogLine) bool { return l.At.Before(since) })
	return found[max(0, len(found)-most):], nil
}

// TestLogInSeconds follows a log whose lines have times in whole seconds: each of them is read once.
func TestLogInSeconds(t *testing.T) {
	source := &wroteSoFar{}
	l := logReader{control: source, most: 100, only: regexp.MustCompile("")}
	start := time.Date(2026, 5, 2, 6, 30, 0, 0, time.UTC)
	seen, got := map[string]*target.LogMark{}, ""
	for _, wrote := range []string{"", "a0", "b0", "", "c0d1", "e1", "f3"} {
		for i := 0; i+1 < len(wrote); i += 2 {
			source.lines = append(source.lines, target.LogLine{At: start.Add(time.Duration(wrote[i+1]-'0') * time.Second), Text: wrote[i : i+1]})
		}
		lines, err := l.read(t.Context(), []status.Instance{{ID: "deck-1"}}, seen)
		if err != nil {
			t.Fatal(err)
		}
		for _, line := range lines {
			got += line.Text
		}
	}
	if got != "abcdef" {
		t.Errorf("it read %q", got)
	}
}
