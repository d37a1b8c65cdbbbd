package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"
	"github.com/spf13/cobra"

	"aditus/internal/control"
	"aditus/internal/core/berth"
	"aditus/internal/core/say"
	"aditus/internal/status"
	"aditus/internal/target"
	"aditus/internal/tui/kit"
	"aditus/internal/view"
)

func newInstanceLog() *cobra.Command {
	var r connection
	var l logReader
	var since, pattern string
	cmd := &cobra.Command{
		Use:   "log BERTH [INSTANCE]",
		Short: "What the instances of a berth wrote",
		Long: `Prints the newest lines that the instances of a berth wrote, in the order of their times,
each behind the name of its instance. The first letters of an instance's name are
enough to have that one alone.`,
		Example: "  aditus log tides/north --since 10m --grep 'tide table'\n  aditus log tides/north tides-table-9576b43-1 --previous",
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) < 1 || len(args) > 2 {
				return usageError{errors.New("aditus log takes a berth, written WORKLOAD/SITE, and an instance")}
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := parseBerth(args[0])
			if err != nil {
				return err
			}
			if since != "" {
				if l.since, err = view.ReadMoment(since, time.Now()); err != nil {
					return usageError{fmt.Errorf("--since: %w", err)}
				}
			}
			if l.only, err = regexp.Compile(pattern); err != nil {
				return usageError{fmt.Errorf("--grep: %w", err)}
			}
			if l.follow && l.previous {
				return usageError{errors.New("what was written before the last start does not go on: give one of --follow and --previous")}
			}
			c, note, shut, err := r.client(cmd.Context())
			if err != nil {
				return err
			}
			defer shut()
			if note != "" {
				return errors.New("an instance's log is read while Aditus runs: start it with aditus, or aditus serve")
			}
			l.out, l.control, l.berth, l.named = colorprofile.NewWriter(cmd.OutOrStdout(), os.Environ()), c, id, args[1:]
			return l.print(cmd.Context())
		},
	}
	connectionFlags(cmd, &r)
	cmd.Flags().IntVarP(&l.most, "lines", "n", 100, "how many lines at most")
	cmd.Flags().BoolVarP(&l.follow, "follow", "f", false, "go on with new lines as they come")
	jsonFlag(cmd, &l.asJSON)
	cmd.Flags().StringVar(&since, "since", "", "from then on: 10m or 2h ago, 2026-11-26, or 2026-11-26T08:00:00Z")
	cmd.Flags().StringVar(&pattern, "grep", "", "only lines that a regular expression (RE2) fits")
	cmd.Flags().BoolVar(&l.previous, "previous", false, "only what was written before the last start of the instance")
	return cmd
}

// logReader reads what the instances of a berth wrote.
type logReader struct {
	out      io.Writer
	control  control.Reader
	berth    berth.ID
	named    []string // the instance; none for all
	most     int
	since    time.Time
	only     *regexp.Regexp
	previous bool
	follow   bool
	asJSON   bool

	colours map[string]ansi.BasicColor
}

// written is a line of an instance.
type written struct {
	Instance string `json:"instance"`
	target.LogLine
}

// Bounds of what is read of one instance where not all of it is shown.
const (
	followEvery = 500 * time.Millisecond // how often new lines are looked for
	lookedAt    = 10_000                 // lines in which some are looked for
)

// print prints the lines, and goes on with new ones where it is to.
func (l *logReader) print(ctx context.Context) error {
	seen := map[string]*target.LogMark{}
	for first := true; ; first = false {
		b, err := berthOf(ctx, l.control, l.berth)
		if err != nil {
			return err
		}
		instances, err := chooseInstances(b, l.named)
		if err != nil && (first || !l.follow) {
			return err
		}
		lines, err := l.read(ctx, instances, seen)
		if err != nil {
			return err
		}
		if first {
			lines = lines[max(0, len(lines)-l.most):]
		}
		for _, line := range lines {
			if err := l.line(line, len(instances) > 1 || len(seen) > 1); err != nil {
				return err
			}
		}
		if !l.follow {
			return nil
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(followEvery):
		}
	}
}

// read gives the lines that fit of some instances, each since it was read last, oldest first.
func (l *logReader) read(ctx context.Context, instances []status.Instance, seen map[string]*target.LogMark) (all []written, err error) {
	most := l.most
	if l.previous || l.only.String() != "" {
		most = max(most, lookedAt)
	}
	for _, in := range instances {
		since, mark := l.since, seen[in.ID]
		if mark == nil {
			mark = &target.LogMark{}
		} else {
			since = mark.At
		}
		lines, err := l.control.Log(ctx, l.berth, in.ID, since, most)
		if err != nil && len(instances) > 1 {
			continue // it went meanwhile
		}
		if err != nil {
			return nil, err
		}
		for _, line := range mark.Fresh(lines) {
			seen[in.ID] = mark // also where it is not shown: it is not looked at again
			if l.only.MatchString(line.Text) && (!l.previous || line.At.Before(in.Health.Started)) {
				all = append(all, written{in.ID, line})
			}
		}
	}
	slices.SortStableFunc(all, func(a, b written) int { return a.At.Compare(b.At) })
	return all, nil
}

// instanceColours are those of instances, one after the other; they come again where there are more instances.
var instanceColours = []ansi.BasicColor{ansi.Cyan, ansi.Yellow, ansi.Green, ansi.Magenta, ansi.Blue, ansi.BrightCyan, ansi.BrightYellow, ansi.BrightGreen, ansi.BrightMagenta, ansi.BrightBlue}

func (l *logReader) line(line written, named bool) error {
	if l.asJSON {
		return writeLine(l.out, line)
	}
	name := ""
	if named {
		colour, ok := l.colours[line.Instance]
		if !ok {
			if l.colours == nil {
				l.colours = map[string]ansi.BasicColor{}
			}
			colour = instanceColours[len(l.colours)%len(instanceColours)]
			l.colours[line.Instance] = colour
		}
		name = ansi.Style{}.ForegroundColor(colour).Styled(kit.Plain(line.Instance)) + "  "
	}
	_, err := fmt.Fprintf(l.out, "%s  %s%s\n", line.At.Local().Format("15:04:05.000"), name, kit.Plain(line.Text))
	return err
}

// chooseInstances finds the instances that are meant: all, or the one whose name begins with what is given.
func chooseInstances(b status.Berth, named []string) (fits []status.Instance, err error) {
	var all []string
	for _, c := range b.Cohorts {
		for _, in := range c.Instances {
			if len(named) > 0 && in.ID == named[0] {
				return []status.Instance{in}, nil
			}
			all = append(all, in.ID)
			if len(named) == 0 || strings.HasPrefix(in.ID, named[0]) {
				fits = append(fits, in)
			}
		}
	}
	switch {
	case len(all) == 0:
		return nil, fmt.Errorf("%s has no instance", b.ID)
	case len(named) > 0 && len(fits) == 0:
		return nil, fmt.Errorf("%s has no instance whose name begins with %s; there are %s", b.ID, named[0], say.Few(all, mostNamed))
	case len(named) > 0 && len(fits) > 1:
		return nil, fmt.Errorf("several instances of %s begin with %s; there are %s", b.ID, named[0], say.Few(all, mostNamed))
	}
	return fits, nil
}

// mostNamed is how many names a sentence has.
const mostNamed = 8
