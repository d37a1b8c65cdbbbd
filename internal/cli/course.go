package cli

import (
	"context"
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
)

func newCourse() *cobra.Command {
	var r connection
	var with string
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "course WORKLOAD",
		Short: "When a revision comes to the sites of its course, at the earliest",
		Long: `Tells for each site of a workload's course what its revision waits for, whom, and
when it begins there at the earliest, given windows, freezes and waits, if every
rollout does well and nobody keeps the others waiting. With --with it is told of what
another branch, tag or commit would declare, by the rules there; nothing of it is
taken. The rules stand in line.yaml of the link that the settings name with policy:.`,
		Example: "  aditus course fares\n  aditus course fares --with new-tariff",
		Args:    oneArg("workload"),
		RunE: func(cmd *cobra.Command, args []string) error {
			told, err := r.course(cmd.Context(), args[0], with)
			if err != nil {
				return err
			}
			if asJSON {
				return writeJSON(cmd.OutOrStdout(), told)
			}
			return writeCourse(cmd.OutOrStdout(), told, time.Local)
		},
	}
	connectionFlags(cmd, &r)
	jsonFlag(cmd, &asJSON)
	cmd.Flags().StringVar(&with, "with", "", "a branch, tag or commit, instead of what Git declares")
	return cmd
}

// course asks the Aditus that runs, or one that runs for as long as that takes.
func (r connection) course(ctx context.Context, workload, with string) (told status.Course, err error) {
	remote, folder, err := r.running()
	switch {
	case err != nil:
		return told, err
	case remote != nil:
		return remote.Course(ctx, workload, with)
	}
	err = onlyAsked(ctx, folder, true, func(s *localEngine) (err error) {
		told, err = s.Live.Course(ctx, workload, with)
		return err
	})
	return told, err
}

func newDrawCourse() *cobra.Command {
	var r connection
	var out, with string
	var light bool
	cmd := &cobra.Command{
		Use:   "course WORKLOAD -o FILE",
		Short: "The way of a revision through the sites of its course, with the earliest times",
		Args:  oneArg("workload"),
		RunE: func(cmd *cobra.Command, args []string) error {
			format, err := draw.FormatOf(out)
			if err != nil {
				return usageError{err}
			}
			told, err := r.course(cmd.Context(), args[0], with)
			if err != nil {
				return err
			}
			return draw.Write(out, format, paletteOf(light), draw.OfCourse(told, time.Local))
		},
	}
	connectionFlags(cmd, &r)
	drawingFlags(cmd, &out, &light)
	cmd.Flags().StringVar(&with, "with", "", "a branch, tag or commit, instead of what Git declares")
	return cmd
}

// writeCourse tells a course in words.
func writeCourse(w io.Writer, c status.Course, zone *time.Location) error {
	if c.Course == "" {
		_, err := fmt.Fprintf(w, "No course of the line is for %s: it comes by hand, when no window or freeze is in its way.\n", c.Workload)
		return err
	}
	head := strings.TrimSpace(c.Workload+" "+c.Version) + " on the course " + c.Course
	if !c.On {
		head += ", which is off: it comes by hand"
	}
	if c.Train != "" {
		head += fmt.Sprintf(", in the train %s with %s", c.Train, say.List(c.With))
	}
	fmt.Fprintf(w, "%s\n\n", kit.Plain(head))
	moment := func(t time.Time) string { return t.In(zone).Format("Mon 2 Jan 15:04") }
	table := tabwriter.NewWriter(w, 0, 0, 3, ' ', 0)
	fmt.Fprintln(table, "step\tsite\tbegins\tproven\t")
	for _, leg := range c.Legs {
		proven := ""
		switch {
		case !leg.Proven.IsZero():
			proven = moment(leg.Proven)
		case !leg.Never && !leg.ByHand:
			proven = moment(leg.Ends)
		}
		fmt.Fprintf(table, "%d\t%s\t%s\t%s\t%s\n", leg.Step, leg.Site, leg.Comes(zone), proven, kit.Plain(strings.Join(leg.Waiting(), "; then ")))
	}
	return table.Flush()
}
