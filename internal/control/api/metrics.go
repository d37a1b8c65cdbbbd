package api

import (
	"bufio"
	"fmt"
	"io"
	"maps"
	"net/http"
	"runtime"
	"runtime/metrics"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"

	"aditus/internal/core/signal"
	"aditus/internal/status"
	"aditus/internal/words"
)

// OpenMetricsType is the media type of /metrics: OpenMetrics text 1.0.
const OpenMetricsType = "application/openmetrics-text; version=1.0.0; charset=utf-8"

// counts are answers by the first digit of their status.
type counts [6]atomic.Uint64

func (c *counts) add(status int) { c[min(max(status/100, 0), 5)].Add(1) }

// metrics tells how Aditus itself is doing, and what the sites' routers count, by cohort.
func (s *Server) metrics(w http.ResponseWriter, r *http.Request, of *served) {
	w.Header().Set("Content-Type", OpenMetricsType)
	out := families{}
	now := of.Snapshot(r.Context())
	needs := words.Count(now)
	for state, n := range map[string]int{"needs a person": needs.Need, "moving": needs.Moving, "steady": needs.Steady, "absent": needs.Absent} {
		out.add("aditus_berths", float64(n), "state", state)
	}
	stands := map[string]int{}
	for _, b := range now.Berths {
		stands[string(b.SyncStatus)]++
	}
	for stand, n := range stands {
		out.add("aditus_berths_stand", float64(n), "stand", stand)
	}
	for i := 1; i < len(s.counted); i++ {
		out.add("aditus_api_requests_total", float64(s.counted[i].Load()), "status", strconv.Itoa(i)+"xx")
	}
	for _, l := range now.Links {
		failing := 0.0
		if l.Problem != nil {
			failing = 1
		}
		out.add("aditus_link_failing", failing, "link", l.Name)
		out.add("aditus_link_age_seconds", now.Now.Sub(l.Looked).Seconds(), "link", l.Name)
	}
	if now.Leader != nil {
		leads := 0.0
		if now.Leader.Here {
			leads = 1
		}
		out.add("aditus_leads", leads)
	}
	out.add("aditus_start_time_seconds", float64(s.begun.UnixMilli())/1000)
	out.add("process_cpu_seconds_total", processorSeconds())
	out.add("process_resident_memory_bytes", float64(residentBytes()))
	out.add("go_goroutines", float64(runtime.NumGoroutine()))
	for _, m := range of.Measured(r.Context()) {
		out.page(m)
	}
	out.write(w)
}

// families are samples by the name of their family.
type families map[string][]string

func (f families) add(name string, value float64, labels ...string) {
	var pairs []string
	for i := 0; i+1 < len(labels); i += 2 {
		pairs = append(pairs, labels[i]+`="`+escape(labels[i+1])+`"`)
	}
	text := name
	if len(pairs) > 0 {
		text += "{" + strings.Join(pairs, ",") + "}"
	}
	f[family(name)] = append(f[family(name)], text+" "+strconv.FormatFloat(value, 'g', -1, 64))
}

// page adds what a site measured of an instance.
func (f families) page(m status.Measured) {
	for _, name := range slices.Sorted(maps.Keys(m.Page)) {
		for _, sample := range m.Page[name] {
			f.add(name, sample.Value, labelsOf(m, sample)...)
		}
	}
}

func labelsOf(m status.Measured, sample signal.Sample) []string {
	labels := []string{"workload", m.Workload, "site", m.Site, "revision", m.Revision.Short(), "instance", m.Instance}
	for _, name := range slices.Sorted(maps.Keys(sample.Labels)) {
		labels = append(labels, name, sample.Labels[name])
	}
	return labels
}

var histogramEnds = []string{"_bucket", "_sum", "_count"}

// family is the name of the family that a sample belongs to.
func family(name string) string {
	for _, end := range append([]string{"_total"}, histogramEnds...) {
		if before, ok := strings.CutSuffix(name, end); ok {
			return before
		}
	}
	return name
}

func kindOf(sample string) string {
	name, _, _ := strings.Cut(sample, "{")
	name, _, _ = strings.Cut(name, " ")
	switch {
	case strings.HasSuffix(name, "_total"):
		return "counter"
	case slices.ContainsFunc(histogramEnds, func(end string) bool { return strings.HasSuffix(name, end) }):
		return "histogram"
	}
	return "gauge"
}

// write writes OpenMetrics text: each family as one, with its type, and the end.
func (f families) write(w io.Writer) {
	out := bufio.NewWriter(w)
	defer out.Flush()
	for _, name := range slices.Sorted(maps.Keys(f)) {
		kind := kindOf(f[name][0])
		fmt.Fprintf(out, "# TYPE %s %s\n", name, kind)
		lines := f[name]
		if kind != "histogram" { // the samples of a histogram stand in the order of its buckets already
			slices.Sort(lines)
		}
		for _, line := range lines {
			fmt.Fprintln(out, line)
		}
	}
	fmt.Fprintln(out, "# EOF")
}

func escape(text string) string {
	return strings.NewReplacer(`\`, `\\`, "\n", `\n`, `"`, `\"`).Replace(text)
}

// processorSeconds is the processor time that this program has used, as its runtime estimates it.
func processorSeconds() float64 {
	sample := []metrics.Sample{{Name: "/cpu/classes/total:cpu-seconds"}, {Name: "/cpu/classes/idle:cpu-seconds"}}
	metrics.Read(sample)
	return max(0, sample[0].Value.Float64()-sample[1].Value.Float64())
}

func residentBytes() uint64 {
	sample := []metrics.Sample{{Name: "/memory/classes/total:bytes"}, {Name: "/memory/classes/heap/released:bytes"}}
	metrics.Read(sample)
	return sample[0].Value.Uint64() - sample[1].Value.Uint64()
}
