package cli

import (
	"errors"
	"fmt"
	"io"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"aditus/internal/core/say"
	"aditus/internal/draw"
	"aditus/internal/status"
	"aditus/internal/tui/kit"
	"aditus/internal/view"
)

// errNoWorkload is that a workload is nowhere, with the one that may be meant.
func errNoWorkload(s status.Snapshot, name string) error {
	var known []string
	for _, b := range s.Berths {
		known = append(known, b.Workload)
	}
	if say.Mistyped(name, known) == "" {
		return fmt.Errorf("no site has %s, and no link declares it", name)
	}
	return errors.New(say.None("workload", name, known))
}

func newSpread() *cobra.Command {
	var r connection
	var asJSON, wide, all bool
	cmd := &cobra.Command{
		Use:   "spread WORKLOAD",
		Short: "Who runs what of a workload, over all its sites",
		Long: `Tells which versions of a workload run at how many sites, since when, and why they run
nothing newer; with --sites every site by itself.`,
		Example: "  aditus spread boarding\n  aditus spread boarding --sites",
		Args:    oneArg("workload"),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, _, err := r.picture(cmd.Context())
			if err != nil {
				return err
			}
			told := view.NewSpread(s, args[0])
			switch {
			case told.Sites == 0:
				return errNoWorkload(s, args[0])
			case asJSON:
				return writeJSON(cmd.OutOrStdout(), told)
			}
			return writeSpread(cmd.OutOrStdout(), told, all || wide, time.Local)
		},
	}
	connectionFlags(cmd, &r)
	outputFlag(cmd, &asJSON, &wide)
	cmd.Flags().BoolVar(&all, "sites", false, "each site by itself, those that have a version longest first")
	return cmd
}

// writeSpread tells it in words.
func writeSpread(w io.Writer, told view.Spread, all bool, zone *time.Location) error {
	fmt.Fprintf(w, "%s at %s", told.Workload, say.Count(told.Sites, "site"))
	if told.Newest != "" {
		fmt.Fprintf(w, ", Git declares %s", kit.Plain(told.Newest))
	}
	fmt.Fprint(w, "\n\n")
	day := func(t time.Time) string {
		if t.IsZero() {
			return ""
		}
		return t.In(zone).Format("2 Jan 2006")
	}
	table := tabwriter.NewWriter(w, 0, 0, 3, ' ', 0)
	for _, v := range told.Versions {
		name := kit.Plain(v.Version)
		if name == "" {
			name = "none"
		}
		since := day(v.First)
		if last := day(v.Last); last != since {
			since += " to " + last
		}
		var why []string
		for _, reason := range v.Why {
			why = append(why, fmt.Sprintf("%d %s", reason.Sites, kit.Plain(reason.Reason)))
		}
		fmt.Fprintf(table, "%s\t%5d\t%s\t%s\n", name, len(v.Sites), since, strings.Join(why, "; "))
		if !all {
			continue
		}
		for _, site := range v.Sites {
			fmt.Fprintf(table, "  %s\t\t%s\t%s\n", site.Site, day(site.Since), kit.Plain(strings.TrimSuffix(site.Health+", "+site.Why, ", ")))
		}
	}
	return table.Flush()
}

func newDrawSpread() *cobra.Command {
	var r connection
	var out string
	var light bool
	cmd := &cobra.Command{
		Use:   "spread WORKLOAD -o FILE",
		Short: "Who runs what of a workload, over all its sites",
		Args:  oneArg("workload"),
		RunE: func(cmd *cobra.Command, args []string) error {
			format, err := draw.FormatOf(out)
			if err != nil {
				return usageError{err}
			}
			s, _, err := r.picture(cmd.Context())
			if err != nil {
				return err
			}
			told := view.NewSpread(s, args[0])
			if told.Sites == 0 {
				return errNoWorkload(s, args[0])
			}
			return draw.Write(out, format, paletteOf(light), draw.OfSpread(told))
		},
	}
	connectionFlags(cmd, &r)
	drawingFlags(cmd, &out, &light)
	return cmd
}
