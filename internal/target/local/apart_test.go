package local

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"aditus/internal/socket"
	"aditus/internal/target/local/traffic"
)

// callers ask for a site's traffic all the time, until they are stopped.
type callers struct {
	answered, lost atomic.Int64
	stop           func()
}

func call(t *testing.T, s *Site, n int) *callers {
	c := &callers{}
	ctx, cancel := context.WithCancel(t.Context())
	var group sync.WaitGroup
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: n}, Timeout: 20 * time.Second}
	for range n {
		group.Go(func() {
			for ctx.Err() == nil {
				response, err := client.Get("http://" + s.Listen + "/")
				if err == nil {
					_, err = io.Copy(io.Discard, response.Body)
					response.Body.Close()
				}
				if err != nil || response.StatusCode != http.StatusOK {
					if c.lost.Add(1) < 20 {
						t.Logf("lost: %v %v", response, err)
					}
				} else {
					c.answered.Add(1)
				}
			}
		})
	}
	c.stop = sync.OnceFunc(func() {
		cancel()
		group.Wait()
	})
	t.Cleanup(c.stop)
	return c
}

// more waits until so many more were answered.
func (c *callers) more(t *testing.T, n int64) {
	t.Helper()
	for end, until := time.Now().Add(30*time.Second), c.answered.Load()+n; c.answered.Load() < until; time.Sleep(time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("nobody is answered any more")
		}
	}
}

// routerOf asks who leads the traffic of a data folder, once it is another one than before.
func routerOf(t *testing.T, folder string, before int) int {
	t.Helper()
	client := &http.Client{Transport: socket.Transport(filepath.Join(folder, traffic.SocketFile), 10*time.Second), Timeout: time.Second}
	for end := time.Now().Add(20 * time.Second); ; time.Sleep(10 * time.Millisecond) {
		var hello traffic.Hello
		if response, err := client.Get("http://router/router"); err == nil {
			json.NewDecoder(response.Body).Decode(&hello)
			response.Body.Close()
		}
		if client.CloseIdleConnections(); hello.PID != 0 && hello.PID != before {
			return hello.PID
		}
		if time.Now().After(end) {
			t.Fatal("nobody leads traffic")
		}
	}
}

// TestApart has keeper and router end in every way under traffic. Without the keeper nothing is lost; with the router goes
// what it has under way, and no connection that only waits; what was counted goes on.
func TestApart(t *testing.T) {
	s := opened(t, shortTemp(t), "drydock")
	up(t, s, 1, artifact(t, "ferry", behaviour{Version: "1"}), 2)
	all := await(t, s, 1, "both run", running(2))
	ask(t, s, "/")
	followed(t, s)
	const n = 4
	c := call(t, s, n)
	counts := func(least int64) { // but for those that were answered and not counted yet
		t.Helper()
		for end := time.Now().Add(10 * time.Second); ; time.Sleep(10 * time.Millisecond) {
			status, err := s.Keeper.status(t.Context(), s.Name)
			var sum uint64
			for _, in := range status.Counts {
				sum += in.Requests[http.StatusOK]
			}
			if err == nil && int64(sum) >= least-n {
				return
			}
			if time.Now().After(end) {
				t.Errorf("%d answers are counted of %d (%v)", sum, least, err)
				return
			}
		}
	}
	keeper, router := 0, routerOf(t, s.Folder, 0)
	for round := range 3 {
		hello, err := s.Keeper.hello(t.Context())
		for err != nil || hello.PID == keeper {
			hello, err = s.Keeper.hello(t.Context())
		}
		keeper = hello.PID
		syscall.Kill(keeper, syscall.SIGKILL)
		c.more(t, 300)
		await(t, s, 1, "both were taken over", running(2))
		if lost := c.lost.Load(); lost > 0 {
			t.Fatalf("%d requests were lost with keeper %d", lost, round)
		}
	}
	c.more(t, 100)
	for _, how := range []struct {
		name   string
		signal syscall.Signal
		most   int64
		within time.Duration
	}{{"asked to end", syscall.SIGTERM, 0, 5 * time.Second}, {"killed", syscall.SIGKILL, n, 5 * time.Second}, {"stopped", syscall.SIGSTOP, n, 5 * time.Second}, {"killed once more", syscall.SIGKILL, n, 5 * time.Second}} {
		before, lost, began := c.answered.Load(), c.lost.Load(), time.Now()
		syscall.Kill(router, how.signal)
		router = routerOf(t, s.Folder, router)
		took := time.Since(began)
		c.more(t, 300)
		if lost = c.lost.Load() - lost; lost > how.most || took > how.within {
			t.Errorf("%s: %d requests were lost, and another one led after %s", how.name, lost, took)
		}
		counts(before)
		t.Logf("%s: %d lost, another one after %s", how.name, lost, took.Round(time.Millisecond))
	}
	hello, err := s.Keeper.hello(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	answered, lost := c.answered.Load(), c.lost.Load()
	syscall.Kill(router, syscall.SIGKILL) // and both at once
	syscall.Kill(hello.PID, syscall.SIGKILL)
	routerOf(t, s.Folder, router)
	await(t, s, 1, "both were taken over", running(2))
	ask(t, s, "/")
	counts(answered)
	t.Logf("both at once: %d lost", c.lost.Load()-lost)
	for _, in := range all {
		if _, err := os.Stat(filepath.Join(s.secrets, countsFolder, in.ID)); err != nil {
			t.Error(err)
		}
	}
}
