package cli

import (
	"archive/tar"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"aditus/internal/confine"
	"aditus/internal/control/api"
	"aditus/internal/demo"
	"aditus/internal/socket"
	"aditus/internal/socket/porttest"
	"aditus/internal/system"
	"aditus/internal/target/local/keeper"
	"aditus/internal/target/sim"
)

// dock is a line of one's own with a local site: a repository, artifacts, a server, and traffic that is counted.
type dock struct {
	t         *testing.T
	folder    string // the data folder
	artifacts string
	source    string // the repository
	listen    string
	server    *exec.Cmd
	log       bytes.Buffer

	sent, lost, failed atomic.Int64
	expectLoss         atomic.Bool
	paths              []string      // hosts that are asked
	pause              time.Duration // of each caller between two requests
}

const localWorkloads = `aditus: 1
workload: %s
sites: [dock]
parts:
  app:
    kind: service
    artifact: file:%s/%s-1.0.0.tar
    instances: 2
    environment: {SEASON: summer}
    ports: {http: 8080}
    probes: {ready: {http: {port: http, path: /ready}, every: 1s, grace: 20s}}
    stop: {drain: 10s, within: 5s}
  hours: {kind: settings, values: {opens.at: "06:30"}}
  entry: {kind: route, host: %[1]s.example, preview: trial-%[1]s.example, to: {service: app, port: http}}
rollout: {%[4]s, deadline: 40s, proving: 3s, interval: 1s, cool-down: 1s}
guards:
  - name: errors
    signal: {ratio: {of: {counter: route_requests_total, where: {code: "5*"}}, to: {counter: route_requests_total}}}
    limit: {at-most: 5 %%}
    breach: {intervals: 2, of: 3, samples: 20}
`

func openDock(t *testing.T) *dock {
	folder, err := os.MkdirTemp("", "aditus")
	if err == nil {
		err = os.Chmod(folder, 0o755) // where this is root, instances run as users of their own, in a folder beside the data folder
	}
	if err != nil {
		t.Fatal(err)
	}
	l := &dock{t: t, folder: filepath.Join(folder, "d"), artifacts: filepath.Join(folder, "artifacts"), source: filepath.Join(folder, "source"), paths: []string{"tally.example", "quay.example"}}
	for _, name := range []string{l.artifacts, filepath.Join(l.source, "deploy"), l.folder} {
		if err := os.MkdirAll(name, 0o700); err != nil {
			t.Fatal(err)
		}
	}
	l.listen = porttest.Free(t)
	t.Cleanup(func() {
		if t.Failed() {
			client := &http.Client{Transport: socket.Transport(filepath.Join(l.folder, keeper.SocketFile), 0), Timeout: 5 * time.Second}
			if response, err := client.Get("http://keeper/sites/dock"); err == nil {
				text, _ := io.ReadAll(response.Body)
				response.Body.Close()
				t.Logf("the keeper says %s", text)
			} else {
				t.Logf("the keeper does not say what it keeps: %v", err)
			}
		}
		l.stop(syscall.SIGTERM)
		if out, err := exec.Command(program, "keep", "--end", "--data", l.folder).CombinedOutput(); err != nil {
			t.Errorf("%v: %s", err, out)
		}
		if t.Failed() {
			keeper, _ := os.ReadFile(filepath.Join(l.folder, "keeper.log"))
			t.Logf("server:\n%s\nkeeper:\n%s", l.log.String(), keeper)
			status, _ := exec.Command(program, "status", "--data", l.folder).CombinedOutput()
			t.Logf("%s", status)
		}
		os.RemoveAll(folder)
	})
	return l
}

// release writes an artifact of a version that behaves in a way, and commits that the workload is at it.
func (l *dock) release(workload, version string, a sim.Artifact) {
	l.t.Helper()
	text, err := demo.ServiceFile(program, a, 1)
	if err != nil {
		l.t.Fatal(err)
	}
	var out bytes.Buffer
	w := tar.NewWriter(&out)
	w.WriteHeader(&tar.Header{Name: "service", Mode: 0o755, Size: int64(len(text)), Typeflag: tar.TypeReg})
	w.Write(text)
	w.Close()
	if err := os.WriteFile(filepath.Join(l.artifacts, workload+"-"+version+".tar"), out.Bytes(), 0o600); err != nil {
		l.t.Fatal(err)
	}
	l.change(workload, func(text string) string {
		at := strings.Index(text, workload+"-")
		end := strings.Index(text, ".tar")
		return text[:at] + workload + "-" + version + text[end:]
	})
}

// change changes a workload's file and commits it.
func (l *dock) change(workload string, how func(string) string) {
	l.t.Helper()
	name := filepath.Join(l.source, "deploy", workload+".yaml")
	text, err := os.ReadFile(name)
	if err == nil {
		err = os.WriteFile(name, []byte(how(string(text))), 0o600)
	}
	if err != nil {
		l.t.Fatal(err)
	}
	l.git("add", "-A")
	l.git("commit", "-q", "--allow-empty", "-m", "change "+workload)
}

func (l *dock) git(args ...string) {
	l.t.Helper()
	cmd := exec.Command("git", append([]string{"-C", l.source, "-c", "user.name=Maren Oake", "-c", "user.email=maren@skerry.example", "-c", "init.defaultBranch=main"}, args...)...)
	if out, err := cmd.CombinedOutput(); err != nil {
		l.t.Fatalf("git %v: %v\n%s", args, err, out)
	}
}

// serve starts the server, and waits until it answers.
func (l *dock) serve() {
	l.t.Helper()
	l.server = exec.Command(program, "serve", "--log-text", "--data", l.folder)
	l.server.Stderr = &l.log
	if err := l.server.Start(); err != nil {
		l.t.Fatal(err)
	}
	client := &http.Client{Transport: socket.Transport(filepath.Join(l.folder, api.SocketFile), 30*time.Second)}
	response, err := client.Get("http://aditus/healthz")
	if err != nil {
		l.t.Fatal(err)
	}
	response.Body.Close()
}

func (l *dock) stop(how os.Signal) {
	if l.server != nil {
		l.server.Process.Signal(how)
		l.server.Wait()
		l.server = nil
	}
}

func (l *dock) await(what string, is func() bool) {
	l.t.Helper()
	for end := time.Now().Add(90 * time.Second); !is(); time.Sleep(50 * time.Millisecond) {
		if time.Now().After(end) {
			l.t.Fatal("it does not come to this: " + what)
		}
	}
}

// wait waits for a berth by the shell, and gives the exit code.
func (l *dock) wait(workload, what string) {
	l.t.Helper()
	if code, out, errs := shell(l.t, "wait", workload+"/dock", "--for", what, "--timeout", "90s", "--data", l.folder); code != 0 {
		l.t.Fatalf("wait for %s to be %s: %d %s%s", workload, what, code, out, errs)
	}
}

func (l *dock) sync(workload string) {
	l.t.Helper()
	if code, out, errs := shell(l.t, "sync", workload+"/dock", "--no-wait", "--data", l.folder); code != 0 {
		l.t.Fatalf("sync %s: %s%s", workload, out, errs)
	}
}

// load sends requests until the test ends, and counts those that found nobody.
func (l *dock) load(ctx context.Context, callers int) *sync.WaitGroup {
	group := &sync.WaitGroup{}
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: callers}, Timeout: 20 * time.Second}
	for caller := range callers {
		group.Go(func() {
			for n := caller; ctx.Err() == nil; n++ {
				time.Sleep(l.pause)
				request, _ := http.NewRequestWithContext(context.Background(), []string{http.MethodGet, http.MethodPost}[n%2], "http://"+l.listen+"/crossing", strings.NewReader("one ticket"))
				request.Host = l.paths[n%len(l.paths)]
				response, err := client.Do(request)
				l.sent.Add(1)
				status := 0
				if err == nil {
					_, err = io.Copy(io.Discard, response.Body)
					response.Body.Close()
					status = response.StatusCode
				}
				switch {
				case err == nil && status == http.StatusOK:
				case err == nil && status == http.StatusInternalServerError:
					l.failed.Add(1) // answered, and badly: that is the service's
				case !l.expectLoss.Load():
					l.lost.Add(1)
					l.t.Logf("%s: a request to %s was lost: status %d, %v", time.Now().Format("15:04:05.000"), request.Host, status, err)
				}
			}
		})
	}
	return group
}

// keeper is the process of the keeper.
func (l *dock) keeper() int {
	l.t.Helper()
	client := &http.Client{Transport: socket.Transport(filepath.Join(l.folder, keeper.SocketFile), 0)}
	response, err := client.Get("http://keeper/keeper")
	if err != nil {
		l.t.Fatal(err)
	}
	defer response.Body.Close()
	var hello keeper.Hello
	if err := json.NewDecoder(response.Body).Decode(&hello); err != nil || hello.PID < 2 {
		l.t.Fatal(hello, err)
	}
	return hello.PID
}

// pids are the processes of the site's instances, by instance.
func (l *dock) pids() map[string]int {
	found := map[string]int{}
	files, _ := filepath.Glob(filepath.Join(l.folder+"*", "local", "dock", "instances", "*", "process.json"))
	for _, file := range files {
		var record struct{ PID int }
		if text, err := os.ReadFile(file); err == nil && json.Unmarshal(text, &record) == nil && record.PID != 0 {
			found[filepath.Base(filepath.Dir(file))] = record.PID
		}
	}
	return found
}

// TestLocal takes real processes through real rollouts under load: a canary, a blue-green switch, a bad artifact that is
// rolled back on what the router counts, and the server and the keeper killed on the way. No request is lost.
func TestLocal(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes a minute")
	}
	t.Parallel()
	l := openDock(t)
	l.git("init", "-q")
	for workload, style := range map[string]string{"tally": "stages: [{share: 25 %, soak: 3s}, {share: 100 %, soak: 1s}]", "quay": "style: blue-green, try: {for: 2s}, keep: 3s"} {
		text := fmt.Sprintf(localWorkloads, workload, l.artifacts, workload, style)
		if err := os.WriteFile(filepath.Join(l.source, "deploy", workload+".yaml"), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		l.release(workload, "1.0.0", sim.Artifact{})
	}
	if out, err := exec.Command(program, "link", "add", "line", l.source, "--data", l.folder, "--every", "1s", "--target", "local="+l.listen).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	l.serve()
	for _, workload := range []string{"tally", "quay"} {
		l.sync(workload)
	}
	l.await("both serve", func() bool {
		for _, host := range l.paths {
			request, _ := http.NewRequest(http.MethodGet, "http://"+l.listen, nil)
			request.Host = host
			response, err := http.DefaultClient.Do(request)
			if err != nil {
				return false
			}
			response.Body.Close()
			if response.StatusCode != 200 {
				return false
			}
		}
		return true
	})
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	callers := l.load(ctx, 6)
	l.wait("tally", "proven")
	l.wait("quay", "proven")
	note := func(what string) {
		t.Helper()
		t.Logf("%s: %d requests sent, %d answered badly, %d lost", what, l.sent.Load(), l.failed.Load(), l.lost.Load())
		if l.lost.Load() > 0 {
			t.Fatalf("%s: requests were lost", what)
		}
	}
	note("the first revisions are proven")
	own := map[int]bool{} // where this is root, each workload has a user of its own by itself
	for id, pid := range l.pids() {
		info, err := os.Stat(fmt.Sprintf("/proc/%d", pid))
		if err != nil {
			t.Fatal(err)
		}
		user := system.Owner(info)
		if own[user] = true; (confine.MayBecome() == nil) != (user >= 700_000) {
			t.Errorf("%s runs as the user %d", id, user)
		}
	}
	if confine.MayBecome() == nil && len(own) != 2 {
		t.Errorf("two workloads run as the users %v", own)
	}
	if code, out, _ := shell(t, "wait", "tally/dock", "--for", "waiting", "--timeout", "300ms", "--json", "--data", l.folder); code != 1 || !strings.HasPrefix(out, `{"berth":"tally/dock","text":"not waiting within 300ms`) {
		t.Errorf("what does not come: %d %s", code, out)
	}
	if code, out, _ := shell(t, "sync", "tally/dock", "--json", "--data", l.folder); code != 0 || out != `{"berth":"tally/dock","text":"aligned, nothing to do"}`+"\n" {
		t.Errorf("nothing to sync: %d %s", code, out)
	}

	if out, err := exec.Command(program, "keep", "--end", "--data", l.folder).CombinedOutput(); err == nil || !strings.Contains(string(out), "end that first") {
		t.Errorf("what a server keeps up was ended beside it: %s", out)
	}
	l.release("tally", "1.1.0", sim.Artifact{})
	l.release("quay", "1.1.0", sim.Artifact{})
	l.sync("tally")
	l.sync("quay")
	l.wait("tally", "proven")
	l.wait("quay", "proven")
	note("a canary and a blue-green switch")
	if code, out, errs := shell(t, "compare", "tally/dock", "--from", "tally-1.0.0", "--to", "tally-1.1.0", "--data", l.folder); code != 0 || !strings.Contains(out, "/parts/app/artifact") {
		t.Errorf("two revisions compared: %d %s%s", code, out, errs)
	}
	if code, out, errs := shell(t, "render", "tally/dock", "--data", l.folder); code != 0 || !strings.Contains(out, "tally-1.1.0.tar") {
		t.Errorf("what is declared: %d %s%s", code, out, errs)
	}

	l.release("tally", "1.2.0", sim.Artifact{Errors: 0.4})
	l.sync("tally")
	l.wait("tally", "rolled-back")
	if _, out, _ := shell(t, "status", "--data", l.folder); !strings.Contains(out, "tally-1.1.0") || !strings.Contains(out, "barred") {
		t.Errorf("the good one is not back:\n%s", out)
	}
	note("a bad artifact is rolled back")
	if l.failed.Load() == 0 {
		t.Error("the bad version was never asked")
	}

	l.release("tally", "1.3.0", sim.Artifact{})
	l.sync("tally")
	l.await("a stage soaks", func() bool {
		_, out, _ := shell(t, "status", "--data", l.folder)
		return strings.Contains(out, "tally-1.3.0 25 %")
	})
	before, sent := l.pids(), l.sent.Load()
	l.stop(syscall.SIGKILL)
	l.await("traffic goes on without the server", func() bool { return l.sent.Load() > sent+500 })
	l.serve()
	for id, pid := range l.pids() {
		if before[id] != 0 && before[id] != pid {
			t.Errorf("%s was started anew when the server came back", id)
		}
	}
	l.wait("tally", "proven")
	note("the server killed on the way")

	before = l.pids()
	sent = l.sent.Load()
	syscall.Kill(l.keeper(), syscall.SIGKILL)
	l.await("traffic goes on without the keeper", func() bool { return l.sent.Load() > sent+500 })
	// Those of the release before may still be on their way out when the keeper dies: what stays is two of each.
	l.await("all instances are taken over, and what was ending has ended", func() bool { return len(l.pids()) == 4 })
	for id, pid := range l.pids() {
		if before[id] != pid {
			t.Errorf("%s was started anew when the keeper was killed, of %v", id, before)
		}
	}
	l.release("tally", "1.4.0", sim.Artifact{})
	l.sync("tally")
	l.wait("tally", "proven")
	note("the keeper killed")
	cancel()
	callers.Wait()
	if l.sent.Load() < 3000 {
		t.Errorf("only %d requests were sent", l.sent.Load())
	}
	l.await("what was live before has ended", func() bool { return len(l.pids()) == 4 })
	var one string
	for one = range l.pids() {
		if strings.HasPrefix(one, "tally-app-") {
			break
		}
	}
	if code, out, errs := shell(t, "log", "tally/dock", one, "--data", l.folder); code != 0 || !strings.Contains(out, one+" listens on port") {
		t.Errorf("the log of %s: %d %s%s", one, code, out, errs)
	}
	for args, want := range map[string]string{"": "  " + one + "  ", "--grep listens -n 1": " listens on port", "--since 1h --json": `"instance":"` + one + `"`, one + " --previous": ""} {
		code, out, errs := shell(t, append(append([]string{"log", "tally/dock"}, strings.Fields(args)...), "--data", l.folder)...)
		if code != 0 || !strings.Contains(out, want) || want == "" && out != "" || strings.Contains(args, "-n 1") && strings.Count(out, "\n") != 1 {
			t.Errorf("the log of all, %s: %d %s%s", args, code, out, errs)
		}
	}
	for args, want := range map[string]string{"--grep (": "--grep: error parsing regexp", "--since soon": "--since: ", "nobody": "has no instance whose name begins with nobody", "--follow --previous": "give one of --follow and --previous"} {
		if code, out, errs := shell(t, append(append([]string{"log", "tally/dock"}, strings.Fields(args)...), "--data", l.folder)...); code == 0 || !strings.Contains(errs, want) {
			t.Errorf("the log, %s: %d %s%s", args, code, out, errs)
		}
	}

	l.stop(syscall.SIGTERM) // and what only looks starts nothing that was ended on purpose
	if code, out, errs := shell(t, "keep", "--end", "--json", "--data", l.folder); code != 0 || out != `{"ended":true}`+"\n" {
		t.Errorf("ended: %d %s%s", code, out, errs)
	}
	for _, command := range []string{"compare", "sync --dry-run", "lock -m regatta", "unlock"} {
		args := append(strings.Fields(command), "tally/dock", "--data", l.folder)
		if code, out, errs := shell(t, args...); code != 0 {
			t.Errorf("%s: %d %s%s", command, code, out, errs)
		}
	}
	if len(l.pids()) > 0 {
		t.Errorf("there runs %v", l.pids())
	}
}
