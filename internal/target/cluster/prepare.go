package cluster

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"

	"aditus/internal/core/declare"
	"aditus/internal/target"
)

// prepare makes a revision's objects, none of which runs yet: first its record, so that what is made is never nobody's.
func (s *Site) prepare(ctx context.Context, workload string, records map[declare.Fingerprint]*record, w target.Want) error {
	r := records[w.Revision]
	if r == nil {
		r = &record{place: s.place(workload), parts: map[string]placed{}}
		r.revision, r.cohort = w.Revision, s.cohortFor(workload, w.Revision, records)
	}
	if w.Remember != nil {
		whole, err := zip(w.Remember)
		if err != nil {
			return fmt.Errorf("prepare %s at %s: %w", workload, s.Name, err)
		}
		r.whole = whole
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
	failed = append(failed, s.services(ctx, r))
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
		if live := s.objectOf(r, name); live != nil {
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
	k, name := runsAs(part.Part), cohortName(workload, w.Part, part.Cohort)
	live := s.objectOf(r, w.Part)
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
