package local

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	gnet "github.com/shirou/gopsutil/v4/net"
	gops "github.com/shirou/gopsutil/v4/process"

	"aditus/internal/core/declare"
	"aditus/internal/core/rollout"
	"aditus/internal/core/say"
	"aditus/internal/disk"
	"aditus/internal/status"
	"aditus/internal/target"
	"aditus/internal/target/local/keeper"
	"aditus/internal/target/local/sole"
	"aditus/internal/target/local/store"
	"aditus/internal/target/wanted"
)

var (
	_ target.Finder  = (*Site)(nil)
	_ target.Pledger = (*Site)(nil)
)

// strayKind is what the ID of a process begins with.
const strayKind = "process/"

// Strays implements target.Finder: the processes that listen on this machine, and that no Aditus started.
func (s *Site) Strays(ctx context.Context) ([]status.Stray, error) {
	if s.contained() {
		return s.strayContainers(ctx)
	}
	listening, unseen, err := listeners(ctx)
	if err != nil {
		return nil, fmt.Errorf("find what listens on this machine: %w", err)
	}
	all := []status.Stray{}
	for _, pid := range slices.Sorted(maps.Keys(listening)) {
		if one, is := s.stray(pid, listening); is {
			all = append(all, one)
		}
	}
	slices.SortStableFunc(all, func(a, b status.Stray) int { return cmp.Compare(a.With, b.With) })
	if unseen > 0 {
		all = append(all, status.Stray{ID: "?", Says: "not looked for", Not: "what listens at " + say.Count(unseen, "port") + " is of other users, and told to them alone"})
	}
	return all, nil
}

// listeners are the addresses that processes of this machine listen at, by process, and how many ports it may not tell whose they are.
func listeners(ctx context.Context) (listening map[int][]gnet.Addr, unseen int, err error) {
	connections, err := gnet.ConnectionsWithContext(ctx, "tcp")
	if err != nil {
		return nil, 0, err
	}
	listening, others := map[int][]gnet.Addr{}, map[uint32]bool{}
	for _, c := range connections {
		switch {
		case c.Status != "LISTEN":
		case c.Pid == 0:
			others[c.Laddr.Port] = true
		default:
			listening[int(c.Pid)] = append(listening[int(c.Pid)], c.Laddr)
		}
	}
	return listening, len(others), nil
}

// stray tells of a process that listens; is is false for what is of Aditus, or serves what its parent listens at.
func (s *Site) stray(pid int, listening map[int][]gnet.Addr) (one status.Stray, is bool) {
	p := &gops.Process{Pid: int32(pid)}
	args, err := p.CmdlineSlice()
	if err != nil || len(args) == 0 {
		return one, false
	}
	program, err := p.Exe()
	if own, errOwn := os.Executable(); err != nil || errOwn == nil && strings.TrimSuffix(program, deleted) == own {
		return one, false
	}
	environment, err := p.Environ()
	if err != nil || keeper.Started(environment) || s.keeps(target.Found{PID: pid}) {
		return one, false
	}
	parent, _ := p.Ppid()
	if of, both := listening[int(parent)]; both && slices.Equal(of, listening[pid]) {
		return one, false
	}
	one = status.Stray{ID: strayKind + strconv.Itoa(pid), With: nameOf(program, args), Says: strayWords(p, args, listening[pid], parent)}
	if why := keptBySystem(pid); why != "" {
		one.Not = why
	} else if one.Part, one.Notes, err = s.partOf(p, program, args, environment, listening[pid]); err != nil {
		one.Part, one.Notes, one.Not = nil, nil, err.Error()
	}
	return one, true
}

// deleted is behind the name of a program that is no longer on disk as it runs.
const deleted = " (deleted)"

// keeps tells whether something that was found is an instance here already.
func (s *Site) keeps(f target.Found) bool {
	for _, workload := range s.book.Workloads() {
		for _, c := range s.copy(workload) {
			for _, in := range c.Instances {
				if in.Found != nil && in.Found.PID == f.PID && in.Found.Container == f.Container && alive(*in.Found) {
					return true
				}
			}
		}
	}
	return false
}

// alive tells whether something that was found still runs, as far as that is known here: of a container its engine knows.
func alive(f target.Found) bool { return f.Container != "" || sole.Lives(f.PID, f.Created) }

// strayWords tells what a process is.
func strayWords(p *gops.Process, args []string, at []gnet.Addr, parent int32) string {
	told := []string{strings.Join(args, " "), "listens at " + say.List(addresses(at))}
	if user, err := p.Username(); err == nil {
		told = append(told, "as "+user)
	}
	if by, err := (&gops.Process{Pid: parent}).Name(); err == nil && parent > 1 {
		told = append(told, "started by "+by)
	}
	if created, err := p.CreateTime(); err == nil {
		told = append(told, "since "+time.UnixMilli(created).UTC().Format("2 Jan 2006"))
	}
	return strings.Join(told, ", ")
}

func addresses(at []gnet.Addr) (all []string) {
	for _, a := range at {
		all = append(all, net.JoinHostPort(a.IP, strconv.Itoa(int(a.Port))))
	}
	slices.Sort(all)
	return slices.Compact(all)
}

// keptBySystem tells by whom a process is started anew when it ends; empty for nobody that is known.
func keptBySystem(pid int) string {
	own, _ := os.Readlink("/proc/self/ns/pid")
	if other, err := os.Readlink(fmt.Sprintf("/proc/%d/ns/pid", pid)); err == nil && own != "" && other != own {
		return "it runs in a container, whose engine keeps it"
	}
	groups, _ := os.ReadFile(fmt.Sprintf("/proc/%d/cgroup", pid)) // not every system has them
	for line := range strings.Lines(string(groups)) {
		if unit := filepath.Base(strings.TrimSpace(line)); strings.HasSuffix(unit, ".service") {
			return fmt.Sprintf("the system keeps it, as %s, and would start another one when it ends: disable that one, and start the program by hand", unit)
		}
	}
	return ""
}

// interpreters are programs that run another one, which is what a process is called by.
var interpreters = regexp.MustCompile(`^(python|pypy|node|ruby|perl|php|java|bash|dash|sh|deno|bun)[0-9.]*$`)

// scripts are what the names of files end with that interpreters run.
var scripts = regexp.MustCompile(`[.](py|js|mjs|ts|rb|pl|php|jar|sh)$`)

// nameOf is what a process could be called as a workload.
func nameOf(program string, args []string) string {
	name := filepath.Base(strings.TrimSuffix(program, deleted))
	if interpreters.MatchString(name) {
		for _, arg := range args[1:] {
			if !strings.HasPrefix(arg, "-") {
				name = scripts.ReplaceAllString(filepath.Base(arg), "")
				break
			}
		}
	}
	return target.StrayName(name)
}

// mainPort is what the port of a process is called that listens at one alone.
const mainPort = "main"

// partOf is a process as it would be declared, and what whoever declares it should know.
func (s *Site) partOf(p *gops.Process, program string, args, environment []string, at []gnet.Addr) (part map[string]any, notes []string, err error) {
	if strings.HasSuffix(program, deleted) {
		return nil, nil, errors.New("its program is no longer on disk as it runs: what would be started next is another one")
	}
	command := append([]string{program}, args[1:]...)
	if _, err := (store.Unpacked{}).Command(command, s.machine(declare.Part{})); err != nil {
		return nil, nil, err
	}
	for i, arg := range command {
		name, _, _ := strings.Cut(strings.TrimLeft(arg, "-"), "=")
		switch {
		case strings.Contains(arg, "$"):
			return nil, nil, errors.New("there is a $ in its command, which would stand for a variable: declare it by hand, with $$ for it")
		case (strings.HasPrefix(arg, "-") && looksSecret(name) && (strings.Contains(arg, "=") || i+1 < len(command))) || hasPassword(arg):
			return nil, nil, errors.New("its command holds what looks secret, and is not written down: seal that, and declare it by hand")
		}
	}
	ports := map[string]any{}
	var numbers []int
	for _, a := range at {
		if ip := net.ParseIP(a.IP); ip == nil || !ip.IsUnspecified() && !ip.Equal(net.ParseIP(keeper.Host)) {
			return nil, nil, fmt.Errorf("it listens at %s, and what a local site leads traffic to listens at %s", net.JoinHostPort(a.IP, strconv.Itoa(int(a.Port))), keeper.Host)
		}
		numbers = append(numbers, int(a.Port))
	}
	slices.Sort(numbers)
	numbers = slices.Compact(numbers)
	for i, number := range numbers {
		name := mainPort
		if i > 0 {
			name = fmt.Sprintf("port-%d", number)
		}
		ports[name] = number
	}
	part = map[string]any{
		"kind": string(declare.Service), "command": command, "ports": ports, "fixed-ports": true,
		"probes": map[string]any{"listens": map[string]any{"tcp": map[string]any{"port": mainPort}}},
	}
	declared, left := environmentOf(environment)
	if len(declared) > 0 {
		part["environment"] = declared
	}
	if len(left) > 0 {
		notes = append(notes, "not written down, as it looks secret: "+say.List(left)+"; it has that until it is started anew")
	}
	if folder, err := p.Cwd(); err == nil {
		notes = append(notes, "it runs in "+folder+"; what is started next runs in a folder of its own")
	}
	if users, err := p.Uids(); err == nil && len(users) > 0 && (s.Users != nil || int(users[0]) != os.Geteuid()) {
		notes = append(notes, fmt.Sprintf("it runs as user %d; what is started next runs as whom this site has it run", users[0]))
	}
	return part, notes, nil
}

// session are variables that a process has of whoever started it.
var session = regexp.MustCompile(`^(PATH|HOME|USER|LOGNAME|SHELL|TERM.*|PWD|OLDPWD|_|SHLVL|LANG|LANGUAGE|LC_.*|LS_COLORS|HOSTNAME|MAIL|EDITOR|PAGER|DISPLAY|WAYLAND_DISPLAY|TMUX.*|SSH_.*|XDG_.*|DBUS_.*|SUDO_.*|INVOCATION_ID|JOURNAL_STREAM|COLORTERM|LESS.*|HIST.*|PS1|TZ|TMPDIR)$`)

// environmentOf is what of a process's environment is its own, and the names of what of that is left out, as it looks secret.
func environmentOf(environment []string) (declared map[string]string, left []string) {
	declared = map[string]string{}
	for _, variable := range environment {
		name, value, is := strings.Cut(variable, "=")
		switch {
		case !is || name == "" || session.MatchString(name):
		case looksSecret(name) || hasPassword(value) || strings.Contains(value, "$") || strings.ContainsFunc(value, say.Harmful):
			left = append(left, name)
		default:
			declared[name] = value
		}
	}
	slices.Sort(left)
	return declared, left
}

var secretWords = regexp.MustCompile(`(?i)(pass|secret|token|key|credential|cookie|dsn|auth|private|salt)`)

// places are what the names of variables end with that say where something is.
var places = regexp.MustCompile(`(?i)_(file|dir|path)$`)

// looksSecret tells whether what has a name is not for others to read.
func looksSecret(name string) bool { return secretWords.MatchString(name) && !places.MatchString(name) }

var passwordInURL = regexp.MustCompile(`://[^/@\s]*:[^/@\s]+@`)

func hasPassword(text string) bool { return passwordInURL.MatchString(text) }

// pledge is a process that is to be an instance of a part, once that is asked for.
type pledge struct {
	target.Found
	Workload string `json:"workload"`
	Part     string `json:"part"`
}

const pledgesFile = "pledged.json"

// Pledge implements target.Pledger.
func (s *Site) Pledge(workload string, parts map[string]string) error {
	var all []pledge
	for part, id := range parts {
		found, err := s.found(id)
		if err != nil {
			return err
		}
		all = append(all, pledge{found, workload, part})
	}
	return s.pledged(func(before []pledge) []pledge {
		return append(slices.DeleteFunc(before, func(p pledge) bool {
			return slices.ContainsFunc(all, func(new pledge) bool {
				return new.Is(p.Found) || new.Workload == p.Workload && new.Part == p.Part
			})
		}), all...)
	})
}

// found is what a stray is, by its ID.
func (s *Site) found(id string) (target.Found, error) {
	f := target.Found{Ports: map[string]int{}}
	if s.contained() {
		return s.foundContainer(id)
	}
	pid, err := strconv.Atoi(strings.TrimPrefix(id, strayKind))
	created, runs := sole.CreatedAt(pid)
	if err != nil || !runs {
		return f, fmt.Errorf("%s at %s: it does not run any more", id, s.Name)
	}
	listening, _, err := listeners(context.Background())
	if err != nil {
		return f, err
	}
	stray, is := s.stray(pid, listening)
	if !is || stray.Part == nil {
		return f, fmt.Errorf("%s at %s: it cannot be taken over any more", id, s.Name)
	}
	f.PID, f.Created = pid, created
	for name, number := range stray.Part["ports"].(map[string]any) {
		f.Ports[name] = number.(int)
	}
	return f, nil
}

// pledges are the processes that are pledged, and still run.
func (s *Site) pledges() (all []pledge) {
	text, err := os.ReadFile(filepath.Join(s.folder, pledgesFile))
	if err == nil {
		err = json.Unmarshal(text, &all)
	}
	if err != nil { // what is not known to be pledged is not touched
		return nil
	}
	return slices.DeleteFunc(all, func(p pledge) bool { return !alive(p.Found) })
}

// pledged changes what is pledged.
func (s *Site) pledged(change func([]pledge) []pledge) error {
	s.pledging.Lock()
	defer s.pledging.Unlock()
	file := filepath.Join(s.folder, pledgesFile)
	all := change(s.pledges())
	if len(all) == 0 {
		if err := os.Remove(file); !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		return nil
	}
	text, err := json.Marshal(all)
	if err != nil {
		return err
	}
	return disk.Keep(disk.Machine, file, text, 0o600)
}

// withFound are the wants, those that ask for instances of which one runs already with that one.
func (s *Site) withFound(workload string, wants []target.Want) []target.Want {
	pledges := s.pledges()
	if len(pledges) == 0 {
		return wants
	}
	wants = slices.Clone(wants)
	for i, w := range wants {
		if w.Do != rollout.Scale {
			continue
		}
		if at := slices.IndexFunc(pledges, func(p pledge) bool { return p.Workload == workload && p.Part == w.Part && !s.keeps(p.Found) }); at >= 0 {
			wants[i].Found = &pledges[at].Found
		}
	}
	return wants
}

// redeemed forgets what is pledged and was taken over.
func (s *Site) redeemed() error {
	if len(s.pledges()) == 0 {
		return nil
	}
	return s.pledged(func(all []pledge) []pledge {
		return slices.DeleteFunc(all, func(p pledge) bool { return s.keeps(p.Found) })
	})
}

// toldOf tells which processes are taken over with the next sync of a workload.
func (s *Site) toldOf(workload string) (all []string) {
	for _, p := range s.pledges() {
		if p.Workload == workload && !s.keeps(p.Found) {
			all = append(all, fmt.Sprintf("%s (%s): %s", p.Part, p.Found, status.TakenAsItIs))
		}
	}
	slices.Sort(all)
	return all
}

// leave lets go of what is asked for, and gives the wants of which that could be done.
func (s *Site) leave(ctx context.Context, workload string, cohorts map[declare.Fingerprint]*wanted.Cohort, wants []target.Want) (possible []target.Want, failed error) {
	for _, w := range wants {
		if c := cohorts[w.Revision]; w.Do == rollout.LetGo && c != nil {
			if err := s.letGo(ctx, workload, c, w.Part); err != nil {
				failed = errors.Join(failed, err)
				continue
			}
		}
		possible = append(possible, w)
	}
	return possible, failed
}

// letGo has the keeper leave the instances of a part to themselves, which ran before it kept them. Whoever is asked for again is taken
// over again.
func (s *Site) letGo(ctx context.Context, workload string, c *wanted.Cohort, part string) error {
	for _, in := range c.Instances {
		if in.Part != part {
			continue
		}
		if in.Found == nil {
			return fmt.Errorf("let %s at %s go: it was started by Aditus", in.ID, s.Name)
		}
		if err := s.Keeper.letGo(ctx, s.Name, in.ID); err != nil {
			return err
		}
		own := pledge{*in.Found, workload, part}
		if err := s.pledged(func(all []pledge) []pledge {
			return append(slices.DeleteFunc(all, func(p pledge) bool { return p.Is(own.Found) }), own)
		}); err != nil {
			return err
		}
	}
	return nil
}
