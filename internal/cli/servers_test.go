package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"aditus/internal/ledger"
	"aditus/internal/ledger/postgrestest"
	"aditus/internal/status"
)

const sharedWorkload = `aditus: 1
workload: fares
sites: [north]
parts:
  web: {kind: service, artifact: r.example/fares:%s, instances: 2}
rollout: {interval: 1s, stages: [{share: 20 %%, soak: 3s}, {share: 100 %%}], proving: 1s, cool-down: 1s}
`

// servers are two that share a ledger, a repository, and what their sites stand on.
type servers struct {
	t       *testing.T
	home    string
	running map[string]*exec.Cmd
}

func (s *servers) folder(name string) string { return filepath.Join(s.home, name) }

func (s *servers) must(err error) {
	s.t.Helper()
	if err != nil {
		s.t.Fatal(err)
	}
}

// serve starts a server, and waits until it tells who leads.
func (s *servers) serve(name string) {
	s.t.Helper()
	log, err := os.OpenFile(s.folder(name+".log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	s.must(err)
	defer log.Close()
	cmd := exec.Command(program, "serve", "--data", s.folder(name), "--name", name, "--url", "https://"+name+".example")
	cmd.Stderr = log
	s.must(cmd.Start())
	s.running[name] = cmd
	s.t.Cleanup(func() {
		cmd.Process.Signal(syscall.SIGKILL)
		cmd.Wait()
		if s.t.Failed() {
			text, _ := os.ReadFile(log.Name())
			s.t.Logf("%s:\n%s", name, text)
		}
	})
	s.await(name+" tells who leads", func() bool { return s.look(name).Leader != nil })
}

// look is what a server tells.
func (s *servers) look(name string) (told status.Snapshot) {
	s.t.Helper()
	_, out, _ := shell(s.t, "status", "--json", "--data", s.folder(name))
	json.Unmarshal([]byte(out), &told) // nothing is told by one that does not answer yet
	return told
}

func (s *servers) leads(name string) bool {
	leader := s.look(name).Leader
	return leader != nil && leader.Here
}

func (s *servers) await(what string, holds func() bool) {
	s.t.Helper()
	for end := time.Now().Add(time.Minute); time.Now().Before(end); time.Sleep(looksApart / 4) {
		if holds() {
			return
		}
	}
	s.t.Fatalf("never: %s", what)
}

// release commits a version.
func (s *servers) release(version string) {
	s.t.Helper()
	repo := s.folder("repo")
	s.must(os.MkdirAll(filepath.Join(repo, "deploy"), 0o700))
	s.must(os.WriteFile(filepath.Join(repo, "deploy", "fares.yaml"), fmt.Appendf(nil, sharedWorkload, version), 0o600))
	for _, args := range [][]string{{"init", "-q", "-b", "main"}, {"add", "."}, {"-c", "user.name=Tove Lind", "-c", "user.email=tove@skerry.example", "commit", "-qm", "Fares " + version}} {
		cmd := exec.Command("git", args...)
		cmd.Dir = repo
		if out, err := cmd.CombinedOutput(); err != nil {
			s.t.Fatalf("git %v: %v\n%s", args, err, out)
		}
	}
}

// TestServers has two servers share a ledger: the one that does not lead tells what is on record, has the same settings, and refuses
// orders; it leads within ten seconds once the other one was killed or stopped, and whoever led goes on as the second. Nothing is lost,
// and nothing is done twice, also where the database itself ends in between.
func TestServers(t *testing.T) {
	database := postgrestest.Start(t)
	s := &servers{t: t, home: t.TempDir(), running: map[string]*exec.Cmd{}}
	address := database.Database(t)
	s.release("1.0.0")
	one, two := "harbor-1", "harbor-2"
	if code, out, err := shell(t, "link", "add", "line", s.folder("repo"), "--folder", "deploy", "--every", "1s", "--target", "stand-in", "--data", s.folder(one)); code != exitOK {
		t.Fatal(out, err)
	}
	settings := filepath.Join(s.folder(one), "settings.yaml")
	text, err := os.ReadFile(settings)
	s.must(err)
	shared := fmt.Sprintf("ledger: %s\n", address)
	text = []byte(strings.Replace(string(text), "automatic: false", "automatic: true", 1) + shared + "registries: {'*': {skip: true}}\n")
	s.must(errors.Join(os.WriteFile(settings, text, 0o600), os.MkdirAll(s.folder(two), 0o700), os.WriteFile(filepath.Join(s.folder(two), "settings.yaml"), []byte(shared), 0o600),
		os.Symlink(filepath.Join(s.folder(one), "sites"), filepath.Join(s.folder(two), "sites"))))
	s.serve(one)
	if out, err := exec.Command(program, "serve", "--data", s.folder(two), "--name", two).CombinedOutput(); err == nil || !strings.Contains(string(out), "copy key.txt") {
		t.Errorf("a server with a key of its own: %v, %s", err, out)
	}
	key, err := os.ReadFile(filepath.Join(s.folder(one), "key.txt"))
	s.must(errors.Join(err, os.WriteFile(filepath.Join(s.folder(two), "key.txt"), key, 0o600)))
	s.serve(two)

	if l := s.look(two).Leader; l.Here || l.Name != one || l.Address != "https://harbor-1.example" {
		t.Errorf("the second tells %+v", l)
	}
	if _, out, errs := shell(t, "sync", "fares/north", "--data", s.folder(two)); !strings.Contains(out+errs, "harbor-1 leads: ask there, with --server https://harbor-1.example") {
		t.Errorf("an order there: %s%s", out, errs)
	}
	if _, out, errs := shell(t, "token", "add", "pipeline", "--data", s.folder(two)); !strings.Contains(out+errs, "harbor-1 does: change them there") {
		t.Errorf("a token there: %s%s", out, errs)
	}
	if code, out, errs := shell(t, "token", "add", "pipeline", "--data", s.folder(one)); code != exitOK {
		t.Error(out, errs)
	}
	for _, file := range []string{"settings.yaml", "tokens.json"} {
		s.await(file+" is the same at both", func() bool {
			a, err := os.ReadFile(filepath.Join(s.folder(one), file))
			b, err2 := os.ReadFile(filepath.Join(s.folder(two), file))
			return errors.Join(err, err2) == nil && string(a) == string(b)
		})
	}
	s.await("the second tells of 1.0.0", func() bool {
		b := s.look(two).Berths
		return len(b) == 1 && b[0].Applied != nil && b[0].Applied.Version == "1.0.0"
	})

	var before []ledger.Fact
	version := ""
	ways := []string{"killed", "stopped", "without a database"}
	for n := range often(t, "ADITUS_TAKEOVERS", len(ways)) {
		how := ways[n%len(ways)]
		version = fmt.Sprintf("1.%d.0", n+1)
		s.release(version)
		s.await(version+" comes in", func() bool {
			b := s.look(one).Berths
			return len(b) == 1 && b[0].Rollout != nil && b[0].Declared != nil && b[0].Declared.Version == version
		})
		process := s.running[one].Process
		began := time.Now()
		switch how {
		case "killed":
			process.Signal(syscall.SIGKILL)
			s.running[one].Wait()
		case "stopped":
			process.Signal(syscall.SIGSTOP)
		default:
			database.Kill()
			s.must(database.Up())
			began = time.Now()
			s.await("one of them leads again", func() bool { return s.leads(one) || s.leads(two) })
			if s.leads(one) {
				one, two = two, one
			}
		}
		s.await("the other one leads", func() bool { return s.leads(two) })
		if took := time.Since(began); took > 10*time.Second {
			t.Errorf("%s: the other one leads after %s", how, took)
		} else {
			t.Logf("%s: the other one leads after %s", how, took)
		}
		switch how {
		case "killed":
			s.serve(one)
		case "stopped":
			process.Signal(syscall.SIGCONT)
		}
		s.await("the first stands by", func() bool { l := s.look(one).Leader; return l != nil && !l.Here && l.Name == two })
		one, two = two, one
		s.await(version+" is live", func() bool {
			b := s.look(one).Berths
			return len(b) == 1 && b[0].Rollout == nil && b[0].Applied != nil && b[0].Applied.Version == version
		})
		_, out, _ := shell(t, "ledger", "--json", "--newest", "0", "--data", s.folder(two))
		var facts []ledger.Fact
		for line := range strings.Lines(out) {
			f, err := ledger.DecodeFact([]byte(line))
			s.must(err)
			facts = append(facts, f)
		}
		if len(facts) <= len(before) {
			t.Fatalf("%s: there are %d facts, and were %d: %s", how, len(facts), len(before), out)
		}
		counted := map[string]int{}
		for i, f := range facts {
			if f.Seq != int64(i+1) || i < len(before) && f.Text != before[i].Text {
				t.Fatalf("%s: fact %d is %+v", how, i+1, f)
			}
			if f.Kind == "taken" || f.Kind == "proven" {
				counted[fmt.Sprint(f.Kind, " ", f.Revision)]++
			}
		}
		for what, times := range counted {
			if times > 1 {
				t.Errorf("%s: %d times %s", how, times, what)
			}
		}
		before = facts
	}
}
