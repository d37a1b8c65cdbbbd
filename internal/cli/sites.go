package cli

import (
	"context"
	"errors"
	"fmt"
	"time"

	v1 "github.com/google/go-containerregistry/pkg/v1"

	"aditus/internal/config"
	"aditus/internal/engine"
	"aditus/internal/source"
	"aditus/internal/target"
	"aditus/internal/target/cluster"
	"aditus/internal/target/containers"
	"aditus/internal/target/local"
	"aditus/internal/target/sim"
)

// kinds are all kinds of target that there are.
var kinds = []target.Kind{local.Kind, containers.Kind, cluster.Kind, sim.Kind}

// sites are the opened sites of a data folder.
type sites struct {
	drivers map[string]target.Driver
	stay    int // how many of them have what runs there go on
	close   []func()
}

// settingsSchema is the schema of the settings with all kinds of targets.
func settingsSchema() []byte {
	var names []config.KindName
	for _, k := range kinds {
		names = append(names, config.KindName{Name: k.Name, Means: k.Means})
	}
	return config.Schema(names)
}

// openSites opens what the settings say sites run on, perhaps only to look at them.
func openSites(folder string, settings config.Settings, access engine.Access, as func(time.Time) time.Time, o localOptions) (s sites, err error) {
	registries := source.NewRegistries(settings.Registries, func(host string) source.Credential {
		if access.Credentials == nil {
			return source.Credential{}
		}
		return access.Credentials(host)
	})
	ground := target.Ground{Folder: folder, Settings: settings, As: as, ReadOnly: o.readOnly, Artifact: func(ctx context.Context, reference string) (v1.Image, error) {
		image, err := registries.Fetch(ctx, reference)
		if errors.Is(err, source.ErrNoArtifact) {
			err = fmt.Errorf("%w: %v", target.ErrNoArtifact, err)
		}
		return image, err
	}}
	if access.Opener != nil {
		ground.Secret, ground.Mark = access.Opener.Open, access.Opener.Mark
	}
	s.drivers = map[string]target.Driver{}
	for _, kind := range kinds {
		var of []config.Site
		for _, site := range settings.Sites {
			switch at := site.Target; {
			case at.Kind != kind.Name:
			case kind.OnMachine(at) && at.Machine != "" && at.Machine != o.server.Name:
				s.drivers[site.Name] = target.Elsewhere{Machine: at.Machine}
			default:
				of = append(of, site)
			}
		}
		if len(of) == 0 {
			continue
		}
		opened, err := kind.Open(ground, of)
		if opened.Close != nil {
			s.close = append(s.close, opened.Close)
		}
		if err != nil {
			s.Close()
			return s, err
		}
		for name, driver := range opened.Drivers {
			s.drivers[name] = driver
		}
		if kind.Stays {
			s.stay += len(of)
		}
	}
	return s, nil
}

// note tells on the screens whose engine this program runs what that is, and what becomes of things when it is left.
func (s sites) note() string {
	switch s.stay {
	case 0:
		return "its own engine, stand-in sites"
	case len(s.drivers):
		return "its own engine; what runs goes on when you leave"
	}
	return "its own engine; local sites go on when you leave"
}

// Close lets go of the sites. What goes on by itself does.
func (s sites) Close() {
	for _, shut := range s.close {
		shut()
	}
}
