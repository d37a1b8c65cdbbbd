package cli

import (
	"errors"
	"fmt"
	"io"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"aditus/internal/control/api"
	"aditus/internal/source"
	"aditus/internal/status"
	"aditus/internal/tui/kit"
)

func newTakeOver() *cobra.Command {
	var r connection
	var what status.TakeOver
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "take-over SITE [KIND/NAME...]",
		Short: "Find what runs at a site already, and offer to declare it",
		Long: `Tells what is at a site and nobody put there through Aditus: objects of a cluster's namespace, and
at a local site the processes that listen on this machine. With some named, by KIND/NAME as it tells
them, it offers a workload that is what they are: a declaration, on a branch of its own. Once that is
merged and synced they are taken over as they are, and nothing starts anew. What is secret, and what
something else there looks after, is not. The link must allow it: push: true in settings.yaml.`,
		Example: "  aditus take-over north\n  aditus take-over north Deployment/buoys Service/buoys --as buoys\n  aditus take-over trial process/4711 --as fares",
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 {
				return usageError{errors.New("aditus take-over takes a site, and what is to be taken over there")}
			}
			if (len(args) > 1) != (what.Workload != "") {
				return usageError{errors.New("what is to be taken over needs --as, the name of the workload that it becomes")}
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			remote, err := r.mustRun()
			if err != nil {
				return err
			}
			if what.Site, what.Strays = args[0], args[1:]; len(what.Strays) > 0 {
				return offered(cmd, asJSON, func() (source.Proposal, error) { return remote.TakeOver(cmd.Context(), whoami(fromShell), what) })
			}
			all, err := remote.Strays(cmd.Context(), what.Site)
			if err != nil {
				return err
			}
			if asJSON {
				return writeJSON(cmd.OutOrStdout(), api.Strays{Strays: all})
			}
			return writeStrays(cmd.OutOrStdout(), all)
		},
	}
	connectionFlags(cmd, &r)
	jsonFlag(cmd, &asJSON)
	cmd.Flags().StringVar(&what.Workload, "as", "", "the `workload` that it becomes")
	cmd.Flags().StringVar(&what.Link, "link", "", "the `link` whose repository takes the declaration, where there are several")
	return cmd
}

func writeStrays(w io.Writer, all []status.Stray) error {
	if len(all) == 0 {
		_, err := fmt.Fprintln(w, "nothing was found: all that is there is of Aditus, or of the site itself")
		return err
	}
	table := tabwriter.NewWriter(w, 0, 0, 3, ' ', 0)
	fmt.Fprintln(table, "what\tbelongs with\twhat it is\tstays, as")
	for _, s := range all {
		fmt.Fprintf(table, "%s\t%s\t%s\t%s\n", kit.Plain(s.ID), kit.Plain(s.With), kit.Plain(s.Says), kit.Plain(s.Not))
	}
	if err := table.Flush(); err != nil {
		return err
	}
	for _, s := range all {
		for _, note := range s.Notes {
			if _, err := fmt.Fprintf(w, "%s: %s\n", kit.Plain(s.ID), kit.Plain(note)); err != nil {
				return err
			}
		}
	}
	return nil
}
