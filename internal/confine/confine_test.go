//go:build linux

package confine

import (
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
)

// TestConfined starts a shell that tries what it may and what it may not, and sees that it bears the mark.
func TestConfined(t *testing.T) {
	if !Can() {
		t.Skip(ErrCannot)
	}
	folder := t.TempDir()
	for _, name := range []string{"own", "other"} {
		if err := os.MkdirAll(filepath.Join(folder, name), 0o700); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(folder, name, "text"), []byte("a secret of "+name), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	t.Setenv("SECRET", "of the parent")
	rules := Machine()
	rules.Write = append(rules.Write, filepath.Join(folder, "own"), filepath.Join(folder, "is not there"))
	run := func(script string) (string, error) {
		cmd := exec.Command("/bin/sh", "-c", script)
		cmd.Env = []string{"PATH=/usr/bin:/bin", "OWN=" + filepath.Join(folder, "own"), "OTHER=" + filepath.Join(folder, "other"), "PARENT=" + strconv.Itoa(os.Getpid())}
		var out strings.Builder
		cmd.Stdout, cmd.Stderr = &out, &out
		if err := Start(rules, cmd.Start); err != nil {
			t.Fatal(err)
		}
		err := cmd.Wait()
		return out.String(), err
	}
	for script, want := range map[string]string{
		"cat $OWN/text": "a secret of own", "echo new > $OWN/new && cat $OWN/new": "new", "rm $OWN/new; mkdir $OWN/a && mv $OWN/a $OWN/b && ls $OWN": "b", "ls /usr/bin | head -c 1 | wc -c": "1",
		"echo x > /dev/null && head -c 1 /dev/urandom | wc -c": "1", "cat /etc/hostname /etc/passwd | grep -c root: ": "1",
	} {
		if out, err := run(script); err != nil || !strings.Contains(out, want) {
			t.Errorf("%s: %q (%v)", script, out, err)
		}
	}
	for _, script := range []string{
		"cat $OTHER/text", "ls $OTHER", "echo x > $OTHER/new", "ln $OTHER/text $OWN/link && cat $OWN/link", "ln -s $OTHER/text $OWN/sym && cat $OWN/sym", "mv $OWN/text $OTHER/",
		"cat /proc/$PARENT/environ", "head -c 1 /proc/$PARENT/mem", "ls -L /proc/$PARENT/root", "kill -0 $PARENT", "cat /etc/shadow", "mount -t tmpfs none $OWN", "chroot / /bin/true", "ls /var/lib",
		"(cat $OTHER/text)& wait $!", "sh -c 'sh -c \"cat $OTHER/text\"'",
	} {
		if out, err := run(script); err == nil || strings.Contains(out, "a secret of other") || strings.Contains(out, "of the parent") {
			t.Errorf("%s: it could: %q", script, out)
		}
	}
	pipe := filepath.Join(folder, "own", "pids")
	cmd := exec.Command("/bin/sh", "-c", "(sleep 60 & echo $! > "+pipe+"); echo told; sleep 60")
	out, err := cmd.StdoutPipe()
	if err == nil {
		err = Start(rules, cmd.Start)
	}
	if err != nil {
		t.Fatal(err)
	}
	defer cmd.Process.Kill()
	if n, err := out.Read(make([]byte, 5)); n == 0 {
		t.Fatal(err)
	}
	text, _ := os.ReadFile(pipe)
	orphan, _ := strconv.Atoi(strings.TrimSpace(string(text)))
	if process, err := os.FindProcess(orphan); err == nil {
		defer process.Kill()
	}
	if !Marked(cmd.Process.Pid) || !Marked(orphan) || Marked(os.Getpid()) || Marked(1) {
		t.Errorf("marked: it %v, what it left %v, this %v, the first %v", Marked(cmd.Process.Pid), Marked(orphan), Marked(os.Getpid()), Marked(1))
	}
}
