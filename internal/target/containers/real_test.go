package containers

import (
	"archive/tar"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/google/go-containerregistry/pkg/name"
	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/empty"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/tarball"

	"aditus/internal/core/declare"
	"aditus/internal/probe"
	"aditus/internal/socket/porttest"
	"aditus/internal/status"
	"aditus/internal/target"
	"aditus/internal/target/containers/host"
	"aditus/internal/target/containers/images"
	"aditus/internal/target/local"
	"aditus/internal/target/local/keeper"
	"aditus/internal/target/local/store"
	"aditus/internal/target/local/traffic"
	"aditus/internal/target/targettest"
)

// apart is set where the tests run in a network and a mount namespace of their own, so that an engine changes nothing of the machine.
const apart = "ADITUS_TEST_APART"

// TestMain lets the test's own program be a keeper and a router, and has the tests run apart from the machine.
func TestMain(m *testing.M) {
	if len(os.Args) > 2 {
		ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGTERM)
		defer stop()
		log := slog.New(slog.NewTextHandler(os.Stderr, nil))
		var err error
		switch os.Args[1] {
		case "-keeper":
			err = keeper.Run(ctx, keeper.Options{Folder: os.Args[2], Router: []string{os.Args[0], "-router", os.Args[2]}, Probe: probe.New().Ask, Log: log})
		case "-router":
			err = traffic.Run(ctx, traffic.Options{Folder: os.Args[2], Log: log})
		}
		if os.Args[1] == "-keeper" || os.Args[1] == "-router" {
			if err != nil {
				fmt.Fprintln(os.Stderr, err)
				os.Exit(1)
			}
			os.Exit(0)
		}
	}
	if os.Getenv(apart) == "" && missing() == "" {
		cmd := exec.Command("unshare", append([]string{"-n", "-m", "--propagation", "private", os.Args[0]}, os.Args[1:]...)...)
		cmd.Env = append(os.Environ(), apart+"=1")
		cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, os.Stdout, os.Stderr
		err := cmd.Run()
		var ended *exec.ExitError
		if errors.As(err, &ended) {
			os.Exit(ended.ExitCode())
		} else if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		os.Exit(0)
	}
	if os.Getenv(apart) != "" {
		for _, do := range [][]string{{"ip", "link", "set", "lo", "up"}, {"mount", "-t", "tmpfs", "tmpfs", "/run"}} { // where engines note addresses that are taken
			if out, err := exec.Command(do[0], do[1:]...).CombinedOutput(); err != nil {
				fmt.Fprintf(os.Stderr, "%s: %v\n", out, err)
				os.Exit(1)
			}
		}
	}
	os.Exit(m.Run())
}

// missing tells what keeps a real engine from being started here; empty for nothing.
func missing() string {
	if os.Geteuid() != 0 {
		return "a container engine of its own takes root"
	}
	for _, program := range []string{"podman", "runc", "unshare", "ip"} {
		if _, err := exec.LookPath(program); err != nil {
			return "there is no " + program + ": make test installs it"
		}
	}
	helper := func(folder string) bool { _, err := os.Stat(filepath.Join(folder, "netavark")); return err == nil }
	if !slices.ContainsFunc([]string{"/usr/lib/podman", "/usr/libexec/podman"}, helper) {
		return "there is no netavark: make test installs it"
	}
	if out, err := exec.Command("unshare", "-n", "-m", "--propagation", "private", "true").CombinedOutput(); err != nil {
		return "namespaces may not be made here: " + strings.TrimSpace(string(out))
	}
	return ""
}

// engine is a real engine in a folder.
type engine struct {
	folder  string
	address string
	cmd     *exec.Cmd
}

// startEngine starts an engine of the test's own, whose folders are set up in further ways.
func startEngine(t testing.TB, with ...func(folder string)) *engine {
	t.Helper()
	if why := missing(); why != "" {
		t.Skip(why)
	}
	folder, err := os.MkdirTemp("", "aditus-engine")
	if err != nil {
		t.Fatal(err)
	}
	e := &engine{folder: folder, address: host.Scheme + filepath.Join(folder, "engine.sock")}
	for _, name := range []string{"root", "run", "tmp", "net"} {
		if err := os.MkdirAll(filepath.Join(folder, name), 0o700); err != nil {
			t.Fatal(err)
		}
	}
	for _, set := range with {
		set(folder)
	}
	var open, processes syscall.Rlimit
	syscall.Getrlimit(syscall.RLIMIT_NOFILE, &open)
	syscall.Getrlimit(6, &processes) // RLIMIT_NPROC
	most := func(l syscall.Rlimit) uint64 { return min(l.Max, 20000) }
	for name, text := range map[string]string{
		"containers.conf": fmt.Sprintf("[engine]\ncgroup_manager = \"cgroupfs\"\nevents_logger = \"file\"\nruntime = \"runc\"\ntmp_dir = \"%s/run/libpod\"\n[containers]\nlog_driver = \"k8s-file\"\ndefault_ulimits = [\"nofile=%d:%d\", \"nproc=%d:%d\"]\n[network]\nnetwork_backend = \"netavark\"\nnetwork_config_dir = \"%s/net\"\n",
			folder, most(open), most(open), most(processes), most(processes), folder),
		"storage.conf":    fmt.Sprintf("[storage]\ndriver = \"overlay\"\ngraphroot = \"%s/root\"\nrunroot = \"%s/run\"\n", folder, folder),
		"registries.conf": "unqualified-search-registries = []\n",
	} {
		if err := os.WriteFile(filepath.Join(folder, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	forgetNetworks()
	e.start(t)
	t.Cleanup(func() {
		e.podman("rm", "-fa", "-t", "0").Run()
		e.stop()
		exec.Command("umount", "-l", filepath.Join(folder, "root", "overlay")).Run()
		os.RemoveAll(folder)
	})
	return e
}

// forgetNetworks takes away what an engine that was killed left behind in the tests' own network: bridges with the same addresses, and ports that
// lead nowhere.
func forgetNetworks() {
	if os.Getenv(apart) == "" {
		return // it is the machine's
	}
	for n := range 10 {
		exec.Command("ip", "link", "delete", fmt.Sprint("podman", n)).Run()
	}
	for _, table := range []string{"nat", "filter"} {
		for _, do := range []string{"--flush", "--delete-chain"} {
			exec.Command("iptables", "--table", table, do).Run()
		}
	}
}

func (e *engine) podman(args ...string) *exec.Cmd {
	cmd := exec.Command("podman", args...)
	at := func(name string) string { return filepath.Join(e.folder, name) }
	cmd.Dir = e.folder // where what the engine starts leaves things
	cmd.Env = append(os.Environ(), "CONTAINERS_CONF="+at("containers.conf"), "CONTAINERS_STORAGE_CONF="+at("storage.conf"), "CONTAINERS_REGISTRIES_CONF="+at("registries.conf"), "TMPDIR="+at("tmp"), "DISABLE_HC_SYSTEMD=true")
	return cmd
}

func (e *engine) start(t testing.TB) {
	t.Helper()
	e.cmd = e.podman("system", "service", "--time", "0", e.address)
	log, err := os.OpenFile(filepath.Join(e.folder, "log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		t.Fatal(err)
	}
	defer log.Close()
	e.cmd.Stdout, e.cmd.Stderr = log, log
	if err := e.cmd.Start(); err != nil {
		t.Fatal(err)
	}
	eventually(t, "the engine answers", func() bool { _, err := host.New(e.address).Ping(t.Context()); return err == nil })
}

func (e *engine) stop() {
	e.cmd.Process.Kill()
	e.cmd.Wait()
}

// eventually waits until something is so.
func eventually(t testing.TB, what string, so func() bool) {
	t.Helper()
	for end := time.Now().Add(time.Minute); !so(); time.Sleep(20 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("it does not come to this: %s", what)
		}
	}
}

// service is the program that images hold, built once.
var service = sync.OnceValues(func() ([]byte, error) {
	folder, err := os.MkdirTemp("", "aditus-service")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(folder)
	cmd := exec.Command("go", "build", "-o", filepath.Join(folder, "service"), "./testdata/service")
	cmd.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := cmd.CombinedOutput(); err != nil {
		return nil, fmt.Errorf("%w: %s", err, out)
	}
	return os.ReadFile(filepath.Join(folder, "service"))
})

// image is an image of a version of the service.
func image(t testing.TB, version string) v1.Image {
	t.Helper()
	program, err := service()
	if err != nil {
		t.Fatal(err)
	}
	var out bytes.Buffer
	w := tar.NewWriter(&out)
	for _, folder := range []string{"tmp", "run", "data"} {
		w.WriteHeader(&tar.Header{Name: folder + "/", Mode: 0o1777, Typeflag: tar.TypeDir})
	}
	w.WriteHeader(&tar.Header{Name: "service", Mode: 0o755, Size: int64(len(program))})
	w.Write(program)
	w.Close()
	layer, err := tarball.LayerFromOpener(func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(out.Bytes())), nil })
	if err != nil {
		t.Fatal(err)
	}
	made, err := mutate.AppendLayers(empty.Image, layer)
	if err == nil {
		config := v1.Config{Entrypoint: []string{"/service"}, Env: []string{"VERSION=" + version}}
		if version == checked {
			config.Healthcheck = &v1.HealthConfig{Test: []string{"CMD", "/service", "check"}, Interval: time.Second, Timeout: 5 * time.Second, Retries: 2}
		}
		made, err = mutate.Config(made, config)
	}
	if err != nil {
		t.Fatal(err)
	}
	return made
}

// checked is the version whose image has a check of its own.
const checked = "4"

// reference is what artifacts of a version are called.
func reference(version int) string { return fmt.Sprintf("registry.skerry.example/web:%d", version) }

// opened is a site of an engine in a data folder, whose keeper ends with the test.
func opened(t testing.TB, e *engine, data string, with ...func(*local.Options)) *local.Site {
	t.Helper()
	fetch := func(_ context.Context, ref string) (v1.Image, error) {
		for version := range 5 {
			if ref == reference(version) {
				return image(t, fmt.Sprint(version)), nil
			}
		}
		return nil, fmt.Errorf("%w: %s", store.ErrNone, ref)
	}
	client := local.NewClient(data, os.Args[0], "-keeper", data)
	h := host.New(e.address)
	o := local.Options{Name: "quay", Folder: data, Listen: porttest.Free(t), Ports: [2]int{21000, 29999}, Keeper: client, Engine: &local.Engine{Address: e.address, Host: h, Images: images.Open(h, 1<<30, data, fetch)},
		Open: func(sealed string) (string, error) { return strings.TrimPrefix(sealed, "sealed:"), nil }}
	for _, set := range with {
		set(&o)
	}
	s, err := local.Open(o)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		ctx, cancel := context.WithTimeout(context.Background(), 60*time.Second)
		defer cancel()
		if err := client.End(ctx); err != nil {
			t.Error(err)
		}
		if t.Failed() {
			log, _ := os.ReadFile(filepath.Join(data, keeper.LogName))
			engineLog, _ := os.ReadFile(filepath.Join(e.folder, "log"))
			t.Logf("%s\n%s", log, engineLog)
		}
	})
	return s
}

// followed has a site hear of changes until the test ends.
func followed(t testing.TB, s *local.Site) {
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() {
		defer close(done)
		s.Follow(ctx, func(string) {})
	}()
	t.Cleanup(func() { cancel(); <-done })
}

// shortTemp is a folder with a name short enough for sockets in it.
func shortTemp(t testing.TB) string {
	t.Helper()
	folder, err := os.MkdirTemp("", "aditus")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(folder) })
	return folder
}

// TestRealConformance holds the driver against the contract of all drivers, at a real engine.
func TestRealConformance(t *testing.T) {
	e := startEngine(t)
	targettest.Run(t, func(t *testing.T) target.Driver { return opened(t, e, shortTemp(t)) }, targettest.Options{Artifact: reference, Missing: "registry.skerry.example/none:1", Settles: time.Minute})
}

const workload = "ferry"

func revision(n int) declare.Fingerprint { return declare.Fingerprint(fmt.Sprintf("%07d00", n)) }

// ferry is a workload with all that a container can have.
func ferry(version int) declare.Desired {
	span := func(d time.Duration) declare.Span { return declare.Span{Duration: d} }
	return declare.Desired{Format: 1, Workload: workload, Parts: map[string]declare.Part{
		"deck": {
			Kind: declare.Service, Artifact: reference(version), Ports: map[string]int{"http": 8080}, Environment: map[string]string{"SEASON": "summer", "ENGINE_AT": "http://${engine.host}:${engine.port}/"}, Volumes: map[string]string{"logbook": "/data"},
			Probes:    map[string]declare.Probe{"ready": {HTTP: &declare.Endpoint{Port: "http", Path: "/"}, Every: span(time.Second), Timeout: span(time.Second), Passes: 1, Fails: 3}},
			Stop:      &declare.Stop{Drain: span(time.Second), Signal: "TERM", Within: span(3 * time.Second)},
			Resources: &declare.Resources{Limits: declare.Amounts{CPU: 0.5, Memory: 64 << 20, Processes: 50}},
			Files:     map[string]declare.File{"etc/deck.conf": {Text: "season ${SEASON}\n", Mode: "0644"}},
		},
		"engine":  {Kind: declare.Service, Artifact: reference(version), Ports: map[string]int{"http": 8080}, User: new(1234), Files: map[string]declare.File{"etc/engine.conf": {Text: "steam", Mode: "0600"}}},
		"hours":   {Kind: declare.Settings, Values: map[string]string{"opens.at": "06:30"}},
		"pass":    {Kind: declare.Secret, Values: map[string]string{"word": "fingerprint"}, Sealed: map[string]string{"word": "sealed:ahoy"}},
		"logbook": {Kind: declare.Volume, Size: 1 << 20},
		"entry":   {Kind: declare.Route, Service: "deck", To: &declare.Endpoint{Port: "http", Path: "/"}},
	}}
}

// up lays a revision and starts its instances, with all of the traffic.
func up(t testing.TB, s *local.Site, n int, instances int) {
	t.Helper()
	if err := s.Apply(t.Context(), workload, []target.Want{target.Prepare(revision(n), ferry(n)), target.Scale(revision(n), "deck", instances), target.Scale(revision(n), "engine", 1), target.SetShare(revision(n), 1, "")}); err != nil {
		t.Fatal(err)
	}
}

// await looks until the instances of a part are as wanted.
func await(t testing.TB, s *local.Site, n int, what string, is func([]target.Instance) bool) (found []target.Instance) {
	t.Helper()
	var last any
	defer func() {
		if t.Failed() {
			t.Logf("there is %+v", last)
		}
	}()
	eventually(t, what, func() bool {
		seen, err := s.Observe(t.Context(), workload)
		c, _ := seen.Cohort(revision(n))
		found = slices.DeleteFunc(slices.Clone(c.Instances), func(in target.Instance) bool { return in.Part != "deck" })
		last = fmt.Sprintf("%+v (%v)", found, err)
		return err == nil && is(found)
	})
	return found
}

func running(n int) func([]target.Instance) bool {
	return func(all []target.Instance) bool {
		runs := 0
		for _, in := range all {
			if in.Address != "" && in.Waits == "" {
				runs++
			}
		}
		return runs == n
	}
}

// ask asks through the router until there is an answer.
func ask(t testing.TB, s *local.Site, path string) (text string) {
	t.Helper()
	eventually(t, "an answer to "+path, func() bool {
		response, err := http.Get("http://" + s.Listen + path)
		if err != nil {
			return false
		}
		defer response.Body.Close()
		all, _ := io.ReadAll(response.Body)
		text = string(all)
		return response.StatusCode == 200
	})
	return text
}

// TestRealFurnished sees what a container is given, and that it is given nothing else.
func TestRealFurnished(t *testing.T) {
	e := startEngine(t)
	s := opened(t, e, shortTemp(t))
	followed(t, s)
	up(t, s, 1, 1)
	in := await(t, s, 1, "it runs", running(1))[0]
	variables := ask(t, s, "/environment")
	for _, want := range []string{"SEASON=summer", "OPENS_AT=06:30", "WORD=ahoy", "SITE=quay", "WORKLOAD=ferry", "INSTANCE=" + in.ID, "PORT=8080", "PORT_HTTP=8080", "VERSION=1", "VOLUME_LOGBOOK=/data", "ENGINE_AT=http://engine:8080/"} {
		if !strings.Contains(variables, want+"\n") {
			t.Errorf("%s is not in its environment:\n%s", want, variables)
		}
	}
	for path, want := range map[string]string{
		"/file?name=/run/aditus/settings/hours/opens.at": "06:30<nil>", "/file?name=/run/aditus/secrets/pass/word": "ahoy<nil>", "/file?name=/etc/deck.conf": "season summer\n<nil>",
		"/write?name=/etc/other": "read-only", "/write?name=/data/log": "<nil>", "/write?name=/tmp/log": "<nil>", "/write?name=/run/aditus/settings/hours/opens.at": "read-only",
		"/reach?at=http://engine:8080/": "200 OK", "/file?name=/proc/self/status": "CapEff:\t0000000000000000", "/file?name=/proc/1/status": "NoNewPrivs:\t1",
	} {
		if got := ask(t, s, path); !strings.Contains(got, want) {
			t.Errorf("%s: %q, want %q", path, got, want)
		}
	}
	c, err := s.Engine.Host.Inspect(t.Context(), containerOf(t, s, in.ID))
	if err != nil || c.HostConfig.Memory != 64<<20 || c.HostConfig.NanoCpus != 5e8 || !c.HostConfig.ReadonlyRootfs || c.HostConfig.PidsLimit == nil || *c.HostConfig.PidsLimit != 50 {
		t.Errorf("it has %+v (%v)", c.HostConfig, err)
	}
	if text, err := s.Exec(t.Context(), workload, in.ID, []string{"/service", "check"}); err != nil || text != "" {
		t.Errorf("a command: %q (%v)", text, err)
	}
	ask(t, s, "/write?name=/tmp/sick")
	if text, err := s.Exec(t.Context(), workload, in.ID, []string{"/service", "check"}); err != nil || text != "/service exited with status 3: it is sick" {
		t.Errorf("a command that fails: %q (%v)", text, err)
	}
	eventually(t, "another user reads its own file", func() bool {
		seen, err := s.Observe(t.Context(), workload)
		c, _ := seen.Cohort(revision(1))
		i := slices.IndexFunc(c.Instances, func(in target.Instance) bool { return in.Part == "engine" && in.Address != "" })
		if err != nil || i < 0 {
			return false
		}
		text, err := s.Exec(t.Context(), workload, c.Instances[i].ID, []string{"/service", "read", "/etc/engine.conf"})
		return err == nil && text == ""
	})
	lines, err := s.Log(t.Context(), workload, in.ID, time.Time{}, 10)
	if err != nil || len(lines) == 0 || lines[0].Text != "ready on 8080" || time.Since(lines[0].At) > time.Minute {
		t.Errorf("it wrote %v (%v)", lines, err)
	}
	page, err := s.Measure(t.Context(), workload)
	if err != nil || len(page[in.ID][target.MemoryMetric]) != 1 {
		t.Errorf("it uses %v (%v)", page[in.ID], err)
	}
}

// containerNow is the ID of an instance's container; empty where there is none.
func containerNow(s *local.Site, id string) string {
	all, err := s.Engine.Host.List(context.Background(), map[string]string{"aditus.instance": id})
	if err != nil || len(all) != 1 {
		return ""
	}
	return all[0].ID
}

// containerOf is the name of an instance's container.
func containerOf(t testing.TB, s *local.Site, id string) string {
	t.Helper()
	now := containerNow(s, id)
	if now == "" {
		t.Fatalf("%s has no container", id)
	}
	return now
}

// TestRealFaults has happen to containers, their keeper and their engine what happens, and sees that it is told, mended, and that what runs
// runs on.
func TestRealFaults(t *testing.T) {
	e := startEngine(t)
	s := opened(t, e, shortTemp(t))
	followed(t, s)
	up(t, s, 1, 1)
	in := await(t, s, 1, "it runs", running(1))[0]
	id := containerOf(t, s, in.ID)
	told := func(what string) func([]target.Instance) bool {
		return func(all []target.Instance) bool {
			return len(all) == 1 && strings.Contains(fmt.Sprint(all[0].Events), what)
		}
	}
	observe := func() error { _, err := s.Observe(t.Context(), workload); return err }
	live := func() string {
		seen, _ := s.Observe(t.Context(), workload)
		c, _ := seen.Cohort(revision(1))
		deck, _ := c.Live["deck"].(map[string]any)
		text, _ := deck["process"].(string)
		return text
	}

	http.Get("http://" + s.Listen + "/crash")
	await(t, s, 1, "its end is told, with its last words", told("exited with status 5: the tide took it"))
	await(t, s, 1, "it runs again", running(1))
	ask(t, s, "/")
	if again := containerOf(t, s, in.ID); again != id {
		t.Errorf("it runs in another container, %s, than %s, which has what it wrote before", again, id)
	}
	http.Get("http://" + s.Listen + "/eat")
	await(t, s, 1, "its memory is told", func(all []target.Instance) bool { return told("memory")(all) || told("137")(all) })
	await(t, s, 1, "it runs again", running(1))

	for _, by := range [][]string{{"pause", id}, {"unpause", id}} {
		if out, err := e.podman(by...).CombinedOutput(); err != nil {
			t.Fatalf("%s: %v", out, err)
		}
		eventually(t, "what was done by hand is seen: "+by[0], func() bool { return (live() == "paused") == (by[0] == "pause") })
	}
	if out, err := e.podman("network", "create", "other").CombinedOutput(); err != nil {
		t.Fatalf("%s: %v", out, err)
	}
	if out, err := e.podman("network", "connect", "other", id).CombinedOutput(); err != nil {
		t.Fatalf("%s: %v", out, err)
	}
	eventually(t, "another network is seen", func() bool { return live() == "in the network other" })
	if err := s.Restart(t.Context(), workload, in.ID); err != nil {
		t.Fatal(err)
	}
	await(t, s, 1, "it was started anew", func(all []target.Instance) bool { return running(1)(all) && len(all[0].Restarts) > 0 && live() == "" })

	id = containerOf(t, s, in.ID)
	restarts := len(await(t, s, 1, "it runs", running(1))[0].Restarts)
	if out, err := e.podman("rm", "-f", "-t", "0", id).CombinedOutput(); err != nil {
		t.Fatalf("%s: %v", out, err)
	}
	await(t, s, 1, "one that was removed by hand is told, and made anew", func(all []target.Instance) bool {
		return running(1)(all) && len(all[0].Restarts) > restarts
	})
	id = containerOf(t, s, in.ID)

	if err := keeper.Kill(s.Folder); err != nil {
		t.Fatal(err)
	}
	await(t, s, 1, "the next keeper has it", func(all []target.Instance) bool { return running(1)(all) && told("taken over")(all) })
	if again := containerOf(t, s, in.ID); again != id {
		t.Errorf("the next keeper made another container: %s, %s", again, id)
	}

	e.stop()
	eventually(t, "an engine that is gone is silent", func() bool { return errors.Is(observe(), target.ErrUnreachable) })
	if got := ask(t, s, "/"); !strings.Contains(got, "version 1") {
		t.Errorf("without its engine it answers %q", got)
	}
	e.start(t)
	await(t, s, 1, "the engine is back, and nothing was started anew", running(1))
	if again := containerOf(t, s, in.ID); again != id {
		t.Errorf("with its engine came another container: %s, %s", again, id)
	}
	e.cmd.Process.Signal(syscall.SIGSTOP)
	eventually(t, "an engine that hangs is silent", func() bool { return errors.Is(observe(), target.ErrUnreachable) })
	e.cmd.Process.Signal(syscall.SIGCONT)
	await(t, s, 1, "it goes on", running(1))

	if out, err := e.podman("rmi", "-af").CombinedOutput(); err != nil {
		t.Fatalf("%s: %v", out, err)
	}
	await(t, s, 1, "what ran of an image that was removed runs again", func(all []target.Instance) bool {
		now := containerNow(s, in.ID)
		return running(1)(all) && now != "" && now != id
	})
	ask(t, s, "/")

	if err := s.Apply(t.Context(), workload, []target.Want{target.SetShare(revision(1), 0, ""), target.Delete(revision(1))}); err != nil {
		t.Fatal(err)
	}
	eventually(t, "nothing is left but the volume", func() bool {
		all, err := s.Engine.Host.List(t.Context(), map[string]string{"aditus.workload": workload})
		return err == nil && len(all) == 0
	})
	eventually(t, "its network is gone", func() bool {
		out, err := e.podman("network", "ls", "-q").Output()
		return err == nil && !strings.Contains(string(out), "quay")
	})
	if out, _ := e.podman("volume", "ls", "-q").Output(); !strings.Contains(string(out), "ferry-logbook") {
		t.Errorf("the volumes that are there: %s", out)
	}
}

// TestRealTakenOver takes a container over that somebody started by hand: the same one runs on through all that befalls Aditus, is let go,
// taken over again, and gives way to the next revision.
func TestRealTakenOver(t *testing.T) {
	e := startEngine(t)
	file := filepath.Join(t.TempDir(), "web.tar")
	tag, err := name.NewTag(reference(1))
	if err == nil {
		err = tarball.WriteToFile(file, tag, image(t, "1"))
	}
	if err != nil {
		t.Fatal(err)
	}
	by := func(args ...string) string {
		t.Helper()
		out, err := e.podman(args...).CombinedOutput()
		if err != nil {
			t.Fatalf("%v: %s", args, out)
		}
		return strings.TrimSpace(string(out))
	}
	by("load", "-i", file)
	_, port, _ := net.SplitHostPort(porttest.Free(t))
	run := []string{"run", "-d", "-p", "127.0.0.1:" + port + ":8080", "-e", "PORT=8080", "-e", "SEASON=winter", "-e", "BERTH_TOKEN=hidden"}
	by(append(run, "--name", "tidal-board", "--memory", "64m", reference(1))...)
	by("run", "-d", "--name", "keeps-data", "-v", "kept:/data", "-e", "PORT=8080", reference(1))
	id := by("inspect", "--format", "{{.Id}}", "tidal-board")
	s := opened(t, e, shortTemp(t))
	followed(t, s)
	strays, err := s.Strays(t.Context())
	if err != nil || len(strays) != 2 || !strings.Contains(strays[0].Not, "it has volume at /data") || strays[1].ID != "container/tidal-board" || strays[1].Not != "" {
		t.Fatalf("it is told as %+v (%v)", strays, err)
	}
	if text := fmt.Sprint(strays[1]); strings.Contains(text, "hidden") || !strings.Contains(text, "BERTH_TOKEN") || !strings.Contains(text, "SEASON:winter") {
		t.Errorf("a secret is told, or its name is not: %s", text)
	}
	var part declare.Part
	text, _ := json.Marshal(strays[1].Part)
	if err := json.Unmarshal(bytes.Replace(text, []byte(`"64 MiB"`), []byte("67108864"), 1), &part); err != nil {
		t.Fatalf("%s: %v", text, err)
	}
	part.Probes = nil
	take := func(n int, season string) {
		t.Helper()
		own := part
		own.Environment = map[string]string{"PORT": "8080", "SEASON": season}
		desired := declare.Desired{Format: 1, Workload: workload, Parts: map[string]declare.Part{"deck": own, "entry": {Kind: declare.Route, Service: "deck", To: &declare.Endpoint{Port: "main", Path: "/"}}}}
		if err := s.Apply(t.Context(), workload, []target.Want{target.Prepare(revision(n), desired), target.Scale(revision(n), "deck", 1), target.SetShare(revision(n), 1, "")}); err != nil {
			t.Fatal(err)
		}
	}
	if err := s.Pledge(workload, map[string]string{"deck": strays[1].ID}); err != nil {
		t.Fatal(err)
	}
	found := func(all []target.Instance) bool { return running(1)(all) && all[0].Found }
	take(1, "winter")
	await(t, s, 1, "it is taken over", found)
	if got := ask(t, s, "/environment"); !strings.Contains(got, "BERTH_TOKEN=hidden") {
		t.Errorf("another one answers: %s", got)
	}
	if strays, err := s.Strays(t.Context()); err != nil || len(strays) != 1 {
		t.Errorf("what was taken over is still told as nobody's: %+v (%v)", strays, err)
	}
	seen, _ := s.Observe(t.Context(), workload)
	if deck := seen.Cohorts[0].Live["deck"].(map[string]any); deck["process"] != nil || len(seen.Told) > 0 {
		t.Errorf("something of it is told to be otherwise: %v, %v", deck["process"], seen.Told)
	}
	if err := keeper.Kill(s.Folder); err != nil {
		t.Fatal(err)
	}
	await(t, s, 1, "the next keeper has it", func(all []target.Instance) bool {
		return found(all) && slices.ContainsFunc(all[0].Events, func(e status.Event) bool { return e.Text == "taken over" })
	})
	if err := s.Apply(t.Context(), workload, []target.Want{target.LetGo(revision(1), "entry"), target.LetGo(revision(1), "deck")}); err != nil {
		t.Fatal(err)
	}
	if strays, err := s.Strays(t.Context()); err != nil || len(strays) != 2 {
		t.Errorf("what was let go is not found again: %+v (%v)", strays, err)
	}
	other := part
	other.Artifact = reference(2)
	if err := s.Apply(t.Context(), workload, []target.Want{target.Prepare(revision(9), declare.Desired{Format: 1, Workload: workload, Parts: map[string]declare.Part{"deck": other}}), target.Scale(revision(9), "deck", 1)}); err != nil {
		t.Fatal(err)
	}
	await(t, s, 9, "another image is not what it runs", func(all []target.Instance) bool {
		return running(1)(all) && !all[0].Found && strings.Contains(fmt.Sprint(all[0].Events), "another image is declared than it runs")
	})
	for _, err := range []error{s.Apply(t.Context(), workload, []target.Want{target.Scale(revision(9), "deck", 0), target.Delete(revision(9))}), s.Pledge(workload, map[string]string{"deck": strays[1].ID})} {
		if err != nil {
			t.Fatal(err)
		}
	}
	take(2, "winter")
	await(t, s, 2, "it is taken over again", found)
	if now := by("inspect", "--format", "{{.Id}} {{.State.Running}} {{.RestartCount}}", "tidal-board"); now != id+" true 0" {
		t.Errorf("it is %s now, and was %s", now, id)
	}
	take(3, "summer")
	if err := s.Apply(t.Context(), workload, []target.Want{target.Scale(revision(2), "deck", 0), target.Delete(revision(2))}); err != nil {
		t.Fatal(err)
	}
	await(t, s, 3, "the next revision runs", func(all []target.Instance) bool { return running(1)(all) && !all[0].Found })
	eventually(t, "what was taken over is gone", func() bool { return e.podman("inspect", id).Run() != nil })
	if got := ask(t, s, "/environment"); !strings.Contains(got, "SEASON=summer") {
		t.Errorf("another one answers: %s", got)
	}
	if by("inspect", "--format", "{{.State.Running}}", "keeps-data") != "true" {
		t.Error("what is nobody's was touched")
	}
}

// TestRealNameTaken leaves a container alone that has the name of one of ours.
func TestRealNameTaken(t *testing.T) {
	e := startEngine(t)
	s := opened(t, e, shortTemp(t))
	followed(t, s)
	file := filepath.Join(t.TempDir(), "web.tar")
	tag, err := name.NewTag(reference(1))
	if err == nil {
		err = tarball.WriteToFile(file, tag, image(t, "1"))
	}
	if err != nil {
		t.Fatal(err)
	}
	theirs := "aditus-" + keeper.OwnerOf(s.Folder)[:6] + "-quay-ferry-deck-0000001-1"
	for _, args := range [][]string{{"load", "-i", file}, {"run", "-d", "--name", theirs, "-e", "PORT=1", reference(1)}} {
		if out, err := e.podman(args...).CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", args, out)
		}
	}
	up(t, s, 1, 1)
	await(t, s, 1, "it is told", func(all []target.Instance) bool {
		return len(all) == 1 && strings.Contains(all[0].Reason, "is not of this Aditus")
	})
	if err := s.Apply(t.Context(), workload, []target.Want{target.SetShare(revision(1), 0, ""), target.Delete(revision(1))}); err != nil {
		t.Fatal(err)
	}
	eventually(t, "ours are gone", func() bool {
		all, err := s.Engine.Host.List(t.Context(), nil)
		return err == nil && len(all) == 1
	})
	if out, err := e.podman("inspect", "--format", "{{.State.Running}}", theirs).CombinedOutput(); err != nil || strings.TrimSpace(string(out)) != "true" {
		t.Errorf("what was there is %s (%v)", out, err)
	}
}

// TestRealSwitch has the traffic go from one version to the next, a quarter at first, and the old containers end, under load: no request is lost.
func TestRealSwitch(t *testing.T) {
	e := startEngine(t)
	s := opened(t, e, shortTemp(t))
	followed(t, s)
	up(t, s, 1, 2)
	await(t, s, 1, "it runs", running(2))
	ask(t, s, "/")
	const callers, each = 16, 16 * time.Millisecond // 1,000 a second
	ctx, stop := context.WithCancel(t.Context())
	var served, lost atomic.Int64
	var versions sync.Map
	var group sync.WaitGroup
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: callers}}
	for range callers {
		group.Go(func() {
			ticker := time.NewTicker(each)
			defer ticker.Stop()
			for ctx.Err() == nil {
				response, err := client.Get("http://" + s.Listen + "/")
				if err != nil || response.StatusCode != http.StatusOK {
					lost.Add(1)
				}
				if err == nil {
					text, _ := io.ReadAll(response.Body)
					response.Body.Close()
					versions.Store(string(text), true)
					served.Add(1)
				}
				<-ticker.C
			}
		})
	}
	do := func(wants ...target.Want) {
		t.Helper()
		if err := s.Apply(t.Context(), workload, wants); err != nil {
			t.Fatal(err)
		}
	}
	began := time.Now()
	do(target.Prepare(revision(2), ferry(2)), target.Scale(revision(2), "deck", 2), target.Scale(revision(2), "engine", 1))
	await(t, s, 2, "the next version runs", running(2))
	for _, share := range []float64{0.25, 1} {
		do(target.SetShare(revision(2), share, revision(1)))
		sofar := served.Load()
		eventually(t, "a thousand more requests", func() bool { return served.Load() > sofar+1000 })
	}
	do(target.Scale(revision(1), "deck", 0), target.Scale(revision(1), "engine", 0), target.Delete(revision(1)))
	eventually(t, "the old containers are gone", func() bool {
		all, err := s.Engine.Host.List(t.Context(), map[string]string{"aditus.part": "deck"})
		return err == nil && len(all) == 2
	})
	stop()
	group.Wait()
	t.Logf("%d requests, %.0f a second", served.Load(), float64(served.Load())/time.Since(began).Seconds())
	if lost.Load() > 0 {
		t.Errorf("%d of %d requests were lost", lost.Load(), served.Load())
	}
	for _, want := range []string{"version 1\n", "version 2\n"} {
		if _, seen := versions.Load(want); !seen {
			t.Errorf("nobody saw %q", want)
		}
	}
}

// TestRealDiskFull has the disk of the engine be full when the next version is to be brought: it says so, what runs runs on, and once there is room it comes.
func TestRealDiskFull(t *testing.T) {
	var small string
	e := startEngine(t, func(folder string) {
		small = filepath.Join(folder, "root")
		if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=96m", "aditus-test", small).CombinedOutput(); err != nil {
			t.Skipf("a small disk cannot be made here: %v %s", err, out)
		}
		t.Cleanup(func() { exec.Command("umount", "-l", small).Run() })
	})
	s := opened(t, e, shortTemp(t))
	followed(t, s)
	up(t, s, 1, 1)
	await(t, s, 1, "it runs", running(1))
	filler, err := os.Create(filepath.Join(small, "filler"))
	if err != nil {
		t.Fatal(err)
	}
	defer filler.Close()
	for size := 1 << 20; size > 0; {
		if _, err := filler.Write(make([]byte, size)); err != nil {
			size /= 2
		}
	}
	if err := s.Apply(t.Context(), workload, []target.Want{target.Prepare(revision(2), ferry(2)), target.Scale(revision(2), "deck", 1)}); err != nil {
		t.Fatal(err)
	}
	await(t, s, 2, "it is told that there is no room", func(all []target.Instance) bool {
		return len(all) == 1 && strings.Contains(all[0].Reason, "no space left on device")
	})
	if got := ask(t, s, "/"); got != "version 1\n" {
		t.Errorf("meanwhile %q answers", got)
	}
	await(t, s, 1, "what ran runs on", running(1))
	if err := filler.Truncate(0); err != nil {
		t.Fatal(err)
	}
	await(t, s, 2, "it comes once there is room", running(1))
}

// TestRealOwnCheck has an image whose own check passes, fails, and passes again once the container was started anew.
func TestRealOwnCheck(t *testing.T) {
	e := startEngine(t)
	s := opened(t, e, shortTemp(t))
	followed(t, s)
	up(t, s, 4, 1)
	in := await(t, s, 4, "it runs", running(1))[0]
	ask(t, s, "/write?name=/tmp/sick")
	await(t, s, 4, "its check fails", func(all []target.Instance) bool {
		return len(all) == 1 && all[0].Ails == "its image's own check, /service exited with status 3: it is sick"
	})
	eventually(t, "it has no traffic any more", func() bool {
		response, err := http.Get("http://" + s.Listen + "/")
		if err != nil {
			return false
		}
		response.Body.Close()
		return response.StatusCode == http.StatusServiceUnavailable
	})
	if err := s.Restart(t.Context(), workload, in.ID); err != nil {
		t.Fatal(err)
	}
	await(t, s, 4, "it is well again", func(all []target.Instance) bool { return running(1)(all) && all[0].Ails == "" })
	ask(t, s, "/")
}

// TestRealEndWaits ends all while the engine hangs: after a while it is told what has not ended, and it ends once the engine answers.
func TestRealEndWaits(t *testing.T) {
	e := startEngine(t)
	s := opened(t, e, shortTemp(t))
	followed(t, s)
	up(t, s, 1, 1)
	await(t, s, 1, "it runs", running(1))
	client := local.NewClient(s.Folder, os.Args[0], "-keeper", s.Folder)
	e.cmd.Process.Signal(syscall.SIGSTOP)
	short, cancel := context.WithTimeout(t.Context(), 3*time.Second)
	defer cancel()
	if err := client.End(short); err == nil || !strings.Contains(err.Error(), "did not end in time: aditus-") || !strings.Contains(err.Error(), e.address) {
		t.Errorf("while its engine hangs: %v", err)
	}
	e.cmd.Process.Signal(syscall.SIGCONT)
	long, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	if err := client.End(long); err != nil {
		t.Error(err)
	}
	if all, err := s.Engine.Host.List(t.Context(), nil); err != nil || len(all) > 0 {
		t.Errorf("there are %v (%v)", all, err)
	}
}
