package local

import (
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"aditus/internal/config"
	"aditus/internal/confine"
	"aditus/internal/core/declare"
	"aditus/internal/limit"
	"aditus/internal/system"
	"aditus/internal/target"
	"aditus/internal/target/local/keeper"
)

// forAll is a folder that all users of the machine may enter.
func forAll(t *testing.T) string {
	t.Helper()
	folder := shortTemp(t)
	if err := os.Chmod(folder, passable); err != nil {
		t.Fatal(err)
	}
	return folder
}

// ownUsers has a site's workloads run as users of their own.
func ownUsers(t *testing.T, data string, i config.Instances) func(*Options) {
	t.Helper()
	users, err := OpenUsers(data, i, false)
	if err != nil {
		t.Fatal(err)
	}
	return func(o *Options) {
		o.Users, o.Keeper.users, o.Store = users, i.All(), storeIn(t, i.Folder)
		if err := o.Store.Share(); err != nil {
			t.Fatal(err)
		}
	}
}

// userOf is whom a process runs as.
func userOf(t *testing.T, pid int) int {
	t.Helper()
	info, err := os.Stat(fmt.Sprintf("/proc/%d", pid))
	if err != nil {
		t.Fatal(err)
	}
	return system.Owner(info)
}

// reachable is this test's own program where all users of the machine may run it.
func reachable(t *testing.T) string {
	t.Helper()
	at := filepath.Join(forAll(t), "service")
	own, err := os.Executable()
	if err == nil {
		err = os.WriteFile(at, []byte(must(os.ReadFile(own))), 0o755)
	}
	if err != nil {
		t.Fatal(err)
	}
	return at
}

// TestUsers has a server that may start programs as other users do so.
func TestUsers(t *testing.T) {
	if err := confine.MayBecome(); err != nil {
		t.Skip(err)
	}
	keptApart(t, shortTemp(t))
}

// rootsFolder is a folder of root's in that data folder.
const rootsFolder = "roots"

// dataName is the variable that says on which data folder the test is to run that has no privileges.
const dataName = "ADITUS_TEST_DATA"

// TestUsersOfKeeper has a server without any privilege do so: its keeper alone has those that it takes, and is not root either.
func TestUsersOfKeeper(t *testing.T) {
	if data := os.Getenv(dataName); data != "" {
		keptApart(t, data)
		return
	}
	if err := confine.MayBecome(); err != nil {
		t.Skip(err)
	}
	const server = 64001
	program, data := reachable(t), shortTemp(t)
	if err := os.Chown(data, server, server); err != nil {
		t.Fatal(err)
	}
	if err := os.Mkdir(filepath.Join(data, rootsFolder), 0o755); err != nil { // which stays root's
		t.Fatal(err)
	}
	as := &syscall.Credential{Uid: server, Gid: server}
	kept := exec.Command(program, "-keeper", data, "--users", "700100-700101,700900")
	kept.Stderr, kept.Dir, kept.SysProcAttr = os.Stderr, data, &syscall.SysProcAttr{Credential: as, AmbientCaps: []uintptr{unix.CAP_SETUID, unix.CAP_SETGID, unix.CAP_CHOWN, unix.CAP_KILL, unix.CAP_SYS_PTRACE}}
	all := limit.Limits{CPU: 1, Memory: 1 << 30, Processes: 2000}
	given, _ := limit.Make(all, "test", "given") // nothing where this machine has none to give
	below, _ := limit.Make(all, "test", "given", "keeper")
	if err := confine.Apart(func() error {
		done, err := below.Enter(kept)
		if err != nil {
			return err
		}
		defer done()
		return kept.Start()
	}); err != nil {
		t.Fatal(err)
	}
	defer given.End()
	defer below.End()
	defer kept.Wait()
	defer kept.Process.Signal(syscall.SIGTERM)
	for _, folder := range groupsOf(t, kept.Process.Pid, "/aditus/test/given/keeper") {
		for _, name := range []string{"cgroup.procs", "cgroup.subtree_control", "cgroup.threads", "tasks", "."} {
			if err := errors.Join(os.Chown(filepath.Join(folder, name), server, server), os.Chown(filepath.Join(filepath.Dir(folder), name), server, server)); err != nil && !errors.Is(err, os.ErrNotExist) {
				t.Fatal(err)
			}
		}
	}
	test := exec.Command(program, "-test.run", "^"+t.Name()+"$", "-test.v")
	test.Dir, test.Env, test.SysProcAttr = data, append(os.Environ(), dataName+"="+data, "HOME="+data), &syscall.SysProcAttr{Credential: as}
	if said, err := test.CombinedOutput(); err != nil || !strings.Contains(string(said), "--- PASS: "+t.Name()) {
		t.Errorf("%v: %s", err, said)
	}
}

// groupsOf gives the folders of those control groups of a process whose names have a part.
func groupsOf(t *testing.T, pid int, part string) (folders []string) {
	t.Helper()
	for line := range strings.Lines(must(os.ReadFile(fmt.Sprintf("/proc/%d/cgroup", pid)))) {
		if in := strings.SplitN(strings.TrimSpace(line), ":", 3); strings.Contains(in[2], part) {
			folders = append(folders, filepath.Join("/sys/fs/cgroup", in[1], in[2]))
		}
	}
	return folders
}

// keptApart runs two workloads as users of their own, where nothing else keeps them apart, and a third one as one that it asks for. Each has what
// is its, and nothing of the others or of Aditus.
func keptApart(t *testing.T, data string) {
	places := forAll(t)
	t.Cleanup(func() {
		if isFolder(secretsOf(data, "dock", filepath.Join(places, sitesFolder, "dock"))) {
			t.Error("once all ended, what was in memory is there still")
		}
	})
	i := config.Instances{Users: "700100-700101", Folder: places, Allow: map[int][]string{700900: {"q*"}}}
	s := opened(t, data, "dock", ownUsers(t, data, i), func(o *Options) { o.Reach = []string{"/"} })
	if err := os.WriteFile(filepath.Join(data, "key.txt"), []byte("the key"), 0o600); err != nil {
		t.Fatal(err)
	}
	artifact := artifactOf(t, "ferry", reachable(t), behaviour{Version: "1"})
	desired := map[string]declare.Desired{}
	start := func(workload string, user *int) target.Instance {
		t.Helper()
		d := ferry(artifact)
		d.Workload = workload
		deck := d.Parts["deck"]
		deck.User, deck.Files = user, map[string]declare.File{"etc/deck.conf": {Text: "at ${PORT}", Mode: "0600"}}
		d.Parts["deck"] = deck
		entry := d.Parts["entry"]
		entry.Host = workload + ".skerry.example"
		d.Parts["entry"], desired[workload] = entry, d
		if err := s.Apply(t.Context(), workload, []target.Want{target.Prepare(revision(1), d), target.Scale(revision(1), "deck", 1), target.SetShare(revision(1), 1, "")}); err != nil {
			t.Fatal(err)
		}
		for end := time.Now().Add(30 * time.Second); ; time.Sleep(10 * time.Millisecond) {
			if time.Now().After(end) {
				t.Fatalf("%s does not come up", workload)
			}
			seen, err := s.Observe(t.Context(), workload)
			if err != nil {
				t.Fatal(err)
			}
			if all := seen.Cohorts[0].Instances; len(all) == 1 && strings.Contains(all[0].Reason, "users") || running(1)(all) && all[0].Waits == "" {
				return all[0]
			}
		}
	}
	pid := func(in target.Instance) int {
		return recordedPID(t, must(os.ReadFile(filepath.Join(s.home(in.ID), keeper.RecordFile))))
	}
	ferry, quay, pilot := start("ferry", nil), start("quay", new(700900)), start("pilot", new(700900))
	for in, want := range map[*target.Instance]int{&ferry: 700100, &quay: 700900, &pilot: 700101} {
		if got := userOf(t, pid(*in)); got != want {
			t.Errorf("%s runs as %d, want %d", in.ID, got, want)
		}
	}
	hello, err := s.Keeper.hello(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if given := groupsOf(t, hello.PID, "/aditus/test/given/keeper"); len(given) > 0 && len(groupsOf(t, pid(ferry), "/aditus/dock/"+ferry.ID)) == 0 {
		t.Errorf("the keeper was given %v, and what it keeps is held to nothing", given)
	}
	if late := start("late", nil); !strings.Contains(late.Reason, "each of the 2 users 700100-700101 is a workload's") {
		t.Errorf("there is no user for it, and it says %+v", late)
	}
	try := func(in target.Instance, what, of string) string {
		t.Helper()
		response, err := http.Get(fmt.Sprintf("http://127.0.0.1:%d/try?what=%s&of=%s", in.Ports["http"], what, url.QueryEscape(of)))
		if err != nil {
			t.Fatal(err)
		}
		defer response.Body.Close()
		text, _ := io.ReadAll(response.Body)
		return string(text)
	}
	if g, err := s.Ground(t.Context()); err != nil || !strings.HasPrefix(g.On, "this machine, traffic on ") || !strings.Contains(strings.Join(g.Told, "\n"), "a user of its own, of 700100-700101") || len(g.Room) != 3 || g.Room[1].Used <= 0 || g.Room[1].Used >= g.Room[1].Has {
		t.Errorf("it stands on %+v (%v)", g, err)
	}
	work, secrets := filepath.Join(s.home(ferry.ID), workFolder), filepath.Join(s.secrets, ferry.ID)
	settings := filepath.Join(s.home(ferry.ID), settingsFolder, "hours", "opens.at")
	for _, does := range [][2]string{
		{"write", filepath.Join(work, "notes")}, {"close", filepath.Join(work, "closed")}, {"read", filepath.Join(secrets, "pass", "word")}, {"read", settings},
		{"write", filepath.Join(s.volume("ferry", "logbook"), "page")}, {"close", filepath.Join(s.volume("ferry", "logbook"), "closed")}, {"print", "/dev/stdout"}, {"read", filepath.Join(work, "etc", "deck.conf")},
		{"write", filepath.Join(secrets, filesFolder, "etc", "own")},
	} {
		if told := try(ferry, does[0], does[1]); !strings.HasPrefix(told, could) {
			t.Errorf("it cannot %s %s, which is its own: %s", does[0], does[1], told)
		}
	}
	if info, err := os.Stat(filepath.Join(secrets, filesFolder, "etc", "deck.conf")); err != nil || system.Owner(info) != 700100 || info.Mode().Perm() != 0o600 {
		t.Errorf("its declared file is %v of %v (%v)", info.Mode(), system.Owner(info), err)
	}
	for _, does := range [][2]string{
		{"read", filepath.Join(secrets, "pass", "word")}, {"list", secrets}, {"list", s.secrets}, {"read", settings}, {"read", filepath.Join(work, "notes")}, {"write", filepath.Join(work, "notes")},
		{"list", s.volume("ferry", "logbook")}, {"list", filepath.Join(places, sitesFolder)}, {"list", filepath.Join(s.home(ferry.ID), keeper.LogFolder)}, {"read", filepath.Join(data, "key.txt")}, {"list", data},
		{"write", filepath.Join(s.home(pilot.ID), settingsFolder, "hours", "opens.at")}, {"write", filepath.Join(s.home(pilot.ID), keeper.RecordFile)}, {"write", filepath.Join(s.secrets, pilot.ID, "pass", "word")},
		{"signal", strconv.Itoa(pid(ferry))}, {"signal", strconv.Itoa(hello.PID)}, {"read", fmt.Sprintf("/proc/%d/environ", pid(ferry))}, {"read", fmt.Sprintf("/proc/%d/environ", hello.PID)},
		{"ask", filepath.Join(data, keeper.SocketFile)},
	} {
		if told := try(pilot, does[0], does[1]); strings.HasPrefix(told, could) {
			t.Errorf("another one can %s %s: %.200s", does[0], does[1], told)
		}
	}
	for command, want := range map[string]string{"test $(id -u) = 700100 -a $(id -g) = 700100 -a $(id -G) = 700100 && touch made": "", "test -r " + settings + " && test -n \"$PORT_HTTP\"": "", "exit 3": "/bin/sh exited with status 3"} {
		if said, err := s.Exec(t.Context(), "ferry", ferry.ID, []string{"/bin/sh", "-c", command}); err != nil || said != want {
			t.Errorf("%s: %q (%v)", command, said, err)
		}
	}
	if drift := s.live("ferry", s.copy("ferry")[revision(1)], "logbook", declare.Part{Kind: declare.Volume}, nil); drift["owner"] != nil || drift["mode"] != nil {
		t.Errorf("its own volume is %v", drift)
	}
	if err := os.WriteFile(settings, []byte("09:00"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := s.Apply(t.Context(), "ferry", []target.Want{target.Prepare(revision(1), desired["ferry"])}); err != nil {
		t.Fatal(err)
	}
	if told := try(ferry, "read", settings); told != could+"06:30" {
		t.Errorf("a setting that was put back: %s", told)
	}
	if err := s.Apply(t.Context(), "ferry", []target.Want{target.Scale(revision(1), "deck", 0)}); err != nil {
		t.Fatal(err)
	}
	for end := time.Now().Add(30 * time.Second); isFolder(s.home(ferry.ID)) || isFolder(secrets) || len(s.gone()) > 0; time.Sleep(10 * time.Millisecond) {
		if s.submit(t.Context()); time.Now().After(end) {
			t.Fatalf("of what is gone there are still %s, %s and %s", s.home(ferry.ID), secrets, s.gone())
		}
	}
	s.asksTooMuch(t)
	if late := start("late", nil); late.Reason == "" {
		t.Errorf("the ferry has a volume, and its user is another's: %+v", late)
	}
	if err := s.Apply(t.Context(), "ferry", []target.Want{target.RemovePart(revision(1), "logbook"), target.SetShare(revision(1), 0, ""), target.Delete(revision(1))}); err != nil {
		t.Fatal(err)
	}
	if isFolder(s.volume("ferry", "logbook")) {
		t.Error("its volume is there, with what its user closed in it")
	}
	if err := s.submit(t.Context()); err != nil {
		t.Fatal(err)
	}
	late := start("late", nil)
	if got := userOf(t, pid(late)); got != 700100 {
		t.Errorf("the ferry has nothing any more, and late runs as %d", got)
	}
}

// TestMoves brings a site's volumes to the folder of users and back again, with the settings, and moves nothing while anything runs there.
func TestMoves(t *testing.T) {
	if err := confine.MayBecome(); err != nil {
		t.Skip(err)
	}
	data, places := shortTemp(t), forAll(t)
	i := config.Instances{Users: "700100-700109", Folder: places}
	s := opened(t, data, "dock", func(o *Options) { o.Reach = []string{"/"} })
	up(t, s, 1, artifactOf(t, "ferry", reachable(t), behaviour{Version: "1"}), 1)
	await(t, s, 1, "it runs", running(1))
	page := filepath.Join("ferry", "logbook", "page")
	if err := os.WriteFile(filepath.Join(data, sitesFolder, "dock", volumesFolder, page), []byte("kept"), 0o600); err != nil {
		t.Fatal(err)
	}
	o := s.Options
	ownUsers(t, data, i)(&o)
	if _, err := Open(o); err == nil || !strings.Contains(err.Error(), "end them with aditus keep --end") {
		t.Errorf("its instances run, and it says %v", err)
	}
	if err := s.Keeper.End(t.Context()); err != nil {
		t.Fatal(err)
	}
	there, err := Open(o)
	if err != nil {
		t.Fatal(err)
	}
	moved := filepath.Join(places, sitesFolder, "dock", volumesFolder, page)
	if text, err := os.ReadFile(moved); string(text) != "kept" || isFolder(filepath.Join(data, sitesFolder, "dock", volumesFolder)) {
		t.Errorf("there it has %q (%v)", text, err)
	}
	there.submit(t.Context())
	all := await(t, there, 1, "it runs there", func(all []target.Instance) bool { return running(1)(all) && all[0].Waits == "" })
	if info, err := os.Stat(moved); err != nil || system.Owner(info) != 700100 {
		t.Errorf("what was in its volume is not its user's: %v", err)
	}
	if text := must(os.ReadFile(filepath.Join(there.home(all[0].ID), keeper.RecordFile))); userOf(t, recordedPID(t, text)) != 700100 {
		t.Errorf("it runs as another one: %s", text)
	}
	if err := there.Keeper.End(t.Context()); err != nil {
		t.Fatal(err)
	}
	o.Users, o.Keeper.users = nil, ""
	back, err := Open(o)
	if err != nil {
		t.Fatal(err)
	}
	if text, err := os.ReadFile(filepath.Join(data, sitesFolder, "dock", volumesFolder, page)); string(text) != "kept" || back.places != back.folder {
		t.Errorf("back again it has %q (%v)", text, err)
	}
	if err := os.Chown(places, 64001, 64001); err != nil {
		t.Fatal(err)
	}
	if _, err := OpenUsers(data, i, false); err == nil || !strings.Contains(err.Error(), "not this user's alone") {
		t.Errorf("somebody else's folder: %v", err)
	}
	if _, err := OpenUsers(data, i, true); err != nil {
		t.Errorf("it is only looked at, by another user: %v", err)
	}
}

// asksTooMuch asks the keeper for what a server may not have: users beside those that it was given, and, where the keeper is not root, what is not its own.
func (s *Site) asksTooMuch(t *testing.T) {
	t.Helper()
	home := filepath.Join(s.places, "elsewhere")
	spec := keeper.Spec{Folder: home}
	for id, p := range map[string]keeper.Process{
		"other": {User: 700102}, "root": {User: -1 << 32}, "secrets": {User: 700100, Secrets: "/etc"}, "files": {User: 700100, Secrets: "/etc", Files: []keeper.File{{At: "x", Mode: "0600"}}}, "volume": {User: 700100, Volumes: []string{filepath.Join(s.Folder, rootsFolder)}},
		"home": {User: 700100, Folder: "/usr"},
	} {
		if os.Geteuid() == 0 && id != "other" && id != "root" {
			continue // it has all of it anyway
		}
		p.ID, p.Args = id, []string{"/bin/sleep", "100"}
		spec.Processes = append(spec.Processes, p)
	}
	if _, err := s.Keeper.submit(t.Context(), "elsewhere", spec); err != nil {
		t.Fatal(err)
	}
	for end := time.Now().Add(30 * time.Second); ; time.Sleep(10 * time.Millisecond) {
		status, err := s.Keeper.status(t.Context(), "elsewhere")
		if err != nil {
			t.Fatal(err)
		}
		refused := 0
		for id, p := range status.Processes {
			if p.Running {
				t.Fatalf("%s runs", id)
			}
			if strings.Contains(p.Reason, "may not start anything as") || strings.Contains(p.Reason, "is not its keeper's alone") || strings.Contains(p.Reason, "to give away") || id == "home" && strings.Contains(p.Reason, "permission denied") {
				refused++
			}
		}
		if refused == len(spec.Processes) {
			break
		}
		if time.Now().After(end) {
			t.Fatalf("%+v", status.Processes)
		}
	}
	if info, err := os.Stat(filepath.Join(s.Folder, rootsFolder)); err == nil && system.Owner(info) != 0 {
		t.Errorf("what is root's was given to user %d", system.Owner(info))
	}
	if _, err := s.Keeper.submit(t.Context(), "elsewhere", keeper.Spec{Folder: home}); err != nil {
		t.Fatal(err)
	}
}
