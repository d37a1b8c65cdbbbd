// Package config is a machine's settings: where things are, and how they are reached. It reads them, checks them, and
// edits their file so that what people wrote beside them stays.
package config

import (
	"bytes"
	"cmp"
	_ "embed"
	"errors"
	"fmt"
	"net"
	"slices"
	"time"

	"github.com/robfig/cron/v3"
	"go.yaml.in/yaml/v4"

	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
)

// Schema is the JSON Schema (2020-12) of the settings.
//
//go:embed settings.schema.json
var Schema []byte

// FileName is the name of the settings within a data folder.
const FileName = "settings.yaml"

// Settings say what an engine looks after. docs/settings.md describes their file.
type Settings struct {
	Line       string              `yaml:"line"`                 // whose workloads these are
	Beat       time.Duration       `yaml:"beat"`                 // how often each berth is looked at
	Listen     string              `yaml:"listen,omitempty"`     // the address that webhooks come to; empty for none
	Registries map[string]Registry `yaml:"registries,omitempty"` // how registries are asked, by host; "*" for all others
	Links      []Link              `yaml:"links"`
	Follow     []Follow            `yaml:"follow,omitempty"`
	Store      string              `yaml:"store,omitempty"` // how much of unpacked artifacts that nobody uses stays on disk; 4 GB where it is empty
	Roles      map[string][]string `yaml:"roles,omitempty"` // who may sign off what asks for a role; "*" for anyone
	Sites      []Site              `yaml:"sites"`           // in course order
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

// Target is what a site runs on. Which kinds there are, and what is right for each, the drivers say.
type Target struct {
	Kind   string `yaml:"kind,omitempty"`
	Listen string `yaml:"listen,omitempty"` // where HTTP traffic comes in; empty for nowhere
	Ports  string `yaml:"ports,omitempty"`  // those that instances are given, FIRST-LAST
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
		link := slices.IndexFunc(s.Links, func(l Link) bool { return l.Name == f.Link })
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
