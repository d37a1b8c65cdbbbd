package router

import (
	"context"
	"errors"
	"io"
	"net/http"
	"os"
	"slices"
	"sync/atomic"
	"syscall"
	"time"

	"aditus/internal/system"
)

// turn is one request of a visitor, as far as it matters for the answer.
type turn struct {
	began      time.Time
	bare       bool // the answer has no body
	repeatable bool
	last       bool // no further request is answered on the visitor's connection
}

func (t *turn) fate() fate {
	if t.last {
		return over
	}
	return goesOn
}

const (
	mostAnswerHead = 1 << 20
	shortHead      = 4 << 10 // of an answer; it is looked at with each byte, a longer one once it is whole: one that drips would take for ever
	mostInterim    = 8       // answers before the answer (RFC 9110, section 15.2)
)

var (
	errUnreached = errors.New("the instance cannot be reached")
	errStale     = errors.New("the instance closed a connection while a request was on its way")
)

// ask has an instance answer the request that is in out, another one where the first never had it.
func (x *exchange) ask() fate {
	r, v := x.p.r, &x.visit
	x.attend(true)
	var tried []*backend
	reuse := true
	for range mostTries {
		s := x.seat(tried)
		if s.b == nil {
			break
		}
		v.last = s.b
		head, n, err := x.try(s, reuse)
		if err == nil {
			return x.tell(head, n)
		}
		x.letGo(false)
		if x.gone() {
			x.count()
			return broken
		}
		if err == errStale && x.turn.repeatable {
			reuse = false
			continue
		}
		s.b.suspect.Store(time.Now().Add(suspectFor).UnixNano())
		if tried = append(tried, s.b); err != errUnreached && !x.turn.repeatable {
			break
		}
	}
	x.attend(false)
	if v.last == nil {
		r.unserved.connected()
		return x.refuse(http.StatusServiceUnavailable, "no instance can take this now", "Retry-After: 1")
	}
	v.status = http.StatusBadGateway
	x.count()
	return x.refuse(http.StatusBadGateway, "the instance gave no answer")
}

// count counts what came of the request.
func (x *exchange) count() { x.p.r.count(&x.visit, time.Since(x.turn.began)-x.visit.waited) }

// attend has it be noticed, or not any more, that the visitor leaves.
func (x *exchange) attend(asks bool) {
	x.c.mu.Lock()
	defer x.c.mu.Unlock()
	x.asks = asks
	if asks {
		x.left, x.half = false, false
		x.mind()
	}
}

// gone tells whether the visitor left.
func (x *exchange) gone() bool {
	x.c.mu.Lock()
	defer x.c.mu.Unlock()
	return x.left
}

// until bounds how long is waited for the instance; not at all once the visitor left.
func (x *exchange) until(t time.Time) {
	x.c.mu.Lock()
	defer x.c.mu.Unlock()
	if !x.left {
		x.line.SetReadDeadline(t)
	}
}

// seat finds an instance, and waits for one where none is ready.
func (x *exchange) seat(tried []*backend) seat {
	r, v := x.p.r, &x.visit
	if s := r.take(v.own.Name, v.preview, v.place, tried); s.b != nil || len(tried) > 0 {
		return s
	}
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	x.c.mu.Lock()
	x.cancel = cancel
	x.mind()
	x.c.mu.Unlock()
	s, waited := r.await(ctx, v.own.Name, v.preview, v.place, tried)
	x.c.mu.Lock()
	x.cancel = nil
	x.c.mu.Unlock()
	v.waited += waited
	return s
}

// try sends the request to an instance and waits for the head of the answer.
func (x *exchange) try(s seat, reuse bool) (head, n int, err error) {
	l, reused, err := x.p.r.lineTo(s, reuse)
	if err != nil {
		return 0, 0, errUnreached
	}
	x.c.mu.Lock()
	x.line = l
	x.mind()
	x.c.mu.Unlock()
	x.until(time.Now().Add(x.p.r.stuckAfter))
	if _, err = l.Write(x.out); err == nil {
		head, n, err = x.head()
	}
	if err != nil && n == 0 && reused {
		err = errStale
	}
	return head, n, err
}

// head reads the head of the answer into in, of which n bytes are taken then. Answers before the answer go on to the visitor.
func (x *exchange) head() (head, n int, err error) {
	a := &x.answer
	for interim := 0; ; {
		if n > 0 && n == len(x.in) {
			if n >= mostAnswerHead {
				return 0, n, errAnswer
			}
			x.in = append(x.in, make([]byte, n)...)
		}
		m, err := x.fetch(n)
		if err != nil && !x.waitsOn(err) {
			return 0, n, err
		}
		n += m
		for n > 0 && (n <= shortHead || headEnd(x.in[max(0, n-m-3):n]) > 0) {
			head, err := a.read(x.in[:n])
			switch {
			case err != nil || a.status == http.StatusSwitchingProtocols || interim > mostInterim: // nobody asked for another protocol
				return 0, n, errAnswer
			case head > 0 && a.status >= 200:
				return head, n, nil
			}
			if head == 0 {
				break
			}
			interim++
			x.write(append(a.append(nil), "\r\n"...)) // where he has gone it is noticed by the answer
			n = copy(x.in, x.in[head:n])
		}
	}
}

// fetch waits for what comes of the instance, and reads it into in, behind what is there. Nothing is kept to read into while nothing comes.
func (x *exchange) fetch(behind int) (int, error) {
	x.behind = behind
	if err := x.line.raw.Read(x.fetching); err != nil {
		return 0, err
	}
	if x.fetched == 0 && x.failed == nil {
		return 0, io.EOF
	}
	return x.fetched, x.failed
}

// fetchFrom reads what has come of the instance, and is false where nothing has.
func (x *exchange) fetchFrom(fd uintptr) bool {
	x.space()
	x.fetched, x.failed = system.Socket(fd).Read(x.in[x.behind:])
	if x.failed == syscall.EAGAIN && x.behind == 0 {
		x.noSpace()
	}
	return x.failed != syscall.EAGAIN
}

// waitsOn tells whether an error of a line is that the instance takes long, which is counted and borne.
func (x *exchange) waitsOn(err error) bool {
	if !errors.Is(err, os.ErrDeadlineExceeded) || x.gone() {
		return false
	}
	if v := &x.visit; !v.preview && v.state.CompareAndSwap(waits, stuck) {
		v.last.counter.answered(http.StatusGatewayTimeout, x.p.r.stuckAfter)
	}
	x.until(time.Time{})
	return true
}

// letGo has the line be for other requests, or ends it.
func (x *exchange) letGo(clean bool) {
	x.c.mu.Lock()
	l := x.line
	x.line = nil
	x.c.mu.Unlock()
	if l != nil {
		l.letGo(clean)
	}
	x.visit.last.release()
}

// settled is called once the instance has done its part.
func (x *exchange) settled(clean bool) {
	x.attend(false)
	x.letGo(clean)
	x.count()
}

// tell passes the answer on, of which n bytes are there.
func (x *exchange) tell(head, n int) fate {
	a, v := &x.answer, &x.visit
	v.status = a.status
	x.until(time.Time{})
	b := bodyOf(a, x.turn.bare)
	x.turn.last = x.turn.last || x.p.r.leaving.Load()
	x.out = x.answerHead(&b)
	part, ended := x.in[head:n], false
	for {
		out, used, done, err := b.take(x.out, part, ended)
		if err != nil {
			v.cut = !x.gone()
		}
		if done || err != nil {
			x.settled(done && !ended && used == len(part) && !a.last)
		}
		wrote := x.write(out)
		switch x.out = out[:0]; {
		case wrote != nil && !done && err == nil:
			x.settled(false)
			fallthrough
		case wrote != nil || err != nil:
			return broken
		case done:
			return x.turn.fate()
		}
		if len(part) == len(x.in) {
			x.long = true
		}
		if x.noSpace(); cap(x.out) > plainSize/2 {
			x.out = nil
		}
		began := time.Now()
		m, err := x.fetch(0)
		if part, ended = x.in[:m], err == io.EOF; err != nil && !ended {
			left := x.gone()
			v.cut, v.late = !left, left && b.kind == sized && time.Since(began) >= patience
			x.settled(false)
			return broken
		}
	}
}

// answerHead makes the head that the visitor is to have.
func (x *exchange) answerHead(b *body) []byte {
	a, v := &x.answer, &x.visit
	out := a.append(x.out[:0])
	if b.kind == inChunks || b.kind == toEnd {
		out = append(out, "Transfer-Encoding: chunked\r\n"...)
	}
	if v.cookie {
		out = append(append(append(out, "Set-Cookie: "...), v.newCookie().String()...), "\r\n"...)
	}
	return x.turn.appendEnd(out, !slices.ContainsFunc(a.fields, func(f field) bool { return equalFold(f.name, "Date") }))
}

// appendEnd ends a head; dated where it has no date of its own.
func (t *turn) appendEnd(out []byte, dated bool) []byte {
	if dated {
		out = append(append(append(out, "Date: "...), date()...), "\r\n"...)
	}
	if t.last {
		out = append(out, "Connection: close\r\n"...)
	}
	return append(out, "\r\n"...)
}

// date is what time it is, as headers say it.
func date() string {
	now := time.Now()
	if d := lastDate.Load(); d != nil && d.second == now.Unix() {
		return d.text
	}
	d := &dated{now.Unix(), now.UTC().Format(http.TimeFormat)}
	lastDate.Store(d)
	return d.text
}

type dated struct {
	second int64
	text   string
}

// lastDate saves that the same second is written out again and again.
var lastDate atomic.Pointer[dated]
