package router

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"net/http"
	"net/http/httputil"
	"slices"
	"strings"
	"testing"
)

// TestRequest reads heads: plain ones, ones that are unfinished, and ones that are left to net/http.
func TestRequest(t *testing.T) {
	const host = "Host: fares.example\r\n"
	for _, test := range []struct{ text, want string }{
		{"GET / HTTP/1.1\r\n" + host + "\r\n", "GET / fares.example 0"},
		{"GET /a?b=c%20d HTTP/1.1\r\nhost:fares.example:81 \r\nConnection: Keep-Alive\r\n\r\nGET", "GET /a?b=c%20d fares.example:81 0"},
		{"POST / HTTP/1.1\r\n" + host + "Content-Length: 5\r\nConnection: close\r\n\r\nhello", "POST / fares.example 5 last"},
		{"GET / HTTP/1.1\r\n" + host + "Keep-Alive: 5\r\nX-Forwarded-For: 8.8.8.8\r\nforwarded: for=x\r\nX-Own: 1\r\n\r\n", "GET / fares.example 0 X-Own=1"},
		{"", "unfinished"},
		{"GET / HTTP/1.1\r\nHost", "unfinished"},
		{"GET / HTTP/1.1\r\n" + host, "unfinished"},
		{"GET / HTTP/1.1\n" + host + "\r\n", "odd"},
		{"GET / HTTP/1.1\r\n" + host + "\n", "odd"},
		{"GET / HTTP/1.0\r\n" + host + "\r\n", "odd"},
		{"PRI * HTTP/2.0\r\n\r\n", "odd"},
		{"CONNECT a:1 HTTP/1.1\r\n" + host + "\r\n", "odd"},
		{"get / HTTP/1.1\r\n" + host + "\r\n", "odd"},
		{" / HTTP/1.1\r\n" + host + "\r\n", "odd"},
		{"GET  / HTTP/1.1\r\n" + host + "\r\n", "odd"},
		{"GET http://a/ HTTP/1.1\r\n" + host + "\r\n", "odd"},
		{"GET //a HTTP/1.1\r\n" + host + "\r\n", "odd"},
		{"GET /%2 HTTP/1.1\r\n" + host + "\r\n", "odd"},
		{"GET /?a;b HTTP/1.1\r\n" + host + "\r\n", "odd"},
		{"GET /a|b HTTP/1.1\r\n" + host + "\r\n", "odd"},
		{"GET / HTTP/1.1\r\n\r\n", "odd"},
		{"GET / HTTP/1.1\r\nHost: \r\n\r\n", "odd"},
		{"GET / HTTP/1.1\r\n" + host + host + "\r\n", "odd"},
		{"GET / HTTP/1.1\r\nHost: a/b\r\n\r\n", "odd"},
		{"GET / HTTP/1.1\r\n" + host + "X-Own : 1\r\n\r\n", "odd"},
		{"GET / HTTP/1.1\r\n" + host + "X-Own: 1\r\n 2\r\n\r\n", "odd"},
		{"GET / HTTP/1.1\r\n" + host + "X-Own: 1\x00\r\n\r\n", "odd"},
		{"GET / HTTP/1.1\r\n" + host + ": 1\r\n\r\n", "odd"},
		{"GET / HTTP/1.1\r\n" + host + "Connection: X-Own\r\n\r\n", "odd"},
		{"GET / HTTP/1.1\r\n" + host + "Upgrade: websocket\r\n\r\n", "odd"},
		{"POST / HTTP/1.1\r\n" + host + "Transfer-Encoding: chunked\r\n\r\n", "odd"},
		{"POST / HTTP/1.1\r\n" + host + "Expect: 100-continue\r\nContent-Length: 5\r\n\r\n", "odd"},
		{"POST / HTTP/1.1\r\n" + host + "Content-Length: +5\r\n\r\n", "odd"},
		{"POST / HTTP/1.1\r\n" + host + "Content-Length:\r\n\r\n", "odd"},
		{"POST / HTTP/1.1\r\n" + host + "Content-Length: 5\r\nContent-Length: 5\r\n\r\n", "odd"},
	} {
		var q request
		got := ""
		switch n := q.read([]byte(test.text)); {
		case n == odd:
			got = "odd"
		case n == unfinished:
			got = "unfinished"
		default:
			got = fmt.Sprint(string(q.method), " ", string(q.target), " ", string(q.host), " ", q.length)
			if q.last {
				got += " last"
			}
			for _, f := range q.fields {
				if name := string(f.name); !strings.EqualFold(name, "Host") && name != "Content-Length" {
					got += " " + name + "=" + string(f.value)
				}
			}
		}
		if got != test.want {
			t.Errorf("%q is %s, want %s", test.text, got, test.want)
		}
	}
}

// FuzzRequest has what is read as plain be read alike by net/http.
func FuzzRequest(f *testing.F) {
	for _, text := range []string{
		"GET / HTTP/1.1\r\nHost: a\r\n\r\n", "POST /a/b?c=d HTTP/1.1\r\nHost: a.example:80\r\nContent-Length: 2\r\nConnection: close\r\nCookie: a=b\r\n\r\nhi", "PUT /%41 HTTP/1.1\r\nhost: [::1]:80\r\nx: \ty \r\n\r\n",
		"GET / HTTP/1.1\r\nHost: a\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n\r\n", "GET / HTTP/1.1\nHost: a\n\n",
	} {
		f.Add([]byte(text))
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		var q request
		n := q.read(text)
		if n <= 0 {
			return
		}
		in := bufio.NewReader(bytes.NewReader(text))
		req, err := http.ReadRequest(in)
		if err != nil {
			t.Fatalf("%q is plain, and net/http says %v", text, err)
		}
		body, _ := io.ReadAll(req.Body)
		left, _ := io.ReadAll(in)
		if req.Method != string(q.method) || req.RequestURI != string(q.target) || req.Host != string(q.host) || int(req.ContentLength) != q.length || req.Close != q.last {
			t.Fatalf("%q is %s %s %s %d %t here and %s %s %s %d %t by net/http", text, q.method, q.target, q.host, q.length, q.last, req.Method, req.RequestURI, req.Host, req.ContentLength, req.Close)
		}
		if end := min(n+q.length, len(text)); string(body) != string(text[n:end]) || string(left) != string(text[end:]) {
			t.Fatalf("%q has the body %q here and %q by net/http, which leaves %q", text, text[n:end], body, left)
		}
		for _, one := range q.fields {
			if name := http.CanonicalHeaderKey(string(one.name)); name != "Host" && !slices.Contains(req.Header[name], string(one.value)) {
				t.Fatalf("%q has %s: %q here, and %q by net/http", text, name, one.value, req.Header[name])
			}
		}
	})
}

// readAnswerOf reads an answer to GET as the router does: its head, its body as the visitor has it, and what is left.
func readAnswerOf(text []byte) (a answer, passed, left []byte, err error) {
	n, err := a.read(text)
	if n == 0 && err == nil {
		err = io.ErrUnexpectedEOF
	}
	if err != nil {
		return a, nil, nil, err
	}
	b := bodyOf(&a, false)
	passed, used, done, err := b.take(nil, text[n:], false)
	if err == nil && !done {
		passed, _, _, err = b.take(passed, nil, true)
	}
	return a, passed, text[n+used:], err
}

// TestAnswer reads answers, and what their bodies are to a visitor.
func TestAnswer(t *testing.T) {
	for _, test := range []struct{ text, want string }{
		{"HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nokHTTP", `200 "ok" "HTTP"`},
		{"HTTP/1.1 200\r\nContent-Length: 0\r\nConnection: close\r\n\r\n", `200 "" "" last`},
		{"HTTP/1.1 200 OK\nContent-Length: 2\n\nok", `200 "ok" ""`},
		{"HTTP/1.0 200 OK\r\nContent-Length: 2\r\n\r\nok", `200 "ok" "" last`},
		{"HTTP/1.0 200 OK\r\nContent-Length: 2\r\nConnection: keep-alive\r\n\r\nok", `200 "ok" ""`},
		{"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\nContent-Length: 9\r\n\r\n2;a=b\r\nok\r\n0\r\nX: y\r\n\r\nleft", `200 "2;a=b\r\nok\r\n0\r\nX: y\r\n\r\n" "left"`},
		{"HTTP/1.1 200 OK\r\nX: y\r\n\r\nto the end", `200 "a\r\nto the end\r\n0\r\n\r\n" ""`},
		{"HTTP/1.1 204 No Content\r\n\r\nHTTP", `204 "" "HTTP"`},
		{"HTTP/1.1 304 Not Modified\r\nContent-Length: 7\r\n\r\n", `304 "" ""`},
		{"HTTP/1.1 200 OK\r\nX-Own: a\r\n  b\r\n\tc\r\nContent-Length: 0\r\n\r\n", `200 "" "" X-Own="a    b  \tc"`},
		{"HTTP/1.1 200 OK\r\nContent-Length: 0\r\nKeep-Alive: 5\r\nUpgrade: h2c\r\nConnection: X-Hop, close\r\nX-Hop: 1\r\nX-Own: 1\r\n\r\n", `200 "" "" last X-Own="1"`},
		{"HTTP/1.1 200 OK\r\nContent-Length: 2\r\nContent-Length: 2\r\n\r\nok", `200 "ok" ""`},
		{"HTTP/1.1 200 OK\r\nContent-Length: 2\r\nContent-Length: 3\r\n\r\nok", errAnswer.Error()},
		{"HTTP/1.1 200 OK\r\nContent-Length: -1\r\n\r\n", errAnswer.Error()},
		{"HTTP/1.1 200 OK\r\nTransfer-Encoding: gzip\r\n\r\n", errAnswer.Error()},
		{"HTTP/1.0 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n", errAnswer.Error()},
		{"HTTP/1.1 200 OK\r\nX Own: 1\r\n\r\n", errAnswer.Error()},
		{"HTTP/1.1 200 O\x00K\r\n\r\n", errAnswer.Error()},
		{"HTTP/1.1 20 OK\r\n\r\n", errAnswer.Error()},
		{"HTTP/1.1 099 OK\r\n\r\n", errAnswer.Error()},
		{"HTTP/2.0 200 OK\r\n\r\n", errAnswer.Error()},
		{"220 mail.example\r\n\r\n", errAnswer.Error()},
		{"HTTP/1.1 200 OK\r\nContent-Length: 9\r\n\r\nok", errShort.Error()},
		{"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n2\r\nok\r\n", errShort.Error()},
		{"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n2\r\nokk\r\n", errChunks.Error()},
		{"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n\r\nok\r\n", errChunks.Error()},
		{"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n2\rok", errChunks.Error()},
		{"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n;a\r\nok", errChunks.Error()},
		{"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\nfffffffffffffffff\r\n", errChunks.Error()},
		{"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n" + strings.Repeat("x", longLine+1), errChunks.Error()},
	} {
		a, passed, left, err := readAnswerOf([]byte(test.text))
		got := fmt.Sprintf("%d %q %q", a.status, passed, left)
		if a.last {
			got += " last"
		}
		for _, f := range a.fields {
			if strings.HasPrefix(string(f.name), "X-") {
				got += fmt.Sprintf(" %s=%q", f.name, f.value)
			}
		}
		if err != nil {
			got = err.Error()
		}
		if got != test.want {
			t.Errorf("%q is %s, want %s", test.text, got, test.want)
		}
	}
}

// TestPieces reads requests and answers that come byte by byte as those that come at once.
func TestPieces(t *testing.T) {
	head, rest := []byte("HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\nX-Own: a\r\n b\r\n\r\n"), []byte("5;x\r\nhello\r\n1\r\n!\r\n0\r\nX: y\r\n\r\n")
	var a answer
	for n := range head {
		if got, err := a.read(bytes.Clone(head[:n])); got != 0 || err != nil {
			t.Fatalf("%q is %d (%v)", head[:n], got, err)
		}
	}
	growing := make([]byte, 0, len(head))
	for _, c := range head { // in the same place, as it comes
		growing = append(growing, c)
		if _, err := a.read(growing); err != nil {
			t.Fatal(err)
		}
	}
	if len(a.fields) != 1 || string(a.fields[0].value) != "a   b" || !a.chunked {
		t.Errorf("the head is %+v", a)
	}
	var c chunks
	for i := range rest {
		if n, err := c.follow(rest[i : i+1]); n != 1 || err != nil {
			t.Fatalf("at %q: %d (%v)", rest[:i+1], n, err)
		}
	}
	if n, err := c.follow([]byte("more")); n != 0 || err != nil || c.state != finished {
		t.Errorf("beyond the end it takes %d (%v)", n, err)
	}
	request, q := []byte("POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 1\r\n\r\n"), request{}
	for n := range request {
		if got := q.read(request[:n]); got != unfinished {
			t.Fatalf("%q is %d", request[:n], got)
		}
	}
}

// FuzzAnswer has what is read as an answer be passed on so that net/http reads the same.
func FuzzAnswer(f *testing.F) {
	for _, text := range []string{
		"HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok", "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n2\r\nok\r\n0\r\nA: b\r\n\r\n", "HTTP/1.0 404 Not Found\r\nA: b\r\n c\r\n\r\ntext", "HTTP/1.1 304 x\r\nConnection: a, close\r\nA: b\r\n\r\n",
	} {
		f.Add([]byte(text))
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		a, passed, _, err := readAnswerOf(bytes.Clone(text))
		if err != nil || a.status < 200 {
			return
		}
		var out []byte
		out = a.append(out)
		b := bodyOf(&a, false)
		if b.kind == inChunks || b.kind == toEnd {
			out = append(out, "Transfer-Encoding: chunked\r\n"...)
		}
		out = append(append(out, "\r\n"...), passed...)
		in := bufio.NewReader(bytes.NewReader(append(out, "left"...)))
		response, err := http.ReadResponse(in, nil)
		if err != nil {
			t.Fatalf("%q is passed on as %q, and net/http says %v", text, out, err)
		}
		body, err := io.ReadAll(response.Body)
		if err != nil {
			t.Fatalf("%q is passed on as %q, whose body net/http cannot read: %v", text, out, err)
		}
		if left, _ := io.ReadAll(in); string(left) != "left" {
			t.Fatalf("%q is passed on as %q, of which net/http leaves %q", text, out, left)
		}
		want := passed
		if b.kind == inChunks || b.kind == toEnd {
			want, err = io.ReadAll(httputil.NewChunkedReader(bytes.NewReader(passed)))
		}
		if err != nil || string(body) != string(want) || response.StatusCode != a.status {
			t.Fatalf("%q is passed on as %q: %d %q, want %q (%v)", text, out, response.StatusCode, body, want, err)
		}
	})
}

// TestFollowed has messages of a connection followed from head to head, in pieces of each size: what stands in a body is no head.
func TestFollowed(t *testing.T) {
	const inBody = "POST / HTTP/1.1\r\nContent-Length: 5\r\nTransfer-Encoding: chunked\r\n\r\n"
	sized := fmt.Sprintf("POST / HTTP/1.1\r\nHost: a\r\nContent-Length: %d\r\n\r\n%s", len(inBody), inBody)
	chunked := fmt.Sprintf("POST / HTTP/1.1\r\nHost: a\r\nTransfer-Encoding: chunked\r\n\r\n%x\r\n%s\r\n0\r\n\r\n", len(inBody), inBody)
	const plain, loose = "GET / HTTP/1.1\r\nHost: a\r\n\r\n", "GET / HTTP/1.1\nHost: a\n\n"
	for text, bad := range map[string]bool{
		plain + sized + chunked + loose + sized: false, sized + inBody: true, chunked + inBody: true, loose + inBody: true, plain + strings.ReplaceAll(inBody, "\r", ""): true,
		"POST / HTTP/1.1\r\nTransfer-Encoding: chunked\r\n\r\nzz\r\n": true, "PRI * HTTP/2.0\r\n\r\n" + inBody: false,
	} {
		for _, piece := range []int{1, 2, 7, 64, len(text)} {
			c := &headed{sent: []byte(text)}
			for part := make([]byte, piece); len(c.sent) > 0; {
				c.Read(part)
			}
			if c.bad.Load() != bad {
				t.Errorf("%q in pieces of %d: bad is %t", text, piece, c.bad.Load())
			}
		}
	}
}
