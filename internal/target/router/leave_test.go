package router

import (
	"context"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"
)

// TestLeaves has one router follow another on the same listener under callers that keep their connections and cannot ask twice: none
// finds its connection closed, and what was counted goes on.
func TestLeaves(t *testing.T) {
	at := deadAddress(t)
	instance := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { io.Copy(w, r.Body) }))
	defer instance.Close()
	kept := t.TempDir()
	first, err := net.Listen("tcp", at)
	if err != nil {
		t.Fatal(err)
	}
	file, err := first.(*net.TCPListener).File()
	if err != nil {
		t.Fatal(err)
	}
	defer file.Close()
	routes := []Route{{Name: "web", Cohorts: []Cohort{{Name: "one", Share: 1, Instances: []Instance{{ID: "in", Address: instance.Listener.Addr().String(), Ready: true}}}}}}
	follow := func(listener net.Listener) *Router {
		r := New(Options{Kept: kept, Listen: func(string) (net.Listener, error) { return listener, nil }})
		r.Set(at, routes)
		return r
	}
	now := follow(first)
	stop := make(chan struct{})
	var callers sync.WaitGroup
	var mu sync.Mutex
	answered := 0
	for range 4 {
		callers.Go(func() {
			client := &http.Client{Transport: &http.Transport{}}
			for {
				select {
				case <-stop:
					return
				default:
				}
				response, err := client.Post("http://"+at+"/", "text/plain", io.NopCloser(strings.NewReader("cast off"))) // it cannot be sent again
				if err != nil {
					t.Error(err)
					return
				}
				text, err := io.ReadAll(response.Body)
				if response.Body.Close(); err != nil || string(text) != "cast off" {
					t.Errorf("%d %q %v", response.StatusCode, text, err)
					return
				}
				mu.Lock()
				answered++
				mu.Unlock()
			}
		})
	}
	more := func() {
		t.Helper()
		mu.Lock()
		until := answered + 200
		mu.Unlock()
		for end := time.Now().Add(20 * time.Second); ; time.Sleep(time.Millisecond) {
			mu.Lock()
			there := answered >= until
			mu.Unlock()
			if there {
				return
			}
			if time.Now().After(end) {
				t.Fatal("nobody is answered any more")
			}
		}
	}
	for range 5 {
		more()
		listener, err := net.FileListener(file)
		if err != nil {
			t.Fatal(err)
		}
		before := now
		now = follow(listener)
		if err := before.Close(context.Background()); err != nil {
			t.Error(err)
		}
	}
	more()
	close(stop)
	callers.Wait()
	if c := now.Counts()["in"]; int(c.Requests[200]) != answered {
		t.Errorf("%d of %d answers are counted", c.Requests[200], answered)
	}
	now.Forget("in")
	if _, err := os.Stat(filepath.Join(kept, "in")); err == nil {
		t.Error("what was counted of an instance stays when it is gone")
	}
	now.linger = 0
	now.Close(context.Background())
}

// TestCountsKept has counts in a file that is not right, and in a folder that cannot be written to.
func TestCountsKept(t *testing.T) {
	folder := t.TempDir()
	if err := os.WriteFile(filepath.Join(folder, "in"), []byte("short"), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, at := range []string{folder, filepath.Join(folder, "nowhere"), ""} {
		c := openCounter(at, "in")
		c.answered(200, time.Second)
		c.connected()
		if got := c.counts(); got.Requests[200] != 1 || got.Connections != 1 || got.Seconds != 1 {
			t.Errorf("in %q: %+v", at, got)
		}
	}
	if got := openCounter(folder, "in").counts(); got.Requests[200] != 1 {
		t.Errorf("it is found again as %+v", got)
	}
}

// TestHeld has requests and connections come while an instance is exchanged for another: they wait for it, for as long as they may, and
// that does not count against whoever answers. Where there is none at all they do not wait.
func TestHeld(t *testing.T) {
	r, at := open(t)
	in := instance(t, "in", nil)
	hold := func(most time.Duration) {
		r.mu.Lock()
		defer r.mu.Unlock()
		r.hold = most
	}
	hold(20 * time.Second)
	routes := func(ready bool) []Route {
		in.Ready = ready
		return []Route{{Name: "web", Host: "web", Cohorts: []Cohort{{Name: "one", Share: 1, Instances: []Instance{in}}}}, {Name: "none", Host: "none", Cohorts: []Cohort{{Name: "one", Share: 1}}}}
	}
	client := &http.Client{}
	without := []Route{{Name: "web", Host: "web", Cohorts: []Cohort{{Name: "one", Share: 1}}}}
	r.Set(at, without) // the first that it is told: there may have been one before it began
	early := make(chan int)
	go func() {
		status, _ := get(t, client, at, "web")
		early <- status
	}()
	for end := time.Now().Add(10 * time.Second); r.held.Load() < 1; time.Sleep(time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("what comes to a router that has just begun does not wait")
		}
	}
	r.Set(at, routes(true))
	if status := <-early; status != http.StatusOK {
		t.Errorf("after it waited for the first instance the status is %d", status)
	}
	r.Set(at, nil)
	r.Set(at, routes(false))
	if status, _ := get(t, client, at, "none"); status != http.StatusServiceUnavailable {
		t.Errorf("where there is no instance the status is %d", status)
	}
	answered := make(chan int, 2)
	for range 2 {
		go func() {
			status, _ := get(t, client, at, "web")
			answered <- status
		}()
	}
	for end := time.Now().Add(10 * time.Second); r.held.Load() < 2; time.Sleep(time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("they do not wait")
		}
	}
	time.Sleep(300 * time.Millisecond) // the time that they wait, which is not to be counted
	r.Set(at, routes(true))
	for range 2 {
		if status := <-answered; status != http.StatusOK {
			t.Errorf("after they waited the status is %d", status)
		}
	}
	if c := r.Counts()["in"]; c.Seconds > 0.25 || c.Requests[200] != 3 {
		t.Errorf("it is counted as %+v", c)
	}
	r.Set(at, routes(false))
	hold(10 * time.Millisecond)
	if status, _ := get(t, client, at, "web"); status != http.StatusServiceUnavailable {
		t.Errorf("where none becomes ready the status is %d", status)
	}
	if r.held.Load() != 0 || r.Unserved() != 2 {
		t.Errorf("%d wait, %d found nobody", r.held.Load(), r.Unserved())
	}
}
