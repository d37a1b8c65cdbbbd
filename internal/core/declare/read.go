package declare

import (
	"maps"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"aditus/internal/core/guard"
	"aditus/internal/core/say"
)

// Values of what a declaration leaves out.
var (
	defaultProbe   = Probe{Every: Span{5 * time.Second}, Timeout: Span{time.Second}, Passes: 1, Fails: 3, Grace: Span{30 * time.Second}}
	defaultRollout = Rollout{
		Style: Canary, Extra: Budget{Number: 1}, Newer: NewerSupersedes, Risk: 0.01,
		Deadline: Span{3 * time.Minute}, Proving: Span{10 * time.Minute}, CoolDown: Span{10 * time.Minute}, Interval: Span{10 * time.Second},
	}
	defaultStages = []Stage{{Share: 0.1, Soak: Span{2 * time.Minute}}, {Share: 1}}
	defaultTrial  = Stage{Soak: Span{time.Minute}}
	defaultKeep   = Span{30 * time.Minute}
	defaultCount  = guard.Count{Intervals: 3, Of: 5, Samples: 50}
)

// Limits on what is accepted.
const (
	maxInstances = 10000
	maxName      = 63
	leastCPU     = 0.001 // processors
	mostCPU      = 1024.0
)

var (
	namePattern     = regexp.MustCompile(`^[a-z][a-z0-9]*(-[a-z0-9]+)*$`)
	variablePattern = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)
	// tokenPattern is the grammar of a token in RFC 9110, of which names of headers and cookies are made.
	tokenPattern = regexp.MustCompile("^[!#$%&'*+.^_`|~0-9A-Za-z-]+$")
	filePattern  = regexp.MustCompile(`^file:/[^@\x00-\x1f]*[^@/:\x00-\x1f](@sha256:[0-9a-f]{64})?$`)
	// valuePattern is what of the grammar of a field value in RFC 9110 is of use here: visible, with spaces only within.
	valuePattern = regexp.MustCompile(`^[!-~]+( [!-~]+)*$`)
	// artifactPattern is the grammar of an OCI reference: registry host, repository path, tag or digest.
	artifactPattern = regexp.MustCompile(`^[a-zA-Z0-9][a-zA-Z0-9.-]*(:[0-9]+)?(/[a-z0-9]+([._-]+[a-z0-9]+)*)+(:[A-Za-z0-9_][A-Za-z0-9._-]{0,127})?(@[a-z0-9]+:[0-9a-f]{32,})?$`)
)

// Heading reads of a document only what stands above all sites: the name of its workload and the sites it is for.
func Heading(document Node) (workload string, sites []string, problems Problems) {
	r := &reader{}
	if document.Kind != Map {
		r.wrong(document, "", "", "a declaration must be a mapping with keys such as %s, not %s", quoted(required), document.Kind)
		return "", nil, r.problems
	}
	if n, ok := document.Get("workload"); ok {
		workload = r.name(n, "/workload", "a workload")
	}
	if n, ok := document.Get("sites"); ok {
		sites = r.names(n, "/sites", "sites", "a site")
	}
	return workload, sites, r.problems
}

var required = []string{"aditus", "workload", "sites", "parts"}

// Read checks a document, with the site's small file and variables in it already, and gives the desired state it
// declares. The Desired is only worth using when there are no problems.
func Read(document Node) (Desired, Problems) {
	r := &reader{}
	d := Desired{Format: Format, Parts: map[string]Part{}, Rollout: defaultRollout}
	at := map[string]Node{"": document}
	written := Node{Kind: Map}
	r.fields(document, "", "a declaration", required, map[string]func(Node, string){
		"aditus":   r.format,
		"workload": func(n Node, p string) { d.Workload = r.name(n, p, "a workload") },
		"about":    func(n Node, p string) { d.About = r.text(n, p, "about") },
		"sites":    func(n Node, p string) { r.names(n, p, "sites", "a site") },
		"needs":    func(n Node, p string) { d.Needs = r.sorted(n, p, "needs", "a workload") },
		"leave": func(n Node, p string) {
			at[""] = n
			d.Leave = r.list(n, p, "leave")
		},
		"parts": func(n Node, p string) {
			r.entries(n, p, "parts", func(name string, key, value Node, p string) {
				if r.name(key, p, "a part") != "" {
					at[name], d.Parts[name] = value, r.part(value, p)
				}
			})
			if n.Kind == Map && len(n.Entries) == 0 {
				r.wrong(n, p, "", "a workload needs at least one part")
			}
		},
		"rollout": func(n Node, p string) { written = n },
		"guards":  func(n Node, p string) { d.Guards = r.guards(n, p) },
	})
	d.Rollout = r.rollout(written, "/rollout", d)
	r.knownGuards(d)
	r.needed(d, at)
	d.leaveObjects()
	if len(r.problems) == 0 {
		r.doubts(d)
	}
	r.problems.Sort()
	return d, r.problems
}

func (r *reader) format(n Node, p string) {
	if n.Text != strconv.Itoa(Format) {
		r.wrong(n, p, "write aditus: 1", "this program reads format %d, not %q", Format, n.Text)
	}
}

func (r *reader) part(n Node, pointer string) Part {
	kind := Kind("")
	for _, entry := range n.Entries {
		if entry.Key.Text == "kind" {
			kind = Kind(entry.Value.Text)
		}
	}
	if at, _ := n.Get("kind"); kind != "" && !slices.Contains(Kinds, kind) {
		r.wrong(at, pointer+"/kind", didYouMean(at.Text, words(Kinds)), "there is no kind of part %q", at.Text)
		kind = Kind(say.Nearest(at.Text, words(Kinds))) // and what else is wrong with it is told too
	}
	part := Part{Kind: kind}
	known := map[string]func(Node, string){"kind": func(Node, string) {}}
	switch kind {
	case Service:
		part.Instances = 1
		r.service(n, pointer, &part, known)
	case Task:
		r.task(n, pointer, &part, known)
	case Settings:
		known["values"] = func(n Node, p string) { part.Values = r.texts(n, p, "values", nil) }
		r.fields(n, pointer, "a settings part", []string{"values"}, known)
	case Secret:
		known["values"] = func(n Node, p string) { part.Sealed = r.texts(n, p, "values", nil) }
		r.fields(n, pointer, "a secret part", []string{"values"}, known)
	case Route:
		known["host"] = func(n Node, p string) { part.Host = r.host(n, p, "host") }
		known["preview"] = func(n Node, p string) { r.preview(n, p, &part) }
		known["protocol"] = func(n Node, p string) { part.GRPC = oneOf(r, n, p, "http", "grpc") == "grpc" }
		known["tcp"] = func(n Node, p string) { part.TCP = r.count(n, p, "tcp", 1, 65535) }
		known["sticky"] = func(n Node, p string) { part.Sticky = r.sticky(n, p) }
		known["needs"] = func(n Node, p string) { part.Needs = r.sorted(n, p, "needs", "a part") }
		known["to"] = func(n Node, p string) {
			part.To = &Endpoint{Path: "/"}
			r.fields(n, p, "to", []string{"service", "port"}, map[string]func(Node, string){
				"service": func(n Node, p string) { part.Service = r.text(n, p, "service") },
				"port":    func(n Node, p string) { part.To.Port = r.text(n, p, "port") },
				"path":    func(n Node, p string) { part.To.Path = r.path(n, p) },
			})
		}
		r.fields(n, pointer, "a route part", []string{"to"}, known)
		if part.TCP != 0 && (part.Host != "" || part.Preview != "" || part.PreviewBy != nil || part.Sticky != nil || part.GRPC) {
			r.wrong(n, pointer, "leave out tcp:, or host:, preview:, sticky: and protocol:", "a route of TCP connections knows nothing of host names and cookies")
		}
		if part.GRPC && part.To != nil && part.To.Path != "/" {
			r.wrong(n, pointer+"/to/path", "leave it out", "calls of gRPC are led on under the path that they have")
		}
	case Volume:
		known["size"] = func(n Node, p string) { part.Size = r.bytes(n, p) }
		r.fields(n, pointer, "a volume part", []string{"size"}, known)
	case Objects:
		r.objects(n, pointer, &part, known)
	default:
		if _, ok := n.Get("kind"); !ok {
			r.fields(n, pointer, "a part", []string{"kind"}, nil)
		}
	}
	return part
}

// runs adds the keys that services and tasks share.
func (r *reader) runs(part *Part, known map[string]func(Node, string)) {
	known["artifact"] = func(n Node, p string) {
		part.Artifact = r.text(n, p, "artifact")
		switch {
		case part.Artifact == "" || filePattern.MatchString(part.Artifact):
		case strings.HasPrefix(part.Artifact, FileScheme):
			r.wrong(n, p, "write file:/srv/artifacts/web-1.0.0.tar, or file:/srv/artifacts/web:1.0.0 for an image layout", "%q is no artifact: a file is named by its whole path", part.Artifact)
		case !artifactPattern.MatchString(part.Artifact) || Tag(part.Artifact) == "":
			r.wrong(n, p, "write HOST/PATH:TAG or HOST/PATH@sha256:…", "%q is no OCI reference with a tag or digest", part.Artifact)
		}
	}
	known["stop"] = func(n Node, p string) { part.Stop = r.stop(n, p) }
	known["command"] = func(n Node, p string) { part.Command = r.list(n, p, "command") }
	known["needs"] = func(n Node, p string) { part.Needs = r.sorted(n, p, "needs", "a part") }
	known["environment"] = func(n Node, p string) { part.Environment = r.texts(n, p, "environment", variablePattern) }
	known["volumes"] = func(n Node, p string) { part.Volumes = r.texts(n, p, "volumes", nil) }
	known["resources"] = func(n Node, p string) { part.Resources = r.resources(n, p) }
	r.furnishing(part, known)
	known["user"] = func(n Node, p string) {
		user := r.count(n, p, "user", 0, math.MaxInt32)
		part.User = &user
	}
}

// resources reads what an instance asks of its machine, and the most that it may use.
func (r *reader) resources(n Node, pointer string) *Resources {
	found := &Resources{}
	amounts := func(into *Amounts) func(Node, string) {
		return func(n Node, p string) {
			r.fields(n, p, "an amount", nil, map[string]func(Node, string){
				"cpu": func(n Node, p string) {
					value, err := strconv.ParseFloat(n.Text, 64)
					if n.Kind != Number || err != nil || !(value >= leastCPU && value <= mostCPU) {
						r.wrong(n, p, "write it like 0.25 or 2", "expected a number of processors from %v to %v, not %q", leastCPU, mostCPU, n.Text)
						value = 1
					}
					into.CPU = math.Round(value*1000) / 1000
				},
				"memory": func(n Node, p string) { into.Memory = r.bytes(n, p) },
				"processes": func(n Node, p string) {
					if into == &found.Requests {
						r.wrong(n, p, "write it under limits", "processes are not asked for, only limited")
						return
					}
					into.Processes = r.count(n, p, "processes", 1, 1<<22)
				},
			})
		}
	}
	r.fields(n, pointer, "resources", nil, map[string]func(Node, string){"requests": amounts(&found.Requests), "limits": amounts(&found.Limits)})
	if req, most := found.Requests, found.Limits; most.CPU > 0 && req.CPU > most.CPU || most.Memory > 0 && req.Memory > most.Memory {
		r.wrong(n, pointer, "ask for no more than its limits", "it asks for more than it may use")
	}
	return found
}

func (r *reader) stop(n Node, pointer string) *Stop {
	stop := DefaultStop
	r.fields(n, pointer, "stop", nil, map[string]func(Node, string){
		"drain": func(n Node, p string) { stop.Drain = r.span(n, p, 0) },
		"signal": func(n Node, p string) {
			stop.Signal = oneOf(r, n, p, StopSignals...)
		},
		"within": func(n Node, p string) { stop.Within = r.span(n, p, 0) },
	})
	return &stop
}

// host reads a host name, as it is compared.
func (r *reader) host(n Node, pointer, what string) string {
	text := r.text(n, pointer, what)
	if text == "" {
		return ""
	}
	name, ok := HostName(text)
	if !ok {
		r.wrong(n, pointer, "write a name alone, like fares.skerry.example", "%q is no host name", text)
	}
	return name
}

// preview reads how a set that is tried is reached: by a host name, or by a header of requests for the route's own.
func (r *reader) preview(n Node, pointer string, part *Part) {
	if n.Kind != Map {
		part.Preview = r.host(n, pointer, "preview")
		return
	}
	by := &Header{}
	r.fields(n, pointer, "preview", []string{"header", "value"}, map[string]func(Node, string){
		"header": func(n Node, p string) { by.Name = r.token(n, p, "header") },
		"value": func(n Node, p string) {
			if by.Value = r.text(n, p, "value"); by.Value != "" && !valuePattern.MatchString(by.Value) {
				r.wrong(n, p, "", "%q is no value of a header", by.Value)
			}
		},
	})
	if by.Name != "" && by.Value != "" {
		part.PreviewBy = by
	}
}

// token reads the name of a cookie or header.
func (r *reader) token(n Node, p, what string) string {
	text := r.text(n, p, what)
	if text != "" && !tokenPattern.MatchString(text) {
		r.wrong(n, p, "", "%q is no name of a %s", text, what)
	}
	return text
}

func (r *reader) sticky(n Node, pointer string) *Sticky {
	s := &Sticky{}
	ok := r.fields(n, pointer, "sticky", nil, map[string]func(Node, string){
		"cookie": func(n Node, p string) { s.Cookie = r.token(n, p, "cookie") },
		"header": func(n Node, p string) { s.Header = r.token(n, p, "header") },
	})
	if ok && (s.Cookie == "") == (s.Header == "") {
		r.wrong(n, pointer, "write sticky: {cookie: NAME} or sticky: {header: NAME}", "a visitor is known by either a cookie or a header")
	}
	return s
}

func (r *reader) task(n Node, pointer string, part *Part, known map[string]func(Node, string)) {
	r.runs(part, known)
	known["undoable"] = func(n Node, p string) {
		if n.Kind != Bool {
			r.wrong(n, p, "write undoable: false where what it did cannot be taken back", "undoable must be true or false")
		}
		part.NotUndoable = n.Text == "false"
	}
	required := []string{"kind", "artifact"}
	if ofMachine(n) {
		required = required[:1]
	}
	r.fields(n, pointer, "a task part", required, known)
}

// ofMachine tells whether a part runs a program of the machine's own, for which it needs no artifact.
func ofMachine(n Node) bool {
	command, _ := n.Get("command")
	return len(command.Items) > 0 && strings.HasPrefix(command.Items[0].Text, "/")
}

func (r *reader) service(n Node, pointer string, part *Part, known map[string]func(Node, string)) {
	r.runs(part, known)
	type usedPort struct {
		at      Node
		pointer string
		name    string
	}
	var used []usedPort
	uses := func(n Node, p string) string {
		name := r.text(n, p, "port")
		used = append(used, usedPort{n, p, name})
		return name
	}
	for key, read := range map[string]func(Node, string){
		"instances": func(n Node, p string) { part.Instances = r.count(n, p, "instances", 0, maxInstances) },
		"ports": func(n Node, p string) {
			part.Ports = map[string]int{}
			r.entries(n, p, "ports", func(name string, key, value Node, p string) {
				part.Ports[name] = r.count(value, p, "a port", 1, 65535)
			})
		},
		"probes": func(n Node, p string) {
			part.Probes = map[string]Probe{}
			r.entries(n, p, "probes", func(name string, key, value Node, p string) { part.Probes[name] = r.probe(value, p, uses) })
		},
		"fixed-ports": func(n Node, p string) {
			if n.Kind != Bool {
				r.wrong(n, p, "write fixed-ports: true where it cannot be told its ports", "fixed-ports must be true or false")
			}
			part.Fixed = n.Text == "true"
		},
		"metrics": func(n Node, p string) {
			part.Metrics = r.metrics(n, p, uses)
		},
		"from": func(n Node, p string) { r.text(n, p, "from") }, // package source has put it into template
		"template": func(n Node, p string) {
			template, ok := r.value(n, p).(map[string]any)
			if !ok {
				r.wrong(n, p, "", "template must be a mapping, not %s", n.Kind)
			}
			part.Template = template
		},
	} {
		known[key] = read
	}
	required := []string{"kind", "artifact"}
	if _, has := n.Get("template"); has || ofMachine(n) {
		required = required[:1]
	}
	r.fields(n, pointer, "a service part", required, known)
	if part.Template != nil {
		r.fromTemplate(n, pointer, part)
	}
	for _, u := range used {
		if _, ok := part.Ports[u.name]; !ok && u.name != "" {
			r.wrong(u.at, u.pointer, didYouMean(u.name, keysOf(part.Ports)), "the part has no port %q", u.name)
		}
	}
}

// metrics reads where an instance exposes its metrics, by a port that it uses.
func (r *reader) metrics(n Node, pointer string, uses func(Node, string) string) *Metrics {
	m := &Metrics{Endpoint: Endpoint{Path: "/metrics"}}
	r.fields(n, pointer, "metrics", []string{"port"}, map[string]func(Node, string){
		"port":     func(n Node, p string) { m.Port = uses(n, p) },
		"path":     func(n Node, p string) { m.Path = r.path(n, p) },
		"requests": func(n Node, p string) { m.Requests = r.text(n, p, "requests") },
		"scheme": func(n Node, p string) {
			if oneOf(r, n, p, "http", "https") == "https" {
				m.Scheme = "https"
			}
		},
		"host":   func(n Node, p string) { m.Host = r.text(n, p, "host") },
		"secret": func(n Node, p string) { m.Secret = r.text(n, p, "secret") },
	})
	if m.Host != "" && m.Scheme == "" {
		r.wrong(n, pointer, "write scheme: https beside it", "host names what stands in a certificate, and without https there is none")
	}
	return m
}

func (r *reader) probe(n Node, pointer string, port func(Node, string) string) Probe {
	probe := defaultProbe
	endpoint := func(path bool) func(Node, string) *Endpoint {
		return func(n Node, p string) *Endpoint {
			e := &Endpoint{}
			known := map[string]func(Node, string){"port": func(n Node, p string) { e.Port = port(n, p) }}
			if path {
				e.Path = "/"
				known["path"] = func(n Node, p string) { e.Path = r.path(n, p) }
			}
			r.fields(n, p, "a probe's endpoint", []string{"port"}, known)
			return e
		}
	}
	ok := r.fields(n, pointer, "a probe", nil, map[string]func(Node, string){
		"http": func(n Node, p string) { probe.HTTP = endpoint(true)(n, p) },
		"tcp":  func(n Node, p string) { probe.TCP = endpoint(false)(n, p) },
		"grpc": func(n Node, p string) {
			probe.GRPC = &Endpoint{}
			r.fields(n, p, "a probe's endpoint", []string{"port"}, map[string]func(Node, string){
				"port": func(n Node, p string) { probe.GRPC.Port = port(n, p) }, "service": func(n Node, p string) { probe.GRPC.Path = r.text(n, p, "service") },
			})
		},
		"command": func(n Node, p string) {
			if probe.Command = r.list(n, p, "command"); len(probe.Command) == 0 {
				r.wrong(n, p, "write command: [gate, check]", "a command must be a list of at least one text")
			}
		},
		"tells": func(n Node, p string) {
			if probe.Tells = oneOf(r, n, p, TellsReady, TellsAlive); probe.Tells == TellsReady {
				probe.Tells = ""
			}
		},
		"every":   func(n Node, p string) { probe.Every = r.span(n, p, time.Second) },
		"timeout": func(n Node, p string) { probe.Timeout = r.span(n, p, time.Millisecond) },
		"passes":  func(n Node, p string) { probe.Passes = r.count(n, p, "passes", 1, 100) },
		"fails":   func(n Node, p string) { probe.Fails = r.count(n, p, "fails", 1, 100) },
		"grace":   func(n Node, p string) { probe.Grace = r.span(n, p, 0) },
	})
	ways := 0
	for _, has := range []bool{probe.HTTP != nil, probe.TCP != nil, probe.GRPC != nil, probe.Command != nil} {
		if has {
			ways++
		}
	}
	if ok && ways != 1 {
		r.wrong(n, pointer, "write one of http:, tcp:, grpc: and command:", "a probe asks in exactly one way")
	}
	return probe
}

func (r *reader) name(n Node, pointer, what string) string {
	if n.Kind != Text || len(n.Text) > maxName || !namePattern.MatchString(n.Text) {
		r.wrong(n, pointer, "write it like fare-engine-2", "the name of %s is made of at most %d lower-case letters, digits and single hyphens, and starts with a letter", what, maxName)
		return ""
	}
	return n.Text
}

// sorted reads names whose order means nothing.
func (r *reader) sorted(n Node, pointer, what, one string) []string {
	names := r.names(n, pointer, what, one)
	slices.Sort(names)
	return names
}

// names reads a list of names, in the order in which they stand.
func (r *reader) names(n Node, pointer, what, one string) []string {
	if n.Kind != List || len(n.Items) == 0 {
		r.wrong(n, pointer, "", "%s must be a list of at least one name, such as [north, south]", what)
		return nil
	}
	var names []string
	for i, item := range n.Items {
		p := pointer + "/" + strconv.Itoa(i)
		if name := r.name(item, p, one); name != "" && slices.Contains(names, name) {
			r.wrong(item, p, "", "%q stands here twice", name)
		} else if name != "" {
			names = append(names, name)
		}
	}
	return names
}

// list reads a list of texts.
func (r *reader) list(n Node, pointer, what string) []string {
	if n.Kind != List {
		r.wrong(n, pointer, "", "%s must be a list of texts, not %s", what, n.Kind)
		return nil
	}
	var texts []string
	for i, item := range n.Items {
		if item.Kind == List || item.Kind == Map || item.Kind == Null {
			r.wrong(item, pointer+"/"+strconv.Itoa(i), "", "%s must be a list of texts, and this is %s", what, item.Kind)
			continue
		}
		texts = append(texts, item.Text)
	}
	return texts
}

// bytes reads an amount such as 10 GiB.
func (r *reader) bytes(n Node, pointer string) int64 {
	value, name, ok := quantity(n.Text)
	unit, known := units[name]
	if !ok || !known || unit.unit != guard.Bytes || value <= 0 || value*unit.factor > 1<<60 {
		r.wrong(n, pointer, "write it like 512 MiB or 10 GiB", "expected an amount of bytes, not %q", n.Text)
		return 0
	}
	return int64(value * unit.factor)
}

func (r *reader) text(n Node, pointer, what string) string {
	if n.Kind != Text || n.Text == "" {
		r.wrong(n, pointer, "", "%s must be text, not %s", what, n.Kind)
		return ""
	}
	return n.Text
}

func (r *reader) path(n Node, pointer string) string {
	path := r.text(n, pointer, "path")
	if path != "" && !strings.HasPrefix(path, "/") {
		r.wrong(n, pointer, "write /"+path, "a path starts with /")
	}
	return path
}

// texts reads a mapping of texts. Numbers and true or false are taken as they were written.
func (r *reader) texts(n Node, pointer, what string, key *regexp.Regexp) map[string]string {
	found := map[string]string{}
	r.entries(n, pointer, what, func(name string, at, value Node, p string) {
		switch {
		case key != nil && !key.MatchString(name):
			r.wrong(at, p, "", "%q is no name of a variable: letters, digits and underscores, not starting with a digit", name)
		case value.Kind == List || value.Kind == Map:
			r.wrong(value, p, "put it in quotation marks to mean text", "a value of %s must be text, not %s", what, value.Kind)
		default:
			found[name] = value.Text
		}
	})
	return found
}

func (r *reader) count(n Node, pointer, what string, least, most int) int {
	number, err := strconv.Atoi(n.Text)
	if n.Kind != Number || err != nil || number < least || number > most {
		r.wrong(n, pointer, "", "%s must be a whole number from %d to %d", what, least, most)
		return least
	}
	return number
}

func (r *reader) span(n Node, pointer string, least time.Duration) Span {
	d, err := time.ParseDuration(n.Text)
	if err != nil || (n.Kind != Text && n.Text != "0") {
		r.wrong(n, pointer, "write it like 90s, 2m or 1h30m", "expected a length of time, not %q", n.Text)
		return Span{max(least, time.Second)}
	}
	if d < least {
		r.wrong(n, pointer, "", "must be at least %s", least)
		return Span{max(least, time.Second)}
	}
	return Span{d}
}

func (r *reader) percent(n Node, pointer string) float64 {
	value, unit, ok := quantity(n.Text)
	if !ok || unit != "%" || value <= 0 || value > 100 {
		r.wrong(n, pointer, "write it like 5 %", "expected a share above 0 %% and up to 100 %%, not %q", n.Text)
		return 0
	}
	return value / 100
}

func keysOf[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }

func words[W ~string](list []W) []string {
	out := make([]string, len(list))
	for i, w := range list {
		out[i] = string(w)
	}
	return out
}

func quoted(list []string) string {
	if len(list) == 0 {
		return "none"
	}
	return strings.Join(list, ", ")
}
