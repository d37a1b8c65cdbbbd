package keeper

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	gops "github.com/shirou/gopsutil/v4/process"

	"aditus/internal/disk"
	"aditus/internal/system"
	"aditus/internal/target/local/sole"
)

// record is what the keeper remembers of a process on disk, for the keeper that comes after it.
type record struct {
	PID         int            `json:"pid,omitempty"`     // 0 while it does not run
	Created     int64          `json:"created,omitempty"` // when the system says that it was made, in milliseconds since 1970
	Ports       map[string]int `json:"ports,omitempty"`
	Found       bool           `json:"found,omitempty"`     // it ran already: nobody here started it
	Container   string         `json:"container,omitempty"` // that it runs in; its PID is that of the machine then, or 1
	Engine      string         `json:"engine,omitempty"`    // of the last container
	Name        string         `json:"name,omitempty"`      // of the last container
	Started     time.Time      `json:"started,omitzero"`
	Restarts    []time.Time    `json:"restarts,omitempty"`
	Asked       int            `json:"asked,omitempty"`         // restarts that were asked for and done
	OutOfMemory uint64         `json:"out_of_memory,omitempty"` // how often something in its group was killed for its memory, when it started
	Done        bool           `json:"done,omitempty"`
	Failed      string         `json:"failed,omitempty"`
	Reason      string         `json:"reason,omitempty"`
	Events      []Event        `json:"events,omitempty"`
}

const (
	RecordFile   = "process.json" // in the folder of an instance that was started, until it ended
	mostRestarts = 32
	mostEvents   = 16
	folderName   = "ADITUS_FOLDER" // the variable by which a process is known that no record tells of
)

func (r *record) event(now time.Time, bad bool, format string, args ...any) {
	r.Events = append(r.Events, Event{At: now, Text: fmt.Sprintf(format, args...), Bad: bad})
	r.Events = slices.Clone(r.Events[max(0, len(r.Events)-mostEvents):])
}

func readRecord(folder string) (record, error) {
	var r record
	text, err := os.ReadFile(filepath.Join(folder, RecordFile))
	if err == nil {
		err = json.Unmarshal(text, &r)
	}
	return r, err
}

func (r record) write(d disk.Disk, folder string) error {
	text, err := json.Marshal(r)
	if err != nil {
		return err
	}
	return disk.Keep(d, filepath.Join(folder, RecordFile), text, 0o600)
}

// lives tells whether the process of a record still runs: its number alone could be another's by now. Of a container its engine says whether
// it does.
func (r record) lives() bool { return r.Container != "" || sole.Lives(r.PID, r.Created) }

// down notes that it does not run.
func (r *record) down() { r.PID, r.Container = 0, "" }

// strays finds processes of instances by the folder in their environment: those that were started by a keeper that was
// killed before it could write their record.
func strays() map[string]stray {
	found, leads := map[string]stray{}, map[string]int64{}
	each(func(p *gops.Process, folder string, environment []string) {
		created, _ := p.CreateTime()
		if first, ok := leads[folder]; !ok || created < first { // children have the same environment
			leads[folder], found[folder] = created, stray{int(p.Pid), userOf(p), environment}
		}
	})
	return found
}

// Started tells by the environment of a process whether a keeper started it, or what it keeps did.
func Started(environment []string) bool { return lookup(environment, folderName) != "" }

// stray is a process that runs, and what it was told when it was started.
type stray struct {
	pid         int // 0 for none
	user        int // whom it runs as
	environment []string
}

// userOf is whom a process runs as; -1 where it has gone.
func userOf(p *gops.Process) int {
	users, err := p.Uids()
	if err != nil || len(users) == 0 {
		return -1
	}
	return int(users[0])
}

// of tells whether it runs as whom a process is to: one of another user may say what it likes of itself.
func (s stray) of(p Process) bool { return s.pid != 0 && s.user == cmp.Or(p.User, os.Geteuid()) }

// ports are those that it was told to listen on.
func (s stray) ports(names []string) map[string]int {
	ports := map[string]int{}
	for _, name := range names {
		if port, err := strconv.Atoi(lookup(s.environment, portName(name))); err == nil {
			ports[name] = port
		}
	}
	return ports
}

// Running are all processes of the instances in some folders, and what they started, as far as that kept its environment.
func Running(folders []string) (pids []int) {
	each(func(p *gops.Process, folder string, _ []string) {
		if slices.Contains(folders, filepath.Dir(folder)) {
			if _, runs := sole.CreatedAt(int(p.Pid)); runs {
				pids = append(pids, int(p.Pid))
			}
		}
	})
	return pids
}

// EndRest kills what instances in some folders left running of themselves elsewhere, and tells what stays all the same.
func EndRest(ctx context.Context, folders []string) error {
	for tries := 0; ; tries++ {
		left := Running(folders)
		if len(left) == 0 {
			return ctx.Err()
		}
		if tries == endTries || ctx.Err() != nil {
			return fmt.Errorf("these processes still run and cannot be ended: %v; end them by hand", left)
		}
		for _, pid := range left {
			system.Kill(pid)
		}
		time.Sleep(endAgain)
	}
}

// What is killed may take the system so long.
const (
	endTries = 50
	endAgain = 100 * time.Millisecond
)

// endRest ends what is left of all instances, as it may end what runs as another user, and removes what was in memory of them.
func (k *Keeper) endRest(ctx context.Context) {
	for _, s := range k.all() {
		err := EndRest(ctx, []string{s.folder(), s.room()})
		var entries []os.DirEntry
		memory := filepath.Dir(s.room())
		if len(k.users) > 0 && s.room() != "" {
			entries, _ = os.ReadDir(memory) // where there is none, nothing is left
		}
		for _, entry := range entries {
			gone := filepath.Join(memory, GonePrefix+strings.TrimPrefix(entry.Name(), GonePrefix))
			err = errors.Join(err, os.Rename(filepath.Join(memory, entry.Name()), gone), k.remove(gone))
		}
		if err != nil {
			s.warn("not all could be ended, and what it had removed", s.name, err)
		}
	}
}

// each calls do with every process that has the folder of an instance in its environment.
func each(do func(p *gops.Process, folder string, environment []string)) {
	all, err := gops.Processes()
	if err != nil {
		return
	}
	for _, p := range all {
		environment, err := p.Environ() // of others it cannot be read
		if err != nil {
			continue
		}
		for _, variable := range environment {
			if folder, ok := strings.CutPrefix(variable, folderName+"="); ok {
				do(p, folder, environment)
			}
		}
	}
}

// usage is the processor time and the memory that a process has.
func usage(pid int) (seconds float64, memory uint64) {
	p := &gops.Process{Pid: int32(pid)}
	if times, err := p.Times(); err == nil {
		seconds = times.User + times.System
	}
	if m, err := p.MemoryInfo(); err == nil {
		memory = m.RSS
	}
	return seconds, memory
}

// Kill kills the keeper of a data folder, which does not answer any more. What it keeps runs on.
func Kill(folder string) error { return sole.Kill(filepath.Join(folder, lockFile)) }
