package declare

import (
	"fmt"
	"maps"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// Object is an object of a cluster's API as it is declared: as JSON gives it, all numbers float64, without what only the
// cluster writes. Of a Secret it has fingerprints where the values stand.
type Object = map[string]any

// Marks that the author of an object may write among its annotations, with the value "true".
const (
	KeepMark    = "aditus/keep"    // it is never taken away, also where nobody declares it any more
	ReplaceMark = "aditus/replace" // where it cannot be changed it is deleted and made anew
)

// HiddenValue stands in a Secret where a value is that cannot be opened here.
const HiddenValue = "sealed"

// ObjectID names an object within a workload: KIND/NAME, with the group after a kind that is not one of the cluster's own
// (Boat.skerry.example/auk), and NAMESPACE/ before the name where the object says one.
func ObjectID(o Object) string {
	group, _, versioned := strings.Cut(TextAt(o, "apiVersion"), "/")
	kind := TextAt(o, "kind")
	if versioned && strings.Contains(group, ".") && !strings.HasSuffix(group, ".k8s.io") {
		kind += "." + group
	}
	name := TextAt(o, "metadata", "name")
	if namespace := TextAt(o, "metadata", "namespace"); namespace != "" {
		name = namespace + "/" + name
	}
	return kind + "/" + name
}

// KindOfID is the kind in an object's ID, with its group where that is told.
func KindOfID(id string) string {
	kind, _, _ := strings.Cut(id, "/")
	return kind
}

// TextAt gives a text within an object; empty where there is none.
func TextAt(o Object, path ...string) string {
	var value any = o
	for _, key := range path {
		of, _ := value.(map[string]any)
		value = of[key]
	}
	text, _ := value.(string)
	return text
}

// Kept tells whether an object is never taken away by itself: it has the mark, or what it holds would be lost with it.
func Kept(o Object) bool {
	switch TextAt(o, "kind") {
	case "Namespace", "CustomResourceDefinition", "PersistentVolumeClaim", "PersistentVolume":
		return true
	}
	return TextAt(o, "metadata", "annotations", KeepMark) == "true"
}

// ranks are the waves in which kinds come: what others stand in and are made of, who may do what, what is read, what keeps
// data, what runs, what leads to it, and all else.
var ranks = map[string]int{
	"Namespace":                0,
	"CustomResourceDefinition": 1, "PriorityClass": 1, "StorageClass": 1, "RuntimeClass": 1, "APIService": 1,
	"ServiceAccount": 2, "Role": 2, "ClusterRole": 2, "RoleBinding": 2, "ClusterRoleBinding": 2, "ResourceQuota": 2, "LimitRange": 2, "NetworkPolicy": 2,
	"ConfigMap": 3, "Secret": 3,
	"PersistentVolume": 4, "PersistentVolumeClaim": 4,
	"Deployment": 5, "StatefulSet": 5, "DaemonSet": 5, "ReplicaSet": 5, "Job": 5, "CronJob": 5, "Pod": 5, "Service": 5,
	"Ingress": 6, "HTTPRoute": 6, "GRPCRoute": 6, "Gateway": 6,
}

// lastRank is that of all kinds that are not in ranks; those that are the author's own come once their definition is there.
const lastRank = 7

// ObjectWaves gives the objects of a part in the order in which they come, by their IDs: those of one wave may go together,
// and each wave comes once the one before it is healthy. Claims and what uses them are one wave apart, though a claim may
// wait for its first pod.
func (p Part) ObjectWaves() [][]string {
	var byRank [lastRank + 1][]string
	for id, o := range p.Objects {
		byRank[ObjectRank(o)] = append(byRank[ObjectRank(o)], id)
	}
	var waves [][]string
	for _, ids := range byRank {
		if len(ids) > 0 {
			slices.Sort(ids)
			waves = append(waves, ids)
		}
	}
	return waves
}

// ObjectRank is the wave in which an object comes, among those of all kinds.
func ObjectRank(o Object) int {
	kind, _, _ := strings.Cut(ObjectID(o), "/")
	if rank, known := ranks[kind]; known {
		return rank
	}
	return lastRank
}

// images are those of the containers of what runs in a part's objects, in the order of their IDs.
func (p Part) images() (found []string) {
	for _, id := range slices.Sorted(maps.Keys(p.Objects)) {
		if template := PodTemplate(p.Objects[id]); template != nil {
			spec, _ := template["spec"].(map[string]any)
			list, _ := spec["containers"].([]any)
			for _, c := range list {
				if of, _ := c.(map[string]any); TextAt(of, "image") != "" {
					found = append(found, TextAt(of, "image"))
				}
			}
		}
	}
	return found
}

// Pods is how many instances a part's objects ask for that are to be there all the time: one for each where that is the
// cluster's to say.
func (p Part) Pods() (sum int) {
	for _, o := range p.Objects {
		switch TextAt(o, "kind") {
		case "Deployment", "StatefulSet", "ReplicaSet":
			spec, _ := o["spec"].(map[string]any)
			if replicas, written := spec["replicas"].(float64); written {
				sum += int(replicas)
			} else {
				sum++
			}
		case "DaemonSet":
			sum++
		}
	}
	return sum
}

// PodTemplate gives what an object's pods are made from; nil where it has none.
func PodTemplate(o Object) map[string]any {
	spec, _ := o["spec"].(map[string]any)
	if TextAt(o, "kind") == "CronJob" {
		job, _ := spec["jobTemplate"].(map[string]any)
		spec, _ = job["spec"].(map[string]any)
	}
	template, _ := spec["template"].(map[string]any)
	return template
}

// objectName is the grammar of names of most objects: a DNS subdomain, and for access also colons.
var objectName = regexp.MustCompile(`^[a-z0-9A-Z]([a-zA-Z0-9.:_-]{0,251}[a-z0-9A-Z])?$`)

// objects reads a part of objects. Package source has put those of its files in already.
func (r *reader) objects(n Node, pointer string, part *Part, known map[string]func(Node, string)) {
	known["needs"] = func(n Node, p string) { part.Needs = r.sorted(n, p, "needs", "a part") }
	known["files"] = func(n Node, p string) { r.list(n, p, "files") }
	known["objects"] = func(n Node, p string) {
		part.Objects = map[string]Object{}
		r.entries(n, p, "objects", func(id string, key, value Node, p string) {
			if o := r.object(id, value, p, part); o != nil {
				part.Objects[id] = o
			}
		})
	}
	known["metrics"] = func(n Node, p string) {
		part.Metrics = r.metrics(n, p, func(n Node, p string) string { return r.text(n, p, "port") })
	}
	if r.fields(n, pointer, "a part of objects", nil, known) && len(part.Objects) == 0 {
		r.wrong(n, pointer, "write files: [NAME.yaml]", "a part of objects needs at least one")
	}
}

// object reads one object of the API.
func (r *reader) object(id string, n Node, pointer string, part *Part) Object {
	if n.Kind != Map {
		r.wrong(n, pointer, "", "an object must be a mapping, not %s", n.Kind)
		return nil
	}
	o, _ := r.value(n, pointer).(map[string]any)
	delete(o, "status") // the cluster's to write
	metadata, _ := o["metadata"].(map[string]any)
	for _, key := range []string{"creationTimestamp", "generation", "managedFields", "ownerReferences", "resourceVersion", "selfLink", "uid"} {
		delete(metadata, key)
	}
	name := TextAt(o, "metadata", "name")
	at := func(keys ...string) Node {
		found := n
		for _, key := range keys {
			if below, ok := found.Get(key); ok {
				found = below
			}
		}
		return found
	}
	switch {
	case TextAt(o, "apiVersion") == "" || TextAt(o, "kind") == "":
		r.wrong(n, pointer, "write apiVersion: and kind:", "the object %s does not say what it is: what stands for it here changes one of the part's files, and none has it", id)
		return nil
	case name == "":
		r.wrong(at("metadata"), pointer+"/metadata", "write metadata: {name: …}", "the object %s has no name of its own: one that the cluster makes up cannot be found again", id)
		return nil
	case !objectName.MatchString(name):
		r.wrong(at("metadata", "name"), pointer+"/metadata/name", "", "%q is no name of an object", name)
	case ObjectID(o) != id:
		r.wrong(n, pointer, "write it as "+ObjectID(o), "the object %s stands here as %s", ObjectID(o), id)
	}
	ofPods, _ := PodTemplate(o)["metadata"].(map[string]any)
	for i, metadata := range []map[string]any{metadata, ofPods} {
		for _, marks := range []string{"labels", "annotations"} {
			all, _ := metadata[marks].(map[string]any)
			for _, key := range slices.Sorted(maps.Keys(all)) {
				where, p := n, pointer
				if i == 0 {
					where, p = at("metadata", marks, key), pointer+"/metadata/"+marks+"/"+Escape(key)
				}
				if _, isText := all[key].(string); !isText {
					r.wrong(where, p, "put it in quotation marks", "the value of %s among the %s must be text", key, marks)
				} else if strings.HasPrefix(key, "aditus/") && (i > 0 || key != KeepMark && key != ReplaceMark) {
					r.wrong(where, p, "take it out", "the mark %s is written by Aditus itself", key)
				}
			}
		}
	}
	if TextAt(o, "apiVersion") == "v1" && TextAt(o, "kind") == "Secret" {
		r.secretObject(id, n, o, pointer, part)
	}
	return o
}

// sealedMark is how a value begins that is encrypted with age.
const sealedMark = "-----BEGIN AGE ENCRYPTED FILE-----"

// secretObject takes the values of a Secret out of it: they stand in Git encrypted, or not at all.
func (r *reader) secretObject(id string, n Node, o Object, pointer string, part *Part) {
	data, _ := n.Get("data")
	for _, entry := range data.Entries {
		r.wrong(entry.Value, pointer+"/data/"+Escape(entry.Key.Text), "seal it with aditus secret seal, and write it under stringData:", "the value %s of %s stands in Git for everybody to read", entry.Key.Text, id)
	}
	delete(o, "data")
	sealed, _ := n.Get("stringData")
	values, _ := o["stringData"].(map[string]any)
	for _, entry := range sealed.Entries {
		key := entry.Key.Text
		if !strings.HasPrefix(strings.TrimSpace(entry.Value.Text), sealedMark) {
			r.wrong(entry.Value, pointer+"/stringData/"+Escape(key), "seal it with aditus secret seal", "the value %s of %s stands in Git for everybody to read", key, id)
			continue
		}
		if part.Sealed == nil {
			part.Sealed = map[string]string{}
		}
		part.Sealed[SealedKey(id, key)], values[key] = entry.Value.Text, HiddenValue
	}
}

// SealedKey names a value of a Secret among a part's sealed values.
func SealedKey(id, key string) string { return id + "/" + key }

// ShowSealed puts a sealed value's fingerprint where it stands in its Secret.
func (p Part) ShowSealed(sealed, fingerprint string) {
	if i := strings.LastIndex(sealed, "/"); i > 0 && fingerprint != "" {
		if values, is := p.Objects[sealed[:i]]["stringData"].(map[string]any); is {
			values[sealed[i+1:]] = fingerprint
		}
	}
}

// value is what was written as JSON has it: without nulls, which mean that something is left out.
func (r *reader) value(n Node, pointer string) any {
	switch n.Kind {
	case Map:
		found := make(map[string]any, len(n.Entries))
		for _, entry := range n.Entries {
			if entry.Value.Kind != Null {
				found[entry.Key.Text] = r.value(entry.Value, pointer+"/"+Escape(entry.Key.Text))
			}
		}
		return found
	case List:
		found := make([]any, len(n.Items))
		for i, item := range n.Items {
			found[i] = r.value(item, fmt.Sprintf("%s/%d", pointer, i))
		}
		return found
	case Bool:
		return n.Text == "true"
	case Number:
		if whole, err := strconv.ParseInt(n.Text, 0, 64); err == nil && math.Abs(float64(whole)) <= 1<<53 { // 0644 is octal, as in YAML 1.1
			return float64(whole)
		}
		number, err := strconv.ParseFloat(n.Text, 64)
		if err != nil || math.IsInf(number, 0) || math.IsNaN(number) {
			r.wrong(n, pointer, "put it in quotation marks to mean text", "%q is no number that the API takes", n.Text)
		}
		return number
	case Null:
		return nil
	}
	return n.Text
}

// leaveObjects takes out of objects what is left to others there: what we do not write is theirs.
func (d Desired) leaveObjects() {
	for _, pointer := range d.Leave {
		steps := strings.Split(strings.TrimPrefix(pointer, "/parts/"), "/")
		if len(steps) < 4 || steps[1] != "objects" {
			continue
		}
		var at any = d.Parts[Unescape(steps[0])].Objects[Unescape(steps[2])]
		for _, step := range steps[3 : len(steps)-1] {
			switch of := at.(type) {
			case map[string]any:
				at = of[Unescape(step)]
			case []any:
				if i, err := strconv.Atoi(step); err == nil && i >= 0 && i < len(of) {
					at = of[i]
				} else {
					at = nil
				}
			}
		}
		if of, ok := at.(map[string]any); ok {
			delete(of, Unescape(steps[len(steps)-1]))
		}
	}
}

// OnlyObjects tells whether there are parts of objects, and none that is a service: what runs then is rolled by the cluster.
func (d Desired) OnlyObjects() bool {
	any := false
	for _, part := range d.Parts {
		if part.Kind == Service {
			return false
		}
		any = any || part.Kind == Objects
	}
	return any
}

// firstVersion is the tag of the first image that has one.
func firstVersion(images []string) string {
	for _, image := range images {
		if tag := Tag(image); tag != "" {
			return tag
		}
	}
	return ""
}

// objectVersion is what people call a workload of objects alone: the tag of the first image in them.
func (d Desired) objectVersion() string {
	for _, name := range slices.Sorted(maps.Keys(d.Parts)) {
		if version := firstVersion(d.Parts[name].images()); version != "" {
			return version
		}
	}
	return ""
}
