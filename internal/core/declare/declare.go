// Package declare reads declarations: it checks what was written, makes the desired state canonical and gives its
// revision. It takes documents as trees of nodes with their places; parsing YAML text into them is package source's
// work, and where files come from is none of its business.
package declare

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"aditus/internal/core/guard"
	"aditus/internal/core/health"
)

// Format is the version of the declaration format that this package reads, the value of the key "aditus".
const Format = 1

// Desired is the desired state of one berth: everything declared for one workload at one site. Its JSON form, made
// canonical, is what a revision fingerprints. Sites that declare the same have the same revision.
type Desired struct {
	Format   int             `json:"aditus"`
	Workload string          `json:"workload"`
	About    string          `json:"about,omitempty"`
	Needs    []string        `json:"needs,omitempty"` // workloads that must be healthy at the site first
	Parts    map[string]Part `json:"parts"`
	Rollout  Rollout         `json:"rollout"`
	Guards   []guard.Rule    `json:"guards,omitempty"`
	Leave    []string        `json:"leave,omitempty"` // JSON Pointers to what others look after, such as a scaler
}

// Kind is a kind of part.
type Kind string

const (
	Service  Kind = "service"  // long-running instances
	Task     Kind = "task"     // runs to its end
	Settings Kind = "settings" // values that services read
	Secret   Kind = "secret"   // values that are encrypted in Git
	Route    Kind = "route"    // how traffic enters
	Volume   Kind = "volume"   // keeps data over releases
	Objects  Kind = "objects"  // of a cluster's API, as they are
)

// Kinds lists all kinds of part that can be declared.
var Kinds = []Kind{Service, Task, Settings, Secret, Route, Volume, Objects}

// Runs tells whether a part of the kind has instances.
func (k Kind) Runs() bool { return k == Service || k == Task }

// Part is one piece of a workload. Which fields it has follows from its kind.
type Part struct {
	Kind        Kind              `json:"kind"`
	Needs       []string          `json:"needs,omitempty"`    // parts that come before it
	Artifact    string            `json:"artifact,omitempty"` // OCI reference
	Command     []string          `json:"command,omitempty"`  // instead of the artifact's own
	Instances   int               `json:"instances"`
	Environment map[string]string `json:"environment,omitempty"`
	Ports       map[string]int    `json:"ports,omitempty"`
	Probes      map[string]Probe  `json:"probes,omitempty"`
	Metrics     *Metrics          `json:"metrics,omitempty"`
	Volumes     map[string]string `json:"volumes,omitempty"`      // service, task: where a volume part is seen, by its name
	Stop        *Stop             `json:"stop,omitempty"`         // service, task: how an instance is ended; DefaultStop where it is nil
	NotUndoable bool              `json:"not-undoable,omitempty"` // task: what it did cannot be taken back
	Values      map[string]string `json:"values,omitempty"`       // settings; of a secret the fingerprints
	Sealed      map[string]string `json:"sealed,omitempty"`       // secret, objects: the values as they stand in Git, encrypted with age; those of a Secret among objects by SealedKey
	To          *Endpoint         `json:"to,omitempty"`           // route: a service's port
	Service     string            `json:"service,omitempty"`      // route: which service
	Host        string            `json:"host,omitempty"`         // route: for which host name
	Preview     string            `json:"preview,omitempty"`      // route: the host name of a set that is tried, before it has traffic
	PreviewBy   *Header           `json:"preview-by,omitempty"`   // route: the header of requests that are for a set that is tried
	GRPC        bool              `json:"grpc,omitempty"`         // route: its requests are calls of gRPC
	TCP         int               `json:"tcp,omitempty"`          // route: the site's port whose connections it takes; 0 for HTTP by host name
	Sticky      *Sticky           `json:"sticky,omitempty"`       // route: what keeps a visitor with one cohort
	Size        int64             `json:"size,omitempty"`         // volume: bytes
	Resources   *Resources        `json:"resources,omitempty"`    // service, task: of the machine
	Rules       map[string]Rule   `json:"rules,omitempty"`        // objects: how to tell how they are doing, by kind, where the line says it itself
	Objects     map[string]Object `json:"objects,omitempty"`      // objects: by ObjectID
	Template    Object            `json:"template,omitempty"`     // service: what its pods have beside what is declared, where they come from a file of objects
	User        *int              `json:"user,omitempty"`         // service, task: the number of the user that it runs as, where the target can choose; 0 is root

	Files  map[string]File `json:"files,omitempty"`       // service, task: laid within an instance's folder, by name
	Folder string          `json:"folder,omitempty"`      // service, task: where it runs within its own folder
	Umask  string          `json:"umask,omitempty"`       // service, task: octal
	Fixed  bool            `json:"fixed-ports,omitempty"` // service: it listens on the very numbers of its ports

	// Opened are the sealed values, opened, for the driver alone. They are never written anywhere.
	Opened map[string]string `json:"-"`
}

// Rule says how to tell how objects of a kind are doing: questions in CEL about "object".
type Rule struct {
	Healthy string `json:"healthy"`
	Failing string `json:"failing,omitempty"` // asked first
	Say     string `json:"say,omitempty"`     // what is to be said of one that is failing
}

// Resources are what an instance asks of the machine that it is placed on, and the most that it may use. A target that
// cannot set them leaves them out.
type Resources struct {
	Requests Amounts `json:"requests,omitzero"`
	Limits   Amounts `json:"limits,omitzero"`
}

// Amounts are parts of a machine; 0 for what is not said.
type Amounts struct {
	CPU       float64 `json:"cpu,omitempty"`       // processors
	Memory    int64   `json:"memory,omitempty"`    // bytes
	Processes int     `json:"processes,omitempty"` // limits: with their threads
}

// Stop is how an instance is ended: it has no new traffic, what it has may end, then it gets a signal, and is killed
// where it does not end on it.
type Stop struct {
	Drain  Span   `json:"drain"`  // for what it has of traffic, at most
	Signal string `json:"signal"` // TERM, INT, QUIT, HUP, USR1 or USR2
	Within Span   `json:"within"` // after the signal, before it is killed
}

// DefaultStop is how an instance is ended where nothing else is declared.
var DefaultStop = Stop{Drain: Span{30 * time.Second}, Signal: "TERM", Within: Span{10 * time.Second}}

// StopSignals are the signals that an instance can be ended with.
var StopSignals = []string{"TERM", "INT", "QUIT", "HUP", "USR1", "USR2"}

// Ending is how an instance of the part is ended.
func (p Part) Ending() Stop {
	if p.Stop == nil {
		return DefaultStop
	}
	return *p.Stop
}

// Header is a header of HTTP requests, with the value that it has.
type Header struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// Sticky keeps a visitor with one cohort, as far as shares allow: who was on new stays there while its share rises. One
// of the two is set.
type Sticky struct {
	Cookie string `json:"cookie,omitempty"` // set by the route, and read by it
	Header string `json:"header,omitempty"` // sent by the visitor
}

// Probe asks an instance how it is doing. One of HTTP, TCP, GRPC and Command is set.
type Probe struct {
	HTTP    *Endpoint `json:"http,omitempty"`    // passes on a status from 200 to 399
	TCP     *Endpoint `json:"tcp,omitempty"`     // passes when a connection opens
	GRPC    *Endpoint `json:"grpc,omitempty"`    // passes when the gRPC health protocol says SERVING; Path is the service
	Command []string  `json:"command,omitempty"` // run within the instance by the target; passes with status 0
	Tells   Tells     `json:"tells,omitempty"`   // what the answer is about
	Every   Span      `json:"every"`
	Timeout Span      `json:"timeout"`
	Passes  int       `json:"passes"`
	Fails   int       `json:"fails"`
	Grace   Span      `json:"grace"`
}

// Tells is what a probe's answer is about.
type Tells string

const (
	TellsReady Tells = "ready" // may it have traffic
	TellsAlive Tells = "alive" // does it run at all; one that does not is started anew by its target
)

// Asks tells in words what the probe does.
func (p Probe) Asks() (text string) {
	switch {
	case p.HTTP != nil:
		text = fmt.Sprintf("GET %s on %s", p.HTTP.Path, p.HTTP.Port)
	case p.TCP != nil:
		text = "connects to " + p.TCP.Port
	case p.GRPC != nil:
		text = fmt.Sprintf("asks %s on %s by the gRPC health protocol", cmp.Or(p.GRPC.Path, "the server"), p.GRPC.Port)
	case len(p.Command) > 0:
		text = "runs " + strings.Join(p.Command, " ")
	}
	if p.Tells == TellsAlive {
		text += ", whether it runs"
	}
	return text
}

// Health is how an instance of the part is doing, by the answers to its probes so far and what its target says of it.
func (p Part) Health(tracks map[string]health.Track, started time.Time, restarts []time.Time, again, now time.Time) health.Instance {
	var seen []health.Track
	var rules []health.Thresholds
	for _, name := range slices.Sorted(maps.Keys(p.Probes)) {
		seen, rules = append(seen, tracks[name]), append(rules, p.Probes[name].Thresholds())
	}
	return health.JudgeInstance(seen, rules, started, restarts, again, now)
}

// Thresholds are the probe's rules in the terms of package health.
func (p Probe) Thresholds() health.Thresholds {
	return health.Thresholds{Every: p.Every.Duration, Timeout: p.Timeout.Duration, Passes: p.Passes, Fails: p.Fails, Grace: p.Grace.Duration, Alive: p.Tells == TellsAlive}
}

// Endpoint is a named port of a part and, for HTTP, a path on it.
type Endpoint struct {
	Port string `json:"port"`
	Path string `json:"path,omitempty"`
}

// Metrics says where an instance exposes its metrics, how its page is asked for, and which counter counts its requests.
type Metrics struct {
	Endpoint
	Requests string `json:"requests,omitempty"`
	Scheme   string `json:"scheme,omitempty"` // https; http where it is left out
	Host     string `json:"host,omitempty"`   // https: the name that stands in its certificate; its address where it is left out
	Secret   string `json:"secret,omitempty"` // the part whose values let in: MetricsKeys
}

// MetricsKeys are the keys of a secret that a metrics page is asked for with: a bearer token, or a user with a password; certificates that may sign the
// instance's, and a certificate to show with its private key, in PEM.
var MetricsKeys = []string{"token", "user", "password", "ca", "certificate", "key"}

// Style is the way in which a new revision takes over.
type Style string

const (
	Canary    Style = "canary"     // by shares of the traffic, the old cohort complete until the new one is proven
	Rolling   Style = "rolling"    // the old cohort gives way as the new one comes up, within budgets
	BlueGreen Style = "blue-green" // a complete second set, tried first, then switched to at once
)

// Newer is what becomes of a rollout when a newer revision is declared meanwhile.
type Newer string

const (
	NewerSupersedes Newer = "supersedes" // it goes back, and the newer one comes in
	NewerWaits      Newer = "waits"
)

// Rollout says how a new revision comes in.
type Rollout struct {
	Style    Style    `json:"style"`
	Stages   []Stage  `json:"stages"`           // Rolling: one for each batch; BlueGreen: the trial and the switch
	Extra    Budget   `json:"extra,omitzero"`   // Rolling, and where a target cannot split traffic: instances above what is declared
	Missing  Budget   `json:"missing,omitzero"` // and below it
	Steady   Span     `json:"steady,omitzero"`  // how long an instance must be healthy before it counts
	WarmUp   Span     `json:"warm-up,omitzero"` // how long an instance that is new to its traffic is not judged by the guards' limits
	Try      string   `json:"try,omitempty"`    // BlueGreen: the task that tries the new set, which is the check of its first stage
	Keep     Span     `json:"keep,omitzero"`    // BlueGreen: how long the old set stays complete after the switch
	Newer    Newer    `json:"newer"`
	Control  *float64 `json:"control,omitempty"` // Canary: the share of the traffic that old keeps through proving; DefaultControl where nil
	Risk     float64  `json:"false-rollbacks"`   // the chance of a false rollback over a whole rollout
	Deadline Span     `json:"deadline"`          // for a stage's instances to become healthy, from the last that did
	Proving  Span     `json:"proving"`           // full traffic under guard before a revision counts as healthy
	CoolDown Span     `json:"cool-down"`         // after a rollback, before anything is rolled out or back again
	Interval Span     `json:"interval"`          // between two evaluations of the guards
}

// DefaultControl is the share of the traffic that old keeps through proving where none is declared.
const DefaultControl = 0.05

// Controls is the share of the traffic that old is to keep through proving, so that new is held against it to the end.
func (r Rollout) Controls() float64 {
	switch {
	case r.Style != Canary:
		return 0
	case r.Control == nil:
		return DefaultControl
	}
	return *r.Control
}

// Stage is one step of a rollout.
type Stage struct {
	Share   float64  `json:"share"` // of the traffic on the new cohort, from 0 to 1
	Soak    Span     `json:"soak"`
	SignOff string   `json:"sign-off,omitempty"` // who is asked before the stage is left
	Guards  []string `json:"guards,omitempty"`   // those that count here; all where none is named
	Checks  []string `json:"checks,omitempty"`   // tasks that run once the share is reached, and must have passed before the stage is left
}

// Budget is a number of instances, or a share of those that are declared.
type Budget struct {
	Number int
	Share  float64
}

// More is the budget for so many instances, a fraction counting as one more.
func (b Budget) More(instances int) int {
	return b.Number + int(math.Ceil(b.Share*float64(instances)-1e-9))
}

// Less is the budget for so many instances, a fraction not counting.
func (b Budget) Less(instances int) int {
	return min(b.Number+int(math.Floor(b.Share*float64(instances)+1e-9)), instances)
}

// MarshalText writes the budget as it is declared: 2, or 25 %.
func (b Budget) MarshalText() ([]byte, error) {
	if b.Share > 0 {
		return []byte(strconv.FormatFloat(math.Round(b.Share*1e8)/1e6, 'f', -1, 64) + " %"), nil
	}
	return []byte(strconv.Itoa(b.Number)), nil
}

// UnmarshalText reads a budget.
func (b *Budget) UnmarshalText(text []byte) (err error) {
	if number, share := strings.CutSuffix(string(text), " %"); share {
		b.Share, err = strconv.ParseFloat(number, 64)
		b.Share /= 100
		return err
	}
	b.Number, err = strconv.Atoi(string(text))
	return err
}

// Span is a time.Duration that is written as Go writes it: 1m30s.
type Span struct{ time.Duration }

// MarshalText writes the span without empty units: 2m, not 2m0s.
func (s Span) MarshalText() ([]byte, error) {
	text := s.String()
	if strings.HasSuffix(text, "m0s") {
		text = strings.TrimSuffix(text, "0s")
	}
	if strings.HasSuffix(text, "h0m") {
		text = strings.TrimSuffix(text, "0m")
	}
	return []byte(text), nil
}

// UnmarshalText reads a span.
func (s *Span) UnmarshalText(text []byte) (err error) {
	s.Duration, err = time.ParseDuration(string(text))
	return err
}

// Running gives the names of the parts that have instances, sorted.
func (d Desired) Running() []string {
	var names []string
	for name, part := range d.Parts {
		if part.Kind.Runs() {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
}

// Alike names the services that run in the same way in two desired states of a workload: from the same artifact, with the same
// command, environment, ports, volumes and user, and all settings and secrets that there are. How many there are, what asks
// them and how they are ended is no matter.
func (d Desired) Alike(other Desired) (names []string) {
	read := func(d Desired) map[string]Part {
		all := map[string]Part{}
		for name, part := range d.Parts {
			switch part.Kind {
			case Settings, Secret:
				all[name] = Part{Kind: part.Kind, Values: part.Values}
			case Volume:
				all[name] = Part{Kind: part.Kind, Size: part.Size}
			}
		}
		return all
	}
	same := func(a, b any) bool {
		x, err := json.Marshal(a)
		y, err2 := json.Marshal(b)
		return err == nil && err2 == nil && bytes.Equal(x, y)
	}
	if !same(read(d), read(other)) {
		return nil
	}
	for _, name := range d.Running() {
		a, b := d.Parts[name].running(), other.Parts[name].running()
		if a.Kind == Service && same(a, b) {
			names = append(names, name)
		}
	}
	return names
}

// running is what of a part makes its processes what they are.
func (p Part) running() Part {
	return Part{
		Kind: p.Kind, Artifact: p.Artifact, Command: p.Command, Environment: p.Environment, Ports: p.Ports, Volumes: p.Volumes,
		Resources: p.Resources, Template: p.Template, User: p.User, Files: p.Files, Folder: p.Folder, Umask: p.Umask, Fixed: p.Fixed,
	}
}

// Version is what people call this desired state: the tag of its first service's artifact, of its first task's, or of the
// first image in its objects; the begin of its fingerprint where it has only programs of a machine.
func (d Desired) Version() string {
	version, own := "", ""
	for _, name := range d.Running() {
		switch part := d.Parts[name]; {
		case part.Artifact == "" && part.Template == nil:
			own = d.Fingerprint().Short() // a program of the machine has no version that is declared
		case part.Kind == Service:
			return Tag(part.Artifact)
		case version == "":
			version = Tag(part.Artifact)
		}
	}
	return cmp.Or(version, d.objectVersion(), own)
}

// FileScheme begins an artifact that is a file or folder at the site rather than in a registry.
const FileScheme = "file:"

// Tag is the tag of an OCI reference, or the first digits of its digest where it has none. Of a file without a tag it
// is the name.
func Tag(artifact string) string {
	if file, ok := strings.CutPrefix(artifact, FileScheme); ok {
		file, _, _ = strings.Cut(file, "@")
		if tag := tagOf(file); tag != "" {
			return tag
		}
		name := path.Base(file)
		for _, end := range []string{".gz", ".tgz", ".tar"} {
			name = strings.TrimSuffix(name, end)
		}
		return name
	}
	if name, digest, ok := strings.Cut(artifact, "@"); ok {
		if tag := tagOf(name); tag != "" {
			return tag
		}
		_, hex, _ := strings.Cut(digest, ":")
		return hex[:min(7, len(hex))]
	}
	return tagOf(artifact)
}

func tagOf(name string) string {
	last := name[strings.LastIndex(name, "/")+1:]
	_, tag, _ := strings.Cut(last, ":")
	return tag
}

// Problem is something wrong in a declaration, for the person who wrote it.
type Problem struct {
	Rule       string `json:"rule,omitempty"`    // the rule of the house that it offends; empty for the format's own
	Warning    bool   `json:"warning,omitempty"` // it is told, and refuses nothing
	File       string `json:"file"`
	Line       int    `json:"line"`
	Column     int    `json:"column"`
	Pointer    string `json:"pointer,omitempty"` // JSON Pointer (RFC 6901) to the value
	Message    string `json:"message"`
	Suggestion string `json:"suggestion,omitempty"`
}

// Error tells the problem as FILE:LINE:COLUMN: what is wrong; what to do.
func (p Problem) Error() string {
	text := fmt.Sprintf("%s:%d:%d: %s", p.File, p.Line, p.Column, p.Message)
	if p.Warning {
		text = fmt.Sprintf("%s:%d:%d: warning: %s", p.File, p.Line, p.Column, p.Message)
	}
	if p.Suggestion != "" {
		text += "; " + p.Suggestion
	}
	return text
}

// Problems are all that is wrong in what was read, in the order of files and lines.
type Problems []Problem

// Error tells the first problem and how many more there are.
func (p Problems) Error() string {
	switch len(p) {
	case 0:
		return "no problems"
	case 1:
		return p[0].Error()
	}
	return fmt.Sprintf("%s (and %d more)", p[0].Error(), len(p)-1)
}

// In gives the problems with their files told from a folder above the one that was read.
func (p Problems) In(folder string) Problems {
	moved := slices.Clone(p)
	for i := range moved {
		moved[i].File = path.Join(folder, moved[i].File)
	}
	return moved
}

// Wrong gives those that are more than warnings.
func (p Problems) Wrong() Problems {
	return slices.DeleteFunc(slices.Clone(p), func(p Problem) bool { return p.Warning })
}

// Sort puts the problems in the order of files and places.
func (p Problems) Sort() {
	slices.SortStableFunc(p, func(a, b Problem) int {
		return cmp.Or(cmp.Compare(a.File, b.File), cmp.Compare(a.Line, b.Line), cmp.Compare(a.Column, b.Column))
	})
}
