package demo

import (
	"fmt"
	"net"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"aditus/internal/core/declare"
	"aditus/internal/scrape"
	"aditus/internal/scrape/metricstore/standin"
)

// harbour is the line's metrics store, a stand-in that reads the instances of these workloads when it is asked.
const harbour = "harbour"

var stored = []string{"lookout"}

// harbourHandler answers for the metrics store.
func (w *World) harbourHandler() http.Handler {
	reader := scrape.New()
	return standin.Handler(func(r *http.Request) (all []standin.Instance) {
		for site, driver := range w.drivers() {
			for _, workload := range stored {
				seen, err := driver.Observe(r.Context(), workload)
				if err != nil {
					continue
				}
				for _, cohort := range seen.Cohorts {
					for _, in := range cohort.Instances {
						port, has := in.Ports["http"]
						at := net.JoinHostPort(in.Address, strconv.Itoa(port))
						if !has || !strings.Contains(r.FormValue("query"), strings.ReplaceAll(at, ".", `\\.`)) { // of whom nobody asked
							continue
						}
						page, err := reader.Through(in.Through).Fetch(r.Context(), in.Address, in.Ports, declare.Metrics{Endpoint: declare.Endpoint{Port: "http", Path: "/metrics"}}, nil, time.Time{})
						if err == nil {
							all = append(all, standin.Instance{Labels: map[string]string{"instance": at, "job": workload, "site": site}, Page: page, At: w.clock.Now()})
						}
					}
				}
			}
		}
		slices.SortFunc(all, func(a, b standin.Instance) int { return strings.Compare(fmt.Sprint(a.Labels), fmt.Sprint(b.Labels)) })
		return all
	})
}
