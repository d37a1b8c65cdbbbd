package config

import (
	"errors"

	"aditus/internal/core/say"
)

// ErrNoLink says that there is no link of a name, and which one may be meant; those for sites and sinks do so likewise.
func (s Settings) ErrNoLink(name string) error {
	return none("link", name, s.Links, func(l Link) string { return l.Name })
}

// ErrNoSite is ErrNoLink for sites.
func (s Settings) ErrNoSite(name string) error {
	return none("site", name, s.Sites, func(s Site) string { return s.Name })
}

// ErrNoSink is ErrNoLink for sinks.
func (s Settings) ErrNoSink(name string) error {
	return none("sink", name, s.Sinks, func(s Sink) string { return s.Name })
}

func none[T any](what, name string, all []T, of func(T) string) error {
	var known []string
	for _, one := range all {
		known = append(known, of(one))
	}
	return errors.New(say.None(what, name, known))
}
