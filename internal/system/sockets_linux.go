package system

import (
	"net"
	"os"
	"syscall"

	"golang.org/x/sys/unix"
)

// Socket is a connection that no goroutine waits for. It belongs to whoever closes it.
type Socket int

// TakeSocket makes a connection a socket. The connection is closed by it, what it was connected to is not.
func TakeSocket(conn *net.TCPConn) (Socket, error) {
	raw, err := conn.SyscallConn()
	if err != nil {
		return -1, err
	}
	fd := -1
	if failed := raw.Control(func(own uintptr) { fd, err = unix.FcntlInt(own, unix.F_DUPFD_CLOEXEC, 0) }); failed != nil {
		return -1, failed
	}
	if err != nil {
		return -1, err
	}
	return Socket(fd), conn.Close()
}

// Conn makes a socket a connection again. It is closed by it.
func (s Socket) Conn() (*net.TCPConn, error) {
	file := os.NewFile(uintptr(s), "")
	defer file.Close()
	conn, err := net.FileConn(file)
	if err != nil {
		return nil, err
	}
	return conn.(*net.TCPConn), nil
}

// Read reads what there is; nothing at the end, and EAGAIN where nothing has come.
func (s Socket) Read(p []byte) (int, error) { return unbroken(unix.Read, int(s), p) }

// Write writes as much as there is room for, and EAGAIN where there is none.
func (s Socket) Write(p []byte) (int, error) { return unbroken(unix.Write, int(s), p) }

// Shut tells the other end that nothing more is sent.
func (s Socket) Shut() { unix.Shutdown(int(s), unix.SHUT_WR) }

// Close closes it.
func (s Socket) Close() { unix.Close(int(s)) }

// unbroken does something again that a signal broke off.
func unbroken(do func(int, []byte) (int, error), fd int, p []byte) (int, error) {
	for {
		n, err := do(fd, p)
		if err != unix.EINTR {
			return max(n, 0), err
		}
	}
}

// IsQuiet tells whether nothing has come on a connection, nor its end.
func IsQuiet(conn syscall.RawConn) (quiet bool) {
	conn.Control(func(fd uintptr) {
		var one [1]byte
		_, _, err := unix.Recvfrom(int(fd), one[:], unix.MSG_PEEK|unix.MSG_DONTWAIT)
		quiet = err == unix.EAGAIN
	})
	return quiet
}

// Event is what a socket is told of since it was told last.
type Event uint8

// Events.
const (
	Readable Event = 1 << iota // something came, or its end
	Writable                   // there is room to write again
	Ended                      // the other end sends no more
	Broken                     // nothing can be sent or read
)

// Sockets tells of many sockets what becomes of them, by one goroutine (epoll(7), by its edges): while nothing happens at one of them it costs
// next to nothing.
type Sockets struct {
	file *os.File
	fd   int
}

// NewSockets makes one that has none.
func NewSockets() (*Sockets, error) {
	fd, err := unix.EpollCreate1(unix.EPOLL_CLOEXEC)
	if err != nil {
		return nil, err
	}
	if err := unix.SetNonblock(fd, true); err != nil { // so that the runtime waits for it as for a connection
		unix.Close(fd)
		return nil, err
	}
	return &Sockets{os.NewFile(uintptr(fd), "sockets"), fd}, nil
}

// Add has it tell of a socket, under a number that tells it from others that had its place. It does so until the socket is closed.
func (s *Sockets) Add(socket Socket, number int32) error {
	return unix.EpollCtl(s.fd, unix.EPOLL_CTL_ADD, int(socket), &unix.EpollEvent{Events: unix.EPOLLIN | unix.EPOLLOUT | unix.EPOLLRDHUP | unix.EPOLLET, Fd: int32(socket), Pad: number})
}

// Remove has it tell no more of a socket that stays open.
func (s *Sockets) Remove(socket Socket) error {
	return unix.EpollCtl(s.fd, unix.EPOLL_CTL_DEL, int(socket), nil)
}

// Wait tells of what happens until it is closed.
func (s *Sockets) Wait(tell func(socket Socket, number int32, what Event)) error {
	raw, err := s.file.SyscallConn()
	if err != nil {
		return err
	}
	var events [128]unix.EpollEvent
	var broke error
	err = raw.Read(func(uintptr) (done bool) {
		for {
			n, err := unix.EpollWait(s.fd, events[:], 0)
			if err == unix.EINTR {
				continue
			}
			if broke = err; err != nil {
				return true
			}
			for _, e := range events[:n] {
				tell(Socket(e.Fd), e.Pad, eventOf(e.Events))
			}
			if n < len(events) { // what comes from now on is told anew
				return false
			}
		}
	})
	if broke != nil {
		return broke
	}
	return err
}

func eventOf(bits uint32) (what Event) {
	for _, one := range [...]struct {
		bit  uint32
		what Event
	}{{unix.EPOLLIN, Readable}, {unix.EPOLLOUT, Writable}, {unix.EPOLLRDHUP, Ended | Readable}, {unix.EPOLLHUP | unix.EPOLLERR, Broken | Ended | Readable | Writable}} {
		if bits&one.bit != 0 {
			what |= one.what
		}
	}
	return what
}

// Close ends Wait.
func (s *Sockets) Close() error { return s.file.Close() }
