package local

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"

	"aditus/internal/confine"
	"aditus/internal/core/declare"
	"aditus/internal/limit"
	"aditus/internal/socket"
	"aditus/internal/target"
	"aditus/internal/target/local/keeper"
	"aditus/internal/target/local/traffic"
)

// could begins the answer to what an instance could do that it tried.
const could = "could: "

// tried does something that an instance is not to, and tells what came of it.
func tried(what, of string) string {
	var err error
	told := ""
	switch what {
	case "read":
		var text []byte
		text, err = os.ReadFile(of)
		told = string(text)
	case "list":
		var entries []os.DirEntry
		entries, err = os.ReadDir(of)
		told = fmt.Sprint(entries)
	case "write":
		err = os.WriteFile(of, []byte("mine"), 0o600)
	case "print":
		var out *os.File
		if out, err = os.OpenFile(of, os.O_WRONLY, 0); err == nil {
			_, err = io.WriteString(out, "by another way\n")
			out.Close()
		}
	case "lead": // a folder elsewhere
		from, to, _ := strings.Cut(of, ">")
		if err = os.RemoveAll(from); err == nil {
			err = os.Symlink(to, from)
		}
	case "close": // a folder of its own to all others
		if err = os.Mkdir(of, 0o700); err == nil {
			err = os.WriteFile(filepath.Join(of, "mine"), nil, 0o600)
		}
	case "link":
		at := filepath.Join(os.TempDir(), "link")
		os.Remove(at)
		if err = os.Symlink(of, at); err == nil {
			return tried("read", at)
		}
	case "signal":
		pid, _ := strconv.Atoi(of)
		err = syscall.Kill(pid, 0)
	case "eat": // memory, as many MB
		mb, _ := strconv.Atoi(of)
		eaten := make([]byte, mb<<20)
		for i := 0; i < len(eaten); i += 4096 {
			eaten[i] = 1
		}
		told = fmt.Sprint(len(eaten))
	case "multiply": // into as many processes, some of which leave their session
		many, _ := strconv.Atoi(of)
		for range many {
			cmd := exec.Command("/usr/bin/setsid", "/bin/sleep", "600")
			if err = cmd.Start(); err != nil {
				break
			}
		}
	case "ask":
		client := http.Client{Transport: socket.Transport(of, 0)}
		var response *http.Response
		if response, err = client.Get("http://aditus/keeper"); err == nil {
			text, _ := io.ReadAll(response.Body)
			told = string(text)
		}
	}
	if err != nil {
		return err.Error()
	}
	return could + told
}

// TestHostile has an instance try to reach what is Aditus's own, what is another instance's, and the processes of both: nothing of it is
// within its reach, and what is its own is.
func TestHostile(t *testing.T) {
	if !confine.Can() {
		t.Skip(confine.ErrCannot)
	}
	folder := shortTemp(t)
	if err := os.WriteFile(filepath.Join(folder, "key.txt"), []byte("the key"), 0o600); err != nil {
		t.Fatal(err)
	}
	t.Setenv("ADITUS_TOKEN", "of whoever started it")
	s := opened(t, folder, "dock")
	up(t, s, 1, artifact(t, "ferry", behaviour{Version: "1"}), 2)
	two := await(t, s, 1, "both run", func(all []target.Instance) bool {
		return len(all) == 2 && all[0].Waits == "" && all[1].Waits == "" && !all[0].Started.IsZero() && len(all[0].Ports) > 0 && len(all[1].Ports) > 0
	})
	own, other := two[0], two[1]
	hello, err := s.Keeper.hello(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	secrets := filepath.Join(s.secrets, other.ID)
	if err := os.MkdirAll(secrets, 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(secrets, "password"), []byte("another's secret"), 0o600); err != nil {
		t.Fatal(err)
	}
	record, err := os.ReadFile(filepath.Join(s.home(other.ID), keeper.RecordFile))
	if err != nil {
		t.Fatal(err)
	}
	pid := recordedPID(t, string(record))
	try := func(what, of string) string {
		t.Helper()
		response, err := http.Get(fmt.Sprintf("http://127.0.0.1:%d/try?what=%s&of=%s", own.Ports["http"], what, url.QueryEscape(of)))
		if err != nil {
			t.Fatal(err)
		}
		defer response.Body.Close()
		text, _ := io.ReadAll(response.Body)
		return string(text)
	}
	work := filepath.Join(s.home(own.ID), workFolder)
	for what, of := range map[string]string{"write": filepath.Join(work, "notes"), "print": "/dev/stdout", "list": work, "read": "/etc/passwd", "signal": strconv.Itoa(recordedPID(t, must(os.ReadFile(filepath.Join(s.home(own.ID), keeper.RecordFile)))))} {
		if told := try(what, of); !strings.HasPrefix(told, could) {
			t.Errorf("it cannot %s %s, which is its own: %s", what, of, told)
		}
	}
	for _, test := range [][2]string{
		{"read", filepath.Join(folder, "key.txt")}, {"link", filepath.Join(folder, "key.txt")}, {"list", folder}, {"write", filepath.Join(folder, "tokens.json")},
		{"read", filepath.Join(secrets, "password")}, {"list", s.secrets}, {"list", s.home(other.ID)}, {"write", filepath.Join(s.home(other.ID), workFolder, "x")},
		{"write", filepath.Join(s.home(own.ID), keeper.RecordFile)}, {"read", filepath.Join(s.folder, "asked", workload+".json")},
		{"read", fmt.Sprintf("/proc/%d/environ", hello.PID)}, {"read", fmt.Sprintf("/proc/%d/environ", os.Getpid())}, {"read", fmt.Sprintf("/proc/%d/environ", pid)}, {"list", fmt.Sprintf("/proc/%d/cwd/", hello.PID)},
		{"signal", strconv.Itoa(hello.PID)}, {"signal", strconv.Itoa(os.Getpid())}, {"signal", strconv.Itoa(pid)},
		{"ask", filepath.Join(folder, keeper.SocketFile)}, {"ask", filepath.Join(folder, traffic.SocketFile)},
	} {
		if told := try(test[0], test[1]); strings.HasPrefix(told, could) {
			t.Errorf("it can %s %s: %.200s", test[0], test[1], told)
		}
	}
	environ, err := os.ReadFile(fmt.Sprintf("/proc/%d/environ", hello.PID))
	if err != nil || strings.Contains(string(environ), "of whoever started it") {
		t.Errorf("the keeper knows a token that it has no use for (%v)", err)
	}
	if answered := tried("ask", filepath.Join(folder, keeper.SocketFile)); !strings.HasPrefix(answered, could) {
		t.Errorf("whoever is not confined is not answered: %s", answered)
	}
}

func must(text []byte, err error) string {
	if err != nil {
		panic(err)
	}
	return string(text)
}

// recordedPID is the process of a keeper's record.
func recordedPID(t *testing.T, record string) int {
	t.Helper()
	_, rest, _ := strings.Cut(record, `"pid":`)
	number := strings.TrimSpace(rest)
	if end := strings.IndexAny(number, ",}\n"); end > 0 {
		number = number[:end]
	}
	pid, err := strconv.Atoi(strings.TrimSpace(number))
	if err != nil || pid < 2 {
		t.Fatalf("no process in %s", record)
	}
	return pid
}

// TestSecretsFolder refuses a folder for secrets that somebody else made, or may read.
func TestSecretsFolder(t *testing.T) {
	at := filepath.Join(t.TempDir(), "secrets")
	if err := ownFolder(at, false); err != nil {
		t.Fatal(err)
	}
	if err := ownFolder(at, false); err != nil {
		t.Errorf("its own, once more: %v", err)
	}
	if err := os.Chmod(at, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := ownFolder(at, false); err == nil {
		t.Error("one that others may read is taken")
	}
	link := at + "-link"
	if err := os.Symlink(t.TempDir(), link); err != nil {
		t.Fatal(err)
	}
	if err := ownFolder(link, false); err == nil {
		t.Error("a link is taken")
	}
	if os.Getuid() == 0 {
		os.Chmod(at, 0o700)
		if err := os.Chown(at, 65534, 65534); err != nil {
			t.Fatal(err)
		}
		if err := ownFolder(at, false); err == nil {
			t.Error("somebody else's is taken")
		}
	}
}

// TestLeadsElsewhere has an instance put links in the place of folders in which things are laid for it: nothing is laid outside of what is its.
func TestLeadsElsewhere(t *testing.T) {
	folder := shortTemp(t)
	s := opened(t, folder, "dock")
	d := ferry(artifact(t, "ferry", behaviour{Version: "1"}))
	deck := d.Parts["deck"]
	deck.Files = map[string]declare.File{"etc/tokens.json": {Text: "mine", Mode: "0600"}}
	d.Parts["deck"] = deck
	if err := s.Apply(t.Context(), workload, []target.Want{target.Prepare(revision(1), d), target.Scale(revision(1), "deck", 1), target.SetShare(revision(1), 1, "")}); err != nil {
		t.Fatal(err)
	}
	in := await(t, s, 1, "it runs", func(all []target.Instance) bool { return running(1)(all) && all[0].Waits == "" })[0]
	outside := t.TempDir()
	for _, at := range []string{filepath.Join(s.secrets, in.ID, filesFolder, "etc"), filepath.Join(s.home(in.ID), workFolder, "etc"), filepath.Join(s.home(in.ID), workFolder, "var")} {
		if told := tried("lead", at+">"+outside); !strings.HasPrefix(told, could) {
			t.Fatal(told)
		}
	}
	if err := s.Restart(t.Context(), workload, in.ID); err != nil {
		t.Fatal(err)
	}
	await(t, s, 1, "it tells why it cannot start", func(all []target.Instance) bool { return len(all) == 1 && strings.Contains(all[0].Reason, "escapes") })
	s.submit(t.Context()) // and what the site itself lays for it
	if made, err := os.ReadDir(outside); err != nil || len(made) > 0 {
		t.Errorf("outside of what is its there are %v (%v)", made, err)
	}
}

// answers tells whether anybody listens at a port.
func answers(port int) bool {
	conn, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port))
	if err == nil {
		conn.Close()
	}
	return err == nil
}

// TestGreedy has an instance ask for more memory and more processes than it may have: it is held to its limits, that is told, and whatever
// it started ends with it.
func TestGreedy(t *testing.T) {
	if g, err := limit.Make(limit.Limits{Processes: 10}, "test", "greedy"); err != nil {
		t.Skip(err)
	} else if err := g.End(); err != nil {
		t.Fatal(err)
	}
	s := opened(t, shortTemp(t), "dock")
	d := ferry(artifact(t, "greedy", behaviour{Version: "1"}))
	deck := d.Parts["deck"]
	deck.Resources = &declare.Resources{Limits: declare.Amounts{Memory: 128 << 20, Processes: 60}}
	d.Parts["deck"] = deck
	for _, want := range []target.Want{target.Prepare(revision(1), d), target.Scale(revision(1), "deck", 1), target.SetShare(revision(1), 1, "")} {
		if err := s.Apply(t.Context(), workload, []target.Want{want}); err != nil {
			t.Fatal(err)
		}
	}
	serves := func(restarts int) func([]target.Instance) bool {
		return func(all []target.Instance) bool {
			return len(all) == 1 && all[0].Waits == "" && len(all[0].Ports) > 0 && !all[0].Started.IsZero() && len(all[0].Restarts) == restarts && all[0].Reason == "" && answers(all[0].Ports["http"])
		}
	}
	in := await(t, s, 1, "it runs", serves(0))[0]
	try := func(what, of string) (string, error) {
		response, err := http.Get(fmt.Sprintf("http://%s:%d/try?what=%s&of=%s", in.Address, in.Ports["http"], what, of))
		if err != nil {
			return "", err
		}
		defer response.Body.Close()
		text, err := io.ReadAll(response.Body)
		return string(text), err
	}
	if told, err := try("eat", "10"); err != nil || !strings.HasPrefix(told, could) {
		t.Errorf("10 MB of 128: %q (%v)", told, err)
	}
	if told, err := try("multiply", "40"); err != nil || !strings.HasPrefix(told, could) {
		t.Errorf("40 processes of 60: %q (%v)", told, err)
	}
	if told, err := try("eat", "500"); err == nil {
		t.Errorf("500 MB of 128: %q", told)
	}
	all := await(t, s, 1, "it runs again", serves(1))
	said := fmt.Sprint(all[0].Events)
	if !strings.Contains(said, "killed: it used all of its memory, 128 MiB") {
		t.Errorf("its events are %s", said)
	}
	in = all[0]
	if told, err := try("multiply", "40"); err != nil || !strings.HasPrefix(told, could) { // of those from before none is left
		t.Errorf("40 processes of 60, after a new start: %q (%v)", told, err)
	}
	if told, _ := try("multiply", "60"); strings.HasPrefix(told, could) { // or it ends, when it needs a thread
		t.Errorf("100 processes of 60: %q", told)
	}
	if err := s.Apply(t.Context(), workload, []target.Want{target.Scale(revision(1), "deck", 0)}); err != nil {
		t.Fatal(err)
	}
	await(t, s, 1, "it is gone", func(all []target.Instance) bool { return len(all) == 0 })
}
