// Package confine starts processes that reach nothing of the machine but what they are to: by Landlock, whoever they run as, without a
// privilege being needed for it. They gain no new privileges, and bear a mark that whatever descends from them bears too.
package confine

import "errors"

// Rules say what a process may reach of the machine's files; what is not named it can neither read, run nor write. Names that are not
// there are left out.
type Rules struct {
	Read  []string `json:"read,omitempty"` // folders and files: read, and run
	Write []string `json:"write,omitempty"`
}

// ErrCannot means that this system cannot confine a process.
var ErrCannot = errors.New("this system cannot confine processes: it takes Linux 5.13 or later, with Landlock")
