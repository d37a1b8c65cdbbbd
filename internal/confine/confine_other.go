//go:build !linux

package confine

import "errors"

// Can tells whether this system can confine processes.
func Can() bool { return false }

// Start fails: this system cannot.
func Start(Rules, func() error) error { return ErrCannot }

// Apart does something on this thread.
func Apart(do func() error) error { return do() }

// Restrict fails: this system cannot.
func Restrict(Rules) error { return ErrCannot }

// MayBecome tells that this system is none on which this process starts others as other users.
func MayBecome() error { return errors.New("it takes Linux") }

// Listening is the capability to listen on ports below 1024.
const Listening = uintptr(0)

// Lower does nothing here.
func Lower(...uintptr) error { return nil }

// Marked tells whether a process is confined.
func Marked(int) bool { return false }

// Hide does nothing here.
func Hide() {}

// Machine is what a process needs to run at all.
func Machine() Rules { return Rules{} }
