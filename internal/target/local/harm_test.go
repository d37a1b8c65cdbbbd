package local

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"aditus/internal/core/declare"
	"aditus/internal/target"
	"aditus/internal/target/local/keeper"
	"aditus/internal/target/local/store"
)

const workload = "ferry"

// revision is a fingerprint of its own for each number.
func revision(n int) declare.Fingerprint { return declare.Fingerprint(fmt.Sprintf("%07d00", n)) }

// ferry is a workload with one service at an artifact.
func ferry(artifact string) declare.Desired {
	span := func(d time.Duration) declare.Span { return declare.Span{Duration: d} }
	return declare.Desired{Format: 1, Workload: workload, Parts: map[string]declare.Part{
		"deck": {
			Kind: declare.Service, Artifact: artifact, Ports: map[string]int{"http": 80}, Environment: map[string]string{"SEASON": "summer"}, Volumes: map[string]string{"logbook": "/var/log book"},
			Probes: map[string]declare.Probe{"ready": {HTTP: &declare.Endpoint{Port: "http", Path: "/ready"}, Every: span(time.Second), Timeout: span(time.Second), Passes: 1, Fails: 3}},
			Stop:   &declare.Stop{Drain: span(2 * time.Second), Signal: "TERM", Within: span(500 * time.Millisecond)},
		},
		"hours":   {Kind: declare.Settings, Values: map[string]string{"opens.at": "06:30", "../up": "no"}},
		"pass":    {Kind: declare.Secret, Values: map[string]string{"word": "fingerprint"}, Sealed: map[string]string{"word": "sealed:ahoy"}},
		"logbook": {Kind: declare.Volume, Size: 1 << 20},
		"entry":   {Kind: declare.Route, Service: "deck", To: &declare.Endpoint{Port: "http", Path: "/"}},
	}}
}

// up lays a revision and starts so many instances with all of the traffic.
func up(t *testing.T, s *Site, n int, artifact string, instances int) {
	t.Helper()
	for _, err := range []error{
		s.Apply(t.Context(), workload, []target.Want{target.Prepare(revision(n), ferry(artifact))}),
		s.Apply(t.Context(), workload, []target.Want{target.Scale(revision(n), "deck", instances)}),
		s.Apply(t.Context(), workload, []target.Want{target.SetShare(revision(n), 1, "")}),
	} {
		if err != nil {
			t.Fatal(err)
		}
	}
}

// await looks until the instances of a revision are as wanted.
func await(t *testing.T, s *Site, n int, what string, is func([]target.Instance) bool) []target.Instance {
	t.Helper()
	for end := time.Now().Add(30 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		seen, err := s.Observe(t.Context(), workload)
		c, _ := seen.Cohort(revision(n))
		if err == nil && is(c.Instances) {
			return c.Instances
		}
		if time.Now().After(end) {
			t.Fatalf("it does not come to this: %s; there is %+v %q (%v)", what, c.Instances, seen.Trouble, err)
		}
	}
}

func running(n int) func([]target.Instance) bool {
	return func(all []target.Instance) bool {
		up := 0
		for _, in := range all {
			if in.Address != "" {
				up++
			}
		}
		return up == n
	}
}

// ask asks through the router until there is an answer.
func ask(t *testing.T, s *Site, path string) string {
	t.Helper()
	for end := time.Now().Add(30 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		response, err := http.Get("http://" + s.Listen + path)
		if err == nil {
			text, _ := io.ReadAll(response.Body)
			if response.Body.Close(); response.StatusCode == 200 {
				return string(text)
			}
		}
		if time.Now().After(end) {
			t.Fatalf("no answer to %s: %v", path, err)
		}
	}
}

// TestFurnished sees what an instance is given, and that it is given nothing else.
func TestFurnished(t *testing.T) {
	t.Setenv("NOT_DECLARED", "a word of the server's own")
	s := opened(t, shortTemp(t), "drydock")
	up(t, s, 1, artifact(t, "ferry-1", behaviour{Version: "1"}), 1)
	in := await(t, s, 1, "it runs", running(1))[0]
	variables := map[string]string{}
	for _, line := range strings.Split(strings.TrimSpace(ask(t, s, "/environment")), "\n") {
		name, value, _ := strings.Cut(line, "=")
		variables[name] = value
	}
	for name, want := range map[string]string{"SEASON": "summer", "OPENS_AT": "06:30", "WORD": "ahoy", "SITE": "drydock", "WORKLOAD": workload, "INSTANCE": in.ID, "PORT": strconv.Itoa(in.Ports["http"]), "PORT_HTTP": strconv.Itoa(in.Ports["http"])} {
		if variables[name] != want {
			t.Errorf("%s is %q, want %q", name, variables[name], want)
		}
	}
	for _, name := range []string{"NOT_DECLARED", "PATH", "HOME"} {
		if value, ok := variables[name]; ok {
			t.Errorf("it has %s=%s, which nobody declared", name, value)
		}
	}
	for file, want := range map[string]string{filepath.Join(variables["SETTINGS"], "hours", "opens.at"): "06:30", filepath.Join(variables["SECRETS"], "pass", "word"): "ahoy"} {
		text, err := os.ReadFile(file)
		info, _ := os.Stat(file)
		if err != nil || string(text) != want || info.Mode().Perm() != 0o600 {
			t.Errorf("%s: %q %v %v", file, text, info, err)
		}
	}
	if _, err := os.Stat(filepath.Join(variables["SETTINGS"], "up")); err == nil {
		t.Error("a key led out of its folder")
	}
	book := filepath.Join(variables["VOLUME_LOGBOOK"], "first")
	if err := os.WriteFile(book, []byte("cast off"), 0o600); err != nil {
		t.Fatal(err)
	}
	if reason, err := s.Exec(t.Context(), workload, in.ID, []string{"test", "-s", "var/log book/first"}); reason != "" || err != nil {
		t.Errorf("the volume is not seen where it is declared: %q %v", reason, err)
	}
	if reason, err := s.Exec(t.Context(), workload, in.ID, []string{"test", "-s", "nowhere"}); reason != "test exited with status 1" || err != nil {
		t.Errorf("a check that fails: %q %v", reason, err)
	}
	up(t, s, 2, artifact(t, "ferry-2", behaviour{Version: "2"}), 1)
	if err := s.Apply(t.Context(), workload, []target.Want{target.Delete(revision(1))}); err != nil {
		t.Fatal(err)
	}
	if text, _ := os.ReadFile(book); string(text) != "cast off" {
		t.Error("a volume does not survive a release")
	}
	text, err := os.ReadFile(filepath.Join(s.folder, "asked", workload+".json"))
	if err != nil || strings.Contains(string(text), `"ahoy"`) {
		t.Errorf("an opened secret was written down, or nothing was: %v", err)
	}
}

// TestByHand changes settings behind Aditus' back: that is seen, stays when something else is asked for, and is put back when
// the revision is laid again.
func TestByHand(t *testing.T) {
	s := opened(t, shortTemp(t), "drydock")
	reference := artifact(t, "ferry", behaviour{Version: "1"})
	up(t, s, 1, reference, 2)
	all := await(t, s, 1, "both run", running(2))
	folder := filepath.Join(s.folder, instancesFolder, all[1].ID, settingsFolder, "hours")
	values := func() map[string]any {
		t.Helper()
		seen, err := s.Observe(t.Context(), workload)
		if err != nil {
			t.Fatal(err)
		}
		c, _ := seen.Cohort(revision(1))
		values, _ := c.Live["hours"].(map[string]any)["values"].(map[string]any)
		return values
	}
	if got := values(); len(got) != 2 || got["opens.at"] != "06:30" || got["../up"] != "no" {
		t.Fatalf("untouched they are %v", got)
	}
	write := func(name, text string) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(folder, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	write("opens.at", "07:00")
	write("tide", "high")
	write(".opens.at.swp", "an editor's own")
	if err := os.Remove(filepath.Join(folder, fileName("../up"))); err != nil {
		t.Fatal(err)
	}
	if err := s.Apply(t.Context(), workload, []target.Want{target.Scale(revision(1), "deck", 3)}); err != nil { // the keeper is told all anew
		t.Fatal(err)
	}
	if got := values(); len(got) != 2 || got["opens.at"] != "07:00" || got["tide"] != "high" {
		t.Errorf("changed by hand they are %v", got)
	}
	if err := s.Apply(t.Context(), workload, []target.Want{target.Prepare(revision(1), ferry(reference))}); err != nil {
		t.Fatal(err)
	}
	if got := values(); len(got) != 2 || got["opens.at"] != "06:30" || got["../up"] != "no" {
		t.Errorf("put back they are %v", got)
	}
	if entries, _ := os.ReadDir(folder); len(entries) != 2 {
		t.Errorf("there is %v", entries)
	}
}

// TestOthersByHand changes a secret, a volume's mode, an artifact and a process behind Aditus' back: each is seen as it is, a secret by its
// fingerprint alone, and put back.
func TestOthersByHand(t *testing.T) {
	s := opened(t, shortTemp(t), "drydock")
	s.Mark = func(plain string) string { return "secret " + strings.ToUpper(plain) }
	desired := ferry(artifact(t, "ferry", behaviour{Version: "1"}))
	pass := desired.Parts["pass"]
	pass.Values = map[string]string{"word": "secret AHOY"}
	desired.Parts["pass"] = pass
	if err := s.Apply(t.Context(), workload, []target.Want{target.Prepare(revision(1), desired), target.Scale(revision(1), "deck", 1), target.SetShare(revision(1), 1, "")}); err != nil {
		t.Fatal(err)
	}
	in := await(t, s, 1, "it runs", running(1))[0]
	live := func() (word, mode, artifact, process any) {
		t.Helper()
		seen, err := s.Observe(t.Context(), workload)
		if err != nil {
			t.Fatal(err)
		}
		c, _ := seen.Cohort(revision(1))
		of := func(part string) map[string]any { fields, _ := c.Live[part].(map[string]any); return fields }
		values, _ := of("pass")["values"].(map[string]any)
		return values["word"], of("logbook")["mode"], of("deck")["artifact"], of("deck")["process"]
	}
	if word, mode, artifact, process := live(); word != "secret AHOY" || mode != nil || artifact != desired.Parts["deck"].Artifact || process != nil {
		t.Fatalf("untouched they are %v %v %v %v", word, mode, artifact, process)
	}
	pid := recordedPID(t, must(os.ReadFile(filepath.Join(s.home(in.ID), keeper.RecordFile))))
	changed := "stopped by a signal or a debugger"
	for _, group := range groupsOf(t, pid, in.ID) {
		if limits := filepath.Join(group, "pids.max"); isFile(limits) {
			changed += ", held to 5 processes"
			if err := os.WriteFile(limits, []byte("5"), 0); err != nil {
				t.Fatal(err)
			}
		}
	}
	if err := syscall.Kill(pid, syscall.SIGSTOP); err != nil {
		t.Fatal(err)
	}
	unpacked, err := s.Store.Get(desired.Parts["deck"].Artifact)
	if err != nil {
		t.Fatal(err)
	}
	word := filepath.Join(s.secrets, in.ID, "pass", "word")
	for _, err := range []error{os.WriteFile(word, []byte("belay"), 0o600), os.Chmod(s.volume(workload, "logbook"), 0o777), os.Chmod(filepath.Join(unpacked.Root, "service"), 0o711)} {
		if err != nil {
			t.Fatal(err)
		}
	}
	for end := time.Now().Add(40 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		word, mode, artifact, process := live()
		if word == "secret BELAY" && mode == "0777" && artifact == "ferry"+byHand && process == changed {
			break
		}
		if time.Now().After(end) {
			t.Fatalf("changed by hand they are %v %v %v %v", word, mode, artifact, process)
		}
	}
	if err := s.Apply(t.Context(), workload, []target.Want{target.Prepare(revision(1), desired)}); err != nil {
		t.Fatal(err)
	}
	await(t, s, 1, "it runs anew", func(all []target.Instance) bool {
		_, _, _, process := live()
		return running(1)(all) && process == nil
	})
	if word, mode, artifact, process := live(); word != "secret AHOY" || mode != nil || artifact != desired.Parts["deck"].Artifact || process != nil {
		t.Errorf("put back they are %v %v %v %v", word, mode, artifact, process)
	}
	if text, _ := os.ReadFile(word); string(text) != "ahoy" {
		t.Errorf("the secret is %q", text)
	}
	for end := time.Now().Add(20 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		if info, err := os.Stat(filepath.Join(unpacked.Root, "service")); err == nil && info.Mode().Perm() == 0o755 {
			break
		}
		if time.Now().After(end) {
			t.Fatal("the artifact is not put back")
		}
	}
}

// TestHarm has artifacts that do no good, and sees that each is told for what it is.
func TestHarm(t *testing.T) {
	s := opened(t, shortTemp(t), "drydock")
	up(t, s, 1, artifact(t, "good", behaviour{Version: "good"}), 1)
	await(t, s, 1, "it runs", running(1))
	for n, test := range []struct {
		name, artifact string
		is             func(in target.Instance) bool
	}{
		{"exits at once", artifact(t, "exits", behaviour{Exit: 3}), func(in target.Instance) bool {
			return len(in.Restarts) >= 1 && in.Reason == "exited with status 3: cannot go on: the mooring is taken" && !in.Again.IsZero()
		}},
		{"is not executable", archive(t, "texts", map[string]string{"one": "a", "two": "c"}), func(in target.Instance) bool {
			return strings.Contains(in.CannotStart, "does not say what to run")
		}},
		{"leads out of its folder", archive(t, "out", map[string]string{"../../../tmp/out": "x"}), func(in target.Instance) bool {
			return strings.Contains(in.CannotStart, "leads out of its folder")
		}},
		{"is no tar", func() string {
			file := filepath.Join(t.TempDir(), "x.tar")
			os.WriteFile(file, []byte(strings.Repeat("no tar at all", 100)), 0o600)
			return declare.FileScheme + file
		}(), func(in target.Instance) bool { return strings.Contains(in.CannotStart, "it is no tar") }},
		{"is not what its digest says", artifact(t, "other", behaviour{}) + "@sha256:" + strings.Repeat("0", 64), func(in target.Instance) bool {
			return strings.Contains(in.CannotStart, "not the digest that it is pinned to")
		}},
		{"needs an interpreter that is not there", archive(t, "script", map[string]string{"run": "#!/nowhere/sh\n"}), func(in target.Instance) bool {
			return strings.Contains(in.Reason, "cannot be started: run: no such file")
		}},
	} {
		if err := s.Apply(t.Context(), workload, []target.Want{target.Prepare(revision(n+10), ferry(test.artifact))}); err != nil {
			t.Fatal(err)
		}
		if err := s.Apply(t.Context(), workload, []target.Want{target.Scale(revision(n+10), "deck", 1)}); err != nil {
			t.Fatal(err)
		}
		await(t, s, n+10, test.name, func(all []target.Instance) bool { return len(all) == 1 && test.is(all[0]) })
		if text := ask(t, s, "/"); !strings.HasPrefix(text, "good") {
			t.Errorf("%s: what serves answers %q", test.name, text)
		}
	}
}

// TestStubborn ends what does not end by itself, and keeps a flood within bounds.
func TestStubborn(t *testing.T) {
	s := opened(t, shortTemp(t), "drydock")
	const flood = 100 << 20
	up(t, s, 1, artifact(t, "stubborn", behaviour{Version: "1", Stays: true, Flood: flood}), 1)
	in := await(t, s, 1, "it runs", running(1))[0]
	ask(t, s, "/")
	folder := filepath.Join(s.folder, instancesFolder, in.ID)
	pid := pidOf(t, folder)
	size := func() (sum int64) {
		files, _ := filepath.Glob(filepath.Join(folder, keeper.LogFolder, "*"))
		for _, file := range files {
			if info, err := os.Stat(file); err == nil {
				sum += info.Size()
			}
		}
		return sum
	}
	for end := time.Now().Add(60 * time.Second); size() < 16<<20; time.Sleep(20 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("of the flood only %d bytes are kept", size())
		}
	}
	lines, err := s.Log(t.Context(), workload, in.ID, time.Time{}, 1000)
	if err != nil || len(lines) != 1000 || !strings.HasPrefix(lines[999].Text, "a line of the flood") || lines[999].At.IsZero() {
		t.Errorf("%d lines, %v", len(lines), err)
	}
	if !slices.IsSortedFunc(lines, func(a, b target.LogLine) int { return a.At.Compare(b.At) }) {
		t.Error("lines are out of order")
	}
	if sum := size(); sum > 24<<20 {
		t.Errorf("%d bytes of logs are kept", sum)
	}
	if err := s.Apply(t.Context(), workload, []target.Want{target.Scale(revision(1), "deck", 0)}); err != nil {
		t.Fatal(err)
	}
	for end := time.Now().Add(20 * time.Second); syscall.Kill(pid, 0) == nil; time.Sleep(10 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("it is still there")
		}
	}
}

// TestBackAgain has a revision come back while the instances of its first time are still on their way out.
func TestBackAgain(t *testing.T) {
	s := opened(t, shortTemp(t), "drydock")
	reference := artifact(t, "stubborn", behaviour{Version: "1", Stays: true})
	up(t, s, 1, reference, 1)
	before := await(t, s, 1, "it runs", running(1))[0]
	ask(t, s, "/") // it is up, and takes no notice of signals
	pid := pidOf(t, filepath.Join(s.folder, instancesFolder, before.ID))
	for _, err := range []error{s.Apply(t.Context(), workload, []target.Want{target.SetShare(revision(1), 0, "")}), s.Apply(t.Context(), workload, []target.Want{target.Delete(revision(1))})} {
		if err != nil {
			t.Fatal(err)
		}
	}
	up(t, s, 1, reference, 1)
	after := await(t, s, 1, "it runs again", running(1))[0]
	if now := pidOf(t, filepath.Join(s.folder, instancesFolder, after.ID)); after.ID != before.ID || now == pid {
		t.Errorf("%s is process %d, and %s was %d", after.ID, now, before.ID, pid)
	}
}

// pidOf is the process of an instance by the keeper's record, once there is one.
func pidOf(t *testing.T, folder string) (pid int) {
	t.Helper()
	for end := time.Now().Add(10 * time.Second); ; time.Sleep(5 * time.Millisecond) {
		text, err := os.ReadFile(filepath.Join(folder, keeper.RecordFile))
		if err == nil {
			_, err = fmt.Sscanf(string(text), `{"pid":%d`, &pid)
		}
		if err == nil {
			return pid
		}
		if time.Now().After(end) {
			t.Fatal(err)
		}
	}
}

// TestKeeperKilled kills the keeper, also in the moment in which it has started a process and not written so down.
func TestKeeperKilled(t *testing.T) {
	s := opened(t, shortTemp(t), "drydock")
	up(t, s, 1, artifact(t, "ferry", behaviour{Version: "1"}), 2)
	all := await(t, s, 1, "both run", running(2))
	pids := map[string]int{}
	for _, in := range all {
		pids[in.ID] = pidOf(t, filepath.Join(s.folder, instancesFolder, in.ID))
	}
	hello, err := s.Keeper.hello(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	syscall.Kill(hello.PID, syscall.SIGKILL)
	if err := os.Remove(filepath.Join(s.folder, instancesFolder, all[0].ID, "process.json")); err != nil {
		t.Fatal(err)
	}
	changes := followed(t, s)
	led := func(all []target.Instance) bool { // to the port that it was given, also where no record tells of it
		return running(2)(all) && !slices.ContainsFunc(all, func(in target.Instance) bool { return in.Waits != "" || in.Ports["http"] == 0 })
	}
	for _, in := range await(t, s, 1, "both are taken over", led) {
		if got := pidOf(t, filepath.Join(s.folder, instancesFolder, in.ID)); got != pids[in.ID] {
			t.Errorf("%s was process %d and is %d now", in.ID, pids[in.ID], got)
		}
	}
	ask(t, s, "/")
	for len(changes) > 0 {
		<-changes
	}
	syscall.Kill(pids[all[1].ID], syscall.SIGKILL) // one that was taken over is started again when it ends
	if got := <-changes; got != workload {
		t.Errorf("a change of %s is told", got)
	}
	await(t, s, 1, "it is started again", func(now []target.Instance) bool {
		return running(2)(now) && slices.ContainsFunc(now, func(in target.Instance) bool { return in.ID == all[1].ID && len(in.Restarts) > 0 })
	})
	for _, in := range all { // what is asked for no more is ended by a keeper that did not start it
		before, err := s.Keeper.hello(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		if err := s.Keeper.ask(t.Context(), http.MethodPost, "/leave", nil, nil); err != nil {
			t.Fatal(err)
		}
		for end := time.Now().Add(10 * time.Second); time.Now().Before(end); time.Sleep(10 * time.Millisecond) {
			if now, err := s.Keeper.hello(t.Context()); err == nil && now.PID != before.PID {
				break
			}
		}
		pid := pidOf(t, filepath.Join(s.folder, instancesFolder, in.ID))
		left := len(all) - 1 - slices.IndexFunc(all, func(o target.Instance) bool { return o.ID == in.ID })
		if err := s.Apply(t.Context(), workload, []target.Want{target.Scale(revision(1), "deck", left, in.ID)}); err != nil {
			t.Fatal(err)
		}
		for end := time.Now().Add(10 * time.Second); syscall.Kill(pid, 0) == nil; time.Sleep(10 * time.Millisecond) {
			if time.Now().After(end) {
				t.Fatalf("%s is still there", in.ID)
			}
		}
	}
}

// TestEnds sees that an instance that goes has its requests answered first, and that nothing it started stays behind.
func TestEnds(t *testing.T) {
	s := opened(t, shortTemp(t), "drydock")
	up(t, s, 1, artifact(t, "ferry", behaviour{Version: "1", Abrupt: true, Child: true}), 1)
	await(t, s, 1, "it runs", running(1))
	child, err := strconv.Atoi(ask(t, s, "/child"))
	if err != nil || syscall.Kill(child, 0) != nil {
		t.Fatalf("its child is %d, %v", child, err)
	}
	response, err := http.Get("http://" + s.Listen + "/takes-its-time") // its head is there, its body is on the way
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	if err := s.Apply(t.Context(), workload, []target.Want{target.Scale(revision(1), "deck", 0)}); err != nil {
		t.Fatal(err)
	}
	if text, err := io.ReadAll(response.Body); err != nil || string(text) != "done" {
		t.Errorf("what was under way came to %q, %v", text, err)
	}
	for end := time.Now().Add(20 * time.Second); syscall.Kill(child, 0) == nil; time.Sleep(10 * time.Millisecond) {
		if state, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", child)); err != nil || strings.Contains(string(state), ") Z ") {
			break // it has ended; whoever is its parent now has not looked yet
		}
		if time.Now().After(end) {
			syscall.Kill(child, syscall.SIGKILL)
			t.Fatal("what it started is still there")
		}
	}
}

// TestUnready sees that an instance has no traffic while its probes fail, and again afterwards.
func TestUnready(t *testing.T) {
	s := opened(t, shortTemp(t), "drydock")
	desired := ferry(artifact(t, "ferry", behaviour{Version: "1"}))
	deck := desired.Parts["deck"]
	probe := deck.Probes["ready"]
	probe.Every, probe.Fails = declare.Span{Duration: 100 * time.Millisecond}, 1
	deck.Probes = map[string]declare.Probe{"ready": probe}
	desired.Parts["deck"] = deck
	if err := s.Apply(t.Context(), workload, []target.Want{target.Prepare(revision(1), desired), target.Scale(revision(1), "deck", 1), target.SetShare(revision(1), 1, "")}); err != nil {
		t.Fatal(err)
	}
	in := await(t, s, 1, "it runs", running(1))[0]
	ask(t, s, "/")
	unready := filepath.Join(s.folder, instancesFolder, in.ID, "work", "unready")
	if err := os.WriteFile(unready, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	for end := time.Now().Add(20 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		response, err := http.Get("http://" + s.Listen + "/")
		if err == nil {
			if response.Body.Close(); response.StatusCode == http.StatusServiceUnavailable {
				break
			}
		}
		if time.Now().After(end) {
			t.Fatalf("it is not ready and has traffic: %v %v", response, err)
		}
	}
	if err := os.Remove(unready); err != nil {
		t.Fatal(err)
	}
	ask(t, s, "/")
}

// TestBacksOff sees that what ends by itself is started again after longer and longer.
func TestBacksOff(t *testing.T) {
	s := opened(t, shortTemp(t), "drydock")
	up(t, s, 1, artifact(t, "broken", behaviour{Exit: 3}), 1)
	in := await(t, s, 1, "it was started twice more", func(all []target.Instance) bool {
		return len(all) == 1 && len(all[0].Restarts) == 2 && !all[0].Again.IsZero()
	})[0]
	first, second := in.Restarts[1].Sub(in.Restarts[0]), in.Again.Sub(in.Restarts[1])
	if second < first+time.Second {
		t.Errorf("it is started again after %s, and then after %s", first, second)
	}
}

// TestPortTaken has somebody else listen where traffic should come in.
func TestPortTaken(t *testing.T) {
	s := opened(t, shortTemp(t), "drydock")
	other, err := net.Listen("tcp", s.Listen)
	if err != nil {
		t.Fatal(err)
	}
	up(t, s, 1, artifact(t, "ferry", behaviour{Version: "1"}), 1)
	await(t, s, 1, "it runs", running(1))
	if seen, _ := s.Observe(t.Context(), workload); !strings.Contains(seen.Trouble, "address already in use; end what listens there") {
		t.Errorf("the trouble is %q", seen.Trouble)
	}
	other.Close()
	await(t, s, 1, "it is tried again", func([]target.Instance) bool {
		seen, err := s.Observe(t.Context(), workload)
		return err == nil && seen.Trouble == ""
	})
	ask(t, s, "/")
}

// TestFullDisk has an artifact that finds no room: it is told, tried again, and nothing half-made is left.
func TestFullDisk(t *testing.T) {
	folder := shortTemp(t)
	small := filepath.Join(folder, "store")
	if err := os.Mkdir(small, 0o700); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=256k", "aditus-test", small).CombinedOutput(); err != nil {
		t.Skipf("a small disk cannot be made here: %v %s", err, out)
	}
	t.Cleanup(func() { exec.Command("umount", small).Run() })
	s := opened(t, folder, "drydock")
	reference := archive(t, "large", map[string]string{"service": strings.Repeat("x", 1<<20)})
	if _, err := s.Store.Get(reference); !errors.Is(err, store.ErrWorking) {
		t.Fatal(err)
	}
	for end := time.Now().Add(10 * time.Second); ; time.Sleep(10 * time.Millisecond) {
		_, err := s.Store.Get(reference)
		if err != nil && strings.Contains(err.Error(), "the disk is full") && !store.Final(err) {
			break
		}
		if time.Now().After(end) {
			t.Fatalf("nobody says that the disk is full: %v", err)
		}
	}
	if left, _ := filepath.Glob(filepath.Join(small, "new-*")); len(left) > 0 {
		t.Errorf("half of it is left: %v", left)
	}
}

// TestTaken has one revision take over what runs of another, there and back, under traffic: it is the same processes, and no
// request is lost, whatever the shares are.
func TestTaken(t *testing.T) {
	s := opened(t, shortTemp(t), "drydock")
	reference := artifact(t, "ferry", behaviour{Version: "1"})
	up(t, s, 1, reference, 2)
	pids := map[int]bool{}
	for _, in := range await(t, s, 1, "both run", running(2)) {
		pids[pidOf(t, s.home(in.ID))] = true
	}
	ask(t, s, "/")
	do := func(wants ...target.Want) {
		t.Helper()
		if err := s.Apply(t.Context(), workload, wants); err != nil {
			t.Fatal(err)
		}
		for range 20 {
			ask(t, s, "/")
		}
	}
	same := func(n int) {
		t.Helper()
		for _, in := range await(t, s, n, "both are there", running(2)) {
			if pid := pidOf(t, s.home(in.ID)); !pids[pid] {
				t.Errorf("%s was started anew, as %d", in.ID, pid)
			}
		}
	}
	do(target.Prepare(revision(2), ferry(reference)))
	do(target.Take(revision(1), revision(2), "deck"))
	same(2)
	do(target.SetShare(revision(2), 0.1, revision(1)))
	do(target.Take(revision(1), revision(2), "deck"))
	same(2)
	do(target.SetShare(revision(2), 0, revision(1)), target.Take(revision(2), revision(1), "deck"))
	same(1)
	do(target.Delete(revision(2)))
	same(1)
	do(target.Prepare(revision(3), ferry(reference)), target.Take(revision(1), revision(3), "deck"), target.SetShare(revision(3), 1, ""), target.Delete(revision(1)))
	same(3)
	do(target.Scale(revision(3), "deck", 3))
	if all := await(t, s, 3, "a third comes up", running(3)); len(all) != 3 {
		t.Errorf("%+v", all)
	}
}

// TestNoRoom fills the disk of a site's instances to the last byte: what is asked for comes up all the same, in memory, has
// traffic, and goes again without leaving anything.
func TestNoRoom(t *testing.T) {
	folder := shortTemp(t)
	small := filepath.Join(folder, "local")
	if err := os.Mkdir(small, 0o700); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=512k,nr_inodes=500", "aditus-test", small).CombinedOutput(); err != nil {
		t.Skipf("a small disk cannot be made here: %v %s", err, out)
	}
	t.Cleanup(func() { exec.Command("umount", "-l", small).Run() })
	s := opened(t, folder, "drydock")
	up(t, s, 1, artifact(t, "ferry", behaviour{Version: "1"}), 1)
	first := await(t, s, 1, "the first runs", running(1))[0]
	filler, err := os.Create(filepath.Join(small, "filler"))
	if err != nil {
		t.Fatal(err)
	}
	for size := 1 << 16; size > 0; {
		if _, err := filler.Write(make([]byte, size)); err != nil {
			size /= 2
		}
	}
	for n := 0; ; n++ { // and there is no room for another file either
		if err := os.WriteFile(filepath.Join(small, fmt.Sprint("f", n)), nil, 0o600); err != nil {
			break
		}
	}
	err = s.Apply(t.Context(), workload, []target.Want{target.Scale(revision(1), "deck", 3)})
	if !errors.Is(err, syscall.ENOSPC) {
		t.Errorf("nobody says that the disk is full: %v", err)
	}
	all := await(t, s, 1, "three run", running(3))
	if got := ask(t, s, "/"); !strings.Contains(got, "1") {
		t.Errorf("the answer is %q", got)
	}
	if room := s.home(all[2].ID); !strings.HasPrefix(room, s.room()) || s.home(first.ID) != filepath.Join(s.folder, instancesFolder, first.ID) {
		t.Errorf("the third is at %s", room)
	}
	if lines, err := s.Log(t.Context(), workload, all[2].ID, time.Time{}, 10); err != nil || len(lines) == 0 {
		t.Errorf("what it writes is lost: %v", err)
	}
	filler.Close()
	os.Remove(filler.Name())
	for n := range 500 {
		os.Remove(filepath.Join(small, fmt.Sprint("f", n)))
	}
	if err := s.Apply(t.Context(), workload, []target.Want{target.SetShare(revision(1), 0, ""), target.Delete(revision(1))}); err != nil {
		t.Fatal(err)
	}
	for end := time.Now().Add(10 * time.Second); ; time.Sleep(10 * time.Millisecond) {
		s.submit(t.Context())
		left, _ := os.ReadDir(s.room())
		if len(left) == 0 {
			break
		}
		if time.Now().After(end) {
			t.Fatalf("there is still %v", left)
		}
	}
}

// BenchmarkStart starts a hundred instances until all are ready to have traffic.
func BenchmarkStart(b *testing.B) {
	for b.Loop() {
		s := opened(b, shortTemp(b), "drydock")
		reference := artifact(b, "ferry", behaviour{Version: "1"})
		began := time.Now()
		ctx := context.Background()
		if err := errors.Join(s.Apply(ctx, workload, []target.Want{target.Prepare(revision(1), ferry(reference))}), s.Apply(ctx, workload, []target.Want{target.Scale(revision(1), "deck", 100)})); err != nil {
			b.Fatal(err)
		}
		for ready := 0; ready < 100; time.Sleep(10 * time.Millisecond) {
			status, err := s.Keeper.status(ctx, s.Name)
			if err != nil {
				b.Fatal(err)
			}
			ready = status.Ready
		}
		b.ReportMetric(time.Since(began).Seconds(), "s/100")
	}
}

// BenchmarkMany starts workloads with an instance each, all asked for at once as their berths do, until all are ready to have traffic: what
// each costs stays the same however many there are.
func BenchmarkMany(b *testing.B) {
	for _, n := range []int{75, 150, 300} {
		b.Run(strconv.Itoa(n), func(b *testing.B) {
			for b.Loop() {
				s := opened(b, shortTemp(b), "drydock")
				reference := artifact(b, "ferry", behaviour{Version: "1"})
				began := time.Now()
				var group sync.WaitGroup
				for i := range n {
					group.Go(func() {
						name := fmt.Sprintf("ferry-%d", i)
						desired := ferry(reference)
						desired.Workload = name
						entry := desired.Parts["entry"]
						entry.Host = name + ".skerry.example"
						desired.Parts["entry"] = entry
						for _, want := range []target.Want{target.Prepare(revision(1), desired), target.Scale(revision(1), "deck", 1), target.SetShare(revision(1), 1, "")} {
							if err := s.Apply(context.Background(), name, []target.Want{want}); err != nil {
								b.Error(err)
							}
						}
					})
				}
				group.Wait()
				for ready := 0; ready < n; time.Sleep(10 * time.Millisecond) {
					status, err := s.Keeper.status(context.Background(), s.Name)
					if err != nil {
						b.Fatal(err)
					}
					ready = status.Ready
				}
				b.ReportMetric(1000*time.Since(began).Seconds()/float64(n), "ms/instance")
			}
		})
	}
}

// TestKeeperHangs stops the keeper without ending it: whoever asks is told so, and all is well once it goes on.
func TestKeeperHangs(t *testing.T) {
	t.Parallel()
	s := opened(t, shortTemp(t), "drydock")
	up(t, s, 1, artifact(t, "ferry", behaviour{Version: "1"}), 1)
	await(t, s, 1, "it runs", running(1))
	followed(t, s)
	hello, err := s.Keeper.hello(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	pid := pidOf(t, s.home(await(t, s, 1, "it runs", running(1))[0].ID))
	syscall.Kill(hello.PID, syscall.SIGSTOP)
	began := time.Now()
	for { // nothing hangs meanwhile, and it is told
		if _, err = s.Observe(t.Context(), workload); errors.Is(err, target.ErrUnreachable) {
			break
		} else if err != nil {
			t.Fatal(err)
		}
		if next, err := s.Keeper.hello(t.Context()); err == nil && next.PID != hello.PID {
			break
		}
	}
	for next, err := s.Keeper.hello(t.Context()); err != nil || next.PID == hello.PID; next, err = s.Keeper.hello(t.Context()) {
		if time.Since(began) > 20*time.Second {
			t.Fatalf("nobody takes over: %v", err)
		}
	}
	t.Logf("another keeper answers after %s", time.Since(began).Round(100*time.Millisecond))
	all := await(t, s, 1, "it is seen again", running(1))
	if now := pidOf(t, s.home(all[0].ID)); now != pid {
		t.Errorf("the process is %d, and was %d", now, pid)
	}
	ask(t, s, "/")
}

// followed follows a site until the test ends, and gives what it is told.
func followed(t *testing.T, s *Site) <-chan string {
	changes := make(chan string, 1000)
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		s.Follow(ctx, func(workload string) { changes <- workload })
	}()
	t.Cleanup(func() {
		cancel()
		<-ended
	})
	return changes
}

// TestEndAlone ends what a keeper left running that nobody followed.
func TestEndAlone(t *testing.T) {
	s := opened(t, shortTemp(t), "drydock")
	up(t, s, 1, artifact(t, "ferry", behaviour{Version: "1"}), 1)
	in := await(t, s, 1, "it runs", running(1))[0]
	pid := pidOf(t, filepath.Join(s.folder, instancesFolder, in.ID))
	hello, err := s.Keeper.hello(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	away := exec.Command("sleep", "600") // what an instance started and left behind
	away.Env, away.SysProcAttr = append(os.Environ(), "ADITUS_FOLDER="+s.home(in.ID)), &syscall.SysProcAttr{Setsid: true}
	if err := away.Start(); err != nil {
		t.Fatal(err)
	}
	ended := make(chan error, 1)
	go func() { ended <- away.Wait() }()
	syscall.Kill(hello.PID, syscall.SIGKILL)
	for end := time.Now().Add(10 * time.Second); err == nil && time.Now().Before(end); time.Sleep(10 * time.Millisecond) {
		_, err = s.Keeper.hello(t.Context())
	}
	if syscall.Kill(pid, 0) != nil {
		t.Error("it ended with its keeper")
	}
	if err := NewClient(s.Folder, os.Args[0], "-keeper", s.Folder).End(t.Context()); err != nil {
		t.Fatal(err)
	}
	select {
	case <-ended:
	case <-time.After(5 * time.Second):
		t.Error("what it started runs on")
		away.Process.Kill()
	}
	for end := time.Now().Add(10 * time.Second); syscall.Kill(pid, 0) == nil; time.Sleep(10 * time.Millisecond) {
		if time.Now().After(end) { // the system may take a moment to forget it
			t.Fatal("it is still there")
		}
	}
}
