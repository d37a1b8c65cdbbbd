package cluster

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"

	"aditus/internal/core/berth"
	"aditus/internal/core/declare"
	"aditus/internal/target"
)

// record is what the cluster keeps of a cohort in a ConfigMap: which parts it has, and under which cohort's names their
// objects stand. A cohort is marked as another revision's by changing its record alone.
type record struct {
	place
	version string            // of its object
	born    time.Time         // when it was made
	forms   map[string]string // of its objects, by part and ID
	preview bool
	step    int64  // the last one that the site was told of
	whole   string // the revision itself, packed; empty where it is not kept
	parts   map[string]placed
}

// placed is a part with the cohort that its objects are named for, which is another one's where it was moved.
type placed struct {
	declare.Part
	Cohort string `json:"cohort"`
	UID    string `json:"uid,omitempty"` // secret: of the Secret that was laid
}

// What the record's ConfigMap has, and how it is told from the inventory of a part of objects.
const (
	partsKey     = "parts.json"
	objectsKey   = "objects.json.gz" // by part and ID: too much to stand there as it is
	wholeKey     = "revision.json.gz"
	recordCohort = "cohort"
)

// records are a workload's cohorts, by revision.
func (s *Site) records(workload string) (map[declare.Fingerprint]*record, error) {
	found := map[declare.Fingerprint]*record{}
	for _, o := range list[*unstructured.Unstructured](s.connection.mirror, configMaps, s.Namespace, workload) {
		if o.GetLabels()[labelRecord] != recordCohort || o.GetDeletionTimestamp() != nil {
			continue
		}
		if line := o.GetAnnotations()[annotationLine]; line != s.Line {
			return nil, fmt.Errorf("%s in the namespace %s is looked after by another line, %q: give this site another namespace, or call the line so in the settings", workload, s.Namespace, line)
		}
		r := &record{place: s.place(workload), version: o.GetResourceVersion(), preview: o.GetAnnotations()[annotationPreview] == "true", parts: map[string]placed{}}
		r.cohort, r.revision = o.GetLabels()[labelCohort], declare.Fingerprint(o.GetAnnotations()[annotationRevision])
		r.born = o.GetCreationTimestamp().Time
		r.step, _ = strconv.ParseInt(o.GetAnnotations()[annotationStep], 10, 64) // one that is no number was not written by us
		r.whole, _, _ = unstructured.NestedString(o.Object, "binaryData", wholeKey)
		text, _, _ := unstructured.NestedString(o.Object, "data", partsKey)
		if err := json.Unmarshal([]byte(text), &r.parts); err != nil || r.revision == "" || r.cohort == "" {
			return nil, spoilt(o)
		}
		if err := s.unpack(o, r); err != nil {
			return nil, spoilt(o)
		}
		found[r.revision] = r
	}
	return found, nil
}

func spoilt(o *unstructured.Unstructured) error {
	return fmt.Errorf("the ConfigMap %s in %s, in which Aditus keeps what it put there, was changed by hand and cannot be read: put it back as it was, or delete it with what it names", o.GetName(), o.GetNamespace())
}

// unpack adds the objects of a record's parts, which are read once for each form of it.
func (s *Site) unpack(o *unstructured.Unstructured, r *record) (err error) {
	text, _, _ := unstructured.NestedString(o.Object, "binaryData", objectsKey)
	if text == "" {
		return nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	before := s.unpacked[o.GetName()]
	if before.packed != text {
		if before.objects, err = unpacked(text); err != nil {
			return err
		}
		before.packed, before.forms = text, map[string]string{}
		for name, objects := range before.objects {
			for id, o := range objects {
				before.forms[name+" "+id] = form(o)
			}
		}
		s.unpacked[o.GetName()] = before
	}
	r.forms = before.forms
	for name, objects := range before.objects {
		part := r.parts[name]
		part.Objects = objects
		r.parts[name] = part
	}
	return nil
}

// keep writes a record.
func (s *Site) keep(ctx context.Context, r *record) error {
	objects, err := packed(r.parts)
	if err != nil {
		return err
	}
	bare := maps.Clone(r.parts)
	for name, part := range bare {
		part.Objects = nil
		bare[name] = part
	}
	text, err := json.Marshal(bare)
	if err != nil {
		return err
	}
	o := r.made("v1", "ConfigMap", recordName(r.workload, r.cohort), object{labelWorkload: r.workload, labelCohort: r.cohort, labelRecord: recordCohort})
	marks := object{annotationRevision: string(r.revision), annotationLine: s.Line}
	if r.preview {
		marks[annotationPreview] = "true"
	}
	if r.step > 0 {
		marks[annotationStep] = strconv.FormatInt(r.step, 10)
	}
	o["metadata"].(object)["annotations"] = marks
	o["data"] = object{partsKey: string(text)}
	binary := object{}
	if objects != "" {
		binary[objectsKey] = objects
	}
	if r.whole != "" && len(objects)+len(text)+len(r.whole) < mostRecord { // what there is no room for only Git knows
		binary[wholeKey] = r.whole
	}
	if len(binary) > 0 {
		o["binaryData"] = binary
	}
	_, err = s.connection.apply(ctx, o)
	return err
}

// note has the records keep the number of a step.
func (s *Site) note(ctx context.Context, records map[declare.Fingerprint]*record, step int64) error {
	var failed []error
	for _, r := range records {
		if r.step < step {
			r.step = step
			failed = append(failed, s.keep(ctx, r))
		}
	}
	return errors.Join(failed...)
}

// Remembered implements target.Rememberer.
func (s *Site) Remembered(workload string, revision declare.Fingerprint) *berth.Revision {
	records, err := s.records(workload)
	if err != nil || records[revision] == nil || records[revision].whole == "" {
		return nil
	}
	var kept target.Remembered
	if err := unzip(records[revision].whole, &kept); err != nil {
		return nil
	}
	return kept.Revision(revision)
}

// Remembers implements target.Rememberer: nothing is known of a cluster before it was asked.
func (s *Site) Remembers() []target.Berth { return nil }

// unrecorded are the objects that run a workload and that no record has: the record was deleted by hand, or a power cut came
// between the two.
func (s *Site) unrecorded(workload string, records map[declare.Fingerprint]*record) (found []*unstructured.Unstructured) {
	known := map[string]bool{}
	for _, r := range records {
		for name, part := range r.parts {
			known[name+"/"+part.Cohort] = true
		}
	}
	for _, k := range []kind{deployments, statefulSets} {
		for _, o := range list[*unstructured.Unstructured](s.connection.mirror, k, s.Namespace, workload) {
			if labels := o.GetLabels(); o.GetDeletionTimestamp() == nil && !known[labels[labelPart]+"/"+labels[labelCohort]] {
				found = append(found, o)
			}
		}
	}
	return found
}

// cohortFor gives a revision that has no record a cohort's name: that of what is there of it already, or a free one.
func (s *Site) cohortFor(workload string, revision declare.Fingerprint, records map[declare.Fingerprint]*record) string {
	for _, o := range s.unrecorded(workload, records) {
		if o.GetAnnotations()[annotationRevision] == string(revision) {
			return o.GetLabels()[labelCohort]
		}
	}
	return free(revision, records)
}

// free gives a cohort's name that no other cohort of the workload has: the revision's, as far as that goes. Objects of a
// cohort that was marked anew keep their names, and so does what was moved.
func free(revision declare.Fingerprint, records map[declare.Fingerprint]*record) string {
	taken := func(name string) bool {
		for _, r := range records {
			if r.cohort == name || slices.ContainsFunc(slices.Collect(maps.Values(r.parts)), func(p placed) bool { return p.Cohort == name }) {
				return true
			}
		}
		return false
	}
	name := strings.ToLower(revision.Short())
	for i := 2; taken(name); i++ {
		name = fmt.Sprintf("%s-%d", strings.ToLower(revision.Short()), i)
	}
	return name
}

// declared are the parts of a cohort that are named for it, as what pods are made from: those that were moved here have
// pods already.
func (r *record) declared() map[string]declare.Part {
	parts := map[string]declare.Part{}
	for name, p := range r.parts {
		parts[name] = p.Part
	}
	return parts
}

// at is where the objects of one of its parts belong.
func (r *record) at(part string) place {
	at := r.place
	at.cohort = r.parts[part].Cohort
	return at
}
