//go:build !unix

package system

import (
	"errors"
	"io/fs"
	"net"
	"os"
	"syscall"
	"time"
)

// Serves tells whether a server and local sites can run on this system.
const Serves = false

const NoWait, NoFollow = 0, 0

var Signals = map[string]syscall.Signal{}

func SignalName(s syscall.Signal) string { return s.String() }

func Session(uint32) *syscall.SysProcAttr { return nil }

func Wake(*os.Process) {}

func KillGroup(int) {}

func Kill(pid int) error {
	p, err := os.FindProcess(pid)
	if err == nil {
		err = p.Kill()
	}
	return err
}

func Owner(fs.FileInfo) int { return -1 }

func Umask(int) (undo func()) { return func() {} }

func Pipe(string, uint32) error { return errors.ErrUnsupported }

func Unanswered(syscall.RawConn, time.Duration) error { return nil }

func Memory(string) bool { return false }

func OpenFiles() uint64 { return 0 }

func Map(*os.File, int) (page []byte, unmap func([]byte), err error) {
	return nil, nil, errors.ErrUnsupported
}

var ErrRights = errors.ErrUnsupported

func SendFile(*net.UnixConn, []byte, uintptr) error { return errors.ErrUnsupported }

func ReceiveFile(*net.UnixConn, []byte) (int, *os.File, error) { return 0, nil, errors.ErrUnsupported }
