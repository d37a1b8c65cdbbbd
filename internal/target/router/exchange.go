package router

import (
	"bytes"
	"context"
	"net/http"
	"strconv"
	"strings"
	"syscall"
	"time"

	"aditus/internal/system"
)

// exchange is what it takes to have the requests of a visitor answered, one after another. One goroutine has it at a time.
type exchange struct {
	p       *plain
	c       *caller
	request request
	answer  answer
	visit   visit
	turn    turn
	in      []byte // what came of the visitor; and of the instance, once that is in out. Nil while nothing is in it
	n       int    // so much came
	long    bool   // more is to be read at once, as the answer is long
	drained bool   // when it was read last nothing was left
	out     []byte // what is written on
	ahead   []byte // what the visitor has sent beyond his request
	wake    chan struct{}

	fetching func(uintptr) bool // fetchFrom
	behind   int
	fetched  int
	failed   error

	happened system.Event // at the visitor's end; guarded by the caller's lock, as is what follows
	asks     bool         // the visitor waits for an instance
	half     bool         // he said with his request that he sends no more, which says nothing of whether he waits
	left     bool         // he did, and has gone
	line     *line        // to that instance
	cancel   context.CancelFunc
}

const (
	plainSize   = 8 << 10     // of a request that is plain, with its body
	bodyTimeout = time.Minute // for its body
	usualFields = 256         // of a request and its answer

	// A visitor whose side ends so soon after his request sends no more, and waits for the answer; one whose side ends later leaves.
	withRequest = 20 * time.Millisecond
)

// past is long ago.
var past = time.Unix(1, 0)

func newExchange(p *plain) *exchange {
	x := &exchange{p: p, wake: make(chan struct{}, 1)}
	x.fetching = x.fetchFrom
	return x
}

// space has there be room for what comes.
func (x *exchange) space() {
	switch {
	case x.in != nil:
	case x.long:
		x.in = x.p.r.buffers.Get()
	default:
		x.in = x.p.spaces.Get().(*[plainSize]byte)[:]
	}
}

// noSpace has others have it.
func (x *exchange) noSpace() {
	switch len(x.in) { // an answer's head may have needed another one
	case plainSize:
		x.p.spaces.Put((*[plainSize]byte)(x.in))
	case bufferSize:
		x.p.r.buffers.Put(x.in)
	}
	x.in = nil
}

// begin is called with the visitor's lock held.
func (x *exchange) begin(c *caller, what system.Event) {
	x.c, x.n, x.drained, x.happened, x.asks = c, 0, false, what, false
	x.notice(system.Readable | system.Writable)
}

// notice tells whether one of these happened, and takes it for dealt with, unless it goes on. It is called with the visitor's lock held.
func (x *exchange) notice(what system.Event) bool {
	happened := x.happened & what
	switch {
	case x.happened&system.Broken != 0:
	case x.happened&system.Ended != 0: // there is its end to be read
		x.happened &^= what &^ system.Readable
	default:
		x.happened &^= what
	}
	return happened != 0
}

// hear is called with the visitor's lock held.
func (x *exchange) hear(what system.Event) {
	x.happened |= what
	x.mind()
	select {
	case x.wake <- struct{}{}:
	default:
	}
}

// mind has nobody wait for an instance once the visitor has gone. It is called with his lock held.
func (x *exchange) mind() {
	if !x.asks || x.happened&system.Ended == 0 {
		return
	}
	if x.happened&system.Broken == 0 && (x.half || time.Since(x.turn.began) < withRequest) {
		x.half = true
		return
	}
	x.left = true
	if x.cancel != nil {
		x.cancel()
	}
	if x.line != nil {
		x.line.SetReadDeadline(past)
	}
}

// run looks after a visitor until nothing is under way.
func (x *exchange) run() {
	defer x.noSpace()
	for {
		x.space()
		if x.c.shut {
			if !x.discard() {
				x.p.close(x.c)
				return
			}
			if x.rests() {
				return
			}
			continue
		}
		head, why := x.receive()
		after := goesOn
		if why == incomplete || why == slow {
			x.turn = turn{last: true, bare: string(x.request.method) == "HEAD"}
		}
		switch why {
		case complete:
			after = x.serve(head)
		case nothing:
			if x.rests() {
				return
			}
			continue
		case incomplete:
			after = x.refuse(http.StatusBadRequest, "the request's body cannot be read")
		case slow:
			after = x.refuse(http.StatusRequestTimeout, "the request's body did not come within "+bodyTimeout.String())
		case gone:
			after = broken
		case notPlain:
			after = others
		}
		switch after {
		case others:
			x.p.pass(x.c, x.in[:x.n])
			return
		case broken:
			x.p.close(x.c)
			return
		case over:
			x.c.socket.Shut()
			x.c.shut, x.drained = true, false
		}
	}
}

// What is to become of a visitor's connection.
type fate uint8

const (
	goesOn fate = iota
	over        // its last answer is given
	broken      // whoever reads it is to see that something is missing
	others      // it is for net/http
)

// rests leaves the visitor to himself, unless something was heard of him.
func (x *exchange) rests() bool {
	c := x.c
	c.mu.Lock()
	defer c.mu.Unlock()
	if x.notice(system.Readable) {
		x.drained = false
		return false
	}
	c.at, c.since = nil, time.Now().UnixNano()
	return true
}

// discard reads what nobody answers any more. It is false at the end.
func (x *exchange) discard() bool {
	for {
		n, err := x.c.socket.Read(x.in)
		if err == syscall.EAGAIN {
			return true
		}
		if n == 0 || err != nil {
			return false
		}
	}
}

// What receiving comes to.
type received uint8

const (
	complete received = iota
	nothing           // came
	incomplete
	slow
	gone
	notPlain
)

// receive waits for a request, with its body, and gives the length of its head.
func (x *exchange) receive() (head int, why received) {
	began := time.Time{}
	for {
		if x.n > 0 {
			switch head = x.request.read(x.in[:x.n]); {
			case head == odd || head == unfinished && x.n == len(x.in) || head > 0 && head+x.request.length > len(x.in):
				return 0, notPlain
			case head > 0 && x.n >= head+x.request.length:
				return head, complete
			}
		}
		if !x.drained {
			n, err := x.c.socket.Read(x.in[x.n:])
			switch {
			case n > 0:
				x.drained = x.n+n < len(x.in)
				x.n += n
				x.c.used = true
				continue
			case err == syscall.EAGAIN:
				x.drained = true
			case err == nil && head > 0:
				return 0, incomplete
			default:
				return 0, gone
			}
		}
		if x.n == 0 {
			return 0, nothing
		}
		if began.IsZero() {
			began = time.Now()
		}
		patience := readHeaderTimeout
		if head > 0 {
			patience = bodyTimeout
		}
		if !x.wait(system.Readable, max(1, time.Until(began.Add(patience)))) {
			if head > 0 {
				return 0, slow
			}
			return 0, gone
		}
		x.drained = false
	}
}

// wait waits until something happens at the visitor's end, for a while; 0 for as long as it takes.
func (x *exchange) wait(what system.Event, most time.Duration) bool {
	var late <-chan time.Time
	if most != 0 {
		timer := time.NewTimer(most)
		defer timer.Stop()
		late = timer.C
	}
	for {
		x.c.mu.Lock()
		happened := x.notice(what)
		x.c.mu.Unlock()
		if happened {
			return true
		}
		select {
		case <-x.wake:
		case <-late:
			return false
		}
	}
}

// write writes something to the visitor.
func (x *exchange) write(p []byte) error {
	for len(p) > 0 {
		n, err := x.c.socket.Write(p)
		p = p[n:]
		if err == syscall.EAGAIN {
			x.wait(system.Writable, 0)
		} else if err != nil {
			return err
		}
	}
	return nil
}

// serve has a request answered.
func (x *exchange) serve(head int) fate {
	r, q := x.p.r, &x.request
	r.under.Add(1)
	defer r.under.Add(-1)
	began, name := time.Now(), string(q.host)
	own, preview := r.find(name, q)
	if own != nil && own.Path != "" && !straight(q.target) {
		return others
	}
	x.turn = turn{began: began, bare: string(q.method) == "HEAD", repeatable: repeatable(string(q.method)), last: q.last}
	size := head + q.length
	if own != nil {
		x.visit = visit{own: own, preview: preview, given: true}
		x.visit.settle(q)
		x.compose(own, x.in[head:size])
	}
	x.ahead = append(x.ahead[:0], x.in[size:x.n]...)
	x.noSpace()
	defer x.goOn()
	if own == nil {
		return x.refuse(http.StatusNotFound, "no route leads to "+strconv.Quote(name))
	}
	return x.ask()
}

// goOn has what came beyond a request be the next one.
func (x *exchange) goOn() {
	if x.long = false; len(x.in) != plainSize {
		x.noSpace()
	}
	if cap(x.out) > plainSize {
		x.out = nil
	}
	if cap(x.request.fields)+cap(x.answer.fields) > usualFields { // somebody's were many
		x.request.fields, x.answer.fields = nil, nil
	}
	x.space()
	x.n = copy(x.in, x.ahead)
}

// refuse answers in the router's own words.
func (x *exchange) refuse(status int, text string, fields ...string) fate {
	x.turn.last = x.turn.last || x.p.r.leaving.Load()
	x.out = appendStatus(x.out[:0], status, http.StatusText(status))
	x.out = append(x.out, "Content-Type: text/plain; charset=utf-8\r\nX-Content-Type-Options: nosniff\r\nContent-Length: "...)
	x.out = append(strconv.AppendInt(x.out, int64(len(text)+1), 10), "\r\n"...)
	for _, f := range fields {
		x.out = append(append(x.out, f...), "\r\n"...)
	}
	x.out = x.turn.appendEnd(x.out, true)
	if !x.turn.bare {
		x.out = append(append(x.out, text...), '\n')
	}
	if x.write(x.out) != nil {
		return broken
	}
	return x.turn.fate()
}

// compose makes the request that the instance is to have.
func (x *exchange) compose(own *route, body []byte) {
	q := &x.request
	out := append(append(x.out[:0], q.method...), ' ')
	if own.Path != "" {
		out = append(out, strings.TrimSuffix(own.Path, "/")...)
	}
	out = append(append(out, q.target...), " HTTP/1.1\r\n"...)
	for _, f := range q.fields {
		out = f.append(out)
	}
	for _, name := range [...]string{"X-Forwarded-For: ", "X-Real-Ip: "} {
		out = append(x.c.from.AppendTo(append(out, name...)), "\r\n"...)
	}
	out = append(append(append(out, "X-Forwarded-Host: "...), q.host...), "\r\nX-Forwarded-Proto: http\r\n\r\n"...)
	x.out = append(out, body...)
}

// straight tells whether a path can be put behind another one as it is: it leads nowhere out of it.
func straight(target []byte) bool {
	path, _, _ := bytes.Cut(target, []byte("?"))
	return !bytes.Contains(path, []byte("/.")) && !bytes.Contains(path, []byte("//")) && bytes.IndexByte(path, '%') < 0
}
