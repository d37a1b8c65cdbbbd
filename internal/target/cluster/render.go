package cluster

import (
	"encoding/base64"
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

// object is an object of the cluster's API, as JSON gives it.
type object = map[string]any

// place is where a part's objects belong.
type place struct {
	site      string
	namespace string
	pull      []string // names of the Secrets with which images are pulled
	workload  string
	cohort    string
	revision  declare.Fingerprint
}

func (p place) labels(part string) object {
	return object{labelWorkload: p.workload, labelPart: part, labelCohort: p.cohort}
}

// shared are the labels of what all cohorts share.
func (p place) shared(part string) object { return object{labelWorkload: p.workload, labelPart: part} }

// made is an object with its marks.
func (p place) made(apiVersion, kind, name string, labels object) object {
	marks := maps.Clone(labels)
	marks[labelManaged] = manager
	return object{"apiVersion": apiVersion, "kind": kind, "metadata": object{"name": name, "namespace": p.namespace, "labels": marks}}
}

// marked is one with the revision too.
func (p place) marked(o object) object {
	o["metadata"].(object)["annotations"] = object{annotationRevision: string(p.revision)}
	return o
}

// service is what runs a service part: a Deployment of fixed size, or a StatefulSet where it keeps state in a volume.
func (p place) service(name string, parts map[string]declare.Part, replicas int) (object, error) {
	part := parts[name]
	pod, err := p.pod(name, parts, "Always")
	if err != nil {
		return nil, err
	}
	spec := object{
		"replicas": int64(replicas),
		"selector": object{"matchLabels": p.labels(name)},
		"template": pod,
	}
	kind := "Deployment"
	if len(part.Volumes) > 0 {
		kind = "StatefulSet"
		spec["serviceName"] = sharedName(p.workload, name)
		spec["podManagementPolicy"] = "Parallel" // how many come and go at once is ours to say
	} else {
		spec["revisionHistoryLimit"] = int64(1)
		spec["strategy"] = object{"type": "RollingUpdate", "rollingUpdate": object{"maxSurge": int64(1), "maxUnavailable": int64(0)}} // where what was changed by hand is put back
	}
	o := p.marked(p.made("apps/v1", kind, cohortName(p.workload, name, p.cohort), p.labels(name)))
	o["spec"] = spec
	return o, nil
}

// task is a Job that runs a task part once.
func (p place) task(name string, parts map[string]declare.Part) (object, error) {
	pod, err := p.pod(name, parts, "Never")
	if err != nil {
		return nil, err
	}
	o := p.marked(p.made("batch/v1", "Job", cohortName(p.workload, name, p.cohort), p.labels(name)))
	o["spec"] = object{"backoffLimit": int64(0), "template": pod}
	return o, nil
}

// settings are a ConfigMap that nobody can change.
func (p place) settings(name string, part declare.Part) object {
	data := object{}
	for key, value := range part.Values {
		data[key] = value
	}
	o := p.marked(p.made("v1", "ConfigMap", cohortName(p.workload, name, p.cohort), p.labels(name)))
	o["immutable"], o["data"] = true, data
	return o
}

// secret is a Secret that nobody can change.
func (p place) secret(name string, opened map[string]string) object {
	data := object{}
	for key, value := range opened {
		data[key] = base64.StdEncoding.EncodeToString([]byte(value))
	}
	o := p.marked(p.made("v1", "Secret", cohortName(p.workload, name, p.cohort), p.labels(name)))
	o["immutable"], o["type"], o["data"] = true, "Opaque", data
	return o
}

// volume is a PersistentVolumeClaim of the workload at the site, whatever its revision.
func (p place) volume(name string, part declare.Part) object {
	o := p.made("v1", "PersistentVolumeClaim", sharedName(p.workload, name), p.shared(name))
	o["spec"] = object{"accessModes": []any{"ReadWriteOnce"}, "resources": object{"requests": object{"storage": quantity(part.Size)}}}
	return o
}

// balancer is a Service: over one cohort of a part, or over all where cohort is empty.
func (p place) balancer(name, cohort string, ports map[string]int) object {
	labels, at := p.shared(name), sharedName(p.workload, name)
	if cohort != "" {
		labels, at = p.labels(name), cohortName(p.workload, name, cohort)
		labels[labelCohort] = cohort
	}
	o := p.made("v1", "Service", at, labels)
	var list []any
	for _, port := range slices.Sorted(maps.Keys(ports)) {
		list = append(list, object{"name": portName(port), "port": int64(ports[port]), "targetPort": int64(ports[port]), "protocol": "TCP"})
	}
	o["spec"] = object{"selector": maps.Clone(labels), "ports": list}
	return o
}

// longestPort is how long the name of a port may be.
const longestPort = 15

func portName(name string) string {
	name = strings.Trim(strings.Map(func(c rune) rune {
		if c >= 'a' && c <= 'z' || c >= '0' && c <= '9' || c == '-' {
			return c
		}
		return '-'
	}, strings.ToLower(name)), "-")
	if len(name) > longestPort || name == "" {
		return "p-" + hash(name)
	}
	return name
}

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
				return nil, fmt.Errorf("the key %q of %s cannot stand in a cluster: name it with letters, digits, -, _ and .", key, other)
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
	env = slices.DeleteFunc(env, func(one any) bool { _, own := part.Environment[one.(object)["name"].(string)]; return own })
	env = unique(env, given)
	for _, own := range slices.Sorted(maps.Keys(part.Environment)) {
		variable(own, value(part.Environment[own]))
	}
	container := object{"name": containerName, "image": part.Artifact, "env": env}
	put := func(in object, key string, list []any) {
		if len(list) > 0 {
			in[key] = list
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
	if len(lifecycle) > 0 {
		container["lifecycle"] = lifecycle
	}
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
	spec := object{
		"automountServiceAccountToken":  false,
		"containers":                    []any{container},
		"enableServiceLinks":            false,
		"restartPolicy":                 restart,
		"securityContext":               all,
		"terminationGracePeriodSeconds": seconds(ends.Drain.Duration) + seconds(ends.Within.Duration),
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
	if part.Kind == declare.Service {
		spec["topologySpreadConstraints"] = []any{object{
			"maxSkew": int64(1), "topologyKey": "kubernetes.io/hostname", "whenUnsatisfiable": "ScheduleAnyway", "labelSelector": object{"matchLabels": p.labels(name)},
		}}
	}
	return object{"metadata": object{"labels": p.labels(name)}, "spec": spec}, nil
}

// quickDrain is how long an instance has for its traffic where nothing is declared: long enough for its address to be
// taken out everywhere.
const quickDrain = 5 * time.Second

// containerName is what a part's container is called in its pods.
const containerName = "main"

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

// route is an HTTPRoute that leads a host's traffic to backends by weights, under a path of theirs.
func (p place) route(part, name string, hosts []string, gateway gateway, path string, backends []backend) object {
	o := p.made(gatewayGroup+"/v1", "HTTPRoute", name, p.shared(part))
	var refs []any
	for _, b := range backends {
		refs = append(refs, object{"group": "", "kind": "Service", "name": b.service, "port": int64(b.port), "weight": int64(b.weight)})
	}
	parent := object{"group": gatewayGroup, "kind": "Gateway", "namespace": gateway.namespace, "name": gateway.name}
	if gateway.section != "" {
		parent["sectionName"] = gateway.section
	}
	rule := object{"matches": []any{object{"path": object{"type": "PathPrefix", "value": "/"}}}, "backendRefs": refs}
	if path != "" && path != "/" {
		rule["filters"] = []any{object{"type": "URLRewrite", "urlRewrite": object{"path": object{"type": "ReplacePrefixMatch", "replacePrefixMatch": path}}}}
	}
	spec := object{"parentRefs": []any{parent}, "rules": []any{rule}}
	if len(hosts) > 0 {
		var names []any
		for _, host := range hosts {
			names = append(names, host)
		}
		spec["hostnames"] = names
	}
	o["spec"] = spec
	return o
}

// backend is what a route leads to, and with which weight.
type backend struct {
	service string
	port    int
	weight  int
}

// wholeWeight is the sum of a route's weights.
const wholeWeight = 1000
