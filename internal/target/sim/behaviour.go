package sim

import (
	"bytes"
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"
)

// Behaviour describes how the stand-in sites behave. It is read from a file of its own; docs/sim.md describes it.
type Behaviour struct {
	Seed      uint64              `yaml:"seed"`
	Sites     map[string]Traffic  `yaml:"sites"`
	Workloads map[string]Load     `yaml:"workloads"` // "*" for all that are not listed
	Artifacts map[string]Artifact `yaml:"artifacts"` // by OCI reference; a digest behind a tag is not looked at
	Unlisted  *Artifact           `yaml:"unlisted"`  // how all others behave; without it they do not exist
}

// Traffic says how busy a site is.
type Traffic struct {
	Factor float64 `yaml:"traffic"`
	Whole  bool    `yaml:"whole"` // it cannot split traffic
}

// Load is what one workload has to answer at a site with the traffic factor 1.
type Load struct {
	Requests float64 `yaml:"requests"` // per second, mean over the day
	Swing    float64 `yaml:"swing"`    // daily swing around it, 0 to 1
	Peak     float64 `yaml:"peak"`     // hour of the day with the most requests
}

// Artifact is how instances of one artifact behave.
type Artifact struct {
	StartsIn time.Duration `yaml:"starts-in"`
	Slow     float64       `yaml:"slow"`   // share of answers slower than 250 ms
	Errors   float64       `yaml:"errors"` // share of answers with a status of 500
	Memory   float64       `yaml:"memory"` // megabytes
	Takes    time.Duration `yaml:"takes"`  // how long a task takes
	Fails    string        `yaml:"fails"`  // why a task fails at its end; empty where it does not
	Faults   []Fault       `yaml:"faults"`
}

// Fault is something that goes wrong, at one site or everywhere.
type Fault struct {
	Kind   FaultKind     `yaml:"kind"`
	Site   string        `yaml:"site"`
	Above  float64       `yaml:"above"` // begins once the cohort's share of traffic is larger than this
	After  time.Duration `yaml:"after"` // begins so long after that, or after the instance's start
	Ramp   time.Duration `yaml:"ramp"`  // grows to its full size over this time
	Amount float64       `yaml:"amount"`
}

// FaultKind is what goes wrong.
type FaultKind string

const (
	SlowAnswers FaultKind = "slow"    // Amount is the share of slow answers
	ErrorFault  FaultKind = "errors"  // Amount is the share of errors
	MemoryFault FaultKind = "memory"  // Amount is the megabytes it grows by
	Crash       FaultKind = "crash"   // crashes again and again, every After
	Unready     FaultKind = "unready" // answers its probe with status 503
	Hang        FaultKind = "hang"    // never answers its probe
	Garbage     FaultKind = "garbage" // the metrics page is not metrics
)

// ReadBehaviour reads a behaviour file.
func ReadBehaviour(name string, text []byte) (Behaviour, error) {
	var b Behaviour
	decoder := yaml.NewDecoder(bytes.NewReader(text))
	decoder.KnownFields(true)
	if err := decoder.Decode(&b); err != nil && !errors.Is(err, io.EOF) {
		return b, fmt.Errorf("read the behaviour of the stand-in sites, %s: %w", name, err)
	}
	for reference, artifact := range b.Artifacts {
		for _, fault := range artifact.Faults {
			switch fault.Kind {
			case SlowAnswers, ErrorFault, MemoryFault, Crash, Unready, Hang, Garbage:
			default:
				return b, fmt.Errorf("read the behaviour of the stand-in sites, %s: %s has a fault of unknown kind %q; known are slow, errors, memory, crash, unready, hang and garbage", name, reference, fault.Kind)
			}
			if fault.Kind == Crash && fault.After <= 0 {
				return b, fmt.Errorf("read the behaviour of the stand-in sites, %s: the crash of %s needs after: how long until it crashes", name, reference)
			}
		}
	}
	return b, nil
}

// Plain is a behaviour under which everything exists and does well, for trying declarations that are nobody's demo.
func Plain() Behaviour {
	return Behaviour{
		Seed: 1, Workloads: map[string]Load{"*": {Requests: 300, Swing: 0.3, Peak: 8}},
		Unlisted: &Artifact{StartsIn: 3 * time.Second, Slow: 0.02, Errors: 0.002, Memory: 150},
	}
}

// artifact gives how an artifact behaves, and whether it exists.
func (b Behaviour) artifact(reference string) (Artifact, bool) {
	found, ok := b.Artifacts[reference]
	if !ok {
		if name, _, pinned := strings.Cut(reference, "@"); pinned {
			found, ok = b.Artifacts[name]
		}
	}
	if !ok && b.Unlisted != nil {
		return *b.Unlisted, true
	}
	return found, ok
}

// seedOf makes a seed from the file's own and names, so that each instance has its own stream of chance.
func (b Behaviour) seedOf(names ...string) uint64 {
	h := fnv.New64a()
	for _, name := range names {
		io.WriteString(h, name)
		h.Write([]byte{0})
	}
	return h.Sum64() ^ b.Seed
}
