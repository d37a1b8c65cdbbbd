package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"aditus/internal/control"
	"aditus/internal/core/calendar"
	"aditus/internal/core/course"
	"aditus/internal/draw"
	"aditus/internal/status"
	"aditus/internal/tui/kit"
	"aditus/internal/view"
)

// timeRange is the time that a calendar is asked for.
type timeRange struct {
	from, until string
	weeks       int
}

func (t *timeRange) flags(cmd *cobra.Command) {
	flags := cmd.Flags()
	flags.StringVar(&t.from, "from", "", "the first `day`, such as 2026-12-01 (default: today)")
	flags.StringVar(&t.until, "until", "", "the `day` before which it ends")
	flags.IntVar(&t.weeks, "weeks", 2, "how many weeks, where no end is given")
}

// of gives its two ends.
func (t *timeRange) of(now time.Time) (from, until time.Time, err error) {
	from, _ = view.Day.Range(now, 0, time.Local)
	if t.from != "" {
		if from, err = calendar.Moment(t.from, time.Local); err != nil {
			return from, until, usageError{fmt.Errorf("--from: %w", err)}
		}
	}
	until = from.AddDate(0, 0, 7*t.weeks)
	if t.until != "" {
		if until, err = calendar.Moment(t.until, time.Local); err != nil {
			return from, until, usageError{fmt.Errorf("--until: %w", err)}
		}
	}
	if !until.After(from) {
		return from, until, usageError{errors.New("a calendar ends after it begins")}
	}
	return from, until, nil
}

// calendar asks for the time of a line.
func (r connection) calendar(ctx context.Context, t timeRange) (c status.Calendar, err error) {
	err = r.ask(ctx, func(asked control.Reader, s status.Snapshot) error {
		from, until, err := t.of(s.Now)
		if err == nil {
			c, err = asked.Calendar(ctx, from, until)
		}
		return err
	})
	return c, err
}

// ask asks the Aditus that runs, or one that runs for as long as that takes, once it has looked at all berths.
func (r connection) ask(ctx context.Context, do func(control.Reader, status.Snapshot) error) error {
	remote, folder, err := r.running()
	if err != nil {
		return err
	}
	if remote != nil {
		s, err := remote.Renew(ctx)
		if err != nil {
			return err
		}
		return do(remote, s)
	}
	return onlyAsked(ctx, folder, true, func(s *localEngine) error { return do(s.Live, looked(ctx, s)) })
}

// looked waits until an engine that has just begun has looked at all berths, or had its time for it: what becomes of them is not known
// before.
func looked(ctx context.Context, s *localEngine) status.Snapshot {
	ticker := time.NewTicker(pollSnapshot)
	defer ticker.Stop()
	for begun := time.Now(); ; {
		now := s.Snapshot(ctx)
		if time.Since(begun) > settleTime || !slices.ContainsFunc(now.Berths, func(b status.Berth) bool { return b.Looked.IsZero() && b.Problem == nil }) {
			return now
		}
		select {
		case <-ctx.Done():
			return now
		case <-ticker.C:
		}
	}
}

func newCalendar() *cobra.Command {
	var r connection
	var t timeRange
	var asJSON, asICS bool
	var sites []string
	cmd := &cobra.Command{
		Use:   "calendar",
		Short: "What happens in the line: windows, freezes, schedules, what comes when, and what ends",
		Long: `Tells by days what line.yaml says of the coming weeks and what follows from it: when
something may begin and when nothing may, what schedules do, when revisions come to
each site at the earliest and whom they wait for, and which lives end. With --ics it is
iCalendar (RFC 5545), for your own calendar.`,
		Example: "  aditus calendar --weeks 4\n  aditus calendar --site north --ics > north.ics",
		Args:    noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := r.calendar(cmd.Context(), t)
			if err != nil {
				return err
			}
			if len(sites) > 0 {
				c.Entries = slices.DeleteFunc(c.Entries, func(e course.Entry) bool { return e.Site != "" && !slices.Contains(sites, e.Site) })
			}
			switch {
			case asICS:
				return view.WriteICalendar(cmd.OutOrStdout(), c)
			case asJSON:
				return writeJSON(cmd.OutOrStdout(), c)
			}
			return writeCalendar(cmd.OutOrStdout(), c, time.Local)
		},
	}
	connectionFlags(cmd, &r)
	t.flags(cmd)
	jsonFlag(cmd, &asJSON)
	cmd.Flags().BoolVar(&asICS, "ics", false, "as iCalendar (RFC 5545)")
	cmd.Flags().StringArrayVar(&sites, "site", nil, "only this `site`, and what is for the whole line; may stand several times")
	cmd.MarkFlagsMutuallyExclusive("json", "ics")
	return cmd
}

// writeCalendar tells it in words, day by day.
func writeCalendar(w io.Writer, c status.Calendar, zone *time.Location) error {
	table := tabwriter.NewWriter(w, 0, 0, 2, ' ', 0)
	day := ""
	for _, e := range c.Entries {
		at := e.From
		if at.Before(c.From) {
			at = c.From
		}
		if is := at.In(zone).Format("Mon 2 Jan 2006"); is != day {
			if day != "" {
				fmt.Fprintln(table)
			}
			day = is
			fmt.Fprintln(table, day)
		}
		when := e.From.In(zone).Format("15:04")
		if e.From.Before(c.From) {
			when = "since " + e.From.In(zone).Format("2 Jan 15:04")
		}
		if !e.Until.IsZero() {
			form := "15:04"
			if e.Until.Sub(e.From) >= 24*time.Hour {
				form = "2 Jan 15:04"
			}
			when += " to " + e.Until.In(zone).Format(form)
		}
		site := e.Site
		if site == "" {
			site = "the line"
		}
		fmt.Fprintf(table, "  %s\t%s\t%s\t%s\n", when, e.Sort, site, kit.Plain(e.Text))
	}
	if len(c.Entries) == 0 {
		fmt.Fprintln(w, "Nothing is planned in this time, and nothing restricts it.")
	}
	return table.Flush()
}

func newDrawCalendar() *cobra.Command {
	var r connection
	var t timeRange
	var out string
	var light bool
	cmd := &cobra.Command{
		Use:   "calendar -o FILE",
		Short: "What happens in the line, sites down, days across",
		Args:  noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			format, err := draw.FormatOf(out)
			if err != nil {
				return usageError{err}
			}
			c, err := r.calendar(cmd.Context(), t)
			if err != nil {
				return err
			}
			return draw.Write(out, format, paletteOf(light), draw.OfCalendar(view.NewCalendar(c, zoomOf(c), time.Local)))
		},
	}
	connectionFlags(cmd, &r)
	t.flags(cmd)
	drawingFlags(cmd, &out, &light)
	return cmd
}

// zoomOf is the zoom whose titles fit a calendar's time.
func zoomOf(c status.Calendar) view.Zoom {
	for zoom := view.Day; zoom < view.Quarter; zoom++ {
		if from, until := zoom.Range(c.From, 0, time.Local); c.Until.Sub(c.From) <= until.Sub(from) {
			return zoom
		}
	}
	return view.Quarter
}
