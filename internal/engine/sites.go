package engine

import (
	"context"
	"fmt"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"aditus/internal/core/course"
	"aditus/internal/core/declare"
	"aditus/internal/core/say"
	"aditus/internal/status"
	"aditus/internal/target"
)

const (
	siteAnswers = 5 * time.Second    // so long a site may take to say what it stands on
	timesAhead  = 7 * 24 * time.Hour // so far ahead its windows are told
)

// Sites asks all sites what they stand on, and tells what runs there and how revisions come to each.
func (e *Engine) Sites(ctx context.Context) ([]status.Site, error) {
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
		all[i] = status.Site{Name: site, Team: s.Teams[site], Rules: e.settings.Policy, Automatic: own.Automatic, Answers: true}
		drift := e.drift(own)
		all[i].Corrects, all[i].Notice = drift.Correct, drift.Notice
		_, all[i].Lists = e.drivers[site].(target.Finder)
		if elsewhere, ok := e.drivers[site].(target.Elsewhere); ok {
			all[i].Machine = elsewhere.Machine
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
				if entry.Sort == course.SortWindow || entry.Sort == course.SortFreeze { // also those for some workloads alone
					all[i].Times = append(all[i].Times, entry)
				}
			}
		}
	}
	e.mu.Unlock()
	ctx, cancel := context.WithTimeout(ctx, siteAnswers)
	defer cancel()
	var group errgroup.Group
	for i := range all {
		all[i].Count(s.Berths)
		group.Go(func() error {
			e.askGround(ctx, &all[i])
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

// askGround asks a site what it stands on. Those who ask while it is asked are told the same, so that one that hangs is not asked again and again.
func (e *Engine) askGround(ctx context.Context, site *status.Site) {
	grounded, ok := e.drivers[site.Name].(target.Grounded)
	if !ok {
		return
	}
	began := time.Now()
	asked := e.grounds.DoChan(site.Name, func() (any, error) {
		ctx, cancel := context.WithTimeout(context.Background(), siteAnswers) // of all who wait for it
		defer cancel()
		return grounded.Ground(ctx)
	})
	var err error
	select {
	case told := <-asked:
		site.Ground, _ = told.Val.(status.Ground)
		err = told.Err
	case <-ctx.Done():
		err = fmt.Errorf("it does not say within %s what it stands on", say.Span(siteAnswers))
	}
	site.Took = time.Since(began)
	switch {
	case err != nil && site.Answers:
		site.Answers, site.Trouble = false, err.Error()
	case err == nil && site.Answers:
		site.Trouble = site.Ground.Wrong
	}
}
