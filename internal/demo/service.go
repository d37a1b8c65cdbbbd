package demo

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"log"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"strconv"
	"sync"
	"time"

	"go.yaml.in/yaml/v4"

	"google.golang.org/grpc"
	"google.golang.org/grpc/codes"
	"google.golang.org/grpc/health/grpc_health_v1"
	"google.golang.org/grpc/metadata"
	"google.golang.org/grpc/status"

	"aditus/internal/target/sim"
)

// ServiceCommand is the hidden command that runs a made-up service: the interpreter that the first line of an artifact's
// one file names. So one program is all services, and an artifact says how its version behaves.
const ServiceCommand = "demo-service"

// ServiceFile is the content of such a file, for the program at a path. Its times are divided by speed.
func ServiceFile(program string, a sim.Artifact, speed float64) ([]byte, error) {
	faster := func(d time.Duration) time.Duration { return time.Duration(float64(d) / speed) }
	a.StartsIn, a.Takes = faster(a.StartsIn), faster(a.Takes)
	for i := range a.Faults {
		a.Faults[i].After, a.Faults[i].Ramp = faster(a.Faults[i].After), faster(a.Faults[i].Ramp)
	}
	text, err := yaml.Marshal(a)
	return append(fmt.Appendf(nil, "#!%s %s\n", program, ServiceCommand), text...), err
}

// service is a made-up service as a process of its own.
type service struct {
	grpc_health_v1.UnimplementedHealthServer

	artifact sim.Artifact
	began    time.Time

	mu       sync.Mutex
	requests map[int]float64
	counts   []float64
	seconds  float64
}

// serviceBounds are the buckets of its histogram, in seconds.
var serviceBounds = []float64{0.025, 0.05, 0.1, 0.25, 0.5, 1, 2.5}

// stopIn is how long it takes for its last answers.
const stopIn = 5 * time.Second

// RunService is a made-up service that behaves as a file says, until ctx ends; a task where it is given no port.
func RunService(ctx context.Context, file string) error {
	text, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	_, text, _ = bytes.Cut(text, []byte("\n"))
	s := &service{began: time.Now(), requests: map[int]float64{}, counts: make([]float64, len(serviceBounds)+1)}
	if err := yaml.Unmarshal(text, &s.artifact); err != nil {
		return fmt.Errorf("read how to behave, from %s: %w", file, err)
	}
	port := os.Getenv("PORT")
	if port == "" {
		return s.task(ctx)
	}
	mux := http.NewServeMux()
	mux.HandleFunc("/ready", s.ready)
	mux.HandleFunc("/metrics", s.metrics)
	mux.HandleFunc("/", s.answer)
	calls := grpc.NewServer()
	grpc_health_v1.RegisterHealthServer(calls, s)
	mux.Handle("/"+grpc_health_v1.Health_ServiceDesc.ServiceName+"/", calls)
	server := &http.Server{Handler: mux, ReadHeaderTimeout: 5 * time.Second, Protocols: new(http.Protocols)}
	server.Protocols.SetHTTP1(true)
	server.Protocols.SetUnencryptedHTTP2(true)
	listener, err := net.Listen("tcp", net.JoinHostPort(cmp.Or(os.Getenv("HOST"), "127.0.0.1"), port))
	if err != nil {
		return err
	}
	log.SetFlags(0)
	log.Printf("info  %s listens on port %s", os.Getenv("INSTANCE"), port)
	ended := make(chan struct{})
	context.AfterFunc(ctx, func() {
		defer close(ended)
		wait, cancel := context.WithTimeout(context.Background(), stopIn)
		defer cancel()
		log.Print("info  ends, once the last answers are given")
		server.Shutdown(wait)
	})
	for _, fault := range s.artifact.Faults {
		if fault.Kind == sim.Crash {
			time.AfterFunc(fault.After, func() {
				log.Print("error a lock was held twice")
				os.Exit(1)
			})
		}
	}
	if err := server.Serve(listener); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	<-ended
	return nil
}

// task runs to its end.
func (s *service) task(ctx context.Context) error {
	select {
	case <-time.After(s.artifact.Takes):
	case <-ctx.Done():
		return ctx.Err()
	}
	if s.artifact.Fails != "" {
		return errors.New(s.artifact.Fails)
	}
	fmt.Println("info  done")
	return nil
}

// grown is how far a fault has grown by now, times its amount.
func (s *service) grown(kind sim.FaultKind, usual float64) float64 {
	for _, fault := range s.artifact.Faults {
		since := time.Since(s.began) - fault.After
		if fault.Kind != kind || since < 0 {
			continue
		}
		if fault.Ramp > 0 && since < fault.Ramp {
			return usual + (fault.Amount-usual)*since.Seconds()/fault.Ramp.Seconds()
		}
		return fault.Amount
	}
	return usual
}

func (s *service) ready(w http.ResponseWriter, _ *http.Request) {
	if time.Since(s.began) < s.artifact.StartsIn || s.grown(sim.Unready, 0) > 0 {
		http.Error(w, "not ready", http.StatusServiceUnavailable)
		return
	}
	io.WriteString(w, "ready\n")
}

// How long answers take.
const (
	fastest, fast = 2 * time.Millisecond, 15 * time.Millisecond
	slowest, slow = 300 * time.Millisecond, 200 * time.Millisecond
)

func (s *service) answer(w http.ResponseWriter, r *http.Request) {
	w.WriteHeader(s.work(r.URL.Path))
	fmt.Fprintln(w, os.Getenv("INSTANCE"))
}

// Check implements the gRPC health protocol, which is what it answers to calls; the header "instance" tells who did.
func (s *service) Check(ctx context.Context, _ *grpc_health_v1.HealthCheckRequest) (*grpc_health_v1.HealthCheckResponse, error) {
	grpc.SetHeader(ctx, metadata.Pairs("instance", os.Getenv("INSTANCE")))
	if s.work("a call") != http.StatusOK {
		return nil, status.Error(codes.Internal, "it failed")
	}
	return &grpc_health_v1.HealthCheckResponse{Status: grpc_health_v1.HealthCheckResponse_SERVING}, nil
}

// work does what a request asks for, and gives its status.
func (s *service) work(path string) int {
	began := time.Now()
	takes := fastest + rand.N(fast)
	if rand.Float64() < s.grown(sim.SlowAnswers, s.artifact.Slow) {
		takes = slowest + rand.N(slow)
		log.Printf("warn  %s waited for a lock", path)
	}
	time.Sleep(takes) // this is the work that it does
	code := http.StatusOK
	if rand.Float64() < s.grown(sim.ErrorFault, s.artifact.Errors) {
		code = http.StatusInternalServerError
		log.Printf("error %s failed", path)
	}
	s.count(code, time.Since(began).Seconds())
	return code
}

func (s *service) count(status int, seconds float64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	i := 0
	for i < len(serviceBounds) && seconds > serviceBounds[i] {
		i++
	}
	s.requests[status]++
	s.counts[i]++
	s.seconds += seconds
}

func (s *service) metrics(w http.ResponseWriter, _ *http.Request) {
	s.mu.Lock()
	defer s.mu.Unlock()
	w.Header().Set("Content-Type", "application/openmetrics-text; version=1.0.0; charset=utf-8")
	fmt.Fprintln(w, "# TYPE http_requests counter")
	for _, status := range []int{http.StatusOK, http.StatusInternalServerError} {
		fmt.Fprintf(w, "http_requests_total{code=\"%d\"} %g\n", status, s.requests[status])
	}
	fmt.Fprintln(w, "# TYPE http_request_duration_seconds histogram")
	total := 0.0
	for i, count := range s.counts {
		bound := "+Inf"
		if total += count; i < len(serviceBounds) {
			bound = strconv.FormatFloat(serviceBounds[i], 'g', -1, 64)
		}
		fmt.Fprintf(w, "http_request_duration_seconds_bucket{le=%q} %g\n", bound, total)
	}
	fmt.Fprintf(w, "http_request_duration_seconds_sum %g\nhttp_request_duration_seconds_count %g\n", s.seconds, total)
	fmt.Fprintln(w, "# EOF")
}
