package cluster

import (
	"errors"
	"fmt"
	"maps"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"aditus/internal/core/declare"
)

// Where a pod finds its settings, secrets and their like.
const (
	settingsFolder = "/run/aditus/settings"
	secretsFolder  = "/run/aditus/secrets"
)

// keyPattern is the grammar of a key of a ConfigMap or Secret, longestKey its length.
var keyPattern = regexp.MustCompile(`^[-._a-zA-Z0-9]+$`)

const longestKey = 253

// pod is the template of a part's pods.
func (p place) pod(name string, parts map[string]declare.Part, restart string) (object, error) {
	if err := impossible(parts[name]); err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	part := parts[name]
	env, mounts, volumes := []any{}, []any{}, []any{}
	variable := func(name string, of object) {
		entry := object{"name": name}
		maps.Copy(entry, of)
		env = append(env, entry)
	}
	value := func(text string) object { return object{"value": escape(text)} }
	variable("INSTANCE", object{"valueFrom": object{"fieldRef": object{"fieldPath": "metadata.name"}}})
	for _, port := range slices.Sorted(maps.Keys(part.Ports)) {
		variable("PORT_"+declare.EnvironmentName(port), value(strconv.Itoa(part.Ports[port])))
		if len(part.Ports) == 1 {
			variable("PORT", value(strconv.Itoa(part.Ports[port])))
		}
	}
	variable("SECRETS", value(secretsFolder))
	variable("SETTINGS", value(settingsFolder))
	variable("SITE", value(p.site))
	variable("WORKLOAD", value(p.workload))
	given := len(env)
	for _, other := range slices.Sorted(maps.Keys(parts)) {
		source, reference, folder, keys := object(nil), "", "", []string(nil)
		from := cohortName(p.workload, other, p.cohort)
		switch parts[other].Kind {
		case declare.Settings:
			source, reference, folder, keys = object{"configMap": object{"name": from}}, "configMapKeyRef", settingsFolder, slices.Sorted(maps.Keys(parts[other].Values))
		case declare.Secret:
			source, reference, folder, keys = object{"secret": object{"secretName": from}}, "secretKeyRef", secretsFolder, slices.Sorted(maps.Keys(parts[other].Sealed))
		default:
			continue
		}
		volume := object{"name": volumeName(string(parts[other].Kind), other)}
		maps.Copy(volume, source)
		volumes = append(volumes, volume)
		mounts = append(mounts, object{"name": volume["name"], "mountPath": folder + "/" + other, "readOnly": true})
		for _, key := range keys {
			if !keyPattern.MatchString(key) || len(key) > longestKey {
				return nil, fmt.Errorf("the key %q of %s cannot stand in a cluster: name it with letters, digits, dots, hyphens and underscores", key, other)
			}
			variable(declare.EnvironmentName(key), object{"valueFrom": object{reference: object{"name": from, "key": key}}})
		}
	}
	for _, volume := range slices.Sorted(maps.Keys(part.Volumes)) {
		at := part.Volumes[volume]
		if !strings.HasPrefix(at, "/") {
			at = "/" + at
		}
		as := volumeName("volume", volume)
		volumes = append(volumes, object{"name": as, "persistentVolumeClaim": object{"claimName": sharedName(p.workload, volume)}})
		mounts = append(mounts, object{"name": as, "mountPath": at})
		variable("VOLUME_"+declare.EnvironmentName(volume), value(at))
	}
	template, main := templateOf(part)
	if own, _ := main["env"].([]any); len(own) > 0 {
		env = append(env, own...)
	}
	env = slices.DeleteFunc(env, func(one any) bool { _, own := part.Environment[one.(object)["name"].(string)]; return own })
	env = unique(env, given)
	for _, own := range slices.Sorted(maps.Keys(part.Environment)) {
		variable(own, value(part.Environment[own]))
	}
	container := main
	container["name"], container["image"], container["env"] = containerName, part.Artifact, env
	put := func(in object, key string, list []any) {
		if before, _ := in[key].([]any); len(list) > 0 {
			in[key] = append(slices.Clip(before), list...)
		}
	}
	put(container, "volumeMounts", mounts)
	if len(part.Command) > 0 {
		var command []any
		for _, word := range part.Command {
			command = append(command, expand(word))
		}
		container["command"] = command
	}
	var ports []any
	for _, port := range slices.Sorted(maps.Keys(part.Ports)) {
		ports = append(ports, object{"name": portName(port), "containerPort": int64(part.Ports[port]), "protocol": "TCP"})
	}
	put(container, "ports", ports)
	probes(container, part)
	resources(container, part.Resources)
	ends := part.Ending()
	if part.Stop == nil {
		ends.Drain.Duration = quickDrain
	}
	lifecycle := object{}
	if drain := seconds(ends.Drain.Duration); drain > 0 && part.Kind == declare.Service {
		lifecycle["preStop"] = object{"sleep": object{"seconds": drain}}
	}
	if ends.Signal != declare.DefaultStop.Signal {
		lifecycle["stopSignal"] = "SIG" + ends.Signal
	}
	if len(lifecycle) > 0 && (part.Stop != nil || container["lifecycle"] == nil) {
		container["lifecycle"] = lifecycle
	}
	spec := template["spec"].(object)
	if part.Template == nil {
		p.restrict(spec, container, part)
	} else if part.User != nil {
		wanted, _ := spec["securityContext"].(object)
		wanted = maps.Clone(wanted)
		if wanted == nil {
			wanted = object{}
		}
		wanted["runAsUser"] = int64(*part.User)
		spec["securityContext"] = wanted
	}
	containers, _ := spec["containers"].([]any)
	spec["containers"] = append([]any{container}, slices.DeleteFunc(slices.Clone(containers), func(c any) bool { of, _ := c.(object); return of["name"] == containerName })...)
	spec["restartPolicy"] = restart
	if _, said := spec["terminationGracePeriodSeconds"]; !said || part.Stop != nil {
		spec["terminationGracePeriodSeconds"] = seconds(ends.Drain.Duration) + seconds(ends.Within.Duration)
	}
	if ends.Signal != declare.DefaultStop.Signal {
		spec["os"] = object{"name": "linux"} // which a signal of one's own needs
	}
	put(spec, "volumes", volumes)
	var secrets []any
	for _, name := range p.pull {
		secrets = append(secrets, object{"name": name})
	}
	put(spec, "imagePullSecrets", secrets)
	if part.Kind == declare.Service && spec["topologySpreadConstraints"] == nil {
		spec["topologySpreadConstraints"] = []any{object{
			"maxSkew": int64(1), "topologyKey": "kubernetes.io/hostname", "whenUnsatisfiable": "ScheduleAnyway", "labelSelector": object{"matchLabels": p.labels(name)},
		}}
	}
	metadata, _ := template["metadata"].(object)
	labels, _ := metadata["labels"].(object)
	made := object{"labels": maps.Clone(p.labels(name))}
	for key, value := range labels {
		if made["labels"].(object)[key] == nil {
			made["labels"].(object)[key] = value
		}
	}
	if annotations, _ := metadata["annotations"].(object); len(annotations) > 0 {
		made["annotations"] = annotations
	}
	return object{"metadata": made, "spec": spec}, nil
}

// impossible tells what a part asks for that only a site of processes on one machine can give.
func impossible(part declare.Part) error {
	switch {
	case len(part.Files) > 0:
		return errors.New("files are not laid in a cluster: put them into settings, which come as files under SETTINGS")
	case len(part.References()) > 0:
		return errors.New("${part.host} and ${part.port} are not filled in in a cluster: name the service of its own there")
	case part.Folder != "" || part.Umask != "" || part.Fixed:
		return errors.New("folder, umask and fixed-ports are for local sites: a container has them of its image, and ports of its own")
	case part.Artifact == "" && part.Template == nil:
		return errors.New("it has no artifact, and a cluster has no programs of its own to run")
	}
	return nil
}

// templateOf is what a part's pods come from beside what is declared, and its main container in it: empty ones where that is all.
func templateOf(part declare.Part) (template, main object) {
	template, main = object{"spec": object{}}, object{}
	if part.Template == nil {
		return template, main
	}
	own := whole(part.Template).(object)
	spec, _ := own["spec"].(object)
	containers, _ := spec["containers"].([]any)
	for _, c := range containers {
		if of, _ := c.(object); of["name"] == containerName {
			main = of
		}
	}
	if spec == nil {
		own["spec"] = object{}
	}
	return own, main
}

// whole is a copy in which numbers that are whole are so, as the API server keeps them.
func whole(v any) any {
	switch of := v.(type) {
	case object:
		made := make(object, len(of))
		for key, value := range of {
			made[key] = whole(value)
		}
		return made
	case []any:
		made := make([]any, len(of))
		for i, value := range of {
			made[i] = whole(value)
		}
		return made
	case float64:
		if of == math.Trunc(of) && math.Abs(of) < 1<<53 {
			return int64(of)
		}
	}
	return v
}

// restrict gives a pod no more rights than what runs in it needs, where it does not come from a template that says so itself.
func (p place) restrict(spec, container object, part declare.Part) {
	all := object{"seccompProfile": object{"type": "RuntimeDefault"}}
	own := object{}
	if part.User == nil || *part.User != 0 { // who asks for root gets what an image of root's needs
		all["runAsNonRoot"] = true
		own["allowPrivilegeEscalation"], own["capabilities"] = false, object{"drop": []any{"ALL"}}
		container["securityContext"] = own
	}
	if part.User != nil {
		all["runAsUser"] = int64(*part.User)
		if *part.User != 0 {
			all["fsGroup"] = int64(*part.User) // so that it can write into its volumes
		}
	}
	spec["automountServiceAccountToken"], spec["enableServiceLinks"], spec["securityContext"] = false, false, all
}

// quickDrain is how long an instance has for its traffic where nothing is declared: long enough for its address to be
// taken out everywhere.
const quickDrain = 5 * time.Second

// containerName is what a part's container is called in its pods.
const containerName = declare.MainContainer

// unique drops what stands before in favour of what stands after under the same name, but for the first few, which stay.
func unique(env []any, given int) []any {
	last, kept := map[string]int{}, env[:0:0]
	for i, entry := range env {
		name := entry.(object)["name"].(string)
		if before, ok := last[name]; !ok || before >= given {
			last[name] = i
		}
	}
	for i, entry := range env {
		if last[entry.(object)["name"].(string)] == i {
			kept = append(kept, entry)
		}
	}
	return kept
}

func volumeName(kind, name string) string { return join(kind, name) }

// probes gives a container the probes that the cluster can ask by itself.
func probes(container object, part declare.Part) {
	ready, alive := asks(part)
	if ready != "" {
		one := part.Probes[ready]
		asked := handler(one, part)
		asked["periodSeconds"], asked["timeoutSeconds"] = max(1, seconds(one.Every.Duration)), max(1, seconds(one.Timeout.Duration))
		asked["successThreshold"], asked["failureThreshold"] = int64(one.Passes), int64(one.Fails)
		container["readinessProbe"] = asked
	}
	if alive != "" {
		one := part.Probes[alive]
		every := max(1, seconds(one.Every.Duration))
		asked := handler(one, part)
		asked["periodSeconds"], asked["timeoutSeconds"], asked["failureThreshold"] = every, max(1, seconds(one.Timeout.Duration)), int64(one.Fails)
		container["livenessProbe"] = asked
		if grace := seconds(one.Grace.Duration); grace > 0 {
			first := maps.Clone(asked)
			first["failureThreshold"] = max(1, (grace+every-1)/every)
			container["startupProbe"] = first
		}
	}
}

// asks names the probes that the cluster asks by itself: one of each, the first by name.
func asks(part declare.Part) (ready, alive string) {
	for _, name := range slices.Backward(slices.Sorted(maps.Keys(part.Probes))) {
		if part.Probes[name].Tells == declare.TellsAlive {
			alive = name
		} else {
			ready = name
		}
	}
	return ready, alive
}

func handler(probe declare.Probe, part declare.Part) object {
	switch {
	case probe.HTTP != nil:
		return object{"httpGet": object{"path": probe.HTTP.Path, "port": int64(part.Ports[probe.HTTP.Port]), "scheme": "HTTP"}}
	case probe.GRPC != nil:
		return object{"grpc": object{"port": int64(part.Ports[probe.GRPC.Port]), "service": probe.GRPC.Path}}
	case probe.TCP != nil:
		return object{"tcpSocket": object{"port": int64(part.Ports[probe.TCP.Port])}}
	}
	var command []any
	for _, word := range probe.Command {
		command = append(command, expand(word))
	}
	return object{"exec": object{"command": command}}
}

func resources(container object, r *declare.Resources) {
	if r == nil {
		return
	}
	all := object{}
	for key, amounts := range map[string]declare.Amounts{"requests": r.Requests, "limits": r.Limits} {
		one := object{}
		if amounts.CPU > 0 {
			one["cpu"] = processors(amounts.CPU)
		}
		if amounts.Memory > 0 {
			one["memory"] = quantity(amounts.Memory)
		}
		if len(one) > 0 {
			all[key] = one
		}
	}
	if len(all) > 0 {
		container["resources"] = all
	}
}

// processors and quantity write amounts as the API server keeps them.
func processors(cpu float64) string {
	if milli := int64(math.Round(cpu * 1000)); milli%1000 != 0 {
		return strconv.FormatInt(milli, 10) + "m"
	}
	return strconv.FormatInt(int64(math.Round(cpu)), 10)
}

func quantity(size int64) string {
	for _, unit := range []struct {
		name string
		by   int64
	}{{"Ei", 1 << 60}, {"Pi", 1 << 50}, {"Ti", 1 << 40}, {"Gi", 1 << 30}, {"Mi", 1 << 20}, {"Ki", 1 << 10}} {
		if size >= unit.by && size%unit.by == 0 {
			return strconv.FormatInt(size/unit.by, 10) + unit.name
		}
	}
	for _, unit := range []struct {
		name string
		by   int64
	}{{"G", 1e9}, {"M", 1e6}, {"k", 1e3}} {
		if size >= unit.by && size%unit.by == 0 {
			return strconv.FormatInt(size/unit.by, 10) + unit.name
		}
	}
	return strconv.FormatInt(size, 10)
}

// seconds rounds up.
func seconds(d time.Duration) int64 { return int64((d + time.Second - 1) / time.Second) }

// escape writes a text so that the cluster expands nothing in it.
func escape(text string) string { return strings.ReplaceAll(text, "$(", "$$(") }

var variableIn = regexp.MustCompile(`\$\$|\$\{[A-Za-z_][A-Za-z0-9_]*\}|\$[A-Za-z_][A-Za-z0-9_]*|\$\(`)

// expand writes a word of a command with its variables, $NAME or ${NAME}, as the cluster expands them; $$ is a plain $.
func expand(word string) string {
	return variableIn.ReplaceAllStringFunc(word, func(found string) string {
		switch name := strings.Trim(found, "${}"); {
		case found == "$$":
			return "$"
		case found == "$(":
			return "$$("
		default:
			return "$(" + name + ")"
		}
	})
}

// leading is a route that is to be: of a part, under a name, for a host (any where there is none), to what.
type leading struct {
	part, name, host string
	of               declare.Part
	to               []backend
	keeps            bool // the cluster's routes have session persistence
	preview          bool // for requests alone that are for a set that is tried
}

// route leads requests, or calls of gRPC, by weights.
func (p place) route(l leading, at gateway) object {
	o := p.made(gatewayGroup+"/v1", routeKind(l.of).kind, l.name, p.shared(l.part))
	var refs []any
	for _, b := range l.to {
		refs = append(refs, object{"group": "", "kind": "Service", "name": b.service, "port": int64(b.port), "weight": int64(b.weight)})
	}
	parent := object{"group": gatewayGroup, "kind": "Gateway", "namespace": at.namespace, "name": at.name}
	if at.section != "" {
		parent["sectionName"] = at.section
	}
	rule, match := object{"backendRefs": refs}, object{}
	if !l.of.GRPC {
		match["path"] = object{"type": "PathPrefix", "value": "/"}
		if path := l.of.To.Path; path != "" && path != "/" {
			rule["filters"] = []any{object{"type": "URLRewrite", "urlRewrite": object{"path": object{"type": "ReplacePrefixMatch", "replacePrefixMatch": path}}}}
		}
	}
	if by := l.of.PreviewBy; l.preview && by != nil {
		match["headers"] = []any{object{"type": "Exact", "name": by.Name, "value": by.Value}}
	}
	if len(match) > 0 {
		rule["matches"] = []any{match}
	}
	if keep := l.of.Sticky; keep != nil && keep.Cookie != "" && l.keeps && !l.preview {
		rule["sessionPersistence"] = object{"type": "Cookie", "sessionName": keep.Cookie}
	}
	spec := object{"parentRefs": []any{parent}, "rules": []any{rule}}
	if l.host != "" {
		spec["hostnames"] = []any{l.host}
	}
	o["spec"] = spec
	return o
}

// routeKind is the kind of route that leads to a part.
func routeKind(part declare.Part) kind {
	if part.GRPC {
		return grpcRoutes
	}
	return routes
}

// backend is what a route leads to, and with which weight.
type backend struct {
	service string
	port    int
	weight  int
}

// wholeWeight is the sum of a route's weights.
const wholeWeight = 1000
