package limit

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/containerd/cgroups/v3"
	"github.com/containerd/cgroups/v3/cgroup1"
	"github.com/containerd/cgroups/v3/cgroup2"
	"github.com/opencontainers/runtime-spec/specs-go"
	"golang.org/x/sys/unix"
)

// period is over which processor time is counted, in microseconds.
const period = 100_000

// spec is the limits as the system takes them.
func (l Limits) spec() *specs.LinuxResources {
	s := &specs.LinuxResources{}
	if l.CPU > 0 {
		quota := int64(max(LeastCPU, l.CPU) * period)
		s.CPU = &specs.LinuxCPU{Quota: &quota, Period: new(uint64(period))}
	}
	if l.Memory > 0 {
		s.Memory = &specs.LinuxMemory{Limit: &l.Memory}
	}
	if l.Processes > 0 {
		s.Pids = &specs.LinuxPids{Limit: new(int64(l.Processes))}
	}
	return s
}

// Group is a control group. The zero Group holds nothing.
type Group struct {
	v1 cgroup1.Cgroup
	v2 *cgroup2.Manager
	at string // of v2: its folder
}

// mount is where control groups of the second version are.
const mount = "/sys/fs/cgroup"

// controllers are those that are needed.
var controllers = []cgroup1.Name{cgroup1.Memory, cgroup1.Cpu, cgroup1.Pids}

// hierarchy is the controllers that are needed of the first version.
func hierarchy() ([]cgroup1.Subsystem, error) {
	all, err := cgroup1.Default()
	return slices.DeleteFunc(all, func(s cgroup1.Subsystem) bool {
		return !slices.Contains(controllers, s.Name())
	}), err
}

// name is that of a group beneath where groups are made, by the parts that make it.
func name(parts []string) string { return "/" + path.Join(append([]string{"aditus"}, parts...)...) }

// base is the group of the second version under which groups are made, as a path from mount. For root of the machine it is the first of all.
// For others it is the one above that which this process is in, where that was given into their hands, as systemd does with Delegate= and
// DelegateSubgroup=: no group may have both processes and groups that are held to something.
var base = sync.OnceValues(func() (string, error) {
	if _, err := os.Stat(filepath.Join(mount, "cgroup.type")); os.Geteuid() == 0 && errors.Is(err, os.ErrNotExist) { // the first of all has no type
		return "/", nil
	}
	_, own, err := cgroups.ParseCgroupFileUnified("/proc/self/cgroup")
	if err != nil {
		return "", err
	}
	if above := path.Dir(own); own != "/" && ours(above) {
		return above, nil
	}
	return "", fmt.Errorf("that above the one of this process, %s, is not this account's", own)
})

// ours tells whether this account may make groups in one, and move processes there.
func ours(group string) bool {
	return unix.Access(filepath.Join(mount, group, "cgroup.procs"), unix.W_OK) == nil && unix.Access(filepath.Join(mount, group, "cgroup.subtree_control"), unix.W_OK) == nil
}

// Make makes a group with limits, or gives the one of that name with these limits.
func Make(l Limits, parts ...string) (g Group, err error) {
	switch cgroups.Mode() {
	case cgroups.Legacy, cgroups.Hybrid:
		g.v1, err = cgroup1.New(cgroup1.NestedPath(name(parts)), l.spec(), cgroup1.WithHierarchy(hierarchy))
		if err == nil {
			err = g.v1.Update(l.spec())
		}
	case cgroups.Unified:
		var under string
		if under, err = base(); err == nil {
			g.at = filepath.Join(mount, under, name(parts))
			g.v2, err = cgroup2.NewManager(mount, path.Join(under, name(parts)), cgroup2.ToResources(l.spec()))
		}
	default:
		return Group{}, ErrCannot
	}
	if err != nil {
		return Group{}, fmt.Errorf("%w (%v)", ErrCannot, err)
	}
	return g, nil
}

// Can tells whether groups can be made here.
func Can() bool {
	switch cgroups.Mode() {
	case cgroups.Legacy, cgroups.Hybrid:
		for _, of := range controllers {
			own, err := cgroup1.NestedPath("/")(of)
			if err != nil || unix.Access(filepath.Join(mount, string(of), own), unix.W_OK) != nil {
				return false
			}
		}
		return true
	case cgroups.Unified:
		_, err := base()
		return err == nil
	}
	return false
}

// Find gives the group of a name, with nothing in it where there is none.
func Find(parts ...string) (g Group) {
	switch cgroups.Mode() {
	case cgroups.Legacy, cgroups.Hybrid:
		if found, err := cgroup1.Load(cgroup1.NestedPath(name(parts)), cgroup1.WithHierarchy(hierarchy)); err == nil {
			g.v1 = found
		}
	case cgroups.Unified:
		if under, err := base(); err == nil {
			at := filepath.Join(mount, under, name(parts))
			if _, err := os.Stat(at); err != nil { // which Load does not look at
				return g
			}
			if found, err := cgroup2.Load(path.Join(under, name(parts)), cgroup2.WithMountpoint(mount)); err == nil {
				g.v2, g.at = found, at
			}
		}
	}
	return g
}

// Enter has what is started next with a command, from the thread that calls it, start within the group. The thread may be in it from then on,
// and is to be given up. done is to be called once it was started.
func (g Group) Enter(cmd *exec.Cmd) (done func(), err error) {
	switch {
	case g.v2 != nil:
		folder, err := os.Open(g.at)
		if err != nil {
			return nil, err
		}
		cmd.SysProcAttr.UseCgroupFD, cmd.SysProcAttr.CgroupFD = true, int(folder.Fd())
		return func() { folder.Close() }, nil
	case g.v1 != nil:
		return func() {}, g.v1.AddTask(cgroup1.Process{Pid: unix.Gettid()})
	}
	return func() {}, nil
}

// Holds tells whether it holds anything.
func (g Group) Holds() bool { return g.v1 != nil || g.v2 != nil }

// OutOfMemory is how often something in the group was killed since it used all of its memory.
func (g Group) OutOfMemory() uint64 {
	switch {
	case g.v1 != nil:
		if stat, err := g.v1.Stat(cgroup1.IgnoreNotExist); err == nil && stat.GetMemoryOomControl() != nil {
			return stat.GetMemoryOomControl().GetOomKill()
		}
	case g.v2 != nil:
		if stat, err := g.v2.Stat(); err == nil && stat.GetMemoryEvents() != nil {
			return stat.GetMemoryEvents().GetOomKill()
		}
	}
	return 0
}

// Of is to what a process is held by its control groups, and whether those are the ones of a name. What nothing is said of is 0.
func Of(pid int, parts ...string) (l Limits, within bool, err error) {
	groups, unified, err := cgroups.ParseCgroupFileUnified(fmt.Sprintf("/proc/%d/cgroup", pid))
	if err != nil {
		return l, false, err
	}
	at := func(controller cgroup1.Name) string {
		if cgroups.Mode() == cgroups.Unified {
			return filepath.Join(mount, unified)
		}
		return filepath.Join(mount, string(controller), groups[string(controller)])
	}
	within = true
	for _, controller := range controllers {
		within = within && strings.HasSuffix(at(controller), name(parts))
	}
	number := func(controller cgroup1.Name, names ...string) float64 { // of the first file that is there
		for _, file := range names {
			text, err := os.ReadFile(filepath.Join(at(controller), file))
			var n float64
			if err != nil {
				continue
			}
			if _, err := fmt.Sscan(string(text), &n); err != nil || n >= unlimited { // "max"
				return 0
			}
			return max(0, n)
		}
		return 0
	}
	l.Memory = int64(number(cgroup1.Memory, "memory.max", "memory.limit_in_bytes"))
	l.CPU = number(cgroup1.Cpu, "cpu.max", "cpu.cfs_quota_us") / period
	l.Processes = int(number(cgroup1.Pids, "pids.max"))
	return l, within, nil
}

// unlimited is how much memory the first version says where there is no limit, or more.
const unlimited = 1 << 62

// How long it is waited for what was killed to be gone.
const (
	killTries = 50
	killWait  = 20 * time.Millisecond
)

// End ends all that is in the group, and the group.
func (g Group) End() error {
	if !g.Holds() {
		return nil
	}
	var err error
	for range killTries {
		for _, pid := range g.processes() {
			unix.Kill(pid, unix.SIGKILL)
		}
		if g.v1 != nil {
			err = g.v1.Delete()
		} else {
			err = g.v2.Delete()
		}
		if err == nil || errors.Is(err, os.ErrNotExist) {
			return nil
		}
		time.Sleep(killWait)
	}
	return err
}

// processes are those in the group. This one is none of them, though a thread of it that started something may still be about to end.
func (g Group) processes() (pids []int) {
	defer func() { pids = slices.DeleteFunc(pids, func(pid int) bool { return pid == os.Getpid() }) }()
	if g.v2 != nil {
		all, _ := g.v2.Procs(true)
		for _, pid := range all {
			pids = append(pids, int(pid))
		}
		return pids
	}
	for _, of := range controllers {
		all, _ := g.v1.Processes(of, true)
		for _, p := range all {
			if !slices.Contains(pids, p.Pid) {
				pids = append(pids, p.Pid)
			}
		}
	}
	return pids
}
