//go:build !linux

package system

import (
	"errors"
	"net"
	"net/netip"
	"syscall"
)

type Socket int

type Door struct{}

func OpenDoor(*net.TCPListener) (*Door, error) { return nil, errors.ErrUnsupported }

func (d *Door) Accept() (Socket, netip.Addr, error) { return -1, netip.Addr{}, errors.ErrUnsupported }

func (d *Door) Close() error { return nil }

func (s Socket) Conn() (*net.TCPConn, error) { return nil, errors.ErrUnsupported }

func (s Socket) Read([]byte) (int, error) { return 0, errors.ErrUnsupported }

func (s Socket) Write([]byte) (int, error) { return 0, errors.ErrUnsupported }

func (s Socket) Shut() {}

func (s Socket) Close() {}

func IsQuiet(syscall.RawConn) bool { return true }

type Event uint8

const (
	Readable Event = 1 << iota
	Writable
	Ended
	Broken
)

type Sockets struct{}

func NewSockets() (*Sockets, error) { return nil, errors.ErrUnsupported }

func (s *Sockets) Add(Socket, int32) error { return errors.ErrUnsupported }

func (s *Sockets) Remove(Socket) error { return errors.ErrUnsupported }

func (s *Sockets) Wait(func(Socket, int32, Event)) error { return errors.ErrUnsupported }

func (s *Sockets) Close() error { return nil }
