package local

import (
	"fmt"
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
	"aditus/internal/target"
	"aditus/internal/target/local/keeper"
	"aditus/internal/target/local/traffic"
)

// TestTakeover has keepers and routers of one program after the other take over under load: nothing that is asked meanwhile is lost, and all that
// runs runs on.
func TestTakeover(t *testing.T) {
	t.Parallel()
	folder := shortTemp(t)
	s := opened(t, folder, "drydock")
	up(t, s, 1, artifact(t, "ferry", behaviour{Version: "1"}), 2)
	await(t, s, 1, "they run", running(2))
	ask(t, s, "/")
	var asked, lost atomic.Int64
	var group sync.WaitGroup
	stop := make(chan struct{})
	for range 3 {
		group.Go(func() {
			for {
				select {
				case <-stop:
					return
				default:
				}
				asked.Add(1)
				response, err := http.Get("http://" + s.Listen + "/")
				if err == nil {
					_, err = io.Copy(io.Discard, response.Body)
					response.Body.Close()
				}
				if err != nil || response.StatusCode != http.StatusOK {
					lost.Add(1)
					t.Logf("%v %v", response, err)
				}
			}
		})
	}
	for n := range 6 {
		program := fmt.Sprint("program-", n)
		kept := NewClient(folder, os.Args[0], "-keeper", folder, "--program", program)
		kept.program = program
		s.Keeper = kept
		if err := s.Apply(t.Context(), workload, []target.Want{target.Scale(revision(1), "deck", 2)}); err != nil {
			t.Fatal(err)
		}
		await(t, s, 1, "they run on", running(2))
		if hello, err := kept.hello(t.Context()); err != nil || hello.Program != program {
			t.Errorf("the keeper is of %q (%v)", hello.Program, err)
		}
		router := &http.Client{Transport: socket.Transport(filepath.Join(folder, traffic.SocketFile), 0)}
		var hello traffic.Hello
		for end := time.Now().Add(20 * time.Second); hello.Program != program; time.Sleep(5 * time.Millisecond) {
			if err := socket.Ask(t.Context(), router, http.MethodGet, "/router", nil, &hello); time.Now().After(end) {
				t.Fatalf("the router is of %q (%v)", hello.Program, err)
			}
		}
	}
	close(stop)
	group.Wait()
	if asked.Load() == 0 {
		t.Error("nobody asked")
	}
	if lost.Load() > 0 {
		t.Errorf("%d of %d requests were lost", lost.Load(), asked.Load())
	}
}

// TestEndedMeanwhile has an instance that is no longer wanted end as nobody keeps it: the next keeper forgets it, with its folder.
func TestEndedMeanwhile(t *testing.T) {
	t.Parallel()
	s := opened(t, shortTemp(t), "drydock")
	up(t, s, 1, artifact(t, "ferry", behaviour{Version: "1"}), 1)
	await(t, s, 1, "it runs", running(1))
	hello, err := s.Keeper.hello(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	syscall.Kill(hello.PID, syscall.SIGKILL)
	gone := filepath.Join(s.folder, instancesFolder, "ferry-deck-0000000-9")
	if err := os.MkdirAll(gone, 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(gone, keeper.RecordFile), []byte(`{"pid":4000000,"created":1}`), 0o600); err != nil {
		t.Fatal(err)
	}
	await(t, s, 1, "it runs on", running(1))
	for end := time.Now().Add(20 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		if err := s.submit(t.Context()); err == nil && !isFolder(gone) {
			return
		}
		if time.Now().After(end) {
			t.Fatal("what ended is still on record")
		}
	}
}
