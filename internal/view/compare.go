package view

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"

	"aditus/internal/core/berth"
	"aditus/internal/core/compare"
	"aditus/internal/core/declare"
	"aditus/internal/core/plan"
	"aditus/internal/core/say"
	"aditus/internal/ledger"
	"aditus/internal/source"
	"aditus/internal/status"
	"aditus/internal/words"
)

// Comparison is a berth's three states held against each other, field by field, with what a sync would do.
type Comparison struct {
	Berth      berth.ID             `json:"berth"`
	Applied    string               `json:"applied"`  // what it is, in a few words; empty for nothing
	Declared   string               `json:"declared"` // so too
	Live       string               `json:"live"`
	Preview    bool                 `json:"preview,omitempty"` // declared is not what Git declares now, but something asked for
	Two        bool                 `json:"two,omitempty"`     // only two declared states are compared; live is not among them
	SyncStatus compare.SyncStatus   `json:"stand"`
	Fields     []compare.Difference `json:"fields"` // those that agree too, with an empty kind
	Plan       plan.Plan            `json:"plan"`
	Patch      []compare.Operation  `json:"patch"`      // RFC 6902: makes live what is declared
	Does       []string             `json:"sync"`       // what a sync would do, in sentences
	Undoes     []string             `json:"overwrites"` // what was changed by hand and a sync would overwrite
}

// Differs tells whether anything does.
func (c Comparison) Differs() bool {
	return slices.ContainsFunc(c.Fields, func(d compare.Difference) bool { return d.Kind != compare.Same && d.Kind != compare.Left })
}

// NewComparison compares a berth. preview is what to compare with instead of what Git declares; nil for none.
func NewComparison(book *ledger.Ledger, b status.Berth, preview *berth.Revision) (Comparison, error) {
	desired := func(r *berth.Revision) (*declare.Desired, error) {
		if r == nil || r.Desired != nil {
			if r == nil {
				return nil, nil
			}
			return r.Desired, nil
		}
		kept, err := book.Revision(r.Workload, r.Fingerprint)
		if err != nil {
			return nil, err
		}
		return kept.Desired, nil
	}
	declared := b.Declared
	if preview != nil {
		declared = preview
	}
	applied, err := desired(b.Applied)
	if err != nil {
		return Comparison{}, err
	}
	wanted, err := desired(declared)
	if err != nil {
		return Comparison{}, err
	}
	applied, wanted = berth.Resize(applied, b.Sized), berth.Resize(wanted, b.Sized)
	live, unseen := b.Live, b.Looked.IsZero() && applied != nil
	if unseen { // nothing is claimed of a site that nobody looked at
		live = compare.LiveOf(applied)
	}
	c := Comparison{
		Berth: b.ID, Applied: named(b.Applied), Declared: named(declared), Live: LiveWords(b), Preview: preview != nil,
		SyncStatus: b.SyncStatus, Fields: compare.Fields(applied, wanted, live),
	}
	owners := map[string]string{}
	for _, d := range b.Differences {
		owners[d.Pointer] = d.Owner
	}
	for i, d := range c.Fields {
		c.Fields[i].Owner = owners[d.Pointer]
	}
	differences := compare.Three(applied, wanted, live)
	for i, d := range differences {
		differences[i].Owner = owners[d.Pointer]
	}
	c.Plan = plan.New(wanted, differences)
	c.Patch = compare.Patch(wanted, live)
	if preview != nil {
		c.SyncStatus = compare.SyncStatusOf(differences, live != nil)
	}
	c.Does, c.Undoes = sentences(c, wanted, differences)
	if preview == nil {
		for _, told := range b.Trial {
			c.Does = append(c.Does, "Of "+told)
		}
	}
	if unseen {
		c.Does = append(c.Does, "The site was not seen yet, so what was changed there by hand is not among this")
	}
	return c, nil
}

// PreviewRevision makes a revision of what another ref declares, for a comparison alone.
func PreviewRevision(id berth.ID, desired *declare.Desired, commit source.Commit) *berth.Revision {
	return &berth.Revision{
		Workload: id.Workload, Fingerprint: desired.Fingerprint(), Version: desired.Version(), Commit: commit.Hash,
		Subject: commit.Subject, Author: commit.Author, At: commit.At, Signed: commit.Signed, Desired: desired,
	}
}

// SameStates tells whether a comparison of a berth would come to the same at both moments.
func SameStates(a, b status.Berth) bool {
	same := func(x, y *berth.Revision) bool {
		return x == nil && y == nil || x != nil && y != nil && x.Fingerprint == y.Fingerprint
	}
	return a.Looked.IsZero() == b.Looked.IsZero() && a.SyncStatus == b.SyncStatus && same(a.Applied, b.Applied) && same(a.Declared, b.Declared) && reflect.DeepEqual(a.Live, b.Live)
}

// CompareTwo compares two revisions, or what two sites declare.
func CompareTwo(id berth.ID, fromName, toName string, from, to *declare.Desired) Comparison {
	c := Comparison{Berth: id, Applied: fromName, Declared: toName, Two: true, Fields: compare.Two(from, to), Patch: compare.PatchTwo(from, to)}
	c.Plan = plan.New(to, c.Fields)
	return c
}

func named(r *berth.Revision) string {
	if r == nil {
		return ""
	}
	return strings.TrimSpace(r.Version + " " + r.Fingerprint.Short())
}

// LiveWords tells when what is live was seen.
func LiveWords(b status.Berth) string {
	switch {
	case b.Looked.IsZero():
		return "not seen yet"
	case b.Live == nil && takenAsItIs(b) > 0:
		return fmt.Sprintf("what is declared is there already (%d found), and nobody's: a sync takes it over as it is", takenAsItIs(b))
	case b.Live == nil:
		return "nothing is there"
	}
	return "seen " + b.Looked.Local().Format("15:04:05")
}

// takenAsItIs is how much a site says is there exactly as they are declared, though nobody put them there through Aditus.
func takenAsItIs(b status.Berth) (n int) {
	for _, told := range b.Trial {
		if strings.HasSuffix(told, status.TakenAsItIs) {
			n++
		}
	}
	return n
}

// sentences tell what a sync would do, and what it would overwrite.
func sentences(c Comparison, declared *declare.Desired, differences []compare.Difference) (does, undoes []string) {
	for _, d := range differences {
		switch d.Kind {
		case compare.Drift, compare.Conflict:
			undoes = append(undoes, Overwrite(d))
		case compare.Orphan:
			name := d.Part()
			if id, _ := d.Object(); id != "" {
				name = id
			}
			does = append(does, fmt.Sprintf("%s is live and not declared: it stays unless you remove it", name))
		case compare.Left:
			does = append(does, fmt.Sprintf("%s stays as it is live, %s: the declaration leaves it to others", Field(d.Pointer), Value(d.Live)))
		}
	}
	steps := c.Plan.Waves
	switch {
	case declared == nil:
		return append(does, "Nothing is declared here, so a sync does nothing; nothing is removed either"), undoes
	case len(does) == 0 && len(differences) == 0:
		return []string{"Nothing: applied, declared and live agree"}, undoes
	case c.SyncStatus == compare.Drifted:
		return append(does, "It puts back what was changed by hand, at once and without a rollout"), undoes
	case len(steps) > 0 && c.Plan.OnlyMarks(), len(steps) == 0 && len(c.Plan.Rules) > 0:
		return append(does, "It only marks: nothing that runs changes"), undoes
	}
	for i, wave := range steps {
		var texts []string
		for _, step := range wave {
			texts = append(texts, stepWords(step))
		}
		lead := "First "
		if i > 0 {
			lead = "Then, once that is healthy, "
		}
		if len(steps) == 1 {
			lead = "It rolls out in its stages: "
		}
		does = append(does, lead+say.Few(texts, 4))
	}
	return does, undoes
}

// stepWords tells a step of a sync: from what is live to what is declared.
func stepWords(step plan.Step) string {
	switch step.Act {
	case plan.Add:
		return "add " + step.Part
	case plan.Change:
		if len(step.Fields) == 1 {
			d := step.Fields[0]
			return fmt.Sprintf("change %s from %s to %s", Field(d.Pointer), short(Value(d.Live)), short(Value(d.Declared)))
		}
		return fmt.Sprintf("change %s in %s", step.Part, say.Count(len(step.Fields), "field"))
	case plan.Keep:
		return "mark " + step.Part
	}
	return step.String()
}

// short is a value as far as it fits into a sentence.
func short(text string) string {
	const most = 60
	text = compare.Short(text)
	if runes := []rune(text); len(runes) > most {
		return string(runes[:most]) + "…"
	}
	return text
}

// Overwrite tells what a sync does to a change made by hand.
func Overwrite(d compare.Difference) string {
	switch {
	case d.Live == nil:
		return fmt.Sprintf("%s was removed by %s and comes back", Field(d.Pointer), cmp.Or(d.Owner, "hand"))
	case d.Declared == nil:
		return fmt.Sprintf("%s was added by %s and goes", Field(d.Pointer), cmp.Or(d.Owner, "hand"))
	}
	return fmt.Sprintf("%s was set to %s by %s and becomes %s", Field(d.Pointer), short(Value(d.Live)), cmp.Or(d.Owner, "hand"), short(Value(d.Declared)))
}

// Seen tells whether a site can show a field; the rest of a declaration lives in Aditus alone.
func Seen(pointer string) bool {
	keys := strings.Split(pointer, "/")
	return len(keys) >= 3 && keys[1] == "parts" && (len(keys) == 3 || slices.Contains(compare.Observed, keys[3]))
}

// Field names a place of a desired state as people read it: gate environment LOG_LEVEL.
func Field(pointer string) string {
	text := strings.TrimPrefix(strings.TrimPrefix(pointer, "/parts"), "/")
	keys := strings.Split(text, "/")
	for i, key := range keys {
		keys[i] = declare.Unescape(key)
	}
	if len(keys) >= 3 && keys[1] == "objects" { // Deployment/gate spec.replicas
		return strings.TrimSpace(keys[2] + " " + strings.Join(keys[3:], "."))
	}
	return strings.Join(keys, " ")
}

// mostObjects is how many of a part's objects are named where it stands in one line.
const mostObjects = 12

// Value writes a value of a desired state on one line.
func Value(value any) string {
	switch v := value.(type) {
	case nil:
		return "nothing"
	case string:
		return v
	case map[string]any:
		if objects, are := v["objects"].(map[string]any); are && v["kind"] == string(declare.Objects) {
			return say.Few(slices.Sorted(maps.Keys(objects)), mostObjects)
		}
	}
	text, err := json.Marshal(value)
	if err != nil {
		return fmt.Sprint(value)
	}
	return string(text)
}

// KindWords say what kinds of difference mean.
var KindWords = map[compare.Kind]string{
	compare.Pending: "Git moved on", compare.Drift: "changed at the site", compare.Conflict: "both, and not alike",
	compare.Orphan: "live, not declared", compare.MarkOnly: "only marked", compare.Left: "left to others",
}

// ToneOf is a difference's tone.
func ToneOf(kind compare.Kind) words.Tone {
	switch kind {
	case compare.Pending, compare.MarkOnly:
		return words.Moves
	case compare.Drift, compare.Conflict, compare.Orphan:
		return words.Bad
	}
	return words.Quiet
}

// FindRevision finds a revision of a workload by the beginning of its fingerprint, or by its version where only one
// has it.
func FindRevision(book *ledger.Ledger, workload, wanted string) (*berth.Revision, error) {
	found, err := book.Revisions(workload, wanted)
	switch {
	case err != nil:
		return nil, err
	case len(found) == 0:
		return nil, fmt.Errorf("%s has no revision %q on record", workload, wanted)
	case len(found) == 1:
		return &found[0], nil
	}
	var names []string
	for _, r := range found {
		names = append(names, named(&r))
	}
	return nil, fmt.Errorf("%q could be %s: write more of the fingerprint", wanted, say.Few(names, 5))
}
