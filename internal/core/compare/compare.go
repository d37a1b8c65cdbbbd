// Package compare holds three states of a berth against each other: applied, what was last put there; declared, what
// Git says now; and live, what is really there. Every difference has a place and a kind.
package compare

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"aditus/internal/core/declare"
)

// Kind says what a difference is.
type Kind string

const (
	Pending  Kind = "pending"  // Git moved on
	Drift    Kind = "drift"    // changed at the site
	Conflict Kind = "conflict" // both, and not to the same value
	Orphan   Kind = "orphan"   // live and ours, no longer declared
	MarkOnly Kind = "mark"     // live is as declared already; only what is on record changes
	Left     Kind = "left"     // changed at the site where the declaration leaves that to others
	Same     Kind = ""         // all three agree
)

// Difference is one place where the three do not agree. A value is nil where there is none.
type Difference struct {
	Pointer  string `json:"pointer"` // JSON Pointer (RFC 6901) into the desired state
	Kind     Kind   `json:"kind"`
	Applied  any    `json:"applied,omitempty"`
	Declared any    `json:"declared,omitempty"`
	Live     any    `json:"live,omitempty"`
	Owner    string `json:"owner,omitempty"` // who set what is live, where the site knows that
}

// Part is the name of the part that the difference is in, or "" for what stands outside of parts.
func (d Difference) Part() string {
	rest, ok := strings.CutPrefix(d.Pointer, "/parts/")
	if !ok {
		return ""
	}
	name, _, _ := strings.Cut(rest, "/")
	return declare.Unescape(name)
}

// besideAt begins the pointers of sets that stand at a site beside what is applied.
const besideAt = "/beside/"

// BesidePointer is where a set of another revision than the applied one is told.
func BesidePointer(version string, revision declare.Fingerprint) string {
	return besideAt + declare.Escape(version) + "/" + revision.Short()
}

// Object gives the object that a difference is in, and the place in it; empty for none.
func (d Difference) Object() (id, place string) {
	steps := strings.SplitN(strings.TrimPrefix(d.Pointer, "/parts/"), "/", 4)
	if !strings.HasPrefix(d.Pointer, "/parts/") || len(steps) < 3 || steps[1] != "objects" {
		return "", ""
	}
	if len(steps) == 4 {
		place = steps[3]
	}
	return declare.Unescape(steps[2]), place
}

// String tells the difference in words, without its kind.
func (d Difference) String() string {
	text := d.told()
	if d.Owner != "" && d.Kind != Pending {
		text += ", set by " + d.Owner
	}
	return text
}

func (d Difference) told() string {
	field := strings.TrimPrefix(d.Pointer, "/parts/")
	if beside, ok := strings.CutPrefix(d.Pointer, besideAt); ok {
		version, short, _ := strings.Cut(beside, "/")
		return fmt.Sprintf("%s (%s) is there too, with %v", declare.Unescape(version), short, d.Live)
	}
	if id, place := d.Object(); id != "" {
		if field = id; place != "" {
			field = place + " of " + id
		}
	}
	part, objects := strings.CutSuffix(field, "/objects")
	switch {
	case objects:
		return part + ": " + strings.Join(objectsIn(d.Live), ", ")
	case d.Live == nil && d.Kind != Pending:
		return field + " is gone"
	case d.Kind == Pending && d.Declared == nil && d.Applied != nil && onesOwn(d.Pointer):
		return field + " is declared no longer"
	case d.Kind == Pending && d.Applied == nil && onesOwn(d.Pointer):
		return field + " is new"
	case d.Kind == Pending:
		return fmt.Sprintf("%s %s → %s", field, show(d.Applied), show(d.Declared))
	case d.Kind == Orphan:
		return field + " is live, but not declared"
	}
	return fmt.Sprintf("%s %s → %s", field, show(d.Applied), show(d.Live))
}

// objectsIn tells what a site says was changed in a part's objects.
func objectsIn(live any) (told []string) {
	all, _ := live.(map[string]any)
	for _, name := range slices.Sorted(maps.Keys(all)) {
		places, _ := all[name].(map[string]any)
		for _, place := range slices.Sorted(maps.Keys(places)) {
			told = append(told, fmt.Sprintf("%s of %s is %v", place, name, places[place]))
		}
	}
	return told
}

// ByWave gives differences in the order in which the objects that they are in come: what others are made of stands first.
func ByWave(all []Difference) []Difference {
	rank := func(d Difference) int {
		for _, o := range []any{d.Live, d.Applied, d.Declared} {
			if of, ok := o.(map[string]any); ok {
				return declare.ObjectRank(of)
			}
		}
		return 0
	}
	sorted := slices.Clone(all)
	slices.SortStableFunc(sorted, func(a, b Difference) int { return rank(a) - rank(b) })
	return sorted
}

// Short is an OCI reference by its last name and tag alone, and any other text as it is.
func Short(text string) string {
	if at := strings.LastIndex(text, "/"); at > 0 && strings.Contains(text[at:], ":") && !strings.ContainsAny(text, " \n") {
		text = text[at+1:]
	}
	return text
}

func show(value any) string {
	switch v := value.(type) {
	case nil:
		return "nothing"
	case string:
		return Short(v)
	case map[string]any, []any:
		return "…"
	default:
		text, _ := json.Marshal(v)
		return string(text)
	}
}

// Observed are the fields of a part that a site can show. The rest of a declaration, such as probes, lives in Aditus
// alone and is never drift. In objects a site tells what else of a part was changed there, by object and place: nobody
// declares that.
var Observed = []string{"kind", "artifact", "command", "instances", "environment", "values", "volumes", "service", "to", "host", "preview", "preview-by", "grpc", "tcp", "sticky", "size", "resources", "user", "objects"}

// Told are fields by which a site tells what became of a process or a folder. Nobody declares them.
var Told = []string{"process", "mode", "owner"}

// Kept are the fields of a part that say how it is looked after, and not what runs: a change of theirs alone starts
// nothing anew.
var Kept = []string{"needs", "probes", "metrics", "sealed", "not-undoable", "rules"}

// Live is what is really at a site: by part, the Observed fields in the form of a declaration. A nil Live means that
// nothing of the workload is there.
type Live map[string]any

// Three compares and gives where the three differ. A nil applied means that nothing was put there yet.
func Three(applied, declared *declare.Desired, live Live) []Difference {
	return compare(applied, declared, live, false)
}

// Fields compares and gives every field, those that agree too.
func Fields(applied, declared *declare.Desired, live Live) []Difference {
	return compare(applied, declared, live, true)
}

// Two compares two declared states: what would change from one to the other.
func Two(from, to *declare.Desired) []Difference {
	w := walker{}
	w.walk("", tree(from), tree(to), tree(from))
	return w.found
}

func compare(applied, declared *declare.Desired, live Live, all bool) []Difference {
	w := walker{all: all}
	for _, desired := range []*declare.Desired{declared, applied} {
		if desired != nil {
			w.leave = desired.Leave
			break
		}
	}
	if !all {
		applied, declared, live = differing(applied, declared, live)
	}
	a, d := tree(applied), tree(declared)
	l := any(nil)
	if live != nil || applied != nil { // where all is gone, how it is rolled out is not
		l = overlay(a, live)
	}
	w.walk("", a, d, l)
	return w.found
}

// overlay is the applied state with all that a site can show replaced by what it shows.
func overlay(applied any, live Live) any {
	base, _ := applied.(map[string]any)
	whole := maps.Clone(base)
	if whole == nil {
		whole = map[string]any{}
	}
	known, _ := base["parts"].(map[string]any)
	parts := map[string]any{}
	for name, seen := range live {
		part := map[string]any{}
		if before, ok := known[name].(map[string]any); ok {
			maps.Copy(part, before)
			for _, field := range Observed {
				delete(part, field)
			}
		}
		if fields, ok := seen.(map[string]any); ok {
			maps.Copy(part, fields)
		}
		parts[name] = part
	}
	whole["parts"] = parts
	return whole
}

type walker struct {
	all   bool // fields that agree are wanted too
	leave []string
	found []Difference
}

// onesOwn tells whether a place is that of a part, or of an object within one: one that is not everywhere differs as a whole.
func onesOwn(pointer string) bool {
	steps := strings.Split(pointer, "/")
	return len(steps) == 3 && steps[1] == "parts" || len(steps) == 5 && steps[1] == "parts" && steps[3] == "objects"
}

// withinObject tells whether a place is within an object of a cluster's API, where a list is gone into.
func withinObject(pointer string) bool {
	steps := strings.SplitN(pointer, "/", 5)
	return len(steps) == 5 && steps[1] == "parts" && steps[3] == "objects"
}

// alike pairs the items of lists of mappings, where all three have as many.
func alike(applied, declared, live any) (items [][3]any, ok bool) {
	a, isA := applied.([]any)
	d, isD := declared.([]any)
	l, isL := live.([]any)
	if !isA || !isD || !isL || len(a) != len(d) || len(a) != len(l) {
		return nil, false
	}
	for i := range a {
		for _, one := range [...]any{a[i], d[i], l[i]} {
			if _, is := one.(map[string]any); !is {
				return nil, false
			}
		}
		items = append(items, [3]any{a[i], d[i], l[i]})
	}
	return items, len(items) > 0
}

// walk descends where the three are mappings, so that a difference names the deepest place it can. A part that one of
// them lacks differs as a whole.
func (w *walker) walk(pointer string, applied, declared, live any) {
	if !w.all && equal(applied, declared) && equal(applied, live) {
		return
	}
	a, isA := applied.(map[string]any)
	d, isD := declared.(map[string]any)
	l, isL := live.(map[string]any)
	count := 0
	for _, is := range [...]bool{isA, isD, isL} {
		if is {
			count++
		}
	}
	one := onesOwn(pointer)
	if count == 3 || (count == 2 && !one) || (count == 1 && (pointer == "" || pointer == "/parts")) {
		for _, key := range union(a, d, l) {
			w.walk(pointer+"/"+declare.Escape(key), a[key], d[key], l[key])
		}
		return
	}
	if items, ok := alike(applied, declared, live); ok && withinObject(pointer) {
		for i, item := range items {
			w.walk(fmt.Sprintf("%s/%d", pointer, i), item[0], item[1], item[2])
		}
		return
	}
	kind := judge(applied, declared, live)
	switch {
	case kind == Drift && one && applied == nil && declared == nil:
		kind = Orphan
	case (kind == Drift || kind == Conflict) && w.leaves(pointer):
		kind = Left
	}
	if kind != Same || w.all {
		w.found = append(w.found, Difference{Pointer: pointer, Kind: kind, Applied: applied, Declared: declared, Live: live})
	}
}

// union gives the keys of all three, sorted.
func union(a, d, l map[string]any) []string {
	keys := make([]string, 0, max(len(a), len(d), len(l)))
	for key := range a {
		keys = append(keys, key)
	}
	for key := range d {
		if _, in := a[key]; !in {
			keys = append(keys, key)
		}
	}
	for key := range l {
		if _, in := a[key]; in {
			continue
		}
		if _, in := d[key]; !in {
			keys = append(keys, key)
		}
	}
	slices.Sort(keys)
	return keys
}

// leaves tells whether a place is one that others look after.
func (w *walker) leaves(pointer string) bool {
	return slices.ContainsFunc(w.leave, func(left string) bool { return pointer == left || strings.HasPrefix(pointer, left+"/") })
}

func judge(applied, declared, live any) Kind {
	moved, changed := !equal(applied, declared), !equal(applied, live)
	switch {
	case moved && !changed:
		return Pending
	case !moved && changed:
		return Drift
	case moved && equal(declared, live):
		return MarkOnly
	case moved:
		return Conflict
	}
	return Same
}

// SyncStatus is how a berth stands to Git.
type SyncStatus string

const (
	Aligned  SyncStatus = "aligned"
	Behind   SyncStatus = "behind"   // Git moved on
	Drifted  SyncStatus = "drifted"  // changed by hand at the site
	Diverged SyncStatus = "diverged" // both
	Absent   SyncStatus = "absent"   // nothing there yet
	Unread   SyncStatus = "unread"   // no fresh look
)

// SyncStatusOf sums the differences up. live tells whether anything of the workload is at the site. An orphan stands beside
// what is declared and changes nothing of it.
func SyncStatusOf(differences []Difference, live bool) SyncStatus {
	if !live {
		return Absent
	}
	moved, changed := false, false
	for _, d := range differences {
		switch d.Kind {
		case Pending, MarkOnly:
			moved = true
		case Drift:
			changed = true
		case Conflict:
			moved, changed = true, true
		}
	}
	switch {
	case moved && changed:
		return Diverged
	case moved:
		return Behind
	case changed:
		return Drifted
	}
	return Aligned
}
