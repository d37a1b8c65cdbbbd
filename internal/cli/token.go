package cli

import (
	"fmt"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"aditus/internal/control/api"
	"aditus/internal/core/policy"
)

func newToken() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "token",
		Short: "Tokens for those who ask over TCP",
		Args:  noArgs,
		RunE:  func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(newTokenAdd(), newTokenList(), newTokenRemove())
	return cmd
}

func newTokenAdd() *cobra.Command {
	var folder string
	var scopes []string
	var lasts time.Duration
	cmd := &cobra.Command{
		Use:   "add NAME",
		Short: "Make a token, which is shown this once",
		Long: `Makes a token and prints it; only its hash is kept. Its orders are given in its name,
and a running server knows it at once. Scopes:

  look      see all that there is
  sync      sync, advance, hold, go on, roll back, abandon
  sign off  give a stage its sign-off
  change    lock and unlock, lift bars, links, offers on branches`,
		Example: "  aditus token add pipeline --scope sync --lasts 2160h\n  aditus token add maren --scope sync --scope 'sign off'",
		Args:    oneArg("name"),
		RunE: func(cmd *cobra.Command, args []string) error {
			folder, err := dataFolder(folder)
			if err == nil {
				err = changeable(cmd.Context(), folder)
			}
			if err != nil {
				return err
			}
			var own []policy.Scope
			for _, s := range scopes {
				own = append(own, policy.Scope(strings.ReplaceAll(s, "-", " ")))
			}
			var expires time.Time
			if lasts > 0 {
				expires = time.Now().Add(lasts).UTC().Truncate(time.Second)
			}
			token, err := api.OpenTokens(folder).Add(args[0], own, expires)
			if err != nil {
				return err
			}
			fmt.Fprintln(cmd.OutOrStdout(), token)
			return nil
		},
	}
	dataFlag(cmd, &folder)
	cmd.Flags().StringArrayVar(&scopes, "scope", []string{"look"}, "what its bearer may do: look, sync, sign-off or change; may be given several times")
	cmd.Flags().DurationVar(&lasts, "lasts", 0, "how long it is good for (default: until it is removed)")
	return cmd
}

func newTokenList() *cobra.Command {
	var folder string
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "list",
		Short: "All tokens, without what is secret of them",
		Args:  noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			folder, err := dataFolder(folder)
			if err != nil {
				return err
			}
			all, err := api.OpenTokens(folder).List()
			if err != nil {
				return err
			}
			if asJSON {
				for i := range all {
					all[i].Hash = ""
				}
				return writeJSON(cmd.OutOrStdout(), all)
			}
			table := tabwriter.NewWriter(cmd.OutOrStdout(), 0, 0, 3, ' ', 0)
			for _, t := range all {
				words := make([]string, len(t.Scopes))
				for i, s := range t.Scopes {
					words[i] = string(s)
				}
				until := "until it is removed"
				if !t.Expires.IsZero() {
					until = "until " + t.Expires.Local().Format("2 Jan 2006 15:04")
				}
				fmt.Fprintf(table, "%s\t%s\tmade %s\t%s\n", t.Name, strings.Join(words, ", "), t.Made.Local().Format("2 Jan 2006"), until)
			}
			return table.Flush()
		},
	}
	dataFlag(cmd, &folder)
	jsonFlag(cmd, &asJSON)
	return cmd
}

func newTokenRemove() *cobra.Command {
	var folder string
	cmd := &cobra.Command{
		Use:   "remove NAME",
		Short: "Make a token good for nothing, at once",
		Args:  oneArg("name"),
		RunE: func(cmd *cobra.Command, args []string) error {
			folder, err := dataFolder(folder)
			if err == nil {
				err = changeable(cmd.Context(), folder)
			}
			if err != nil {
				return err
			}
			return api.OpenTokens(folder).Remove(args[0])
		},
	}
	dataFlag(cmd, &folder)
	return cmd
}
