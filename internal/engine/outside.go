package engine

import (
	"path/filepath"
	"sync"

	"aditus/internal/source"
)

// Outside is what an engine needs to read what is not its own. The zero Outside has no key and no credentials.
type Outside struct {
	Opener      *source.Opener                      // opens secrets
	Credentials func(name string) source.Credential // of a link, or of a registry's host
	Cache       string                              // folder for copies of repositories
	Set         map[string]string                   // variables from the command line
}

// OpenOutside gives what a data folder holds: its key, made where there is none, the credentials, and room for copies.
// Credentials are read whenever they are needed, so that a new one counts at once.
func OpenOutside(folder string, set map[string]string) (Outside, error) {
	key, err := source.OpenKey(folder)
	if err != nil {
		return Outside{}, err
	}
	if _, err := key.Credentials(folder); err != nil {
		return Outside{}, err
	}
	var mu sync.Mutex
	last := map[string]source.Credential{}
	return Outside{
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

func (o Outside) access(link string) source.Access {
	var a source.Access
	if o.Credentials != nil {
		a.Credential = o.Credentials(link)
	}
	if o.Cache != "" {
		a.Cache = filepath.Join(o.Cache, link)
	}
	return a
}

func (o Outside) registry(host string) source.Credential { return o.access(host).Credential }
