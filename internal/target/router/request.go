package router

import (
	"bytes"
	"strconv"
)

// request is the head of a request. What is in it lies in the bytes that it was read from.
type request struct {
	method, target, host []byte
	fields               []field // without those that are for the next one on the way alone, and those that no visitor says
	length               int     // of its body
	last                 bool    // the visitor wants no further answer on the connection
}

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
