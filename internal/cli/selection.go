package cli

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"aditus/internal/core/berth"
	"aditus/internal/core/declare"
	"aditus/internal/status"
)

// selection says which berths a command is for: those that are named, those that patterns fit, and of these only those that the
// selectors leave.
type selection struct {
	all              bool
	teams            []string
	sites, workloads []string // patterns
	named            []berth.ID
	patterns         []string // WORKLOAD/SITE
}

// selectionFlags gives a command the selectors; of says what all berths would have done.
func selectionFlags(cmd *cobra.Command, s *selection, of string) {
	flags := cmd.Flags()
	flags.BoolVar(&s.all, "all", false, of)
	flags.StringArrayVar(&s.workloads, "workload", nil, "only workloads that fit this `pattern`, in which * stands for any text; may stand several times")
	flags.StringArrayVar(&s.sites, "site", nil, "only sites that fit this `pattern`; may stand several times")
	flags.StringArrayVar(&s.teams, "team", nil, "only sites of this `team`, as line.yaml says whose they are; may stand several times")
}

// read takes the arguments: berths, and patterns of berths.
func (s *selection) read(args []string) error {
	for _, text := range args {
		if strings.ContainsAny(text, "*?[") {
			if strings.Count(text, "/") != 1 || !wellFormed(text) {
				return usageError{fmt.Errorf("%q is no pattern of berths: write it like */north or fares/*", text)}
			}
			s.patterns = append(s.patterns, text)
			continue
		}
		id, err := parseBerth(text)
		if err != nil {
			return err
		}
		s.named = append(s.named, id)
	}
	for _, pattern := range slices.Concat(s.sites, s.workloads) {
		if !wellFormed(pattern) {
			return usageError{fmt.Errorf("%q is no pattern: write a name, or one with * for any text", pattern)}
		}
	}
	narrows := len(s.teams)+len(s.sites)+len(s.workloads) > 0
	if len(args) == 0 && (s.all || narrows) {
		s.patterns = []string{"*/*"}
	}
	switch {
	case len(args) > 0 && s.all:
		return usageError{errors.New("--all is for every berth: name none beside it")}
	case len(args) == 0 && len(s.patterns) == 0:
		return usageError{errors.New("name at least one berth, written WORKLOAD/SITE, or a pattern of them such as */north, or choose them with --all, --site, --team or --workload")}
	}
	return nil
}

func wellFormed(pattern string) bool {
	_, err := path.Match(pattern, "")
	return err == nil
}

// has tells whether a berth is meant.
func (s *selection) has(now status.Snapshot, id berth.ID) bool {
	meant := slices.Contains(s.named, id) || slices.ContainsFunc(s.patterns, func(p string) bool {
		workload, site, _ := strings.Cut(p, "/")
		return declare.Matches([]string{workload}, id.Workload) && declare.Matches([]string{site}, id.Site)
	})
	return meant && (len(s.workloads) == 0 || declare.Matches(s.workloads, id.Workload)) &&
		(len(s.sites) == 0 || declare.Matches(s.sites, id.Site)) &&
		(len(s.teams) == 0 || slices.Contains(s.teams, now.Teams[id.Site]))
}

// of gives the berths that are meant, in the order of the line. It waits a while for those that are named and not there yet.
func (s *selection) of(ctx context.Context, look func() (status.Snapshot, error)) (berths []berth.ID, err error) {
	for _, id := range s.named {
		if _, err := waitFor(ctx, look, id, func(status.Berth) bool { return true }); err != nil {
			return nil, err
		}
	}
	for begun := time.Now(); ; {
		now, err := look()
		if err != nil {
			return nil, err
		}
		for _, b := range now.Berths {
			if s.has(now, b.ID) {
				berths = append(berths, b.ID)
			}
		}
		if len(berths) > 0 {
			return berths, nil
		}
		if time.Since(begun) > settleTime || len(now.Berths) > 0 {
			return nil, errors.New("no berth is meant by that; aditus status lists them" + s.missing(now))
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(pollSnapshot):
		}
	}
}

// missing tells what of the selection does not exist at all.
func (s *selection) missing(now status.Snapshot) string {
	for _, team := range s.teams {
		if !slices.ContainsFunc(now.Sites, func(site string) bool { return now.Teams[site] == team }) {
			return fmt.Sprintf("; no site is of the team %s", team)
		}
	}
	return ""
}
