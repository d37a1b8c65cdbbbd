package keeper

import (
	"crypto/sha256"
	"errors"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"aditus/internal/confine"
	"aditus/internal/core/declare"
	"aditus/internal/limit"
	"aditus/internal/system"
	"aditus/internal/target/local/sole"
)

// running is a process of the system, or a container.
type running struct {
	pid       int
	own       *os.Process
	container string      // its ID; empty for none
	gone      chan ending // has one when it ended
}

// adopt takes over what an earlier keeper started, where it still runs.
func (p *process) adopt(left stray) *running {
	if p.contained() {
		return p.adoptContainer()
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	pid := p.record.PID
	if !p.record.lives() {
		p.ready, p.led = false, false
		if now := p.takeOver(); now != nil {
			return now
		}
		created, ok := sole.CreatedAt(left.pid)
		if !left.of(p.spec) || !ok {
			if pid != 0 { // it ended while nobody kept it
				p.note(func(r *record, now time.Time) {
					r.down()
					r.event(now, true, "ended while nobody kept it")
					if p.spec.Once {
						r.Failed = "it ended while nobody watched; whether it did its work is not known"
					} else {
						r.Restarts = append(r.Restarts, now)
					}
				})
			}
			return nil
		}
		pid, p.record.Created, p.record.Ports = left.pid, created, left.ports(p.spec.Ports)
		p.site.keeper.ports.hold(p.spec.ID, p.record.Ports)
	}
	p.note(func(r *record, at time.Time) {
		r.PID = pid
		r.event(at, false, "taken over")
	})
	if !p.record.Found {
		if err := p.journal.read(); err != nil {
			p.record.event(time.Now(), true, "what it writes cannot be read any more: %v", err)
		}
	}
	return p.attend()
}

// attend looks after the process of the record, which nobody here started. It is called with the lock held.
func (p *process) attend() *running {
	r := p.record
	now := &running{pid: r.PID, gone: make(chan ending, 1)}
	now.own, _ = os.FindProcess(r.PID) // holds on to this very process where the system lets it
	go func() {
		for r.lives() {
			time.Sleep(lookEvery)
		}
		now.gone <- ending{}
	}()
	return now
}

// contained tells whether the process is in a container.
func (p *process) contained() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.spec.Container != nil || p.record.Container != ""
}

// start starts the process.
func (p *process) start() (*running, error) {
	if p.contained() {
		return p.startContainer()
	}
	between := p.site.between()
	p.mu.Lock()
	defer p.mu.Unlock()
	if err := os.MkdirAll(filepath.Join(p.folder, workFolder), 0o700); err != nil {
		return nil, err
	}
	ports, err := p.site.keeper.ports.take(p.spec.ID, p.spec.Ports, p.record.Ports, p.spec.Fixed, between)
	if err != nil {
		return nil, err
	}
	p.record.Ports = ports
	ends, err := p.journal.open(p.spec.User)
	for _, end := range ends {
		defer end.Close()
	}
	if err != nil {
		return nil, fmt.Errorf("keep what it writes: %w", err)
	}
	p.journal.forget()
	environment := p.environment()
	args := make([]string, len(p.spec.Args))
	for i, text := range p.spec.Args {
		args[i] = fill(text, environment)
	}
	if err := p.lay(environment); err != nil {
		return nil, err
	}
	if err := p.hand(); err != nil {
		return nil, err
	}
	cmd := p.command(args, environment)
	cmd.Stdout, cmd.Stderr = ends[0], ends[1]
	held, unheld := p.hold()
	err = p.enter(cmd, held)
	if err != nil {
		held.End()
		var path *os.PathError
		if errors.As(err, &path) {
			err = path.Err
		}
		switch {
		case p.spec.User != 0 && errors.Is(err, syscall.EACCES):
			err = fmt.Errorf("%w; it, or what runs it, may be none that all users of the machine may run, or out of its reach: give that with reach: of the site's target", err)
		case p.spec.Reach != nil && errors.Is(err, syscall.EACCES):
			err = fmt.Errorf("%w; it, or what runs it, may be out of its reach: give that with reach: of the site's target", err)
		}
		return nil, fmt.Errorf("cannot be started: %s: %w", filepath.Base(args[0]), err)
	}
	now := &running{pid: cmd.Process.Pid, own: cmd.Process, gone: make(chan ending, 1)}
	p.note(func(r *record, at time.Time) {
		r.PID, r.Started, r.Reason, r.Found = now.pid, at, "", false
		r.Created, _ = sole.CreatedAt(now.pid)
		if r.event(at, false, "started"); p.spec.Reach != nil && !confine.Can() {
			r.event(at, true, "not confined: %v", confine.ErrCannot)
		}
		if unheld != nil {
			r.event(at, true, "%v", unheld)
		}
		r.OutOfMemory = held.OutOfMemory()
	})
	go func() {
		err := cmd.Wait()
		how := ending{known: true}
		if state, ok := cmd.ProcessState.Sys().(syscall.WaitStatus); ok && state.Signaled() {
			how.signal = state.Signal()
		} else if err != nil {
			how.status = cmd.ProcessState.ExitCode()
		}
		now.gone <- how
	}()
	return now, nil
}

// command is a program of the process's, as its user and where it runs.
func (p *process) command(args, environment []string) *exec.Cmd {
	return &exec.Cmd{Path: args[0], Args: args, Env: environment, Dir: filepath.Join(p.folder, workFolder, p.spec.Dir), SysProcAttr: system.Session(uint32(p.spec.User))}
}

// enter starts a program of the process's within a control group, and held to what it may reach.
func (p *process) enter(cmd *exec.Cmd, held limit.Group) error {
	return confine.Apart(func() error {
		done, err := held.Enter(cmd)
		if err != nil {
			return err
		}
		defer done()
		if err := confine.Lower(); err != nil {
			return err
		}
		if p.spec.Reach != nil && confine.Can() {
			if err := confine.Restrict(*p.spec.Reach); err != nil {
				return err
			}
		}
		return startUnder(cmd, p.spec.Umask)
	})
}

// fill fills in variables, for which $NAME and ${NAME} stand; $$ is a dollar.
func fill(text string, environment []string) string {
	return os.Expand(text, func(name string) string {
		if name == "$" {
			return "$"
		}
		return lookup(environment, name)
	})
}

// hold gives the control group that holds the process to its limits. Where the system has none to give, what is declared is told as not held.
func (p *process) hold() (held limit.Group, unheld error) {
	if p.spec.Limits == nil {
		return held, nil
	}
	held, err := limit.Make(*p.spec.Limits, p.group()...)
	if err != nil && *p.spec.Limits != DefaultLimits {
		unheld = err
	}
	return held, unheld
}

// group names the process's control group.
func (p *process) group() []string {
	sum := sha256.Sum256([]byte(p.folder)) // no two data folders of a machine have one of a name
	return []string{p.site.name, fmt.Sprintf("%s-%x", p.spec.ID, sum[:4])}
}

// DefaultLimits are those where none are declared: so many that no program that is well needs more, and few enough that the machine lives.
var DefaultLimits = limit.Limits{Processes: 4096}

// masking is held while a process is started, which has the umask that this one has then.
var masking sync.Mutex

// startUnder starts a process with a umask of its own, where it has one.
func startUnder(cmd *exec.Cmd, umask string) error {
	mask, err := strconv.ParseInt(umask, 8, 32)
	if umask == "" || err != nil {
		return cmd.Start()
	}
	masking.Lock()
	defer masking.Unlock()
	defer system.Umask(int(mask))()
	return cmd.Start()
}

// environment is all that the process gets to know.
func (p *process) environment() []string {
	environment := append([]string(nil), p.spec.Env...)
	if c := p.spec.Container; c != nil {
		for _, name := range slices.Sorted(maps.Keys(c.Ports)) {
			environment = append(environment, portName(name)+"="+strconv.Itoa(c.Ports[name]))
			if len(c.Ports) == 1 {
				environment = append(environment, "PORT="+strconv.Itoa(c.Ports[name]))
			}
		}
		return environment
	}
	for name, port := range p.record.Ports {
		environment = append(environment, portName(name)+"="+strconv.Itoa(port))
		if len(p.record.Ports) == 1 {
			environment = append(environment, "PORT="+strconv.Itoa(port))
		}
	}
	return append(environment, folderName+"="+p.folder)
}

// portName is the variable that tells a process one of its ports.
func portName(name string) string { return "PORT_" + declare.EnvironmentName(name) }

// lookup finds a variable; the last of a name counts, as for the system.
func lookup(environment []string, name string) string {
	for i := len(environment) - 1; i >= 0; i-- {
		if value, ok := strings.CutPrefix(environment[i], name+"="); ok {
			return value
		}
	}
	return ""
}
