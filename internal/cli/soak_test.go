package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"aditus/internal/ledger"
	"aditus/internal/socket"
	"aditus/internal/target/local/traffic"
	"aditus/internal/target/sim"
)

// often is how often something is done: a few times, or as often as a variable says.
func often(t *testing.T, name string, few int) int {
	t.Helper()
	n, err := strconv.Atoi(cmp.Or(os.Getenv(name), strconv.Itoa(few)))
	if err != nil {
		t.Fatalf("%s: %v", name, err)
	}
	return n
}

const soakWorkload = `aditus: 1
workload: %[1]s
sites: [dock]
parts:
  app:
    kind: service
    artifact: file:%[2]s/%[1]s-1.0.0.tar
    instances: %[3]d
    ports: {http: 8080}
    probes: {ready: {http: {port: http, path: /ready}, every: 1s, grace: 20s}}
    stop: {drain: 10s, within: 5s}
  entry: {kind: route, host: %[1]s.example, to: {service: app, port: http}}
rollout: {%[4]s, deadline: 60s, proving: 1s, interval: 1s, cool-down: 1s}
guards:
  - name: errors
    signal: {ratio: {of: {counter: route_requests_total, where: {code: "5*"}}, to: {counter: route_requests_total}}}
    limit: {at-most: 20 %%}
    missing: ignore
`

// fleet is a dock with a workload of each style with each number of instances, and one that keeps state, all of them proven, and under load.
func fleet(t *testing.T, sizes ...int) (l *dock, workloads []string, end func()) {
	t.Helper()
	l = openDock(t)
	l.git("init", "-q")
	l.paths, l.pause = nil, 5*time.Millisecond
	const canary = "stages: [{share: 50 %, soak: 1s}, {share: 100 %}]"
	for style, text := range map[string]string{"keeps": canary, "canary": canary, "rolling": "style: rolling", "blue-green": "style: blue-green, try: {for: 1s}, keep: 1s"} {
		for _, n := range sizes {
			if style == "keeps" && n > 1 {
				continue
			}
			workload := fmt.Sprintf("%s-%d", style, n)
			text := fmt.Sprintf(soakWorkload, workload, l.artifacts, n, text)
			if style == "keeps" { // state in a volume, so that there is never one beside the other
				text = strings.Replace(text, "    stop:", "    volumes: {log: /log}\n    stop:", 1)
				text = strings.Replace(text, "  entry:", "  log: {kind: volume, size: 1 MB}\n  entry:", 1)
			}
			if err := os.WriteFile(filepath.Join(l.source, "deploy", workload+".yaml"), []byte(text), 0o600); err != nil {
				t.Fatal(err)
			}
			l.release(workload, "1.0.0", sim.Artifact{})
			workloads, l.paths = append(workloads, workload), append(l.paths, workload+".example")
		}
	}
	if out, err := exec.Command(program, "link", "add", "line", l.source, "--data", l.folder, "--every", "1s", "--target", "local="+l.listen).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	l.serve()
	for _, workload := range workloads {
		l.sync(workload)
	}
	for _, workload := range workloads {
		l.wait(workload, "proven")
	}
	ctx, cancel := context.WithCancel(t.Context())
	callers := l.load(ctx, soakCallers)
	return l, workloads, func() {
		cancel()
		callers.Wait()
	}
}

// soakCallers ask at once.
const soakCallers = 4

// looksApart is how far apart it is looked whether it came to what is awaited, as looking takes of the same machine.
const looksApart = 200 * time.Millisecond

// round releases the next version of all workloads, and waits until each is proven.
func (l *dock) round(workloads []string, n int) {
	l.t.Helper()
	for _, workload := range workloads {
		l.release(workload, fmt.Sprintf("1.%d.0", n), sim.Artifact{})
		os.Remove(filepath.Join(l.artifacts, fmt.Sprintf("%s-1.%d.0.tar", workload, n-3)))
	}
	for _, workload := range workloads {
		version := fmt.Sprintf("%s-1.%d.0", workload, n)
		l.await(version+" is declared and asked for", func() bool {
			time.Sleep(looksApart)
			_, out, _ := shell(l.t, "sync", workload+"/dock", "--no-wait", "--data", l.folder)
			_, now, _ := shell(l.t, "status", "--data", l.folder)
			return strings.Contains(now, version) && out != ""
		})
	}
	for _, workload := range workloads {
		version := fmt.Sprintf("%s-1.%d.0", workload, n)
		applied := func() bool {
			time.Sleep(looksApart)
			_, out, _ := shell(l.t, "status", "--json", "--data", l.folder)
			var s struct {
				Berths []struct {
					Workload string
					Applied  *struct{ Version string }
					Rollout  *struct{ ID int64 }
				}
			}
			if json.Unmarshal([]byte(out), &s) != nil {
				return false
			}
			for _, b := range s.Berths {
				if b.Workload == workload {
					return b.Applied != nil && b.Applied.Version == version && b.Rollout == nil
				}
			}
			return false
		}
		l.await(version+" is proven", applied)
	}
}

// TestReleases releases again and again in all styles with one, two and five instances, under load, and loses no request.
func TestReleases(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes a minute")
	}
	t.Parallel()
	l, workloads, end := fleet(t, 1, 2, 5)
	releases := 0
	for n := 1; releases < often(t, "ADITUS_RELEASES", 36); n++ {
		l.round(workloads, n)
		if releases += len(workloads); l.lost.Load() > 0 || l.failed.Load() > 0 {
			t.Fatalf("after %d releases %d of %d requests were lost, %d answered badly", releases, l.lost.Load(), l.sent.Load(), l.failed.Load())
		}
	}
	end()
	t.Logf("%d releases, %d requests, none lost", releases, l.sent.Load())
}

// router is the process of the router; 0 where nobody answers.
func (l *dock) router() int {
	client := &http.Client{Transport: socket.Transport(filepath.Join(l.folder, traffic.SocketFile), 0), Timeout: time.Second}
	response, err := client.Get("http://router/router")
	if err != nil {
		return 0
	}
	defer response.Body.Close()
	var hello traffic.Hello
	json.NewDecoder(response.Body).Decode(&hello)
	return hello.PID
}

// TestKills kills the server, the keeper, the router and both of them while releases go on, most of them just as a fact comes out. Without
// server or keeper nothing is lost; with the router goes what it has under way. All facts that were told stay, and each release comes to its end.
func TestKills(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes a minute")
	}
	t.Parallel()
	l, workloads, end := fleet(t, 1, 2)
	book, err := ledger.OpenToRead(l.folder)
	if err != nil {
		t.Fatal(err)
	}
	defer book.Close()
	newest := func() int64 {
		facts, err := book.Facts(ledger.Query{Newest: 1})
		if err != nil || len(facts) == 0 {
			return 0
		}
		return facts[0].Seq
	}
	kills := often(t, "ADITUS_KILLS", 8)
	var round atomic.Int64
	released := make(chan struct{})
	killed := make(chan struct{})
	go func() {
		defer close(released)
		for n := 1; ; n++ {
			l.round(workloads, n)
			round.Add(1)
			select {
			case <-killed:
				return
			default:
			}
		}
	}()
	var most int64 // that may be lost
	done := map[string]int{}
	for i := range kills {
		before := newest()
		for end := time.Now().Add(time.Duration(rand.IntN(4000)) * time.Millisecond); newest() == before && time.Now().Before(end); time.Sleep(time.Millisecond) {
		}
		what := []string{"server", "keeper", "router", "both"}[i%4]
		done[what]++
		told, sent := newest(), l.sent.Load()
		if what == "both" {
			l.expectLoss.Store(true)
		}
		switch router := l.router(); what {
		case "server":
			l.stop(syscall.SIGKILL)
			l.serve()
		case "keeper":
			syscall.Kill(l.keeper(), syscall.SIGKILL)
		case "both":
			syscall.Kill(router, syscall.SIGKILL)
			syscall.Kill(l.keeper(), syscall.SIGKILL)
		case "router":
			most += soakCallers
			syscall.Kill(router, syscall.SIGKILL)
		}
		l.await("traffic goes on", func() bool {
			response, err := http.Get("http://" + l.listen)
			if err == nil {
				response.Body.Close()
			}
			return err == nil && l.sent.Load() > sent+100
		})
		l.await("a keeper answers", func() bool {
			client := &http.Client{Transport: socket.Transport(filepath.Join(l.folder, "keeper.sock"), 0), Timeout: time.Second}
			response, err := client.Get("http://keeper/keeper")
			if err == nil {
				response.Body.Close()
			}
			return err == nil
		})
		l.expectLoss.Store(false)
		if now := newest(); now < told {
			t.Fatalf("after kill %d of the %s there are %d facts of %d", i, what, now, told)
		}
		if lost := l.lost.Load(); lost > most {
			t.Fatalf("after kill %d, of the %s, %d requests were lost, and %d may be", i, what, lost, most)
		}
	}
	close(killed)
	<-released
	end()
	if lost := l.lost.Load(); lost > most {
		t.Errorf("%d requests were lost, and %d may be", lost, most)
	}
	if _, out, _ := shell(t, "status", "--data", l.folder); strings.Contains(out, "damaged") || strings.Contains(out, "unproven here") || !strings.Contains(out, " 0 need you") {
		t.Errorf("it came to this:\n%s", out)
	}
	t.Logf("%d kills (%v) over %d releases, %d requests, %d lost", kills, done, round.Load()*int64(len(workloads)), l.sent.Load(), l.lost.Load())
}
