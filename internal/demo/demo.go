// Package demo is Skerry Line, an island ferry operator that does not exist: its repository, its sites and its story.
// Git, the ledger, probes and scrapes are real; only the sites are a stand-in.
package demo

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"aditus/internal/clock"
	"aditus/internal/config"
	"aditus/internal/core/berth"
	"aditus/internal/core/course"
	"aditus/internal/core/declare"
	"aditus/internal/core/rollout"
	"aditus/internal/disk"
	"aditus/internal/engine"
	"aditus/internal/ledger"
	"aditus/internal/source"
	"aditus/internal/target"
	"aditus/internal/target/local"
	"aditus/internal/target/sim"
)

// Line is the name of the operator.
const Line = "Skerry Line"

// FlatOut is the speed at which the story runs as fast as the machine allows.
const FlatOut = 0

const (
	mainLink    = "skerry-line"
	previewed   = "south" // the site that follows the preview branch
	pollEvery   = 10 * time.Second
	bundleEvery = time.Minute
	beat        = time.Second
	marker      = "demo.json" // tells a demo's folder from any other
)

// World is an opened demo.
type World struct {
	Folder     string
	Repository string
	Engine     *engine.Engine
	Ledger     *ledger.Ledger
	Resumed    bool // it goes on where an earlier run ended

	registry *http.Server
	bundle   string // where the registry has it this time
	harbour  string // where the metrics store is this time
	clock    clock.Clock
	sites    map[string]*sim.Site // the stand-ins
	dock     *local.Site          // drydock, where it is real
	keeper   *local.Client
	kept     kept
	release  func()
}

// kept is what the demo itself has to remember.
type kept struct {
	Start time.Time `json:"start"`
	Done  []string  `json:"done"` // acts of the story
	// Listen is where traffic comes in at drydock, where it is real.
	Listen string `json:"listen,omitempty"`
}

// Options say how to open a demo.
type Options struct {
	Speed    float64             // times real time, or FlatOut
	Anew     bool                // start the story over
	Start    time.Time           // the made-up moment at which a new story begins
	Recorded func([]ledger.Fact) // is told every fact once it is on record; may be nil
	Real     bool                // drydock runs real processes, which needs a Speed that they can follow
}

// Open makes a demo's world in a folder, or goes on with the one that is there.
func Open(folder string, o Options) (*World, error) {
	release, err := ledger.LockFolder(folder)
	if err != nil {
		return nil, err
	}
	w := &World{Folder: folder, Repository: filepath.Join(folder, repoFolder), sites: map[string]*sim.Site{}, release: release}
	if err := w.open(o); err != nil {
		w.Close()
		return nil, err
	}
	return w, nil
}

func (w *World) open(o Options) (err error) {
	if err := w.find(o.Anew); err != nil {
		return err
	}
	if w.Ledger, err = ledger.Open(w.Folder, o.Recorded); err != nil {
		return err
	}
	start := o.Start
	if w.Resumed {
		if start, err = w.Ledger.Latest(); err != nil {
			return err
		}
		if start.Before(w.kept.Start) { // it was killed before anything of the story was on record
			start = w.kept.Start
		}
	}
	w.clock = clock.NewLockstep(start)
	if o.Speed != FlatOut {
		w.clock = clock.New(start, o.Speed)
	}
	if err := w.keepKey(); err != nil {
		return err
	}
	outside, err := engine.OpenAccess(w.Folder, nil)
	if err != nil {
		return err
	}
	if err := w.openSites(o, outside.Opener); err != nil {
		return err
	}
	begun := start
	if w.Resumed {
		begun = w.kept.Start
	}
	if err := w.openRegistry(begun); err != nil {
		return err
	}
	if !w.Resumed {
		if err := w.make(start, outside.Opener); err != nil {
			return err
		}
	}
	settings, err := w.moveBundle()
	if err != nil {
		return err
	}
	w.Engine, err = engine.New(settings, w.Ledger, w.drivers(), w.clock, outside)
	return err
}

// keepKey gives the folder the demo's key, with which its secrets are sealed.
func (w *World) keepKey() error {
	name := filepath.Join(w.Folder, source.KeyFile)
	if _, err := os.Stat(name); err == nil {
		return nil
	}
	if err := disk.KeepNew(disk.Machine, name, key, 0o600); err != nil {
		return fmt.Errorf("keep the demo's key: %w", err)
	}
	return nil
}

// known are the names of what a data folder of the demo may have in it.
var known = []string{
	"lock", "changing.lock", marker, ledger.FileName, ledger.FileName + "-wal", ledger.FileName + "-shm", "ledger.spare", "ledger.db.moved", "shared.json", "shipped.json", "store", "local",
	"keeper.log", "keeper.lock", "keeper.sock", "router.lock", "router.sock", "aditus.sock", "tokens.json", "tokens-used.json", "users.json", "settings.yaml.refused", config.FileName, "sites", repoFolder, source.KeyFile, "credentials.age",
	"links", "watch.svg", "watch.pdf", "ledger.jsonl",
}

// ours tells whether a name is one of those.
func ours(name string) bool {
	name = disk.Finished(name)                                // what was being written when it was killed is told by what it was to be
	if half, hidden := strings.CutPrefix(name, "."); hidden { // in either way
		name = strings.TrimRight(half, "0123456789")
	}
	kind, _, drawn := strings.Cut(name, "-")
	return slices.Contains(known, name) || drawn && slices.Contains([]string{"watch", "anatomy", "bench", "calendar", "spread"}, kind)
}

// find tells whether a story is under way in the folder, and clears the folder for a new one.
func (w *World) find(anew bool) error {
	text, err := os.ReadFile(filepath.Join(w.Folder, marker))
	if err == nil && !anew {
		w.Resumed = true
		if err := json.Unmarshal(text, &w.kept); err != nil {
			return fmt.Errorf("read %s: %w; start over with --anew", filepath.Join(w.Folder, marker), err)
		}
		return nil
	}
	entries, err2 := os.ReadDir(w.Folder)
	if err2 != nil {
		return err2
	}
	for _, entry := range entries {
		if !ours(entry.Name()) {
			return fmt.Errorf("%s is no demo's folder, there is %s in it: choose an empty one with --data", w.Folder, entry.Name())
		}
	}
	ctx, cancel := context.WithTimeout(context.Background(), endWait)
	defer cancel()
	own, err := os.Executable()
	if err == nil {
		err = local.NewClient(w.Folder, own, "keep", "--data", w.Folder).End(ctx) // processes of a story that was killed
	}
	if err != nil {
		return err
	}
	for _, entry := range entries {
		if entry.Name() != "lock" {
			if err := os.RemoveAll(filepath.Join(w.Folder, entry.Name())); err != nil {
				return fmt.Errorf("clear the demo's folder: %w", err)
			}
		}
	}
	return nil
}

// firstSettings are the line's own, which whoever tries the demo may change.
func (w *World) firstSettings() config.Settings {
	s := config.Settings{
		Policy: mainLink,
		Line:   Line, Beat: beat, Registries: map[string]config.Registry{"registry.skerry.example": {Skip: true}},
		Links: []config.Link{
			{Name: mainLink, Repository: w.Repository, Branch: branch, Folder: watched, Every: pollEvery, Push: true, May: &config.May{Everything: true}},
			{Name: bundleLink, Repository: w.bundle, Version: bundleWish, Every: bundleEvery, Plain: true, Variables: map[string]string{"sender": Line}, May: &config.May{Workloads: []string{"notices"}, Sites: []string{"*"}, Kinds: []declare.Kind{declare.Service, declare.Settings}, Registries: []string{"registry.skerry.example"}}},
		},
		MetricsStores: []config.MetricsStore{{Name: harbour, URL: w.harbour}},
		Follow:        []config.Follow{{Site: previewed, Link: mainLink, Branch: preview, Until: w.kept.Start.Add(9 * day).UTC().Truncate(hour)}},
	}
	for _, name := range siteNames {
		s.Sites = append(s.Sites, config.Site{Name: name, Target: config.Target{Kind: sim.Kind.Name}})
	}
	s.Sites[0].Target = w.target()
	return s
}

func (w *World) openSites(o Options, opener *source.Opener) error {
	model, err := sim.ReadBehaviour("behaviour.yaml", behaviour)
	if err != nil {
		return err
	}
	folder := filepath.Join(w.Folder, "sites")
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return fmt.Errorf("make the stand-in sites: %w", err)
	}
	switch {
	case w.Resumed && w.kept.Listen != "" && o.Speed == FlatOut:
		return fmt.Errorf("drydock is real in the story in %s, and cannot run flat out: go on with it on a screen, or start over with --anew", w.Folder)
	case !w.Resumed && o.Real:
		if w.kept.Listen, err = freeAddress(); err != nil {
			return err
		}
	}
	for _, name := range siteNames {
		if name == drydock && w.kept.Listen != "" {
			if err := w.openDrydock(model, opener, o.Speed); err != nil {
				return err
			}
			continue
		}
		if w.sites[name], err = sim.Open(name, folder, model, w.clock.Now); err != nil {
			return err
		}
	}
	return nil
}

func (w *World) drivers() map[string]target.Driver {
	drivers := map[string]target.Driver{}
	for name, site := range w.sites {
		drivers[name] = site
	}
	if w.dock != nil {
		drivers[drydock] = w.dock
	}
	return drivers
}

// make gives the world its past: the repository with its history, the ledger with what was proven where, and the sites
// with what runs there. The marker is written last, so a world that was not finished is made again.
func (w *World) make(start time.Time, opener *source.Opener) error {
	w.kept.Start = start
	commits, err := makeRepository(w.Repository, start)
	if err != nil {
		return err
	}
	ctx := context.Background()
	past, known := map[berth.ID][]berth.Revision{}, map[declare.Fingerprint]bool{}
	var entries []ledger.Entry // put on record at once, as the disk takes its time for each
	remember := func(c committed, set map[string]string, sites ...string) error {
		files := append(beside(), source.File{Name: c.workload + ".yaml", Text: c.text})
		files = slices.DeleteFunc(files, func(f source.File) bool { // the past kept the rules, and other workloads are not asked for
			folder, _, deeper := strings.Cut(f.Name, "/")
			return f.Name == "rules.yaml" || deeper && folder != c.workload
		})
		loaded, problems := source.Load(ctx, files, source.Options{Sites: siteNames, Opener: opener, Set: set})
		if problems = problems.Wrong(); len(problems) > 0 {
			return problems
		}
		for _, d := range loaded.Declarations {
			if len(sites) > 0 && !slices.Contains(sites, d.Site) {
				continue
			}
			r := berth.Revision{Fingerprint: d.Fingerprint(), Workload: c.workload, Version: d.Version(), Commit: c.commit, Subject: c.subject, Author: c.author, At: c.at, Desired: &d.Desired}
			id := berth.ID{Workload: c.workload, Site: d.Site}
			past[id] = append(past[id], r)
			if known[r.Fingerprint] {
				continue
			}
			known[r.Fingerprint] = true
			entries = append(entries, ledger.Entry{Revision: &r})
		}
		return nil
	}
	for _, c := range commits {
		if err := remember(c, nil); err != nil {
			return err
		}
	}
	text, err := quiet()
	if err != nil {
		return err
	}
	if err := remember(committed{previewChange, commits[0].commit, start.Add(-previewChange.ago), text}, nil, previewed); err != nil {
		return err
	}
	for _, b := range bundles {
		if text, err = setVersion(notices, b.artifact); err != nil {
			return err
		}
		c := committed{change{b.ago, "Maren Oake", b.title, "notices", b.artifact}, commits[0].commit, start.Add(-b.ago), text}
		if err := remember(c, map[string]string{"sender": Line, "log-level": "info"}); err != nil {
			return err
		}
	}
	for place, site := range siteNames {
		together := func(do func() error) error { return do() }
		if standIn := w.sites[site]; standIn != nil {
			together = standIn.Together
		} else if w.dock != nil {
			together = w.dock.Together
		}
		err := together(func() error {
			for _, id := range slices.SortedFunc(maps.Keys(past), func(a, b berth.ID) int { return strings.Compare(a.String(), b.String()) }) {
				if id.Site != site {
					continue
				}
				entry, err := w.settle(ctx, id, place, past[id])
				if err != nil {
					return err
				}
				entries = append(entries, entry)
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	entries = append(entries, w.remember(past[Breached], start)...)
	if err := errors.Join(w.byHand(), w.Ledger.Record(ctx, entries...)); err != nil {
		return err
	}
	return w.keep(w.kept)
}

// byHand makes what people and scalers did at the sites before the story.
func (w *World) byHand() error {
	return errors.Join(
		w.sites["slipway"].ChangeByHand(sim.Hand{Workload: "piers", Part: "tally", Field: "artifact", Value: "registry.skerry.example/piers/tally:0.9.2"}),
		w.sites["slipway"].ChangeByHand(sim.Hand{Workload: "piers", Part: "tally", Field: "instances", Value: "1"}),
		w.sites["south"].ChangeByHand(sim.Hand{Workload: "lookout", Part: "tracks", Field: "instances", Value: "8"}),
	)
}

// settle makes a site as a berth's past left it, and gives what is on record of that.
func (w *World) settle(ctx context.Context, id berth.ID, place int, revisions []berth.Revision) (ledger.Entry, error) {
	behind := 0
	if reached, coming := arrived[id.Workload]; coming && place >= reached {
		behind = 1
	}
	applied := revisions[len(revisions)-1-behind]
	state := berth.State{Applied: applied.Fingerprint, AppliedAt: applied.At.Add(time.Duration(place+1) * 10 * time.Minute)}
	state.ProvenAt = state.AppliedAt.Add(8 * time.Minute)
	if id == offered { // its team has not answered yet
		r := revisions[len(revisions)-1]
		state.Offer = &berth.Offer{Revision: r.Fingerprint, Offer: course.Offer{Since: w.kept.Start.Add(-2 * day)}}
	}
	if id == locked {
		state.Lock = &berth.Lock{Message: "no new prices before the regatta", By: "Sanna Brekk", At: start(applied)}
	}
	if id == trial { // its end was announced an hour ago
		state.EndTold = &berth.Told{End: trialOver(w.kept.Start), At: w.kept.Start.Add(-hour)}
	}
	var facts []ledger.Fact
	for _, r := range revisions[:len(revisions)-behind] {
		state.Proven = append([]declare.Fingerprint{r.Fingerprint}, state.Proven...)
		at := r.At.Add(time.Duration(place+1)*10*time.Minute + 8*time.Minute)
		facts = append(facts, ledger.Fact{At: at, Workload: id.Workload, Site: id.Site, Kind: rollout.FactProven, By: "aditus", Revision: r.Fingerprint, Text: fmt.Sprintf("%s (%s) is proven", r.Version, r.Fingerprint.Short())})
	}
	driver, revision := w.drivers()[id.Site], applied.Fingerprint
	wants := []target.Want{target.Prepare(revision, *applied.Desired)}
	for _, part := range applied.Desired.Running() {
		if applied.Desired.Parts[part].Kind == declare.Task {
			wants = append(wants, target.Run(revision, part))
		} else {
			wants = append(wants, target.Scale(revision, part, applied.Desired.Parts[part].Instances))
		}
	}
	return ledger.Entry{Berth: id, State: &state, Facts: facts}, driver.Apply(ctx, id.Workload, append(wants, target.SetShare(revision, 1, "")))
}

func (w *World) keep(k kept) error {
	text, err := json.Marshal(k)
	if err != nil {
		return err
	}
	file := filepath.Join(w.Folder, marker)
	if err := disk.Keep(disk.Machine, file, text, 0o600); err != nil {
		return fmt.Errorf("keep the demo's state: %w", err)
	}
	w.kept = k
	return nil
}

// Run runs the engine and the story until ctx ends. ended is called once, when the story has come to its end or can no
// longer do so; it may be nil.
func (w *World) Run(ctx context.Context, ended func(Ending)) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	group, ctx := errgroup.WithContext(ctx)
	w.clock.Join()
	group.Go(func() error { return w.Engine.Run(ctx) })
	if w.dock != nil {
		group.Go(func() error {
			w.travel(ctx)
			return nil
		})
	}
	group.Go(func() error {
		defer w.clock.Leave()
		return w.tell(ctx, ended)
	})
	err := group.Wait()
	if errors.Is(err, context.Canceled) {
		return nil
	}
	return err
}

// endWait is how long drydock's processes may take to end.
const endWait = 15 * time.Second

// Close lets go of the world. What it is stays in its folder; what runs at drydock ends, as nobody wants a demo's
// processes for longer than the demo.
func (w *World) Close() {
	if w.keeper != nil {
		ctx, cancel := context.WithTimeout(context.Background(), endWait)
		defer cancel()
		_ = w.keeper.End(ctx) // it ends by itself once it has nothing to keep
	}
	for _, site := range w.sites {
		if site != nil {
			site.Close()
		}
	}
	if w.registry != nil {
		w.registry.Close()
	}
	if w.Ledger != nil {
		w.Ledger.Close()
	}
	w.release()
}

func sortedKeys[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }
