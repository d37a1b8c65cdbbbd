//go:build !unix

package socket

func peer(int) *Caller { return nil }
