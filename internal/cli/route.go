package cli

import (
	"log/slog"
	"os"
	"runtime/debug"

	"github.com/spf13/cobra"

	"aditus/internal/confine"
	"aditus/internal/target/local/traffic"
)

func newRoute() *cobra.Command {
	var folder, program string
	cmd := &cobra.Command{
		Use:   "route",
		Short: "Lead the traffic of local sites; started by itself where it is needed",
		Long: `Runs the router of a data folder: it leads traffic to the instances of local sites, as
the keeper says. The keeper starts one where it needs it, and another one that takes
over where that ended or hangs. On TERM it takes no new connections, which wait for
the one that follows, and leaves once what is under way is over, after 30 s at most.`,
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			folder, err := dataFolder(folder)
			if err != nil {
				return err
			}
			confine.Hide()
			debug.SetGCPercent(serverGC)
			return traffic.Run(cmd.Context(), traffic.Options{Folder: folder, Program: program, Log: slog.New(slog.NewTextHandler(os.Stderr, nil))})
		},
	}
	dataFlag(cmd, &folder)
	programFlag(cmd, &program)
	return cmd
}

// programFlag is by what a program is known to the one that takes over from it, where an agent on another machine runs it.
func programFlag(cmd *cobra.Command, program *string) {
	cmd.Flags().StringVar(program, "program", "", "by what an agent's program is known, so that another one takes over")
	cmd.Flags().MarkHidden("program")
}
