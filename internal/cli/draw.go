package cli

import (
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"aditus/internal/control"
	"aditus/internal/draw"
	"aditus/internal/engine"
	"aditus/internal/ledger"
	"aditus/internal/tui"
)

func newDraw() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "draw",
		Short: "Drawings as SVG or PDF",
		Args:  noArgs,
		RunE:  func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(newDrawWatch(), newDrawAnatomy(), newDrawBench())
	return cmd
}

func newDrawWatch() *cobra.Command {
	var folder, out string
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
		RunE: func(_ *cobra.Command, args []string) error {
			berth, err := parseBerth(args[0])
			if err != nil {
				return err
			}
			if out == "" {
				return usageError{errors.New("name the file to write with -o, such as -o watch.svg")}
			}
			book, _, err := openToRead(folder)
			if err != nil {
				return err
			}
			defer book.Close()
			palette := draw.Dark
			if light {
				palette = draw.Light
			}
			return drawWatchAs(book, berth, rollout, out, palette)
		},
	}
	dataFlag(cmd, &folder)
	cmd.Flags().StringVarP(&out, "output", "o", "", "the `file` to write, ending in .svg or .pdf")
	cmd.Flags().Int64Var(&rollout, "rollout", 0, "the rollout's `number` in the ledger (default: the newest)")
	cmd.Flags().BoolVar(&light, "light", false, "dark on light, for paper")
	return cmd
}

func newDrawAnatomy() *cobra.Command {
	var folder, out string
	var light bool
	cmd := &cobra.Command{
		Use:   "anatomy BERTH -o FILE",
		Short: "What a berth is made of, down to the instance",
		Args:  oneArg("berth, written WORKLOAD/SITE"),
		RunE: func(_ *cobra.Command, args []string) error {
			id, err := parseBerth(args[0])
			if err != nil {
				return err
			}
			format, err := draw.FormatOf(out)
			if err != nil {
				return usageError{err}
			}
			book, _, err := openToRead(folder)
			if err != nil {
				return err
			}
			defer book.Close()
			s, err := control.Recorded(book)
			if err != nil {
				return err
			}
			b, err := recordedBerth(book, id)
			if err != nil {
				return err
			}
			palette := draw.Dark
			if light {
				palette = draw.Light
			}
			return tui.WritePicture(out, format, palette, tui.AnatomyPainter(b, s.Now))
		},
	}
	dataFlag(cmd, &folder)
	cmd.Flags().StringVarP(&out, "output", "o", "", "the `file` to write, ending in .svg or .pdf")
	cmd.Flags().BoolVar(&light, "light", false, "dark on light, for paper")
	return cmd
}

func newDrawBench() *cobra.Command {
	var folder, out, name string
	var light bool
	cmd := &cobra.Command{
		Use:     "bench BERTH -o FILE",
		Short:   "A guard's signal over its history, with its limit and the releases of that time",
		Example: "  aditus draw bench boarding/north --guard 'slow share' -o slow.svg",
		Args:    oneArg("berth, written WORKLOAD/SITE"),
		RunE: func(_ *cobra.Command, args []string) error {
			format, err := draw.FormatOf(out)
			if err != nil {
				return usageError{err}
			}
			b, err := recordedBench(folder, args[0], name)
			if err != nil {
				return err
			}
			palette := draw.Dark
			if light {
				palette = draw.Light
			}
			return tui.WritePicture(out, format, palette, tui.BenchPainter(b, b.Rule.Limit.Value()))
		},
	}
	dataFlag(cmd, &folder)
	cmd.Flags().StringVarP(&out, "output", "o", "", "the `file` to write, ending in .svg or .pdf")
	cmd.Flags().StringVar(&name, "guard", "", "the guard's `name` (default: the first)")
	cmd.Flags().BoolVar(&light, "light", false, "dark on light, for paper")
	return cmd
}

func parseBerth(text string) (ledger.Berth, error) {
	id, ok := ledger.ParseBerth(text)
	if !ok {
		return id, usageError{fmt.Errorf("%q is no berth: write WORKLOAD/SITE, such as boarding/north", text)}
	}
	return id, nil
}

func drawWatch(book *ledger.Ledger, berth ledger.Berth, file string) error {
	return drawWatchAs(book, berth, 0, file, draw.Dark)
}

func drawWatchAs(book *ledger.Ledger, berth ledger.Berth, rollout int64, file string, palette draw.Palette) error {
	format, err := draw.FormatOf(file)
	if err != nil {
		return usageError{err}
	}
	s, err := control.Recorded(book)
	if err != nil {
		return err
	}
	if _, ok := s.Find(berth); !ok {
		return fmt.Errorf("there is no berth %s; %s", berth, nearBerths(s, berth))
	}
	w, err := control.NewWatch(book, s, berth, rollout)
	if err != nil {
		return err
	}
	return tui.WritePicture(file, format, palette, tui.WatchPainter(w))
}

// nearBerths names berths that may have been meant.
func nearBerths(s engine.Snapshot, wanted ledger.Berth) string {
	var same []string
	for _, b := range s.Berths {
		if b.Workload == wanted.Workload || b.Site == wanted.Site {
			same = append(same, b.Berth.String())
		}
	}
	if len(same) == 0 {
		return "aditus status lists them"
	}
	return "there are " + strings.Join(same[:min(8, len(same))], ", ")
}
