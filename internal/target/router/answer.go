package router

import (
	"bytes"
	"errors"
	"slices"
	"strconv"
)

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
