package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	v1 "github.com/google/go-containerregistry/pkg/v1"

	"aditus/internal/engine"
	"aditus/internal/source"
	"aditus/internal/target"
	"aditus/internal/target/local"
	"aditus/internal/target/local/store"
	"aditus/internal/target/sim"
)

// storeFolder is where unpacked artifacts are within a data folder.
const storeFolder = "store"

// sites are the opened sites of a data folder.
type sites struct {
	drivers  map[string]target.Driver
	standIns []*sim.Site
	locals   []string
}

// openSites opens what the settings say sites run on, perhaps only to look at them.
func openSites(folder string, settings engine.Settings, outside engine.Outside, look bool) (s sites, err error) {
	s.drivers = map[string]target.Driver{}
	at := filepath.Join(folder, sitesFolder)
	if err := os.MkdirAll(at, 0o700); err != nil {
		return s, fmt.Errorf("make the stand-in sites: %w", err)
	}
	behaviour, err := readBehaviour(at)
	if err != nil {
		return s, err
	}
	var artifacts *store.Store
	var keeper *local.Client
	for _, site := range settings.Sites {
		if site.Target.Kind != engine.Local {
			opened, err := sim.Open(site.Name, at, behaviour, time.Now)
			if err != nil {
				return s, err
			}
			s.standIns = append(s.standIns, opened)
			s.drivers[site.Name] = opened
			continue
		}
		if artifacts == nil {
			if artifacts, err = openStore(folder, settings, outside); err != nil {
				return s, err
			}
			if look {
				keeper = local.NewClient(folder)
			} else if keeper, err = keeperOf(folder); err != nil {
				return s, err
			}
		}
		if s.drivers[site.Name], err = openLocal(folder, site, artifacts, keeper, outside, look); err != nil {
			return s, err
		}
		s.locals = append(s.locals, site.Name)
	}
	return s, nil
}

// openLocal opens a site of processes on this machine.
func openLocal(folder string, site engine.Site, artifacts *store.Store, keeper *local.Client, outside engine.Outside, look bool) (*local.Site, error) {
	ports, err := site.Target.Between()
	if err != nil {
		return nil, err
	}
	o := local.Options{Name: site.Name, Folder: folder, Listen: site.Target.Listen, Ports: ports, Store: artifacts, Keeper: keeper, Look: look}
	if outside.Opener != nil {
		o.Open = outside.Opener.Open
	}
	return local.Open(o)
}

// openStore opens the store of artifacts, which are fetched with the credentials that the links have.
func openStore(folder string, settings engine.Settings, outside engine.Outside) (*store.Store, error) {
	most, err := settings.StoreSize()
	if err != nil {
		return nil, err
	}
	registries := source.NewRegistries(settings.Registries, func(host string) source.Credential {
		if outside.Credentials == nil {
			return source.Credential{}
		}
		return outside.Credentials(host)
	})
	return store.Open(filepath.Join(folder, storeFolder), most, func(ctx context.Context, reference string) (v1.Image, error) {
		image, err := registries.Fetch(ctx, reference)
		if errors.Is(err, source.ErrNoArtifact) {
			err = fmt.Errorf("%w: %v", store.ErrNone, err)
		}
		return image, err
	})
}

// keeperOf gives the keeper of a data folder, which this program is too when it is called as one.
func keeperOf(folder string) (*local.Client, error) {
	own, err := os.Executable()
	if err != nil {
		return nil, fmt.Errorf("find this program, to run it as a keeper: %w", err)
	}
	return local.NewClient(folder, own, "keep", "--data", folder), nil
}

// note tells on the screens whose engine this program runs what that is, and what becomes of things when it is left.
func (s sites) note() string {
	switch {
	case len(s.locals) == 0:
		return "its own engine, stand-in sites"
	case len(s.standIns) == 0:
		return "its own engine; what runs goes on when you leave"
	}
	return "its own engine; local sites go on when you leave"
}

// Close ends the stand-ins. What runs at local sites runs on.
func (s sites) Close() {
	for _, site := range s.standIns {
		site.Close()
	}
}
