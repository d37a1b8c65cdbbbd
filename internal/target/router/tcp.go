package router

import (
	"context"
	"net"

	"aditus/internal/socket"
)

// accept takes the connections of a TCP listener until it is closed.
func (r *Router) accept(listener net.Listener, at string, room Room) {
	for {
		client, err := listener.Accept()
		if err != nil {
			return
		}
		room.enter()
		r.listening.Lock()
		own := r.owners[at]
		r.listening.Unlock()
		r.under.Add(1)
		go func() {
			defer room.leave()
			defer r.under.Add(-1)
			r.connect(client.(*net.TCPConn), own)
		}()
	}
}

// connect leads a connection to an instance, another one where the first does not take it.
func (r *Router) connect(client *net.TCPConn, own *route) {
	defer client.Close()
	place := own.places.next()
	var tried []*backend
	for range mostTries {
		s, _ := r.await(context.Background(), own.Name, false, place, tried)
		if s.b == nil {
			break
		}
		server, err := net.DialTimeout("tcp", s.address, dialTimeout)
		if err != nil {
			s.b.release()
			tried = append(tried, s.b)
			continue
		}
		if !own.Local {
			s.b.counter.connected()
		}
		socket.Both(client, server)
		server.Close()
		s.b.release()
		return
	}
	if !own.Local {
		r.unserved.connected()
	}
}
