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
	r.revision = to
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
	take := func() error { return s.takeAway(ctx, r.workload, name, part, true) }
	if part.Kind == declare.Objects {
		take = func() error { return s.takeObjects(ctx, r.workload, name) }
	}
	if err := take(); err != nil {
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
	failed := []error{s.endPreview(ctx, workload, r)}
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
		for _, k := range []kind{routes, grpcRoutes, services} {
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
		if splitOf(o).weights[cohortName(workload, part.Service, r.parts[part.Service].Cohort)] > 0 {
			return true
		}
	}
	return false
}
