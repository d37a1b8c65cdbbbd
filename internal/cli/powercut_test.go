//go:build linux

package cli

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"aditus/internal/target/sim"
)

// shutDown is ext4's request to stop at once without writing its journal, as a power cut does (EXT4_IOC_SHUTDOWN, NOLOGFLUSH).
const (
	shutDown   = 0x8004587d
	noLogFlush = 2
)

// TestRealPowerCut cuts the power of a file system under the real program at many moments of many releases: each time it starts
// again, the ledger has all that it had told before, and the workload serves. It is long, and needs root and ext4.
func TestRealPowerCut(t *testing.T) {
	if os.Getenv("ADITUS_LONG") == "" || os.Getuid() != 0 {
		t.Skip("it takes minutes, and root: ADITUS_LONG=1")
	}
	l, image := diskDock(t)
	l.serve()
	l.sync("tally")
	facts := func() string {
		_, out, _ := shell(t, "ledger", "--json", "--data", l.folder)
		return out
	}
	const cuts = 12
	for cut := range cuts {
		l.release("tally", fmt.Sprintf("1.%d.0", cut+1), sim.Artifact{})
		time.Sleep(time.Second + time.Duration(rand.IntN(int(9*time.Second)))) // not a wait for anything: the moment of the cut
		l.sync("tally")
		time.Sleep(time.Duration(rand.IntN(int(6 * time.Second))))
		told := facts()
		l.cutPower()
		if out, err := exec.Command("mount", "-o", "loop", image, l.folder).CombinedOutput(); err != nil {
			t.Fatalf("after cut %d: %v %s", cut, err, out)
		}
		l.serve()
		now := facts()
		if !strings.HasPrefix(now, told) {
			t.Fatalf("after cut %d the ledger has not what it had told: %d bytes of %d", cut, len(now), len(told))
		}
		l.await("it serves", func() bool {
			out, err := exec.Command("curl", "-s", "-o", os.DevNull, "-w", "%{http_code}", "-H", "Host: tally.example", "http://"+l.listen).Output()
			return err == nil && string(out) == "200"
		})
		if _, out, _ := shell(t, "status", "--data", l.folder); strings.Contains(out, "damaged") || strings.Contains(out, "unproven here") {
			t.Fatalf("after cut %d:\n%s", cut, out)
		}
	}
	t.Logf("%d cuts", cuts)
	l.stop(syscall.SIGTERM)
	exec.Command(program, "keep", "--end", "--data", l.folder).Run()
}

// diskDock is a dock whose data folder is a file system of its own, with a workload that no server has seen yet.
func diskDock(t *testing.T) (l *dock, image string) {
	t.Helper()
	l = openDock(t)
	image = filepath.Join(t.TempDir(), "image")
	for _, command := range [][]string{{"truncate", "-s", "300M", image}, {"mkfs.ext4", "-q", image}, {"mount", "-o", "loop,errors=remount-ro", image, l.folder}} {
		if out, err := exec.Command(command[0], command[1:]...).CombinedOutput(); err != nil {
			t.Skipf("a disk whose power can be cut cannot be made here: %v: %v %s", command, err, out)
		}
	}
	t.Cleanup(func() { exec.Command("umount", "-l", l.folder).Run() })
	l.git("init", "-q")
	text := fmt.Sprintf(soakWorkload, "tally", l.artifacts, 2, "stages: [{share: 25 %, soak: 3s}, {share: 100 %}]")
	if err := os.WriteFile(filepath.Join(l.source, "deploy", "tally.yaml"), []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	l.release("tally", "1.0.0", sim.Artifact{})
	if out, err := exec.Command(program, "link", "add", "line", l.source, "--data", l.folder, "--every", "1s", "--target", "local="+l.listen).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	return l, image
}

// TestReadOnly has the disk fail under the program, so that its file system is read-only from one moment on, in the midst of a release: what
// serves serves on, it is told, and after the disk was mended all goes on with what was on record.
func TestReadOnly(t *testing.T) {
	if os.Getenv("ADITUS_LONG") == "" || os.Getuid() != 0 {
		t.Skip("it takes root: ADITUS_LONG=1")
	}
	l, image := diskDock(t)
	l.serve()
	l.sync("tally")
	l.wait("tally", "proven")
	device, err := exec.Command("findmnt", "-no", "SOURCE", l.folder).Output()
	trigger := filepath.Join("/sys/fs/ext4", filepath.Base(strings.TrimSpace(string(device))), "trigger_fs_error")
	if _, missing := os.Stat(trigger); err != nil || missing != nil {
		t.Skipf("the disk cannot be made to fail: %v %v", err, missing)
	}
	l.paths = []string{"tally.example"}
	ctx, cancel := context.WithCancel(t.Context())
	callers := l.load(ctx, soakCallers)
	l.release("tally", "1.1.0", sim.Artifact{})
	l.sync("tally")
	l.await("it comes in", func() bool {
		_, out, _ := shell(t, "status", "--data", l.folder)
		return strings.Contains(out, "25 %")
	})
	if err := os.WriteFile(trigger, []byte("failed"), 0o200); err != nil {
		t.Skipf("the disk cannot be made to fail: %v", err)
	}
	_, told, _ := shell(t, "ledger", "--json", "--data", l.folder)
	l.await("it is told", func() bool {
		_, out, _ := shell(t, "status", "--data", l.folder)
		return strings.Contains(out, "cannot be written to")
	})
	sent := l.sent.Load()
	l.await("it serves on", func() bool { return l.sent.Load() > sent+200 })
	l.expectLoss.Store(true)
	cancel()
	callers.Wait()
	if lost := l.lost.Load(); lost > 0 {
		t.Errorf("%d of %d requests were lost", lost, l.sent.Load())
	}
	l.cutPower()
	for _, command := range [][]string{{"e2fsck", "-fy", image}, {"mount", "-o", "loop", image, l.folder}} {
		if out, err := exec.Command(command[0], command[1:]...).CombinedOutput(); err != nil && command[0] == "mount" {
			t.Fatalf("%v: %v %s", command, err, out)
		}
	}
	l.serve()
	if _, now, _ := shell(t, "ledger", "--json", "--data", l.folder); !strings.HasPrefix(now, told) {
		t.Errorf("the ledger has not what it had told: %d bytes of %d", len(now), len(told))
	}
	l.wait("tally", "proven")
	l.stop(syscall.SIGTERM)
	exec.Command(program, "keep", "--end", "--data", l.folder).Run()
}

// cutPower stops the disk of the data folder at once, and ends all that runs there as a machine does that goes off.
func (l *dock) cutPower() {
	l.t.Helper()
	folder, err := os.Open(l.folder)
	if err != nil {
		l.t.Fatal(err)
	}
	if err := unix.IoctlSetPointerInt(int(folder.Fd()), shutDown, noLogFlush); err != nil {
		l.t.Skipf("the disk cannot be stopped: %v", err)
	}
	folder.Close()
	keeper := l.keeper()
	pids := l.pids()
	l.stop(syscall.SIGKILL)
	syscall.Kill(keeper, syscall.SIGKILL)
	for _, pid := range pids {
		syscall.Kill(pid, syscall.SIGKILL)
	}
	exec.Command("pkill", "-KILL", "-f", l.folder).Run()
	if out, err := exec.Command("umount", l.folder).CombinedOutput(); err != nil {
		if out2, err := exec.Command("umount", "-l", l.folder).CombinedOutput(); err != nil {
			l.t.Fatalf("%v %s %s", err, out, out2)
		}
	}
}
