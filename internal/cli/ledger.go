package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"time"

	"github.com/spf13/cobra"

	"aditus/internal/control/api"
	"aditus/internal/ledger"
)

func newLedger() *cobra.Command {
	var r connection
	var newest int
	var follow, asJSON bool
	cmd := &cobra.Command{
		Use:   "ledger [BERTH]",
		Short: "What happened, and why",
		Long: `Prints the newest facts on record, oldest first: of one berth, or of all. With --json
each is a line of JSON (aditus schema fact). With --follow it goes on as facts come,
over a restart of the server too, and loses none.`,
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) > 1 {
				return usageError{errors.New("aditus ledger takes one berth, or none for all")}
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			q := ledger.Query{Newest: newest}
			if len(args) == 1 {
				id, err := parseBerth(args[0])
				if err != nil {
					return err
				}
				q.Berth = id
			}
			out := cmd.OutOrStdout()
			if follow {
				remote, folder, err := r.running()
				if err != nil {
					return err
				}
				if remote == nil {
					return fmt.Errorf("no Aditus runs on %s, so nothing comes: start one with aditus serve", folder)
				}
				return followFacts(cmd, remote, q, func(f ledger.Fact) error { return printFact(out, f, asJSON) })
			}
			c, _, shut, err := r.client(cmd.Context())
			if err != nil {
				return err
			}
			defer shut()
			facts, err := c.Facts(cmd.Context(), q)
			for _, f := range facts {
				if err := printFact(out, f, asJSON); err != nil {
					return err
				}
			}
			return err
		},
	}
	connectionFlags(cmd, &r)
	cmd.Flags().IntVarP(&newest, "newest", "n", 50, "how many facts at most")
	cmd.Flags().BoolVarP(&follow, "follow", "f", false, "go on with new facts as they come")
	cmd.Flags().BoolVar(&asJSON, "json", false, "a JSON object for each fact")
	return cmd
}

// followFacts follows until the command is ended, which is no failure.
func followFacts(cmd *cobra.Command, remote *api.Remote, q ledger.Query, do func(ledger.Fact) error) error {
	err := remote.FollowFacts(cmd.Context(), q, do)
	if cmd.Context().Err() != nil {
		return nil
	}
	return err
}

func printFact(w io.Writer, f ledger.Fact, asJSON bool) error {
	if asJSON {
		return writeLine(w, f)
	}
	_, err := fmt.Fprintf(w, "%s  %s\n", f.At.Local().Format(time.DateOnly), factLine(f))
	return err
}

// writeLine writes a value as one line of JSON.
func writeLine(w io.Writer, value any) error { return json.NewEncoder(w).Encode(value) }
