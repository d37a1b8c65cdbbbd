package source

import (
	"fmt"

	"aditus/internal/core/declare"
)

// What reading one commit may take, all in all: far above what ten thousand berths need, and far below what could hurt.
var (
	mostParsed        = 2_000_000   // values in its files
	mostRead          = 5_000_000   // values of all berths, each as it is at its site
	mostAsked  uint64 = 100_000_000 // what rules compute for all berths, in CEL's units of cost: some 15 s
)

// budget is what reading a commit took so far.
type budget struct {
	parsed, read int
	asked        uint64
	over         bool
}

// take tells that some more is taken, and whether that is within bounds. What is beyond them is told once.
func (l *loader) take(at declare.Node, parsed, read int, asked uint64) bool {
	b := &l.budget
	b.parsed, b.read, b.asked = b.parsed+parsed, b.read+read, b.asked+asked
	what := ""
	switch {
	case b.parsed > mostParsed:
		what = fmt.Sprintf("%d values in its files", mostParsed)
	case b.read > mostRead:
		what = fmt.Sprintf("%d values for all workloads at all sites", mostRead)
	case b.asked > mostAsked:
		what = fmt.Sprintf("%d units of cost for all rules", mostAsked)
	default:
		return true
	}
	if !b.over {
		b.over = true
		l.wrong(declare.Problem{File: at.File, Line: max(1, at.Line), Column: max(1, at.Column), Message: "the folder takes more to read than one may, " + what, Suggestion: "part it into several links, or look for what grew without need"})
	}
	return false
}

// size is how many values a document has.
func size(n declare.Node) int {
	sum := 1
	for _, item := range n.Items {
		sum += size(item)
	}
	for _, entry := range n.Entries {
		sum += 1 + size(entry.Value)
	}
	return sum
}
