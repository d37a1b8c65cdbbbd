package api

import (
	"testing"
	"time"

	"aditus/internal/core/policy"
	"aditus/internal/disk"
	"aditus/internal/disk/disktest"
)

// TestPowerCut replays what is left of the tokens at each moment.
func TestPowerCut(t *testing.T) {
	disktest.Values(t, 5, func(d disk.Disk, folder string, n int) error {
		tokens := OpenTokens(folder)
		tokens.disk = d
		_, err := tokens.Add("watch-"+string(rune('a'+n)), policy.Scopes, time.Time{})
		return err
	}, func(folder string) (int, error) {
		all, err := OpenTokens(folder).List()
		return len(all), err
	})
}
