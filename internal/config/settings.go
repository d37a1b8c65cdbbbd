// Package config is a machine's settings: where things are, and how they are reached. It reads them, checks them, and
// edits their file so that what people wrote beside them stays.
package config

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/robfig/cron/v3"
	"go.yaml.in/yaml/v4"

	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
)

// FileName is the name of the settings within a data folder.
const FileName = "settings.yaml"

// Settings say what an engine looks after. docs/settings.md describes their file, and Schema is made from these types.
type Settings struct {
	Schema        string              `yaml:"$schema,omitempty" jsonschema_description:"For editors: where this schema is."`
	Line          string              `yaml:"line" jsonschema_description:"Whose workloads these are."`
	Beat          time.Duration       `yaml:"beat" jsonschema:"default=1s" jsonschema_description:"How often each berth is looked at."`
	Listen        string              `yaml:"listen,omitempty" jsonschema:"pattern=:[0-9]+$" jsonschema_description:"The address that webhooks and alerts come to, HOST:PORT; none where it is left out."`
	Registries    map[string]Registry `yaml:"registries,omitempty" jsonschema_description:"How registries are asked, by host; * for all others."`
	Links         []Link              `yaml:"links"`
	Follow        []Follow            `yaml:"follow,omitempty" jsonschema_description:"Sites that follow another branch for a while."`
	Store         string              `yaml:"store,omitempty" jsonschema:"default=4 GB" jsonschema_description:"How much of unpacked artifacts that nobody uses stays on disk."`
	Ledger        string              `yaml:"ledger,omitempty" jsonschema:"pattern=^postgres(ql)?://" jsonschema_description:"Where the ledger lies that several servers share: the connection URI of a PostgreSQL database, such as postgres://aditus@db.skerry.example/aditus. In the data folder where it is left out."`
	Memory        string              `yaml:"memory,omitempty" jsonschema:"default=1 GB" jsonschema_description:"What the server means to get along with; it collects what it does not need any more the harder the closer it comes to that, and tells when it meets it."`
	Ship          Ship                `yaml:"ship,omitempty" jsonschema_description:"A second copy of the ledger, in another folder, as it grows."`
	Keep          Keep                `yaml:"keep,omitempty" jsonschema_description:"For how long the ledger keeps what; 'for ever', or a number of days such as 14 days."`
	Roles         map[string][]string `yaml:"roles,omitempty" jsonschema_description:"Who may sign off what asks for a role, by its name. The name * stands for anyone. A commit that asks for a role that is not listed is not taken."`
	Policy        string              `yaml:"policy,omitempty" jsonschema_description:"The link whose line.yaml says what may happen when and by whom. roles, and automatic, after and drift of sites, stand there then."`
	Sinks         []Sink              `yaml:"sinks,omitempty" jsonschema_description:"Where notices go to."`
	MetricsStores []MetricsStore      `yaml:"metrics-stores,omitempty" jsonschema_description:"What is asked for signals that instances do not tell themselves."`
	Alerts        []AlertSource       `yaml:"alerts,omitempty" jsonschema_description:"Who says what fires, at listen by POST /alerts/NAME."`
	OTLP          *OTLP               `yaml:"otlp,omitempty" jsonschema_description:"Where instances may push what they measure."`
	Login         *Login              `yaml:"login,omitempty" jsonschema_description:"Whom people log in with."`
	Calm          bool                `yaml:"-" json:"-"` // nothing begins by itself, for a program that only asks
	Faces         string              `yaml:"-" json:"-"` // where this program answers faces over TCP, by its command line
	Instances     Instances           `yaml:"instances,omitempty" jsonschema_description:"As whom the instances of local sites run: each workload as a system user of its own, where the server, or its keeper, may start programs as others. As the server's own user where it is left out."`
	Sites         []Site              `yaml:"sites" jsonschema_description:"In course order."`
}

// Addresses are those that are listened to by Aditus itself: for faces, webhooks, and the HTTP traffic of local sites.
func (s Settings) Addresses() []string {
	all := []string{s.Listen, s.Faces}
	if s.OTLP != nil {
		all = append(all, s.OTLP.Listen)
	}
	for _, site := range s.Sites {
		all = append(all, site.Target.Listen)
	}
	return slices.DeleteFunc(all, func(at string) bool { return at == "" })
}

// Keep says for how long the ledger keeps what.
type Keep struct {
	Points   Days `yaml:"points,omitempty" jsonschema:"default=14 days" jsonschema_description:"Every point of a guard's signal; then one for each minute."`
	Minutes  Days `yaml:"minutes,omitempty" jsonschema:"default=90 days" jsonschema_description:"Those; then one for each hour, for ever."`
	Traffic  Days `yaml:"traffic,omitempty" jsonschema:"default=90 days" jsonschema_description:"The traffic and instances of rollouts, look by look."`
	Rollouts Days `yaml:"rollouts,omitempty" jsonschema:"default=400 days" jsonschema_description:"Rollouts, since they ended, but for each berth's last one. Their facts stay."`
	Facts    Days `yaml:"facts,omitempty" jsonschema:"default=for ever" jsonschema_description:"What happened."`
}

// Days is a length of time in days; 0 where nothing is said.
type Days int

// ForEver is without an end.
const ForEver Days = -1

const forEver = "for ever"

// UnmarshalText reads days.
func (d *Days) UnmarshalText(text []byte) error {
	if string(text) == forEver {
		*d = ForEver
		return nil
	}
	number, unit, _ := strings.Cut(string(text), " ")
	n, err := strconv.Atoi(number)
	if err != nil || n < 1 || n > mostDays || unit != "day" && unit != "days" {
		return fmt.Errorf("%q is no number of days; write it like 14 days, or %s", text, forEver)
	}
	*d = Days(n)
	return nil
}

// MarshalText writes days as they are read.
func (d Days) MarshalText() ([]byte, error) {
	switch d {
	case ForEver:
		return []byte(forEver), nil
	case 1:
		return []byte("1 day"), nil
	}
	return fmt.Appendf(nil, "%d days", d), nil
}

// mostDays is so much that it can be told from a mistake.
const mostDays = 100_000

// Or gives the length of time, another one where nothing is said, and 0 for ever.
func (d Days) Or(otherwise Days) time.Duration {
	if d = cmp.Or(d, otherwise); d == ForEver {
		return 0
	}
	return time.Duration(d) * 24 * time.Hour
}

// Ship says where a second copy of the ledger is kept as it grows.
type Ship struct {
	To    string        `yaml:"to" jsonschema:"required" jsonschema_description:"The folder, such as one of another machine."`
	Every time.Duration `yaml:"every,omitempty" jsonschema:"default=1s" jsonschema_description:"How often what is new is brought there."`
}

// shipEvery is how often a copy is brought where nothing else is said, and leastShip how often at most.
const (
	shipEvery = time.Second
	leastShip = 100 * time.Millisecond
)

// Interval is how often what is new is brought there.
func (s Ship) Interval() time.Duration { return cmp.Or(s.Every, shipEvery) }

// Follow lets one site follow another branch of a link for a while.
type Follow struct {
	Site   string    `yaml:"site" json:"site" jsonschema:"required"`
	Link   string    `yaml:"link" json:"link" jsonschema:"required"`
	Branch string    `yaml:"branch" json:"branch" jsonschema:"required"`
	Until  time.Time `yaml:"until" json:"until" jsonschema:"required" jsonschema_description:"A date or a moment, such as 2026-04-01 or 2026-04-01T18:00:00Z."`
}

// Site is a place where workloads run, with the way it takes revisions.
type Site struct {
	Name      string `yaml:"name" jsonschema:"required,minLength=1"`
	Automatic bool   `yaml:"automatic" jsonschema:"default=false" jsonschema_description:"Takes revisions by itself."`
	After     string `yaml:"after,omitempty" jsonschema_description:"The site that must have proven a revision first."`
	Drift     Drift  `yaml:"drift,omitempty"`
	Target    Target `yaml:"target,omitempty" jsonschema:"required" jsonschema_description:"What the site runs on."`
}

// Target is what a site runs on. Which kinds there are, and what is right for each, the drivers say.
type Target struct {
	Kind   string `yaml:"kind,omitempty" jsonschema:"required"`
	Listen string `yaml:"listen,omitempty" jsonschema:"pattern=:[0-9]+$" jsonschema_description:"local: where HTTP traffic comes in, HOST:PORT; nowhere where it is left out."`
	Ports  string `yaml:"ports,omitempty" jsonschema:"pattern=^[0-9]+ *- *[0-9]+$,default=20000-29999" jsonschema_description:"local: the ports that instances are given."`

	Machine  string   `yaml:"machine,omitempty" jsonschema_description:"local: the machine that it is on, by the name of the server there; needed where several servers share a ledger. Another machine's is silent while that one's server does not lead."`
	Programs []string `yaml:"programs,omitempty" jsonschema_description:"local: folders whose programs may be run by their whole path, beside /usr/local/bin, /usr/bin and /bin, such as /usr/lib/postgresql/17/bin."`

	Reach []string `yaml:"reach,omitempty" jsonschema_description:"local: folders of the machine that instances may read and write beside their own, such as /srv/media; / for all of it."`

	Engine      string `yaml:"engine,omitempty" jsonschema:"pattern=^(unix:///|tcp\\+tls://|ssh://)." jsonschema_description:"containers: the address of the container engine: unix:///run/podman/podman.sock on this machine, tcp+tls://HOST:PORT or ssh://USER@HOST/PATH, the engine's socket there, on another one."`
	CA          string `yaml:"ca,omitempty" jsonschema_description:"containers, by tcp+tls: a file of the certificates that may sign the engine's; left out for those that the machine trusts."`
	Certificate string `yaml:"certificate,omitempty" jsonschema_description:"containers, by tcp+tls: a file of the certificate that is shown to the engine."`
	Key         string `yaml:"key,omitempty" jsonschema_description:"containers: a file of that certificate's private key, or, by ssh, of the user's; an ssh agent is asked where it is left out."`
	KnownHosts  string `yaml:"known-hosts,omitempty" jsonschema_description:"containers, by ssh: a file of the keys of hosts; left out for the user's own."`

	Kubeconfig string   `yaml:"kubeconfig,omitempty" jsonschema_description:"cluster: the file that says how it is reached; where it is left out what KUBECONFIG names, the home folder's, or the service account that Aditus runs under."`
	Context    string   `yaml:"context,omitempty" jsonschema_description:"cluster: of that file; its current one where it is left out."`
	Namespace  string   `yaml:"namespace,omitempty" jsonschema:"pattern=^[a-z0-9]([-a-z0-9]*[a-z0-9])?$" jsonschema_description:"cluster: the one that is the site. It is made where it is missing and the account may."`
	Gateway    string   `yaml:"gateway,omitempty" jsonschema:"pattern=^[^/]+/[^/]+(/[^/]+)?$" jsonschema_description:"cluster: what routes are attached to, NAMESPACE/NAME or NAMESPACE/NAME/LISTENER; the only one that there is where it is left out."`
	Pull       []string `yaml:"pull,omitempty" jsonschema_description:"cluster: the Secrets of the namespace with which images are pulled."`
}

// defaultStore is how much the store keeps where nothing else is said.
const defaultStore = "4 GB"

// StoreSize is how many bytes of unpacked artifacts that nobody uses stay on disk.
func (s Settings) StoreSize() (int64, error) {
	bytes, err := declare.ReadMeasure(cmp.Or(s.Store, defaultStore), guard.Bytes)
	if err != nil {
		return 0, fmt.Errorf("store: %q is no amount; write it like %s", s.Store, defaultStore)
	}
	return int64(bytes), nil
}

// defaultMemory is what a server means to get along with where nothing else is said.
const defaultMemory = "1 GB"

// leastMemory is so little that it can be told from a mistake.
const leastMemory = 64 << 20

// MemorySize is how many bytes the server means to get along with.
func (s Settings) MemorySize() (int64, error) {
	bytes, err := declare.ReadMeasure(cmp.Or(s.Memory, defaultMemory), guard.Bytes)
	if err != nil || bytes < leastMemory {
		return 0, fmt.Errorf("memory: %q is no amount from %d MB on; write it like %s", s.Memory, leastMemory>>20, defaultMemory)
	}
	return int64(bytes), nil
}

// Drift says what becomes of changes made by hand.
type Drift struct {
	Look   string        `yaml:"look,omitempty" jsonschema_description:"When to look for changes made by hand, as a cron expression; left out for at every beat."`
	Then   string        `yaml:"then,omitempty" jsonschema:"enum=tell,enum=correct,enum=,default=tell"`
	Notice time.Duration `yaml:"notice,omitempty" jsonschema:"default=10m" jsonschema_description:"How long a correction is announced before it is made."`
}

// What becomes of drift.
const (
	TellDrift    = "tell"
	CorrectDrift = "correct"
)

// Read reads a settings file and checks it.
func Read(name string, text []byte) (Settings, error) {
	s := Settings{Beat: time.Second}
	decoder := yaml.NewDecoder(bytes.NewReader(text))
	decoder.KnownFields(true)
	if err := decoder.Decode(&s); err != nil {
		return s, fmt.Errorf("read the settings %s: %w", name, err)
	}
	if err := s.check(); err != nil {
		return s, fmt.Errorf("read the settings %s: %w", name, err)
	}
	return s, nil
}

func (s Settings) check() error {
	if ship := s.Ship; ship != (Ship{}) && (ship.To == "" || ship.Interval() < leastShip) {
		return fmt.Errorf("ship: it takes to, a folder, and every, which is %s at least", leastShip)
	}
	if s.Ledger != "" {
		if at, err := url.Parse(s.Ledger); err != nil || at.Scheme != "postgres" && at.Scheme != "postgresql" {
			return errors.New("ledger: it takes the connection URI of a PostgreSQL database; write it like postgres://aditus@db.skerry.example/aditus")
		}
		if s.Ship != (Ship{}) {
			return errors.New("ship: only a ledger in the data folder is shipped: PostgreSQL has its own ways to keep a second copy; take one of ship and ledger out")
		}
	}
	if s.Beat < 100*time.Millisecond {
		return fmt.Errorf("beat: %s is too short; 100ms is the least", s.Beat)
	}
	if s.Listen != "" {
		if _, _, err := net.SplitHostPort(s.Listen); err != nil {
			return fmt.Errorf("listen: %q is no address; write it like 127.0.0.1:8790", s.Listen)
		}
	}
	var names []string
	for _, l := range s.Links {
		if err := l.Check(); err != nil {
			return fmt.Errorf("links: %w", err)
		}
		if slices.Contains(names, l.Name) {
			return fmt.Errorf("links: %s stands there twice", l.Name)
		}
		names = append(names, l.Name)
	}
	for _, host := range slices.Sorted(maps.Keys(s.Registries)) {
		r := s.Registries[host]
		if r.Skip && len(r.Signed) > 0 {
			return fmt.Errorf("registries: %s: one that is skipped is not asked for signatures; take out one of skip and signed", host)
		}
		if err := checkKeys(r.Signed); err != nil {
			return fmt.Errorf("registries: %s: signed: %w", host, err)
		}
	}
	if err := s.Instances.check(); err != nil {
		return fmt.Errorf("instances: %w", err)
	}
	if err := s.checkSignals(); err != nil {
		return err
	}
	if s.Login != nil {
		if err := s.Login.check(); err != nil {
			return fmt.Errorf("login: %w", err)
		}
	}
	var sinks []string
	for _, sink := range s.Sinks {
		if err := sink.check(); err != nil {
			return fmt.Errorf("sinks: %s: %w", sink.Name, err)
		}
		if slices.Contains(sinks, sink.Name) {
			return fmt.Errorf("sinks: %s stands there twice", sink.Name)
		}
		sinks = append(sinks, sink.Name)
	}
	if err := s.checkSites(); err != nil {
		return err
	}
	if _, err := s.StoreSize(); err != nil {
		return err
	}
	if _, err := s.MemorySize(); err != nil {
		return err
	}
	if err := s.checkPolicy(); err != nil {
		return err
	}
	for _, f := range s.Follow {
		link := slices.IndexFunc(s.Links, func(l Link) bool { return l.Name == f.Link })
		switch {
		case !slices.ContainsFunc(s.Sites, func(site Site) bool { return site.Name == f.Site }):
			return fmt.Errorf("follow: %w", s.ErrNoSite(f.Site))
		case link < 0:
			return fmt.Errorf("follow: %w", s.ErrNoLink(f.Link))
		case s.Links[link].Bundle() || f.Branch == "":
			return fmt.Errorf("follow: %s needs a branch of a Git repository to follow", f.Site)
		case f.Until.IsZero():
			return fmt.Errorf("follow: %s follows %s without an end; write until: with a date", f.Site, f.Branch)
		}
	}
	return nil
}

// checkPolicy sees that what may happen when stands in one place.
func (s Settings) checkPolicy() error {
	if s.Policy == "" {
		return nil
	}
	if !slices.ContainsFunc(s.Links, func(l Link) bool { return l.Name == s.Policy }) {
		return fmt.Errorf("policy: %w", s.ErrNoLink(s.Policy))
	}
	moved := len(s.Roles) > 0
	for _, site := range s.Sites {
		moved = moved || site.Automatic || site.After != "" || site.Drift != Drift{}
	}
	if !moved {
		return nil
	}
	text, err := s.LineText()
	if err != nil {
		return err
	}
	return fmt.Errorf("policy: roles, and automatic, after and drift of sites, stand in line.yaml of the link %s now; take them out here, and write there:\n\n%s", s.Policy, text)
}

// LineText writes what these settings say of what may happen when and by whom as a line.yaml.
func (s Settings) LineText() (string, error) {
	type step map[string]any
	line := struct {
		Aditus  int                 `yaml:"aditus"`
		Roles   map[string][]string `yaml:"roles,omitempty"`
		Sites   map[string]any      `yaml:"sites,omitempty"`
		Courses map[string]any      `yaml:"courses,omitempty"`
	}{Aditus: 1, Roles: s.Roles, Sites: map[string]any{}}
	var steps []step
	for _, site := range s.Sites {
		if site.Drift != (Drift{}) {
			line.Sites[site.Name] = map[string]any{"drift": site.Drift}
		}
		if !site.Automatic {
			continue
		}
		one := step{"sites": []string{site.Name}}
		if site.After != "" {
			one["after"] = site.After
		}
		steps = append(steps, one)
	}
	if len(steps) > 0 {
		line.Courses = map[string]any{"line": map[string]any{"on": true, "steps": steps}}
	}
	text, err := yaml.Marshal(line)
	return string(text), err
}

func (s Settings) checkSites() error {
	var before []string
	listens := map[string]string{}
	for _, site := range s.Sites {
		if at := site.Target.Listen; at != "" {
			at = site.Target.Machine + " " + at
			if other := listens[at]; other != "" {
				return fmt.Errorf("sites: %s and %s cannot both listen on %s: give each an address of its own", other, site.Name, site.Target.Listen)
			}
			listens[at] = site.Name
		}
		switch {
		case site.Name == "":
			return errors.New("sites: each needs a name")
		case slices.Contains(before, site.Name):
			return fmt.Errorf("sites: %s stands there twice", site.Name)
		case site.After != "" && !slices.Contains(before, site.After):
			return fmt.Errorf("sites: %s comes after %q, which does not stand before it", site.Name, site.After)
		case !slices.Contains([]string{"", TellDrift, CorrectDrift}, site.Drift.Then):
			return fmt.Errorf("sites: %s: drift is told or corrected: write then: tell or then: correct, not %q", site.Name, site.Drift.Then)
		case site.Drift.Notice < 0:
			return fmt.Errorf("sites: %s: the notice of a correction cannot be %s", site.Name, site.Drift.Notice)
		}
		if site.Drift.Look != "" {
			if _, err := cron.ParseStandard(site.Drift.Look); err != nil {
				return fmt.Errorf("sites: %s: %q is no cron schedule: %w; write it like */15 * * * *", site.Name, site.Drift.Look, err)
			}
		}
		before = append(before, site.Name)
	}
	return nil
}

// Text writes the settings as their file.
func (s Settings) Text() ([]byte, error) { return yaml.Marshal(s) }
