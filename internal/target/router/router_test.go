package router

import (
	"bufio"
	"context"
	"crypto/tls"
	"fmt"
	"io"
	"math"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"
)

// TestSplit sees that shares are exact in every window, and that no rhythm of a client falls in with them.
func TestSplit(t *testing.T) {
	for _, share := range []float64{0, 0.005, 0.01, 0.05, 0.1, 0.25, 1.0 / 3, 0.5, 0.6180339887, 0.75, 0.99, 1} {
		ends := bounds([]float64{1 - share, share})
		for _, rhythm := range []int{1, 2, 3, 4, 5, 7, 8, 10, 13, 20} {
			var s sequence
			const window = 1000
			counts := 0
			for i := range window * rhythm {
				if cohort := choose(ends, s.next()); i%rhythm == 0 {
					counts += cohort
				}
			}
			if off := math.Abs(float64(counts) - share*window); off > 0.02*window || rhythm == 1 && off > 5 {
				t.Errorf("share %v, every %dth of %d requests: %d on new, off by %.1f", share, rhythm, window*rhythm, counts, off)
			}
		}
	}
}

// TestVisitors sees that a visitor who is on new stays there while its share rises.
func TestVisitors(t *testing.T) {
	const visitors = 20_000
	before := map[int]bool{}
	for _, share := range []float64{0, 0.05, 0.25, 0.5, 1} {
		ends, on := bounds([]float64{share, 1 - share}), 0 // new first, as the driver orders them
		for i := range visitors {
			isNew := choose(ends, placeOf(fmt.Sprintf("traveller-%d", i))) == 0
			if before[i] && !isNew {
				t.Fatalf("traveller %d fell back to old at %v", i, share)
			}
			if before[i] = isNew; isNew {
				on++
			}
		}
		if got := float64(on) / visitors; math.Abs(got-share) > 0.015 {
			t.Errorf("%.3f of all visitors are on new, want %v", got, share)
		}
	}
}

// instance is a small service that tells its name.
func instance(t *testing.T, name string, handler http.HandlerFunc) Instance {
	t.Helper()
	if handler == nil {
		handler = func(w http.ResponseWriter, r *http.Request) {
			io.Copy(io.Discard, r.Body)
			fmt.Fprintf(w, "%s %s %s", name, r.URL.Path, r.Host)
		}
	}
	server := httptest.NewServer(handler)
	t.Cleanup(server.Close)
	return Instance{ID: name, Address: strings.TrimPrefix(server.URL, "http://"), Ready: true}
}

// deadAddress is where nobody listens.
func deadAddress(t *testing.T) string {
	t.Helper()
	for {
		listener, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		at := listener.Addr().String()
		listener.Close()
		if _, given := deadGiven.LoadOrStore(at, true); !given {
			return at
		}
	}
}

// deadGiven are the dead addresses that were given, so that none is given twice.
var deadGiven sync.Map

func open(t *testing.T) (*Router, string) {
	t.Helper()
	r := New(Options{})
	r.linger, r.hold = 0, 0
	t.Cleanup(func() { r.Close(context.Background()) })
	return r, deadAddress(t)
}

func get(t *testing.T, client *http.Client, at, host string) (int, string) {
	t.Helper()
	req, _ := http.NewRequest(http.MethodGet, "http://"+at+"/x", nil)
	req.Host = host
	response, err := client.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	text, _ := io.ReadAll(response.Body)
	return response.StatusCode, string(text)
}

func TestHosts(t *testing.T) {
	old, fresh, other := instance(t, "old", nil), instance(t, "new", nil), instance(t, "other", nil)
	r, at := open(t) // after them, so that none of them is given its port
	r.Set(at, []Route{
		{Name: "a", Host: "Boarding.Example", Preview: "trial.example", By: &Header{"X-Crew", "trial"}, Path: "/v1/", Cohorts: []Cohort{{Name: "n", Preview: true, Instances: []Instance{fresh}}, {Name: "o", Share: 1, Instances: []Instance{old}}}},
		{Name: "b", Cohorts: []Cohort{{Name: "o", Share: 1, Instances: []Instance{other, {ID: "unready", Address: deadAddress(t)}}}}},
		{Name: "c", Host: "empty.example"},
	})
	for host, want := range map[string]string{
		"boarding.example":     "200 old /v1/x boarding.example",
		"boarding.example:810": "200 old /v1/x boarding.example:810",
		"trial.example":        "200 new /v1/x trial.example",
		"anything.example":     "200 other /x anything.example",
		"empty.example":        "503 no instance can take this now\n",
	} {
		if status, text := get(t, http.DefaultClient, at, host); fmt.Sprint(status, " ", text) != want {
			t.Errorf("%s: %d %q, want %q", host, status, text, want)
		}
	}
	for value, want := range map[string]string{"trial": "new", "other": "old"} {
		req, _ := http.NewRequest(http.MethodGet, "http://"+at+"/x", nil)
		req.Host = "boarding.example"
		req.Header.Add("X-Crew", value)
		response, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		if text, _ := io.ReadAll(response.Body); !strings.HasPrefix(string(text), want+" ") {
			t.Errorf("with %s in its header: %s", value, text)
		}
		response.Body.Close()
	}
	if a, b := requests(r, "old"), requests(r, "new"); a != 3 || b != 0 || r.Unserved() != 1 {
		t.Errorf("counted %d and %d, %d unserved: a preview is not counted, and what nobody could take is", a, b, r.Unserved())
	}
	r.Set(at, nil)
	if _, err := net.Dial("tcp", at); err == nil {
		t.Error("a router without routes listens")
	}
}

// requests are those that an instance answered well.
func requests(r *Router, id string) uint64 {
	c := r.Counts()[id]
	return c.Requests[200]
}

// TestShares sends ten thousand requests through one of each share, and through changes of it.
func TestShares(t *testing.T) {
	r, at := open(t)
	old, fresh := []Instance{instance(t, "old-1", nil), instance(t, "old-2", nil)}, instance(t, "new-1", nil)
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 16}}
	var before uint64
	for _, share := range []float64{0, 0.05, 0.25, 0.5, 1, 0} {
		r.Set(at, []Route{{Name: "a", Cohorts: []Cohort{{Name: "n", Share: share, Instances: []Instance{fresh}}, {Name: "o", Share: 1 - share, Instances: old}}}})
		const all, callers = 10_000, 8
		var group sync.WaitGroup
		for range callers {
			group.Go(func() {
				for range all / callers {
					response, err := client.Get("http://" + at)
					if err != nil || response.StatusCode != 200 {
						t.Errorf("%v %v", response, err)
						return
					}
					io.Copy(io.Discard, response.Body)
					response.Body.Close()
				}
			})
		}
		group.Wait()
		now := requests(r, "new-1")
		if got := float64(now-before) / all; math.Abs(got-share) > 0.005 {
			t.Errorf("share %v: %v of the requests went to new", share, got)
		}
		before = now
	}
	a, b := requests(r, "old-1"), requests(r, "old-2")
	if math.Abs(float64(a)-float64(b)) > 0.1*float64(a+b) {
		t.Errorf("the instances of a cohort have %d and %d requests", a, b)
	}
}

// TestNothingLost exchanges instances and shares under load, as rollouts do, and loses nothing.
func TestNothingLost(t *testing.T) {
	r, at := open(t)
	slow := func(name string) (Instance, *httptest.Server) {
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			text, _ := io.ReadAll(r.Body)
			time.Sleep(time.Duration(len(text)%3) * time.Millisecond)
			w.Write(text)
		}))
		return Instance{ID: name, Address: strings.TrimPrefix(server.URL, "http://"), Ready: true}, server
	}
	set := func(share float64, old, fresh Instance) {
		r.Set(at, []Route{{Name: "a", Cohorts: []Cohort{{Name: "n", Share: share, Instances: []Instance{fresh}}, {Name: "o", Share: 1 - share, Instances: []Instance{old}}}}})
	}
	old, server := slow("i-0")
	set(0, old, Instance{ID: "none"})
	var sent, lost atomic.Int64
	done := make(chan struct{})
	var group sync.WaitGroup
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 8}}
	for caller := range 6 {
		group.Go(func() {
			for n := 0; ; n++ {
				select {
				case <-done:
					return
				default:
				}
				text := strings.Repeat("x", caller+n%7)
				response, err := client.Post("http://"+at, "text/plain", strings.NewReader(text))
				sent.Add(1)
				if err != nil {
					lost.Add(1)
					t.Log(err)
					continue
				}
				got, err := io.ReadAll(response.Body)
				response.Body.Close()
				if err != nil || response.StatusCode != 200 || string(got) != text {
					lost.Add(1)
					t.Logf("%d %q %v", response.StatusCode, got, err)
				}
			}
		})
	}
	for i := 1; i <= 12; i++ {
		fresh, next := slow(fmt.Sprintf("i-%d", i))
		for _, share := range []float64{0.05, 0.25, 1} {
			set(share, old, fresh)
			for target := sent.Load() + 100; sent.Load() < target; {
				time.Sleep(time.Millisecond)
			}
		}
		set(1, Instance{ID: old.ID, Address: old.Address}, fresh)
		if err := r.Drain(t.Context(), old.ID); err != nil {
			t.Fatal(err)
		}
		server.CloseClientConnections()
		server.Close()
		r.Forget(old.ID)
		old, server = fresh, next
	}
	close(done)
	group.Wait()
	server.Close()
	if lost.Load() > 0 || sent.Load() < 3000 {
		t.Errorf("%d of %d requests were lost", lost.Load(), sent.Load())
	}
}

// TestAgain sees that what never reached an instance goes to another one, and that nothing is carried out twice.
func TestAgain(t *testing.T) {
	r, at := open(t)
	var had atomic.Int64
	rude := instance(t, "rude", func(w http.ResponseWriter, r *http.Request) {
		had.Add(1)
		io.ReadAll(r.Body)
		panic(http.ErrAbortHandler)
	})
	gone := Instance{ID: "gone", Address: deadAddress(t), Ready: true}
	for _, test := range []struct {
		name, method, body string
		first              Instance
		want               int
	}{
		{"a dead instance never had it", http.MethodPost, "sold", gone, 200},
		{"a dead instance never had it, nor a body", http.MethodPost, "", gone, 200},
		{"it may be asked twice", http.MethodGet, "", rude, 200},
		{"it may have been carried out", http.MethodPost, "sold", rude, 502},
		{"the same without a body", http.MethodPost, "", rude, 502},
		{"it may be asked twice, but its body is gone", http.MethodPut, "sold", rude, 502},
	} {
		good := instance(t, "good-"+test.name, nil)
		r.Set(at, []Route{{Name: "a", Cohorts: []Cohort{{Name: "n", Share: 1, Instances: []Instance{test.first}}, {Name: "o", Share: 1e-13, Instances: []Instance{good}}}}})
		req, _ := http.NewRequest(test.method, "http://"+at, strings.NewReader(test.body))
		if test.body != "" {
			req.ContentLength = -1 // a try with less of the body than the first could go unnoticed
		}
		response, err := http.DefaultClient.Do(req)
		if err != nil || response.StatusCode != test.want {
			t.Errorf("%s: %v %v, want %d", test.name, response, err, test.want)
		}
		response.Body.Close()
		for id, c := range r.Counts() {
			if c.Pending != 0 {
				t.Errorf("%s: %d are under way at %s", test.name, c.Pending, id)
			}
		}
	}
	if had.Load() != 4 {
		t.Errorf("the rude instance had %d requests, want 4", had.Load())
	}
}

// TestCountedAgainst sees what counts against an instance, and what does not: a request that it leaves hanging, an answer
// that it cuts off; not a body that its caller breaks off, and not a caller who leaves at once.
func TestCountedAgainst(t *testing.T) {
	r, at := open(t)
	release := make(chan struct{})
	in := instance(t, "in", func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/hangs":
			<-release
		case "/stalls":
			w.Header().Set("Content-Length", "100")
			io.WriteString(w, "half of it")
			http.NewResponseController(w).Flush()
			<-release
		case "/stream":
			http.NewResponseController(w).Flush()
			<-release
		case "/cuts":
			w.Header().Set("Content-Length", "100")
			io.WriteString(w, "half of it")
		case "/chunks":
			io.WriteString(w, "half of it")
			http.NewResponseController(w).Flush()
			panic(http.ErrAbortHandler)
		default:
			if _, err := io.ReadAll(r.Body); err == nil {
				io.WriteString(w, "all is well")
			}
		}
	})
	defer close(release)
	r.Set(at, []Route{{Name: "a", Cohorts: []Cohort{{Name: "n", Share: 1, Instances: []Instance{in}}}}})
	ask := func(path string, wait time.Duration) {
		t.Helper()
		ctx, cancel := context.WithTimeout(t.Context(), wait)
		defer cancel()
		req, _ := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+at+path, nil)
		req.Close = true // on a connection that was kept, the client asks again by itself
		if response, err := http.DefaultClient.Do(req); err == nil {
			io.Copy(io.Discard, response.Body)
			response.Body.Close()
		}
	}
	counted := func(want string) {
		t.Helper()
		got := ""
		for end := time.Now().Add(10 * time.Second); time.Now().Before(end); time.Sleep(time.Millisecond) {
			if c := r.Counts()["in"]; c.Pending == 0 {
				if got = fmt.Sprint(c.Requests); got == want {
					return
				}
			}
		}
		t.Errorf("counted %s, not %s", got, want)
	}
	ask("/well", 10*time.Second)
	counted("map[200:1]")
	ask("/cuts", 10*time.Second)
	counted("map[200:1 502:1]")
	ask("/chunks", 10*time.Second)
	counted("map[200:1 502:2]")
	ask("/hangs", patience+200*time.Millisecond)
	counted("map[200:1 502:2 504:1]")
	ask("/hangs", patience/10)
	counted("map[200:1 502:2 504:1]")
	req, _ := http.NewRequest(http.MethodPost, "http://"+at+"/hangs", strings.NewReader("an order"))
	impatient := http.Client{Timeout: patience + 200*time.Millisecond}
	if _, err := impatient.Do(req); err == nil {
		t.Error("what hangs answered")
	}
	counted("map[200:1 502:2 504:2]")
	ask("/stalls", patience+200*time.Millisecond)
	counted("map[200:1 502:2 504:3]")
	ask("/stalls", patience/10)
	counted("map[200:2 502:2 504:3]")
	ask("/stream", patience+200*time.Millisecond)
	counted("map[200:3 502:2 504:3]")
	for _, body := range []string{"POST /x HTTP/1.1\r\nHost: a\r\nTransfer-Encoding: chunked\r\n\r\n5\r\nhello\r\nZZ\r\n", "POST /x HTTP/1.1\r\nHost: a\r\nContent-Length: 9\r\n\r\nhel"} {
		conn, err := net.Dial("tcp", at)
		if err != nil {
			t.Fatal(err)
		}
		io.WriteString(conn, body)
		conn.(*net.TCPConn).CloseWrite()
		answer, _ := io.ReadAll(conn)
		conn.Close()
		if !strings.HasPrefix(string(answer), "HTTP/1.1 400") {
			t.Errorf("%q is answered %q", body, answer)
		}
	}
	counted("map[200:3 502:2 504:3]")
	ask("/well", 10*time.Second) // nobody is suspected
	counted("map[200:4 502:2 504:3]")
}

// TestStuck sees that what has no answer for long counts while its caller still waits, and once only.
func TestStuck(t *testing.T) {
	r, at := open(t)
	r.stuckAfter = 10 * time.Millisecond
	release, done := make(chan struct{}), make(chan struct{})
	in := instance(t, "in", func(http.ResponseWriter, *http.Request) { <-release })
	r.Set(at, []Route{{Name: "a", Cohorts: []Cohort{{Name: "n", Share: 1, Instances: []Instance{in}}}}})
	go func() {
		defer close(done)
		get(t, http.DefaultClient, at, "any.example")
	}()
	end := time.Now().Add(10 * time.Second)
	for c := r.Counts()["in"]; c.Requests[504] == 0; c = r.Counts()["in"] {
		if time.Now().After(end) {
			close(release)
			t.Fatal("it is never counted while its caller waits")
		}
		time.Sleep(time.Millisecond)
	}
	close(release)
	<-done
	if err := r.Drain(t.Context(), "in"); err != nil {
		t.Error(err)
	}
	if c := r.Counts()["in"]; fmt.Sprint(c.Requests) != "map[504:1]" {
		t.Errorf("counted %v", c.Requests)
	}
}

// TestLeastBusy sees that a request goes where the least is under way, and never to a cohort that has no share of the
// traffic, not even where nobody else could take it.
func TestLeastBusy(t *testing.T) {
	r, at := open(t)
	held, release := make(chan struct{}), make(chan struct{})
	var first atomic.Bool
	var busy atomic.Pointer[string]
	serve := func(name string) Instance {
		return instance(t, name, func(w http.ResponseWriter, r *http.Request) {
			if first.CompareAndSwap(false, true) {
				busy.Store(&name)
				close(held)
				<-release
			}
			io.WriteString(w, name)
		})
	}
	two := []Instance{serve("one"), serve("other")}
	r.Set(at, []Route{{Name: "a", Cohorts: []Cohort{{Name: "n", Share: 1, Instances: two}}}})
	done := make(chan struct{})
	go func() {
		defer close(done)
		if response, err := http.Get("http://" + at); err == nil {
			response.Body.Close()
		}
	}()
	<-held
	for range 20 {
		if _, name := get(t, http.DefaultClient, at, "any.example"); name == *busy.Load() {
			t.Errorf("%s has something under way and was given more, while the other had nothing", name)
		}
	}
	close(release)
	<-done
	waiting := two[0]
	waiting.Ready = false
	r.Set(at, []Route{{Name: "a", Cohorts: []Cohort{{Name: "n", Share: 1, Instances: []Instance{waiting}}, {Name: "o", Share: 0, Instances: two[1:]}}}})
	if status, text := get(t, http.DefaultClient, at, "any.example"); status != http.StatusServiceUnavailable {
		t.Errorf("a cohort without a share answered: %d %s", status, text)
	}
}

func TestSticky(t *testing.T) {
	r, at := open(t)
	old, fresh := instance(t, "old", nil), instance(t, "new", nil)
	r.Set(at, []Route{{Name: "a", Cookie: "seat", Cohorts: []Cohort{{Name: "n", Share: 0.5, Instances: []Instance{fresh}}, {Name: "o", Share: 0.5, Instances: []Instance{old}}}}})
	seen := map[string]int{}
	for range 20 {
		jar, _ := cookiejar.New(nil)
		client := &http.Client{Jar: jar}
		_, first := get(t, client, at, "")
		for range 5 {
			if _, next := get(t, client, at, ""); next != first {
				t.Errorf("a visitor of %q was sent to %q", first, next)
			}
		}
		seen[first[:3]]++
	}
	if seen["old"] < 8 || seen["new"] < 8 {
		t.Errorf("twenty visitors went %v", seen)
	}
}

// TestSwitched sees that a connection that became another protocol goes both ways, and is waited for.
func TestSwitched(t *testing.T) {
	r, at := open(t)
	echo := instance(t, "echo", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Connection", "Upgrade")
		w.Header().Set("Upgrade", "websocket")
		w.WriteHeader(http.StatusSwitchingProtocols)
		conn, both, err := w.(http.Hijacker).Hijack()
		if err != nil {
			return
		}
		defer conn.Close()
		line, _ := both.ReadString('\n')
		fmt.Fprintf(both, "heard %s", line)
		both.Flush()
		io.Copy(io.Discard, both)
	})
	r.Set(at, []Route{{Name: "a", Cohorts: []Cohort{{Name: "o", Share: 1, Instances: []Instance{echo}}}}})
	conn, err := net.Dial("tcp", at)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	fmt.Fprintf(conn, "GET / HTTP/1.1\r\nHost: a\r\nConnection: Upgrade\r\nUpgrade: websocket\r\n\r\n")
	in := bufio.NewReader(conn)
	response, err := http.ReadResponse(in, nil)
	if err != nil || response.StatusCode != 101 {
		t.Fatalf("%v %v", response, err)
	}
	r.Set(at, nil) // it goes on when its route is gone
	fmt.Fprintf(conn, "ahoy\n")
	if line, err := in.ReadString('\n'); line != "heard ahoy\n" {
		t.Errorf("%q %v", line, err)
	}
	short, cancel := context.WithCancel(t.Context())
	cancel()
	if r.Drain(short, "echo") == nil {
		t.Error("nobody waits for it")
	}
	conn.Close()
	if err := r.Drain(t.Context(), "echo"); err != nil {
		t.Error(err)
	}
}

// TestHTTP2 asks without TLS in HTTP/2, and as gRPC does, which the instance sees in HTTP/2 too.
func TestHTTP2(t *testing.T) {
	r, at := open(t)
	server := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Trailer", "Grpc-Status")
		fmt.Fprint(w, r.Proto)
		w.Header().Set("Grpc-Status", "0")
	}))
	server.Config.Protocols = new(http.Protocols)
	server.Config.Protocols.SetHTTP1(true)
	server.Config.Protocols.SetUnencryptedHTTP2(true)
	server.Start()
	t.Cleanup(server.Close)
	r.Set(at, []Route{{Name: "a", Cohorts: []Cohort{{Name: "o", Share: 1, Instances: []Instance{{ID: "i", Address: server.Listener.Addr().String(), Ready: true}}}}}})
	transport := &http.Transport{Protocols: new(http.Protocols), TLSClientConfig: &tls.Config{}}
	transport.Protocols.SetUnencryptedHTTP2(true)
	for kind, want := range map[string]string{"application/grpc": "HTTP/2.0", "text/plain": "HTTP/1.1"} {
		response, err := (&http.Client{Transport: transport}).Post("http://"+at, kind, strings.NewReader("x"))
		if err != nil {
			t.Fatal(err)
		}
		text, _ := io.ReadAll(response.Body)
		if response.Body.Close(); response.ProtoMajor != 2 || string(text) != want || response.Trailer.Get("Grpc-Status") != "0" {
			t.Errorf("%s: answered in %s with %q, trailer %v", kind, response.Proto, text, response.Trailer)
		}
	}
}

func TestTCP(t *testing.T) {
	r, at := open(t)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer listener.Close()
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go func() {
				text, _ := io.ReadAll(conn) // until the other side is done writing
				fmt.Fprintf(conn, "heard %s", text)
				conn.Close()
			}()
		}
	}()
	_, port, _ := net.SplitHostPort(at)
	number := 0
	fmt.Sscan(port, &number)
	live := Instance{ID: "live", Address: listener.Addr().String(), Ready: true}
	r.Set("127.0.0.1:1", []Route{{Name: "a", TCP: number, Cohorts: []Cohort{{Name: "o", Share: 1, Instances: []Instance{{ID: "dead", Address: deadAddress(t), Ready: true}, live}}}}})
	if all := r.Troubles(); len(all) > 0 {
		t.Fatal(all)
	}
	for range 10 {
		conn, err := net.Dial("tcp", at)
		if err != nil {
			t.Fatal(err)
		}
		fmt.Fprint(conn, "ahoy")
		conn.(*net.TCPConn).CloseWrite()
		if text, _ := io.ReadAll(conn); string(text) != "heard ahoy" {
			t.Errorf("%q", text)
		}
		conn.Close()
	}
	if c := r.Counts()["live"]; c.Connections != 10 {
		t.Errorf("counted %d connections", c.Connections)
	}
}

func TestAddressTaken(t *testing.T) {
	r, _ := open(t)
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	at, routes := taken.Addr().String(), []Route{{Name: "a"}}
	r.Set(at, routes)
	if text := r.Troubles().Of("a"); !strings.Contains(text, at) || !strings.Contains(text, "in use") {
		t.Errorf("the trouble is %q", text)
	}
	taken.Close()
	r.Set(at, routes)
	if text := r.Troubles().Of("a"); text != "" {
		t.Errorf("it is not tried again: %s", text)
	}
	if taken, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
		t.Fatal(err)
	}
	defer taken.Close()
	r.Set(at, append(routes, Route{Name: "tides/wire", TCP: taken.Addr().(*net.TCPAddr).Port}))
	if all := r.Troubles(); all.Of("tides/") == "" || all.Of("fares/") != "" {
		t.Errorf("what keeps one route from listening is told of %v", all)
	}
}

// TestWarmUp sees that an instance that is new to its cohort gets ever more of what its peers get, and all of it where it has
// none.
func TestWarmUp(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := New(Options{})
		serve := func(ready ...string) {
			c := Cohort{Name: "one", Share: 1, WarmUp: 10 * time.Second}
			for _, id := range ready {
				c.Instances = append(c.Instances, Instance{ID: id, Address: "127.0.0.1:1", Ready: true})
			}
			r.Set("", []Route{{Name: "web", Cohorts: []Cohort{c}}})
		}
		share := func() (of map[string]float64) {
			const turns = 4000
			of = map[string]float64{}
			for i := range uint64(turns) {
				b := r.take("web", false, i*0x9E3779B97F4A7C15, nil).b
				of[b.id] += 1.0 / turns
				b.release()
			}
			return of
		}
		serve("old")
		if of := share(); of["old"] < 0.999 {
			t.Errorf("alone and new it gets %v", of)
		}
		time.Sleep(time.Minute)
		serve("old", "new")
		for _, test := range []struct {
			after     time.Duration
			low, high float64
		}{{0, 0.03, 0.08}, {5 * time.Second, 0.2, 0.3}, {5 * time.Second, 0.45, 0.55}} {
			time.Sleep(test.after)
			serve("old", "new") // told again it begins no warm-up anew
			if of := share(); of["new"] < test.low || of["new"] > test.high {
				t.Errorf("%s later it gets %.3f, want %v to %v", test.after, of["new"], test.low, test.high)
			}
		}
	})
}

// TestWithin sees that no path leads out of the one that it is put behind, and that what is harmless comes as it was sent.
func TestWithin(t *testing.T) {
	heard := make(chan string, 1)
	instance := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { heard <- r.RequestURI }))
	defer instance.Close()
	r, at := open(t)
	r.Set(at, []Route{{Name: "a", Path: "/app", Cohorts: []Cohort{{Name: "o", Share: 1, Instances: []Instance{{ID: "one", Address: instance.Listener.Addr().String(), Ready: true}}}}}})
	for sent, want := range map[string]string{
		"/a/b": "/app/a/b", "/": "/app/", "/a/": "/app/a/", "/../admin": "/app/admin", "/a/../../admin": "/app/admin", "/%2e%2e/admin": "/app/admin", "/a/%2E%2e/%2e%2e/admin": "/app/admin",
		"//admin": "/app/admin", "/a%2Fb": "/app/a%2Fb", "/./a?b=../c": "/app/a?b=../c",
	} {
		conn, err := net.Dial("tcp", at)
		if err != nil {
			t.Fatal(err)
		}
		fmt.Fprintf(conn, "GET %s HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n", sent)
		if _, err := http.ReadResponse(bufio.NewReader(conn), nil); err != nil {
			t.Fatal(err)
		}
		conn.Close()
		if got := <-heard; got != want {
			t.Errorf("%s becomes %s, want %s", sent, got, want)
		}
	}
}

// TestTold sees that an instance is told of a visitor by the router alone.
func TestTold(t *testing.T) {
	heard := make(chan http.Header, 1)
	instance := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { heard <- r.Header }))
	defer instance.Close()
	r, at := open(t)
	r.Set(at, []Route{{Name: "a", Cohorts: []Cohort{{Name: "o", Share: 1, Instances: []Instance{{ID: "one", Address: instance.Listener.Addr().String(), Ready: true}}}}}})
	request, _ := http.NewRequest(http.MethodGet, "http://"+at+"/", nil)
	for _, name := range append(slices.Clone(told), "Forwarded", "X-Forwarded-For", "X-Forwarded-Host", "X-Forwarded-Proto") {
		request.Header.Set(name, "8.8.8.8")
	}
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		t.Fatal(err)
	}
	response.Body.Close()
	for name, values := range <-heard {
		if slices.Contains(values, "8.8.8.8") {
			t.Errorf("the visitor says %s: %v", name, values)
		}
	}
}

// TestTwofold sends requests that say in two ways how long they are, on connections of their own and on kept ones, in one piece and byte by
// byte: none reaches an instance, and all others do.
func TestTwofold(t *testing.T) {
	var twofold atomic.Int32
	in := instance(t, "one", func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/twofold" {
			twofold.Add(1)
		}
		io.Copy(w, r.Body)
	})
	r, at := open(t)
	r.Set(at, []Route{{Name: "a", Cohorts: []Cohort{{Name: "o", Share: 1, Instances: []Instance{in}}}}})
	const both, chunked, plain = "Transfer-Encoding: chunked\r\ncontent-length : 5\r\n", "Transfer-Encoding: chunked\r\n", "Content-Length: 5\r\n"
	ask := func(conn net.Conn, from *bufio.Reader, headers string, piece int) int {
		t.Helper()
		body := "5\r\nhello\r\n0\r\n\r\n"
		if headers == plain {
			body = "hello"
		}
		text := "POST / HTTP/1.1\r\nHost: x\r\n" + headers + "\r\n" + body
		for ; len(text) > 0; text = text[min(piece, len(text)):] {
			if _, err := conn.Write([]byte(text[:min(piece, len(text))])); err != nil {
				return 0
			}
		}
		response, err := http.ReadResponse(from, nil)
		if err != nil {
			t.Error(err)
			return 0
		}
		defer response.Body.Close()
		io.Copy(io.Discard, response.Body)
		return response.StatusCode
	}
	for _, piece := range []int{1, 7, 1000} {
		conn, err := net.Dial("tcp", at)
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		from := bufio.NewReader(conn)
		for i, headers := range []string{plain, chunked, plain, chunked, strings.Replace(both, " :", ":", 1)} {
			want := http.StatusOK
			if i == 4 {
				want = http.StatusBadRequest
			}
			if got := ask(conn, from, headers, piece); got != want {
				t.Errorf("request %d in pieces of %d: status %d, want %d", i, piece, got, want)
			}
		}
	}
	for _, first := range []string{chunked, "Content-Length: 5\r\nX-Odd: \xff\r\nTe: trailers\r\n"} { // behind one that goes to net/http, in one piece with it
		conn, err := net.Dial("tcp", at)
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		body := "5\r\nhello\r\n0\r\n\r\n"
		if first != chunked {
			body = "hello"
		}
		io.WriteString(conn, "POST / HTTP/1.1\r\nHost: x\r\n"+first+"\r\n"+body+"POST /twofold HTTP/1.1\r\nHost: x\r\nTransfer-Encoding: chunked\r\nContent-Length: 5\r\n\r\n5\r\nhello\r\n0\r\n\r\n")
		from := bufio.NewReader(conn)
		for {
			response, err := http.ReadResponse(from, nil)
			if err != nil {
				break
			}
			io.Copy(io.Discard, response.Body)
		}
	}
	if twofold.Load() != 0 {
		t.Errorf("%d requests that say it in two ways reached the instance", twofold.Load())
	}
	if seen := requests(r, "one"); seen < 12 || seen > 14 {
		t.Errorf("%d requests reached the instance, want 12", seen)
	}
	client := &http.Client{Transport: &http.Transport{Protocols: new(http.Protocols)}} // a body that has both in its text is none of it
	client.Transport.(*http.Transport).Protocols.SetUnencryptedHTTP2(true)
	for range 3 {
		response, err := client.Post("http://"+at+"/", "text/plain", strings.NewReader("x: y\r\nContent-Length: 5\r\nTransfer-Encoding: chunked\r\n\r\n"))
		if err != nil || response.StatusCode != http.StatusOK {
			t.Fatalf("by HTTP/2: %v (%v)", response, err)
		}
		response.Body.Close()
	}
}

// TestFresh asks an instance that came back over a connection of its own, also at an address that it had before.
func TestFresh(t *testing.T) {
	var opened atomic.Int32
	server := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { io.WriteString(w, "ready") }))
	server.Config.ConnState = func(_ net.Conn, state http.ConnState) {
		if state == http.StateNew {
			opened.Add(1)
		}
	}
	server.Start()
	defer server.Close()
	r := New(Options{})
	defer r.Close(t.Context())
	in := Instance{ID: "a", Address: server.Listener.Addr().String(), Ready: true}
	set := func(ready bool) {
		in.Ready = ready
		r.Set("", []Route{{Name: "a", Host: "a.example", Cohorts: []Cohort{{Name: "n", Share: 1, Instances: []Instance{in}}}}})
	}
	ask := func(want int32) {
		t.Helper()
		w := httptest.NewRecorder()
		r.ServeHTTP(w, httptest.NewRequest(http.MethodGet, "http://a.example/", nil))
		if w.Code != http.StatusOK || opened.Load() != want {
			t.Errorf("it answers %d, over %d connections by now, want %d", w.Code, opened.Load(), want)
		}
	}
	set(true)
	ask(1)
	ask(1)
	set(true)
	ask(1)
	set(false)
	set(true)
	ask(2)
	ask(2)
	for pool, want := range map[string]string{"since-1x.127.0.0.1:80": "127.0.0.1:80", "[::1]:80": "[::1]:80", "web.example:80": "web.example:80"} {
		if got := addressOf(pool); got != want {
			t.Errorf("%s leads to %s, want %s", pool, got, want)
		}
	}
}
