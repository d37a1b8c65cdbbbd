package keeper

import (
	"errors"
	"os"
	"strings"
	"testing"
	"time"

	"aditus/internal/disk"
	"aditus/internal/disk/disktest"
	"aditus/internal/target/local/sole"
)

// TestLives sees that a process is known by its number and by when it was made: the system gives numbers again.
func TestLives(t *testing.T) {
	created, ok := sole.CreatedAt(os.Getpid())
	if !ok {
		t.Fatal("nobody knows when this process was made")
	}
	for _, test := range []struct {
		name string
		r    record
		want bool
	}{
		{"this process", record{PID: os.Getpid(), Created: created}, true},
		{"another one with its number", record{PID: os.Getpid(), Created: created - time.Hour.Milliseconds()}, false},
		{"none", record{Created: created}, false},
	} {
		if got := test.r.lives(); got != test.want {
			t.Errorf("%s lives: %v", test.name, got)
		}
	}
}

// TestPowerCut replays what is left of a record at each moment.
func TestPowerCut(t *testing.T) {
	disktest.Values(t, 6, func(d disk.Disk, folder string, n int) error {
		return record{Asked: n, Reason: strings.Repeat("why ", 400)}.write(d, folder)
	}, func(folder string) (int, error) {
		r, err := readRecord(folder)
		if errors.Is(err, os.ErrNotExist) {
			err = nil
		}
		return r.Asked, err
	})
}

// TestStray takes nothing over that runs as another user than it should: whoever runs it may say what it likes of itself.
func TestStray(t *testing.T) {
	for _, test := range []struct {
		stray stray
		user  int
		want  bool
	}{{stray{pid: 7, user: os.Geteuid()}, 0, true}, {stray{pid: 7, user: 700100}, 700100, true}, {stray{pid: 7, user: 700101}, 700100, false}, {stray{pid: 7, user: 700101}, 0, false}, {stray{user: 700100}, 700100, false}} {
		if got := test.stray.of(Process{User: test.user}); got != test.want {
			t.Errorf("%+v as user %d: %v", test.stray, test.user, got)
		}
	}
	ports := stray{environment: []string{"PORT_HTTP=1", "PORT_HTTP=21000", "PORT_ODD=x"}}.ports([]string{"http", "odd", "none"})
	if len(ports) != 1 || ports["http"] != 21000 {
		t.Errorf("its ports are %v", ports)
	}
}
