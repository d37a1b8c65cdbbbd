package target

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"time"

	v1 "github.com/google/go-containerregistry/pkg/v1"
	"go.yaml.in/yaml/v4"

	"aditus/internal/config"
	"aditus/internal/core/declare"
)

// Kind is a kind of target, as its driver describes itself. One list has all of them, and nothing else enumerates them.
type Kind struct {
	Name     string
	Means    string                                                                               // what a site of it runs on, in a few words
	Here     func(config.Target) bool                                                             // whether what a site runs on is the machine itself; nil where it never is
	Stays    bool                                                                                 // what runs there goes on when the program that looks after it ends
	Check    func(config.Target) error                                                            // what is wrong with how it is written
	New      func(site string, before []config.Site, rest string) (config.Target, error)          // the target of a new site, beside those before it, from KIND=rest on the command line
	Describe func(config.Target) string                                                           // tells it to whoever adds a site
	Try      func(context.Context, config.Target) (told []string, err error)                      // asks what a site stands on, changing nothing; nil where there is nothing to ask
	Ready    func(config.Target) error                                                            // why a site of it cannot be opened on this machine, without asking anybody; nil where nothing keeps it from that
	Runs     func(context.Context, Ground, config.Target, declare.Part) (doubt string, err error) // tries whether a part can be run there; nil where there is nothing to try
	Objects  func(config.Site, declare.Desired) ([]map[string]any, error)                         // what a revision would be there, as objects of its API; nil where there are none
	Open     func(Ground, []config.Site) (Opened, error)                                          // opens all sites of the kind at once
	Can      map[string]string                                                                    // how a site of it does a feature, by the feature's name; what is left out it cannot
}

// OnMachine tells whether what a site runs on is the machine itself.
func (k Kind) OnMachine(t config.Target) bool { return k.Here != nil && k.Here(t) }

// Ground is what sites stand on.
type Ground struct {
	Folder   string // the data folder
	Settings config.Settings
	Secret   func(sealed string) (string, error) // opens a secret's value; nil where there are none
	Mark     func(plain string) string           // the fingerprint of a secret's value, as it stands in declarations; nil where there are none
	Artifact func(ctx context.Context, reference string) (v1.Image, error)
	As       func(noted time.Time) time.Time // what a moment is by the clock that all works by that the machine's noted; nil where it is the same
	ReadOnly bool                            // sites are only looked at: nothing is started there
}

// ErrNoArtifact means that there is no artifact under a reference, and that asking again will not bring one.
var ErrNoArtifact = errors.New("there is no such artifact")

// Opened are the opened sites of a kind.
type Opened struct {
	Drivers map[string]Driver
	Close   func() // nil where nothing is to be closed
}

// Find gives a kind by its name, and refuses a name that is missing or not known.
func Find(kinds []Kind, name string) (Kind, error) {
	var known []string
	for _, k := range kinds {
		if k.Name == name {
			return k, nil
		}
		known = append(known, fmt.Sprintf("kind: %s (%s)", k.Name, k.Means))
	}
	choose := strings.Join(known, " or ")
	if name == "" {
		return Kind{}, fmt.Errorf("what it runs on is missing; write target: with %s", choose)
	}
	return Kind{}, fmt.Errorf("there is no kind of target %q; write %s", name, choose)
}

// Read reads what a site is to run on as a person writes it: KIND or KIND=WHERE, as on the command line, or its fields as they stand in the settings.
func Read(kinds []Kind, site string, before []config.Site, text string) (t config.Target, err error) {
	if name, rest, _ := strings.Cut(strings.TrimSpace(text), "="); !strings.ContainsAny(name, ":{") {
		kind, err := Find(kinds, name)
		if err != nil {
			return t, err
		}
		return kind.New(site, before, rest)
	}
	if text = strings.TrimSpace(text); !strings.HasPrefix(text, "{") {
		text = "{" + text + "}"
	}
	decoder := yaml.NewDecoder(strings.NewReader(text))
	decoder.KnownFields(true)
	if err := decoder.Decode(&t); err != nil {
		return t, fmt.Errorf("%s cannot be read: %w; write it like %s, or as fields: kind: local, listen: 127.0.0.1:8080", text, err, kinds[0].Name)
	}
	kind, err := Find(kinds, t.Kind)
	if err != nil || kind.Check == nil {
		return t, err
	}
	return t, kind.Check(t)
}

// Ready tells why a site that is new among settings, or changed, cannot be opened on this machine: an engine that begins anew with it would not.
func Ready(kinds []Kind, before, after config.Settings) error {
	for _, site := range after.Sites {
		same := func(o config.Site) bool { return o.Name == site.Name && reflect.DeepEqual(o.Target, site.Target) }
		kind, err := Find(kinds, site.Target.Kind)
		if err != nil || kind.Ready == nil || slices.ContainsFunc(before.Sites, same) {
			continue
		}
		if err := kind.Ready(site.Target); err != nil {
			return fmt.Errorf("sites: %s: target: %w", site.Name, err)
		}
	}
	return nil
}

// Check tells what is wrong with how the sites' targets are written.
func Check(kinds []Kind, s config.Settings) error {
	for _, site := range s.Sites {
		kind, err := Find(kinds, site.Target.Kind)
		if err == nil {
			err = kind.Check(site.Target)
		}
		switch machine := site.Target.Machine; {
		case err != nil:
		case machine != "" && !kind.OnMachine(site.Target):
			err = errors.New("machine: this site is not on a machine of Aditus, and belongs to none")
		case machine == "" && kind.OnMachine(site.Target) && s.Ledger != "":
			err = errors.New("several servers may share this ledger: write machine: with the name of the one that this site is on, which aditus serve tells when it starts")
		}
		if err != nil {
			return fmt.Errorf("sites: %s: target: %w", site.Name, err)
		}
	}
	return nil
}
