package socket

import (
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// TestSocket answers on sockets in folders with names of any length, to their owner alone, and in the place of one that
// was left there.
func TestSocket(t *testing.T) {
	short, err := os.MkdirTemp("", "s")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(short) })
	for _, folder := range []string{short, filepath.Join(short, strings.Repeat("skerry/", 30))} {
		if err := os.MkdirAll(folder, 0o700); err != nil {
			t.Fatal(err)
		}
		name := filepath.Join(folder, "aditus.sock")
		client := &http.Client{Transport: Transport(name, 0)}
		if _, err := client.Get("http://aditus/"); err == nil {
			t.Error("nobody listens, and there is an answer")
		}
		for range 2 {
			starting := &http.Client{Transport: Transport(name, 10*time.Second)}
			answered := make(chan string, 1)
			go func() {
				response, err := starting.Get("http://aditus/")
				if err != nil {
					answered <- err.Error()
					return
				}
				defer response.Body.Close()
				text, _ := io.ReadAll(response.Body)
				answered <- string(text)
			}()
			listener, err := Listen(t.Context(), name)
			if err != nil {
				t.Fatal(err)
			}
			if info, err := os.Stat(name); err != nil || info.Mode().Perm() != 0o600 {
				t.Errorf("%v %v", info, err)
			}
			server := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { io.WriteString(w, "moored") })}
			go server.Serve(listener)
			if got := <-answered; got != "moored" {
				t.Error(got)
			}
			server.Close()
		}
	}
	if _, err := Listen(t.Context(), filepath.Join(short, "nowhere", "aditus.sock")); err == nil {
		t.Error("there is no such folder")
	}
}
