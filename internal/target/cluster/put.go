package cluster

import (
	"cmp"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	apierrors "k8s.io/apimachinery/pkg/api/errors"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"

	"aditus/internal/core/declare"
	"aditus/internal/target"
)

// Objects that are declared as they are: they keep their names, whatever the revision, and are put there as they are declared
// with nothing but our marks, so that taking over what runs changes nothing of it.

// putObjects makes the objects of a part as a revision has them, up to a wave. What is so already is left alone.
func (s *Site) putObjects(ctx context.Context, workload string, records map[declare.Fingerprint]*record, w target.Want) error {
	r, err := s.prepared("place", workload, records, w.Revision, w.Part)
	if err != nil {
		return err
	}
	part := r.parts[w.Part]
	if err := s.account(ctx, workload, w.Part, part.Part); err != nil {
		return fmt.Errorf("place %s of %s at %s: %w", w.Part, workload, s.Name, err)
	}
	waves := part.ObjectWaves()
	for _, wave := range waves[:min(w.Count, len(waves))] {
		var failed []error
		for _, id := range wave {
			if _, err := s.putObject(ctx, workload, w.Part, part.Objects[id], w.Opened, false); err != nil {
				failed = append(failed, fmt.Errorf("%s: %w", id, err))
			}
		}
		if err := errors.Join(failed...); err != nil { // the next wave needs this one
			return fmt.Errorf("place %s of %s at %s: %w", w.Part, workload, s.Name, err)
		}
	}
	return nil
}

// account writes down what is about to be put there, so that it is never nobody's.
func (s *Site) account(ctx context.Context, workload, name string, part declare.Part) error {
	kept := s.inventory(workload, name)
	changed := false
	for id, o := range part.Objects {
		before, known := kept.objects[id]
		to := referenceTo(o)
		if to.Taken = before.Taken; !known {
			var err error
			if to.Taken, err = s.isThere(ctx, o); err != nil {
				return err
			}
		}
		if before != to {
			kept.objects[id], changed = to, true
		}
	}
	if !changed {
		return nil
	}
	return s.keepInventory(ctx, kept)
}

// isThere tells whether an object stands there that is nobody's of ours.
func (s *Site) isThere(ctx context.Context, o declare.Object) (bool, error) {
	k, err := s.connection.kindFor(ctx, o)
	if errors.Is(err, errNoKind) {
		return false, nil
	} else if err != nil {
		return false, err
	}
	namespace := s.Namespace
	if k.cluster {
		namespace = ""
	}
	others, err := s.connection.others.of(ctx, s.connection, k, namespace)
	if err != nil {
		return false, explain(err, "look for", k.kind, namespace, "")
	}
	labels, there := others[declare.TextAt(o, "metadata", "name")]
	return there && labels[labelWorkload] == "", nil
}

// workloadPart names a part.
type workloadPart struct{ workload, part string }

// marked is an object with our marks.
func marked(of workloadPart, o declare.Object) declare.Object {
	metadata, _ := o["metadata"].(map[string]any)
	metadata = maps.Clone(metadata)
	labels, annotations := object{}, object{}
	if of, is := metadata["labels"].(map[string]any); is {
		maps.Copy(labels, of)
	}
	if of, is := metadata["annotations"].(map[string]any); is {
		maps.Copy(annotations, of)
	}
	labels[labelWorkload], labels[labelPart] = of.workload, of.part
	annotations[annotationForm] = form(o)
	metadata["labels"], metadata["annotations"] = labels, annotations
	written := maps.Clone(o)
	written["metadata"] = metadata
	return written
}

// made is an object as it is written: with our marks, in its namespace, its secret values opened.
func (s *Site) made(k kind, of workloadPart, o declare.Object, opened map[string]string) (*unstructured.Unstructured, error) {
	id, written := declare.ObjectID(o), marked(of, o)
	metadata := written["metadata"].(object)
	switch in, _ := metadata["namespace"].(string); {
	case k.cluster:
		delete(metadata, "namespace")
	case in == "":
		metadata["namespace"] = s.Namespace
	case in != s.Namespace:
		return nil, fmt.Errorf("%s is for the namespace %s, and the site %s is %s: leave its namespace out, or make a site of that one", id, in, s.Name, s.Namespace)
	}
	if values, is := o["stringData"].(map[string]any); is && k == secrets {
		data := object{}
		for key := range values {
			plain, known := opened[declare.SealedKey(id, key)]
			if !known {
				return nil, fmt.Errorf("the value %s of %s is not opened", key, id)
			}
			data[key] = base64.StdEncoding.EncodeToString([]byte(plain))
		}
		delete(written, "stringData")
		written["data"] = data
	}
	return &unstructured.Unstructured{Object: written}, nil
}

// putObject makes one object as it is declared; with dry it is only tried.
func (s *Site) putObject(ctx context.Context, workload, part string, o declare.Object, opened map[string]string, dry bool) (*unstructured.Unstructured, error) {
	k, err := s.connection.kindFor(ctx, o)
	if err != nil {
		return nil, err
	}
	one, err := s.made(k, workloadPart{workload, part}, o, opened)
	if err != nil {
		return nil, err
	}
	if !dry {
		s.connection.follow(k, s.Namespace)
	}
	there := s.connection.mirror.get(k, one.GetNamespace(), one.GetName())
	if !dry && there != nil && there.GetDeletionTimestamp() == nil && s.standsAs(there, o) {
		return there, nil
	}
	how := metav1.ApplyOptions{FieldManager: manager, Force: there != nil && there.GetLabels()[labelWorkload] == workload}
	if there != nil && !how.Force || there == nil {
		if err := s.foreign(ctx, k, one); err != nil {
			return nil, err
		}
	}
	if dry {
		how.DryRun = []string{metav1.DryRunAll}
	}
	written, err := s.connection.write(ctx, k, one, how)
	if apierrors.IsInvalid(err) && declare.TextAt(o, "metadata", "annotations", declare.ReplaceMark) == "true" && there != nil {
		if dry {
			return there, nil
		}
		if err := s.connection.remove(ctx, k, there); err != nil {
			return nil, err
		}
		return s.connection.write(ctx, k, one, how)
	}
	if apierrors.IsInvalid(err) && there != nil {
		return nil, fmt.Errorf("%w; where the field cannot be changed the object has to be replaced: give it the annotation %s: \"true\", and it is deleted with what it owns and made anew", err, declare.ReplaceMark)
	}
	return written, err
}

// standsAs tells whether a live object is as it is declared.
func (s *Site) standsAs(live *unstructured.Unstructured, o declare.Object) bool {
	if live.GetAnnotations()[annotationForm] != form(o) {
		return false
	}
	_, owners := s.show(o, live)
	return owners == nil
}

// show gives a live object in the form of the declared one, and who set what differs; nil where nothing does.
func (s *Site) show(o declare.Object, live *unstructured.Unstructured) (any, map[string]string) {
	if isSecret(o) {
		return s.secretShown(o, live)
	}
	return project(o, live.Object, live.GetManagedFields(), s.connection.as)
}

// isSecret tells whether an object is a Secret.
func isSecret(o map[string]any) bool { return o["kind"] == secrets.kind && o["apiVersion"] == "v1" }

// withoutSecrets is a Secret without its values, which are told by who looks after them.
func withoutSecrets(o map[string]any) map[string]any {
	if !isSecret(o) {
		return o
	}
	bare := maps.Clone(o)
	delete(bare, "data")
	delete(bare, "stringData")
	return bare
}

// foreign refuses an object that another workload has. One that nobody of ours has may be taken over: where it is otherwise the
// server tells whose its fields are.
func (s *Site) foreign(ctx context.Context, k kind, one *unstructured.Unstructured) error {
	others, err := s.connection.others.of(ctx, s.connection, k, one.GetNamespace())
	if err != nil {
		return explain(err, "look for", k.kind, one.GetNamespace(), one.GetName())
	}
	labels := others[one.GetName()]
	if other := labels[labelWorkload]; other != "" && (other != one.GetLabels()[labelWorkload] || labels[labelPart] != one.GetLabels()[labelPart]) {
		return fmt.Errorf("it is the workload %s's (its part %s) already: declare it in one place", other, labels[labelPart])
	}
	return nil
}

// withdraw takes away what only one revision has of a part, but for what is kept, the last first.
func (s *Site) withdraw(ctx context.Context, workload string, records map[declare.Fingerprint]*record, w target.Want) error {
	r := records[w.Revision]
	if r == nil {
		return nil
	}
	stays := records[w.From]
	if w.From != "" && stays == nil { // what it has cannot be told from what the other one has
		return fmt.Errorf("withdraw %s of %s at %s: revision %s, which stays, was not prepared", w.Part, workload, s.Name, w.From.Short())
	}
	kept := s.inventory(workload, w.Part)
	var ids []string
	for id := range r.parts[w.Part].Objects {
		if !kept.objects[id].stays() && (stays == nil || stays.parts[w.Part].Objects[id] == nil) {
			ids = append(ids, id)
		}
	}
	return s.takeAll(ctx, kept, ids)
}

// takeObjects takes all objects of a part away but for those that are kept, which are let go.
func (s *Site) takeObjects(ctx context.Context, workload, part string) error {
	kept := s.inventory(workload, part)
	var ids []string
	for id, to := range kept.objects {
		if !to.stays() {
			ids = append(ids, id)
		}
	}
	if err := s.takeAll(ctx, kept, ids); err != nil {
		return err
	}
	return s.forget(ctx, kept)
}

// forget takes our marks off what is left of an inventory, and that away.
func (s *Site) forget(ctx context.Context, kept inventory) error {
	var failed []error
	for id, to := range kept.objects {
		if err := s.unmark(ctx, to.object()); err != nil {
			failed = append(failed, fmt.Errorf("%s: %w", id, err))
		}
	}
	if len(failed) > 0 {
		return errors.Join(failed...)
	}
	clear(kept.objects)
	return s.keepInventory(ctx, kept)
}

// unmark takes our marks off an object. All else of it stays as it is.
func (s *Site) unmark(ctx context.Context, o declare.Object) error {
	k, err := s.connection.kindFor(ctx, o)
	if errors.Is(err, errNoKind) {
		return nil // its definition is gone, and all of its objects with it
	} else if err != nil {
		return err
	}
	namespace, name := s.Namespace, declare.TextAt(o, "metadata", "name")
	if k.cluster {
		namespace = ""
	}
	err = s.connection.patch(ctx, k, namespace, name, object{"metadata": object{"labels": object{labelWorkload: nil, labelPart: nil}, "annotations": object{annotationForm: nil}}})
	if apierrors.IsNotFound(err) {
		return nil
	}
	return err
}

// release has the objects of a part be nobody's: they stay as they are.
func (s *Site) release(ctx context.Context, r *record, name string) error {
	if r == nil {
		return nil
	}
	part, ok := r.parts[name]
	if !ok {
		return nil
	}
	if part.Kind != declare.Objects {
		return fmt.Errorf("let %s of %s at %s go: only objects as they are can be let go", name, r.workload, s.Name)
	}
	if err := s.forget(ctx, s.inventory(r.workload, name)); err != nil {
		return err
	}
	delete(r.parts, name)
	return s.keep(ctx, r)
}

// takeAll takes objects of an inventory away, those first that others are not made of, and forgets them.
func (s *Site) takeAll(ctx context.Context, kept inventory, ids []string) error {
	slices.SortFunc(ids, func(a, b string) int {
		return cmp.Or(declare.ObjectRank(kept.objects[b].object())-declare.ObjectRank(kept.objects[a].object()), strings.Compare(a, b))
	})
	var failed []error
	changed := false
	for _, id := range ids {
		to, there := kept.objects[id]
		if !there {
			continue
		}
		if err := s.takeObject(ctx, kept.workload, kept.part, to.object()); err != nil {
			failed = append(failed, fmt.Errorf("%s: %w", id, err))
			continue
		}
		delete(kept.objects, id)
		changed = true
	}
	if changed {
		failed = append(failed, s.keepInventory(ctx, kept))
	}
	return errors.Join(failed...)
}

// removeObject takes an object away that no revision has, and forgets it.
func (s *Site) removeObject(ctx context.Context, workload string, records map[declare.Fingerprint]*record, part, id string) error {
	kept := s.inventory(workload, part)
	to, there := kept.objects[id]
	switch {
	case !there:
		return nil
	case !slices.Contains(kept.orphans(records), id):
		return fmt.Errorf("remove %s of %s at %s: a revision has it", id, workload, s.Name)
	case to.stays():
		return fmt.Errorf("remove %s of %s at %s: it is to be kept, or was there before; delete it by hand", id, workload, s.Name)
	}
	return s.takeAll(ctx, kept, []string{id})
}

// takeObject deletes an object that is this part's.
func (s *Site) takeObject(ctx context.Context, workload, part string, o declare.Object) error {
	k, err := s.connection.kindFor(ctx, o)
	if errors.Is(err, errNoKind) {
		return nil // with its kind all of its objects went
	} else if err != nil {
		return err
	}
	if s.alsoAt(k, workload, part, declare.ObjectID(o)) != "" {
		return nil // it stays for that one
	}
	s.connection.follow(k, s.Namespace)
	if err := s.connection.mirror.await(ctx, func() bool { return s.connection.mirror.lacks(k, s.Namespace) != errNotYet }); err != nil {
		return unreachable(s.Name, err)
	}
	live := s.liveObject(k, o)
	if live == nil || live.GetLabels()[labelWorkload] != workload || live.GetLabels()[labelPart] != part || live.GetDeletionTimestamp() != nil {
		return nil
	}
	return s.connection.remove(ctx, k, live)
}

// liveObject is an object as the watches tell it; nil where there is none with our label.
func (s *Site) liveObject(k kind, o declare.Object) *unstructured.Unstructured {
	namespace := s.Namespace
	if k.cluster {
		namespace = ""
	}
	return s.connection.mirror.get(k, namespace, declare.TextAt(o, "metadata", "name"))
}
