package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"aditus/internal/control"
	"aditus/internal/core/say"
	"aditus/internal/status"
	"aditus/internal/target"
	"aditus/internal/tui/kit"
)

func newInstanceLog() *cobra.Command {
	var r connection
	var lines int
	var follow, asJSON bool
	cmd := &cobra.Command{
		Use:   "log BERTH [INSTANCE]",
		Short: "What an instance wrote",
		Long: `Prints the newest lines that an instance wrote, with their times. Where there is one
instance alone it need not be named; the first letters of its name are enough.`,
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
			c, note, shut, err := r.client(cmd.Context())
			if err != nil {
				return err
			}
			defer shut()
			if note != "" {
				return errors.New("an instance's log is read while Aditus runs: start it with aditus, or aditus serve")
			}
			b, err := berthOf(cmd.Context(), c, id)
			if err != nil {
				return err
			}
			instance, err := chooseInstance(b, args[1:])
			if err != nil {
				return err
			}
			return printLog(cmd.Context(), cmd.OutOrStdout(), c, b, instance, lines, follow, asJSON)
		},
	}
	connectionFlags(cmd, &r)
	cmd.Flags().IntVarP(&lines, "lines", "n", 100, "how many lines at most")
	cmd.Flags().BoolVarP(&follow, "follow", "f", false, "go on with new lines as they come")
	cmd.Flags().BoolVar(&asJSON, "json", false, "a JSON object for each line")
	return cmd
}

// chooseInstance finds the instance that is meant.
func chooseInstance(b status.Berth, named []string) (string, error) {
	var fits, all []string
	for _, c := range b.Cohorts {
		for _, in := range c.Instances {
			all = append(all, in.ID)
			if len(named) == 0 || len(in.ID) >= len(named[0]) && in.ID[:len(named[0])] == named[0] {
				fits = append(fits, in.ID)
			}
		}
	}
	switch {
	case len(fits) == 1 || len(named) == 1 && slices.Contains(fits, named[0]):
		if len(named) == 1 && slices.Contains(fits, named[0]) {
			return named[0], nil
		}
		return fits[0], nil
	case len(all) == 0:
		return "", fmt.Errorf("%s has no instance", b.ID)
	}
	return "", fmt.Errorf("name one instance: %s", say.List(all[:min(8, len(all))]))
}

// followEvery is how often new lines are looked for.
const followEvery = 500 * time.Millisecond

func printLog(ctx context.Context, w io.Writer, c control.Reader, b status.Berth, instance string, most int, follow, asJSON bool) error {
	var since time.Time
	for {
		lines, err := c.Log(ctx, b.ID, instance, since, most)
		if err != nil {
			return err
		}
		for _, line := range lines {
			if err := printLine(w, line, asJSON); err != nil {
				return err
			}
			since = line.At.Add(1)
		}
		if !follow {
			return nil
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(followEvery):
		}
	}
}

func printLine(w io.Writer, line target.LogLine, asJSON bool) error {
	if asJSON {
		return writeLine(w, line)
	}
	_, err := fmt.Fprintf(w, "%s  %s\n", line.At.Local().Format("15:04:05.000"), kit.Plain(line.Text))
	return err
}
