package engine

import (
	"context"
	"fmt"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"testing"
	"time"

	"aditus/internal/clock"
	"aditus/internal/config"
	"aditus/internal/core/compare"
	"aditus/internal/core/declare"
	"aditus/internal/core/plan"
	"aditus/internal/ledger"
	"aditus/internal/source"
	"aditus/internal/target"
	"aditus/internal/target/sim"
)

// live is an engine in real time on one stand-in site.
func live(b *testing.B, settings config.Settings) (*Engine, *sim.Site) {
	b.Helper()
	site, err := sim.Open("north", "", sim.Plain(), time.Now)
	if err != nil {
		b.Fatal(err)
	}
	book, err := ledger.Open(b.TempDir(), nil)
	if err != nil {
		b.Fatal(err)
	}
	e, err := New(settings, book, map[string]target.Driver{"north": site}, clock.New(time.Now(), 1), Access{Cache: b.TempDir()})
	if err != nil {
		b.Fatal(err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- e.Run(ctx) }()
	b.Cleanup(func() {
		cancel()
		<-ended
		book.Close()
		site.Close()
	})
	return e, site
}

func gitRun(b *testing.B, folder string, args ...string) {
	b.Helper()
	cmd := exec.Command("git", append([]string{"-c", "user.name=Tove Lind", "-c", "user.email=tove@skerry.example"}, args...)...)
	cmd.Dir = folder
	if out, err := cmd.CombinedOutput(); err != nil {
		b.Fatalf("git %v: %v: %s", args, err, out)
	}
}

// BenchmarkPushToSite is the time from the word that something was pushed to the first change at the site.
func BenchmarkPushToSite(b *testing.B) {
	repo := b.TempDir()
	gitRun(b, repo, "init", "-q", "-b", "main")
	commit := func(version int) {
		text := fmt.Sprintf("aditus: 1\nworkload: web\nsites: [north]\nparts: {app: {kind: service, artifact: \"r.example/web:%d\"}}\nrollout: {stages: [{share: 100 %%}], proving: 0s, interval: 1s}\n", version)
		write(b, filepath.Join(repo, "web.yaml"), text)
		gitRun(b, repo, "add", "-A")
		gitRun(b, repo, "commit", "-q", "-m", "Version")
	}
	commit(0)
	e, site := live(b, config.Settings{
		Beat: time.Second, Registries: map[string]config.Registry{"*": {Skip: true}}, Sites: []config.Site{{Name: "north", Automatic: true}},
		Links: []config.Link{{Name: "repo", Repository: repo, Branch: "main", Every: time.Hour}},
	})
	cohorts := func(version int) bool {
		seen, err := site.Observe(b.Context(), "web")
		if err != nil {
			b.Fatal(err)
		}
		for _, c := range seen.Cohorts {
			if app, _ := c.Live["app"].(map[string]any); app != nil && strings.HasSuffix(fmt.Sprint(app["artifact"]), fmt.Sprint(":", version)) {
				return true
			}
		}
		return false
	}
	settled := func() bool {
		s := e.Snapshot()
		return len(s.Berths) == 1 && s.Berths[0].Rollout == nil && s.Berths[0].SyncStatus == compare.Aligned
	}
	wait := func(what func() bool) {
		for end := time.Now().Add(time.Minute); !what(); time.Sleep(time.Millisecond) {
			if time.Now().After(end) {
				b.Fatal("it never comes")
			}
		}
	}
	wait(settled)
	version := 0
	for b.Loop() {
		b.StopTimer()
		wait(settled)
		version++
		commit(version)
		b.StartTimer()
		e.Pushed("repo", "main", []string{"web.yaml"})
		wait(func() bool { return cohorts(version) })
	}
}

// BenchmarkLinks is the processor time that 500 links take which are polled once a minute, as a share of one core.
func BenchmarkLinks(b *testing.B) {
	repo := b.TempDir()
	gitRun(b, repo, "init", "-q", "-b", "main")
	s := config.Settings{Beat: time.Hour, Registries: map[string]config.Registry{"*": {Skip: true}}, Sites: []config.Site{{Name: "north"}}} // the berths stand still
	for i := range 500 {
		write(b, filepath.Join(repo, fmt.Sprint("f", i), "web.yaml"), fmt.Sprintf("aditus: 1\nworkload: w%d\nsites: [north]\nparts: {app: {kind: settings, values: {a: b}}}\n", i))
		s.Links = append(s.Links, config.Link{Name: fmt.Sprint("l", i), Repository: repo, Branch: "main", Folder: fmt.Sprint("f", i), Every: time.Minute, May: &config.May{Everything: true}})
	}
	gitRun(b, repo, "add", "-A")
	gitRun(b, repo, "commit", "-q", "-m", "First")
	e, _ := live(b, s)
	for e.Snapshot().Links[499].Looked.IsZero() {
		time.Sleep(10 * time.Millisecond)
	}
	const polls = 20 // of all links, as many as in so many minutes
	before := processorTime(b)
	for range polls {
		for _, l := range e.links {
			if err := l.take(context.Background(), false); err != nil {
				b.Fatal(err)
			}
		}
	}
	used := processorTime(b) - before
	for b.Loop() {
		runtime.Gosched() // all was measured already
	}
	b.ReportMetric(used.Seconds()/(polls*60)*100, "%-of-a-core")
}

func processorTime(b *testing.B) time.Duration {
	var u syscall.Rusage
	if err := syscall.Getrusage(syscall.RUSAGE_SELF, &u); err != nil {
		b.Fatal(err)
	}
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

// BenchmarkMemory is what 10 000 parts need at most: read, compared with what is live, and planned.
func BenchmarkMemory(b *testing.B) {
	var text strings.Builder
	text.WriteString("aditus: 1\nworkload: web\nsites: [north]\nparts:\n")
	for i := range 10_000 {
		fmt.Fprintf(&text, "  part-%d:\n    kind: service\n    artifact: r.example/a/b:1.0.%d\n    instances: 3\n    environment: {LINE: skerry, LEVEL: info}\n    ports: {http: 8080}\n", i, i)
	}
	files := []source.File{{Name: "web.yaml", Text: []byte(text.String())}, {Name: "web/north.yaml", Text: []byte("parts: {part-1: {instances: 5}}\n")}}
	runtime.GC()
	var most uint64
	stop, done := make(chan struct{}), make(chan struct{})
	go func() { // the heap at its fullest, garbage and all
		defer close(done)
		ticker := time.NewTicker(2 * time.Millisecond)
		defer ticker.Stop()
		for {
			select {
			case <-stop:
				return
			case <-ticker.C:
			}
			var m runtime.MemStats
			runtime.ReadMemStats(&m)
			most = max(most, m.HeapInuse)
		}
	}()
	for b.Loop() {
		loaded, problems := source.Load(context.Background(), files, source.Options{})
		if len(problems) > 0 {
			b.Fatal(problems)
		}
		d := loaded.Declarations[0].Desired
		applied := d
		applied.Parts = map[string]declare.Part{}
		for name, part := range d.Parts {
			part.Instances++
			applied.Parts[name] = part
		}
		differences := compare.Three(&applied, &d, compare.LiveOf(&applied))
		if p := plan.New(&d, differences); p.Steps() != 10_000 {
			b.Fatal(p.Steps())
		}
	}
	close(stop)
	<-done
	b.ReportMetric(float64(most)/(1<<20), "MB-at-most")
}

// follows is a stand-in site that would tell of changes by itself.
type follows struct{ *sim.Site }

func (follows) Follow(ctx context.Context, _ func(target.Berth)) { <-ctx.Done() }

// BenchmarkCalm is the processor time that 2,000 calm berths take, as a share of one core: without rules, and with windows, freezes,
// schedules and an end of life for each, of which nothing is due. Time is made up, so that it goes by as fast as the machine lets it.
func BenchmarkCalm(b *testing.B) {
	const berths, minutes = 2000, 10
	for _, ruled := range []bool{false, true} {
		b.Run(map[bool]string{false: "bare", true: "ruled"}[ruled], func(b *testing.B) {
			repo := b.TempDir()
			gitRun(b, repo, "init", "-q", "-b", "main")
			for i := range berths {
				write(b, filepath.Join(repo, fmt.Sprintf("w%d.yaml", i)), fmt.Sprintf("aditus: 1\nworkload: w%d\nsites: [north]\nparts: {app: {kind: service, artifact: \"r.example/w:1\", instances: 2}}\nrollout: {stages: [{share: 100 %%}], proving: 0s, interval: 1s}\n", i))
			}
			settings := config.Settings{
				Beat: time.Second, Registries: map[string]config.Registry{"*": {Skip: true}}, Sites: []config.Site{{Name: "north", Automatic: true}},
				Links: []config.Link{{Name: "repo", Repository: repo, Branch: "main", Every: time.Hour}},
			}
			if ruled {
				text := "aditus: 1\ncourses: {line: {on: true, steps: [{sites: [north]}]}}\nwindows: [{name: always, from: 2020-01-01, until: 2040-01-01}]\nfreezes: [{name: festival, from: 2026-12-01, until: 2026-12-03}]\nends: [{name: some day, workloads: [w*], at: 2039-01-01}]\nschedules:\n"
				for i := range 20 {
					text += fmt.Sprintf("  - {name: s%d, do: restart, workloads: [w*%d], cron: \"0 3 1 1 *\"}\n", i, i%10)
				}
				write(b, filepath.Join(repo, declare.LineFile), text)
				settings.Policy, settings.Sites[0].Automatic = "repo", false
			}
			gitRun(b, repo, "add", "-A")
			gitRun(b, repo, "commit", "-q", "-m", "First")
			ticking := clock.NewLockstep(start)
			ticking.Join()
			site, err := sim.Open("north", "", sim.Plain(), ticking.Now)
			if err != nil {
				b.Fatal(err)
			}
			book, err := ledger.Open(b.TempDir(), nil)
			if err != nil {
				b.Fatal(err)
			}
			e, err := New(settings, book, map[string]target.Driver{"north": follows{site}}, ticking, Access{Cache: b.TempDir()})
			if err != nil {
				b.Fatal(err)
			}
			ctx, cancel := context.WithCancel(context.Background())
			ended := make(chan error, 1)
			go func() { ended <- e.Run(ctx) }()
			wait := func(d time.Duration) {
				if err := ticking.Wait(ctx, ticking.Now().Add(d), nil); err != nil {
					b.Fatal(err)
				}
			}
			calm := func() (n int) {
				for _, s := range e.Snapshot().Berths {
					if s.Rollout == nil && s.SyncStatus == compare.Aligned {
						n++
					}
				}
				return n
			}
			for calm() < berths {
				if wait(10 * time.Second); ticking.Now().Sub(start) > time.Hour {
					b.Fatalf("only %d are calm", calm())
				}
			}
			wait(time.Minute)
			before := processorTime(b)
			wait(minutes * time.Minute)
			used := processorTime(b) - before
			for b.Loop() {
				runtime.Gosched() // all was measured already
			}
			b.ReportMetric(used.Seconds()/(minutes*60)*100, "%-of-a-core")
			cancel()
			<-ended
			book.Close()
			site.Close()
		})
	}
}
