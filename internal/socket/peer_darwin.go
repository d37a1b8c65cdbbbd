package socket

import "golang.org/x/sys/unix"

func peer(fd int) *Caller {
	who, err := unix.GetsockoptXucred(fd, unix.SOL_LOCAL, unix.LOCAL_PEERCRED)
	if err != nil {
		return nil
	}
	pid, err := unix.GetsockoptInt(fd, unix.SOL_LOCAL, unix.LOCAL_PEERPID)
	if err != nil {
		pid = 0
	}
	return &Caller{PID: pid, UID: who.Uid}
}
