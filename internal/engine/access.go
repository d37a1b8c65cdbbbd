package engine

import (
	"path/filepath"
	"sync"

	"aditus/internal/source"
)

// Access is what an engine needs to read what is not its own. The zero Access has no key and no credentials.
type Access struct {
	Opener      *source.Opener                      // opens secrets
	Credentials func(name string) source.Credential // of a link, or of a registry's host
	Cache       string                              // folder for copies of repositories
	Set         map[string]string                   // variables from the command line
}

// OpenAccess gives what a data folder holds: its key, made where there is none, the credentials, and room for copies.
// Credentials are read whenever they are needed, so that a new one counts at once.
func OpenAccess(folder string, set map[string]string) (Access, error) {
	key, err := source.OpenKey(folder)
	if err != nil {
		return Access{}, err
	}
	if _, err := key.Credentials(folder); err != nil {
		return Access{}, err
	}
	var mu sync.Mutex
	last := map[string]source.Credential{}
	return Access{
		Opener: key, Cache: filepath.Join(folder, "links"), Set: set,
		Credentials: func(name string) source.Credential {
			mu.Lock()
			defer mu.Unlock()
			if now, err := key.Credentials(folder); err == nil {
				last = now
			}
			return last[name]
		},
	}, nil
}

func (o Access) access(link string) source.Access {
	var a source.Access
	if o.Credentials != nil {
		a.Credential = o.Credentials(link)
	}
	if o.Cache != "" {
		a.Cache = filepath.Join(o.Cache, link)
	}
	return a
}

func (o Access) registry(host string) source.Credential { return o.access(host).Credential }
