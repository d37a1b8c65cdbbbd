package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"aditus/internal/core/berth"
	"aditus/internal/core/say"
	"aditus/internal/ledger"
	"aditus/internal/status"
	"aditus/internal/tui/kit"
	"aditus/internal/view"
)

// reviewOptions say how a review is told.
type reviewOptions struct {
	ref                            string
	markdown, json, keep, exitCode bool
	kept                           int64
}

// runReview tells what a proposed change would do at every site.
func runReview(cmd *cobra.Command, r connection, all bool, o reviewOptions) error {
	var told status.Review
	var err error
	switch {
	case o.kept != 0:
		told, err = r.keptReview(cmd.Context(), o.kept)
	case !all || o.ref == "":
		return usageError{errors.New("name a berth, written WORKLOAD/SITE; or write --all --with REF for what a change would do at every site")}
	default:
		told, err = r.review(cmd.Context(), o.ref, o.keep)
	}
	if err != nil {
		return err
	}
	out := cmd.OutOrStdout()
	switch {
	case o.json:
		err = writeJSON(out, told)
	case o.markdown:
		err = view.WriteReview(out, told, time.Local)
	default:
		err = printReview(out, told, time.Local)
	}
	if err == nil && o.exitCode && told.Changes() > 0 {
		return errWrong
	}
	return err
}

// review asks the Aditus that runs, or one that runs for as long as that takes.
func (r connection) review(ctx context.Context, ref string, keep bool) (told status.Review, err error) {
	remote, folder, err := r.running()
	switch {
	case err != nil:
		return told, err
	case remote != nil && keep:
		return remote.KeepReview(ctx, whoami(fromShell), ref)
	case remote != nil:
		return remote.Review(ctx, ref)
	}
	err = onlyAsked(ctx, folder, !keep, func(s *localEngine) (err error) {
		if keep {
			told, err = s.Live.KeepReview(ctx, whoami(fromShell), ref)
		} else {
			told, err = s.Live.Review(ctx, ref)
		}
		return err
	})
	return told, err
}

// keptReview finds one on record.
func (r connection) keptReview(ctx context.Context, number int64) (told status.Review, err error) {
	c, _, shut, err := r.client(ctx)
	if err != nil {
		return told, err
	}
	defer shut()
	facts, err := c.Facts(ctx, ledger.Query{After: number - 1, Most: 1})
	if err != nil {
		return told, err
	}
	if len(facts) == 0 || facts[0].Seq != number || facts[0].Kind != berth.PreviewKept || json.Unmarshal(facts[0].Data, &told) != nil || told.Ref == "" {
		return told, fmt.Errorf("fact %d keeps no review; aditus ledger tells which do", number)
	}
	told.Kept = number
	return told, nil
}

// printReview tells it in words.
func printReview(w io.Writer, r status.Review, zone *time.Location) error {
	fmt.Fprintf(w, "%s would change %d of %s.\n", kit.Plain(r.Ref), r.Changes(), say.Count(r.Berths, "berth"))
	if r.Rules {
		fmt.Fprintln(w, "It changes the line's rules too: what comes with it must satisfy those from before it as well.")
	}
	if len(r.Conflicts) > 0 {
		fmt.Fprintf(w, "Both changed %s, each in its own way; this is told as the change has them.\n", kit.Plain(say.List(r.Conflicts)))
	}
	for _, work := range r.Workloads {
		head := work.Workload
		if work.Course != "" {
			head += ", on the course " + work.Course
		}
		fmt.Fprintf(w, "\n%s\n", kit.Plain(head))
		table := tabwriter.NewWriter(w, 0, 0, 2, ' ', 0)
		for _, site := range work.Sites {
			when, waits := "", ""
			if leg := site.Leg; leg != nil {
				when, waits = leg.Comes(zone), strings.Join(leg.Waiting(), "; then ")
			}
			fmt.Fprintf(table, "  %s\t%s\t%s\t%s\n", site.Site, kit.Plain(orNone(site.From)+" → "+orNone(site.To)), when, kit.Plain(waits))
			for _, text := range site.Does {
				fmt.Fprintf(table, "  \t%s\t\t\n", kit.Plain(text))
			}
			if len(site.Lasting) > 0 {
				fmt.Fprintf(table, "  \tcannot be undone: %s\t\t\n", kit.Plain(strings.Join(site.Lasting, ", ")))
			}
		}
		if err := table.Flush(); err != nil {
			return err
		}
	}
	if r.Kept > 0 {
		fmt.Fprintf(w, "\nKept as fact %d of the ledger.\n", r.Kept)
	}
	return nil
}

func orNone(version string) string {
	if version == "" {
		return "none"
	}
	return version
}
