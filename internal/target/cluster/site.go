// Package cluster is a site that is a namespace of a cluster, worked through its public API alone: nothing is installed there.
// Parts become objects of the API, cohorts stand side by side, traffic is split by routes of Gateway API where there are any,
// and all that is known comes by watches. It implements target.Driver.
package cluster

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	corev1 "k8s.io/api/core/v1"
	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"

	"aditus/internal/core/declare"
	"aditus/internal/core/rollout"
	"aditus/internal/target"
)

// Options say what a site stands on.
type Options struct {
	Name      string
	Namespace string
	Gateway   gateway  // what its routes are attached to; none for the only one that there is
	Pull      []string // names of the Secrets with which its images are pulled
	ReadOnly  bool     // it is only looked at
}

// Site is a namespace as a site. Make it with Connection.Open.
type Site struct {
	Options
	connection *Connection

	mu     sync.Mutex
	follow func(target.Berth)
	shared map[string]time.Time // when a workload's shares were last asked for
	doing  map[string]*sync.Mutex
	lives  map[string]map[string]livePart // by workload, revision and part, as last read
}

var (
	_ target.Driver   = (*Site)(nil)
	_ target.Follower = (*Site)(nil)
)

// errSilent is what a site is that cannot be read.
var errSilent = target.ErrUnreachable

// Open adds a site to a connection that does not run yet.
func (c *Connection) Open(o Options) *Site {
	s := &Site{Options: o, connection: c, shared: map[string]time.Time{}, doing: map[string]*sync.Mutex{}, lives: map[string]map[string]livePart{}}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.sites = append(c.sites, s)
	return s
}

func (s *Site) place(workload string) place {
	return place{site: s.Name, namespace: s.Namespace, pull: s.Pull, workload: workload}
}

// shareTakes is how long a gateway may take for new shares before that is told.
const shareTakes = 15 * time.Second

func (s *Site) asked(workload string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.shared[workload] = time.Now()
}

// waited tells whether a workload's gateway has had its time.
func (s *Site) waited(workload string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return time.Since(s.shared[workload]) > shareTakes
}

// Follow implements target.Follower: it hears of every change from the watches.
func (s *Site) Follow(ctx context.Context, changed func(target.Berth)) {
	s.mu.Lock()
	s.follow = changed
	s.mu.Unlock()
	s.changed("") // what changed before is new to whoever follows now
	<-ctx.Done()
	s.mu.Lock()
	s.follow = nil
	s.mu.Unlock()
}

// changed tells whoever follows that there is something new of a workload, or of all where there is none.
func (s *Site) changed(workload string) {
	s.mu.Lock()
	follow := s.follow
	s.mu.Unlock()
	switch {
	case follow == nil:
	case workload != "":
		follow(workload)
	default:
		seen := map[string]bool{}
		for _, o := range list[*unstructured.Unstructured](s.connection.mirror, configMaps, s.Namespace, "") {
			if of := o.GetLabels()[labelWorkload]; of != "" && !seen[of] {
				seen[of] = true
				follow(of)
			}
		}
	}
}

// Apply implements target.Driver. What is so already costs no request.
func (s *Site) Apply(ctx context.Context, workload string, wants []target.Want) error {
	s.mu.Lock()
	one := s.doing[workload]
	if one == nil {
		one = &sync.Mutex{}
		s.doing[workload] = one
	}
	s.mu.Unlock()
	one.Lock()
	defer one.Unlock()
	if err := s.connection.await(ctx, s.Namespace); err != nil {
		return unreachable(s.Name, err)
	}
	var failed []error
	for _, w := range wants {
		records, err := s.records(workload)
		if err == nil {
			err = s.do(ctx, workload, records, w)
		}
		failed = append(failed, err)
	}
	return errors.Join(failed...)
}

func (s *Site) do(ctx context.Context, workload string, records map[declare.Fingerprint]*record, w target.Want) error {
	switch w.Do {
	case rollout.Prepare:
		return s.prepare(ctx, workload, records, w)
	case rollout.Scale:
		return s.scale(ctx, workload, records, w)
	case rollout.SetShare:
		return s.setShare(ctx, workload, records, w.Revision, w.Share, w.Rest)
	case rollout.Preview:
		return s.preview(ctx, workload, records, w.Revision)
	case rollout.Run:
		return s.run(ctx, workload, records, w)
	case rollout.MovePart:
		return s.movePart(ctx, workload, records, w)
	case rollout.RemovePart:
		return s.removePart(ctx, records[w.Revision], w.Part)
	case rollout.Relabel:
		return s.relabel(ctx, workload, records, w.From, w.Revision)
	case rollout.Delete:
		return s.delete(ctx, workload, records, w.Revision)
	}
	return fmt.Errorf("%s at %s: nobody knows how to %q", workload, s.Name, w.Do)
}

// applyOnce makes an object as it is given, where it is not so already.
func (s *Site) applyOnce(ctx context.Context, o object) (*unstructured.Unstructured, error) {
	one := &unstructured.Unstructured{Object: o}
	live := s.connection.mirror.get(kindOf(one.GetKind()), one.GetNamespace(), one.GetName())
	if live != nil && live.GetDeletionTimestamp() == nil && len(differences("", o, live.Object)) == 0 {
		return live, nil
	}
	return s.connection.apply(ctx, o)
}

// prepared gives a cohort with a part that is there, or an error that says what could not be done.
func (s *Site) prepared(what, workload string, records map[declare.Fingerprint]*record, revision declare.Fingerprint, part string) (*record, error) {
	r := records[revision]
	if r == nil {
		return nil, fmt.Errorf("%s %s of %s at %s: revision %s was not prepared", what, part, workload, s.Name, revision.Short())
	}
	if _, ok := r.parts[part]; !ok {
		return nil, fmt.Errorf("%s %s of %s at %s: revision %s has no such part", what, part, workload, s.Name, revision.Short())
	}
	return r, nil
}

// prepare makes a revision's objects, none of which runs yet: first its record, so that what is made is never nobody's.
func (s *Site) prepare(ctx context.Context, workload string, records map[declare.Fingerprint]*record, w target.Want) error {
	r := records[w.Revision]
	if r == nil {
		r = &record{place: s.place(workload), parts: map[string]placed{}}
		r.revision, r.cohort = w.Revision, s.cohortFor(workload, w.Revision, records)
	}
	for name, part := range w.Desired.Parts {
		was, there := r.parts[name]
		part.Opened = nil
		next := placed{Part: part, Cohort: r.cohort, UID: was.UID}
		if there {
			next.Cohort = was.Cohort
		}
		r.parts[name] = next
	}
	if err := s.keep(ctx, r); err != nil {
		return fmt.Errorf("prepare %s at %s: %w", workload, s.Name, err)
	}
	records[w.Revision] = r
	var failed []error
	for _, order := range [][]declare.Kind{{declare.Volume, declare.Settings, declare.Secret}, {declare.Service}} { // what pods need is there before them
		for _, name := range slices.Sorted(maps.Keys(w.Desired.Parts)) {
			if part := w.Desired.Parts[name]; slices.Contains(order, part.Kind) {
				failed = append(failed, s.lay(ctx, r, name, part))
			}
		}
	}
	failed = append(failed, s.services(ctx, r, records))
	if err := errors.Join(failed...); err != nil {
		return fmt.Errorf("prepare %s at %s: %w", workload, s.Name, err)
	}
	return nil
}

// lay makes the objects of one part.
func (s *Site) lay(ctx context.Context, r *record, name string, part declare.Part) error {
	at := r.at(name)
	switch part.Kind {
	case declare.Settings:
		_, err := s.layFixed(ctx, at.settings(name, part))
		return err
	case declare.Secret:
		o, err := s.layFixed(ctx, at.secret(name, part.Opened))
		if err != nil || string(o.GetUID()) == r.parts[name].UID {
			return err
		}
		laid := r.parts[name]
		laid.UID = string(o.GetUID())
		r.parts[name] = laid
		return s.keep(ctx, r)
	case declare.Volume:
		_, err := s.applyOnce(ctx, at.volume(name, part))
		return err
	case declare.Service:
		replicas := 0
		k := deployments
		if len(part.Volumes) > 0 {
			k = statefulSets
		}
		if live := s.connection.mirror.get(k, s.Namespace, cohortName(r.workload, name, at.cohort)); live != nil {
			have, _, _ := unstructured.NestedInt64(live.Object, "spec", "replicas")
			replicas = int(have)
		}
		o, err := at.service(name, r.declared(), replicas)
		if err == nil {
			_, err = s.applyOnce(ctx, o)
		}
		return err
	}
	return nil
}

// layFixed makes an object whose values cannot be changed: where they are others, it is another one of the same name.
func (s *Site) layFixed(ctx context.Context, o object) (*unstructured.Unstructured, error) {
	one := &unstructured.Unstructured{Object: o}
	k := kindOf(one.GetKind())
	live := s.connection.mirror.get(k, one.GetNamespace(), one.GetName())
	if live != nil && len(differences("", o["data"], live.Object["data"])) > 0 || live != nil && extra(o["data"], live.Object["data"]) {
		if err := s.connection.remove(ctx, k, live); err != nil {
			return nil, err
		}
	}
	return s.applyOnce(ctx, o)
}

// extra tells whether there are values that are not wanted.
func extra(wanted, live any) bool {
	w, _ := wanted.(object)
	l, _ := live.(object)
	return len(l) > len(w)
}

// scale makes a part's cohort the given size; those named in first go first.
func (s *Site) scale(ctx context.Context, workload string, records map[declare.Fingerprint]*record, w target.Want) error {
	r, err := s.prepared("scale", workload, records, w.Revision, w.Part)
	if err != nil {
		return err
	}
	part := r.parts[w.Part]
	k := deployments
	if len(part.Volumes) > 0 {
		k = statefulSets
	}
	name := cohortName(workload, w.Part, part.Cohort)
	live := s.connection.mirror.get(k, s.Namespace, name)
	if live == nil {
		return fmt.Errorf("scale %s of %s at %s: its %s %s is gone; a sync puts it back", w.Part, workload, s.Name, k.kind, name)
	}
	have, _, _ := unstructured.NestedInt64(live.Object, "spec", "replicas")
	if have == int64(w.Count) {
		return nil
	}
	if have > int64(w.Count) {
		for _, pod := range s.owners(workload)[w.Part+"/"+part.Cohort] {
			cost := ""
			if slices.Contains(w.First, pod.Name) {
				cost = goesFirst
			}
			if pod.Annotations[annotationCost] != cost {
				change := object{"metadata": object{"annotations": object{annotationCost: cost}}}
				if cost == "" {
					change = object{"metadata": object{"annotations": object{annotationCost: nil}}}
				}
				if err := s.connection.patch(ctx, pods, s.Namespace, pod.Name, change); err != nil {
					return err
				}
			}
		}
	}
	return s.connection.patch(ctx, k, s.Namespace, name, object{"spec": object{"replicas": w.Count}})
}

// goesFirst is the cost of deleting a pod that is to go before others.
const goesFirst = "-1000"

// run runs a task, once.
func (s *Site) run(ctx context.Context, workload string, records map[declare.Fingerprint]*record, w target.Want) error {
	r, err := s.prepared("run", workload, records, w.Revision, w.Part)
	if err != nil {
		return err
	}
	if s.connection.mirror.get(jobs, s.Namespace, cohortName(workload, w.Part, r.parts[w.Part].Cohort)) != nil {
		return nil
	}
	o, err := r.at(w.Part).task(w.Part, r.declared())
	if err == nil {
		_, err = s.connection.apply(ctx, o)
	}
	if err != nil {
		return fmt.Errorf("run %s of %s at %s: %w", w.Part, workload, s.Name, err)
	}
	return nil
}

// movePart moves a part with its instances from one revision to another: first it is the new one's, then it is no longer
// the old one's.
func (s *Site) movePart(ctx context.Context, workload string, records map[declare.Fingerprint]*record, w target.Want) error {
	from, to, part := w.From, w.Revision, w.Part
	there := records[to]
	if there == nil {
		return fmt.Errorf("move %s of %s at %s: revision %s was not prepared", part, workload, s.Name, to.Short())
	}
	if _, ok := there.parts[part]; ok && records[from] == nil {
		return nil
	}
	r, err := s.prepared("move", workload, records, from, part)
	if err != nil {
		return err
	}
	there.parts[part] = r.parts[part]
	if err := s.keep(ctx, there); err != nil {
		return err
	}
	delete(r.parts, part)
	if err := s.keep(ctx, r); err != nil {
		return err
	}
	return s.mark(ctx, there, part)
}

// mark writes the revision on the objects of a cohort's part, or of all.
func (s *Site) mark(ctx context.Context, r *record, only string) error {
	var failed []error
	for name, part := range r.parts {
		if only != "" && name != only {
			continue
		}
		for _, k := range []kind{deployments, statefulSets, jobs, configMaps, secrets} {
			at := cohortName(r.workload, name, part.Cohort)
			if o := s.connection.mirror.get(k, s.Namespace, at); o != nil && o.GetLabels()[labelPart] == name && o.GetAnnotations()[annotationRevision] != string(r.revision) {
				failed = append(failed, s.connection.patch(ctx, k, s.Namespace, at, object{"metadata": object{"annotations": object{annotationRevision: string(r.revision)}}}))
			}
		}
	}
	return errors.Join(failed...)
}

// relabel makes a cohort that of another revision, by its record.
func (s *Site) relabel(ctx context.Context, workload string, records map[declare.Fingerprint]*record, from, to declare.Fingerprint) error {
	r, other := records[from], records[to]
	switch {
	case r == nil && other != nil:
		return s.mark(ctx, other, "")
	case r == nil:
		return fmt.Errorf("relabel %s at %s: revision %s is not there", workload, s.Name, from.Short())
	case other != nil:
		return fmt.Errorf("relabel %s at %s: revision %s is there already", workload, s.Name, to.Short())
	}
	r.revision, r.place.revision = to, to
	if err := s.keep(ctx, r); err != nil {
		return err
	}
	return s.mark(ctx, r, "")
}

// removePart takes a part of a cohort away. Volumes lose their data.
func (s *Site) removePart(ctx context.Context, r *record, name string) error {
	if r == nil {
		return nil
	}
	part, ok := r.parts[name]
	if !ok {
		return nil
	}
	if err := s.takeAway(ctx, r.workload, name, part, true); err != nil {
		return err
	}
	delete(r.parts, name)
	return s.keep(ctx, r)
}

// takeAway deletes the objects of a part of a cohort. What pods of other parts still read stays until they go.
func (s *Site) takeAway(ctx context.Context, workload, name string, part placed, volumes bool) error {
	var failed []error
	at := cohortName(workload, name, part.Cohort)
	for _, k := range []kind{deployments, statefulSets, jobs, services} {
		if o := s.connection.mirror.get(k, s.Namespace, at); o != nil && o.GetLabels()[labelPart] == name && o.GetLabels()[labelCohort] == part.Cohort && o.GetDeletionTimestamp() == nil {
			failed = append(failed, s.connection.remove(ctx, k, o))
		}
	}
	for _, k := range []kind{configMaps, secrets} {
		if o := s.connection.mirror.get(k, s.Namespace, at); o != nil && o.GetLabels()[labelPart] == name {
			failed = append(failed, s.takeFixed(ctx, k, o, workload))
		}
	}
	if o := s.connection.mirror.get(claims, s.Namespace, sharedName(workload, name)); o != nil && volumes && part.Kind == declare.Volume {
		failed = append(failed, s.connection.remove(ctx, claims, o))
	}
	return errors.Join(failed...)
}

// takeFixed deletes a ConfigMap or Secret, or leaves it to what still reads it: it goes when that does.
func (s *Site) takeFixed(ctx context.Context, k kind, o *unstructured.Unstructured, workload string) error {
	for _, of := range []kind{deployments, statefulSets} {
		for _, reader := range list[*unstructured.Unstructured](s.connection.mirror, of, s.Namespace, workload) {
			if reader.GetDeletionTimestamp() != nil || !reads(reader, k, o.GetName()) {
				continue
			}
			return s.connection.patch(ctx, k, s.Namespace, o.GetName(), object{"metadata": object{
				"labels":          object{labelPart: nil},
				"ownerReferences": []any{object{"apiVersion": reader.GetAPIVersion(), "kind": reader.GetKind(), "name": reader.GetName(), "uid": string(reader.GetUID())}},
			}})
		}
	}
	return s.connection.remove(ctx, k, o)
}

// reads tells whether the pods of a Deployment or StatefulSet mount a ConfigMap or Secret.
func reads(o *unstructured.Unstructured, k kind, name string) bool {
	volumes, _, _ := unstructured.NestedSlice(o.Object, "spec", "template", "spec", "volumes")
	field, key := "configMap", "name"
	if k == secrets {
		field, key = "secret", "secretName"
	}
	return slices.ContainsFunc(volumes, func(v any) bool {
		of, _ := v.(object)
		source, _ := of[field].(object)
		return source[key] == name
	})
}

// delete takes a revision away: what runs first, its record last, so that what is left of it is always somebody's. One
// that has traffic is refused. With the last one goes what all shared, but for volumes.
func (s *Site) delete(ctx context.Context, workload string, records map[declare.Fingerprint]*record, revision declare.Fingerprint) error {
	r := records[revision]
	if r == nil {
		return nil
	}
	if s.splits(records) {
		seen := []target.Cohort{{Revision: revision}}
		for other := range records {
			if other != revision {
				seen = append(seen, target.Cohort{Revision: other})
			}
		}
		if s.shares(workload, records, seen); seen[0].Share > 0 || s.leads(workload, r) {
			return fmt.Errorf("delete %s of %s at %s: it still has %.1f %% of the traffic", revision.Short(), workload, s.Name, seen[0].Share*100)
		}
	}
	var failed []error
	for _, name := range slices.Sorted(maps.Keys(r.parts)) {
		part := r.parts[name]
		if part.Kind == declare.Settings || part.Kind == declare.Secret {
			continue
		}
		failed = append(failed, s.takeAway(ctx, workload, name, part, false))
	}
	for _, name := range slices.Sorted(maps.Keys(r.parts)) { // once their readers are gone
		if part := r.parts[name]; part.Kind == declare.Settings || part.Kind == declare.Secret {
			failed = append(failed, s.takeAway(ctx, workload, name, part, false))
		}
	}
	if len(records) == 1 {
		for _, k := range []kind{routes, services} {
			for _, o := range list[*unstructured.Unstructured](s.connection.mirror, k, s.Namespace, workload) {
				failed = append(failed, s.connection.remove(ctx, k, o))
			}
		}
	}
	if err := errors.Join(failed...); err != nil {
		return fmt.Errorf("delete %s of %s at %s: %w", revision.Short(), workload, s.Name, err)
	}
	if o := s.connection.mirror.get(configMaps, s.Namespace, recordName(workload, r.cohort)); o != nil {
		return s.connection.remove(ctx, configMaps, o)
	}
	return nil
}

// leads tells whether a route is to lead traffic to a cohort, whatever its gateway has taken of that.
func (s *Site) leads(workload string, r *record) bool {
	for _, o := range s.routes(workload) {
		part := r.parts[o.GetLabels()[labelPart]]
		if s.read(o).weights[cohortName(workload, part.Service, r.parts[part.Service].Cohort)] > 0 {
			return true
		}
	}
	return false
}

// pod gives a workload's pod by its name.
func (s *Site) pod(ctx context.Context, workload, name string) (*corev1.Pod, error) {
	if err := s.connection.await(ctx, s.Namespace); err != nil {
		return nil, unreachable(s.Name, err)
	}
	for _, pod := range list[*corev1.Pod](s.connection.mirror, pods, s.Namespace, workload) {
		if pod.Name == name && pod.DeletionTimestamp == nil {
			return pod, nil
		}
	}
	return nil, fmt.Errorf("%s at %s: %w", name, s.Name, target.ErrNoInstance)
}

// Restart implements target.Driver: a pod is exchanged for another one, as the API starts none anew.
func (s *Site) Restart(ctx context.Context, workload, instance string) error {
	pod, err := s.pod(ctx, workload, instance)
	if err != nil {
		return err
	}
	return s.connection.remove(ctx, pods, pod)
}
