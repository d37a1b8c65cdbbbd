// Package alert knows what fires: it takes what sources elsewhere say, maps it to workloads and sites by labels, and tells guards what
// fires where and since when. What is said twice, too late, or of nobody changes nothing, and is answered in words.
package alert

import (
	"cmp"
	_ "embed"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"aditus/internal/core/say"
	"aditus/internal/core/signal"
)

// Schema is the JSON Schema of what a source sends.
//
//go:embed alert.schema.json
var Schema []byte

// State is whether an alert fires.
type State string

// What a source says of an alert.
const (
	Firing   State = "firing"
	Resolved State = "resolved"
)

// Alert is what a source says: that something fires, or does not any more.
type Alert struct {
	ID     string            `json:"id"` // the same as long as it is about the same
	State  State             `json:"state"`
	Since  time.Time         `json:"since"` // since when that is so
	Labels map[string]string `json:"labels"`
	Text   string            `json:"text,omitempty"` // for people
}

// Source is who says so, and which labels name a workload and a site.
type Source struct {
	Name, Workload, Site string
}

// Known is an alert as it is known, and whom it is about.
type Known struct {
	Alert
	Source   string `json:"source"`
	Workload string `json:"workload"`
	Site     string `json:"site,omitempty"` // empty for all of them
}

// Outcome is what came of something that was said.
type Outcome string

// Outcomes.
const (
	Taken   Outcome = "taken"   // it counts from now on
	Same    Outcome = "same"    // it was known
	Late    Outcome = "late"    // something newer is known
	Unknown Outcome = "unknown" // it is about nobody here
	Wrong   Outcome = "wrong"   // it cannot be read
)

// Answer tells a source what came of an alert, and why.
type Answer struct {
	ID      string  `json:"id"`
	Outcome Outcome `json:"outcome"`
	Why     string  `json:"why"`
}

// Bounds on what is taken.
const (
	mostKnown  = 5000               // alerts of one source
	mostLabels = 64                 // of one alert
	mostText   = 1000               // bytes of an id, a label or a text
	ahead      = 5 * time.Minute    // how far the clock of a source may be ahead
	kept       = 7 * 24 * time.Hour // how long it is known that something was resolved
)

// Book is all that is known. The zero Book knows nothing. It is not safe for concurrent use.
type Book struct {
	Known map[string]Known `json:"known"`
}

// Take takes what a source says. sites gives those of a workload, and is false where there is none of that name. It gives what is known of the alert
// now, where that is new.
func (b *Book) Take(from Source, a Alert, sites func(workload string) ([]string, bool), now time.Time) (Answer, *Known) {
	answer := func(outcome Outcome, format string, args ...any) (Answer, *Known) {
		return Answer{a.ID, outcome, fmt.Sprintf(format, args...)}, nil
	}
	if why := a.wrong(now); why != "" {
		return answer(Wrong, "%s", why)
	}
	workload, named := a.Labels[from.Workload]
	if !named {
		return answer(Unknown, "it has no label %s, which names the workload", from.Workload)
	}
	all, there := sites(workload)
	site := a.Labels[from.Site]
	switch {
	case !there:
		return answer(Unknown, "there is no workload %q, which the label %s names", workload, from.Workload)
	case from.Site != "" && site != "" && !slices.Contains(all, site):
		return answer(Unknown, "%s is at no site %q, which the label %s names", workload, site, from.Site)
	case from.Site == "":
		site = ""
	}
	key := from.Name + "\x00" + a.ID
	before, known := b.Known[key]
	switch {
	case known && a.Since.Before(before.Since):
		return answer(Late, "it is known to be %s since %s", before.State, before.Since.UTC().Format(time.RFC3339))
	case known && a.State == before.State: // it fires since it did so first, however often that is said
		return answer(Same, "that is known since %s", before.Since.UTC().Format(time.RFC3339))
	case !known && a.State == Resolved:
		return answer(Same, "it was not known to fire")
	case !known && b.count(from.Name, now) >= mostKnown:
		return answer(Wrong, "%d alerts of %s are known, and no more are taken", mostKnown, from.Name)
	}
	if b.Known == nil {
		b.Known = map[string]Known{}
	}
	is := Known{a, from.Name, workload, site}
	b.Known[key] = is
	where := "all its sites"
	if site != "" {
		where = site
	}
	said, _ := answer(Taken, "%s at %s: %s since %s", workload, where, a.State, a.Since.UTC().Format(time.RFC3339))
	return said, &is
}

// wrong tells what is wrong with an alert; empty where nothing is.
func (a Alert) wrong(now time.Time) string {
	switch {
	case a.ID == "":
		return "it has no id"
	case a.State != Firing && a.State != Resolved:
		return fmt.Sprintf("state is %q: it is firing or resolved", a.State)
	case a.Since.IsZero():
		return "it has no since, the time since when it is so, as in RFC 3339"
	case a.Since.Sub(now) > ahead:
		return fmt.Sprintf("since is %s from now: one of the clocks is wrong", say.Span(a.Since.Sub(now)))
	case len(a.Labels) > mostLabels:
		return fmt.Sprintf("it has %d labels, and %d are the most", len(a.Labels), mostLabels)
	}
	longest := max(len(a.ID), len(a.Text))
	for label, value := range a.Labels {
		longest = max(longest, len(label), len(value))
	}
	if longest > mostText {
		return fmt.Sprintf("an id, a text or a label has more than %d bytes", mostText)
	}
	return ""
}

// count is how many alerts of a source are known, once what was resolved long ago is forgotten.
func (b *Book) count(source string, now time.Time) (n int) {
	maps.DeleteFunc(b.Known, func(_ string, k Known) bool { return k.State == Resolved && now.Sub(k.Since) > kept })
	for _, k := range b.Known {
		if k.Source == source {
			n++
		}
	}
	return n
}

// Fires gives what a source says that fires of a workload at a site, by labels, oldest first.
func (b *Book) Fires(source, workload, site string, by signal.Series) (firing []Known) {
	for _, k := range b.Known {
		if k.State == Firing && k.Source == source && k.Workload == workload && (k.Site == "" || k.Site == site) && by.Accepts(k.Labels) {
			firing = append(firing, k)
		}
	}
	slices.SortFunc(firing, func(a, b Known) int { return cmp.Or(a.Since.Compare(b.Since), cmp.Compare(a.ID, b.ID)) })
	return firing
}

// mostTold is how many alerts are named where several fire.
const mostTold = 3

// Tell names alerts, with the time since when they fire.
func Tell(firing []Known) string {
	var told []string
	for _, k := range firing[:min(len(firing), mostTold)] {
		told = append(told, fmt.Sprintf("%s, since %s", cmp.Or(k.Text, k.ID), k.Since.UTC().Format(time.TimeOnly)))
	}
	if more := len(firing) - mostTold; more > 0 {
		told = append(told, fmt.Sprintf("and %d more", more))
	}
	return strings.Join(told, "; ")
}
