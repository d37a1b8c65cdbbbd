package cluster

import (
	"encoding/base64"
	"maps"
	"regexp"
	"slices"

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
	as := runsAs(part)
	if as == statefulSets {
		spec["serviceName"] = sharedName(p.workload, name)
		spec["podManagementPolicy"] = "Parallel" // how many come and go at once is ours to say
	} else {
		spec["revisionHistoryLimit"] = int64(1)
	}
	o := p.marked(p.made("apps/v1", as.kind, cohortName(p.workload, name, p.cohort), p.labels(name)))
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

// balancer is a Service over a part: over one cohort of it, or over all where cohort is empty, which takes the connections of
// TCP routes too.
func (p place) balancer(name, cohort string, parts map[string]declare.Part) object {
	labels, at := p.shared(name), sharedName(p.workload, name)
	if cohort != "" {
		labels, at = p.labels(name), cohortName(p.workload, name, cohort)
		labels[labelCohort] = cohort
	}
	var list []any
	add := func(name string, port, to int) object {
		one := object{"name": portName(name), "port": int64(port), "targetPort": int64(to), "protocol": "TCP"}
		list = append(list, one)
		return one
	}
	ports := parts[name].Ports
	for _, port := range slices.Sorted(maps.Keys(ports)) {
		one := add(port, ports[port], ports[port])
		for _, to := range parts {
			if to.Kind == declare.Route && to.GRPC && to.Service == name && to.To.Port == port {
				one["appProtocol"] = "kubernetes.io/h2c" // HTTP/2 without TLS, as calls of gRPC need it
			}
		}
	}
	for _, route := range slices.Sorted(maps.Keys(parts)) {
		if to := parts[route]; cohort == "" && to.Kind == declare.Route && to.TCP != 0 && to.Service == name {
			add("tcp-"+route, to.TCP, ports[to.To.Port])
		}
	}
	o := p.made("v1", "Service", at, labels)
	o["spec"] = object{"selector": maps.Clone(labels), "ports": list}
	return o
}

// longestPort is how long the name of a port may be.
const longestPort = 15

// portName is a port's name as the cluster takes it. One that cannot stand there stays its own by what it was.
func portName(name string) string {
	if len(name) > longestPort || !portPattern.MatchString(name) {
		return "p-" + hash(name)
	}
	return name
}

// portPattern is the grammar of a service's name in RFC 6335, but for the letter that it must have: names start with one.
var portPattern = regexp.MustCompile(`^[a-z][a-z0-9]*(-[a-z0-9]+)*$`)
