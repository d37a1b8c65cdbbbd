package cli

import (
	"context"
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"aditus/internal/control"
	"aditus/internal/core/berth"
	"aditus/internal/core/say"
	"aditus/internal/draw"
	"aditus/internal/status"
)

func newDraw() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "draw",
		Short: "Drawings as SVG or PDF",
		Args:  noArgs,
		RunE:  func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(newDrawWatch(), newDrawAnatomy(), newDrawBench(), newDrawCalendar(), newDrawSpread(), newDrawCourse(), newDrawReport())
	return cmd
}

// drawingFlags say where a drawing goes, and on which ground.
func drawingFlags(cmd *cobra.Command, out *string, light *bool) {
	cmd.Flags().StringVarP(out, "output", "o", "", "the `file` to write, ending in .svg or .pdf")
	cmd.Flags().BoolVar(light, "light", false, "dark on light, for paper")
}

func newDrawWatch() *cobra.Command {
	var r connection
	var out string
	var light bool
	var rollout int64
	cmd := &cobra.Command{
		Use:   "watch BERTH -o FILE",
		Short: "A rollout on one time axis",
		Long: `Draws a rollout, finished or under way, as the watch shows it: stages, traffic,
instances, each guard's signal for old and new with its limit, and the events on
one time axis. BERTH is WORKLOAD/SITE. The file's ending chooses the format.`,
		Example: "  aditus draw watch boarding/north -o boarding.svg\n  aditus draw watch boarding/north -o boarding.pdf --light",
		Args:    oneArg("berth, written WORKLOAD/SITE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			berth, err := parseBerth(args[0])
			if err != nil {
				return err
			}
			if out == "" {
				return usageError{errors.New("name the file to write with -o, such as -o watch.svg")}
			}
			c, _, shut, err := r.client(cmd.Context())
			if err != nil {
				return err
			}
			defer shut()
			return drawWatchAs(cmd.Context(), c, berth, rollout, out, paletteOf(light))
		},
	}
	connectionFlags(cmd, &r)
	drawingFlags(cmd, &out, &light)
	cmd.Flags().Int64Var(&rollout, "rollout", 0, "the rollout's `number` in the ledger (default: the newest)")
	return cmd
}

func newDrawAnatomy() *cobra.Command {
	var r connection
	var out string
	var light bool
	cmd := &cobra.Command{
		Use:   "anatomy BERTH -o FILE",
		Short: "What a berth is made of, down to the instance",
		Args:  oneArg("berth, written WORKLOAD/SITE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := parseBerth(args[0])
			if err != nil {
				return err
			}
			format, err := draw.FormatOf(out)
			if err != nil {
				return usageError{err}
			}
			c, _, shut, err := r.client(cmd.Context())
			if err != nil {
				return err
			}
			defer shut()
			b, err := berthOf(cmd.Context(), c, id)
			if err != nil {
				return err
			}
			tree, err := c.Tree(cmd.Context(), id)
			if err != nil && !errors.Is(err, control.ErrNotRunning) {
				return err
			}
			return draw.Write(out, format, paletteOf(light), draw.OfAnatomy(b, tree, c.Snapshot(cmd.Context()).Now))
		},
	}
	connectionFlags(cmd, &r)
	drawingFlags(cmd, &out, &light)
	return cmd
}

func newDrawBench() *cobra.Command {
	var r connection
	var out, name string
	var light bool
	cmd := &cobra.Command{
		Use:     "bench BERTH -o FILE",
		Short:   "A guard's signal over its history, with its limit and the releases of that time",
		Example: "  aditus draw bench boarding/north --guard 'slow share' -o slow.svg",
		Args:    oneArg("berth, written WORKLOAD/SITE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			format, err := draw.FormatOf(out)
			if err != nil {
				return usageError{err}
			}
			b, err := r.bench(cmd.Context(), args[0], name)
			if err != nil {
				return err
			}
			return draw.Write(out, format, paletteOf(light), draw.OfBench(b, b.Rule.Limit.Value))
		},
	}
	connectionFlags(cmd, &r)
	drawingFlags(cmd, &out, &light)
	cmd.Flags().StringVar(&name, "guard", "", "the guard's `name` (default: the first)")
	return cmd
}

func parseBerth(text string) (berth.ID, error) {
	id, ok := berth.ParseID(text)
	if !ok {
		return id, usageError{fmt.Errorf("%q is no berth: write WORKLOAD/SITE, such as boarding/north", text)}
	}
	return id, nil
}

func paletteOf(light bool) draw.Palette {
	if light {
		return draw.Light
	}
	return draw.Dark
}

func drawWatchAs(ctx context.Context, c control.Reader, berth berth.ID, rollout int64, file string, palette draw.Palette) error {
	format, err := draw.FormatOf(file)
	if err != nil {
		return usageError{err}
	}
	if _, err := berthOf(ctx, c, berth); err != nil {
		return err
	}
	w, err := c.Watch(ctx, berth, rollout)
	if err != nil {
		return err
	}
	return draw.Write(file, format, palette, draw.OfWatch(w))
}

// nearBerths names berths that may have been meant.
func nearBerths(s status.Snapshot, wanted berth.ID) string {
	var same, all []string
	for _, b := range s.Berths {
		all = append(all, b.ID.String())
		if b.Workload == wanted.Workload || b.Site == wanted.Site {
			same = append(same, b.ID.String())
		}
	}
	if near := say.Mistyped(wanted.String(), all); near != "" {
		return "do you mean " + near + "?"
	}
	if len(same) == 0 {
		return "aditus status lists them"
	}
	return "there are " + say.Few(same, mostNamed)
}
