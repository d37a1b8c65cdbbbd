//go:build !linux

package system

// Adopt does nothing here: what children leave behind is the system's.
func Adopt() {}

// AwaitChildren does nothing here.
func AwaitChildren() {}
