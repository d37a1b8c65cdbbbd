package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"aditus/internal/core/say"
	"aditus/internal/source"
	"aditus/internal/tui/kit"
)

func newCheck() *cobra.Command {
	return &cobra.Command{
		Use:   "check PATH",
		Short: "Check declarations before they are pushed",
		Long: `Reads a folder of declarations, or one file, and tells everything that is wrong
with it: file, line, column, what was expected, and a suggestion. The exit code is
1 when there is anything.`,
		Example: "  aditus check workloads/",
		Args:    oneArg("path to a folder of declarations or a file"),
		RunE: func(cmd *cobra.Command, args []string) error {
			files, err := source.FromFolder(args[0])
			if err != nil {
				return err
			}
			found, problems := source.Check(files, nil)
			for _, p := range problems {
				fmt.Fprintln(cmd.OutOrStdout(), kit.Plain(p.Error()))
			}
			if len(problems) > 0 {
				fmt.Fprintf(cmd.ErrOrStderr(), "%s in %s\n", say.Count(len(problems), "problem"), say.Count(len(files), "file"))
				return errWrong
			}
			for _, d := range found {
				fmt.Fprintf(cmd.OutOrStdout(), "%s  %s  %s\n", d.Fingerprint().Short(), d.Workload, d.Version())
			}
			return nil
		},
	}
}
