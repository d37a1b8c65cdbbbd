package cli

import (
	"encoding/json"
	"io"
	"log"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/google/go-containerregistry/pkg/registry"

	"aditus/internal/config"
	"aditus/internal/source"
	"aditus/internal/view"
)

const harbour = `aditus: 1
workload: harbour
sites: [trial, live]
parts:
  web:
    kind: service
    artifact: registry.harbour.example/web:1.0.0
    instances: 2
    environment: {LEVEL: "${level:-info}"}
    ports: {http: 8080}
    probes: {ready: {http: {port: http, path: /healthz}, every: 1s}}
rollout: {stages: [{share: 50 %}, {share: 100 %}], proving: 0s, interval: 1s}
`

// line is a person's own repository and data folder.
type line struct {
	t          *testing.T
	repo, data string
}

func newLine(t *testing.T) *line {
	l := &line{t, t.TempDir(), t.TempDir()}
	for _, name := range []string{"ADITUS_USER", "ADITUS_PASSWORD", "ADITUS_SSH_KEY"} {
		t.Setenv(name, "")
	}
	l.git("init", "-q", "-b", "main")
	return l
}

func (l *line) git(args ...string) {
	l.t.Helper()
	cmd := exec.Command("git", append([]string{"-c", "user.name=Tove Lind", "-c", "user.email=tove@skerry.example"}, args...)...)
	cmd.Dir = l.repo
	if out, err := cmd.CombinedOutput(); err != nil {
		l.t.Fatalf("git %v: %v: %s", args, err, out)
	}
}

func (l *line) commit(subject, name, text string) {
	l.t.Helper()
	file := filepath.Join(l.repo, name)
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		l.t.Fatal(err)
	}
	if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
		l.t.Fatal(err)
	}
	l.git("add", "-A")
	l.git("commit", "-q", "-m", subject)
}

// aditus runs a command on the line's data folder, and wants an exit code and words.
func (l *line) aditus(code int, want string, args ...string) string {
	l.t.Helper()
	got, out, errs := shell(l.t, append(args, "--data", l.data)...)
	if text := out + errs; got != code || !regexp.MustCompile(`(?s)`+want).MatchString(text) {
		l.t.Fatalf("aditus %s: code %d, want %d and %s\n%s", strings.Join(args, " "), got, code, want, text)
	}
	return out
}

// TestOwnLine goes the way of a person with a repository of their own: connect, see, sync, break by hand, see that,
// put it back, and bring the next version; all from the shell.
func TestOwnLine(t *testing.T) {
	l := newLine(t)
	l.commit("First", "deploy/harbour.yaml", harbour)
	if code, out, errs := shell(t, "link", "find", l.repo); code != exitOK || !strings.Contains(out, "deploy\n     harbour  trial live") {
		t.Errorf("find: code %d\n%s%s", code, out, errs)
	}
	l.aditus(exitOK, `main is at \w{7}, “First” by Tove Lind.*harbour +trial live.*taking revisions by hand: trial .a stand-in that runs nothing; see --target. and live .a stand-in.*registry.harbour.example cannot be asked.*Nothing of it is taken`, "link", "add", "own", l.repo)
	l.aditus(exitWrong, `there is a link own already`, "link", "add", "own", l.repo)
	l.aditus(exitOK, ``, "link", "remove", "own")
	l.aditus(exitOK, `Open it with: aditus`, "link", "add", "own", l.repo, "--every", "2s", "--skip-registry", "registry.harbour.example")
	l.aditus(exitOK, `own: answers in .*, main is at \w{7}, 1 file`, "link", "test")
	l.aditus(exitOK, `own: folder deploy of main in `, "link", "list")
	l.aditus(exitOK, `harbour/trial: stage 1 of 1, .*aligned and healthy`, "sync", "harbour/trial")
	l.aditus(exitOK, `aligned, nothing to do`, "sync", "harbour/trial")
	l.aditus(exitOK, `Nothing: applied, declared and live agree`, "compare", "harbour/trial", "--exit-code")

	l.aditus(exitOK, ``, "stand-in", "harbour/trial/web", "instances=4")
	l.aditus(exitWrong, `size`, "stand-in", "harbour/trial/web", "size=4")
	l.aditus(exitWrong, `drift +/parts/web/instances.*the site is told as it is, Git as it was read last`, "compare", "harbour/trial", "--exit-code") // before anything else looked
	l.aditus(exitOK, `overwrites: Web instances was set to 4 by hand and becomes 2`, "sync", "harbour/trial", "--dry-run")
	l.aditus(exitWrong, `drift +/parts/web/instances.*applied +2.*live +4`, "compare", "harbour/trial", "--exit-code")
	var c view.Comparison
	if err := json.Unmarshal([]byte(l.aditus(exitOK, ``, "compare", "harbour/trial", "--json")), &c); err != nil || len(c.Fields) != 1 || c.Fields[0].Kind != "drift" || c.SyncStatus != "drifted" {
		t.Errorf("as JSON: %+v (%v)", c, err)
	}
	l.aditus(exitOK, `"op": "replace",\s+"path": "/parts/web/instances",\s+"value": 2`, "compare", "harbour/trial", "--patch")
	l.aditus(exitOK, `drifted since .*aligned and healthy`, "sync", "harbour/trial")

	l.commit("Second", "deploy/harbour.yaml", strings.Replace(harbour, "1.0.0", "1.1.0", 1))
	l.git("branch", "feature")
	l.git("reset", "-q", "--hard", "HEAD~1")
	l.aditus(exitOK, `behind.*pending +/parts/web/artifact.*declared +registry.harbour.example/web:1.1.0`, "compare", "harbour/trial", "--with", "feature")
	l.aditus(exitWrong, "What `feature` would do.*2 of 2 berths change.*trial, live \\| 1\\.0\\.0 → 1\\.1\\.0 \\| change web", "compare", "--all", "--with", "feature", "--markdown", "--exit-code")
	l.aditus(exitOK, `Kept as fact \d+`, "compare", "--all", "--with", "feature", "--keep")
	l.aditus(exitWrong, `fact 1 keeps no review`, "compare", "--kept", "1")
	l.aditus(exitUsage, `write --all --with REF`, "compare", "--all")
	l.aditus(exitWrong, `has no branch "nowhere"`, "compare", "harbour/trial", "--with", "nowhere")
	l.git("reset", "-q", "--hard", "feature")
	l.aditus(exitOK, `stage 3 of 3.*aligned and healthy`, "sync", "harbour/trial")
	l.aditus(exitOK, `from 1.0.0 .* to 1.1.0 .*pending +/parts/web/artifact`, "compare", "harbour/trial", "--from", "1.0.0", "--to", "1.1.0")
	l.aditus(exitOK, `from trial to live`, "compare", "harbour/trial", "--site", "live")
	l.aditus(exitOK, `"artifact":"registry.harbour.example/web:1.1.0"`, "render", "harbour/live")
	l.aditus(exitOK, `harbour/trial +1.1.0 +aligned.*harbour/live +none +absent`, "status")
	svg := filepath.Join(l.data, "anatomy.svg")
	l.aditus(exitOK, ``, "draw", "anatomy", "harbour/trial", "-o", svg)
	if text, err := os.ReadFile(svg); err != nil || !strings.Contains(string(text), "web") {
		t.Errorf("the drawing: %v", err)
	}

	l.commit("Break it", "deploy/harbour.yaml", strings.Replace(harbour, "kind: service", "kind: servce", 1))
	l.aditus(exitWrong, `there is no kind of part "servce"; did you mean "service"`, "check", filepath.Join(l.repo, "deploy"))
	l.aditus(exitUsage, `name none beside it`, "sync", "harbour/live", "--all")
	l.aditus(exitWrong, `no berth is meant by that.*no site is of the team islanders`, "sync", "--team", "islanders")
	l.aditus(exitOK, `^harbour/live: .*aligned and healthy.*Of 2 berths 1 synced and 1 as declared already`, "sync", "har*/*", "--workload", "harbour") // what was declared before stays declared
	l.aditus(exitOK, `harbour/live +1.1.0 +aligned`, "status")
}

// TestSecretsAndHooks makes a key, seals a value, and gives a link a webhook's secret; none of it is told again.
func TestSecretsAndHooks(t *testing.T) {
	l := newLine(t)
	l.commit("First", "deploy/harbour.yaml", harbour)
	t.Setenv("ADITUS_PASSWORD", "hunter2")
	t.Setenv("ADITUS_USER", "tove")
	l.aditus(exitOK, ``, "link", "add", "own", l.repo, "--skip-registry", "registry.harbour.example")
	if key := l.aditus(exitOK, `^age1`, "secret", "key"); len(key) < 50 {
		t.Errorf("the public key is %q", key)
	}
	first := l.aditus(exitOK, `No webhook comes in yet`, "link", "webhook", "own")
	if second := l.aditus(exitOK, ``, "link", "webhook", "own"); first == second || len(strings.TrimSpace(second)) < 20 {
		t.Errorf("the secret was %q and is %q", first, second)
	}
	l.aditus(exitWrong, `there is no link "other"`, "link", "webhook", "other")
	l.aditus(exitOK, ``, "link", "credential", "registry.harbour.example")
	opener, err := source.OpenKey(l.data)
	if err != nil {
		t.Fatal(err)
	}
	kept, err := opener.Credentials(l.data)
	if err != nil || kept["own"].Password != "hunter2" || kept["registry.harbour.example"].User != "tove" || kept[hookName("own")].Password == "" {
		t.Errorf("%d are kept (%v)", len(kept), err)
	}
	l.aditus(exitOK, ``, "link", "remove", "own")
	if kept, _ := opener.Credentials(l.data); len(kept) != 1 {
		t.Errorf("after the link is gone %d are kept", len(kept))
	}
	filepath.WalkDir(l.data, func(name string, entry os.DirEntry, err error) error {
		if err == nil && !entry.IsDir() {
			if text, _ := os.ReadFile(name); strings.Contains(string(text), "hunter2") {
				t.Errorf("%s holds the password", name)
			}
		}
		return err
	})
}

// TestBundles pushes, lists and shows a bundle, and links to it by a range.
func TestBundles(t *testing.T) {
	server := httptest.NewServer(registry.New(registry.Logger(log.New(io.Discard, "", 0))))
	defer server.Close()
	l := newLine(t)
	l.commit("First", "deploy/harbour.yaml", harbour)
	place := "oci://" + strings.TrimPrefix(server.URL, "http://") + "/line/harbour"
	for _, version := range []string{"1.4.0", "1.5.0"} {
		l.aditus(exitOK, place+`:`+version+` is sha256:`, "bundle", "push", filepath.Join(l.repo, "deploy"), place+":"+version, "--plain", "--title", "Gates by day")
	}
	l.aditus(exitOK, `1.5.0  what \^1.4 takes\n1.4.0`, "bundle", "list", place, "--plain", "--version", "^1.4")
	l.aditus(exitOK, `“Gates by day”.*harbour/live  1.0.0.*level +info at trial`, "bundle", "show", place+":1.4.0", "--plain")
	l.aditus(exitOK, `"title": "Gates by day".*"berth": "harbour/live"`, "bundle", "show", place+":1.4.0", "--plain", "--json")
	l.aditus(exitOK, `"taken":"1.5.0","versions":\["1.5.0","1.4.0"\]`, "bundle", "list", place, "--plain", "--version", "^1.4", "--json")
	l.aditus(exitOK, `workload: harbour`, "bundle", "show", place+":1.4.0", "--plain", "--print", "harbour.yaml")
	l.aditus(exitWrong, `there is no artifact`, "bundle", "show", place+":9.9.9", "--plain")
	l.aditus(exitOK, `version \^1.4 is at`, "link", "add", "base", place, "--version", "^1.4", "--plain", "--set", "level=trace", "--skip-registry", "registry.harbour.example")
	l.aditus(exitOK, `aligned and healthy`, "sync", "harbour/trial")
	l.aditus(exitOK, `"LEVEL":"trace"`, "render", "harbour/trial")
	settings, err := readSettings(l.data)
	if err != nil || settings.Links[0].Version != "^1.4" || settings.Links[0].Variables["level"] != "trace" {
		t.Errorf("%+v (%v)", settings, err)
	}
	text, err := os.ReadFile(filepath.Join(l.data, config.FileName))
	if err != nil {
		t.Fatal(err)
	}
	validateSettings(t, text)
}

// TestEndWithoutServer extends a life and tells it in the calendar while no server runs.
func TestEndWithoutServer(t *testing.T) {
	l := newLine(t)
	l.commit("First", "deploy/harbour.yaml", strings.Replace(harbour, "sites: [trial, live]", "sites: [trial]", 1))
	l.commit("Rules", "deploy/line.yaml", "aditus: 1\ncourses: {line: {on: true, steps: [{sites: [trial]}]}}\nends: [{name: the regatta, workloads: [harbour], sites: [trial], after: 200h, notice: 1h}]\n")
	l.aditus(exitOK, ``, "link", "add", "own", l.repo, "--every", "2s", "--skip-registry", "registry.harbour.example")
	file := filepath.Join(l.data, config.FileName)
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	text = []byte("policy: own\n" + strings.ReplaceAll(string(text), "    automatic: false\n", ""))
	if err := os.WriteFile(file, text, 0o600); err != nil {
		t.Fatal(err)
	}
	l.aditus(exitOK, `aligned and healthy`, "sync", "harbour/trial")
	until := time.Now().AddDate(0, 0, 20).Format(time.DateOnly)
	l.aditus(exitWrong, `without a reason`, "extend", "harbour/trial", "--until", until)
	l.aditus(exitOK, `lives longer`, "extend", "harbour/trial", "--until", until, "-m", "it goes on")
	l.aditus(exitOK, `end +trial +harbour at trial is torn down: its life ends .the regatta`, "calendar", "--from", until, "--weeks", "1")
	l.aditus(exitOK, `SUMMARY:end: harbour · trial`, "calendar", "--from", until, "--weeks", "1", "--ics")
	l.aditus(exitUsage, `ends after it begins`, "calendar", "--from", until, "--until", until)
}
