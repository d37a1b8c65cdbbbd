package local

import (
	"archive/tar"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	v1 "github.com/google/go-containerregistry/pkg/v1"

	"aditus/internal/core/declare"
	"aditus/internal/disk"
	"aditus/internal/probe"
	"aditus/internal/socket/porttest"
	"aditus/internal/target"
	"aditus/internal/target/local/keeper"
	"aditus/internal/target/local/store"
	"aditus/internal/target/local/traffic"
	"aditus/internal/target/targettest"
)

// TestMain lets the test's own program be a keeper, and the service that artifacts of these tests hold: a file whose
// first line names this program, as an interpreter, with what it should do below.
func TestMain(m *testing.M) {
	if len(os.Args) > 2 {
		switch os.Args[1] {
		case "-keeper":
			ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGTERM)
			defer stop()
			said := map[string]string{}
			for i := 3; i+1 < len(os.Args); i += 2 {
				said[os.Args[i]] = os.Args[i+1]
			}
			program := said["--program"]
			if err := keeper.Run(ctx, keeper.Options{Folder: os.Args[2], Users: said["--users"], Program: program, Router: []string{os.Args[0], "-router", os.Args[2], "--program", program}, Probe: probe.New().Ask, Log: slog.New(slog.NewTextHandler(os.Stderr, nil))}); err != nil {
				fmt.Fprintln(os.Stderr, err)
				os.Exit(1)
			}
			os.Exit(0)
		case "-router":
			ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGTERM)
			defer stop()
			if err := traffic.Run(ctx, traffic.Options{Folder: os.Args[2], Program: os.Args[4], Log: slog.New(slog.NewTextHandler(os.Stderr, nil))}); err != nil {
				fmt.Fprintln(os.Stderr, err)
				os.Exit(1)
			}
			os.Exit(0)
		case "-service":
			serveTest(os.Args[2])
		}
	}
	os.Exit(m.Run())
}

// behaviour is what a test's artifact does.
type behaviour struct {
	Version string
	Errors  float64 // share of requests that fail
	Exit    int     // exits at once with this status
	Stays   bool    // does not end on a signal
	Flood   int     // bytes to write to its log at once
	Runs    bool    // a task that runs to its end
	Abrupt  bool    // ends at once on a signal, whatever is under way
	Child   bool    // leaves a process of its own running
}

func serveTest(file string) {
	text, _ := os.ReadFile(file)
	_, text, _ = bytes.Cut(text, []byte("\n"))
	var b behaviour
	if err := json.Unmarshal(text, &b); err != nil {
		panic(err)
	}
	if b.Exit != 0 {
		fmt.Fprintln(os.Stderr, "cannot go on: the mooring is taken")
		os.Exit(b.Exit)
	}
	if b.Runs || os.Getenv("PORT") == "" {
		os.Exit(0)
	}
	if b.Stays {
		signal.Ignore(syscall.SIGTERM)
	}
	go func() {
		line := strings.Repeat("a line of the flood ", 5) + "\n"
		for n := 0; n < b.Flood; n += len(line) {
			io.WriteString(os.Stdout, line)
		}
	}()
	child := 0
	if b.Child {
		cmd := exec.Command("/bin/sleep", "600")
		if err := cmd.Start(); err != nil {
			panic(err)
		}
		child = cmd.Process.Pid
	}
	var served atomic.Int64
	http.HandleFunc("/ready", func(w http.ResponseWriter, _ *http.Request) {
		if _, err := os.Stat("unready"); err == nil {
			w.WriteHeader(http.StatusServiceUnavailable)
		}
	})
	http.HandleFunc("/child", func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, child) })
	http.HandleFunc("/takes-its-time", func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(http.StatusOK)
		http.NewResponseController(w).Flush()
		time.Sleep(700 * time.Millisecond) // the work that a caller waits for
		fmt.Fprint(w, "done")
	})
	http.HandleFunc("/reach", func(w http.ResponseWriter, r *http.Request) { // whoever a variable says
		client := http.Client{Transport: &http.Transport{DisableKeepAlives: true}} // a connection stays where it is, as with any TCP
		response, err := client.Get(os.Getenv(r.URL.Query().Get("by")))
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadGateway)
			return
		}
		defer response.Body.Close()
		io.Copy(w, response.Body)
	})
	http.HandleFunc("/file", func(w http.ResponseWriter, r *http.Request) {
		name := r.URL.Query().Get("name")
		text, err := os.ReadFile(name)
		info, _ := os.Stat(name)
		folder, _ := os.Getwd()
		made := filepath.Join(folder, "made")
		os.WriteFile(made, nil, 0o666)
		own, _ := os.Stat(made)
		fmt.Fprintf(w, "%s|%v|%s|%v|%v", text, info.Mode(), filepath.Base(folder), own.Mode(), err)
	})
	http.HandleFunc("/try", func(w http.ResponseWriter, r *http.Request) { // what a hostile one would
		fmt.Fprint(w, tried(r.URL.Query().Get("what"), r.URL.Query().Get("of")))
	})
	http.HandleFunc("/environment", func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprintln(w, strings.Join(os.Environ(), "\n"))
	})
	http.HandleFunc("/", func(w http.ResponseWriter, _ *http.Request) {
		served.Add(1)
		if rand.Float64() < b.Errors {
			w.WriteHeader(http.StatusInternalServerError)
		}
		fmt.Fprintf(w, "%s %s", b.Version, os.Getenv("INSTANCE"))
	})
	fmt.Println("listening on", os.Getenv("PORT"))
	server := &http.Server{Addr: "127.0.0.1:" + os.Getenv("PORT")}
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGTERM)
	defer stop()
	switch {
	case b.Abrupt:
		context.AfterFunc(ctx, func() { os.Exit(0) })
	case !b.Stays:
		context.AfterFunc(ctx, func() { server.Shutdown(context.Background()) })
	}
	if err := server.ListenAndServe(); !errors.Is(err, http.ErrServerClosed) {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	os.Exit(0)
}

// artifact writes an archive with one executable, and gives its reference.
func artifact(t testing.TB, name string, b behaviour) string {
	t.Helper()
	own, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	return artifactOf(t, name, own, b)
}

// artifactOf is an artifact whose executable a program interprets, which is this test's.
func artifactOf(t testing.TB, name, own string, b behaviour) string {
	t.Helper()
	settings, _ := json.Marshal(b)
	return archive(t, name, map[string]string{"service": "#!" + own + " -service\n" + string(settings)})
}

func archive(t testing.TB, name string, files map[string]string) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), name+".tar")
	var out bytes.Buffer
	w := tar.NewWriter(&out)
	for name, text := range files {
		if err := w.WriteHeader(&tar.Header{Name: name, Mode: 0o755, Size: int64(len(text)), Typeflag: tar.TypeReg}); err != nil {
			t.Fatal(err)
		}
		io.WriteString(w, text)
	}
	w.Close()
	if err := os.WriteFile(file, out.Bytes(), 0o600); err != nil {
		t.Fatal(err)
	}
	return declare.FileScheme + file
}

// opened is a site in a folder of its own, whose processes end with the test.
func opened(t testing.TB, folder, name string, with ...func(*Options)) *Site {
	t.Helper()
	client := NewClient(folder, os.Args[0], "-keeper", folder)
	o := Options{Name: name, Folder: folder, Listen: porttest.Free(t), Ports: [2]int{21000, 29999}, Store: storeIn(t, folder), Keeper: client,
		Open: func(sealed string) (string, error) { return strings.TrimPrefix(sealed, "sealed:"), nil }}
	for _, set := range with {
		set(&o)
	}
	s, err := Open(o)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
		defer cancel()
		if err := client.End(ctx); err != nil {
			t.Error(err)
		}
		if t.Failed() {
			log, _ := os.ReadFile(filepath.Join(folder, keeper.LogName))
			t.Logf("%s", log)
		}
	})
	return s
}

// storeIn is a store of archives in a folder.
func storeIn(t testing.TB, folder string) *store.Store {
	t.Helper()
	artifacts, err := store.Open(filepath.Join(folder, storeFolder), 1<<30, func(context.Context, string) (v1.Image, error) { return nil, store.ErrNone }, disk.Machine)
	if err != nil {
		t.Fatal(err)
	}
	return artifacts
}

// shortTemp is a folder whose name leaves room for a socket's.
func shortTemp(t testing.TB) string {
	t.Helper()
	folder, err := os.MkdirTemp("", "aditus")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(folder) })
	return folder
}

func isFile(name string) bool {
	info, err := os.Stat(name)
	return err == nil && info.Mode().IsRegular()
}

func TestConformance(t *testing.T) {
	versions := map[int]string{}
	for _, version := range []int{1, 2} {
		versions[version] = artifact(t, fmt.Sprintf("web-%d", version), behaviour{Version: fmt.Sprint(version)})
	}
	targettest.Run(t, func(t *testing.T) target.Driver {
		s := opened(t, shortTemp(t), "drydock")
		followed(t, s)
		return s
	},
		targettest.Options{Artifact: func(version int) string { return versions[version] }, Missing: "file:/nowhere/web-9.tar"})
}
