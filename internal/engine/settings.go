package engine

import (
	"bytes"
	"cmp"
	_ "embed"
	"errors"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/robfig/cron/v3"
	"go.yaml.in/yaml/v4"

	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
	"aditus/internal/source"
)

// SettingsSchema is the JSON Schema (2020-12) of the settings.
//
//go:embed settings.schema.json
var SettingsSchema []byte

// SettingsFile is the name of the settings within a data folder.
const SettingsFile = "settings.yaml"

// Settings say what an engine looks after. docs/settings.md describes their file.
type Settings struct {
	Line       string                     `yaml:"line"`                 // whose workloads these are
	Beat       time.Duration              `yaml:"beat"`                 // how often each berth is looked at
	Listen     string                     `yaml:"listen,omitempty"`     // the address that webhooks come to; empty for none
	Registries map[string]source.Registry `yaml:"registries,omitempty"` // how registries are asked, by host; "*" for all others
	Links      []source.Link              `yaml:"links"`
	Follow     []Follow                   `yaml:"follow,omitempty"`
	Store      string                     `yaml:"store,omitempty"` // how much of unpacked artifacts that nobody uses stays on disk; 4 GB where it is empty
	Roles      map[string][]string        `yaml:"roles,omitempty"` // who may sign off what asks for a role; anyone where it is not listed
	Sites      []Site                     `yaml:"sites"`           // in course order
}

// Follow lets one site follow another branch of a link for a while.
type Follow struct {
	Site   string    `yaml:"site" json:"site"`
	Link   string    `yaml:"link" json:"link"`
	Branch string    `yaml:"branch" json:"branch"`
	Until  time.Time `yaml:"until" json:"until"`
}

// Site is a place where workloads run, with the way it takes revisions.
type Site struct {
	Name      string `yaml:"name"`
	Automatic bool   `yaml:"automatic"`       // takes revisions by itself
	After     string `yaml:"after,omitempty"` // the site that must have proven a revision first; empty for none
	Drift     Drift  `yaml:"drift,omitempty"`
	Target    Target `yaml:"target,omitempty"`
}

// Target is what a site runs on.
type Target struct {
	Kind   string `yaml:"kind,omitempty"`   // StandIn or Local; empty for StandIn
	Listen string `yaml:"listen,omitempty"` // Local: where HTTP traffic comes in; empty for nowhere
	Ports  string `yaml:"ports,omitempty"`  // Local: those that instances are given, FIRST-LAST
}

// Kinds of target.
const (
	StandIn = "stand-in" // a model, for trying things
	Local   = "local"    // processes on this machine
)

// What a target has where nothing else is said. The ports lie below those that systems give to outgoing connections.
const (
	defaultPorts = "20000-29999"
	defaultStore = "4 GB"
)

// Between gives the first and the last port of instances.
func (t Target) Between() (ports [2]int, err error) {
	text := cmp.Or(t.Ports, defaultPorts)
	first, last, _ := strings.Cut(text, "-")
	for i, number := range []string{first, last} {
		if ports[i], err = strconv.Atoi(strings.TrimSpace(number)); err != nil {
			break
		}
	}
	if err != nil || ports[0] < 1024 || ports[1] > 65535 || ports[0] > ports[1] {
		return ports, fmt.Errorf("ports: %q are no ports from 1024 to 65535; write them like %s", text, defaultPorts)
	}
	return ports, nil
}

// StoreSize is how many bytes of unpacked artifacts that nobody uses stay on disk.
func (s Settings) StoreSize() (int64, error) {
	bytes, err := declare.ReadMeasure(cmp.Or(s.Store, defaultStore), guard.Bytes)
	if err != nil {
		return 0, fmt.Errorf("store: %q is no amount; write it like %s", s.Store, defaultStore)
	}
	return int64(bytes), nil
}

func (t Target) check() error {
	switch t.Kind {
	case "", StandIn:
		if t.Listen != "" || t.Ports != "" {
			return errors.New("a stand-in listens nowhere; write kind: local for processes on this machine")
		}
		return nil
	case Local:
	default:
		return fmt.Errorf("there is no kind of target %q; write kind: local or kind: stand-in", t.Kind)
	}
	if t.Listen != "" {
		if _, _, err := net.SplitHostPort(t.Listen); err != nil {
			return fmt.Errorf("listen: %q is no address; write it like 127.0.0.1:8080", t.Listen)
		}
	}
	_, err := t.Between()
	return err
}

// Drift says what becomes of changes made by hand.
type Drift struct {
	Look   string        `yaml:"look,omitempty"`   // cron expression: when to look for it; empty for at every beat
	Then   string        `yaml:"then,omitempty"`   // tell or correct; empty for tell
	Notice time.Duration `yaml:"notice,omitempty"` // how long a correction is announced before it is made
}

// What becomes of drift.
const (
	TellDrift    = "tell"
	CorrectDrift = "correct"
)

// ReadSettings reads a settings file and checks it.
func ReadSettings(name string, text []byte) (Settings, error) {
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
	if err := s.checkSites(); err != nil {
		return err
	}
	if _, err := s.StoreSize(); err != nil {
		return err
	}
	for _, f := range s.Follow {
		link := slices.IndexFunc(s.Links, func(l source.Link) bool { return l.Name == f.Link })
		switch {
		case !slices.ContainsFunc(s.Sites, func(site Site) bool { return site.Name == f.Site }):
			return fmt.Errorf("follow: there is no site %q", f.Site)
		case link < 0:
			return fmt.Errorf("follow: there is no link %q", f.Link)
		case s.Links[link].Bundle() || f.Branch == "":
			return fmt.Errorf("follow: %s needs a branch of a Git repository to follow", f.Site)
		case f.Until.IsZero():
			return fmt.Errorf("follow: %s follows %s without an end; write until: with a date", f.Site, f.Branch)
		}
	}
	return nil
}

func (s Settings) checkSites() error {
	var before []string
	listens := map[string]string{}
	for _, site := range s.Sites {
		if err := site.Target.check(); err != nil {
			return fmt.Errorf("sites: %s: target: %w", site.Name, err)
		}
		if at := site.Target.Listen; at != "" {
			if other := listens[at]; other != "" {
				return fmt.Errorf("sites: %s and %s cannot both listen on %s: give each an address of its own", other, site.Name, at)
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
