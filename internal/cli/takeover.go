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
		Long: `Tells what is at a site and nobody put there through Aditus. With objects named, by KIND/NAME as it
tells them, it offers a workload that is what they are: a declaration, on a branch of its own. Once
that is merged and synced they are marked as they are, and nothing starts anew. What is secret, and
what something else there has made, is not taken over. The link must allow it: push: true in
settings.yaml.`,
		Example: "  aditus take-over north\n  aditus take-over north Deployment/buoys Service/buoys --as buoys",
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
		_, err := fmt.Fprintln(w, "nothing was found: all that is there is of Aditus, or of the cluster itself")
		return err
	}
	table := tabwriter.NewWriter(w, 0, 0, 3, ' ', 0)
	fmt.Fprintln(table, "object\tbelongs with\twhat it is\tstays, as")
	for _, s := range all {
		fmt.Fprintf(table, "%s\t%s\t%s\t%s\n", kit.Plain(s.ID), kit.Plain(s.With), kit.Plain(s.Says), kit.Plain(s.Not))
	}
	return table.Flush()
}
