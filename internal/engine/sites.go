package engine

import (
	"context"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"aditus/internal/core/compare"
	"aditus/internal/core/course"
	"aditus/internal/core/declare"
	"aditus/internal/status"
	"aditus/internal/target"
)

const (
	siteAnswers = 5 * time.Second    // so long a site may take to say what it stands on
	timesAhead  = 7 * 24 * time.Hour // so far ahead its windows are told
)

// Sites asks all sites what they stand on, and tells what runs there and how revisions come to each. Those who ask while they are asked
// are told the same.
func (e *Engine) Sites(context.Context) ([]status.Site, error) {
	all, err, _ := e.sites.Do("", func() (any, error) { return e.askSites() })
	if err != nil {
		return nil, err
	}
	return slices.Clone(all.([]status.Site)), nil
}

func (e *Engine) askSites() ([]status.Site, error) {
	s := e.Snapshot()
	all := make([]status.Site, len(s.Sites))
	e.mu.Lock()
	line, name := e.line()
	var rules *course.Rules
	if line != nil {
		rules = e.rulesOf(name, s.Now)
	}
	for i, site := range s.Sites {
		own := e.siteOf(site)
		all[i] = status.Site{Name: site, Team: s.Teams[site], Automatic: own.Automatic, Answers: true}
		drift := e.drift(own)
		all[i].Corrects, all[i].Notice = drift.Correct, drift.Notice
		if elsewhere, ok := e.drivers[site].(target.Elsewhere); ok {
			all[i].Machine, all[i].Ground.On = elsewhere.Machine, "the machine "+elsewhere.Machine
		}
		if own.After != "" {
			all[i].After = []string{own.After}
		}
		if line != nil {
			comes(&all[i], line)
		}
		if rules != nil {
			all[i].Windowed = rules.Windowed(site)
			for _, entry := range rules.Calendar([]string{site}, s.Now, s.Now.Add(timesAhead)) {
				if entry.Sort == course.SortWindow || entry.Sort == course.SortFreeze {
					all[i].Times = append(all[i].Times, entry)
				}
			}
		}
	}
	e.mu.Unlock()
	count(all, s)
	var group errgroup.Group
	for i := range all {
		group.Go(func() error {
			askGround(&all[i], e.drivers[all[i].Name])
			return nil
		})
	}
	return all, group.Wait()
}

// comes says after which sites, and with whose sign-off, revisions come to a site by the line's courses.
func comes(site *status.Site, line *declare.Line) {
	for _, c := range line.Courses {
		for _, step := range c.Steps {
			if !slices.Contains(step.Sites, site.Name) || !c.On || step.Off {
				continue
			}
			site.Automatic = true
			for _, before := range step.After {
				if !slices.Contains(site.After, before) {
					site.After = append(site.After, before)
				}
			}
			if step.SignOff != nil {
				for _, by := range step.SignOff.By {
					if !slices.Contains(site.SignOff, by) {
						site.SignOff = append(site.SignOff, by)
					}
				}
			}
		}
	}
}

// count counts what runs at sites, and takes over since when one is silent.
func count(sites []status.Site, s status.Snapshot) {
	at := map[string]*status.Site{}
	for i := range sites {
		at[sites[i].Name] = &sites[i]
	}
	for _, b := range s.Berths {
		site := at[b.Site]
		if site == nil {
			continue
		}
		site.Berths++
		if b.Applied == nil && len(b.Cohorts) == 0 {
			site.Absent++
		}
		if b.Rollout != nil {
			site.Moving++
		}
		for _, c := range b.Cohorts {
			site.Instances += len(c.Instances)
		}
		if b.SyncStatus == compare.Unread && b.Problem != nil && (site.Answers || b.Problem.Since.Before(site.Since)) {
			site.Answers, site.Trouble, site.Since = false, b.Problem.Text, b.Problem.Since
		}
	}
}

// askGround asks a site what it stands on.
func askGround(site *status.Site, driver target.Driver) {
	grounded, ok := driver.(target.Grounded)
	if !ok {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), siteAnswers) // of all who wait for it
	defer cancel()
	began := time.Now()
	ground, err := grounded.Ground(ctx)
	site.Ground, site.Took = ground, time.Since(began)
	if err != nil {
		site.Answers, site.Trouble = false, err.Error()
	}
}
