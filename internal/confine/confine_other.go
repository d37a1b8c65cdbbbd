//go:build !linux

package confine

// Can tells whether this system can confine processes.
func Can() bool { return false }

// Start fails: this system cannot.
func Start(Rules, func() error) error { return ErrCannot }

// Apart does something on this thread.
func Apart(do func() error) error { return do() }

// Restrict fails: this system cannot.
func Restrict(Rules) error { return ErrCannot }

// Marked tells whether a process is confined.
func Marked(int) bool { return false }

// Hide does nothing here.
func Hide() {}

// Machine is what a process needs to run at all.
func Machine() Rules { return Rules{} }
