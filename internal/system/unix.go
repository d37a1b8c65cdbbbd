//go:build unix

// Package system is what systems have each in a way of their own, and Aditus runs things with. Where it is built for one on which it is a
// face only, it does nothing.
package system

import (
	"errors"
	"io/fs"
	"net"
	"os"
	"runtime"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// Serves tells whether a server and local sites can run on this system.
const Serves = true

// Flags for opening a file: NoWait opens without waiting for whoever writes, and takes no terminal; NoFollow opens nothing that a link
// leads to.
const (
	NoWait   = unix.O_NONBLOCK | unix.O_NOCTTY
	NoFollow = unix.O_NOFOLLOW
)

// Signals are those of declare.StopSignals.
var Signals = map[string]syscall.Signal{
	"TERM": syscall.SIGTERM, "INT": syscall.SIGINT, "QUIT": syscall.SIGQUIT, "HUP": syscall.SIGHUP, "USR1": syscall.SIGUSR1, "USR2": syscall.SIGUSR2,
}

// SignalName is KILL for SIGKILL.
func SignalName(s syscall.Signal) string {
	if name := unix.SignalName(s); name != "" {
		return strings.TrimPrefix(name, "SIG")
	}
	return s.String()
}

// Session has a process begin a session of its own; as another user where that is not 0.
func Session(user uint32) *syscall.SysProcAttr {
	attributes := &syscall.SysProcAttr{Setsid: true}
	if user != 0 {
		attributes.Credential = &syscall.Credential{Uid: user, Gid: user}
	}
	return attributes
}

// Wake has a process that was stopped go on.
func Wake(p *os.Process) { p.Signal(syscall.SIGCONT) }

// KillGroup kills all processes of a group.
func KillGroup(leader int) { syscall.Kill(-leader, syscall.SIGKILL) }

// Kill kills a process.
func Kill(pid int) error { return syscall.Kill(pid, syscall.SIGKILL) }

// Owner is whose a file is, or below nought where nobody knows.
func Owner(info fs.FileInfo) int {
	if own, ok := info.Sys().(*syscall.Stat_t); ok {
		return int(own.Uid)
	}
	return -1
}

// Umask has files be made without some modes until it is undone.
func Umask(mask int) (undo func()) {
	before := unix.Umask(mask)
	return func() { unix.Umask(before) }
}

// Pipe makes a named pipe.
func Pipe(name string, mode uint32) error { return unix.Mkfifo(name, mode) }

// tmpfs is what statfs(2) says of Linux's file system in memory; other systems have no such number.
const tmpfs = 0x01021994

// Unanswered has a connection count as lost where its other end does not confirm what it was sent for so long, on systems that can.
func Unanswered(c syscall.RawConn, after time.Duration) (err error) {
	const userTimeout = 0x12 // TCP_USER_TIMEOUT
	if runtime.GOOS != "linux" {
		return nil
	}
	if failed := c.Control(func(fd uintptr) {
		err = syscall.SetsockoptInt(int(fd), syscall.IPPROTO_TCP, userTimeout, int(after.Milliseconds()))
	}); failed != nil {
		return failed
	}
	return err
}

// Memory tells whether a folder is on a file system in memory.
func Memory(folder string) bool {
	var info unix.Statfs_t
	return unix.Statfs(folder, &info) == nil && int64(info.Type) == tmpfs
}

// OpenFiles is how many files a process may have open; 0 where nobody knows.
func OpenFiles() uint64 {
	var most unix.Rlimit
	if err := unix.Getrlimit(unix.RLIMIT_NOFILE, &most); err != nil {
		return 0
	}
	return most.Cur
}

// Map maps a file into memory, for all who map it.
func Map(file *os.File, size int) (page []byte, unmap func([]byte), err error) {
	page, err = unix.Mmap(int(file.Fd()), 0, size, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_SHARED)
	return page, func(page []byte) { unix.Munmap(page) }, err
}

// ErrRights means that no file came beside a message.
var ErrRights = errors.New("there is not one file beside the message")

// SendFile sends a file beside a text, as SCM_RIGHTS (unix(7)).
func SendFile(conn *net.UnixConn, text []byte, fd uintptr) error {
	_, _, err := conn.WriteMsgUnix(text, unix.UnixRights(int(fd)), nil)
	return err
}

// ReceiveFile receives a text and the file beside it; nothing at the end.
func ReceiveFile(conn *net.UnixConn, text []byte) (n int, file *os.File, err error) {
	beside := make([]byte, unix.CmsgSpace(4))
	n, besides, _, _, err := conn.ReadMsgUnix(text, beside)
	if n == 0 || err != nil {
		return n, nil, err
	}
	messages, err := unix.ParseSocketControlMessage(beside[:besides])
	if err != nil || len(messages) != 1 {
		return n, nil, ErrRights
	}
	rights, err := unix.ParseUnixRights(&messages[0])
	if err != nil || len(rights) != 1 {
		return n, nil, ErrRights
	}
	unix.CloseOnExec(rights[0])
	return n, os.NewFile(uintptr(rights[0]), ""), nil
}
