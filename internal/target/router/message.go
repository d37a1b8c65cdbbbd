package router

import (
	"bytes"
	"strings"
)

// Messages of HTTP/1.1 (RFC 9112) as far as plain ones go. A request that is anything but plain is left to net/http as it came: what is read here
// is what both read alike.

// field is a header field.
type field struct{ name, value []byte }

func (f *field) append(out []byte) []byte {
	out = append(append(out, f.name...), ": "...)
	return append(append(out, f.value...), "\r\n"...)
}

// What reading a head can come to, beside its length.
const (
	unfinished = 0
	odd        = -1 // it is not plain
)

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
