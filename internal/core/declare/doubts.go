package declare

import (
	"fmt"
	"math"
	"slices"

	"aditus/internal/core/guard"
	"aditus/internal/core/say"
)

// What a site measures of an instance by itself, whatever the instance's own page has.
const (
	RequestsMetric    = "route_requests_total"           // counter, with the label code
	TookMetric        = "route_request_duration_seconds" // histogram
	ConnectionsMetric = "route_connections_total"        // counter, of TCP routes
	MemoryMetric      = "process_resident_memory_bytes"
	ProcessorMetric   = "process_cpu_seconds_total"
	RestartsMetric    = "instance_restarts_total" // counter, of Aditus's own
)

var ofRoutes, ofProcesses = []string{RequestsMetric, TookMetric, ConnectionsMetric}, []string{MemoryMetric, ProcessorMetric, RestartsMetric}

// doubts warns of guards that are well written and cannot do what they seem to promise.
func (r *reader) doubts(d Desired) {
	exposes, routed := false, false
	for _, part := range d.Parts {
		exposes, routed = exposes || part.Metrics != nil, routed || part.Kind == Route
	}
	var sharing, counting []int // guards that do more than tell, by how they are decided
	for i, rule := range d.Guards {
		switch {
		case rule.Then == guard.Tell:
		case rule.Way == guard.Sequential:
			sharing = append(sharing, i)
		case rule.Then == guard.RollBack:
			counting = append(counting, i)
		}
		at, metric := r.guardNodes[i], rule.Signal.Of.Metric
		switch {
		case rule.Signal.Elsewhere(), rule.Signal.Of.Lines != "":
		case slices.Contains(ofRoutes, metric) && !routed:
			r.doubt(at, i, "declare a route to the service", "nothing feeds the guard %s: %s is what routes count, and there is none", rule.Name, metric)
		case !exposes && metric != "" && !slices.Contains(ofRoutes, metric) && !slices.Contains(ofProcesses, metric):
			r.doubt(at, i, "add metrics: {port: NAME} to the part that exposes it", "nothing feeds the guard %s: no part says where its metrics page with %s is", rule.Name, metric)
		}
		if rule.Limit.Unit == guard.Share && rule.Limit.Value >= 1 && !countsAlone(rule.Limit) || rule.Limit.OfBase && rule.Limit.Below() && rule.Limit.Value >= 1 {
			r.doubt(at, i, "write a smaller one", "the guard %s never breaches: nothing can be beyond the limit of %s", rule.Name, rule.Limit)
		}
		if rule.Way == guard.ByCount && rule.Then == guard.RollBack && rule.Limit.Relative() && sequential(rule.Signal.Kind) && !countsAlone(rule.Limit) {
			r.doubt(at, i, "leave breach and decide out", "the guard %s holds new against old by counting: where both are alike it rolls back by chance, outside the %s of false-rollbacks", rule.Name, say.Share(d.Rollout.Risk))
		}
	}
	risk := d.Rollout.Risk
	if n := len(sharing); n > mostSharing {
		i, each := sharing[mostSharing], risk/float64(n)
		r.doubt(r.guardNodes[i], i, "write then: tell in those that nobody would roll back for", "%d guards share the %s of false-rollbacks: each has %s, and takes %.1f times the evidence that one alone would", n, say.Share(risk), guard.Share.Format(each), math.Log(each)/math.Log(risk))
	}
	if n := len(counting); n > mostCounting {
		i := counting[mostCounting]
		r.doubt(r.guardNodes[i], i, "write then: hold or tell in some, or guard a share or a mean", "%d guards roll back by counting, outside the %s of false-rollbacks: their chances of doing so falsely add up", n, say.Share(risk))
	}
}

// So many guards share the risk of a false rollback, and so many roll back by counting outside it, before somebody is told.
const (
	mostSharing  = 10
	mostCounting = 5
)

// doubt is a problem that is told, and refuses nothing.
func (r *reader) doubt(at Node, i int, suggestion, format string, args ...any) {
	r.wrong(at, fmt.Sprint("/guards/", i), suggestion, format, args...)
	r.problems[len(r.problems)-1].Warning = true
}
