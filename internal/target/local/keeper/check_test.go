package keeper

import (
	"fmt"
	"testing"
	"time"

	"aditus/internal/core/health"
	"aditus/internal/target/containers/host"
)

// TestProbeOf reads the checks of images.
func TestProbeOf(t *testing.T) {
	for _, test := range []struct {
		check *host.Healthcheck
		want  string
	}{
		{nil, "none"},
		{&host.Healthcheck{}, "none"},
		{&host.Healthcheck{Test: []string{"NONE"}}, "none"},
		{&host.Healthcheck{Test: []string{"OTHER", "x"}}, "none"},
		{&host.Healthcheck{Test: []string{"CMD", "/check", "-q"}}, "[/check -q] every 30s within 30s, 3 fails, grace 1m30s"},
		{&host.Healthcheck{Test: []string{"CMD-SHELL", "check || exit 1"}, Interval: time.Second, Timeout: 2 * time.Second, StartPeriod: time.Minute, Retries: 5}, "[/bin/sh -c check || exit 1] every 1s within 2s, 5 fails, grace 1m5s"},
	} {
		got := "none"
		if p := probeOf(test.check); p != nil {
			got = fmt.Sprintf("%v every %v within %v, %d fails, grace %v", p.Command, p.Every.Duration, p.Timeout.Duration, p.Fails, p.Grace.Duration)
		}
		if got != test.want {
			t.Errorf("%+v is %s, want %s", test.check, got, test.want)
		}
	}
}

// TestAils says nothing against what starts, nor against what fails less often than its check allows.
func TestAils(t *testing.T) {
	check := *probeOf(&host.Healthcheck{Test: []string{"CMD", "/check"}, Interval: time.Second, Retries: 2})
	started := time.Date(2026, 11, 27, 12, 0, 0, 0, time.UTC)
	var track health.Track
	for i, step := range []struct {
		after time.Duration
		why   string
		want  string
	}{
		{0, "not yet", ""}, {time.Second, "not yet", ""}, {2 * time.Second, "", ""}, {10 * time.Second, "sick", ""}, {11 * time.Second, "sick", "sick"}, {12 * time.Second, "", ""},
	} {
		now := started.Add(step.after)
		track = track.Observe(health.Outcome{At: now, Passed: step.why == "", Reason: step.why}, check.Thresholds())
		if got := ails(track, started, now, check); got != step.want {
			t.Errorf("step %d: %q, want %q", i, got, step.want)
		}
	}
}
