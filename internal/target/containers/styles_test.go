package containers

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/google/go-containerregistry/pkg/name"
	"github.com/google/go-containerregistry/pkg/v1/tarball"

	"aditus/internal/socket/porttest"
	"aditus/internal/status"
)

// program is the whole of Aditus, built once.
var program = sync.OnceValues(func() (string, error) {
	folder, err := os.MkdirTemp("", "aditus-program")
	if err != nil {
		return "", err
	}
	at := filepath.Join(folder, "aditus")
	build := exec.Command("go", "build", "-ldflags=-s -w", "-o", at, "aditus/cmd/aditus")
	build.Env = append(os.Environ(), "CGO_ENABLED=0") // so that it can be an agent
	if out, err := build.CombinedOutput(); err != nil {
		return "", fmt.Errorf("%w: %s", err, out)
	}
	return at, nil
})

// released is a line of its own: a repository, a server, and a site of a real engine.
type released struct {
	t                         *testing.T
	engine                    *engine
	program, data, repo, http string
}

// What all rollouts here have, and one by which none that follows is looser than the one before.
const (
	common = "interval: 1s, steady: 1s, proving: 2s, cool-down: 1s, deadline: 20s"
	short  = "rollout: {style: canary, " + common + ", stages: [{share: 50 %, soak: 2s}, {share: 100 %}]}\n"
)

// release begins a line.
func release(t *testing.T) *released {
	t.Helper()
	e := startEngine(t)
	at, err := program()
	if err != nil {
		t.Fatal(err)
	}
	r := &released{t: t, engine: e, program: at, data: shortTemp(t), repo: t.TempDir(), http: porttest.Free(t)}
	r.commit("1", short, true) // so that there is a branch
	r.aditus("link", "add", "line", r.repo, "--folder", "deploy", "--every", "1s", "--target", "containers="+e.address, "--data", r.data)
	way, _ := bySSH(t, e)
	settings := filepath.Join(r.data, "settings.yaml")
	text, err := os.ReadFile(settings)
	if err == nil {
		quay := fmt.Sprintf("sites:\n  - {name: quay, automatic: true, target: {kind: containers, engine: %q, key: %s, known-hosts: %s, listen: %q}}\n", way.Address, way.Key, way.KnownHosts, r.http)
		rest, _, _ := strings.Cut(string(text), "sites:\n")
		err = os.WriteFile(settings, []byte(rest+quay), 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
	log, err := os.Create(filepath.Join(r.repo, "..", "log"))
	if err != nil {
		t.Fatal(err)
	}
	serve := exec.Command(at, "serve", "--data", r.data)
	serve.Stderr = log
	if err := serve.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		serve.Process.Signal(syscall.SIGTERM)
		serve.Wait()
		r.aditus("keep", "--end", "--within", "1m", "--data", r.data)
		log.Close()
		if text, _ := os.ReadFile(log.Name()); t.Failed() {
			t.Logf("%s", text)
		}
	})
	return r
}

// aditus runs a command of the program.
func (r *released) aditus(args ...string) string {
	r.t.Helper()
	out, err := exec.Command(r.program, args...).CombinedOutput()
	if err != nil {
		r.t.Errorf("%v: %v: %s", args, err, out)
	}
	return string(out)
}

// commit declares a version with its rollout, and a part beside it or not.
func (r *released) commit(version, rollout string, helper bool) {
	r.t.Helper()
	file := filepath.Join(r.repo, "..", version+".tar")
	tag, err := name.NewTag("registry.skerry.example/web:" + version)
	if err == nil {
		err = tarball.WriteToFile(file, tag, image(r.t, version))
	}
	text := fmt.Sprintf("aditus: 1\nworkload: web\nsites: [quay]\nparts:\n  deck:\n    kind: service\n    artifact: file:%s\n    instances: 2\n    ports: {http: 8080}\n    probes: {ready: {http: {port: http, path: /%s}, every: 1s}}\n    stop: {drain: 1s, within: 2s}\n", file, map[bool]string{true: "ready"}[strings.Contains(rollout, "guards")])
	if helper {
		text += fmt.Sprintf("  helper: {kind: service, artifact: \"file:%s\", ports: {http: 8080}}\n", filepath.Join(r.repo, "..", "1.tar"))
	}
	text += "  entry: {kind: route, to: {service: deck, port: http}}\n" + rollout
	if err == nil {
		err = os.MkdirAll(filepath.Join(r.repo, "deploy"), 0o755)
	}
	if err == nil {
		err = os.WriteFile(filepath.Join(r.repo, "deploy", "web.yaml"), []byte(text), 0o644)
	}
	if err != nil {
		r.t.Fatal(err)
	}
	for _, args := range [][]string{{"init", "-q", "-b", "main"}, {"add", "."}, {"-c", "user.name=Tove Lind", "-c", "user.email=tove@skerry.example", "commit", "-qm", "web " + version}} {
		cmd := exec.Command("git", args...)
		cmd.Dir, cmd.Env = r.repo, append(os.Environ(), "GIT_CONFIG_GLOBAL=/dev/null")
		if out, err := cmd.CombinedOutput(); err != nil {
			r.t.Fatalf("git %v: %v: %s", args, err, out)
		}
	}
}

// until waits until the berth is so.
func (r *released) until(what string, so func(status.Berth) bool) {
	r.t.Helper()
	var last string
	for end := time.Now().Add(time.Minute); ; time.Sleep(100 * time.Millisecond) {
		out, _ := exec.Command(r.program, "status", "--json", "--data", r.data).Output()
		var told status.Snapshot
		if err := json.Unmarshal(out, &told); err == nil && len(told.Berths) == 1 && so(told.Berths[0]) {
			return
		}
		if last = string(out); time.Now().After(end) {
			r.t.Fatalf("it does not come to this: %s; %s", what, last)
		}
	}
}

// containers are those of a part.
func (r *released) containers(part string) []string {
	r.t.Helper()
	out, err := r.engine.podman("ps", "-q", "--no-trunc", "--filter", "label=aditus.part="+part).Output()
	if err != nil {
		r.t.Fatal(err)
	}
	all := strings.Fields(string(out))
	slices.Sort(all)
	return all
}

// TestRealStyles releases a version in each style with the whole program and a real engine, under load, and one that is bad: the first takes all
// of the traffic and nothing is lost, the second goes back, and the containers from before are what they were.
func TestRealStyles(t *testing.T) {
	r := release(t)
	is := func(version string) func(status.Berth) bool {
		return func(b status.Berth) bool {
			return b.Rollout == nil && b.Applied != nil && b.Applied.Version == version && b.Problem == nil
		}
	}
	r.until("1 is live", is("1"))
	var failed, answered atomic.Int64
	var last atomic.Pointer[string]
	stop := make(chan struct{})
	var callers sync.WaitGroup
	at := "http://" + r.http + "/"
	for range 4 {
		callers.Go(func() {
			client := &http.Client{Timeout: 10 * time.Second}
			for {
				select {
				case <-stop:
					return
				case <-time.After(10 * time.Millisecond):
				}
				response, err := client.Get(at)
				if err != nil {
					last.Store(new(err.Error()))
					failed.Add(1)
					continue
				}
				text, _ := io.ReadAll(response.Body)
				response.Body.Close()
				if answered.Add(1); response.StatusCode != http.StatusOK && string(text) != "version bad\n" {
					last.Store(new(fmt.Sprint(response.StatusCode, " ", string(text))))
					failed.Add(1)
				}
			}
		})
	}
	for i, style := range []string{
		short + "guards:\n  - name: errors\n    signal: {ratio: {of: {counter: route_requests_total, where: {code: 5*}}, to: {counter: route_requests_total}}}\n    limit: {at-most: 10 %}\n",
		"rollout: {style: rolling, " + common + ", soak: 2s, extra: 1, missing: 0}\n",
		"rollout: {style: blue-green, " + common + ", try: {for: 2s}, keep: 3s}\n",
	} {
		version := fmt.Sprint(i + 2)
		r.commit(version, style, true)
		r.until(version+" is live", is(version))
		eventually(t, "the containers of before are gone", func() bool { return len(r.containers("deck")) == 2 })
		before := r.containers("deck")
		if response, err := http.Get(at); err != nil {
			t.Error(err)
		} else if text, _ := io.ReadAll(response.Body); string(text) != "version "+version+"\n" {
			t.Errorf("%s answers %q", version, text)
		}
		if strings.Contains(style, "rolling") {
			continue // what becomes of a bad one there the other two show
		}
		r.commit("bad", style, true)
		r.until("what is bad is barred", func(b status.Berth) bool { return b.Rollout == nil && b.Bar != nil && is(version)(b) })
		eventually(t, "only those of before are there", func() bool { return slices.Equal(r.containers("deck"), before) })
	}
	close(stop)
	callers.Wait()
	if t.Logf("%d requests", answered.Load()); failed.Load() > 0 || answered.Load() < 500 {
		t.Errorf("%d of %d requests were lost, the last with %s", failed.Load(), answered.Load(), *last.Load())
	}
	r.commit("5", short, false)
	r.until("the helper is told as nobody's any more", func(b status.Berth) bool {
		return slices.ContainsFunc(b.Cohorts, func(c status.Cohort) bool {
			return slices.ContainsFunc(c.Parts, func(p status.Part) bool { return p.Orphan })
		})
	})
	if len(r.containers("helper")) != 1 {
		t.Error("what nobody asked to remove is gone")
	}
	r.aditus("sync", "web/quay", "--remove-orphans", "--data", r.data)
	eventually(t, "the helper is gone", func() bool { return len(r.containers("helper")) == 0 })
}
