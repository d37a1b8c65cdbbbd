package router

import (
	"bytes"
	"context"
	"io"
	"net"
	"net/http"
	"runtime"
	"strconv"
	"sync/atomic"
	"testing"
	"time"

	"golang.org/x/net/http2"
	"golang.org/x/net/http2/hpack"
)

// TestFloods has visitors of HTTP/2 send what costs them little: requests that they take back at once, ones that they leave open, headers without an
// end, settings and pings without an end. Each is cut off or held to what one connection may have, and others are answered meanwhile.
func TestFloods(t *testing.T) {
	var now, most atomic.Int64
	hold := make(chan struct{})
	in := instance(t, "one", func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != "/held" {
			return
		}
		n := now.Add(1)
		defer now.Add(-1)
		for seen := most.Load(); n > seen && !most.CompareAndSwap(seen, n); seen = most.Load() {
		}
		select {
		case <-r.Context().Done():
		case <-hold:
		}
	})
	defer close(hold)
	r, at := open(t)
	r.Set(at, []Route{{Name: "a", Cohorts: []Cohort{{Name: "o", Share: 1, Instances: []Instance{in}}}}})
	var block bytes.Buffer
	encoder := hpack.NewEncoder(&block)
	for _, field := range [][2]string{{":method", "GET"}, {":scheme", "http"}, {":authority", "x"}, {":path", "/held"}} {
		encoder.WriteField(hpack.HeaderField{Name: field[0], Value: field[1]})
	}
	header := func(f *http2.Framer, stream uint32, ends bool) error {
		return f.WriteHeaders(http2.HeadersFrameParam{StreamID: stream, BlockFragment: block.Bytes(), EndStream: true, EndHeaders: ends})
	}
	before := memory()
	for name, flood := range map[string]func(f *http2.Framer, n uint32) error{
		"requests that are taken back": func(f *http2.Framer, n uint32) error {
			if err := header(f, 2*n+1, true); err != nil {
				return err
			}
			return f.WriteRSTStream(2*n+1, http2.ErrCodeCancel)
		},
		"requests that stay open": func(f *http2.Framer, n uint32) error { return header(f, 2*n+1, true) },
		"headers without an end": func(f *http2.Framer, n uint32) error {
			if n == 0 {
				return header(f, 1, false)
			}
			return f.WriteContinuation(1, false, bytes.Repeat([]byte{0x82}, 1024))
		},
		"settings": func(f *http2.Framer, n uint32) error { return f.WriteSettings() },
		"pings":    func(f *http2.Framer, n uint32) error { return f.WritePing(false, [8]byte{byte(n)}) },
	} {
		conn, err := net.Dial("tcp", at)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := io.WriteString(conn, http2.ClientPreface); err != nil {
			t.Fatal(err)
		}
		f := http2.NewFramer(conn, conn)
		if err := f.WriteSettings(); err != nil {
			t.Fatal(err)
		}
		ended := make(chan struct{})
		go func() {
			defer close(ended)
			conn.SetWriteDeadline(time.Now().Add(20 * time.Second)) // nothing is read of what comes back
			for n := range uint32(50_000) {
				if flood(f, n) != nil {
					return
				}
			}
		}()
		for range 20 {
			client := http.Client{Timeout: 10 * time.Second}
			response, err := client.Get("http://" + at + "/")
			if err != nil || response.StatusCode != http.StatusOK {
				t.Fatalf("%s: another visitor has %v (%v)", name, response, err)
			}
			response.Body.Close()
		}
		conn.Close()
		<-ended
		for end := time.Now().Add(10 * time.Second); now.Load() > 0; time.Sleep(time.Millisecond) {
			if time.Now().After(end) {
				t.Fatalf("%s: %d requests are still under way", name, now.Load())
			}
		}
	}
	if most.Load() == 0 || most.Load() > 1000 {
		t.Errorf("%d requests of one connection were under way at once", most.Load())
	}
	if grown := memory() - before; grown > 64<<20 {
		t.Errorf("the floods cost %d MB that stay", grown>>20)
	}
}

// memory is what is in use, once what is not is collected.
func memory() int64 {
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return int64(m.HeapAlloc)
}

// TestRoom has more visitors than there is room for: those that come too late are answered once others have gone, over HTTP and TCP.
func TestRoom(t *testing.T) {
	in := instance(t, "one", func(w http.ResponseWriter, _ *http.Request) { io.WriteString(w, "moored") })
	at, tcp := deadAddress(t), deadAddress(t)
	_, text, _ := net.SplitHostPort(tcp)
	port, _ := strconv.Atoi(text)
	for _, address := range []string{at, tcp} {
		r := New(Options{Room: make(Room, 2)})
		r.linger, r.hold = 0, 0
		cohorts := []Cohort{{Name: "o", Share: 1, Instances: []Instance{in}}}
		r.Set(at, []Route{{Name: "a", Cohorts: cohorts}, {Name: "b", TCP: port, Cohorts: cohorts}})
		var idle []net.Conn
		for range 2 {
			conn, err := net.Dial("tcp", address)
			if err != nil {
				t.Fatal(err)
			}
			defer conn.Close()
			io.WriteString(conn, "GET / HTTP/1.1\r\nHost: x\r\n\r\n")
			if n, err := conn.Read(make([]byte, 1)); n != 1 {
				t.Fatal(err)
			}
			idle = append(idle, conn)
		}
		late, err := net.Dial("tcp", address)
		if err != nil {
			t.Fatal(err)
		}
		defer late.Close()
		io.WriteString(late, "GET / HTTP/1.1\r\nHost: x\r\n\r\n")
		late.SetReadDeadline(time.Now().Add(200 * time.Millisecond))
		if n, err := late.Read(make([]byte, 1)); n > 0 {
			t.Errorf("at %s it is answered beside the others (%v)", address, err)
		}
		idle[0].Close()
		late.SetReadDeadline(time.Now().Add(20 * time.Second))
		if n, err := late.Read(make([]byte, 1)); n != 1 {
			t.Errorf("at %s it is not answered once one has gone: %v", address, err)
		}
		atOnce, cancel := context.WithCancel(t.Context())
		cancel() // what is under way is not waited for
		r.Close(atOnce)
	}
}
