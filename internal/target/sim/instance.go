package sim

import (
	"fmt"
	"io"
	"log"
	"math"
	"math/rand/v2"
	"net"
	"net/http"
	"slices"
	"strconv"
	"time"

	"gonum.org/v1/gonum/stat/distuv"

	"aditus/internal/target/wanted"
)

// bounds are the histogram's buckets in seconds; answers beyond slowBound are the slow ones.
var bounds = []float64{0.025, 0.05, 0.1, 0.25, 0.5, 1, 2.5}

// spread is how fast and slow answers fall into the buckets.
var (
	fastSpread = []float64{0.18, 0.42, 0.3, 0.1}
	slowSpread = []float64{0.62, 0.28, 0.1}
)

const (
	tick      = time.Second
	downtime  = 3 * time.Second // between a crash and the next start
	mostTicks = 600             // after a longer pause only this much is made up for
)

// instance is one made-up process: a model advanced tick by tick, served over HTTP.
type instance struct {
	wanted.Instance
	site     *Site
	workload string
	cohort   *wanted.Cohort
	artifact Artifact
	exists   bool
	chance   *rand.Rand
	server   *http.Server
	port     int

	at       time.Time // the model is advanced up to here
	requests [2]float64
	counts   []float64 // by bucket, and one beyond
	sum      float64
	memory   float64
}

// start makes the instance listen. An instance whose artifact does not exist never does.
func (in *instance) start() error {
	seed := in.site.behaviour.seedOf(in.site.name, in.ID)
	in.chance = rand.New(rand.NewPCG(seed, uint64(in.at.Unix())))
	in.counts = make([]float64, len(bounds)+1)
	in.memory = in.artifact.Memory * (0.97 + 0.06*in.chance.Float64())
	if !in.exists || in.task() {
		return nil
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return fmt.Errorf("serve the stand-in instance %s: %w", in.ID, err)
	}
	in.port = listener.Addr().(*net.TCPAddr).Port
	metrics := "/metrics"
	if m := in.cohort.Parts[in.Part].Metrics; m != nil {
		metrics = m.Path
	}
	handler := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == metrics {
			in.serveMetrics(w, r)
		} else {
			in.serveReady(w, r) // whatever path a probe asks for
		}
	})
	in.server = &http.Server{Handler: handler, ReadHeaderTimeout: 5 * time.Second, ErrorLog: log.New(io.Discard, "", 0)}
	go in.server.Serve(listener)
	return nil
}

func (in *instance) stop() {
	if in.server != nil {
		in.server.Close()
	}
}

// fault finds a fault of the artifact that is active now, and how far it has grown, from 0 to 1.
func (in *instance) fault(kind FaultKind, now time.Time) (Fault, float64) {
	for _, fault := range in.artifact.Faults {
		if fault.Kind != kind || (fault.Site != "" && fault.Site != in.site.name) {
			continue
		}
		began := in.Created
		if fault.Above > 0 {
			above := in.cohort.Above(fault.Above)
			if above.IsZero() {
				continue
			}
			if above.After(began) {
				began = above
			}
		}
		grown := now.Sub(began) - fault.After
		switch {
		case grown < 0:
			continue
		case fault.Ramp <= 0:
			return fault, 1
		}
		return fault, min(1, grown.Seconds()/fault.Ramp.Seconds())
	}
	return Fault{}, 0
}

// crashes gives the times of the restarts so far. A crash fault repeats, whatever the time since the first start.
func (in *instance) crashes(now time.Time) (restarts []time.Time) {
	if fault, crashes := in.crash(); crashes {
		for at := in.Created.Add(fault.After + downtime); !at.After(now) && len(restarts) < 1000; at = at.Add(fault.After + downtime) {
			restarts = append(restarts, at)
		}
	}
	restarts = append(restarts, in.Restarts...)
	slices.SortFunc(restarts, time.Time.Compare)
	return restarts
}

// started is when the process that runs now was started.
func (in *instance) started(now time.Time) time.Time {
	if restarts := in.crashes(now); len(restarts) > 0 {
		return restarts[len(restarts)-1]
	}
	return in.Created
}

// down tells whether the process is between a crash and the next start.
func (in *instance) down(now time.Time) bool {
	fault, _ := in.crash()
	return fault.After > 0 && now.Sub(in.started(now)) > fault.After
}

func (in *instance) crash() (Fault, bool) {
	for _, fault := range in.artifact.Faults {
		if fault.Kind == Crash && (fault.Site == "" || fault.Site == in.site.name) {
			return fault, true
		}
	}
	return Fault{}, false
}

// up tells whether the instance has come up.
func (in *instance) up(now time.Time) bool {
	jitter := float64(in.site.behaviour.seedOf(in.ID)%1000)/1000*0.3 + 0.85
	return in.exists && !now.Before(in.started(now).Add(time.Duration(float64(in.artifact.StartsIn)*jitter)))
}

// advance makes up the traffic that came in since the model was last looked at. rate is the instance's share of it,
// in requests per second.
func (in *instance) advance(now time.Time, rate func(time.Time) float64) {
	if in.task() {
		return
	}
	if now.Sub(in.at) > mostTicks*tick {
		in.at = now.Add(-mostTicks * tick)
	}
	for ; !in.at.Add(tick).After(now); in.at = in.at.Add(tick) {
		if !in.up(in.at) || in.down(in.at) {
			continue
		}
		requests := distuv.Poisson{Lambda: max(1e-9, rate(in.at)*tick.Seconds()), Src: in.chance}.Rand()
		slow, failed := in.artifact.Slow, in.artifact.Errors
		if fault, grown := in.fault(SlowAnswers, in.at); grown > 0 {
			slow += (fault.Amount - slow) * grown
		}
		if fault, grown := in.fault(ErrorFault, in.at); grown > 0 {
			failed += (fault.Amount - failed) * grown
		}
		in.answer(requests, slow, failed)
	}
}

func (in *instance) answer(requests, slow, failed float64) {
	late, errors := in.binomial(requests, slow), in.binomial(requests, failed)
	in.requests[0] += requests - errors
	in.requests[1] += errors
	spread := func(total float64, first int, weights []float64) {
		left := total
		for i, weight := range weights {
			n := math.Round(total * weight)
			if i == len(weights)-1 {
				n = left
			}
			n = max(0, min(n, left))
			left -= n
			in.counts[first+i] += n
			low := 0.0
			if first+i > 0 {
				low = bounds[first+i-1]
			}
			in.sum += n * (low + bounds[first+i]) / 2
		}
	}
	spread(requests-late, 0, fastSpread)
	spread(late, len(fastSpread), slowSpread)
}

func (in *instance) binomial(n, p float64) float64 {
	if n <= 0 || p <= 0 {
		return 0
	}
	return distuv.Binomial{N: n, P: min(1, p), Src: in.chance}.Rand()
}

func (in *instance) serveReady(w http.ResponseWriter, r *http.Request) {
	in.site.mu.Lock()
	now := in.site.now()
	_, hangs := in.fault(Hang, now)
	_, unready := in.fault(Unready, now)
	up, down := in.up(now), in.down(now)
	in.site.mu.Unlock()
	switch {
	case hangs > 0:
		<-r.Context().Done()
	case down:
		panic(http.ErrAbortHandler) // what a caller sees of a process that just died
	case !up || unready > 0:
		http.Error(w, "not ready", http.StatusServiceUnavailable)
	default:
		io.WriteString(w, "ready\n")
	}
}

func (in *instance) serveMetrics(w http.ResponseWriter, r *http.Request) {
	in.site.mu.Lock()
	defer in.site.mu.Unlock()
	now := in.site.now()
	if in.down(now) {
		panic(http.ErrAbortHandler)
	}
	if _, garbage := in.fault(Garbage, now); garbage > 0 {
		io.WriteString(w, "<html><body>It works!</body></html>\n")
		return
	}
	in.site.advance(in.workload, now)
	memory := in.memory
	if fault, grown := in.fault(MemoryFault, now); grown > 0 {
		memory += fault.Amount * grown
	}
	memory *= 1 + 0.01*math.Sin(now.Sub(in.Created).Seconds()/37+in.memory)
	w.Header().Set("Content-Type", "application/openmetrics-text; version=1.0.0; charset=utf-8")
	w.Write(in.page(memory))
}

func (in *instance) page(memory float64) []byte {
	out := make([]byte, 0, 1024)
	sample := func(name string, value float64) {
		out = append(out, name...)
		out = append(out, ' ')
		out = strconv.AppendFloat(out, value, 'g', -1, 64)
		out = append(out, '\n')
	}
	out = append(out, "# TYPE http_requests counter\n"...)
	sample(`http_requests_total{code="200"}`, in.requests[0])
	sample(`http_requests_total{code="500"}`, in.requests[1])
	out = append(out, "# TYPE http_request_duration_seconds histogram\n"...)
	total := 0.0
	for i, count := range in.counts {
		total += count
		bound := "+Inf"
		if i < len(bounds) {
			bound = strconv.FormatFloat(bounds[i], 'g', -1, 64)
		}
		sample(`http_request_duration_seconds_bucket{le="`+bound+`"}`, total)
	}
	sample("http_request_duration_seconds_sum", in.sum)
	sample("http_request_duration_seconds_count", total)
	out = append(out, "# TYPE process_resident_memory_bytes gauge\n"...)
	sample("process_resident_memory_bytes", math.Round(memory*1e6))
	return append(out, "# EOF\n"...)
}
