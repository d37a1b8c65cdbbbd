package system

import (
	"errors"

	"golang.org/x/sys/unix"
)

// Adopt has this process be the parent of what its children leave behind, prctl(2), so that it can wait for it.
func Adopt() { unix.Prctl(unix.PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0) }

// AwaitChildren waits until all children of this process ended.
func AwaitChildren() {
	for {
		if _, err := unix.Wait4(-1, nil, 0, nil); err != nil && !errors.Is(err, unix.EINTR) {
			return
		}
	}
}
