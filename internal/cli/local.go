package cli

import (
	"context"
	"crypto/subtle"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"go.yaml.in/yaml/v4"
	"golang.org/x/net/netutil"

	"aditus/internal/backup"
	"aditus/internal/clock"
	"aditus/internal/config"
	"aditus/internal/confine"
	"aditus/internal/control"
	"aditus/internal/control/api"
	"aditus/internal/core/fault"
	"aditus/internal/disk"
	"aditus/internal/engine"
	"aditus/internal/ledger"
	"aditus/internal/source"
	"aditus/internal/status"
	"aditus/internal/target"
	"aditus/internal/target/local"
)

// localEngine is an engine on a data folder with settings of its own.
type localEngine struct {
	control.Live
	settings config.Settings
	leads    context.Context // ends as soon as another server may lead the ledger
	aside    []string        // files of the folder that others took the place of
	sites    sites
	release  func()
	untend   func() // ends the shipping of the ledger
}

// localOptions say how a data folder is opened.
type localOptions struct {
	set      map[string]string // values of variables
	calm     bool              // nothing begins by itself
	readOnly bool              // sites are only looked at: nothing is started there

	faces  string        // where this program answers over TCP
	server ledger.Server // as others that share the ledger know it; the machine's name where there is none
	// waits is called where another server may lead the ledger, and is told who does, until it leads itself or ctx ends; nil for not
	// waiting.
	waits func(ctx context.Context, book *ledger.Ledger) (told func(ledger.Lead) error)
}

// openLocal opens a data folder for the one program that works on it.
func openLocal(ctx context.Context, folder string, o localOptions) (*localEngine, error) {
	confine.Hide()
	settings, err := readSettings(folder)
	if err != nil {
		return nil, err
	}
	s := &localEngine{settings: settings}
	if s.release, err = ledger.LockFolder(folder); err != nil {
		return nil, err
	}
	if err := s.open(ctx, folder, o); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// firstSettings are those of a line that has none.
var firstSettings = config.Settings{Line: "Your line", Beat: time.Second}

// lastGood are the settings with which a data folder was opened last: with those that were changed since and cannot be opened nobody is left alone.
type lastGood struct {
	text []byte
	anew bool // they were changed by this program, which begins anew
}

// keep keeps the settings that were just opened.
func (g *lastGood) keep(folder string) {
	g.text, _ = os.ReadFile(filepath.Join(folder, config.FileName))
	g.anew = false
}

// refusedName is the file beside the settings that has those that could not be opened.
const refusedName = config.FileName + ".refused"

// restore puts back the settings from before a change with which the folder cannot be opened, and tells whether there are any. Those of the change are kept beside them.
func (g *lastGood) restore(folder string) bool {
	if !g.anew || len(g.text) == 0 {
		return false
	}
	g.anew = false
	name := filepath.Join(folder, config.FileName)
	return os.Rename(name, filepath.Join(folder, refusedName)) == nil && disk.Keep(disk.Machine, name, g.text, 0o600) == nil
}

// beginSettings makes a data folder where there is none, with settings that connect nothing yet: they come on the screens, or by the API.
func beginSettings(folder string) error {
	if _, err := os.Stat(filepath.Join(folder, config.FileName)); !errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return fmt.Errorf("make the data folder: %w", err)
	}
	_, err := config.Edit(folder, firstSettings, func(*yaml.Node) error { return nil })
	return err
}

func readSettings(folder string) (config.Settings, error) {
	name := filepath.Join(folder, config.FileName)
	text, err := os.ReadFile(name)
	if errors.Is(err, os.ErrNotExist) {
		return config.Settings{}, fmt.Errorf("there are no settings in %s: connect a repository with: aditus link add, or try: aditus demo", folder)
	}
	if err != nil {
		return config.Settings{}, fmt.Errorf("read the settings: %w", err)
	}
	s, err := config.Read(name, text)
	if err == nil {
		if err = target.Check(kinds, s); err != nil {
			err = fmt.Errorf("read the settings %s: %w", name, err)
		}
	}
	return s, err
}

func (s *localEngine) open(ctx context.Context, folder string, o localOptions) (err error) {
	s.Folder = folder
	s.Kinds = kinds
	opened := s.settings
	s.Check = func(c config.Settings) error {
		return errors.Join(target.Check(kinds, c), target.Ready(kinds, opened, c))
	}
	if s.Ledger, err = ledger.OpenAt(s.settings.Ledger, folder); err != nil {
		return err
	}
	access, err := engine.OpenAccess(folder, o.set)
	if err != nil {
		return err
	}
	if o.server.Name == "" {
		o.server.Name = machineName()
	}
	o.server.Key = access.Opener.Recipient()
	if err := s.lead(ctx, o); err != nil {
		return err
	}
	if !o.readOnly {
		s.firstUsers()
	}
	s.settings.Faces, s.settings.Calm = o.faces, o.calm
	latest, err := s.Ledger.Latest()
	if err != nil {
		return err
	}
	now := clock.NewWall(latest)
	if s.sites, err = openSites(folder, s.settings, access, now.As, o); err != nil {
		return err
	}
	if s.settings.Ship.To != "" && !o.readOnly {
		if err := s.Ledger.BeginShipping(); err != nil {
			return err
		}
	}
	if s.Engine, err = engine.New(s.settings, s.Ledger, s.sites.drivers, now, access); err != nil {
		return err
	}
	if !o.readOnly {
		s.tend(now)
	}
	return nil
}

// lead waits until this program leads the ledger, and has what its servers have alike then.
func (s *localEngine) lead(ctx context.Context, o localOptions) (err error) {
	told := func(l ledger.Lead) error {
		if l.Trouble != nil {
			return l.Trouble
		}
		return fmt.Errorf("%s leads the ledger %s: ask that server, with --server; or have this machine stand by, with aditus serve", l.Name, s.Ledger.Place())
	}
	over := func() {}
	if o.waits != nil {
		var waiting context.Context
		waiting, over = context.WithCancel(ctx)
		told = o.waits(waiting, s.Ledger)
	}
	s.leads, err = s.Ledger.Lead(ctx, o.server, told)
	over()
	if err != nil || s.settings.Ledger == "" {
		return err
	}
	s.Leader = &status.Leader{Name: o.server.Name, Address: o.server.Address, Since: time.Now(), Here: true}
	if s.aside, err = backup.Share(ctx, s.Folder, s.Ledger, true, time.Now()); err != nil {
		return err
	}
	s.settings, err = readSettings(s.Folder)
	return err
}

// firstUsers has the settings of a data folder whose first local sites are opened say as whom their instances run, where they say nothing. Where
// they cannot be written, all run as this user, as it would not be known the next time.
func (s *localEngine) firstUsers() {
	if s.settings.Instances.Users != "" || !slices.ContainsFunc(s.settings.Sites, func(one config.Site) bool { return one.Target.Kind == local.Kind.Name }) {
		return
	}
	if i, ok := local.FirstInstances(s.Folder); ok {
		if with, err := config.SetInstances(s.Folder, i); err == nil {
			s.settings = with
		}
	}
}

// machineName is the name of this machine, as others know it.
func machineName() string {
	name, err := os.Hostname()
	if err != nil || name == "" {
		return "this machine"
	}
	return name
}

// shareEvery is how often it is looked whether what servers have alike was changed.
const shareEvery = time.Second

// tend has the ledger pruned, a second copy of it kept where there should be one, and what others that share it are to have put on
// record, until the folder is let go.
func (s *localEngine) tend(now clock.Clock) {
	ctx, cancel := context.WithCancel(context.Background())
	var group sync.WaitGroup
	group.Go(func() {
		s.Ledger.Tend(ctx, now.Now, kept(s.settings.Keep), func(err error) { s.Report("pruning", err) })
	})
	if s.settings.Ship.To != "" {
		group.Go(func() {
			s.Ledger.Ship(ctx, ledger.Shipping{To: s.settings.Ship.To, Every: s.settings.Ship.Interval()}, func(err error) { s.Report("shipping", err) })
		})
	}
	if s.Leader != nil {
		group.Go(func() {
			for ctx.Err() == nil {
				_, err := backup.Share(ctx, s.Folder, s.Ledger, true, time.Now())
				s.Report("shared files", err)
				select {
				case <-ctx.Done():
				case <-time.After(shareEvery):
				}
			}
		})
	}
	s.untend = func() {
		cancel()
		group.Wait()
	}
}

// kept is for how long the ledger keeps what, where nothing else is said too.
func kept(k config.Keep) ledger.Keep {
	return ledger.Keep{Points: k.Points.Or(14), Minutes: k.Minutes.Or(90), Traffic: k.Traffic.Or(90), Rollouts: k.Rollouts.Or(400), Facts: k.Facts.Or(config.ForEver)}
}

// Close lets go of the folder.
func (s *localEngine) Close() {
	s.sites.Close()
	if s.untend != nil {
		s.untend()
	}
	if s.Ledger != nil {
		s.Ledger.Close()
	}
	s.release()
}

// serveHooks takes webhooks and alerts at the address that the settings name.
func serveHooks(ctx context.Context, live control.Live) error {
	settings, err := readSettings(live.Folder)
	if err != nil || settings.Listen == "" {
		return err
	}
	key, err := source.OpenKey(live.Folder)
	if err != nil {
		return err
	}
	hooks := &api.Hooks{Pusher: live.Engine, Secret: func(link string) string {
		kept, err := key.Credentials(live.Folder)
		if err != nil {
			return ""
		}
		return kept[hookName(link)].Password
	}}
	var seen map[string]time.Time
	if _, err := live.Ledger.Picture(hooksPicture, &seen); err != nil && !errors.Is(err, fault.ErrNotFound) {
		return err
	}
	hooks.Recall(seen)
	hooks.Keep = func(seen map[string]time.Time) {
		live.Report("webhooks", live.Ledger.KeepPicture(ctx, hooksPicture, time.Now(), seen))
	}
	var listening net.ListenConfig
	listener, err := listening.Listen(ctx, "tcp", settings.Listen)
	if err != nil {
		return fmt.Errorf("webhooks cannot come in: %w; choose another address under listen in the settings, and start again", err)
	}
	alerts := &api.Alerts{Alerted: live.Engine, Secret: func(source string) string {
		settings, err := readSettings(live.Folder)
		from, known := settings.AlertsOf(source)
		if err != nil || !known {
			return ""
		}
		return live.Credentials(from.Credential).Password
	}}
	mux := http.NewServeMux()
	mux.Handle("/alerts/", alerts)
	mux.Handle("/", hooks)
	return serveUntil(ctx, listener, mux)
}

// serveOTLP takes what instances push at the address that the settings name.
func serveOTLP(ctx context.Context, live control.Live) error {
	settings, err := readSettings(live.Folder)
	if err != nil || settings.OTLP == nil {
		return err
	}
	var listening net.ListenConfig
	listener, err := listening.Listen(ctx, "tcp", settings.OTLP.Listen)
	if err != nil {
		return fmt.Errorf("nothing can be pushed: %w; choose another address under otlp in the settings, and start again", err)
	}
	lets := func(r *http.Request) bool {
		named := settings.OTLP.Credential
		if named == "" {
			return true
		}
		token := live.Credentials(named).Password
		given, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
		return ok && token != "" && subtle.ConstantTimeCompare([]byte(given), []byte(token)) == 1
	}
	return serveUntil(ctx, listener, live.Engine.PushedMetrics().Handler(lets, time.Now))
}

// serveUntil answers strangers at a listener until ctx ends.
func serveUntil(ctx context.Context, listener net.Listener, handler http.Handler) error {
	server := &http.Server{Handler: handler, ReadHeaderTimeout: 5 * time.Second, ReadTimeout: 10 * time.Second, WriteTimeout: 20 * time.Second, IdleTimeout: time.Minute, MaxHeaderBytes: 64 << 10}
	context.AfterFunc(ctx, func() { server.Close() })
	if err := server.Serve(netutil.LimitListener(listener, mostHooks)); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

// hooksPicture is under which it is kept which webhooks were seen.
const hooksPicture = "webhooks"

// mostHooks is how many may send a webhook at once.
const mostHooks = 200

// hookName is where the secret of a link's webhooks is kept among the credentials.
func hookName(link string) string { return control.HookName(link) }
