package socket

import "golang.org/x/sys/unix"

func peer(fd int) *Caller {
	who, err := unix.GetsockoptUcred(fd, unix.SOL_SOCKET, unix.SO_PEERCRED)
	if err != nil {
		return nil
	}
	return &Caller{PID: int(who.Pid), UID: who.Uid}
}
