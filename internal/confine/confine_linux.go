package confine

import (
	"bufio"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"unsafe"

	"golang.org/x/sys/unix"
)

// Rights on files, by the version of Landlock that knows them first.
const (
	readRights  = unix.LANDLOCK_ACCESS_FS_EXECUTE | unix.LANDLOCK_ACCESS_FS_READ_FILE | unix.LANDLOCK_ACCESS_FS_READ_DIR
	writeRights = unix.LANDLOCK_ACCESS_FS_WRITE_FILE | unix.LANDLOCK_ACCESS_FS_REMOVE_DIR | unix.LANDLOCK_ACCESS_FS_REMOVE_FILE | unix.LANDLOCK_ACCESS_FS_MAKE_CHAR |
		unix.LANDLOCK_ACCESS_FS_MAKE_DIR | unix.LANDLOCK_ACCESS_FS_MAKE_REG | unix.LANDLOCK_ACCESS_FS_MAKE_SOCK | unix.LANDLOCK_ACCESS_FS_MAKE_FIFO |
		unix.LANDLOCK_ACCESS_FS_MAKE_BLOCK | unix.LANDLOCK_ACCESS_FS_MAKE_SYM
	ofFiles = unix.LANDLOCK_ACCESS_FS_EXECUTE | unix.LANDLOCK_ACCESS_FS_READ_FILE | unix.LANDLOCK_ACCESS_FS_WRITE_FILE | unix.LANDLOCK_ACCESS_FS_TRUNCATE | unix.LANDLOCK_ACCESS_FS_IOCTL_DEV
)

// laterRights are those that came with later versions.
var laterRights = []struct {
	version int
	right   uint64
}{{2, unix.LANDLOCK_ACCESS_FS_REFER}, {3, unix.LANDLOCK_ACCESS_FS_TRUNCATE}, {5, unix.LANDLOCK_ACCESS_FS_IOCTL_DEV}}

// scopedFrom is the version that keeps signals and abstract sockets within what is confined together.
const scopedFrom = 6

// version is that of the system's Landlock; 0 where there is none.
func version() int {
	v, _, failed := unix.Syscall(unix.SYS_LANDLOCK_CREATE_RULESET, 0, 0, unix.LANDLOCK_CREATE_RULESET_VERSION)
	if failed != 0 {
		return 0
	}
	return int(v)
}

// Can tells whether this system can confine processes.
func Can() bool { return version() > 0 }

// Start has start start a process that is confined.
func Start(rules Rules, start func() error) error {
	return Apart(func() error {
		if err := Restrict(rules); err != nil {
			return err
		}
		return start()
	})
}

// Apart does something on a thread of its own, which is given up afterwards: what it is held to, whoever it starts is held to as well.
func Apart(do func() error) error {
	done := make(chan error)
	go func() {
		runtime.LockOSThread() // and not unlocked: the thread ends with the goroutine
		if unix.Gettid() == unix.Getpid() {
			defer runtime.UnlockOSThread() // the first thread never ends, and stands for the process
			done <- Apart(do)              // on another one, as long as this one is held
			return
		}
		done <- do()
	}()
	return <-done
}

// Restrict confines the thread that calls it, for good.
func Restrict(rules Rules) error {
	v := version()
	if v == 0 {
		return ErrCannot
	}
	write := uint64(writeRights)
	for _, later := range laterRights {
		if v >= later.version {
			write |= later.right
		}
	}
	attributes := unix.LandlockRulesetAttr{Handled_access_fs: readRights | write}
	size := unsafe.Sizeof(attributes.Handled_access_fs)
	if v >= scopedFrom {
		attributes.Scoped = unix.LANDLOCK_SCOPE_ABSTRACT_UNIX_SOCKET | unix.LANDLOCK_SCOPE_SIGNAL
		size = unsafe.Offsetof(attributes.Scoped) + unsafe.Sizeof(attributes.Scoped)
	}
	set, _, failed := unix.Syscall(unix.SYS_LANDLOCK_CREATE_RULESET, uintptr(unsafe.Pointer(&attributes)), size, 0)
	if failed != 0 {
		return fmt.Errorf("confine: %w", failed)
	}
	defer unix.Close(int(set))
	for _, name := range rules.Read {
		if err := allow(int(set), name, readRights); err != nil {
			return err
		}
	}
	for _, name := range rules.Write {
		if err := allow(int(set), name, readRights|write); err != nil {
			return err
		}
	}
	if err := unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0); err != nil {
		return fmt.Errorf("confine: %w", err)
	}
	if err := drop(); err != nil {
		return fmt.Errorf("confine: %w", err)
	}
	if err := mark(); err != nil {
		return fmt.Errorf("confine: %w", err)
	}
	if _, _, failed := unix.Syscall(unix.SYS_LANDLOCK_RESTRICT_SELF, set, 0, 0); failed != 0 {
		return fmt.Errorf("confine: %w", failed)
	}
	return nil
}

// allow lets what is at a name be used. A link leads to what it names.
func allow(set int, name string, rights uint64) error {
	at, err := unix.Open(name, unix.O_PATH|unix.O_CLOEXEC, 0)
	if errors.Is(err, unix.ENOENT) || errors.Is(err, unix.EACCES) || errors.Is(err, unix.ENOTDIR) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("confine: %s: %w", name, err)
	}
	defer unix.Close(at)
	var info unix.Stat_t
	if err := unix.Fstat(at, &info); err != nil {
		return fmt.Errorf("confine: %s: %w", name, err)
	}
	if info.Mode&unix.S_IFMT != unix.S_IFDIR {
		rights &= ofFiles
	}
	// The kernel's structure is packed: 12 bytes.
	rule := unix.LandlockPathBeneathAttr{Allowed_access: rights, Parent_fd: int32(at)}
	if _, _, failed := unix.Syscall6(unix.SYS_LANDLOCK_ADD_RULE, uintptr(set), unix.LANDLOCK_RULE_PATH_BENEATH, uintptr(unsafe.Pointer(&rule)), 0, 0, 0); failed != 0 {
		return fmt.Errorf("confine: %s: %w", name, failed)
	}
	return nil
}

// kept are the capabilities that what runs as root keeps: what a service needs that is started as root, for its own files, ports and
// users.
var kept = []uintptr{unix.CAP_CHOWN, unix.CAP_DAC_OVERRIDE, unix.CAP_FOWNER, unix.CAP_FSETID, unix.CAP_KILL, unix.CAP_SETGID, unix.CAP_SETUID, unix.CAP_SETPCAP, unix.CAP_NET_BIND_SERVICE}

// drop drops all other capabilities of what is started from this thread.
func drop() error {
	if os.Geteuid() != 0 {
		return nil
	}
	for c := uintptr(0); c <= unix.CAP_LAST_CAP; c++ {
		if slices.Contains(kept, c) {
			continue
		}
		if err := unix.Prctl(unix.PR_CAPBSET_DROP, c, 0, 0, 0); err != nil && !errors.Is(err, unix.EINVAL) && !errors.Is(err, unix.EPERM) { // not known to this kernel, or not had
			return err
		}
	}
	return nil
}

// becoming are the capabilities that it takes to start processes as other users, to hand them what is theirs, and to end them.
var becoming = map[uintptr]string{unix.CAP_SETUID: "CAP_SETUID", unix.CAP_SETGID: "CAP_SETGID", unix.CAP_CHOWN: "CAP_CHOWN", unix.CAP_KILL: "CAP_KILL", unix.CAP_SYS_PTRACE: "CAP_SYS_PTRACE"}

// MayBecome tells why this process cannot start others as other users; nil where it can.
func MayBecome() error {
	var has [2]unix.CapUserData
	if err := unix.Capget(&unix.CapUserHeader{Version: unix.LINUX_CAPABILITY_VERSION_3}, &has[0]); err != nil {
		return err
	}
	var missing []string
	for c, name := range becoming {
		if has[c/32].Effective&(1<<(c%32)) == 0 {
			missing = append(missing, name)
		}
	}
	if slices.Sort(missing); len(missing) > 0 {
		return fmt.Errorf("it takes capabilities that are missing: %s; start it as root, or have the system give them to it", strings.Join(missing, ", "))
	}
	return nil
}

// Lower has whatever is started from this thread have none of the capabilities that this process was given, but for those that are named.
func Lower(inherits ...uintptr) error {
	for c := uintptr(0); c <= unix.CAP_LAST_CAP; c++ {
		if slices.Contains(inherits, c) {
			continue
		}
		if err := unix.Prctl(unix.PR_CAP_AMBIENT, unix.PR_CAP_AMBIENT_LOWER, c, 0, 0); err != nil && !errors.Is(err, unix.EINVAL) { // not known to this kernel
			return fmt.Errorf("confine: %w", err)
		}
	}
	return nil
}

// Listening is the capability to listen on ports below 1024.
const Listening = uintptr(unix.CAP_NET_BIND_SERVICE)

// mark has whatever is started from this thread, and all that descends from it, bear one filter of system calls more than this
// process: one that lets all of them pass. It cannot be taken off.
func mark() error {
	pass := unix.SockFilter{Code: unix.BPF_RET | unix.BPF_K, K: unix.SECCOMP_RET_ALLOW}
	program := unix.SockFprog{Len: 1, Filter: &pass}
	if _, _, failed := unix.Syscall(unix.SYS_SECCOMP, unix.SECCOMP_SET_MODE_FILTER, 0, uintptr(unsafe.Pointer(&program))); failed != 0 {
		return failed
	}
	return nil
}

// Marked tells whether a process is confined, or descends from one that is, as far as this one is not. One that is not there any
// more counts as marked.
func Marked(pid int) bool {
	own, err := filters("self")
	if err != nil {
		return false // this system does not tell, and then it marks nobody
	}
	other, err := filters(strconv.Itoa(pid))
	return err != nil || other > own
}

// filters is how many filters of system calls a process has.
func filters(pid string) (n int, err error) {
	file, err := os.Open(filepath.Join("/proc", pid, "status"))
	if err != nil {
		return 0, err
	}
	defer file.Close()
	for lines := bufio.NewScanner(file); lines.Scan(); {
		if text, ok := strings.CutPrefix(lines.Text(), "Seccomp_filters:"); ok {
			return strconv.Atoi(strings.TrimSpace(text))
		}
	}
	return 0, errors.ErrUnsupported
}

// Hide keeps what other processes of the same user could read of this one out of their reach: its memory and its environment.
func Hide() { unix.Prctl(unix.PR_SET_DUMPABLE, 0, 0, 0, 0) }

// Machine is what a process of the machine's user needs to run at all: programs, libraries, what they are set up with, and devices
// that are nothing. Of the machine's set-up root is not let read what others may not.
func Machine() Rules {
	r := Rules{
		Read:  []string{"/usr", "/bin", "/sbin", "/lib", "/lib32", "/lib64", "/opt", "/nix", "/proc", "/sys", "/run/current-system", "/run/systemd/resolve", "/run/nscd"},
		Write: []string{"/dev/null", "/dev/zero", "/dev/full", "/dev/random", "/dev/urandom", "/dev/tty", "/dev/ptmx", "/dev/pts"},
	}
	if os.Geteuid() != 0 {
		r.Read = append(r.Read, "/etc")
		return r
	}
	entries, _ := os.ReadDir("/etc")
	for _, entry := range entries {
		name := filepath.Join("/etc", entry.Name())
		if info, err := os.Stat(name); err == nil && info.Mode().Perm()&0o004 != 0 {
			r.Read = append(r.Read, name)
		}
	}
	return r
}
