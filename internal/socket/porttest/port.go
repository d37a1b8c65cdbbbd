// Package porttest gives tests addresses that something else than the test is to listen on, a while later.
package porttest

import (
	"fmt"
	"math/rand/v2"
	"net"
	"testing"
)

// Free gives an address of this machine that nobody listens on. It is below the ports that the kernel gives to whoever asks for any,
// which a listener of another test or a connection would have by the time that it is used, and below those of instances.
func Free(tb testing.TB) string {
	tb.Helper()
	for range 100 {
		listener, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", 10_000+rand.N(10_000)))
		if err == nil {
			listener.Close()
			return listener.Addr().String()
		}
	}
	tb.Fatal("no port is free")
	return ""
}
