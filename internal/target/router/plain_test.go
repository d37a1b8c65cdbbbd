package router

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"runtime"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"
)

// speaker is an instance that says what it is told to, to one request after another. It rests at <rest>, and ends the connection at <end>.
func speaker(t *testing.T, say func(req *http.Request) string) (in Instance, opened *atomic.Int32) {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { listener.Close() })
	opened = new(atomic.Int32)
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			opened.Add(1)
			go func() {
				defer conn.Close()
				for from := bufio.NewReader(conn); ; {
					req, err := http.ReadRequest(from)
					if err != nil {
						return
					}
					body, _ := io.ReadAll(req.Body)
					req.Body = io.NopCloser(bytes.NewReader(body))
					text, ends := strings.CutSuffix(say(req), "<end>")
					for i, part := range strings.Split(text, "<rest>") {
						if i > 0 {
							time.Sleep(5 * time.Millisecond)
						}
						io.WriteString(conn, part)
					}
					if ends {
						return
					}
				}
			}()
		}
	}()
	return Instance{ID: "in", Address: listener.Addr().String(), Ready: true}, opened
}

// leadTo leads all to an instance, and gives a connection to the router.
func leadTo(t *testing.T, in Instance) (r *Router, conn net.Conn, from *bufio.Reader) {
	t.Helper()
	r, at := open(t)
	r.Set(at, []Route{{Name: "a", Host: "a", Cohorts: []Cohort{{Name: "o", Share: 1, Instances: []Instance{in}}}}})
	conn, err := net.Dial("tcp", at)
	if err != nil {
		t.Fatal(err)
	}
	conn.SetDeadline(time.Now().Add(20 * time.Second))
	t.Cleanup(func() { conn.Close() })
	return r, conn, bufio.NewReader(conn)
}

// TestSaid sends requests to an instance that answers in each way there is, over one connection where it may go on, and sees what the visitor has.
func TestSaid(t *testing.T) {
	const date = "Date: Fri, 27 Nov 2026 12:00:00 GMT\r\n"
	bad := "HTTP/1.1 502 Bad Gateway | the instance gave no answer\n"
	for _, test := range []struct{ method, says, want string }{
		{"GET", "HTTP/1.1 200 OK\r\n" + date + "Content-Length: 2\r\nX-Own: 1\r\n\r\nok", "HTTP/1.1 200 OK | Content-Length: 2, X-Own: 1 | ok"},
		{"GET", "HTTP/1.1 200 OK\r\n" + date + "Content-Length: 2\r\nConnection: close\r\n\r\nok<end>", "HTTP/1.1 200 OK | Content-Length: 2 | ok"},
		{"GET", "HTTP/1.1 200 All well\r\n" + date + "Trailer: X-Sum\r\nTransfer-Encoding: chunked\r\n\r\n2\r\nok\r\n0\r\nX-Sum: 3\r\n\r\n", "HTTP/1.1 200 All well | chunked | ok | X-Sum: 3"},
		{"GET", "HTTP/1.0 200 OK\r\n" + date + "\r\nto the end<end>", "HTTP/1.1 200 OK | chunked | to the end"},
		{"GET", "HTTP/1.1 200 OK\r\n" + date + "\r\n" + strings.Repeat("x", 100_000) + "<end>", "HTTP/1.1 200 OK | chunked | " + strings.Repeat("x", 100_000)},
		{"GET", "HTTP/1.1 200 OK\r\n" + date + "Content-Length: 100000\r\n\r\n" + strings.Repeat("x", 100_000), "HTTP/1.1 200 OK | Content-Length: 100000 | " + strings.Repeat("x", 100_000)},
		{"GET", "HTTP/1.1 200 OK\r\n" + date + "X-Long: " + strings.Repeat("y", 50_000) + "\r\nContent-Length: 0\r\n\r\n", "HTTP/1.1 200 OK | Content-Length: 0, X-Long: " + strings.Repeat("y", 50_000) + " | "},
		{"GET", "HTTP/1.1 200 OK\r\n" + date + "Content-Length: 0\r\nX-Own: a\rb\r\n\r\n", bad},
		{"GET", "HTTP/1.1 200<rest> OK\r\n" + date + "X-Own: <rest>1\r\n<rest>Transfer-Encoding: chunked\r\n\r<rest>\n2<rest>\r\nok<rest>\r\n0\r\n<rest>\r\n", "HTTP/1.1 200 OK | X-Own: 1, chunked | ok"},
		{"HEAD", "HTTP/1.1 200 OK\r\n" + date + "Content-Length: 20\r\n\r\n", "HTTP/1.1 200 OK | Content-Length: 20 | "},
		{"GET", "HTTP/1.1 304 Not Modified\r\n" + date + "Content-Length: 20\r\n\r\n", "HTTP/1.1 304 Not Modified | Content-Length: 20 | "},
		{"DELETE", "HTTP/1.1 204 No Content\r\n" + date + "\r\n", "HTTP/1.1 204 No Content |  | "},
		{"GET", "HTTP/1.1 103 Early Hints\r\nLink: </a>\r\n\r\nHTTP/1.1 200 OK\r\n" + date + "Content-Length: 2\r\n\r\nok", "HTTP/1.1 103 Early Hints | Link: </a> | HTTP/1.1 200 OK | Content-Length: 2 | ok"},
		{"GET", "HTTP/1.1 200 OK\r\n" + date + "Content-Length: 2\r\n\r\nok and more", "HTTP/1.1 200 OK | Content-Length: 2 | ok"},
		{"POST", "HTTP/1.1 101 Switching Protocols\r\nUpgrade: a\r\nConnection: upgrade\r\n\r\n", bad},
		{"POST", "220 mail.example\r\n", bad},
		{"POST", "HTTP/1.1 200 OK\r\nContent-Length: 1\r\nContent-Length: 2\r\n\r\nok", bad},
		{"POST", strings.Repeat("HTTP/1.1 103 Early Hints\r\n\r\n", mostInterim+2), strings.Repeat("HTTP/1.1 103 Early Hints |  | ", mostInterim+1) + bad},
		{"POST", "HTTP/1.1 200 OK\r\n" + strings.Repeat("X-Long: "+strings.Repeat("y", 1000)+"\r\n", 2000), bad},
		{"POST", "HTTP/1.1 200 OK<end>", bad},
		{"POST", "<end>", bad},
	} {
		in, _ := speaker(t, func(*http.Request) string { return test.says })
		r, conn, from := leadTo(t, in)
		for time := range 2 {
			fmt.Fprintf(conn, "%s /x HTTP/1.1\r\nHost: a\r\n\r\n", test.method)
			if got := spoken(t, from, test.method); got != test.want {
				t.Errorf("%.80q: the %d. answer is %.200q, want %.200q", test.says, time+1, got, test.want)
			}
		}
		want := "map[502:2]"
		if test.want != bad && !strings.HasSuffix(test.want, bad) {
			want = fmt.Sprintf("map[%s:2]", lastStatusOf(test.want))
		}
		if c := r.Counts()["in"]; fmt.Sprint(c.Requests) != want || c.Pending != 0 {
			t.Errorf("%.80q is counted as %v, %d pending", test.says, c.Requests, c.Pending)
		}
	}
}

// lastStatusOf is the status of the last answer that spoken gave.
func lastStatusOf(text string) string {
	return text[strings.LastIndex(text, "HTTP/1.1 ")+9:][:3]
}

// spoken reads an answer, with those before it, as a line: parts are apart by |, and a date is left out.
func spoken(t *testing.T, from *bufio.Reader, method string) (all string) {
	t.Helper()
	for {
		response, err := http.ReadResponse(from, &http.Request{Method: method})
		if err != nil {
			t.Fatalf("after %.100q: %v", all, err)
		}
		all += "HTTP/1.1 " + response.Status + " | "
		if response.StatusCode < 500 {
			var fields []string
			for _, name := range slices.Sorted(maps.Keys(response.Header)) {
				if name != "Date" {
					fields = append(fields, name+": "+response.Header.Get(name))
				}
			}
			if len(response.TransferEncoding) > 0 {
				fields = append(fields, "chunked")
			}
			all += strings.Join(fields, ", ") + " | "
		}
		if response.StatusCode < 200 {
			continue
		}
		if response.Header.Get("Date") == "" {
			t.Errorf("%.100q has no date", all)
		}
		body, err := io.ReadAll(response.Body)
		if err != nil {
			t.Fatalf("%.100q: %v", all, err)
		}
		all += string(body)
		for name := range response.Trailer {
			all += " | " + name + ": " + response.Trailer.Get(name)
		}
		return all
	}
}

// TestInOneGo has requests come in one piece, byte by byte, with bodies, beside ones that are not plain, on one connection: each has its own answer.
func TestInOneGo(t *testing.T) {
	in, _ := speaker(t, func(req *http.Request) string {
		body, _ := io.ReadAll(req.Body)
		text := fmt.Sprint(req.Method, " ", req.URL.Path, " ", string(body))
		return fmt.Sprintf("HTTP/1.1 200 OK\r\nContent-Length: %d\r\n\r\n%s", len(text), text)
	})
	const get, post, unknown = "GET /%d HTTP/1.1\r\nHost: a\r\n\r\n", "POST /%d HTTP/1.1\r\nHost: a\r\nContent-Length: 5\r\n\r\nhello", "GET /%d HTTP/1.1\r\nHost: b\r\n\r\n"
	const chunked, absolute = "POST /%d HTTP/1.1\r\nHost: a\r\nTransfer-Encoding: chunked\r\n\r\n5\r\nhello\r\n0\r\n\r\n", "GET http://a/%d HTTP/1.1\r\nHost: a\r\n\r\n"
	long := "POST /%d HTTP/1.1\r\nHost: a\r\nContent-Length: 20000\r\n\r\n" + strings.Repeat("h", 20_000)
	wide := "GET /%d HTTP/1.1\r\nHost: a\r\nX-Wide: " + strings.Repeat("w", 20_000) + "\r\n\r\n"
	for name, sent := range map[string][]string{
		"plain": {get, post, get, unknown, post, post, get}, "in chunks": {get, post, chunked, get, chunked, post}, "whole addresses": {post, absolute, post}, "long ones": {get, long, wide, get}, "many": slices.Repeat([]string{get, post}, 500),
	} {
		for _, piece := range []int{1, 13, 1 << 20} {
			if piece == 1 && name == "many" {
				continue
			}
			r, conn, from := leadTo(t, in)
			var text strings.Builder
			for i, one := range sent {
				fmt.Fprintf(&text, one, i)
			}
			go func() {
				for rest := text.String(); len(rest) > 0; rest = rest[min(piece, len(rest)):] {
					if _, err := io.WriteString(conn, rest[:min(piece, len(rest))]); err != nil {
						return
					}
				}
			}()
			answered := uint64(0)
			for i, one := range sent {
				response, err := http.ReadResponse(from, nil)
				if err != nil {
					t.Fatalf("%s in pieces of %d, request %d: %v", name, piece, i, err)
				}
				body, _ := io.ReadAll(response.Body)
				method, _, _ := strings.Cut(one, " ")
				_, with, _ := strings.Cut(one, "\r\n\r\n")
				if one == chunked {
					with = "hello"
				}
				if one == unknown {
					if response.StatusCode != http.StatusNotFound {
						t.Errorf("%s in pieces of %d: request %d is answered %d", name, piece, i, response.StatusCode)
					}
					continue
				}
				if answered++; response.StatusCode != 200 || string(body) != fmt.Sprint(method, " /", i, " ", with) {
					t.Errorf("%s in pieces of %d: request %d is answered %d %.80q", name, piece, i, response.StatusCode, body)
				}
			}
			if got := requests(r, "in"); got != answered {
				t.Errorf("%s in pieces of %d: %d of %d are counted", name, piece, got, answered)
			}
		}
	}
}

// TestLines sees how connections to an instance are used: one after another, none that it has closed, also where it says nothing of it.
func TestLines(t *testing.T) {
	for says, want := range map[string]int32{
		"HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok":                                   1,
		"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n2\r\nok\r\n0\r\n\r\n":        1,
		"HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok<end>":                              20,
		"HTTP/1.1 200 OK\r\nContent-Length: 2\r\nConnection: close\r\n\r\nok":              20,
		"HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nokHTTP/1.1 200 OK\r\nX: more\r\n\r\n": 20,
		"HTTP/1.0 200 OK\r\nContent-Length: 2\r\n\r\nok":                                   20,
	} {
		in, opened := speaker(t, func(*http.Request) string { return says })
		r, conn, from := leadTo(t, in)
		for range 20 {
			fmt.Fprint(conn, "POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 2\r\n\r\nhi")
			if got := spoken(t, from, "POST"); !strings.HasPrefix(got, "HTTP/1.1 200 OK") {
				t.Fatalf("%q: %s", says, got)
			}
			if strings.HasSuffix(says, "<end>") { // that its end has come is all that is waited for
				time.Sleep(5 * time.Millisecond)
			}
		}
		if got := opened.Load(); got != want {
			t.Errorf("%q: %d connections, want %d", says, got, want)
		}
		r.closeLines(time.Now().Add(time.Hour))
		b := r.backends["in"]
		if l := b.lines.pop(); l != nil {
			t.Errorf("%q: a line is kept", says)
		}
		if r.Forget("in"); b.lines.push(&line{}) {
			t.Errorf("%q: a line to an instance that is gone is kept", says)
		}
	}
}

// TestFreshLines asks an instance that came back over a connection of its own, also at an address that it had before.
func TestFreshLines(t *testing.T) {
	in, opened := speaker(t, func(*http.Request) string { return "HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok" })
	r, conn, from := leadTo(t, in)
	at := conn.RemoteAddr().String()
	for i, want := range []int32{1, 1, 2, 2} {
		if i == 2 {
			for _, ready := range []bool{false, true} {
				in.Ready = ready
				r.Set(at, []Route{{Name: "a", Host: "a", Cohorts: []Cohort{{Name: "o", Share: 1, Instances: []Instance{in}}}}})
			}
		}
		fmt.Fprint(conn, "GET / HTTP/1.1\r\nHost: a\r\n\r\n")
		if got := spoken(t, from, "GET"); !strings.HasSuffix(got, "ok") || opened.Load() != want {
			t.Errorf("request %d is answered %s over %d connections, want %d", i, got, opened.Load(), want)
		}
	}
}

// TestClosedOnTheWay has an instance close its connection as the next request is on its way: what may be repeated is, and what may not is told.
func TestClosedOnTheWay(t *testing.T) {
	var asked atomic.Int32
	in, _ := speaker(t, func(*http.Request) string {
		if asked.Add(1)%2 == 0 {
			return "<end>"
		}
		return "HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok"
	})
	_, conn, from := leadTo(t, in)
	for _, method := range []string{"GET", "GET", "PUT", "DELETE"} { // the first is answered, each other takes two
		fmt.Fprintf(conn, "%s / HTTP/1.1\r\nHost: a\r\n\r\n", method)
		if got := spoken(t, from, method); !strings.HasPrefix(got, "HTTP/1.1 200 OK") {
			t.Errorf("%s: %s", method, got)
		}
	}
	fmt.Fprint(conn, "POST / HTTP/1.1\r\nHost: a\r\n\r\n")
	if got := spoken(t, from, "POST"); !strings.HasPrefix(got, "HTTP/1.1 502") || asked.Load() != 8 {
		t.Errorf("POST: %s, after %d requests", got, asked.Load())
	}
}

// TestQuiet has many connections open on which nothing is asked: they cost no goroutine, and are closed once they are too old, or the router leaves.
func TestQuiet(t *testing.T) {
	in, _ := speaker(t, func(*http.Request) string { return "HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok" })
	r, first, from := leadTo(t, in)
	if r.plain == nil {
		t.Skip("this system has no way of plain requests")
	}
	ask := func(conn net.Conn, from *bufio.Reader, more string) {
		t.Helper()
		fmt.Fprintf(conn, "GET / HTTP/1.1\r\nHost: a\r\n%s\r\n", more)
		if got := spoken(t, from, "GET"); !strings.HasPrefix(got, "HTTP/1.1 200 OK") {
			t.Fatal(got)
		}
	}
	ask(first, from, "")
	before := runtime.NumGoroutine()
	const many = 500
	var conns []net.Conn
	for i := range many {
		conn, err := net.Dial("tcp", first.RemoteAddr().String())
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		if conns = append(conns, conn); i%2 == 0 {
			ask(conn, bufio.NewReader(conn), "")
		}
	}
	if grown := runtime.NumGoroutine() - before; grown > mostWait {
		t.Errorf("%d connections take %d goroutines", many, grown)
	}
	left := func(want int64, what string) {
		t.Helper()
		for end := time.Now().Add(10 * time.Second); ; time.Sleep(time.Millisecond) {
			r.plain.mu.Lock()
			own := int64(len(r.plain.callers))
			r.plain.mu.Unlock()
			if own == want && r.connections.Load() == want {
				return
			}
			if time.Now().After(end) {
				t.Fatalf("%s: %d connections are left, and %d looked after, want %d", what, r.connections.Load(), own, want)
			}
		}
	}
	left(many+1, "all of them")
	conns[0].Close()
	left(many, "one has gone")
	r.plain.closeStale(time.Now().Add(readHeaderTimeout - time.Second))
	left(many, "none is too old")
	r.plain.closeStale(time.Now().Add(readHeaderTimeout + time.Second))
	left(many/2, "those that never asked anything")
	ask(first, from, "Connection: close\r\n")
	if _, err := from.ReadByte(); err != io.EOF {
		t.Errorf("after its last answer there is %v", err)
	}
	r.plain.closeStale(time.Now().Add(shutFor + time.Second))
	left(many/2-1, "one that was told that nothing more comes, and stays")
	ask(conns[2], bufio.NewReader(conns[2]), "")
	r.plain.closeStale(time.Now().Add(idleTimeout + time.Second))
	left(0, "all are too old")
	if err := r.Close(t.Context()); err != nil {
		t.Error(err)
	}
	select {
	case <-r.plain.end:
	default:
		t.Error("a router that was closed looks after visitors")
	}
}

// TestSlowReaders have long answers come to visitors who read slowly, go in the middle, or close their end at once.
func TestSlowReaders(t *testing.T) {
	const size = 20 << 20
	text := strings.Repeat("0123456789abcdef", size/16)
	in := instance(t, "in", func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/sized" {
			w.Header().Set("Content-Length", fmt.Sprint(size))
		}
		io.WriteString(w, text)
	})
	r, at := open(t)
	r.Set(at, []Route{{Name: "a", Cohorts: []Cohort{{Name: "o", Share: 1, Instances: []Instance{in}}}}})
	for _, path := range []string{"/sized", "/chunks"} {
		response, err := http.Get("http://" + at + path)
		if err != nil {
			t.Fatal(err)
		}
		part := make([]byte, 1<<20)
		for n := 0; ; n++ {
			got, err := io.ReadFull(response.Body, part)
			if err == io.EOF && n == size>>20 {
				break
			}
			if err != nil || string(part[:got]) != text[:got] {
				t.Fatalf("%s: of part %d there are %d bytes (%v)", path, n, got, err)
			}
			time.Sleep(time.Millisecond)
		}
		response.Body.Close()
		conn, err := net.Dial("tcp", at)
		if err != nil {
			t.Fatal(err)
		}
		fmt.Fprintf(conn, "GET %s HTTP/1.1\r\nHost: a\r\n\r\n", path)
		io.ReadFull(conn, part)
		conn.Close() // with much to come
		if err := r.Drain(t.Context(), "in"); err != nil {
			t.Error(err)
		}
	}
	for end := time.Now().Add(10 * time.Second); requests(r, "in") < 4 && time.Now().Before(end); {
		time.Sleep(time.Millisecond)
	}
	if c := r.Counts()["in"]; fmt.Sprint(c.Requests) != "map[200:4]" {
		t.Errorf("counted %v: who goes in the middle says nothing of the instance", c.Requests)
	}
}

// TestHalfClosed has visitors say that they send no more with their requests: they are answered.
func TestHalfClosed(t *testing.T) {
	in, _ := speaker(t, func(req *http.Request) string {
		time.Sleep(50 * time.Millisecond)
		return "HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok"
	})
	r, conn, from := leadTo(t, in)
	if r.plain == nil {
		t.Skip("this system has no way of plain requests")
	}
	fmt.Fprint(conn, "GET / HTTP/1.1\r\nHost: a\r\n\r\nGET / HTTP/1.1\r\nHost: a\r\n\r\n")
	conn.(*net.TCPConn).CloseWrite()
	for range 2 {
		if got := spoken(t, from, "GET"); got != "HTTP/1.1 200 OK | Content-Length: 2 | ok" {
			t.Error(got)
		}
	}
	if _, err := from.ReadByte(); err != io.EOF || requests(r, "in") != 2 {
		t.Errorf("then there is %v, %d are counted", err, requests(r, "in"))
	}
	const other = "GET http://a/ HTTP/1.1\r\nHost: a\r\n\r\n" // by net/http he left, and is told nothing rather than that all is well
	second, err := net.Dial("tcp", conn.RemoteAddr().String())
	if err != nil {
		t.Fatal(err)
	}
	defer second.Close()
	io.WriteString(second, other)
	second.(*net.TCPConn).CloseWrite()
	if text, _ := io.ReadAll(second); len(text) > 0 && !strings.HasSuffix(string(text), "ok") {
		t.Errorf("it says %q", text)
	}
}

// TestMistake has the router trip over itself: that costs the visitor his connection, and nobody else.
func TestMistake(t *testing.T) {
	in, _ := speaker(t, func(*http.Request) string { return "HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok" })
	r, conn, from := leadTo(t, in)
	if r.plain == nil {
		t.Skip("this system has no way of plain requests")
	}
	r.mu.Lock()
	r.hosts["broken"] = &route{}
	r.mu.Unlock()
	fmt.Fprint(conn, "GET / HTTP/1.1\r\nHost: broken\r\n\r\n")
	if _, err := from.ReadByte(); err != io.EOF {
		t.Errorf("it says something (%v)", err)
	}
	if status, text := get(t, http.DefaultClient, conn.RemoteAddr().String(), "a"); status != http.StatusOK || text != "ok" {
		t.Errorf("another one has %d %q", status, text)
	}
	for end := time.Now().Add(10 * time.Second); r.under.Load() > 0; time.Sleep(time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("it counts as under way")
		}
	}
}
