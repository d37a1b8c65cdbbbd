package declare

import (
	"fmt"
	"strings"

	"aditus/internal/core/say"
)

// NodeKind is the kind of a Node.
type NodeKind int

const (
	Null NodeKind = iota
	Text
	Number
	Bool
	List
	Map
)

func (k NodeKind) String() string {
	return [...]string{"nothing", "text", "a number", "true or false", "a list", "a mapping"}[k]
}

// Node is a value as it was written, with its place.
type Node struct {
	Kind         NodeKind
	File         string
	Line, Column int
	Text         string  // of Text, Number and Bool, as written
	Items        []Node  // of a List
	Entries      []Entry // of a Map, in the order written
}

// Entry is a key of a Map with its value.
type Entry struct {
	Key, Value Node
}

// Get gives a mapping's value; false where there is none.
func (n Node) Get(key string) (Node, bool) {
	for _, entry := range n.Entries {
		if entry.Key.Text == key {
			return entry.Value, true
		}
	}
	return Node{}, false
}

// reader walks a document and collects what is wrong with it.
type reader struct {
	named      []namedGuard // by stages
	guardNodes []Node       // of the guards, in their order
	problems   Problems
}

func (r *reader) wrong(at Node, pointer, suggestion, format string, args ...any) {
	r.problems = append(r.problems, Problem{
		File: at.File, Line: at.Line, Column: at.Column, Pointer: pointer,
		Message: fmt.Sprintf(format, args...), Suggestion: suggestion,
	})
}

// fields reads a mapping whose keys are known: each key's value goes to its function. Unknown and missing keys are
// problems. It is false when the node is no mapping at all.
func (r *reader) fields(at Node, pointer, what string, required []string, known map[string]func(Node, string)) bool {
	if at.Kind != Map {
		r.wrong(at, pointer, "", "%s must be a mapping with keys such as %s, not %s", what, example(required, known), at.Kind)
		return false
	}
	seen := map[string]bool{}
	for _, entry := range at.Entries {
		key := entry.Key.Text
		read, ok := known[key]
		if !ok {
			r.wrong(entry.Key, pointer+"/"+Escape(key), didYouMean(key, keysOf(known)), "%s has no key %q", what, key)
			continue
		}
		seen[key] = true
		read(entry.Value, pointer+"/"+Escape(key))
	}
	for _, key := range required {
		if !seen[key] {
			r.wrong(at, pointer, "", "%s needs the key %q", what, key)
		}
	}
	return true
}

func example[V any](required []string, known map[string]V) string {
	if len(required) > 0 {
		return quoted(required)
	}
	return quoted(keysOf(known))
}

// entries reads a mapping whose keys are names of the author's own.
func (r *reader) entries(at Node, pointer, what string, read func(name string, key, value Node, pointer string)) {
	if at.Kind != Map {
		r.wrong(at, pointer, "", "%s must be a mapping of names, not %s", what, at.Kind)
		return
	}
	for _, entry := range at.Entries {
		read(entry.Key.Text, entry.Key, entry.Value, pointer+"/"+Escape(entry.Key.Text))
	}
}

// Escape writes a key as a reference token of a JSON Pointer (RFC 6901, section 3).
func Escape(key string) string {
	return strings.ReplaceAll(strings.ReplaceAll(key, "~", "~0"), "/", "~1")
}

// Unescape gives the key that a reference token of a JSON Pointer stands for.
func Unescape(token string) string {
	return strings.ReplaceAll(strings.ReplaceAll(token, "~1", "/"), "~0", "~")
}

// didYouMean suggests the known word that is nearest to a misspelt one, or lists them all when none is near.
func didYouMean(word string, known []string) string {
	best := say.Nearest(word, known)
	if best == "" {
		return "known are " + quoted(known)
	}
	return fmt.Sprintf("did you mean %q?", best)
}
