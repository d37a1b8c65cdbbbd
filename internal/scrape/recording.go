package scrape

import (
	"bytes"
	"cmp"
	_ "embed"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"aditus/internal/core/declare"
	"aditus/internal/core/guard/panel"
	"aditus/internal/core/signal"
)

// RecordingSchema is the JSON Schema (2020-12) of a line of a file of recorded rollouts.
//
//go:embed recording.schema.json
var RecordingSchema []byte

// recording is a rollout as it was recorded: one line of JSON.
type recording struct {
	Name    string    `json:"name"`
	Scrapes []scraped `json:"scrapes"`
}

// scraped is what one instance showed at one moment.
type scraped struct {
	At       *float64         `json:"at"` // seconds from the beginning of the first stage
	Cohort   string           `json:"cohort"`
	Instance string           `json:"instance"`
	Started  *float64         `json:"started"` // seconds from the same moment; long before where it is left out
	Unread   string           `json:"unread"`  // why its page could not be read
	Metrics  map[string]count `json:"metrics"`
}

// count is a sample's value: a number, or a text such as +Inf, as JSON has no number for it.
type count float64

// UnmarshalJSON implements json.Unmarshaler.
func (c *count) UnmarshalJSON(text []byte) error {
	value, err := strconv.ParseFloat(string(bytes.Trim(text, `"`)), 64)
	if err != nil && !math.IsInf(value, 0) {
		return fmt.Errorf("%s is no number; write one, or \"+Inf\", \"-Inf\", \"NaN\"", text)
	}
	*c = count(value)
	return nil
}

// longBefore is when an instance started of which nothing says when.
const longBefore = -365 * 24 * time.Hour

// ReadRecording reads one line of a file of recorded rollouts: the name of one, and its moments in their order. Scrapes that are less
// than half an evaluation interval apart are of one moment.
func ReadRecording(line []byte, every time.Duration) (name string, moments []panel.Moment, err error) {
	var r recording
	d := json.NewDecoder(bytes.NewReader(line))
	d.DisallowUnknownFields()
	if err := d.Decode(&r); err != nil {
		return "", nil, fmt.Errorf("it is no recording: %w; aditus schema recording says what one looks like", err)
	}
	for i, s := range r.Scrapes {
		cohort := declare.Fingerprint(s.Cohort)
		switch {
		case s.At == nil || math.IsNaN(*s.At) || math.Abs(*s.At) > mostSeconds || s.Started != nil && math.Abs(*s.Started) > mostSeconds:
			return r.Name, nil, fmt.Errorf("scrape %d: write at and started as seconds from the beginning of the first stage", i+1)
		case cohort != panel.OldSide && cohort != panel.NewSide:
			return r.Name, nil, fmt.Errorf("scrape %d: the cohort is old or new, not %q", i+1, s.Cohort)
		case s.Instance == "":
			return r.Name, nil, fmt.Errorf("scrape %d names no instance", i+1)
		}
	}
	slices.SortStableFunc(r.Scrapes, func(a, b scraped) int { return cmp.Compare(*a.At, *b.At) })
	for i, s := range r.Scrapes {
		at, started := seconds(*s.At), longBefore
		if s.Started != nil {
			started = seconds(*s.Started)
		}
		one := panel.Scrape{Instance: s.Cohort + "/" + s.Instance, Revision: declare.Fingerprint(s.Cohort), Started: time.Unix(0, 0).UTC().Add(started), Unread: s.Unread}
		if one.Page, err = pageOf(s.Metrics); err != nil {
			return r.Name, nil, fmt.Errorf("scrape %d: %w", i+1, err)
		}
		n := len(moments)
		if n == 0 || at-moments[n-1].At >= every/2 {
			moments = append(moments, panel.Moment{At: at})
			n++
		}
		moments[n-1].Scrapes = append(moments[n-1].Scrapes, one)
	}
	return r.Name, moments, nil
}

// mostSeconds is the longest time from the beginning of a rollout that is read.
const mostSeconds = 10 * 365 * 24 * 3600

func seconds(s float64) time.Duration { return time.Duration(math.Round(s * float64(time.Second))) }

func pageOf(metrics map[string]count) (signal.Page, error) {
	page := make(signal.Page, len(metrics))
	for text, value := range metrics {
		k, err := known(text)
		if err != nil {
			return nil, err
		}
		sample := k.sample
		sample.Value = float64(value)
		page[k.name] = append(page[k.name], sample)
	}
	return page, nil
}

// named is a sample's name and labels, read once.
type named struct {
	name   string
	sample signal.Sample
}

// names are those that were read, as every line has the same; no more than mostNames of them.
var names = struct {
	sync.RWMutex
	known map[string]named
}{known: map[string]named{}}

const mostNames = 10_000

// known reads a sample's name with its labels, written as in OpenMetrics text.
func known(text string) (named, error) {
	names.RLock()
	k, ok := names.known[text]
	names.RUnlock()
	if ok {
		return k, nil
	}
	if strings.ContainsAny(text, "\n\r") {
		return named{}, fmt.Errorf("%q is no name of a metric with its labels", text)
	}
	page, err := ReadMetrics(strings.NewReader(text + " 0\n"))
	if err != nil || len(page) != 1 {
		return named{}, fmt.Errorf("%q is no name of a metric with its labels: write NAME{LABEL=\"VALUE\"}", text)
	}
	for name, samples := range page {
		k = named{name, samples[0]}
	}
	names.Lock()
	if len(names.known) < mostNames {
		names.known[text] = k
	}
	names.Unlock()
	return k, nil
}
