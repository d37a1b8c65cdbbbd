package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"aditus/internal/core/berth"
	"aditus/internal/core/say"
	"aditus/internal/draw"
	"aditus/internal/ledger"
	"aditus/internal/tui/kit"
	"aditus/internal/view"
)

// reported says of what a report is.
type reported struct {
	since, workload, site string
}

func (o *reported) flags(cmd *cobra.Command) {
	cmd.Flags().StringVar(&o.since, "since", "", "only what happened since a `moment`, a day, or so long ago, such as 2026-01-01 or 2160h")
	cmd.Flags().StringVar(&o.workload, "workload", "", "only this `workload`")
	cmd.Flags().StringVar(&o.site, "site", "", "only this `site`")
}

// report reads the ledger for it.
func (r connection) report(ctx context.Context, o reported) (view.Report, error) {
	q := ledger.Query{Berth: berth.ID{Workload: o.workload, Site: o.site}}
	if o.since != "" {
		var err error
		if q.Since, err = view.ReadMoment(o.since, time.Now()); err != nil {
			return view.Report{}, usageError{err}
		}
	}
	c, _, shut, err := r.client(ctx)
	if err != nil {
		return view.Report{}, err
	}
	defer shut()
	facts, err := c.Facts(ctx, q)
	return view.NewReport(c.Snapshot(ctx).Line, facts, time.Local), err
}

func newReport() *cobra.Command {
	var r connection
	var o reported
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "report",
		Short: "How releases went, by workload and month",
		Long: `Tells from the ledger how many releases there were of each workload in each month, a release
being a rollout at one site; how many were proven and how long they took (half of them, nine of ten,
and all); how many came back, how soon the old revision served alone again, and why. aditus draw report
draws it.`,
		Example: "  aditus report --since 2026-01-01\n  aditus draw report -o releases.pdf --light",
		Args:    noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			told, err := r.report(cmd.Context(), o)
			if err != nil {
				return err
			}
			if asJSON {
				return writeJSON(cmd.OutOrStdout(), told)
			}
			return writeReport(cmd.OutOrStdout(), told)
		},
	}
	connectionFlags(cmd, &r)
	o.flags(cmd)
	jsonFlag(cmd, &asJSON)
	return cmd
}

func writeReport(w io.Writer, r view.Report) error {
	if len(r.Months) == 0 {
		_, err := fmt.Fprintln(w, "nothing was released")
		return err
	}
	table := tabwriter.NewWriter(w, 0, 0, 3, ' ', 0)
	span := func(d time.Duration) string {
		if d == 0 {
			return "-"
		}
		return say.Span(d)
	}
	line := func(month, name string, l view.ReportLine) {
		fmt.Fprintf(table, "%s\t%s\t%d\t%d\t%d\t%s\t%s\t%s\t%s\t%s\n", month, kit.Plain(name), l.Releases, l.Proven, l.Back, span(l.Typical), span(l.Slow), span(l.Longest), span(l.TurnBack), kit.Plain(l.Told()))
	}
	fmt.Fprintln(table, "month\tworkload\treleases\tproven\tback\ttypical\t9 of 10\tlongest\tturned in\twhy")
	for _, m := range r.Months {
		for _, l := range m.Workloads {
			line(m.Month, l.Workload, l)
		}
		line(m.Month, "all", m.All)
	}
	if len(r.Months) > 1 {
		line("all", "all", r.All)
	}
	return table.Flush()
}

func newDrawReport() *cobra.Command {
	var r connection
	var o reported
	var out string
	var light bool
	cmd := &cobra.Command{
		Use:   "report -o FILE",
		Short: "How releases went, by workload and month",
		Args:  noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if out == "" {
				return usageError{errors.New("name the file to write with -o, such as -o releases.pdf")}
			}
			format, err := draw.FormatOf(out)
			if err != nil {
				return usageError{err}
			}
			told, err := r.report(cmd.Context(), o)
			if err != nil {
				return err
			}
			return draw.Write(out, format, paletteOf(light), draw.OfReport(told, time.Local))
		},
	}
	connectionFlags(cmd, &r)
	o.flags(cmd)
	drawingFlags(cmd, &out, &light)
	return cmd
}
