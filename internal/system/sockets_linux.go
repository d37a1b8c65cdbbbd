package system

import (
	"cmp"
	"net"
	"net/netip"
	"os"
	"strconv"
	"syscall"
	"unsafe"

	"golang.org/x/sys/unix"
)

// Socket is a connection that no goroutine waits for. It belongs to whoever closes it.
type Socket int

// Door is where connections come in as sockets.
type Door struct {
	file *os.File
	raw  syscall.RawConn
}

// OpenDoor has what comes in at a listener come in as sockets. The listener stays what it is, and is closed by whoever has it.
func OpenDoor(listener *net.TCPListener) (*Door, error) {
	file, err := listener.File()
	if err != nil {
		return nil, err
	}
	d := &Door{file: file}
	if d.raw, err = file.SyscallConn(); err == nil {
		err = d.raw.Control(func(fd uintptr) { setOptions(int(fd)) })
	}
	if err != nil {
		file.Close()
		return nil, err
	}
	return d, nil
}

// setOptions has all that comes in at a listener be as net's connections are: sent at once, and asked now and then whether it is there.
func setOptions(fd int) {
	for _, o := range [...]struct{ level, option, value int }{
		{unix.IPPROTO_TCP, unix.TCP_NODELAY, 1}, {unix.SOL_SOCKET, unix.SO_KEEPALIVE, 1},
		{unix.IPPROTO_TCP, unix.TCP_KEEPIDLE, 15}, {unix.IPPROTO_TCP, unix.TCP_KEEPINTVL, 15}, {unix.IPPROTO_TCP, unix.TCP_KEEPCNT, 9},
	} {
		unix.SetsockoptInt(fd, o.level, o.option, o.value) // without one it works too
	}
}

// Accept waits for a connection, and tells whose it is.
func (d *Door) Accept() (socket Socket, from netip.Addr, err error) {
	failed := d.raw.Read(func(fd uintptr) bool {
		var own int
		var peer unix.Sockaddr
		if own, peer, err = unix.Accept4(int(fd), unix.SOCK_NONBLOCK|unix.SOCK_CLOEXEC); err == unix.EAGAIN {
			return false
		}
		socket, from = Socket(own), addressOf(peer)
		return true
	})
	return socket, from, cmp.Or(failed, err)
}

func addressOf(peer unix.Sockaddr) netip.Addr {
	switch at := peer.(type) {
	case *unix.SockaddrInet4:
		return netip.AddrFrom4(at.Addr)
	case *unix.SockaddrInet6:
		a := netip.AddrFrom16(at.Addr).Unmap()
		if at.ZoneId != 0 && a.Is6() {
			a = a.WithZone(strconv.FormatUint(uint64(at.ZoneId), 10))
		}
		return a
	}
	return netip.Addr{}
}

// Close has nobody come in any more.
func (d *Door) Close() error { return d.file.Close() }

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
func (s Socket) Read(p []byte) (int, error) { return s.do(unix.SYS_READ, p) }

// Write writes as much as there is room for, and EAGAIN where there is none.
func (s Socket) Write(p []byte) (int, error) { return s.do(unix.SYS_WRITE, p) }

// do makes a system call that never waits, so that the runtime need not be told of it: it would give the processor to another thread now and
// then, which takes longer than the call.
func (s Socket) do(call uintptr, p []byte) (int, error) {
	for {
		n, _, failed := unix.RawSyscall(call, uintptr(s), uintptr(unsafe.Pointer(unsafe.SliceData(p))), uintptr(len(p)))
		switch failed {
		case 0:
			return int(n), nil
		case unix.EINTR:
		case unix.EAGAIN:
			return 0, unix.EAGAIN
		default:
			return 0, failed
		}
	}
}

// Shut tells the other end that nothing more is sent.
func (s Socket) Shut() { unix.Shutdown(int(s), unix.SHUT_WR) }

// Close closes it.
func (s Socket) Close() { unix.Close(int(s)) }

// IsQuiet tells whether nothing has come on a connection, nor its end.
func IsQuiet(conn syscall.RawConn) (quiet bool) {
	conn.Control(func(fd uintptr) {
		n, err := unix.Poll([]unix.PollFd{{Fd: int32(fd), Events: unix.POLLIN | unix.POLLRDHUP}}, 0)
		quiet = n == 0 && err == nil
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
