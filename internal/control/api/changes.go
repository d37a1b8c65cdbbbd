package api

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"time"

	jsonpatch "github.com/evanphx/json-patch/v5"
	"github.com/wI2L/jsondiff"

	"aditus/internal/core/berth"
	"aditus/internal/status"
)

// Change is what became of the snapshot before.
type Change struct {
	Seq    uint64          `json:"seq"`
	Now    time.Time       `json:"now"`
	Patch  json.RawMessage `json:"patch,omitempty"` // a JSON Patch (RFC 6902) of the snapshot without its seq, now and berths
	Berths []BerthChange   `json:"berths,omitempty"`
	Gone   []berth.ID      `json:"gone,omitempty"` // berths that are no more
}

// BerthChange is what became of a berth: a patch, or all of it where that says it in less or it is new.
type BerthChange struct {
	berth.ID
	Patch json.RawMessage `json:"patch,omitempty"` // a JSON Patch (RFC 6902)
	Berth json.RawMessage `json:"berth,omitempty"`
}

// lookedRest is how long a berth of which nothing changed but when it was looked at is not told of again.
const lookedRest = 5 * time.Second

// teller tells what changes from snapshot to snapshot.
type teller struct {
	rest   []byte           // of the last one
	berths []status.Berth   // as they were told
	at     map[berth.ID]int // where each is in berths
	looked time.Time        // when it was told last when all were looked at
}

// begin takes the snapshot from which on changes are told.
func (t *teller) begin(s status.Snapshot) error {
	rest, err := restOf(s)
	*t = teller{rest: rest, looked: s.Now}
	t.keep(s.Berths)
	return err
}

// keep remembers what was told.
func (t *teller) keep(berths []status.Berth) {
	t.berths, t.at = berths, make(map[berth.ID]int, len(berths))
	for i, b := range berths {
		t.at[b.ID] = i
	}
}

// restOf is what a snapshot tells beside its berths and its time.
func restOf(s status.Snapshot) ([]byte, error) {
	s.Seq, s.Now, s.Berths = 0, time.Time{}, nil
	return json.Marshal(s)
}

// next tells what is otherwise in a snapshot than in the one before.
func (t *teller) next(s status.Snapshot) (c Change, err error) {
	c = Change{Seq: s.Seq, Now: s.Now}
	rest, err := restOf(s)
	if err != nil {
		return c, err
	}
	if c.Patch, err = patch(t.rest, rest); err != nil {
		return c, err
	}
	looks := s.Now.Sub(t.looked) >= lookedRest || s.Now.Before(t.looked)
	told, same := slices.Clone(s.Berths), len(s.Berths) == len(t.berths)
	for i, b := range s.Berths {
		before, ok := i, i < len(t.berths) && t.berths[i].ID == b.ID
		if !ok {
			same = false
			before, ok = t.at[b.ID]
		}
		if !ok {
			whole, err := json.Marshal(b)
			if err != nil {
				return c, err
			}
			c.Berths = append(c.Berths, BerthChange{ID: b.ID, Berth: whole})
			continue
		}
		one, err := became(t.berths[before], b, looks)
		switch {
		case err != nil:
			return c, err
		case one == nil:
			told[i] = t.berths[before] // still, for what was not told is to be told later
		default:
			c.Berths = append(c.Berths, *one)
		}
	}
	if !same {
		now := make(map[berth.ID]bool, len(s.Berths))
		for _, b := range s.Berths {
			now[b.ID] = true
		}
		for _, b := range t.berths {
			if !now[b.ID] {
				c.Gone = append(c.Gone, b.ID)
			}
		}
		t.keep(told)
	}
	if t.berths = told; looks {
		t.looked = s.Now
	}
	t.rest = rest
	return c, nil
}

// became tells what is otherwise about a berth; nil for nothing that is to be told now.
func became(before, now status.Berth, looks bool) (*BerthChange, error) {
	alike := now.Rev != 0 && now.Rev == before.Rev && reflect.DeepEqual(now.MayNot, before.MayNot)
	if alike && (!looks || now.Looked.Equal(before.Looked)) {
		return nil, nil
	}
	if alike && !before.Looked.IsZero() && !now.Looked.IsZero() {
		text, err := json.Marshal([]any{map[string]any{"op": "replace", "path": "/looked", "value": now.Looked}})
		return &BerthChange{ID: now.ID, Patch: text}, err
	}
	a, err := json.Marshal(before)
	if err != nil {
		return nil, err
	}
	b, err := json.Marshal(now)
	if err != nil {
		return nil, err
	}
	text, err := patch(a, b)
	switch {
	case err != nil || text == nil:
		return nil, err
	case len(text) > len(b):
		return &BerthChange{ID: now.ID, Berth: b}, nil
	}
	return &BerthChange{ID: now.ID, Patch: text}, nil
}

// patch is the JSON Patch from one text to another; nil where they say the same.
func patch(from, to []byte) ([]byte, error) {
	if bytes.Equal(from, to) {
		return nil, nil
	}
	operations, err := jsondiff.CompareJSON(from, to, jsondiff.Rationalize(), jsondiff.UnmarshalFunc(numbers))
	if err != nil || len(operations) == 0 {
		return nil, err
	}
	return json.Marshal(operations)
}

// numbers reads JSON with its numbers as they are written: one of nanoseconds may be larger than a float tells apart.
func numbers(text []byte, into any) error {
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	return d.Decode(into)
}

// hearer makes snapshots of what a teller tells. It keeps the texts that came, so that a patch of what this program does not know of
// a newer server finds what it is about.
type hearer struct {
	rest   []byte
	texts  map[berth.ID]json.RawMessage
	at     map[berth.ID]int // where each is in the latest
	latest status.Snapshot
}

// whole takes a snapshot from which on changes come.
func (h *hearer) whole(text []byte) error {
	var all map[string]json.RawMessage
	var berths []json.RawMessage
	var s status.Snapshot
	err := json.Unmarshal(text, &s)
	if err == nil {
		err = json.Unmarshal(text, &all)
	}
	if err == nil && all["berths"] != nil {
		err = json.Unmarshal(all["berths"], &berths)
	}
	if err != nil {
		return err
	}
	delete(all, "seq")
	delete(all, "now")
	delete(all, "berths")
	*h = hearer{texts: make(map[berth.ID]json.RawMessage, len(berths)), latest: s}
	for i, b := range s.Berths {
		h.texts[b.ID] = berths[i]
	}
	h.order()
	h.rest, err = json.Marshal(all)
	return err
}

// change takes what became of the latest.
func (h *hearer) change(text []byte) error {
	var c Change
	if err := json.Unmarshal(text, &c); err != nil {
		return err
	}
	s := h.latest
	if c.Patch != nil {
		rest, err := patched(h.rest, c.Patch)
		if err != nil {
			return err
		}
		h.rest, s = rest, status.Snapshot{}
		if err := json.Unmarshal(rest, &s); err != nil {
			return err
		}
	}
	s.Seq, s.Now, s.Berths = c.Seq, c.Now, slices.Clone(h.latest.Berths)
	moved := c.Patch != nil || c.Gone != nil
	for _, one := range c.Berths {
		text := one.Berth
		if text == nil {
			var err error
			if text, err = patched(h.texts[one.ID], one.Patch); err != nil {
				return fmt.Errorf("%s: %w", one.ID, err)
			}
		}
		var b status.Berth
		if err := json.Unmarshal(text, &b); err != nil {
			return fmt.Errorf("%s: %w", one.ID, err)
		}
		if i, ok := h.at[one.ID]; ok {
			s.Berths[i] = b
		} else {
			s.Berths, moved = append(s.Berths, b), true
		}
		h.texts[one.ID] = text
	}
	for _, id := range c.Gone {
		delete(h.texts, id)
	}
	if h.latest = s; moved {
		h.order()
	}
	return nil
}

// order puts the berths in order, by workload, then in course order, without those that are gone.
func (h *hearer) order() {
	course := map[string]int{}
	for i, site := range h.latest.Sites {
		course[site] = i
	}
	h.latest.Berths = slices.DeleteFunc(h.latest.Berths, func(b status.Berth) bool { return h.texts[b.ID] == nil })
	slices.SortFunc(h.latest.Berths, func(a, b status.Berth) int {
		return cmp.Or(cmp.Compare(a.Workload, b.Workload), cmp.Compare(course[a.Site], course[b.Site]))
	})
	h.at = make(map[berth.ID]int, len(h.latest.Berths))
	for i, b := range h.latest.Berths {
		h.at[b.ID] = i
	}
}

// mostCopied is how much a patch may copy within what it is of: ours copy nothing.
const mostCopied = 1 << 20

func applying() *jsonpatch.ApplyOptions {
	o := jsonpatch.NewApplyOptions()
	o.AccumulatedCopySizeLimit, o.EscapeHTML = mostCopied, false
	return o
}

func patched(text, patch []byte) ([]byte, error) {
	operations, err := jsonpatch.DecodePatch(patch)
	if err == nil {
		text, err = operations.ApplyWithOptions(text, applying())
	}
	if err != nil {
		return nil, fmt.Errorf("what changed does not fit what was told before: %w", err)
	}
	return text, nil
}
