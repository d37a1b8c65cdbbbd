package router

import (
	"errors"
	"strconv"
)

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
