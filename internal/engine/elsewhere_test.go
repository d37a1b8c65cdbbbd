package engine

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"aditus/internal/config"
	"aditus/internal/core/alert"
	"aditus/internal/core/berth"
	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
	"aditus/internal/core/guard/panel"
	"aditus/internal/core/rollout"
	"aditus/internal/core/signal"
	"aditus/internal/scrape"
	"aditus/internal/scrape/metricstore/standin"
	"aditus/internal/status"
)

// stored has the rig's settings know a metrics store that reads the instances of drydock when it is asked. It answers with what is set for as long
// as something is.
func (r *rig) stored(age *atomic.Int64) (answers *atomic.Int64) {
	r.t.Helper()
	reader, status := scrape.New(), &atomic.Int64{}
	handler := standin.Handler(func(q *http.Request) (all []standin.Instance) {
		now := r.clock.Now()
		seen, err := r.sites["drydock"].Observe(q.Context(), "web")
		if err != nil {
			return nil
		}
		for _, c := range seen.Cohorts {
			app, _ := c.Live["app"].(map[string]any)
			version, _ := strings.CutPrefix(fmt.Sprint(app["artifact"]), "r.example/web:")
			for _, in := range c.Instances {
				page, err := reader.Fetch(q.Context(), in.Address, in.Ports, declare.Metrics{Endpoint: declare.Endpoint{Port: "http", Path: "/metrics"}}, nil, time.Time{})
				if err == nil {
					all = append(all, standin.Instance{Labels: map[string]string{"instance": fmt.Sprintf("%s:%d", in.Address, in.Ports["http"]), "app_version": version}, Page: page, At: now.Add(-time.Duration(age.Load()))})
				}
			}
		}
		return all
	})
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		if code := status.Load(); code != 0 {
			w.WriteHeader(int(code))
			return
		}
		handler.ServeHTTP(w, q)
	}))
	r.t.Cleanup(func() {
		server.Close()
		reader.Close()
	})
	r.change = func(s *config.Settings) {
		s.MetricsStores = []config.MetricsStore{{Name: "harbour", URL: server.URL}}
		s.Alerts = []config.AlertSource{{Name: "pager", Credential: "pager", Workload: "service", Site: "place"}}
	}
	return status
}

// of is the signal of the declared guard, as something else tells it.
func of(signal string) []string {
	return []string{"metrics: {port: http, requests: http_requests_total}", "", "share-above: {histogram: http_request_duration_seconds, bound: 250ms}", signal}
}

const slowShare = "share-above: {histogram: http_request_duration_seconds, bound: 250ms}"

// TestStore rolls out on what a metrics store alone knows: by addresses, and by versions; and waits, with the reason, while it knows nothing.
func TestStore(t *testing.T) {
	for name, by := range map[string]string{"addresses": "", "versions": ", cohort: {label: app_version, is: version}"} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			r, age := newRig(t), &atomic.Int64{}
			answers := r.stored(age)
			signal := of("store: harbour" + by + ", " + slowShare)
			r.push("1", signal...)
			r.run()
			r.until("1 is proven", func(s status.Snapshot) bool { b := berthAt(s, "drydock"); return version(b) == "1" && b.Rollout == nil })
			r.push("2", signal...)
			r.until("2 is proven", func(s status.Snapshot) bool {
				b := berthAt(s, "drydock")
				if b.Rollout != nil && b.Rollout.Phase == rollout.Waiting {
					r.must(r.order(berth.SignOff, "drydock"))
				}
				return version(b) == "2" && b.Rollout == nil
			})
			r.push("slow", signal...)
			s := r.until("slow is turned back", func(s status.Snapshot) bool {
				b := berthAt(s, "drydock")
				if b.Rollout != nil && b.Rollout.Phase == rollout.Waiting {
					r.must(r.order(berth.SignOff, "drydock"))
				}
				return b.Bar != nil && b.Rollout == nil
			})
			if why := berthAt(s, "drydock").Bar.Why; !strings.Contains(why, "slow ") {
				t.Errorf("it was turned back because %s", why)
			}
			// Whatever comes instead of an answer, or of one that is new, nothing advances, and the reason is told.
			for i, test := range []struct {
				name string
				set  func(on bool)
				why  string
			}{
				{"away", func(on bool) { answers.Store(map[bool]int64{true: 502}[on]) }, "the metrics store harbour: status 502"},
				{"late", func(on bool) { age.Store(map[bool]int64{true: int64(time.Minute)}[on]) }, "is 1 min old"},
			} {
				test.set(true)
				r.push("1", append(signal, "soak: 15s", fmt.Sprintf("soak: %ds", 16+i))...)
				silent := r.until(test.name+" is silent", func(s status.Snapshot) bool {
					b := berthAt(s, "drydock")
					return b.Rollout != nil && len(b.Verdicts) == 1 && b.Verdicts[0].Word == guard.Silent
				})
				if v := berthAt(silent, "drydock").Verdicts[0]; !strings.Contains(v.Why, test.why) {
					t.Errorf("%s: %q", test.name, v.Why)
				}
				for range 30 {
					r.wait(time.Second)
					if b := berthAt(r.engine.Snapshot(), "drydock"); test.name == "away" && b.Problem == nil {
						t.Errorf("%s: it is not told all the time", test.name)
					}
				}
				if b := berthAt(r.engine.Snapshot(), "drydock"); b.Rollout == nil || b.Rollout.Stage != 0 {
					t.Errorf("%s: it went on: %s", test.name, describe(b))
				}
				r.must(r.order(berth.RollBack, "drydock"))
				test.set(false)
				r.until("it is back", func(s status.Snapshot) bool { return berthAt(s, "drydock").Rollout == nil })
				r.wait(time.Minute)
			}
		})
	}
}

// TestNobodyThere guards what nobody tells: nothing advances, and the reason is told.
func TestNobodyThere(t *testing.T) {
	for _, test := range []struct{ signal, why string }{
		{"store: elsewhere, " + slowShare, "the settings have no metrics store elsewhere"},
		{"workload: nobody, " + slowShare, "nothing of nobody runs at drydock"},
	} {
		r := newRig(t)
		r.push("1", of(test.signal)...)
		r.run()
		s := r.until("it is silent", func(s status.Snapshot) bool {
			b := berthAt(s, "drydock")
			return b.Rollout != nil && len(b.Verdicts) == 1 && b.Verdicts[0].Word == guard.Silent
		})
		if why := berthAt(s, "drydock").Verdicts[0].Why; !strings.Contains(why, test.why) {
			t.Errorf("%s: %q", test.signal, why)
		}
		r.wait(time.Minute)
		if b := berthAt(r.engine.Snapshot(), "drydock"); b.Rollout == nil || b.Rollout.Stage > 0 {
			t.Errorf("%s: it went on: %s", test.signal, describe(b))
		}
	}
}

// TestAlerts has alerts turn a rollout back, or keep it from going on where they fired before; and over a restart.
func TestAlerts(t *testing.T) {
	r, age := newRig(t), &atomic.Int64{}
	r.stored(age)
	signal := []string{"share-above: {histogram: http_request_duration_seconds, bound: 250ms}", "alert: pager, where: {severity: page}", "    limit: {at-most: 10 %}\n    breach: {intervals: 2, of: 3, samples: 5}\n", ""}
	r.push("1", signal...)
	r.run()
	r.until("1 is proven", func(s status.Snapshot) bool { b := berthAt(s, "drydock"); return version(b) == "1" && b.Rollout == nil })
	say := func(id string, state alert.State, since time.Duration, labels ...string) alert.Answer {
		t.Helper()
		a := alert.Alert{ID: id, State: state, Since: r.clock.Now().Add(since), Labels: map[string]string{"service": "web", "severity": "page"}, Text: "Gate " + id + " is down"}
		for i := 0; i+1 < len(labels); i += 2 {
			a.Labels[labels[i]] = labels[i+1]
		}
		answers, known, err := r.engine.Alert(t.Context(), "pager", []alert.Alert{a})
		if err != nil || !known {
			t.Fatal(known, err)
		}
		return answers[0]
	}
	verdict := func(s status.Snapshot) guard.Verdict {
		b := berthAt(s, "drydock")
		if b.Rollout == nil || len(b.Verdicts) == 0 {
			return guard.Verdict{}
		}
		return b.Verdicts[0]
	}
	for _, a := range []alert.Answer{say("other", alert.Firing, 0, "service", "tides"), say("yonder", alert.Firing, 0, "place", "isles")} {
		if a.Outcome != alert.Unknown {
			t.Errorf("%+v", a)
		}
	}
	say("mail", alert.Firing, 0, "severity", "info") // nothing that the guard is about
	say("north", alert.Firing, 0, "place", "north")  // of another site
	if a := say("A", alert.Firing, 0); a.Outcome != alert.Taken {
		t.Errorf("%+v", a)
	}
	r.halt()
	r.push("2", signal...)
	r.run()
	s := r.until("it fires since before", func(s status.Snapshot) bool { return verdict(s).Word == guard.Silent })
	if why := verdict(s).Why; !strings.Contains(why, "Gate A is down, since 09:") || !strings.Contains(why, "before new had any traffic") {
		t.Error(why)
	}
	if a := say("A", alert.Resolved, 0); a.Outcome != alert.Taken {
		t.Errorf("%+v", a)
	}
	r.until("it goes on", func(s status.Snapshot) bool {
		b := berthAt(s, "drydock")
		return b.Rollout != nil && b.Rollout.Phase == rollout.Waiting
	})
	r.must(r.order(berth.SignOff, "drydock"))
	r.until("the next stage", func(s status.Snapshot) bool {
		b := berthAt(s, "drydock")
		return b.Rollout != nil && b.Rollout.Stage == 2 && verdict(s).Word == guard.Clear
	})
	say("B", alert.Firing, 0)
	say("C", alert.Firing, 0)
	say("B", alert.Firing, 0)
	s = r.until("it is turned back", func(s status.Snapshot) bool { b := berthAt(s, "drydock"); return b.Bar != nil && b.Rollout == nil })
	why := berthAt(s, "drydock").Bar.Why
	if !strings.Contains(why, "slow: Gate B is down") || !strings.Contains(why, "Gate C is down") {
		t.Error(why)
	}
	if n := len(r.texts("drydock", rollout.FactRollback)); n != 1 {
		t.Errorf("it was turned back %d times", n)
	}
	if n := len(r.texts("", berth.Alerted)); n != 5 {
		t.Errorf("%d alerts are on record: %q", n, r.texts("", berth.Alerted))
	}
}

// TestOtherWorkload turns a rollout back because what another workload shows is beyond a limit, and waits while nothing of that runs.
func TestOtherWorkload(t *testing.T) {
	r := newRig(t)
	guarded := of("workload: tides, " + slowShare)
	r.push("1", guarded...)
	r.write("workloads/tides.yaml", strings.NewReplacer("workload: web", "workload: tides", "VERSION", "later", ", sign-off: a lead", "").Replace(declared[:strings.Index(declared, "guards:")]), "Tides")
	r.run()
	tides := func(s status.Snapshot) status.Berth {
		b, _ := s.Find(berth.ID{Workload: "tides", Site: "drydock"})
		return b
	}
	r.until("both are there", func(s status.Snapshot) bool {
		return version(berthAt(s, "drydock")) == "1" && berthAt(s, "drydock").Rollout == nil && version(tides(s)) == "later" && tides(s).Rollout == nil
	})
	r.push("2", guarded...)
	s := r.until("it is turned back", func(s status.Snapshot) bool {
		b := berthAt(s, "drydock")
		if b.Rollout != nil && b.Rollout.Phase == rollout.Waiting {
			r.must(r.order(berth.SignOff, "drydock"))
		}
		return b.Bar != nil && b.Rollout == nil || version(b) == "2" && b.Rollout == nil
	})
	if b := berthAt(s, "drydock"); b.Bar == nil || !strings.Contains(b.Bar.Why, "slow ") {
		t.Errorf("%s, barred %+v", describe(b), b.Bar)
	}
}

// TestLines turns a rollout back because of what its instances write.
func TestLines(t *testing.T) {
	r := newRig(t)
	guarded := []string{"share-above: {histogram: http_request_duration_seconds, bound: 250ms}}\n    limit: {at-most: 10 %}\n    breach: {intervals: 2, of: 3, samples: 5}", "rate: {lines: 'slow|took [0-9.]+ s'}}\n    limit: {at-most: 0.1}\n    breach: {intervals: 2, of: 3, samples: 5}"}
	r.push("1", guarded...)
	r.run()
	r.until("1 is proven", func(s status.Snapshot) bool {
		b := berthAt(s, "drydock")
		return version(b) == "1" && b.Rollout == nil
	})
	r.push("slow", guarded...)
	s := r.until("it is turned back", func(s status.Snapshot) bool {
		b := berthAt(s, "drydock")
		if b.Rollout != nil && b.Rollout.Phase == rollout.Waiting {
			r.must(r.order(berth.SignOff, "drydock"))
		}
		return b.Bar != nil && b.Rollout == nil
	})
	if why := berthAt(s, "drydock").Bar.Why; !strings.HasPrefix(why, "slow 0.") && !strings.HasPrefix(why, "slow 1.") {
		t.Error(why)
	}
}

// TestChecks has a stage run a task against the new cohort: it is left once that has passed, and what fails turns the rollout back.
func TestChecks(t *testing.T) {
	for _, style := range []string{"stages: [{share: 10 %, soak: 1s, check: smoke}, {share: 100 %}]", "style: rolling\n  batch: 2\n  check: smoke"} {
		r := newRig(t)
		text := strings.NewReplacer("stages: [{share: 10 %, soak: 15s}, {share: 50 %, soak: 15s, sign-off: a lead}, {share: 100 %, soak: 10s}]", style,
			"rollout:\n", "  smoke: {kind: task, artifact: \"r.example/smoke:TASK\"}\nrollout:\n").Replace(declared)
		push := func(version, task string) {
			r.write("workloads/web.yaml", strings.NewReplacer("VERSION", version, "TASK", task).Replace(text), "Version "+version)
		}
		push("1", "good")
		r.run()
		r.until("1 is proven", func(s status.Snapshot) bool { b := berthAt(s, "drydock"); return version(b) == "1" && b.Rollout == nil })
		push("2", "good")
		s := r.until("it is checked", func(s status.Snapshot) bool {
			b := berthAt(s, "drydock")
			return b.Rollout != nil && len(b.Rollout.Checks) == 1 && b.Rollout.Checks[0].Ended.IsZero()
		})
		if b := berthAt(s, "drydock"); b.Rollout.Stage != 0 || b.Rollout.Phase != rollout.Soaking || b.Rollout.Share < 0.09 {
			t.Errorf("%s: it is checked too soon: %s", style, describe(b))
		}
		r.until("2 is proven", func(s status.Snapshot) bool { b := berthAt(s, "drydock"); return version(b) == "2" && b.Rollout == nil })
		if texts := r.texts("drydock", rollout.FactChecked); len(texts) != 2 || !strings.Contains(texts[1], "the task smoke passed after ") {
			t.Errorf("%s: %q", style, texts)
		}
		push("1", "bad")
		s = r.until("it is turned back", func(s status.Snapshot) bool { b := berthAt(s, "drydock"); return b.Bar != nil && b.Rollout == nil })
		if why := berthAt(s, "drydock").Bar.Why; !strings.Contains(why, "the task smoke failed: ") {
			t.Errorf("%s: %s", style, why)
		}
	}
}

// TestExploded tells of a metric with more series than are told apart.
func TestExploded(t *testing.T) {
	page := signal.Page{}
	for i := range signal.MostSeries + 1 {
		page["asked"] = append(page["asked"], signal.NewSample(map[string]string{"visitor": fmt.Sprint(i)}, 1))
	}
	rules := &declare.Desired{Guards: []guard.Rule{{Name: "bookings", Signal: signal.Source{Kind: signal.Rate, Of: signal.Series{Metric: "asked"}}}}}
	scrapes := []panel.Scrape{{Instance: "web-1", Page: page}}
	if err := exploded(rules, scrapes, nil); err == nil || !strings.Contains(err.Error(), "asked of web-1 has 2001 series") {
		t.Error(err)
	}
	page["asked"] = page["asked"][:signal.MostSeries]
	if err := exploded(rules, scrapes, nil); err != nil {
		t.Error(err)
	}
}

// TestSameVersion rolls out a change that has the version of what serves: a store that tells them apart by that is of no use, and says so.
func TestSameVersion(t *testing.T) {
	r := newRig(t)
	r.stored(&atomic.Int64{})
	signal := of("store: harbour, cohort: {label: app_version, is: version}, " + slowShare)
	r.push("1", signal...)
	r.run()
	r.until("1 is proven", func(s status.Snapshot) bool {
		b := berthAt(s, "drydock")
		return version(b) == "1" && b.Rollout == nil
	})
	r.push("1", append(signal, "    instances: 4\n", "    instances: 4\n    environment: {TIDE: high}\n")...)
	s := r.until("it is silent", func(s status.Snapshot) bool {
		b := berthAt(s, "drydock")
		return b.Rollout != nil && len(b.Verdicts) == 1 && b.Verdicts[0].Word == guard.Silent
	})
	if why := berthAt(s, "drydock").Verdicts[0].Why; !strings.Contains(why, `are both "1": tell them apart by another label in cohort`) || len(why) > 200 {
		t.Error(why)
	}
}
