package sim

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"aditus/internal/config"
	"aditus/internal/target"
)

// Folder is where the sites of a data folder keep what they are, BehaviourFile how they behave.
const (
	Folder        = "sites"
	BehaviourFile = "behaviour.yaml"
)

// Kind is the stand-in: a model of a site, for trying things.
var Kind = target.Kind{
	Name: "stand-in", Means: "a model that runs nothing",
	Check: func(t config.Target) error {
		if t.Listen != "" || t.Ports != "" {
			return errors.New("a stand-in listens nowhere; write kind: local for processes on this machine")
		}
		return nil
	},
	New: func(_ string, _ []config.Site, rest string) (config.Target, error) {
		if rest != "" {
			return config.Target{}, fmt.Errorf("a stand-in listens nowhere, not at %q", rest)
		}
		return config.Target{Kind: "stand-in"}, nil
	},
	Describe: func(config.Target) string { return "a stand-in that runs nothing; see --target" },
	Open:     openAll,
	Can:      modelled(),
}

// modelled is all that a model can stand in for.
func modelled() map[string]string {
	can := map[string]string{}
	for _, f := range target.Features {
		if f.Name != target.CanObjects && f.Name != target.CanTakeOver && f.Name != target.CanGoOn {
			can[f.Name] = "a model of it"
		}
	}
	return can
}

func openAll(g target.Ground, sites []config.Site) (o target.Opened, err error) {
	at := filepath.Join(g.Folder, Folder)
	if err := os.MkdirAll(at, 0o700); err != nil {
		return o, fmt.Errorf("make the stand-in sites: %w", err)
	}
	behaviour, err := behaviourIn(at)
	if err != nil {
		return o, err
	}
	o.Drivers = map[string]target.Driver{}
	var opened []*Site
	o.Close = func() {
		for _, site := range opened {
			site.Close()
		}
	}
	for _, site := range sites {
		one, err := Open(site.Name, at, behaviour, time.Now)
		if err != nil {
			return o, err
		}
		o.Drivers[site.Name], opened = one, append(opened, one)
	}
	return o, nil
}

// behaviourIn reads how the sites of a folder behave; plainly where nobody said.
func behaviourIn(folder string) (Behaviour, error) {
	name := filepath.Join(folder, BehaviourFile)
	text, err := os.ReadFile(name)
	switch {
	case errors.Is(err, os.ErrNotExist):
		return Plain(), nil
	case err != nil:
		return Behaviour{}, fmt.Errorf("read the behaviour of the stand-in sites: %w", err)
	}
	return ReadBehaviour(name, text)
}
