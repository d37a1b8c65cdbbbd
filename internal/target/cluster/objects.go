package cluster

import (
	"maps"
	"slices"

	"aditus/internal/config"
	"aditus/internal/core/declare"
)

// objects are those that a revision would have at a site, with the values of secrets left out: what a first sync makes,
// and its routes once it has all of the traffic.
func objects(site config.Site, desired declare.Desired) (made []map[string]any, err error) {
	at := place{site: site.Name, namespace: site.Target.Namespace, pull: site.Target.Pull, workload: desired.Workload, revision: desired.Fingerprint()}
	at.cohort = free(at.revision, nil)
	gateway, err := gatewayOf(site.Target.Gateway)
	if err != nil {
		return nil, err
	}
	add := func(o object, err error) error {
		if err == nil {
			made = append(made, o)
		}
		return err
	}
	for _, wave := range [][]declare.Kind{{declare.Volume, declare.Settings, declare.Secret}, {declare.Objects}, {declare.Task, declare.Service}, {declare.Route}} {
		for _, name := range slices.Sorted(maps.Keys(desired.Parts)) {
			part := desired.Parts[name]
			if !slices.Contains(wave, part.Kind) {
				continue
			}
			switch part.Kind {
			case declare.Volume:
				err = add(at.volume(name, part), nil)
			case declare.Settings:
				err = add(at.settings(name, part), nil)
			case declare.Secret:
				hidden := at.secret(name, nil)
				delete(hidden, "data")
				err = add(hidden, nil)
			case declare.Task:
				err = add(at.task(name, desired.Parts))
			case declare.Service:
				if err = add(at.service(name, desired.Parts, part.Instances)); err == nil && len(part.Ports) > 0 {
					err = add(at.balancer(name, "", desired.Parts), nil)
					if routed(desired.Parts, name) {
						err = add(at.balancer(name, at.cohort, desired.Parts), nil)
					}
				}
			case declare.Objects:
				for _, wave := range part.ObjectWaves() {
					for _, id := range wave {
						one := marked(workloadPart{desired.Workload, name}, part.Objects[id])
						delete(one, "stringData")
						made = append(made, one)
					}
				}
			case declare.Route:
				if part.TCP == 0 {
					to := desired.Parts[part.Service]
					err = add(at.route(leading{part: name, name: routeName(desired.Workload, name, ""), host: part.Host, of: part,
						to: []backend{{cohortName(desired.Workload, part.Service, at.cohort), to.Ports[part.To.Port], wholeWeight}}}, gateway), nil)
				}
			}
			if err != nil {
				return nil, err
			}
		}
	}
	return made, nil
}

// routed tells whether routes of HTTP traffic lead to a part.
func routed(parts map[string]declare.Part, service string) bool {
	for _, part := range parts {
		if part.Kind == declare.Route && part.TCP == 0 && part.Service == service {
			return true
		}
	}
	return false
}
