package cluster

import (
	"fmt"
	"reflect"
	"slices"
	"strings"
	"time"

	"k8s.io/apimachinery/pkg/api/resource"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"sigs.k8s.io/structured-merge-diff/v6/fieldpath"
	"sigs.k8s.io/structured-merge-diff/v6/value"

	"aditus/internal/core/declare"
	"aditus/internal/status"
)

// projection shows of a live object what is declared of it, by who looks after each field: what we still look after is as it
// was put there, in whichever form the server keeps it; what others took over is as it is now, with who did; and what was
// filled in beside is nobody's difference.
type projection struct {
	ours   *fieldpath.Set // nil where nothing is known of who looks after what
	others []managed
	owners map[string]string // by JSON Pointer within the object
	as     func(time.Time) time.Time
}

// managed is what another manager looks after.
type managed struct {
	metav1.ManagedFieldsEntry
	set *fieldpath.Set
}

// project gives a live object in the form of the declared one, and who set what differs, by JSON Pointer. Where nothing
// differs it is the declared one itself.
func project(declared declare.Object, live map[string]any, fields []metav1.ManagedFieldsEntry, as func(time.Time) time.Time) (declare.Object, map[string]string) {
	p := &projection{owners: map[string]string{}, as: as}
	for _, entry := range fields {
		set := &fieldpath.Set{}
		if entry.FieldsV1 == nil || set.FromJSON(entry.FieldsV1.GetRawReader()) != nil || entry.Subresource != "" {
			continue
		}
		if entry.Manager == manager {
			if p.ours == nil {
				p.ours = set
			} else {
				p.ours = p.ours.Union(set)
			}
			continue
		}
		p.others = append(p.others, managed{entry, set})
	}
	shown := make(declare.Object, len(declared))
	alike := true
	for key, want := range declared {
		if key == "apiVersion" || key == "kind" {
			shown[key] = want
			continue
		}
		got, there := p.walk("/"+declare.Escape(key), fieldpath.Path{fieldOf(key)}, under(p.ours, fieldOf(key)), want, live[key])
		if there {
			shown[key] = got
		}
		alike = alike && there && identical(got, want)
	}
	if alike {
		return declared, nil
	}
	return shown, p.owners
}

// node is a place in the set of what we look after: what there is of it below, and whether all of it is ours as one.
type node struct {
	set   *fieldpath.Set
	whole bool
}

func fieldOf(key string) fieldpath.PathElement { return fieldpath.PathElement{FieldName: &key} }

// under goes down one step.
func under(set *fieldpath.Set, step fieldpath.PathElement) node {
	if set == nil {
		return node{}
	}
	below, deeper := set.Children.Get(step)
	return node{below, set.Members.Has(step) && !deeper}
}

func (p *projection) step(at node, step fieldpath.PathElement) node {
	if at.whole {
		return at
	}
	return under(at.set, step)
}

// walk shows one value; it is not there where that was taken out.
func (p *projection) walk(pointer string, path fieldpath.Path, at node, want, live any) (any, bool) {
	switch w := want.(type) {
	case map[string]any:
		l, is := live.(map[string]any)
		if !is {
			if len(w) == 0 && live == nil || at.whole {
				return want, true
			}
			return p.tell(pointer, path, live)
		}
		shown, alike := make(map[string]any, len(w)), true
		for key, value := range w {
			got, there := p.walk(pointer+"/"+declare.Escape(key), append(slices.Clip(path), fieldOf(key)), p.step(at, fieldOf(key)), value, l[key])
			if there {
				shown[key] = got
			}
			alike = alike && there && identical(got, value)
		}
		if alike {
			return want, true
		}
		return shown, true
	case []any:
		l, is := live.([]any)
		if !is {
			if len(w) == 0 && live == nil || at.whole {
				return want, true
			}
			return p.tell(pointer, path, live)
		}
		return p.list(pointer, path, at, w, l)
	}
	if at.whole || equalValue(want, live, pointer) {
		return want, true
	}
	return p.tell(pointer, path, live)
}

// list shows a list: item by item where those are told apart by keys, or else as one.
func (p *projection) list(pointer string, path fieldpath.Path, at node, want, live []any) (any, bool) {
	if at.whole || equalValue(want, live, pointer) {
		return want, true
	}
	if len(want) == 0 || slices.ContainsFunc(want, func(item any) bool { _, is := item.(map[string]any); return !is }) {
		if p.scalars(at, want) {
			return want, true
		}
		return p.tell(pointer, path, live)
	}
	shown, alike := []any{}, true
	for i, item := range want {
		of := item.(map[string]any)
		step, there := at.item(of)
		match := matching(live, of, step)
		if match == nil && !there && len(live) == len(want) && keyOf(want) == "" {
			match, _ = live[i].(map[string]any)
		}
		below := node{}
		if there {
			below = p.step(at, step)
		} else {
			step = fieldpath.PathElement{Index: &i}
		}
		if match == nil {
			p.tell(pointer, path, live)
			alike = false
			continue
		}
		got, _ := p.walk(fmt.Sprintf("%s/%d", pointer, i), append(slices.Clip(path), step), below, item, match)
		shown = append(shown, got)
		alike = alike && identical(got, item)
	}
	if alike {
		return want, true
	}
	return shown, true
}

// scalars tells whether all values of a set are ours still.
func (p *projection) scalars(at node, want []any) bool {
	if at.set == nil {
		return false
	}
	for _, item := range want {
		v := value.NewValueInterface(item)
		if !at.set.Members.Has(fieldpath.PathElement{Value: &v}) {
			return false
		}
	}
	return true
}

// item finds the step that leads to a declared item of a list, by the keys with which the server tells its items apart. A key
// that is not declared was filled in.
func (at node) item(want map[string]any) (step fieldpath.PathElement, found bool) {
	if at.set == nil {
		return step, false
	}
	look := func(pe fieldpath.PathElement) {
		if found || pe.Key == nil {
			return
		}
		for _, field := range *pe.Key {
			if declared, has := want[field.Name]; has && !equalValue(declared, field.Value.Unstructured(), "") {
				return
			}
		}
		step, found = pe, true
	}
	at.set.Members.Iterate(look)
	at.set.Children.Iterate(look)
	return step, found
}

// matching finds the live item that is a declared one.
func matching(live []any, want map[string]any, step fieldpath.PathElement) map[string]any {
	if step.Key == nil {
		key := keyOf([]any{want})
		if key == "" {
			return nil
		}
		of, _ := itemOf(live, key, want[key]).(map[string]any)
		return of
	}
	for _, item := range live {
		of, _ := item.(map[string]any)
		if of != nil && !slices.ContainsFunc(*step.Key, func(f value.Field) bool { return !equalValue(f.Value.Unstructured(), of[f.Name], "") }) {
			return of
		}
	}
	return nil
}

// tell shows what is live at a place, with who set it.
func (p *projection) tell(pointer string, path fieldpath.Path, live any) (any, bool) {
	newest := time.Time{}
	for _, other := range p.others {
		if !hasUnder(other.set, path) {
			continue
		}
		at := time.Time{}
		if other.Time != nil {
			at = p.as(other.Time.Time)
		}
		if _, told := p.owners[pointer]; !told || at.After(newest) {
			newest = at
			p.owners[pointer] = other.Manager
			if !at.IsZero() {
				p.owners[pointer] += " at " + at.UTC().Format("15:04:05 UTC on 2 January")
			}
		}
	}
	if live == nil {
		return nil, false
	}
	return plain(live), true
}

// hasUnder tells whether a set has a path, or anything below it.
func hasUnder(set *fieldpath.Set, path fieldpath.Path) bool {
	for i, step := range path {
		last := i == len(path)-1
		if last && set.Members.Has(step) {
			return true
		}
		below, ok := set.Children.Get(step)
		if !ok {
			return set.Members.Has(step)
		}
		if set = below; last {
			return !below.Empty()
		}
	}
	return false
}

// plain is a value as JSON gives it, with all numbers float64.
func plain(v any) any {
	switch of := v.(type) {
	case map[string]any:
		found := make(map[string]any, len(of))
		for key, value := range of {
			found[key] = plain(value)
		}
		return found
	case []any:
		found := make([]any, len(of))
		for i, value := range of {
			found[i] = plain(value)
		}
		return found
	case int64:
		return float64(of)
	case int:
		return float64(of)
	}
	return v
}

// identical tells whether two values are the very same, as walk leaves what does not differ.
func identical(a, b any) bool {
	switch x := a.(type) {
	case map[string]any:
		y, is := b.(map[string]any)
		return is && reflect.ValueOf(x).UnsafePointer() == reflect.ValueOf(y).UnsafePointer()
	case []any:
		y, is := b.([]any)
		return is && len(x) == len(y) && (len(x) == 0 || &x[0] == &y[0])
	}
	switch b.(type) {
	case map[string]any, []any:
		return false
	}
	return a == b
}

// texts are the places where a text is just that, and never a quantity.
var texts = []string{"/data/", "/stringData/", "/metadata/", "/env/", "/args/", "/command/"}

// equalValue tells whether two values are one, whatever form JSON has them in; quantities in any notation.
func equalValue(a, b any, pointer string) bool {
	switch x := a.(type) {
	case map[string]any:
		y, is := b.(map[string]any)
		if !is || len(x) != len(y) {
			return false
		}
		for key, value := range x {
			if other, there := y[key]; !there || !equalValue(value, other, pointer+"/"+key) {
				return false
			}
		}
		return true
	case []any:
		y, is := b.([]any)
		return is && slices.EqualFunc(x, y, func(a, b any) bool { return equalValue(a, b, pointer) })
	case string:
		if b == nil {
			return x == ""
		}
	case bool:
		if b == nil {
			return !x
		}
	}
	if m, ok := asNumber(a); ok {
		if n, ok := asNumber(b); ok {
			return m == n
		}
	}
	switch b.(type) {
	case map[string]any, []any:
		return false
	}
	if a == b {
		return true
	}
	if slices.ContainsFunc(texts, func(t string) bool { return strings.Contains(pointer+"/", t) }) {
		return false
	}
	one, errOne := resource.ParseQuantity(fmt.Sprint(a))
	two, errTwo := resource.ParseQuantity(fmt.Sprint(b))
	return errOne == nil && errTwo == nil && one.Cmp(two) == 0
}

func asNumber(v any) (float64, bool) {
	switch n := v.(type) {
	case float64:
		return n, true
	case int64:
		return float64(n), true
	case int:
		return float64(n), true
	}
	return 0, false
}

// mostFields is how many of the fields that another one looks after are named.
const mostFields = 12

// holdings tells who else looks after fields of an object, but for its status, which is its controllers'.
func holdings(fields []metav1.ManagedFieldsEntry, as func(time.Time) time.Time) (found []status.Holding) {
	for _, entry := range fields {
		set := &fieldpath.Set{}
		if entry.Manager == manager || entry.FieldsV1 == nil || set.FromJSON(entry.FieldsV1.GetRawReader()) != nil || entry.Subresource == "status" {
			continue
		}
		held := status.Holding{Owner: entry.Manager}
		if entry.Time != nil {
			held.At = as(entry.Time.Time)
		}
		set.Leaves().Iterate(func(path fieldpath.Path) {
			text := strings.TrimPrefix(path.String(), ".")
			switch {
			case strings.HasPrefix(text, "status"):
			case len(held.Fields) == mostFields:
				held.More++
			default:
				held.Fields = append(held.Fields, text)
			}
		})
		if len(held.Fields) > 0 {
			found = append(found, held)
		}
	}
	return found
}
