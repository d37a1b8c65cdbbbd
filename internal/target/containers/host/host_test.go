package host

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"net/http"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// fake is an engine that answers what a test says.
func fake(t *testing.T, answers map[string]http.HandlerFunc) *Host {
	t.Helper()
	socket := filepath.Join(t.TempDir(), "engine.sock")
	listener, err := net.Listen("unix", socket)
	if err != nil {
		t.Fatal(err)
	}
	mux := http.NewServeMux()
	if answers["GET /version"] == nil {
		mux.HandleFunc("GET /version", says(`{"Version":"4.3.1","ApiVersion":"1.41","MinAPIVersion":"1.24","Components":[{"Name":"an engine"}]}`))
	}
	for pattern, answer := range answers {
		mux.HandleFunc(pattern, answer)
	}
	server := &http.Server{Handler: mux}
	go server.Serve(listener)
	t.Cleanup(func() { server.Close() })
	return New(Scheme + socket)
}

func says(text string) http.HandlerFunc {
	return func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, text) }
}

func refuses(status int, text string) http.HandlerFunc {
	return func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(status)
		fmt.Fprint(w, text)
	}
}

// TestVersions negotiates which version of the API is spoken.
func TestVersions(t *testing.T) {
	for said, want := range map[string]string{
		`{"ApiVersion":"1.47","MinAPIVersion":"1.24"}`: "/v1.41/x", `{"ApiVersion":"1.40"}`: "/v1.40/x", `{"ApiVersion":"1.41"}`: "/v1.41/x",
		`{"ApiVersion":"1.39"}`: "speaks versions ? to 1.39 of the API; 1.40 to 1.41 are needed", `{"ApiVersion":"1.60","MinAPIVersion":"1.44"}`: "speaks versions 1.44 to 1.60", `{}`: "speaks versions ? to ?", `never`: "is not understood",
	} {
		h := fake(t, map[string]http.HandlerFunc{"GET /version": says(said)})
		got, err := h.path(t.Context(), "/x")
		if err != nil {
			got = err.Error()
		}
		if !strings.Contains(got, want) {
			t.Errorf("%s: %q, want %q", said, got, want)
		}
	}
}

// TestRefusals tells what an engine says no to, and what does not answer, apart.
func TestRefusals(t *testing.T) {
	held := make(chan struct{})
	defer close(held)
	h := fake(t, map[string]http.HandlerFunc{
		"GET /v1.41/containers/none/json": refuses(404, `{"message":"no such container"}`), "GET /v1.41/containers/odd/json": refuses(500, "not JSON at all\n"),
		"POST /v1.41/containers/create": refuses(409, `{"message":"the name is taken"}`), "GET /v1.41/containers/hangs/json": func(http.ResponseWriter, *http.Request) { <-held },
		"GET /v1.41/containers/half/json": says(`{"Id":"a`), "POST /v1.41/images/load": says(`{"stream":"Loaded"}` + "\n" + `{"error":"no space left on device"}`),
	})
	short, cancel := context.WithTimeout(t.Context(), 200*time.Millisecond)
	defer cancel()
	for name, do := range map[string]func() error{
		"there is none of that name|no such container": func() error { _, err := h.Inspect(t.Context(), "none"); return err },
		"not JSON at all":               func() error { _, err := h.Inspect(t.Context(), "odd"); return err },
		"the name is taken":             func() error { _, err := h.Create(t.Context(), "a", Create{}); return err },
		"is not understood":             func() error { _, err := h.Inspect(t.Context(), "half"); return err },
		"no space left":                 func() error { return h.Load(t.Context(), strings.NewReader("a tar")) },
		"does not answer|hangs":         func() error { _, err := h.Inspect(short, "hangs"); return err },
		"does not answer|no such file":  func() error { _, err := New(Scheme + "/nowhere/engine.sock").Ping(t.Context()); return err },
		"write it like unix:///run/pod": func() error { return Way{Address: "tcp://10.0.0.1:2375"}.Check() },
	} {
		err := do()
		if err == nil {
			t.Errorf("%s: it was taken", name)
			continue
		}
		if want, _, silent := strings.Cut(name, "|"); !strings.Contains(err.Error(), want) && !errors.Is(err, ErrNotFound) || silent && strings.HasPrefix(want, "does not") != errors.Is(err, ErrSilent) {
			t.Errorf("%v, want %q (silent %v)", err, name, errors.Is(err, ErrSilent))
		}
	}
	if err := h.Remove(t.Context(), "gone"); err != nil {
		t.Errorf("what is not there any more: %v", err)
	}
	cancelled, end := context.WithCancel(t.Context())
	end()
	if _, err := h.Inspect(cancelled, "none"); errors.Is(err, ErrSilent) {
		t.Errorf("an engine that nobody waits for is silent: %v", err)
	}
}

// frame is what an engine sends of a stream.
func frame(stream byte, text string) []byte {
	head := make([]byte, 8)
	head[0] = stream
	binary.BigEndian.PutUint32(head[4:], uint32(len(text)))
	return append(head, text...)
}

// TestFrames reads what containers wrote, in whatever pieces.
func TestFrames(t *testing.T) {
	at := "2026-11-27T10:00:00Z "
	for name, test := range map[string]struct {
		in   []byte
		want string
	}{
		"lines":            {append(frame(1, at+"one\n"), frame(2, at+"two\r\n")...), "[out one] [err two]"},
		"in pieces":        {bytes.Join([][]byte{frame(1, at+"a lo"), frame(2, at+"other\n"), frame(1, "ng one\n")}, nil), "[err other] [out a long one]"},
		"two in one":       {frame(1, at+"one\n"+at+"two\n"), "[out one] [out two]"},
		"an unended one":   {frame(1, at+"one"), "[out one]"},
		"without a time":   {frame(1, "one\n"), ""},
		"cut in its head":  {append(frame(1, at+"one\n"), 1, 0, 0), "[out one]"},
		"cut in its text":  {frame(1, at+"one\n")[:20], ""},
		"nothing":          {nil, ""},
		"longer than much": {append([]byte{1, 0, 0, 0, 0xff, 0xff, 0xff, 0xff}, "x"...), "! what the container wrote is not in frames"},
	} {
		lines, err := readFrames(bytes.NewReader(test.in))
		var got []string
		for _, l := range lines {
			got = append(got, fmt.Sprintf("[%s %s]", l.Stream, l.Text))
		}
		text := strings.Join(got, " ")
		if err != nil {
			text = "! " + err.Error()
		}
		if text != test.want {
			t.Errorf("%s: %q, want %q", name, text, test.want)
		}
	}
	if last := lastLine(append(frame(1, "one\ntwo\n\n"), 9)); last != "two" {
		t.Errorf("the last line is %q", last)
	}
}

// FuzzFrames reads what no engine would send.
func FuzzFrames(f *testing.F) {
	f.Add(frame(1, "2026-11-27T10:00:00Z one\n"))
	f.Add([]byte{2, 0, 0, 0, 0, 0, 0, 1})
	f.Fuzz(func(t *testing.T, text []byte) {
		lines, _ := readFrames(bytes.NewReader(text))
		if len(lines) > len(text) {
			t.Errorf("%d lines of %d bytes", len(lines), len(text))
		}
		lastLine(text)
	})
}

// TestEvents hears what happens, from when nothing is missed on, and when the engine ends.
func TestEvents(t *testing.T) {
	h := fake(t, map[string]http.HandlerFunc{"GET /v1.41/events": says(`{"Type":"container","Action":"die","Actor":{"ID":"a"}}` + "\n" + `{"Type":"network","Action":"connect","Actor":{"ID":"net","Attributes":{"container":"b"}}}` + "\n")})
	var heard []string
	err := h.Events(t.Context(), func() { heard = append(heard, "begun") }, func(e Event) { heard = append(heard, e.Action+" "+e.ID) })
	if got := strings.Join(heard, ", "); got != "begun, die a, connect b" || !errors.Is(err, ErrSilent) {
		t.Errorf("heard %s, and then %v", got, err)
	}
}
