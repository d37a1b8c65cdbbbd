package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"aditus/internal/control"
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
	var r connection
	var scopes []string
	var like api.Token
	var lasts time.Duration
	cmd := &cobra.Command{
		Use:   "add NAME",
		Short: "Make a token, which is shown this once",
		Long: `Makes a token and prints it; only its hash is kept. Its orders are given in its name,
and a running server knows it at once. Scopes:

  look         see what there is
  sync         sync, advance, hold, go on, roll back, abandon
  sign off     give a stage its sign-off
  lock         lock and unlock
  override     pass over what the line's rules put in the way (sync has it)
  remove data  what volumes hold
  change       lift bars, links, offers on branches, ends of life, lock, remove data

With --workload, --site and --team they hold there alone, and nothing else is seen.
With --owner its orders are given in that person's name, and the line's teams say what
that one may; a program's own token is of a team by its name.`,

		Example: "  aditus token add pipeline --scope sync --lasts 2160h\n  aditus token add maren-phone --owner 'Maren Oake' --scope sync --scope 'sign off'\n  aditus token add fares-build --scope sync --workload 'fares*' --site drydock",
		Args:    oneArg("name"),
		RunE: func(cmd *cobra.Command, args []string) error {
			tokens, err := r.tokens(cmd.Context())
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
			like.Name, like.Scopes, like.Expires = args[0], own, expires
			token, err := tokens.Make(like)
			if err != nil {
				return err
			}
			fmt.Fprintln(cmd.OutOrStdout(), token)
			return nil
		},
	}
	connectionFlags(cmd, &r)
	cmd.Flags().StringSliceVar(&scopes, "scope", []string{"look"}, "what its bearer may do: look, sync, sign-off, lock, override, remove-data or change; several with commas, or given several times")
	cmd.Flags().StringVar(&like.Owner, "owner", "", "in whose `NAME` its orders are given (default: in its own)")
	cmd.Flags().StringSliceVar(&like.Workloads, "workload", nil, "only for workloads of this `NAME`, in which * stands for any text; may be given several times")
	cmd.Flags().StringSliceVar(&like.Sites, "site", nil, "only at sites of this `NAME`, likewise")
	cmd.Flags().StringSliceVar(&like.Teams, "team", nil, "only at sites of this `TEAM`")
	cmd.Flags().DurationVar(&lasts, "lasts", 0, "how long it is good for (default: until it is removed)")
	return cmd
}

// allTokens are those, of the server that is meant or of the data folder.
func (r connection) allTokens(ctx context.Context) ([]control.TokenShown, error) {
	remote, err := r.far()
	if err != nil {
		return nil, err
	}
	if remote != nil {
		return remote.Tokens(ctx, whoami(fromShell))
	}
	folder, err := dataFolder(r.data)
	if err != nil {
		return nil, err
	}
	return api.OpenTokens(folder).Shown()
}

func newTokenList() *cobra.Command {
	var r connection
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "list",
		Short: "All tokens, without what is secret of them",
		Args:  noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			all, err := r.allTokens(cmd.Context())
			if err != nil {
				return err
			}
			if asJSON {
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
				where := strings.Join(slices.Concat(t.Workloads, t.Sites, t.Teams), ", ")
				if where != "" {
					where = "only for " + where
				}
				last := "not used yet"
				if at := t.Used; !at.IsZero() {
					last = "used " + at.Local().Format("2 Jan 2006 15:04")
				}
				fmt.Fprintf(table, "%s\t%s\t%s\t%s\tmade %s\t%s\t%s\n", t.Name, t.Owner, strings.Join(words, ", "), where, t.Made.Local().Format("2 Jan 2006"), until, last)
			}
			return table.Flush()
		},
	}
	connectionFlags(cmd, &r)
	jsonFlag(cmd, &asJSON)
	return cmd
}

func newTokenRemove() *cobra.Command {
	var r connection
	cmd := &cobra.Command{
		Use:   "remove TOKEN",
		Short: "Make a token good for nothing, at once",
		Args:  oneArg("name"),
		RunE: func(cmd *cobra.Command, args []string) error {
			tokens, err := r.tokens(cmd.Context())
			if err != nil {
				return err
			}
			return tokens.Remove(args[0])
		},
	}
	connectionFlags(cmd, &r)
	return cmd
}

// tokens are those of a data folder, or of a server far away.
type tokens interface {
	Make(like api.Token) (string, error)
	Remove(name string) error
}

// tokens gives what makes and removes tokens where it is meant.
func (r connection) tokens(ctx context.Context) (tokens, error) {
	remote, err := r.far()
	if err != nil {
		return nil, err
	}
	if remote != nil {
		return farTokens{ctx, remote}, nil
	}
	folder, err := dataFolder(r.data)
	if err == nil {
		err = changeable(ctx, folder)
	}
	return api.OpenTokens(folder), err
}

type farTokens struct {
	ctx context.Context
	at  *api.Remote
}

// Make implements tokens.
func (f farTokens) Make(t api.Token) (string, error) {
	return f.at.MakeToken(f.ctx, whoami(fromShell), control.NewToken{Name: t.Name, Owner: t.Owner, Scopes: t.Scopes, Expires: t.Expires, Narrow: t.Narrow})
}

// Remove implements tokens.
func (f farTokens) Remove(name string) error { return f.at.RemoveToken(f.ctx, whoami(fromShell), name) }
