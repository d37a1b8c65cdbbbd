package cluster

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"

	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"

	"aditus/internal/core/declare"
	"aditus/internal/target"
)

// Traffic comes in by routes of Gateway API, which split it by weights among the Services of the cohorts; where the cluster
// has none, and for connections, by one Service over all cohorts, so that the numbers of instances are the split.

// gateway is what routes are attached to.
type gateway struct{ namespace, name, section string }

// errNoGateway is why routes cannot be attached.
var errNoGateway = errors.New("no gateway is known for the site: write gateway: NAMESPACE/NAME into its target")

// attach gives the gateway of a site: the one that its settings name, or the only one that there is.
func (s *Site) attach() (gateway, error) {
	if s.Gateway != (gateway{}) {
		return s.Gateway, nil
	}
	all := list[*unstructured.Unstructured](s.connection.mirror, gateways, "", "")
	if len(all) == 1 {
		return gateway{namespace: all[0].GetNamespace(), name: all[0].GetName()}, nil
	}
	if len(all) > 1 {
		return gateway{}, fmt.Errorf("%w: there are %d", errNoGateway, len(all))
	}
	return gateway{}, errNoGateway
}

// splits tells whether a workload's traffic can be split: it comes in by host name, and the cluster has Gateway API.
func (s *Site) splits(records map[declare.Fingerprint]*record) bool {
	for _, r := range records {
		if len(s.led(r)) > 0 {
			return true
		}
	}
	return false
}

// led are a cohort's route parts of HTTP traffic, and of calls, for which the cluster has routes, sorted.
func (s *Site) led(r *record) (names []string) {
	for name, part := range r.parts {
		if part.Kind == declare.Route && part.TCP == 0 && s.connection.mirror.has(routeKind(part.Part), s.Namespace) {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
}

// split is how a route splits the traffic: what it leads to, and what of that its gateway has taken.
type split struct {
	weights map[string]int64 // by Service
	taken   map[string]int64 // the weights that its gateway works by
	why     string           // why it does not work by the newest
}

// splitOf reads a route.
func splitOf(o *unstructured.Unstructured) split {
	r := split{weights: map[string]int64{}}
	rules, _, _ := unstructured.NestedSlice(o.Object, "spec", "rules")
	for _, rule := range rules {
		of, _ := rule.(object)
		refs, _ := of["backendRefs"].([]any)
		for _, ref := range refs {
			of, _ := ref.(object)
			name, _ := of["name"].(string)
			if weight, ok := of["weight"].(int64); ok && name != "" {
				r.weights[name] = weight
			}
		}
	}
	if r.why = accepted(o); r.why == "" {
		r.taken = r.weights
		return r
	}
	json.Unmarshal([]byte(o.GetAnnotations()[annotationTaken]), &r.taken)                                     // nothing was taken before where that is nothing
	maps.DeleteFunc(r.taken, func(_ string, weight int64) bool { return weight < 0 || weight > wholeWeight }) // we never wrote that
	return r
}

// accepted tells why a route's gateway has not taken its newest form; empty where it has. What others than the gateway that it
// is attached to say of it does not count.
func accepted(o *unstructured.Unstructured) string {
	attached, _, _ := unstructured.NestedSlice(o.Object, "spec", "parentRefs")
	parents, _, _ := unstructured.NestedSlice(o.Object, "status", "parents")
	why := "no gateway has answered for it yet"
	for _, parent := range parents {
		of, _ := parent.(object)
		if to, _ := of["parentRef"].(object); len(attached) == 0 || !sameParent(attached[0], to) {
			continue
		}
		conditions, _ := of["conditions"].([]any)
		taken := false
		for _, c := range conditions {
			of, _ := c.(object)
			if of["type"] != "Accepted" && of["type"] != "ResolvedRefs" {
				continue
			}
			seen, told := of["observedGeneration"].(int64)
			switch {
			case told && seen != o.GetGeneration():
				return "its gateway has not taken the newest shares yet"
			case of["status"] != "True":
				return fmt.Sprintf("its gateway does not take it: %s", short(fmt.Sprint(of["message"])))
			}
			taken = taken || of["type"] == "Accepted"
		}
		if taken {
			why = ""
		}
	}
	return why
}

// sameParent tells whether a gateway says something of the attachment that is ours.
func sameParent(ours any, theirs object) bool {
	of, _ := ours.(object)
	return theirs == nil || of["name"] == theirs["name"] && (theirs["namespace"] == nil || of["namespace"] == theirs["namespace"])
}

// shares gives cohorts their shares of the traffic, and tells whether instances are the split and what keeps traffic from
// coming in as it should.
func (s *Site) shares(workload string, records map[declare.Fingerprint]*record, cohorts []target.Cohort) (whole bool, trouble string) {
	if len(records) == 0 {
		return false, ""
	}
	if !s.splits(records) {
		s.byInstances(records, cohorts)
		return true, ""
	}
	if _, err := s.attach(); err != nil {
		return false, fmt.Sprintf("traffic does not come in to %s at %s: %v", workload, s.Name, err)
	}
	for _, o := range s.routes(workload) {
		route := splitOf(o)
		sum := int64(0)
		for _, weight := range route.taken {
			sum += weight
		}
		if route.why != "" {
			trouble = fmt.Sprintf("the route %s of %s: %s", o.GetName(), workload, route.why)
		}
		for i := range cohorts {
			r, part := records[cohorts[i].Revision], o.GetLabels()[labelPart]
			to, ok := r.parts[part]
			if !ok || sum == 0 {
				continue
			}
			service := cohortName(workload, to.Service, r.parts[to.Service].Cohort)
			if weight, ok := route.taken[service]; ok {
				cohorts[i].Share = math.Max(cohorts[i].Share, math.Round(float64(weight)/float64(sum)*wholeWeight)/wholeWeight)
			}
		}
	}
	if !s.waited(workload) {
		trouble = "" // what was just asked for may take a moment
	}
	return false, trouble
}

// routes are a workload's routes of its own traffic, not those of previews.
func (s *Site) routes(workload string) (found []*unstructured.Unstructured) {
	for _, o := range s.allRoutes(workload) {
		if o.GetDeletionTimestamp() == nil && o.GetName() != previewName(workload, o.GetLabels()[labelPart]) {
			found = append(found, o)
		}
	}
	return found
}

// allRoutes are those of previews too.
func (s *Site) allRoutes(workload string) []*unstructured.Unstructured {
	return append(list[*unstructured.Unstructured](s.connection.mirror, routes, s.Namespace, workload), list[*unstructured.Unstructured](s.connection.mirror, grpcRoutes, s.Namespace, workload)...)
}

// byInstances gives cohorts the shares that their ready instances make.
func (s *Site) byInstances(records map[declare.Fingerprint]*record, cohorts []target.Cohort) {
	up, all, newest := make([]int, len(cohorts)), 0, -1
	for i, c := range cohorts {
		for _, in := range c.Instances {
			part := records[c.Revision].parts[in.Part].Part
			if ready, asked := in.Told[readyOf(part)]; in.Address != "" && (!asked || ready == "") && part.Kind != declare.Task {
				up[i]++
				all++
			}
		}
		if there := !slices.ContainsFunc(c.Objects, func(o target.Object) bool { return !o.There }); there && (newest < 0 || records[c.Revision].born.After(records[cohorts[newest].Revision].born)) {
			newest = i
		}
	}
	switch {
	case all > 0:
		for i := range cohorts {
			cohorts[i].Share = float64(up[i]) / float64(all)
		}
	case newest >= 0 && !records[cohorts[newest].Revision].serves():
		cohorts[newest].Share = 1 // nothing of it takes traffic: what came last stands for it
	}
}

// serves tells whether a cohort has anything that is to have pods which serve.
func (r *record) serves() bool {
	for _, part := range r.parts {
		if part.Kind == declare.Service && part.Instances > 0 || part.Pods() > 0 {
			return true
		}
	}
	return false
}

func readyOf(part declare.Part) string { ready, _ := asks(part); return ready }

// setShare gives a revision a share of the traffic and another one the rest.
func (s *Site) setShare(ctx context.Context, workload string, records map[declare.Fingerprint]*record, revision declare.Fingerprint, share float64, rest declare.Fingerprint) error {
	if math.IsNaN(share) || share < 0 || share > 1 {
		return fmt.Errorf("set the share of %s at %s: %v is not from 0 to 1", workload, s.Name, share)
	}
	for name, want := range map[declare.Fingerprint]bool{revision: share > 0, rest: rest != "" && share < 1} {
		if want && records[name] == nil {
			return fmt.Errorf("set the share of %s at %s: revision %s is not there", workload, s.Name, name.Short())
		}
	}
	if !s.splits(records) {
		if share > 0 && share < 1 {
			return fmt.Errorf("set the share of %s at %s: its traffic cannot be split there", workload, s.Name)
		}
		return nil
	}
	at, err := s.attach()
	if err != nil {
		return fmt.Errorf("set the share of %s at %s: %w", workload, s.Name, err)
	}
	shares := map[declare.Fingerprint]float64{revision: share}
	if rest != "" {
		shares[rest] = 1 - share
	}
	var failed []error
	for _, r := range s.wanted(workload, records, shares, at) {
		err := s.answered(ctx, records, r)
		if err == nil {
			_, err = s.applyOnce(ctx, r)
		}
		failed = append(failed, err)
	}
	failed = append(failed, s.lead(ctx, workload, records, shares))
	s.asked(workload)
	return errors.Join(failed...)
}

// answered waits until each Service that a route is to lead to, and did not before, has an address that is ready: a gateway
// would answer for those that have none.
func (s *Site) answered(ctx context.Context, records map[declare.Fingerprint]*record, route object) error {
	before := map[string]int64{}
	if o := s.connection.mirror.get(kindOf(route["kind"].(string)), s.Namespace, route["metadata"].(object)["name"].(string)); o != nil {
		before = splitOf(o).weights
	}
	for name, weight := range splitOf(&unstructured.Unstructured{Object: route}).weights {
		if weight == 0 || before[name] > 0 || !s.others(before) || s.stopped(records, name) {
			continue
		}
		waiting, cancel := context.WithTimeout(ctx, patience)
		err := s.connection.mirror.await(waiting, func() bool { return s.hasAddress(name) })
		cancel()
		if err != nil {
			return fmt.Errorf("lead traffic to %s in %s: it has no address that is ready yet", name, s.Namespace)
		}
	}
	return nil
}

// stopped tells whether a Service is one over instances of which there are to be none, on purpose.
func (s *Site) stopped(records map[declare.Fingerprint]*record, service string) bool {
	for _, r := range records {
		for name, part := range r.parts {
			if part.Kind == declare.Service && cohortName(r.workload, name, part.Cohort) == service {
				o := s.objectOf(r, name)
				return o == nil || part.Instances == 0
			}
		}
	}
	return false
}

// others tells whether a route leads to somebody who answers already.
func (s *Site) others(before map[string]int64) bool {
	for name, weight := range before {
		if weight > 0 && s.hasAddress(name) {
			return true
		}
	}
	return false
}

// hasAddress tells whether a Service has an address that is ready.
func (s *Site) hasAddress(service string) bool {
	for _, o := range list[*unstructured.Unstructured](s.connection.mirror, endpoints, s.Namespace, "") {
		if o.GetLabels()["kubernetes.io/service-name"] != service {
			continue
		}
		ends, _, _ := unstructured.NestedSlice(o.Object, "endpoints")
		if slices.ContainsFunc(ends, func(e any) bool {
			conditions, _ := e.(object)["conditions"].(object)
			return conditions["ready"] != false
		}) {
			return true
		}
	}
	return false
}

// wanted are the routes that lead the traffic by shares: one for each route part and host. Where old and new declare another
// host or path each has its own, with all of its traffic.
func (s *Site) wanted(workload string, records map[declare.Fingerprint]*record, shares map[declare.Fingerprint]float64, at gateway) (all []object) {
	type match struct{ kind, part, host, path string }
	backends, live, of := map[match][]backend{}, map[match]*unstructured.Unstructured{}, map[match]declare.Part{}
	for _, revision := range slices.Sorted(maps.Keys(records)) {
		r := records[revision]
		for _, name := range s.led(r) {
			part := r.parts[name]
			to, there := r.parts[part.Service]
			if !there {
				continue // it was moved away
			}
			m := match{routeKind(part.Part).kind, name, part.Host, part.To.Path}
			if shares[revision] > 0 || of[m].To == nil {
				of[m] = part.Part
			}
			weight := int(math.Round(shares[revision] * wholeWeight))
			if shares[revision] > 0 && weight == 0 {
				weight = 1
			}
			backends[m] = append(backends[m], backend{cohortName(workload, part.Service, to.Cohort), to.Ports[part.To.Port], weight})
		}
	}
	names := map[string]bool{}
	for _, o := range s.routes(workload) {
		hosts, _, _ := unstructured.NestedStringSlice(o.Object, "spec", "hostnames")
		m := match{o.GetKind(), o.GetLabels()[labelPart], strings.Join(hosts, ","), cmp.Or(o.GetAnnotations()[annotationPath], "/")}
		if _, still := backends[m]; still && live[m] == nil {
			live[m], names[o.GetName()] = o, true
		}
	}
	for _, m := range slices.SortedFunc(maps.Keys(backends), func(a, b match) int {
		return cmp.Or(cmp.Compare(a.part, b.part), cmp.Compare(a.host, b.host), cmp.Compare(a.path, b.path), cmp.Compare(a.kind, b.kind))
	}) {
		name := routeName(workload, m.part, "")
		taken := map[string]int64{}
		switch o := live[m]; {
		case o != nil:
			name, taken = o.GetName(), splitOf(o).taken
		case names[name]:
			name = routeName(workload, m.part, hash(m.host+" "+m.path))
		}
		names[name] = true
		o := s.place(workload).route(leading{part: m.part, name: name, host: m.host, of: of[m], to: backends[m], keeps: s.connection.keeps.Load()}, at)
		text, _ := json.Marshal(taken)
		o["metadata"].(object)["annotations"] = object{annotationTaken: string(text), annotationPath: m.path}
		all = append(all, o)
	}
	return all
}

// annotationPath is what a route leads on under, which its rules show only by a filter.
const annotationPath = "aditus/path"

// lead has the Services over a workload's parts lead to what has the most of the traffic, where routes split it: who calls
// them within the cluster goes through no route.
func (s *Site) lead(ctx context.Context, workload string, records map[declare.Fingerprint]*record, shares map[declare.Fingerprint]float64) error {
	var most *record
	for revision, r := range records {
		if most == nil || shares[revision] > shares[most.revision] {
			most = r
		}
	}
	if most == nil || shares[most.revision] == 0 {
		return nil
	}
	var failed []error
	for _, name := range slices.Sorted(maps.Keys(most.parts)) {
		if part := most.parts[name]; part.Kind == declare.Service && len(part.Ports) > 0 && s.leadsTo(most, name) {
			o := s.place(workload).balancer(name, "", most.declared())
			o["spec"].(object)["selector"].(object)[labelCohort] = part.Cohort
			_, err := s.applyOnce(ctx, o)
			failed = append(failed, err)
		}
	}
	return errors.Join(failed...)
}

// leadsTo tells whether routes lead traffic to a part of a cohort.
func (s *Site) leadsTo(r *record, part string) bool {
	return slices.ContainsFunc(s.led(r), func(route string) bool { return r.parts[route].Service == part })
}

// services makes what leads to a cohort's instances: a Service for each of its parts that routes lead to, and one over all
// cohorts for each part that has ports.
func (s *Site) services(ctx context.Context, r *record) error {
	var failed []error
	parts := r.declared()
	for _, name := range slices.Sorted(maps.Keys(r.parts)) {
		part := r.parts[name]
		if part.Kind != declare.Service || len(part.Ports) == 0 {
			continue
		}
		split := s.leadsTo(r, name)
		if split {
			_, err := s.applyOnce(ctx, s.place(r.workload).balancer(name, part.Cohort, parts))
			failed = append(failed, err)
		}
		if split && s.connection.mirror.get(services, s.Namespace, sharedName(r.workload, name)) != nil {
			continue // it leads to what has the most of the traffic
		}
		over := s.place(r.workload).balancer(name, "", parts)
		if split {
			over["spec"].(object)["selector"].(object)[labelCohort] = part.Cohort
		}
		_, err := s.applyOnce(ctx, over)
		failed = append(failed, err)
	}
	return errors.Join(failed...)
}

// preview leads the preview hosts to a cohort.
func (s *Site) preview(ctx context.Context, workload string, records map[declare.Fingerprint]*record, revision declare.Fingerprint) error {
	r := records[revision]
	if r == nil {
		return fmt.Errorf("preview %s at %s: revision %s was not prepared", workload, s.Name, revision.Short())
	}
	var failed []error
	for other, was := range records {
		if is := other == revision; was.preview != is {
			was.preview = is
			failed = append(failed, s.keep(ctx, was))
		}
	}
	for _, name := range s.led(r) {
		part := r.parts[name]
		host := part.Preview
		if part.PreviewBy != nil {
			host = part.Host
		}
		if part.Preview == "" && part.PreviewBy == nil {
			continue
		}
		at, err := s.attach()
		if err != nil {
			failed = append(failed, err)
			continue
		}
		to := r.parts[part.Service]
		_, err = s.applyOnce(ctx, s.place(workload).route(leading{part: name, name: previewName(workload, name), host: host, of: part.Part, preview: true,
			to: []backend{{cohortName(workload, part.Service, to.Cohort), to.Ports[part.To.Port], wholeWeight}}}, at))
		failed = append(failed, err)
	}
	return errors.Join(failed...)
}

// endPreview takes the routes of previews away that lead to a cohort: what it has goes, and requests for it are to find the
// others.
func (s *Site) endPreview(ctx context.Context, workload string, r *record) error {
	var failed []error
	for _, o := range s.allRoutes(workload) {
		part := r.parts[o.GetLabels()[labelPart]]
		if _, leads := splitOf(o).weights[cohortName(workload, part.Service, r.parts[part.Service].Cohort)]; leads && o.GetName() == previewName(workload, o.GetLabels()[labelPart]) {
			failed = append(failed, s.connection.remove(ctx, kindOf(o.GetKind()), o))
		}
	}
	return errors.Join(failed...)
}
