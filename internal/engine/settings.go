package engine

import (
	"bytes"
	_ "embed"
	"errors"
	"fmt"
	"slices"
	"time"

	"go.yaml.in/yaml/v4"

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
	Line  string        `yaml:"line"`  // whose workloads these are
	Beat  time.Duration `yaml:"beat"`  // how often each berth is looked at
	Links []source.Link `yaml:"links"` // one for now
	Sites []Site        `yaml:"sites"` // in course order
}

// Site is a place where workloads run, with the way it takes revisions.
type Site struct {
	Name      string `yaml:"name"`
	Automatic bool   `yaml:"automatic"`       // takes revisions by itself
	After     string `yaml:"after,omitempty"` // the site that must have proven a revision first; empty for none
}

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
	if len(s.Links) != 1 {
		return fmt.Errorf("links: there are %d; this Aditus takes exactly one", len(s.Links))
	}
	for _, l := range s.Links {
		switch {
		case l.Name == "" || l.Repository == "" || l.Branch == "":
			return errors.New("links: each needs a name, a repository and a branch")
		case l.Every < time.Second:
			return fmt.Errorf("links: %s is polled every %s; 1s is the least", l.Name, l.Every)
		}
	}
	var before []string
	for _, site := range s.Sites {
		switch {
		case site.Name == "":
			return errors.New("sites: each needs a name")
		case slices.Contains(before, site.Name):
			return fmt.Errorf("sites: %s stands there twice", site.Name)
		case site.After != "" && !slices.Contains(before, site.After):
			return fmt.Errorf("sites: %s comes after %q, which does not stand before it", site.Name, site.After)
		}
		before = append(before, site.Name)
	}
	if len(before) == 0 {
		return errors.New("sites: there is none")
	}
	return nil
}

// Text writes the settings as their file.
func (s Settings) Text() ([]byte, error) { return yaml.Marshal(s) }
