package engine

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"net"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"aditus/internal/config"
	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
	"aditus/internal/core/guard/panel"
	"aditus/internal/core/health"
	"aditus/internal/core/signal"
	"aditus/internal/scrape/metricstore"
	"aditus/internal/scrape/pushed"
	"aditus/internal/target"
)

// stores are the metrics stores of the settings by their names, opened once they are asked.
type stores struct {
	mu   sync.Mutex
	open map[string]opened
}

// opened is a metrics store, with what it was opened by.
type opened struct {
	knower
	as     config.MetricsStore
	access metricstore.Access
	looked time.Time // when its credential was looked up last, by this machine's clock
	close  func()
}

// credentialFor is how long a credential that was looked up is taken for what it is now, as many guards ask.
const credentialFor = 5 * time.Second

// knower is asked what is known of a workload's instances elsewhere.
type knower interface {
	Read(ctx context.Context, source signal.Source, whose []metricstore.One, at time.Time, within time.Duration) ([]metricstore.Shown, error)
}

// PushedMetrics is what instances push.
func (e *Engine) PushedMetrics() *pushed.Store { return e.pushed }

// store gives a metrics store by its name in the settings, or what is pushed.
func (e *Engine) store(source signal.Source) (knower, error) {
	e.mu.Lock()
	settings := e.settings
	e.mu.Unlock()
	name := source.Store
	if err := settings.Knows(source); err != nil || name == config.PushedStore {
		return e.pushed, err
	}
	known, _ := settings.StoreOf(name)
	e.stores.mu.Lock()
	defer e.stores.mu.Unlock()
	open := e.stores.open[name]
	if open.as == known && time.Since(open.looked) < credentialFor {
		return open, nil
	}
	access := metricstore.Access{URL: known.URL + known.Page, CA: known.CA}
	if named := known.Credential; named != "" {
		kept := e.access.access(named).Credential
		if kept.Password == "" {
			return nil, fmt.Errorf("the metrics store %s: there is no credential %s; give it with: aditus link credential %s", name, named, named)
		}
		access.User, access.Password = kept.User, kept.Password
	}
	if open.as != known || open.access != access {
		now, err := openStore(known, access)
		if err != nil {
			return nil, fmt.Errorf("the metrics store %s: %w", name, err)
		}
		if open.close != nil {
			open.close()
		}
		open = now
	}
	open.looked = time.Now()
	if e.stores.open == nil {
		e.stores.open = map[string]opened{}
	}
	e.stores.open[name] = open
	return open, nil
}

// openStore opens a metrics store, or a page that tells of many instances.
func openStore(as config.MetricsStore, access metricstore.Access) (opened, error) {
	if as.Page != "" {
		page, err := metricstore.NewPage(access)
		if err != nil {
			return opened{}, err
		}
		return opened{knower: page, as: as, access: access, close: page.Close}, nil
	}
	store, err := metricstore.New(access)
	if err != nil {
		return opened{}, err
	}
	return opened{knower: store, as: as, access: access, close: store.Close}, nil
}

// elsewhere asks for what the instances do not tell themselves of the guards' signals.
func (b *loop) elsewhere(ctx context.Context, seen *evidence, rules *declare.Desired) (map[string][]panel.Scrape, error) {
	found, troubles := make([][]panel.Scrape, len(rules.Guards)), make([]error, len(rules.Guards))
	group := errgroup.Group{}
	others := map[string][]int{} // guards, by the workload whose instances tell their signal
	for i, rule := range rules.Guards {
		switch s := rule.Signal; {
		case s.Kind == signal.Alert:
			found[i] = b.alerted(seen, rule)
		case s.Workload != "":
			others[s.Workload] = append(others[s.Workload], i)
		case s.Store != "":
			group.Go(func() error {
				found[i], troubles[i] = b.stored(ctx, seen, rules, rule)
				return nil
			})
		}
	}
	for workload, guards := range others {
		group.Go(func() error {
			scrapes := b.other(ctx, workload, cmp.Or(seen.new, seen.old), b.e.clock.Now().Add(-staleAfter*rules.Rollout.Interval.Duration))
			for _, i := range guards {
				found[i] = slices.Clone(scrapes)
			}
			return nil
		})
	}
	group.Wait()
	by := map[string][]panel.Scrape{}
	for i, rule := range rules.Guards {
		if found[i] != nil {
			by[rule.Name] = found[i]
		}
	}
	for _, trouble := range troubles {
		if trouble != nil && ctx.Err() == nil {
			return by, fmt.Errorf("%w; guards on it are silent until that is mended", trouble)
		}
	}
	return by, nil
}

// other is what the instances of another workload of the site show, which is held against what is judged here. Where some of it is
// not known, nothing is.
func (b *loop) other(ctx context.Context, workload string, judged declare.Fingerprint, since time.Time) []panel.Scrape {
	asking, cancel := context.WithTimeout(ctx, askTimeout)
	defer cancel()
	seen, err := b.driver.Observe(asking, workload)
	var measured map[string]signal.Page
	if err == nil {
		measured, err = b.driver.Measure(asking, workload)
	}
	var scrapes []panel.Scrape
	var mu sync.Mutex
	group := errgroup.Group{}
	group.SetLimit(atOnce)
	for _, cohort := range seen.Cohorts {
		known, failed := b.e.revision(workload, cohort.Revision)
		if failed != nil || known == nil {
			err = cmp.Or(err, failed, fmt.Errorf("it runs a revision that is not on record"))
			continue
		}
		for _, in := range cohort.Instances {
			if in.Address == "" || in.Reason != "" || known.Desired.Parts[in.Part].Kind == declare.Task {
				continue
			}
			group.Go(func() error {
				page, err := b.page(ctx, in, known.Desired, since)
				scrape := panel.Scrape{Instance: in.ID, Part: in.Part, Revision: judged, Page: page, Measured: measured[in.ID]}
				if err != nil {
					scrape.Unread = err.Error()
				}
				mu.Lock()
				defer mu.Unlock()
				scrapes = append(scrapes, scrape)
				return nil
			})
		}
	}
	group.Wait()
	slices.SortFunc(scrapes, func(a, b panel.Scrape) int { return cmp.Compare(a.Instance, b.Instance) })
	if len(scrapes) == 0 || err != nil { // what the others of it show says nothing of all
		why := fmt.Sprintf("nothing of %s runs at %s", workload, b.id.Site)
		if err != nil {
			why = fmt.Sprintf("%s cannot be read: %v", workload, err)
		}
		return []panel.Scrape{{Instance: workload, Revision: judged, Unread: why}}
	}
	return scrapes
}

// stored asks a metrics store for a guard's signal. Where it does not answer, nothing is known of either cohort.
func (b *loop) stored(ctx context.Context, seen *evidence, rules *declare.Desired, rule guard.Rule) ([]panel.Scrape, error) {
	whose, are := b.whose(seen, rule.Signal)
	store, err := b.e.store(rule.Signal)
	var shown []metricstore.Shown
	if err == nil {
		if shown, err = store.Read(ctx, rule.Signal, whose, b.e.clock.Now(), staleAfter*rules.Rollout.Interval.Duration); err != nil {
			err = fmt.Errorf("the metrics store %s: %w", rule.Signal.Store, err)
		}
	}
	if err != nil {
		shown = nil
		for _, one := range whose {
			shown = append(shown, metricstore.Shown{Of: one.Name, Unread: err.Error()})
			are[one.Name] = panel.Scrape{Revision: are[one.Name].Revision, Part: are[one.Name].Part} // it is of nobody in particular
		}
	}
	var scrapes []panel.Scrape
	for _, s := range shown {
		scrape := are[s.Of]
		scrape.Page, scrape.At, scrape.Unread = s.Page, s.Time, s.Unread
		if s.At != "" {
			scrape.Instance += " at " + s.At
		}
		scrapes = append(scrapes, scrape)
	}
	return scrapes, err
}

// whose are those whom a store is asked about: the instances that should tell, or the cohorts, each with what it is to the guards.
func (b *loop) whose(seen *evidence, source signal.Source) (whose []metricstore.One, are map[string]panel.Scrape) {
	are = map[string]panel.Scrape{}
	if !declare.Asks(source) { // about both at once, which holds for what is judged
		all := cmp.Or(seen.new, seen.old)
		are[string(all)] = panel.Scrape{Instance: "the query", Revision: all}
		return []metricstore.One{{Name: string(all)}}, are
	}
	hosts := map[string]int{}
	for _, cohort := range seen.target.Cohorts {
		for _, in := range cohort.Instances {
			hosts[in.Address]++
		}
	}
	for _, cohort := range seen.target.Cohorts {
		desired := b.desired(cohort.Revision)
		if desired == nil || cohort.Revision != seen.old && cohort.Revision != seen.new {
			continue
		}
		revision := b.held[cohort.Revision]
		var instances, addresses []string
		for _, in := range cohort.Instances {
			if in.Address == "" || desired.Parts[in.Part].Kind == declare.Task {
				continue
			}
			places := at(in, hosts[in.Address] == 1)
			instances, addresses = append(instances, in.ID), append(addresses, places...)
			if source.Cohort == nil || !source.Cohort.Is.OfInstance() || seen.health[in.ID].Word != health.Healthy {
				continue
			}
			scrape := panel.Scrape{Instance: in.ID, Part: in.Part, Revision: cohort.Revision, Started: in.Started}
			if roll := b.state.Roll; roll != nil {
				_, scrape.Both = roll.New.Alike[in.Part]
			}
			one := metricstore.One{Name: in.ID, Names: []string{in.ID}}
			if source.Cohort.Is == signal.ByAddress {
				one.Names = places
			}
			whose, are[in.ID] = append(whose, one), scrape
		}
		if len(instances) == 0 || source.Cohort != nil && source.Cohort.Is.OfInstance() {
			continue
		}
		whole := string(cohort.Revision)
		name := revision.Version + " (" + cohort.Revision.Short() + ")" // two revisions may be of one version
		one := metricstore.One{Name: name}
		switch {
		case source.Cohort != nil && source.Cohort.Is == signal.ByRevision:
			one.Names = []string{whole, cohort.Revision.Short(), whole[:min(12, len(whole))]}
		case revision.Version != "": // which a series without the label would have
			one.Names = []string{revision.Version}
		}
		one.Fills = []string{
			declare.VersionBlank, within(revision.Version), declare.RevisionBlank, within(whole),
			declare.InstancesBlank, within(anyOf(instances)), declare.AddressesBlank, within(anyOf(addresses)),
		}
		whose, are[name] = append(whose, one), panel.Scrape{Instance: name, Revision: cohort.Revision, Started: oldest(cohort.Instances)}
	}
	return whose, are
}

// at are the addresses under which a store may know an instance: its host too where nobody shares that.
func at(in target.Instance, alone bool) (all []string) {
	if alone {
		all = []string{in.Address}
	}
	for _, name := range slices.Sorted(maps.Keys(in.Ports)) {
		all = append(all, net.JoinHostPort(in.Address, strconv.Itoa(in.Ports[name])))
	}
	return all
}

// anyOf is a regular expression that takes one of some texts.
func anyOf(texts []string) string {
	for i, text := range texts {
		texts[i] = regexp.QuoteMeta(text)
	}
	return strings.Join(texts, "|")
}

// within is a text as it stands between the quotes of a query.
func within(text string) string {
	quoted := strconv.Quote(text)
	return quoted[1 : len(quoted)-1]
}

// oldest is when the first of some instances started.
func oldest(instances []target.Instance) (started time.Time) {
	for _, in := range instances {
		if started.IsZero() || in.Started.Before(started) {
			started = in.Started
		}
	}
	return started
}
