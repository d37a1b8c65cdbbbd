package engine

import (
	"fmt"
	"maps"
	"strings"
	"testing"

	"aditus/internal/core/berth"
	"aditus/internal/status"
)

// withStore is a workload of which a release changes one of three services; one of the others keeps state.
const withStore = `aditus: 1
workload: web
sites: [drydock]
parts:
  store: {kind: service, artifact: r.example/web:2, instances: 1, ports: {sql: 5432}, probes: {ready: {tcp: {port: sql}, every: 2s}}, volumes: {tables: /var/tables}}
  tables: {kind: volume, size: 1 GB}
  front: {kind: service, artifact: r.example/web:2, instances: 2, ports: {http: 81}, probes: {ready: {http: {port: http, path: /ready}, every: 2s}}, needs: [store]}
  app:
    kind: service
    artifact: r.example/web:VERSION
    needs: [store]
    instances: 4
    ports: {http: 80}
    probes: {ready: {http: {port: http, path: /ready}, every: 2s, timeout: 250ms, grace: 10s}}
    metrics: {port: http, requests: http_requests_total}
  entry: {kind: route, host: web.example, ROUTEto: {service: app, port: http}}
  hall: {kind: route, host: hall.example, to: {service: front, port: http}}
rollout: {STYLE, deadline: 30s, proving: 20s, cool-down: 1s, interval: 5s}
guards:
  - name: slow
    signal: {share-above: {histogram: http_request_duration_seconds, bound: 250ms}}
    limit: {at-most: 10 %}
    breach: {intervals: 2, of: 3, samples: 5}
`

// TestSame releases one of three services in every style, well, badly, and back by hand: what does not change is the same
// instances throughout, and is never started anew.
func TestSame(t *testing.T) {
	for name, style := range map[string][2]string{
		"canary":     {"stages: [{share: 10 %, soak: 15s}, {share: 100 %, soak: 10s}]", ""},
		"blue-green": {"style: blue-green, try: {for: 10s}, keep: 30s", "preview: trial-web.example, "},
		"rolling":    {"style: rolling", ""},
	} {
		t.Run(name, func(t *testing.T) {
			r := newRig(t)
			push := func(version string, change ...string) {
				text := strings.NewReplacer(append(change, "STYLE", style[0], "ROUTE", style[1], "VERSION", version)...).Replace(withStore)
				r.write("workloads/web.yaml", text, "Version "+version)
			}
			kept := func() map[string]string { // instances of what does not change, with when they started
				all := map[string]string{}
				seen, err := r.sites["drydock"].Observe(t.Context(), "web")
				r.must(err)
				for _, c := range seen.Cohorts {
					for _, in := range c.Instances {
						if in.Part != "app" {
							all[in.ID] = fmt.Sprint(in.Started, len(in.Restarts))
						}
					}
				}
				return all
			}
			settled := func(wanted string) func(status.Snapshot) bool {
				return func(s status.Snapshot) bool {
					b := berthAt(s, "drydock")
					return version(b) == wanted && b.Rollout == nil && b.Health.Word == "healthy"
				}
			}
			push("1")
			r.run()
			r.until("1 is proven", settled("1"))
			before := kept()
			if len(before) != 3 {
				t.Fatalf("there are %v", before)
			}
			same := func(when string) {
				t.Helper()
				if now := kept(); !maps.Equal(now, before) {
					t.Errorf("%s: %v, and before %v", when, now, before)
				}
			}
			push("2")
			r.until("2 is on its way", func(s status.Snapshot) bool {
				b := berthAt(s, "drydock")
				return b.Rollout != nil && b.Rollout.Share > 0
			})
			same("on the way")
			r.until("2 is proven", settled("2"))
			same("released")
			push("slow")
			r.until("slow is barred", func(s status.Snapshot) bool {
				b := berthAt(s, "drydock")
				return b.Bar != nil && b.Rollout == nil && version(b) == "2"
			})
			same("rolled back")
			r.must(r.order(berth.RollBack, "drydock"))
			r.until("1 is back", settled("1"))
			same("back by hand")
			if got := r.share("drydock", "1"); got != 1 {
				t.Errorf("1 has %v of the traffic", got)
			}
			push("1", "r.example/web:2, instances: 1", "r.example/web:1, instances: 1") // of the store
			r.until("another store", func(s status.Snapshot) bool {
				b := berthAt(s, "drydock")
				return b.Rollout == nil && b.SyncStatus == "aligned"
			})
			if now := kept(); maps.Equal(now, before) || len(now) != 3 {
				t.Errorf("the store changed, and there are %v", now)
			}
		})
	}
}
