package engine

import (
	"context"
	"errors"
	"fmt"
	"os"
	"reflect"
	"slices"
	"time"

	"aditus/internal/config"
	"aditus/internal/source"
)

// reloadEvery is how often the settings' file is looked at, in real time.
const reloadEvery = 500 * time.Millisecond

// FollowSettings takes changes of a settings file over while the engine runs, until ctx ends. One that is not right is
// told, and changes nothing.
func (e *Engine) FollowSettings(ctx context.Context, file string) {
	ticker := time.NewTicker(reloadEvery)
	defer ticker.Stop()
	last, _ := os.Stat(file)
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
		now, err := os.Stat(file)
		if err != nil || last != nil && now.ModTime().Equal(last.ModTime()) && now.Size() == last.Size() {
			continue // a file that is gone for a moment is being replaced
		}
		last = now
		text, err := os.ReadFile(file)
		if err == nil {
			var s config.Settings
			if s, err = config.Read(file, text); err == nil {
				err = e.Apply(s)
			}
		}
		if err != nil {
			err = fmt.Errorf("%w; the settings read before stay in force", err)
		}
		e.report("settings", err)
		e.signal()
	}
}

// ErrNewStart means that a change of the settings takes a new start of the engine.
var ErrNewStart = errors.New("start Aditus again to open it")

// Apply takes other settings over: links come, go and change, and intervals hold at once. A site that has no target
// yet needs a new start.
func (e *Engine) Apply(s config.Settings) error {
	e.mu.Lock()
	for _, site := range s.Sites {
		if e.drivers[site.Name] == nil {
			e.mu.Unlock()
			return fmt.Errorf("the site %s is new: %w", site.Name, ErrNewStart)
		}
		if !reflect.DeepEqual(site.Target, e.siteOf(site.Name).Target) {
			e.mu.Unlock()
			return fmt.Errorf("the site %s has another target: %w", site.Name, ErrNewStart)
		}
	}
	if !reflect.DeepEqual(e.settings.Instances, s.Instances) {
		e.mu.Unlock()
		return fmt.Errorf("instances run as others: %w", ErrNewStart)
	}
	if !reflect.DeepEqual(e.settings.Registries, s.Registries) {
		e.registries = source.NewRegistries(s.Registries, e.access.registry)
		e.pin()
	}
	s.Faces, s.Calm = e.settings.Faces, e.settings.Calm
	e.settings = s
	wanted := wantedLinks(s)
	var kept, gone []*link
	for _, l := range e.links {
		i := slices.IndexFunc(wanted, func(w wantedLink) bool { return w.is(l) })
		if i < 0 {
			gone = append(gone, l)
			continue
		}
		if every := int64(wanted[i].source.Every); l.every.Swap(every) != every {
			l.shown.Every = wanted[i].source.Every
			wake(l.wake)
		}
		kept = append(kept, l)
		wanted = slices.Delete(wanted, i, i+1)
	}
	e.links = kept
	e.mu.Unlock()
	for _, l := range gone {
		if l.stop != nil {
			l.stop()
		}
	}
	for _, w := range wanted {
		l, err := newLink(e, w.source, w.follow)
		if err != nil {
			return err
		}
		e.mu.Lock()
		e.links = append(e.links, l)
		runs := e.group != nil
		e.mu.Unlock()
		e.clock.Join()
		if runs {
			e.watch(l)
		}
	}
	e.mergeDeclared()
	e.meet()
	return nil
}

type wantedLink struct {
	source config.Link
	follow *config.Follow
}

// wantedLinks are all that settings ask to watch.
func wantedLinks(s config.Settings) []wantedLink {
	var wanted []wantedLink
	for _, l := range s.Links {
		wanted = append(wanted, wantedLink{source: l})
	}
	for _, f := range s.Follow {
		for _, l := range s.Links {
			if l.Name == f.Link {
				wanted = append(wanted, wantedLink{l, &f})
			}
		}
	}
	return wanted
}

// is tells whether a link is the one wanted, whatever its interval.
func (w wantedLink) is(l *link) bool {
	a, b := w.source, l.source
	if (w.follow == nil) != (l.follow == nil) || w.follow != nil && *w.follow != *l.follow {
		return false
	}
	if w.follow != nil {
		a.Name, a.Branch, a.Tag, a.Commit = b.Name, b.Branch, b.Tag, b.Commit
	}
	a.Every, b.Every = 0, 0
	if len(a.Variables) == 0 && len(b.Variables) == 0 {
		a.Variables, b.Variables = nil, nil
	}
	return reflect.DeepEqual(a, b)
}

// wake tells whoever waits on a channel; one word is enough.
func wake(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}
