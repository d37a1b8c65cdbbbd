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
	var folder string
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
			return traffic.Run(cmd.Context(), traffic.Options{Folder: folder, Log: slog.New(slog.NewTextHandler(os.Stderr, nil))})
		},
	}
	dataFlag(cmd, &folder)
	return cmd
}
