package cli

import (
	"bytes"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"aditus/internal/core/berth"
	"aditus/internal/status"
)

// shell runs a command line and gives what it printed.
func shell(t *testing.T, args ...string) (code int, out, errs string) {
	t.Helper()
	var o, e bytes.Buffer
	code = run(t.Context(), args, &o, &e)
	return code, o.String(), e.String()
}

func write(t *testing.T, text string) string {
	t.Helper()
	name := filepath.Join(t.TempDir(), "web.yaml")
	if err := os.WriteFile(name, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	return name
}

func TestCommands(t *testing.T) {
	good := write(t, "aditus: 1\nworkload: web\nsites: [north]\nparts: {app: {kind: service, artifact: r.example/web:2.1.0}}\n")
	bad := write(t, "aditus: 1\nworkload: web\nsite: [north]\nparts: {app: {kind: service, artifact: r.example/web}}\n")
	empty := t.TempDir()
	tests := []struct {
		args string
		code int
		out  string
		errs string
	}{
		{"", exitOK, "Connect a repository first", ""}, {"--help", exitOK, "Usage:", ""}, {"demo --help", exitOK, "--headless", ""}, {"draw watch --help", exitOK, "WORKLOAD/SITE", ""},
		{"version", exitOK, "reads declarations of format 1", ""}, {"schema", exitOK, `"$schema": "https://json-schema.org/draft/2020-12/schema"`, ""},
		{"schema fact", exitOK, `"title": "Aditus fact"`, ""}, {"schema settings", exitOK, `"title": "Aditus settings"`, ""}, {"schema poem", exitUsage, "", "there are alert, declaration, fact, line, played,"},
		{"check --offline " + good, exitOK, "web/north  2.1.0", ""}, {"check --offline " + bad, exitWrong, `web.yaml:3:1: a declaration has no key "site"; did you mean "sites"?`, "3 problems in 1 file"},
		{"check", exitUsage, "", "takes one path"}, {"check " + empty, exitWrong, "", "no declarations"}, {"check --offline ../demo/declarations", exitOK, "boarding/isles  4.12.2", ""},
		{"check --offline --json " + bad, exitWrong, `"suggestion": "did you mean \"sites\"?"`, ""}, {"check --offline --sarif " + bad, exitWrong, `"version": "2.1.0"`, ""}, {"check --json --sarif " + bad, exitUsage, "", "choose one of"},
		{"check --offline --json " + good, exitOK, "[]", ""}, {"check --set level " + good, exitUsage, "", "--set takes name=value"},
		{"variables --offline ../demo/declarations log-level", exitOK, "accounts/drydock  door/environment/LOG_LEVEL    debug        team harbour", ""}, {"variables", exitUsage, "", "takes a folder"},
		{"render web/north --offline --from " + good, exitOK, `{"aditus":1,"parts":{"app":{"artifact":"r.example/web:2.1.0"`, ""}, {"render web/south --offline --from " + good, exitWrong, "", "declares no web/south"}, {"render web", exitUsage, "", "is no berth"},
		{"link", exitOK, "credential", ""}, {"link add a", exitUsage, "", "takes NAME and REPOSITORY"}, {"link add a /nowhere --data " + empty, exitWrong, "", "the link is not added: the repository cannot be reached"}, {"link add a oci://h/x --data " + empty, exitUsage, "", "a bundle has a version"},
		{"link list --data " + empty, exitWrong, "", "connect a repository with: aditus link add"}, {"sync", exitUsage, "", "at least one berth"}, {"sync a/b --data " + empty, exitWrong, "", "there are no settings"}, {"compare a/b --from x", exitUsage, "", "choose one of --with"},
		{"compare a/b --data " + empty, exitWrong, "", "there are no settings"}, {"bundle push . oci://h/x", exitUsage, "", "has no version"}, {"bundle show oci://h/x", exitUsage, "", "name a version"}, {"stand-in a/b x=1", exitUsage, "", "is no part of a berth"},
		{"stand-in a/b/c x=1 --data " + empty, exitWrong, "", "there is no stand-in site b"},
		{"lock a", exitUsage, "", "is no berth"}, {"advance a/b --data " + empty, exitWrong, "", "no Aditus runs on"}, {"lock a/b -m why --data " + empty, exitWrong, "", "there are no settings"}, {"revert a/b --data " + empty, exitWrong, "", "no Aditus runs on"},
		{"guard", exitOK, "backtest", ""}, {"guard replay", exitUsage, "", "name --data FILE, and either"}, {"guard replay --guard /nowhere --data x", exitWrong, "", "read the guard"}, {"guard backtest a/b --data " + empty, exitWrong, "", "there is no ledger in"},
		{"draw bench a/b -o x.svg --data " + empty, exitWrong, "", "there is no ledger in"},
		{"fly", exitUsage, "", `does not take "fly"`}, {"status --data " + empty, exitWrong, "", "there is no ledger in"}, {"status --jsn", exitUsage, "", "unknown flag: --jsn; see aditus status --help"},
		{"draw watch boarding -o a.svg", exitUsage, "", "write WORKLOAD/SITE"}, {"draw watch boarding/north", exitUsage, "", "name the file to write with -o"}, {"draw watch boarding/north -o a.svg --data " + empty, exitWrong, "", "there is no ledger in"},
		{"demo --speed -1", exitUsage, "", "--speed must be"}, {"demo --out x", exitUsage, "", "--out goes with --headless"}, {"demo --data " + empty, exitWrong, "", "without one use: aditus status, or aditus demo --headless"},
	}
	for _, test := range tests {
		code, out, errs := shell(t, strings.Fields(test.args)...)
		if code != test.code || !strings.Contains(out, test.out) || !strings.Contains(errs, test.errs) {
			t.Errorf("aditus %s: code %d, want %d\n%s%s\nwant %q and %q", test.args, code, test.code, out, errs, test.out, test.errs)
		}
	}
}

// TestHeadless runs the whole story by the command, and looks at what it leaves with the other commands.
func TestHeadless(t *testing.T) {
	data, out := t.TempDir(), filepath.Join(t.TempDir(), "made", "here")
	code, text, errs := shell(t, "demo", "--headless", "--data", data, "--out", out)
	if code != exitOK {
		t.Fatalf("code %d\n%s%s", code, text, errs)
	}
	if n := strings.Count(text, "  taken  "); n < 6 {
		t.Errorf("only %d rollouts are told to have begun:\n%s", n, text)
	}
	for _, want := range []string{"boarding/north", "is allowed (", "barred", "waits for a sign-off", "times real time", "yes  fares 8.2.0 waits for a sign-off at slipway"} {
		if !strings.Contains(text, want) {
			t.Errorf("%q is not told:\n%s", want, text)
		}
	}
	for name, begins := range map[string]string{"watch.svg": "<?xml", "watch.pdf": "%PDF-", "ledger.jsonl": `{"seq":1,`} {
		if content, err := os.ReadFile(filepath.Join(out, name)); err != nil || !bytes.HasPrefix(content, []byte(begins)) {
			t.Errorf("%s begins %.20q (%v)", name, content, err)
		}
	}
	holdSchemas(t, data, out)
	holdAnswers(t, data)
	holdCompletions(t, data)
	code, text, _ = shell(t, "status", "--data", data)
	if code != exitOK || !strings.Contains(text, "needs you") || !strings.Contains(text, "4.13.0 was rolled back") || !strings.Contains(text, "8.1.4 → 8.2.0 25 %") || !strings.Contains(text, "this is how it was left") {
		t.Errorf("code %d\n%s", code, text)
	}
	code, text, _ = shell(t, "status", "--json", "--data", data)
	var s status.Snapshot
	if err := json.Unmarshal([]byte(text), &s); code != exitOK || err != nil || len(s.Berths) != 41 {
		t.Errorf("code %d, %d berths, %v", code, len(s.Berths), err)
	}
	if b, _ := s.Find(berth.ID{Workload: "boarding", Site: "north"}); b.Bar == nil || b.Bar.Version != "4.13.0" {
		t.Errorf("the bar is not in the JSON: %+v", b.Bar)
	}
	drawing := filepath.Join(out, "fares.pdf")
	if code, _, errs := shell(t, "draw", "watch", "fares/slipway", "-o", drawing, "--light", "--data", data); code != exitOK {
		t.Errorf("code %d: %s", code, errs)
	}
	if code, _, errs := shell(t, "draw", "watch", "fares/nowhere", "-o", drawing, "--data", data); code != exitWrong || !strings.Contains(errs, "fares/slipway") {
		t.Errorf("a berth that is not there: code %d: %s", code, errs)
	}
	if code, _, errs := shell(t, "draw", "watch", "fares/slipway", "-o", "fares.png", "--data", data); code != exitUsage || !strings.Contains(errs, ".svg nor .pdf") {
		t.Errorf("a format that is not there: code %d: %s", code, errs)
	}
	if code, text, _ := shell(t, "demo", "--headless", "--data", data); code != exitOK || !strings.Contains(text, "yes") {
		t.Errorf("the story that is over goes on with code %d:\n%s", code, text)
	}
}

func TestDataFolder(t *testing.T) {
	t.Setenv("HOME", "/home/someone")
	t.Setenv("XDG_STATE_HOME", "")
	t.Setenv("ADITUS_DATA", "")
	check := func(given, want string) {
		t.Helper()
		if got, err := dataFolder(given); err != nil || got != want {
			t.Errorf("%q gives %s (%v), want %s", given, got, err, want)
		}
	}
	check("", "/home/someone/.local/state/aditus/line")
	state := t.TempDir()
	t.Setenv("XDG_STATE_HOME", state)
	put := func(name string) {
		t.Helper()
		name = filepath.Join(state, "aditus", name)
		if err := errors.Join(os.MkdirAll(filepath.Dir(name), 0o700), os.WriteFile(name, nil, 0o600)); err != nil {
			t.Fatal(err)
		}
	}
	check("", state+"/aditus/line")
	put("demo/ledger.db")
	check("", state+"/aditus/demo")
	put("line/settings.yaml")
	check("", state+"/aditus/line")
	t.Setenv("ADITUS_DATA", "/data")
	check("", "/data")
	check("/given", "/given")
}

// elsewhere are the orders that a command gives which is not only for them, or that only the screens give, and why.
var elsewhere = map[berth.Verb]string{
	berth.Sync: "aditus sync", berth.RemoveOrphans: "aditus sync --remove-orphans", berth.TearDown: "aditus tear-down, which tells first what goes",
	berth.LeaveIt: "the screens alone: it is for the minutes in which a correction is announced",
}

// TestOrders sees that every order that there is has its command, or a reason for having none.
func TestOrders(t *testing.T) {
	given := map[berth.Verb]bool{}
	for _, c := range commands {
		given[c.verb] = true
	}
	for _, verb := range berth.Verbs() {
		if given[verb] == (elsewhere[verb] != "") {
			t.Errorf("the order %s has a command of its own: %v, and is given elsewhere by %q", verb, given[verb], elsewhere[verb])
		}
	}
}
