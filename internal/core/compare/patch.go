package compare

import (
	"aditus/internal/core/declare"
)

// Operation is one operation of a JSON Patch (RFC 6902).
type Operation struct {
	Op    string `json:"op"` // add, remove or replace
	Path  string `json:"path"`
	Value any    `json:"value,omitempty"`
}

// Patch gives the operations that make what is live what is declared. Where nothing is live it starts from nothing.
func Patch(declared *declare.Desired, live Live) []Operation {
	from := any(map[string]any{})
	to := tree(declared)
	if live != nil {
		from = overlay(to, live)
	}
	var operations []Operation
	patch(&operations, "", from, to)
	return operations
}

// PatchTwo gives the operations that make one declared state another.
func PatchTwo(from, to *declare.Desired) []Operation {
	var operations []Operation
	patch(&operations, "", tree(from), tree(to))
	return operations
}

func patch(operations *[]Operation, pointer string, from, to any) {
	if equal(from, to) {
		return
	}
	f, isF := from.(map[string]any)
	t, isT := to.(map[string]any)
	if !isF || !isT {
		*operations = append(*operations, Operation{"replace", pointer, to})
		return
	}
	for _, key := range union(f, t, nil) {
		at := pointer + "/" + declare.Escape(key)
		before, was := f[key]
		after, is := t[key]
		switch {
		case was && is:
			patch(operations, at, before, after)
		case is:
			*operations = append(*operations, Operation{"add", at, after})
		default:
			*operations = append(*operations, Operation{Op: "remove", Path: at})
		}
	}
}
