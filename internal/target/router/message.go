package router

import (
	"bytes"
	"errors"
	"slices"
	"strconv"
	"strings"
)

// Messages of HTTP/1.1 (RFC 9112) as far as plain ones go. A request that is anything but plain is left to net/http as it came: what is read here
// is what both read alike.

// request is the head of a request. What is in it lies in the bytes that it was read from.
type request struct {
	method, target, host []byte
	fields               []field // without those that are for the next one on the way alone, and those that no visitor says
	length               int     // of its body
	last                 bool    // the visitor wants no further answer on the connection
}

// field is a header field.
type field struct{ name, value []byte }

// What reading a head can come to, beside its length.
const (
	unfinished = 0
	odd        = -1 // it is not plain
)

// read reads the head of a request from the bytes that have come, and gives its length.
func (q *request) read(p []byte) int {
	*q = request{fields: q.fields[:0]}
	line, rest, n := cutLine(p)
	if n <= 0 {
		return n
	}
	method, line, _ := bytes.Cut(line, space)
	target, version, _ := bytes.Cut(line, space)
	if len(method) == 0 || !all(method, isUpper) || !bytes.Equal(version, http11) || !plainTarget(target) || string(method) == "CONNECT" || string(method) == "PRI" {
		return odd
	}
	q.method, q.target = method, target
	sized := false
	for {
		if line, rest, n = cutLine(rest); n <= 0 {
			return n
		}
		if len(line) == 0 {
			break
		}
		f, ok := readField(line)
		if !ok {
			return odd
		}
		switch roleOf(f.name) {
		case forNext, forNobody:
			continue
		case special:
			return odd
		case connection:
			switch {
			case equalFold(f.value, "close"):
				q.last = true
			case !equalFold(f.value, "keep-alive"):
				return odd
			}
			continue
		case length:
			if sized || len(f.value) == 0 || len(f.value) > 9 || !all(f.value, isDigit) {
				return odd
			}
			q.length, _ = strconv.Atoi(string(f.value))
			sized = true
		case host:
			if q.host != nil || !all(f.value, isHost) {
				return odd
			}
			q.host = f.value
		}
		q.fields = append(q.fields, f)
	}
	if q.host == nil {
		return odd
	}
	return len(p) - len(rest)
}

// Values implements header.
func (q *request) Values(name string) (all []string) {
	for _, f := range q.fields {
		if equalFold(f.name, name) {
			all = append(all, string(f.value))
		}
	}
	return all
}

// repeatable tells whether a request may be carried out twice by its kind (RFC 9110, section 9.2.2).
func repeatable(method string) bool {
	switch method {
	case "GET", "HEAD", "OPTIONS", "TRACE", "PUT", "DELETE":
		return true
	}
	return false
}

// answer is the head of an answer, and how its body ends.
type answer struct {
	status  int
	reason  []byte
	fields  []field // without those that are for this one on the way alone
	length  int64   // of its body; -1 where none is told
	chunked bool
	last    bool // the instance takes no further request on the connection
}

// errAnswer means that an answer is none of HTTP/1.1.
var errAnswer = errors.New("the answer is not HTTP")

// read reads the head of an answer from the bytes that have come, and gives its length; 0 where it is unfinished.
func (a *answer) read(p []byte) (int, error) {
	*a = answer{fields: a.fields[:0], length: -1}
	line, rest, n := cutLoose(p)
	if n == 0 {
		return 0, nil
	}
	version, line, _ := bytes.Cut(line, space)
	status, reason, _ := bytes.Cut(line, space)
	if len(version) != len(http11) || !bytes.HasPrefix(version, http11[:len(http11)-1]) || !all(version[len(version)-1:], isDigit) || len(status) != 3 || !all(status, isDigit) || status[0] == '0' || !all(reason, isValue) {
		return 0, errAnswer
	}
	a.status, _ = strconv.Atoi(string(status))
	a.reason = reason
	var others []byte // that are for this one on the way alone, as the answer says itself
	older := version[len(version)-1] == '0'
	a.last = older
	for {
		from := rest
		if line, rest, n = cutLoose(rest); n == 0 {
			return 0, nil
		}
		if len(line) == 0 {
			break
		}
		for len(rest) > 0 && (rest[0] == ' ' || rest[0] == '\t') { // it goes on in the next line, as it did of old: one line with spaces is the same (section 5.2)
			for i := len(line); i < len(from)-len(rest); i++ {
				from[i] = ' '
			}
			var more []byte
			if more, rest, n = cutLoose(rest); n == 0 {
				return 0, nil
			}
			line = from[:len(from)-len(rest)-n+len(more)]
		}
		if len(rest) == 0 {
			return 0, nil // whether the field goes on is not known
		}
		f, ok := readField(line)
		if !ok {
			return 0, errAnswer
		}
		switch roleOf(f.name) {
		case forNext:
			continue
		case connection:
			a.last = a.last && !holds(f.value, "keep-alive") || holds(f.value, "close")
			if !equalFold(f.value, "close") && !equalFold(f.value, "keep-alive") {
				others = append(append(others, f.value...), ',')
			}
			continue
		case special:
			if equalFold(f.name, "Transfer-Encoding") {
				if a.chunked || !equalFold(f.value, "chunked") || older {
					return 0, errAnswer
				}
				a.chunked = true
			}
			if !equalFold(f.name, "Trailer") {
				continue
			}
		case length:
			own, err := strconv.ParseInt(string(f.value), 10, 64)
			if err != nil || !all(f.value, isDigit) || a.length >= 0 && a.length != own {
				return 0, errAnswer
			}
			if a.length >= 0 {
				continue
			}
			a.length = own
		}
		a.fields = append(a.fields, f)
	}
	if len(others) > 0 {
		a.fields = slices.DeleteFunc(a.fields, func(f field) bool { return holds(others, string(f.name)) })
	}
	return len(p) - len(rest), nil
}

// append writes the head as it is passed on, without its end and without what tells how long the body is in chunks.
func (a *answer) append(out []byte) []byte {
	out = appendStatus(out, a.status, string(a.reason))
	for _, f := range a.fields {
		if !a.chunked || !equalFold(f.name, "Content-Length") { // which says nothing then (RFC 9112, section 6.3)
			out = f.append(out)
		}
	}
	return out
}

func appendStatus(out []byte, status int, reason string) []byte {
	out = strconv.AppendInt(append(append(out, http11...), ' '), int64(status), 10)
	return append(append(append(out, ' '), reason...), "\r\n"...)
}

func (f *field) append(out []byte) []byte {
	out = append(append(out, f.name...), ": "...)
	return append(append(out, f.value...), "\r\n"...)
}

// body is how an answer's body comes, and how much of it has.
type body struct {
	kind   kind
	left   int64 // of one with a length
	chunks chunks
}

type kind uint8

const (
	none kind = iota
	sized
	inChunks
	toEnd // of the connection
)

// bodyOf is how the body of an answer comes (RFC 9112, section 6.3); a request of HEAD has a bare one.
func bodyOf(a *answer, bare bool) body {
	switch {
	case bare || a.status == 204 || a.status == 304:
		return body{}
	case a.chunked:
		return body{kind: inChunks}
	case a.length >= 0:
		return body{kind: sized, left: a.length}
	}
	return body{kind: toEnd}
}

var errShort = errors.New("the answer ended before its end")

// take takes what has come of a body, or its end, and appends what the visitor is to have of it. used is how many of the bytes are the body's.
func (b *body) take(out, p []byte, ended bool) (grown []byte, used int, done bool, err error) {
	switch b.kind {
	case none:
		return out, 0, true, nil
	case sized:
		used = int(min(b.left, int64(len(p))))
		b.left -= int64(used)
		done = b.left == 0
	case inChunks:
		used, err = b.chunks.follow(p)
		done = b.chunks.state == finished
	case toEnd:
		if len(p) > 0 {
			out = append(strconv.AppendInt(out, int64(len(p)), 16), "\r\n"...)
			out = append(append(out, p...), "\r\n"...)
		}
		if ended {
			out = append(out, "0\r\n\r\n"...)
		}
		return out, len(p), ended, nil
	}
	if err == nil && ended && !done {
		err = errShort
	}
	return append(out, p[:used]...), used, done, err
}

// chunks follows a body in chunks to its end, which is that of the trailers.
type chunks struct {
	state chunkState
	left  int64 // of a chunk
	line  int   // how long the line is so far
	cr    bool  // its last byte was a carriage return
}

type chunkState uint8

const (
	inSize    chunkState = iota
	afterSize            // spaces, as some write them
	inExtension
	inData
	afterData // the end of its line
	inTrailer // its name, or the end of them
	inTrailerValue
	finished
)

// longLine bounds a line of a body in chunks.
const longLine = 16 << 10

var errChunks = errors.New("the body's chunks are not as they say")

// follow gives how many of these bytes are the body's.
func (c *chunks) follow(p []byte) (n int, err error) {
	for n < len(p) && c.state != finished {
		if c.state == inData {
			step := min(c.left, int64(len(p)-n))
			n += int(step)
			if c.left -= step; c.left == 0 {
				c.state, c.line = afterData, 0
			}
			continue
		}
		b := p[n]
		n++
		if c.line++; c.line > longLine || c.cr != (b == '\n') { // a line feed alone ends no line here
			return n, errChunks
		}
		switch c.cr = false; {
		case b == '\n':
			if err := c.endLine(); err != nil {
				return n, err
			}
		case b == '\r':
			c.cr = true
			c.line--
		case c.state == inSize && isHex(b):
			if c.left >= 1<<55 {
				return n, errChunks
			}
			c.left = c.left<<4 | int64(unhex(b))
		case c.state == inSize && c.line > 1 && b == ';':
			c.state = inExtension
		case (c.state == inSize || c.state == afterSize) && c.line > 1 && (b == ' ' || b == '\t'):
			c.state = afterSize
		case c.state == inTrailer && c.line > 1 && b == ':':
			c.state = inTrailerValue
		case c.state == inTrailer && isToken(b), c.state == inTrailerValue && isValue(b), c.state == inExtension && isValue(b):
		default:
			return n, errChunks
		}
	}
	return n, nil
}

// endLine is what a line of a body comes to.
func (c *chunks) endLine() error {
	empty := c.line == 1 // its end alone
	c.line = 0
	switch c.state {
	case inSize, afterSize, inExtension:
		switch {
		case empty:
			return errChunks
		case c.left > 0:
			c.state = inData
		default:
			c.state = inTrailer
		}
	case afterData:
		if !empty {
			return errChunks
		}
		c.state = inSize
	case inTrailer:
		if !empty {
			return errChunks
		}
		c.state = finished
	case inTrailerValue:
		c.state = inTrailer
	}
	return nil
}

// role is what a header field is to whoever passes a message on.
type role uint8

const (
	ordinary role = iota
	host
	length
	connection
	forNext   // for the next one on the way alone (RFC 9110, section 7.6.1)
	forNobody // told of visitors, never by them
	special   // asks for more than a plain message
)

// roles are those of header fields that are not ordinary, by the length of their names.
var roles = func() (of [32][]named) {
	add := func(r role, names ...string) {
		for _, name := range names {
			of[len(name)] = append(of[len(name)], named{name, r})
		}
	}
	add(host, "Host")
	add(length, "Content-Length")
	add(connection, "Connection")
	add(forNext, "Keep-Alive", "Proxy-Connection", "Proxy-Authenticate", "Proxy-Authorization")
	add(special, "Transfer-Encoding", "Upgrade", "Te", "Trailer", "Expect", "Http2-Settings")
	add(forNobody, "Forwarded", "X-Forwarded-For", "X-Forwarded-Host", "X-Forwarded-Proto")
	add(forNobody, told...)
	return of
}()

type named struct {
	name string
	role role
}

func roleOf(name []byte) role {
	if len(name) < len(roles) {
		for _, one := range roles[len(name)] {
			if equalFold(name, one.name) {
				return one.role
			}
		}
	}
	return ordinary
}

// readField reads a header field from its line.
func readField(line []byte) (f field, ok bool) {
	name, value, found := bytes.Cut(line, colon)
	f = field{name, bytes.Trim(value, " \t")}
	return f, found && len(name) > 0 && all(name, isToken) && all(value, isValue)
}

var (
	space  = []byte(" ")
	colon  = []byte(":")
	http11 = []byte("HTTP/1.1")
)

// cutLine cuts off the first line, which ends as it should; n is its length with the end, unfinished or odd.
func cutLine(p []byte) (line, rest []byte, n int) {
	i := bytes.IndexByte(p, '\n')
	switch {
	case i < 0:
		return nil, nil, unfinished
	case i == 0 || p[i-1] != '\r':
		return nil, nil, odd
	}
	return p[:i-1], p[i+1:], i + 1
}

// cutLoose cuts off the first line, which may end with a line feed alone; n is its length with the end, or unfinished.
func cutLoose(p []byte) (line, rest []byte, n int) {
	i := bytes.IndexByte(p, '\n')
	if i < 0 {
		return nil, nil, unfinished
	}
	return bytes.TrimSuffix(p[:i], []byte("\r")), p[i+1:], i + 1
}

// holds tells whether a list has a word.
func holds(list []byte, word string) bool {
	for one := range bytes.SplitSeq(list, []byte(",")) {
		if equalFold(bytes.Trim(one, " \t"), word) {
			return true
		}
	}
	return false
}

// equalFold tells whether both are the same, whatever their case. Only ASCII has cases here.
func equalFold(a []byte, b string) bool {
	if len(a) != len(b) {
		return false
	}
	for i, c := range a {
		if c != b[i] && lower(c) != lower(b[i]) {
			return false
		}
	}
	return true
}

func lower(c byte) byte {
	if isUpper(c) {
		return c | 0x20
	}
	return c
}

// plainTarget tells whether a target is a path, with a query or not, that everybody reads alike.
func plainTarget(target []byte) bool {
	if len(target) == 0 || target[0] != '/' || bytes.HasPrefix(target, []byte("//")) {
		return false
	}
	query := false
	for i, c := range target {
		switch {
		case classes[c]&inTarget == 0:
			return false
		case c == '?':
			query = true
		case c == ';' && query:
			return false
		case c == '%' && (i+2 >= len(target) || !isHex(target[i+1]) || !isHex(target[i+2])):
			return false
		}
	}
	return true
}

// Classes of bytes (RFC 9110, section 5.6.2; RFC 3986).
const (
	inToken = 1 << iota
	inValue
	inTarget
	inHost
)

var classes = func() (of [256]uint8) {
	const alphanumeric = "0123456789abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ"
	for c := range of {
		if c >= ' ' && c != 0x7f || c == '\t' {
			of[c] |= inValue
		}
		if c < 0x80 && strings.IndexByte(alphanumeric+"!#$%&'*+-.^_`|~", byte(c)) >= 0 {
			of[c] |= inToken
		}
		if c < 0x80 && strings.IndexByte(alphanumeric+"-._~!$&'()*+,;=:@/?%", byte(c)) >= 0 {
			of[c] |= inTarget
		}
		if c < 0x80 && strings.IndexByte(alphanumeric+"-._:[]", byte(c)) >= 0 {
			of[c] |= inHost
		}
	}
	return of
}()

func isToken(c byte) bool { return classes[c]&inToken != 0 }
func isValue(c byte) bool { return classes[c]&inValue != 0 }
func isHost(c byte) bool  { return classes[c]&inHost != 0 }
func isUpper(c byte) bool { return 'A' <= c && c <= 'Z' }
func isDigit(c byte) bool { return '0' <= c && c <= '9' }
func isHex(c byte) bool   { return isDigit(c) || 'a' <= lower(c) && lower(c) <= 'f' }

func unhex(c byte) byte {
	if isDigit(c) {
		return c - '0'
	}
	return lower(c) - 'a' + 10
}

// all tells whether bytes are all of a kind.
func all(p []byte, is func(byte) bool) bool {
	for _, c := range p {
		if !is(c) {
			return false
		}
	}
	return true
}
