package compare

import (
	"encoding/json"
	"fmt"
	"reflect"
	"slices"

	"aditus/internal/core/declare"
)

// tree is a desired state as JSON would give it. Parts are built by hand, as there may be thousands of them and going
// through JSON text takes ten times as long; a test holds both ways against each other.
func tree(desired *declare.Desired) any {
	if desired == nil {
		return nil
	}
	rest := *desired
	rest.Parts = nil
	whole, _ := viaJSON(rest).(map[string]any)
	parts := make(map[string]any, len(desired.Parts))
	for name, part := range desired.Parts {
		parts[name] = partTree(part)
	}
	whole["parts"] = parts
	return whole
}

func viaJSON(value any) any {
	text, err := json.Marshal(value)
	if err != nil {
		panic(fmt.Sprintf("a desired state must marshal: %v", err))
	}
	var tree any
	if err := json.Unmarshal(text, &tree); err != nil {
		panic(fmt.Sprintf("marshalled JSON must parse: %v", err))
	}
	return tree
}

func partTree(p declare.Part) map[string]any {
	tree := Show(p)
	put := func(key string, m map[string]any) {
		if len(m) > 0 {
			tree[key] = m
		}
	}
	if len(p.Needs) > 0 {
		tree["needs"] = list(p.Needs)
	}
	put("sealed", texts(p.Sealed))
	ports := make(map[string]any, len(p.Ports))
	for name, port := range p.Ports {
		ports[name] = float64(port)
	}
	put("ports", ports)
	probes := make(map[string]any, len(p.Probes))
	for name, probe := range p.Probes {
		probes[name] = probeTree(probe)
	}
	put("probes", probes)
	if p.Metrics != nil {
		metrics := endpointTree(&p.Metrics.Endpoint)
		if p.Metrics.Requests != "" {
			metrics["requests"] = p.Metrics.Requests
		}
		for key, value := range map[string]string{"scheme": p.Metrics.Scheme, "host": p.Metrics.Host, "secret": p.Metrics.Secret} {
			if value != "" {
				metrics[key] = value
			}
		}
		tree["metrics"] = metrics
	}
	if p.Stop != nil {
		tree["stop"] = viaJSON(p.Stop)
	}
	if p.NotUndoable {
		tree["not-undoable"] = true
	}
	if len(p.Rules) > 0 {
		tree["rules"] = viaJSON(p.Rules)
	}
	if p.Template != nil {
		tree["template"] = p.Template
	}
	return tree
}

// Show gives the Observed fields of a part, as a site that has it would.
func Show(p declare.Part) map[string]any {
	tree := make(map[string]any, 8)
	tree["kind"], tree["instances"] = string(p.Kind), float64(p.Instances)
	for _, text := range [...]struct{ key, value string }{{"artifact", p.Artifact}, {"service", p.Service}, {"host", p.Host}, {"preview", p.Preview}, {"folder", p.Folder}, {"umask", p.Umask}} {
		if text.value != "" {
			tree[text.key] = text.value
		}
	}
	for _, m := range [...]struct {
		key   string
		value map[string]string
	}{{"environment", p.Environment}, {"values", p.Values}, {"volumes", p.Volumes}} {
		if len(m.value) > 0 {
			tree[m.key] = texts(m.value)
		}
	}
	if len(p.Command) > 0 {
		tree["command"] = list(p.Command)
	}
	if p.To != nil {
		tree["to"] = endpointTree(p.To)
	}
	if p.Size != 0 {
		tree["size"] = float64(p.Size)
	}
	if p.TCP != 0 {
		tree["tcp"] = float64(p.TCP)
	}
	if p.PreviewBy != nil {
		tree["preview-by"] = viaJSON(p.PreviewBy)
	}
	if p.GRPC {
		tree["grpc"] = true
	}
	if p.Sticky != nil {
		tree["sticky"] = viaJSON(p.Sticky)
	}
	if len(p.Files) > 0 {
		tree["files"] = viaJSON(p.Files)
	}
	if p.Fixed {
		tree["fixed-ports"] = true
	}
	if p.Resources != nil {
		tree["resources"] = viaJSON(p.Resources)
	}
	if p.User != nil {
		tree["user"] = float64(*p.User)
	}
	if len(p.Objects) > 0 {
		objects := make(map[string]any, len(p.Objects))
		for id, o := range p.Objects {
			objects[id] = o
		}
		tree["objects"] = objects
	}
	return tree
}

func list(values []string) []any {
	items := make([]any, len(values))
	for i, value := range values {
		items[i] = value
	}
	return items
}

func texts(m map[string]string) map[string]any {
	tree := make(map[string]any, len(m))
	for key, value := range m {
		tree[key] = value
	}
	return tree
}

func probeTree(p declare.Probe) map[string]any {
	tree := map[string]any{"passes": float64(p.Passes), "fails": float64(p.Fails), "every": spanText(p.Every), "timeout": spanText(p.Timeout), "grace": spanText(p.Grace)}
	if p.HTTP != nil {
		tree["http"] = endpointTree(p.HTTP)
	}
	if p.TCP != nil {
		tree["tcp"] = endpointTree(p.TCP)
	}
	if p.GRPC != nil {
		tree["grpc"] = endpointTree(p.GRPC)
	}
	if len(p.Command) > 0 {
		tree["command"] = list(p.Command)
	}
	if p.Tells != "" {
		tree["tells"] = string(p.Tells)
	}
	return tree
}

func spanText(s declare.Span) string {
	text, _ := s.MarshalText() // it never fails
	return string(text)
}

func endpointTree(e *declare.Endpoint) map[string]any {
	tree := map[string]any{"port": e.Port}
	if e.Path != "" {
		tree["path"] = e.Path
	}
	return tree
}

// differing gives the three states without the parts in which they agree: most of a large workload, and not worth a
// tree.
func differing(applied, declared *declare.Desired, live Live) (a, d *declare.Desired, l Live) {
	if applied == nil || declared == nil || live == nil {
		return applied, declared, live
	}
	one, two := *applied, *declared
	one.Parts, two.Parts, l = make(map[string]declare.Part), make(map[string]declare.Part), Live{}
	known, there := 0, 0 // parts of applied that are declared, and live
	for name, p := range applied.Parts {
		q, isDeclared := declared.Parts[name]
		fields, isLive := live[name]
		if isDeclared {
			known++
		}
		if isLive {
			there++
		}
		if isDeclared && isLive && samePart(p, q) && shows(fields, p) {
			continue
		}
		one.Parts[name] = p
		if isDeclared {
			two.Parts[name] = q
		}
		if isLive {
			l[name] = fields
		}
	}
	if known < len(declared.Parts) {
		for name, p := range declared.Parts {
			if !contains(applied.Parts, name) {
				two.Parts[name] = p
			}
		}
	}
	if there < len(live) {
		for name, fields := range live {
			if !contains(applied.Parts, name) {
				l[name] = fields
			}
		}
	}
	return &one, &two, l
}

// samePart tells whether two parts are declared alike.
func samePart(p, q declare.Part) bool {
	p.Opened, q.Opened = nil, nil
	return reflect.DeepEqual(p, q)
}

func contains(parts map[string]declare.Part, name string) bool {
	_, ok := parts[name]
	return ok
}

// shows tells whether what is live is exactly what a part declares, as far as a site can show it.
func shows(live any, p declare.Part) bool {
	fields, ok := live.(map[string]any)
	if !ok || fields["kind"] != string(p.Kind) || fields["instances"] != float64(p.Instances) {
		return false
	}
	if len(p.Command)+len(p.Volumes) > 0 || p.To != nil || p.Service != "" || p.Host != "" || p.Preview != "" || p.PreviewBy != nil || p.Size != 0 || len(p.Files) > 0 || p.Folder != "" || p.Umask != "" || p.Fixed {
		return equal(fields, Show(p)) // rarer fields are worth a tree
	}
	count := 2
	if p.Artifact != "" {
		if fields["artifact"] != p.Artifact {
			return false
		}
		count++
	}
	for _, texts := range [...]struct {
		key  string
		want map[string]string
	}{{"environment", p.Environment}, {"values", p.Values}} {
		if len(texts.want) == 0 {
			continue
		}
		have, ok := fields[texts.key].(map[string]any)
		if !ok || len(have) != len(texts.want) {
			return false
		}
		for name, value := range texts.want {
			if have[name] != value {
				return false
			}
		}
		count++
	}
	return len(fields) == count
}

// LiveOf gives what a site would show that has exactly what is declared.
func LiveOf(desired *declare.Desired) Live {
	live := make(Live, len(desired.Parts))
	for name, part := range desired.Parts {
		live[name] = Show(part)
	}
	return live
}

// equal tells whether two trees are the same, faster than by reflection.
func equal(a, b any) bool {
	switch x := a.(type) {
	case map[string]any:
		y, ok := b.(map[string]any)
		if !ok || len(x) != len(y) {
			return false
		}
		if reflect.ValueOf(x).UnsafePointer() == reflect.ValueOf(y).UnsafePointer() {
			return true
		}
		for key, value := range x {
			other, there := y[key]
			if !there || !equal(value, other) {
				return false
			}
		}
		return true
	case []any:
		y, ok := b.([]any)
		return ok && slices.EqualFunc(x, y, equal)
	}
	switch b.(type) {
	case map[string]any, []any:
		return false
	}
	return a == b
}
