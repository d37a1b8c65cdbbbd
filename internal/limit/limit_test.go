package limit

import (
	"errors"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"testing"
	"time"

	"aditus/internal/confine"
)

// group makes a group, or skips where this machine has none to give.
func group(t *testing.T, l Limits) Group {
	t.Helper()
	g, err := Make(l, "test", strings.ReplaceAll(t.Name(), "/", "-"))
	if errors.Is(err, ErrCannot) {
		t.Skip(err)
	}
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := g.End(); err != nil {
			t.Error(err)
		}
	})
	return g
}

// start starts a command in a group.
func start(t *testing.T, g Group, cmd *exec.Cmd) {
	t.Helper()
	if err := confine.Apart(func() error {
		done, err := g.Enter(cmd)
		if err != nil {
			return err
		}
		defer done()
		return cmd.Start()
	}); err != nil {
		t.Fatal(err)
	}
}

// run runs a script in a group, and tells what it said and how it ended.
func run(t *testing.T, g Group, script string) (string, error) {
	t.Helper()
	var said strings.Builder
	cmd := exec.Command("/bin/sh", "-c", script)
	cmd.Stdout, cmd.Stderr, cmd.SysProcAttr = &said, &said, &syscall.SysProcAttr{Setsid: true}
	start(t, g, cmd)
	err := cmd.Wait()
	return said.String(), err
}

// TestMemory has a process ask for more than it may have: it is killed, and that is told; one that asks for less is not.
func TestMemory(t *testing.T) {
	g := group(t, Limits{Memory: 64 << 20})
	if _, err := run(t, g, "head -c 20000000 /dev/zero | tail -c 20000000 | wc -c"); err != nil || g.OutOfMemory() != 0 {
		t.Errorf("20 MB of 64: %v, %d killed", err, g.OutOfMemory())
	}
	if _, err := run(t, g, "head -c 200000000 /dev/zero | tail -c 200000000 > /dev/null; exit ${?}"); g.OutOfMemory() == 0 {
		t.Errorf("200 MB of 64: %v, and nothing was killed", err)
	}
}

// TestProcesses has a process start more than it may.
func TestProcesses(t *testing.T) {
	g := group(t, Limits{Processes: 10})
	said, _ := run(t, g, "for n in 1 2 3 4 5 6 7 8 9 10 11 12 13 14 15; do sleep 60 > /dev/null 2>&1 & done; echo all")
	if !strings.Contains(strings.ToLower(said), "fork") || strings.Contains(said, "all") {
		t.Errorf("15 of 10: %q", said)
	}
}

// TestEnd ends what has left its session, and its parent, with the group.
func TestEnd(t *testing.T) {
	g := group(t, Limits{Processes: 100})
	name := t.TempDir() + "/pid"
	if _, err := run(t, g, "setsid sh -c 'echo $$ > "+name+"; exec sleep 600' < /dev/null > /dev/null 2>&1 &\nwhile ! [ -s "+name+" ]; do :; done"); err != nil {
		t.Fatal(err)
	}
	if all := g.processes(); len(all) != 1 {
		t.Errorf("in the group are %v", all)
	}
	if err := Find("test", t.Name()).End(); err != nil {
		t.Error(err)
	}
	text, err := os.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	if stat, err := os.ReadFile("/proc/" + strings.TrimSpace(string(text)) + "/stat"); err == nil && !strings.Contains(string(stat), ") Z") {
		t.Errorf("it still runs: %s", stat)
	}
}

// TestCPU holds a busy process to a tenth of a processor.
func TestCPU(t *testing.T) {
	g := group(t, Limits{CPU: 0.1})
	cmd := exec.Command("/bin/sh", "-c", "while :; do :; done")
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	start(t, g, cmd)
	began := time.Now()
	time.AfterFunc(time.Second, func() { cmd.Process.Kill() })
	cmd.Wait()
	if used, took := cmd.ProcessState.UserTime()+cmd.ProcessState.SystemTime(), time.Since(began); used > took/4 {
		t.Errorf("it used %s of %s", used, took)
	}
}

// TestOf tells to what a process is held, and whether by its own group.
func TestOf(t *testing.T) {
	l := Limits{CPU: 0.5, Memory: 64 << 20, Processes: 10}
	g := group(t, l)
	cmd := exec.Command("/bin/sleep", "600")
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	start(t, g, cmd)
	if has, within, err := Of(cmd.Process.Pid, "test", t.Name()); err != nil || !within || has != l {
		t.Errorf("it is held to %+v, within %v (%v)", has, within, err)
	}
	if has, within, err := Of(cmd.Process.Pid, "test", "another"); err != nil || within || has != l {
		t.Errorf("by another group's name it is held to %+v, within %v (%v)", has, within, err)
	}
	if _, within, err := Of(os.Getpid(), "test", t.Name()); err != nil || within {
		t.Errorf("this process is within %v (%v)", within, err)
	}
	cmd.Process.Kill()
	cmd.Wait()
	if _, _, err := Of(cmd.Process.Pid, "test", t.Name()); err == nil {
		t.Error("one that has gone is told of")
	}
}
