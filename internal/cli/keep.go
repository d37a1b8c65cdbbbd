package cli

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"aditus/internal/config"
	"aditus/internal/confine"
	"aditus/internal/ledger"
	"aditus/internal/probe"
	"aditus/internal/target/containers"
	"aditus/internal/target/local"
	"aditus/internal/target/local/keeper"
)

func newKeep() *cobra.Command {
	var folder, users, program string
	var end, stay, asJSON bool
	var within time.Duration
	cmd := &cobra.Command{
		Use:   "keep",
		Short: "Keep the processes of local sites; started by itself where they are needed",
		Long: `Runs the keeper of a data folder: it starts, watches and ends the processes of local
sites, and says to their router where traffic may go. Aditus starts one where it needs it, and tells it
what to run. It goes on when Aditus ends, so that workloads do too, and a new one
takes over what an old one left running. It writes to keeper.log in the data folder.

With --end it has the one that runs end all processes, and leave, once no Aditus works
on the folder; what they left running is killed, and what cannot be ended is named. What runs
at container hosts on other machines is ended too, and the agents there are removed. What is declared comes up again when one is started.

Where the settings give workloads users of their own (instances:), the keeper alone needs privileges, and the
server none: the system runs it then, as the server's user, with --users and --stay, and with the capabilities
SETUID, SETGID, CHOWN, KILL and SYS_PTRACE.`,
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			folder, err := dataFolder(folder)
			if err != nil {
				return err
			}
			if end {
				if running, _ := ledger.InUse(folder); running {
					return fmt.Errorf("an Aditus works on %s and would start all of it again: end that first", folder)
				}
				settings := settingsOf(folder)
				kept, err := local.KeeperOf(folder, settings.Instances)
				if err == nil {
					ctx, cancel := context.WithTimeout(cmd.Context(), within)
					defer cancel()
					err = errors.Join(kept.End(ctx), containers.End(ctx, folder, settings))
				}
				if err != nil {
					return err
				}
				if asJSON {
					return writeLine(cmd.OutOrStdout(), map[string]bool{"ended": true})
				}
				fmt.Fprintln(cmd.OutOrStdout(), "Nothing is kept any more.")
				return nil
			}
			confine.Hide()
			prober := probe.New()
			defer prober.Close()
			router, err := local.RouterOf(folder)
			if err != nil {
				return err
			}
			if program != "" {
				router = append(router, "--program", program)
			}
			return keeper.Run(cmd.Context(), keeper.Options{Folder: folder, Router: router, Users: users, Program: program, Stay: stay, Probe: prober.Ask, Log: slog.New(slog.NewTextHandler(os.Stderr, nil))})
		},
	}
	dataFlag(cmd, &folder)
	jsonFlag(cmd, &asJSON)
	programFlag(cmd, &program)
	cmd.Flags().StringVar(&users, "users", "", "the numbers of the users that processes may run as, such as 700000-700999,999")
	cmd.Flags().BoolVar(&stay, "stay", false, "do not leave when nothing is kept")
	cmd.Flags().BoolVar(&end, "end", false, "end all processes that are kept, and the keeper")
	cmd.Flags().DurationVar(&within, "within", 5*time.Minute, "with --end, how `long` to wait for all of them to end")
	return cmd
}

// settingsOf are a data folder's settings; none where there are none that can be read: what runs can be ended all the same.
func settingsOf(folder string) config.Settings {
	name := filepath.Join(folder, config.FileName)
	text, err := os.ReadFile(name)
	if err != nil {
		return config.Settings{}
	}
	settings, _ := config.Read(name, text)
	return settings
}
