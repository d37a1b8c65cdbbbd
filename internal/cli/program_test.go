package cli

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/creack/pty"

	"aditus/internal/ledger"
	"aditus/internal/ledger/postgrestest"
	"aditus/internal/socket/porttest"
)

// program is the real program, built once for the tests that need it as a process of its own.
var program string

func TestMain(m *testing.M) {
	if len(os.Args) == 3 && os.Args[1] == oddCommand {
		oddService(os.Args[2])
	}
	folder, err := os.MkdirTemp("", "aditus-test-")
	if err == nil {
		err = os.Chmod(folder, 0o755) // whoever runs what is in it
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	program = filepath.Join(folder, "aditus")
	if out, err := exec.Command("go", "build", "-o", program, "aditus/cmd/aditus").CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "build the program: %v\n%s", err, out)
		os.Exit(1)
	}
	code := postgrestest.Run(m)
	os.RemoveAll(folder)
	os.Exit(code)
}

// TestKilled kills the program with SIGKILL at many moments of the story and starts it again on the same folder: it
// always goes on, nothing that was recorded is lost, no rollout is begun twice, and the story ends as it should.
func TestKilled(t *testing.T) {
	folder := t.TempDir()
	chance := rand.New(rand.NewPCG(11, 5))
	var before []ledger.Fact
	for kills := 0; ; kills++ {
		if kills > 80 {
			_, status, _ := shell(t, "status", "--data", folder)
			t.Fatalf("the story never ends:\n%s\nthe last facts: %+v", status, before[max(0, len(before)-20):])
		}
		var out, errs bytes.Buffer
		// Time that nobody watched counts for nothing, and a busy machine cannot watch forty times as fast.
		speed := strconv.Itoa(max(8, 40-kills))
		cmd := exec.Command(program, "demo", "--headless", "--speed", speed, "--data", folder)
		cmd.Stdout, cmd.Stderr = &out, &errs
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		kill := time.AfterFunc(time.Duration(100+chance.IntN(500)+40*kills)*time.Millisecond, func() { cmd.Process.Signal(syscall.SIGKILL) })
		err := cmd.Wait()
		kill.Stop()
		now := factsOf(t, folder)
		if len(now) < len(before) {
			t.Fatalf("after kill %d there are %d facts, before there were %d", kills, len(now), len(before))
		}
		for i, f := range before {
			if now[i].Seq != f.Seq || now[i].Text != f.Text || !now[i].At.Equal(f.At) {
				t.Fatalf("after kill %d fact %d is another: %+v, was %+v", kills, i, now[i], f)
			}
		}
		if _, err := os.Stat(filepath.Join(folder, "demo.json")); err == nil {
			before = now // a world that was not made to its end is made again
		}
		if err == nil {
			if kills < 5 {
				t.Errorf("only %d kills: they prove little", kills)
			}
			break
		}
		if state, ok := cmd.ProcessState.Sys().(syscall.WaitStatus); !ok || !state.Signaled() {
			var of []string // what the story did not come to is mostly this one's
			for _, f := range now {
				if f.Workload == "crewing" {
					of = append(of, fmt.Sprintf("%s %s %s: %s", f.At.Format(time.TimeOnly), f.Berth(), f.Kind, f.Text))
				}
			}
			t.Fatalf("it ended by itself with %v after %d kills:\n%s%s\non record of crewing:\n%s", err, kills, out.String(), errs.String(), strings.Join(of, "\n"))
		}
	}
	began := map[string]int{}
	for i, f := range before {
		if f.Kind == "taken" {
			began[f.Berth().String()+" "+string(f.Revision)]++
		}
		if i > 0 && f.Seq != before[i-1].Seq+1 {
			t.Errorf("there is a gap before fact %d", f.Seq)
		}
	}
	for what, times := range began {
		if times != 1 {
			t.Errorf("%s was taken %d times", what, times)
		}
	}
}

func factsOf(t *testing.T, folder string) []ledger.Fact {
	t.Helper()
	book, err := ledger.OpenToRead(folder)
	if err != nil {
		return nil // killed before there was one
	}
	defer book.Close()
	facts, err := book.Facts(ledger.Query{})
	if err != nil && !strings.Contains(err.Error(), "no such table") {
		t.Fatalf("the ledger cannot be read after a kill: %v", err)
	}
	return facts
}

func TestTwoPrograms(t *testing.T) {
	folder := t.TempDir()
	release, err := ledger.LockFolder(folder)
	if err != nil {
		t.Fatal(err)
	}
	defer release()
	out, err := exec.Command(program, "demo", "--headless", "--data", folder).CombinedOutput()
	if err == nil || !strings.Contains(string(out), fmt.Sprintf("process %d works on", os.Getpid())) {
		t.Errorf("%v: %s", err, out)
	}
}

// terminal is the program on a real terminal, driven through tmux.
type terminal struct {
	t      *testing.T
	socket string
}

func openTerminal(t *testing.T, width, height int, args ...string) *terminal {
	t.Helper()
	if _, err := exec.LookPath("tmux"); err != nil {
		t.Fatal("tmux is missing: make tools installs it")
	}
	term := &terminal{t, filepath.Join(t.TempDir(), "tmux")}
	command := "TZ=UTC exec " + program + " " + strings.Join(args, " ")
	term.tmux("-f", "/dev/null", "new-session", "-d", "-s", "s", "-x", fmt.Sprint(width), "-y", fmt.Sprint(height), command)
	t.Cleanup(func() { exec.Command("tmux", "-S", term.socket, "kill-server").Run() })
	return term
}

func (term *terminal) tmux(args ...string) string {
	term.t.Helper()
	out, err := exec.Command("tmux", append([]string{"-S", term.socket}, args...)...).CombinedOutput()
	if err != nil {
		term.t.Fatalf("tmux %s: %v: %s", args, err, out)
	}
	return string(out)
}

func (term *terminal) keys(keys ...string) {
	term.tmux(append([]string{"send-keys", "-t", "s"}, keys...)...)
}

func (term *terminal) screen() string { return term.tmux("capture-pane", "-t", "s", "-p") }

// until waits for the screen to show a pattern; a minute of real time at most.
func (term *terminal) until(pattern string) string {
	term.t.Helper()
	wanted := regexp.MustCompile(pattern)
	screen := ""
	for end := time.Now().Add(time.Minute); time.Now().Before(end); {
		if screen = term.screen(); wanted.MatchString(screen) {
			return screen
		}
	}
	term.t.Fatalf("the screen never shows %s:\n%s", pattern, screen)
	return ""
}

// TestScreens goes through the demo's story on a real terminal as a release engineer would.
func TestScreens(t *testing.T) {
	folder := t.TempDir()
	term := openTerminal(t, 158, 47, "demo", "--speed", "25", "--data", folder)
	term.until(`Skerry Line .* need you .* moving`)
	term.until(`boarding · north +Slow share .* at most 5 % is allowed; rolled back`)
	term.until(`fares · slipway +Stage 2 of 4 waits for a sign-off by a release lead`)
	term.until(`tides · isles +Changed by hand`)
	term.until(`crewing · drydock +Cannot start: there is no artifact crewing/roster:1.19.0`)

	term.keys("/")
	term.keys("-l", "fares")
	term.keys("Enter")
	term.until(`esc show all, not only “fares”`)
	term.keys("Escape")
	term.until(`notices`)
	term.selectNeed("fares · slipway")
	term.keys("s")
	term.until(`Sign off fares at slipway\? 8.2.0 then gets 95 % of the traffic.`)
	term.keys("Enter")
	term.until(`Done: sign off at fares · slipway|stage 3 of 4`)
	term.until(`fares · slipway .* (stage 3 of 4|proving)`)

	term.selectNeed("boarding · north")
	term.keys("Enter")
	term.until(`boarding · north +4.12.2 .* 4.13.0 .* rolled back at .*, from stage 2 of 5`)
	term.until(`(?s)WHY.*Slow share of the new cohort was.*WHAT WAS DONE.*VERDICTS AT THE TURN.*NEXT`)
	term.keys("p")
	term.until(`Written: .*watch-boarding-north`)
	for _, ending := range []string{"svg", "pdf"} {
		if found, _ := filepath.Glob(filepath.Join(folder, "watch-boarding-north-*."+ending)); len(found) != 1 {
			t.Errorf("the picture as %s: %v", ending, found)
		}
	}
	term.keys("Escape")
	term.selectNeed("tides · isles")
	term.keys("c")
	term.until(`(?s)WHAT A SYNC DOES.*It overwrites: gauge instances was set to 5 by hand and becomes 3.*instances +3 +same +5 +changed at the site`)
	term.keys("f")
	term.until(`environment LOG_LEVEL +info`)
	term.keys("i")
	term.until(`tides · isles +anatomy`)
	term.keys("2")
	term.until(`(?s)followed.*info  GET /v1/tides`)
	term.keys("Escape")
	term.until(`L links`) // an escape and a key in one breath are another key
	term.keys("L")
	term.until(`(?s)skerry-line +main.*shore-base +version \^2.7.*skerry-line for south +preview/quiet-hours`)
	term.keys("v")
	term.until(`The link skerry-line answers in`)
	term.keys("Escape")
	term.until(`NEEDS YOU`)
	term.selectNeed("tides · isles")
	term.keys("y")
	term.until(`Put tides at isles back as it was applied\? This undoes: gauge instances 3 → 5.`)
	term.keys("Enter")
	term.until(`tides · isles +1.30.1 \w+ +aligned and healthy`)

	term.keys("Space")
	term.until(`(?s)ACTIONS.*not now: no rollout is under way`)
	term.keys("Escape")
	term.until(`space all actions`) // an escape and a key in one breath are another key
	term.keys("?")
	term.until(`KEYS OF THIS SCREEN`)
	term.keys("x")
	term.tmux("resize-window", "-t", "s", "-x", "80", "-y", "24")
	term.until(`(?:WORKLOAD|\d+–\d+ of \d+) +drydock +slipway +north +south +isles`)
	for _, line := range strings.Split(term.screen(), "\n") {
		if len([]rune(line)) > 80 {
			t.Errorf("at 80 columns a line is wider: %s", line)
		}
	}
	term.keys("q")
	for end := time.Now().Add(20 * time.Second); ; {
		if exec.Command("tmux", "-S", term.socket, "has-session").Run() != nil {
			break
		}
		if time.Now().After(end) {
			t.Fatal("q does not quit")
		}
	}
	if code, text, _ := shell(t, "status", "--data", folder); code != exitOK || !regexp.MustCompile(`tides/isles +1.30.1 +aligned`).MatchString(text) {
		t.Errorf("what is on record after the end: code %d\n%s", code, text)
	}
}

// TestLineOnScreen opens a person's own repository on a real terminal: the first revision is taken with y, a signed
// webhook brings the next one, and the shell gives orders to the running program.
func TestLineOnScreen(t *testing.T) {
	l := newLine(t)
	l.commit("First", "deploy/harbour.yaml", harbour)
	l.aditus(exitOK, ``, "link", "add", "own", l.repo, "--every", "1h", "--skip-registry", "registry.harbour.example")
	secret := strings.TrimSpace(l.aditus(exitOK, ``, "link", "webhook", "own"))
	name := filepath.Join(l.data, "settings.yaml")
	text, err := os.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	address := porttest.Free(t)
	if err := os.WriteFile(name, append(text, "listen: "+address+"\n"...), 0o600); err != nil {
		t.Fatal(err)
	}
	term := openTerminal(t, 120, 40, "--data", l.data)
	term.until(`harbour .* ◌ +◌`)
	term.keys("y")
	term.until(`Sync harbour at trial\? 1.0.0 is rolled out in its stages now`)
	term.keys("Enter")
	term.until(`harbour .* 1.0.0  `)
	l.aditus(exitOK, `aligned`, "sync", "harbour/trial")

	l.commit("Second", "deploy/harbour.yaml", strings.Replace(harbour, "1.0.0", "1.1.0", 1))
	push := func(body string) (int, string) {
		request, err := http.NewRequest(http.MethodPost, "http://"+address+"/hooks/own", strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		sum := hmac.New(sha256.New, []byte(secret))
		sum.Write([]byte(body))
		request.Header.Set("X-Hub-Signature", "sha256="+hex.EncodeToString(sum.Sum(nil)))
		answer, err := http.DefaultClient.Do(request)
		if err != nil {
			t.Fatal(err)
		}
		defer answer.Body.Close()
		got, _ := io.ReadAll(answer.Body)
		return answer.StatusCode, string(got)
	}
	if code, text := push(`{"ref":"refs/heads/main","commits":[{"modified":["deploy/harbour.yaml"]}]}`); code != http.StatusAccepted || !strings.Contains(text, `"looks":true`) {
		t.Errorf("the webhook: %d %s", code, text)
	}
	term.until(`harbour .* 1.0.0 +behind 1`)
	l.aditus(exitOK, `begun`, "sync", "harbour/trial", "--no-wait")
	term.until(`harbour .* 1.1.0  `)
	l.aditus(exitWrong, `an Aditus|in use|works on`, "demo", "--headless")
	term.keys("q")
}

// TestConnectOnScreen connects a repository where nothing is connected yet: a site's target is typed, all is written, and the screens that begin
// anew with it take the very first key.
func TestConnectOnScreen(t *testing.T) {
	l := newLine(t)
	l.commit("Lights", "deploy/lights.yaml", "aditus: 1\nworkload: lights\nsites: [trial]\nparts: {app: {kind: service, command: [/bin/sleep, '9'], instances: 1}}\n")
	term := openTerminal(t, 158, 47, "--data", l.data)
	term.until(`Address of the repository or registry:`)
	term.keys("-l", l.repo)
	term.keys("Enter")
	term.until(`(?s)answers in .*“Lights” by Tove Lind.*A first sync brings:\s+lights \w+ at trial: app`)
	term.keys("End")
	term.keys("Enter")
	term.until(`What trial runs on, as in the settings`)
	term.keys("C-u")
	term.keys("-l", "stand-on")
	term.keys("Enter")
	term.until(`(?s)There is no kind of target "stand-on".*trial cannot run on what is chosen for it`)
	term.keys("Enter")
	term.keys("C-u")
	term.keys("-l", "stand-in")
	term.keys("Enter")
	term.until(`trial +✓ a stand-in that runs nothing`)
	term.keys("w")
	term.until(`WORKLOAD +trial`)
	term.keys("?")
	term.until(`KEYS OF THIS SCREEN`)
	term.keys("x")
	term.until(`lights .*◌`)
	term.keys("q")
}

// selectNeed presses the number that a need has in the list.
func (term *terminal) selectNeed(about string) {
	term.t.Helper()
	numbered := regexp.MustCompile(`┃ (\d)  ` + regexp.QuoteMeta(about))
	selected := regexp.MustCompile(`\n +` + regexp.QuoteMeta(about) + `   `)
	for range needTries {
		term.keys(numbered.FindStringSubmatch(term.until(numbered.String()))[1])
		// What needs a person may come and go between reading its number and pressing it.
		for end := time.Now().Add(needShown); time.Now().Before(end); {
			if selected.MatchString(term.screen()) {
				return
			}
		}
	}
	term.t.Fatalf("%s cannot be selected by its number:\n%s", about, term.screen())
}

// needShown is how long a selected berth may take to be told, and needTries how often its number is read anew.
const (
	needShown = 10 * time.Second
	needTries = 3
)

// BenchmarkFirstFrame is the time from the start of the built program on a terminal to its first full frame, with a new
// story to be made and with one that is there already.
func BenchmarkFirstFrame(b *testing.B) {
	for _, anew := range []bool{true, false} {
		name := "going-on"
		if anew {
			name = "new-story"
		}
		b.Run(name, func(b *testing.B) {
			folder := b.TempDir()
			if !anew {
				firstFrame(b, folder)
			}
			for i := 0; b.Loop(); i++ {
				at := folder
				if anew {
					at = filepath.Join(folder, fmt.Sprint(i))
				}
				firstFrame(b, at)
			}
		})
	}
}

// firstFrame starts the program, waits for its first full frame, and ends it outside of the measured time.
func firstFrame(b *testing.B, folder string) {
	cmd := exec.Command(program, "demo", "--data", folder)
	cmd.Env = append(os.Environ(), "TERM=xterm-256color")
	terminal, err := pty.StartWithSize(cmd, &pty.Winsize{Rows: 47, Cols: 158})
	if err != nil {
		b.Fatal(err)
	}
	var seen []byte
	buffer := make([]byte, 64<<10)
	for !bytes.Contains(seen, []byte("tides")) || !bytes.Contains(seen, []byte("quit")) {
		n, err := terminal.Read(buffer)
		if err != nil {
			b.Fatalf("%v after %q", err, seen)
		}
		seen = append(seen, buffer[:n]...)
	}
	b.StopTimer()
	cmd.Process.Kill()
	cmd.Wait()
	terminal.Close()
	if out, err := exec.Command(program, "keep", "--end", "--data", folder).CombinedOutput(); err != nil { // what runs at drydock outlives it
		b.Fatalf("%v %s", err, out)
	}
	b.StartTimer()
}
