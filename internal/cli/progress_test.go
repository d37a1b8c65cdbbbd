package cli

import (
	"bytes"
	"errors"
	"strings"
	"testing"
	"testing/synctest"
	"time"
)

// TestProgress sees that what takes a while is told until it is done, and that nothing of that is left; what is quick is not told.
func TestProgress(t *testing.T) {
	for took, want := range map[time.Duration]int{500 * time.Millisecond: 0, 3500 * time.Millisecond: 3} {
		synctest.Test(t, func(t *testing.T) {
			var out bytes.Buffer
			failed := errors.New("it failed")
			if err := progress(&out, "looking\x1b[2J", time.Second, time.Second, func() error { time.Sleep(took); return failed }); err != failed {
				t.Error(err)
			}
			text := out.String()
			if n := strings.Count(text, "looking"); n != want || strings.Contains(text, "\x1b") || want > 0 && (!strings.Contains(text, "looking: 3 s") || !strings.HasSuffix(text, " \r")) {
				t.Errorf("in %s was told %q", took, text)
			}
		})
	}
}
