package host

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"sync"
)

// Session runs a command within a container and gives what it reads and writes as a connection. The command's own end ends it; what it wrote
// to its standard error last is told then. Closing it does not wait for the command.
func (h *Host) Session(ctx context.Context, id string, args []string) (net.Conn, error) {
	ctx, cancel := context.WithTimeout(ctx, answerWait)
	defer cancel()
	var made struct {
		ID string `json:"Id"`
	}
	if err := h.ask(ctx, http.MethodPost, "/containers/"+url.PathEscape(id)+"/exec", map[string]any{"AttachStdin": true, "AttachStdout": true, "AttachStderr": true, "Cmd": args}, &made); err != nil {
		return nil, err
	}
	at, err := h.path(ctx, "/exec/"+made.ID+"/start")
	if err != nil {
		return nil, err
	}
	conn, err := h.dial(ctx)
	if err != nil {
		return nil, h.silent(ctx, err)
	}
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	s, err := begin(conn, at)
	if !stop() && err == nil {
		err = context.Cause(ctx)
	}
	if err != nil {
		conn.Close()
		var refused *Refused
		if errors.As(err, &refused) {
			return nil, err
		}
		return nil, h.silent(ctx, err)
	}
	return s, nil
}

// begin asks for a command to be started, on a connection that is its own from then on.
func begin(conn net.Conn, path string) (*session, error) {
	request, err := http.NewRequest(http.MethodPost, "http://engine"+path, strings.NewReader(`{"Detach":false,"Tty":false}`))
	if err != nil {
		return nil, err
	}
	request.Header = http.Header{"Content-Type": {"application/json"}, "Connection": {"Upgrade"}, "Upgrade": {"tcp"}}
	if err := request.Write(conn); err != nil {
		return nil, err
	}
	in := bufio.NewReader(conn)
	response, err := http.ReadResponse(in, request)
	if err != nil {
		return nil, err
	}
	if response.StatusCode != http.StatusSwitchingProtocols && response.StatusCode != http.StatusOK { // some engines say this and upgrade all the same
		text, _ := io.ReadAll(io.LimitReader(response.Body, 64<<10))
		var said struct{ Message string }
		json.Unmarshal(text, &said)
		return nil, &Refused{response.StatusCode, cmp.Or(said.Message, strings.TrimSpace(string(text)), http.StatusText(response.StatusCode))}
	}
	return &session{Conn: conn, in: in}, nil
}

// session is a command with its input and output. What comes is in frames: of which stream, how long, and the text.
type session struct {
	net.Conn
	in *bufio.Reader

	reading sync.Mutex
	head    [8]byte
	has     int    // of the head
	left    uint32 // of a frame's text
	said    []byte // the last of its standard error
}

// mostSaid is how much is kept of what a command writes to its standard error.
const mostSaid = 4 << 10

// Read implements net.Conn.
func (s *session) Read(p []byte) (int, error) {
	s.reading.Lock()
	defer s.reading.Unlock()
	for {
		for s.left == 0 {
			n, err := s.in.Read(s.head[s.has:])
			if s.has += n; err != nil {
				return 0, s.ended(err)
			}
			if s.has == len(s.head) {
				s.has, s.left = 0, binary.BigEndian.Uint32(s.head[4:])
			}
		}
		if s.head[0] != 2 {
			n, err := s.in.Read(p[:min(len(p), int(s.left))])
			s.left -= uint32(n)
			if n > 0 || err == nil {
				return n, nil
			}
			return 0, s.ended(err)
		}
		text := make([]byte, min(int(s.left), mostSaid))
		n, err := s.in.Read(text)
		s.left -= uint32(n)
		s.said = append(s.said, text[:n]...)
		s.said = s.said[max(0, len(s.said)-mostSaid):]
		if err != nil {
			return 0, s.ended(err)
		}
	}
}

// ended is the end of a command with the last line that it wrote to its standard error.
func (s *session) ended(err error) error {
	if lines := bytes.Split(bytes.TrimSpace(s.said), []byte("\n")); errors.Is(err, io.EOF) && len(s.said) > 0 {
		return fmt.Errorf("%s: %w", lines[len(lines)-1], io.ErrUnexpectedEOF)
	}
	return err
}
