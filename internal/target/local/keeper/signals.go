package keeper

import (
	"strings"
	"syscall"

	"golang.org/x/sys/unix"
)

// signals are those of declare.StopSignals.
var signals = map[string]syscall.Signal{
	"TERM": syscall.SIGTERM, "INT": syscall.SIGINT, "QUIT": syscall.SIGQUIT, "HUP": syscall.SIGHUP, "USR1": syscall.SIGUSR1, "USR2": syscall.SIGUSR2,
}

// signalName is KILL for SIGKILL.
func signalName(s syscall.Signal) string {
	if name := unix.SignalName(s); name != "" {
		return strings.TrimPrefix(name, "SIG")
	}
	return s.String()
}
