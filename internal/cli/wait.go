package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"aditus/internal/core/compare"
	"aditus/internal/core/health"
	"aditus/internal/core/rollout"
	"aditus/internal/status"
	"aditus/internal/words"
)

// waits are what can be waited for, and when it has come. Where it can come no more, failed says why.
var waits = map[string]func(b status.Berth) (come bool, failed string){
	"proven": func(b status.Berth) (bool, string) {
		if b.Bar != nil && b.Rollout == nil {
			return false, "rolled back: " + b.Bar.Why
		}
		return b.Declared != nil && b.Applied != nil && b.Declared.Fingerprint == b.Applied.Fingerprint && (b.Rollout == nil || b.Keeps()), ""
	},
	"aligned": func(b status.Berth) (bool, string) { return b.SyncStatus == compare.Aligned && b.Rollout == nil, "" },
	"healthy": func(b status.Berth) (bool, string) { return b.Health.Word == health.Healthy, "" },
	"steady":  func(b status.Berth) (bool, string) { return b.Rollout == nil || b.Keeps(), "" },
	"waiting": func(b status.Berth) (bool, string) {
		return b.Rollout != nil && b.Rollout.Phase == rollout.Waiting, ""
	},
	"rolled back": func(b status.Berth) (bool, string) { return b.Bar != nil && b.Rollout == nil, "" },
}

func waitNames() []string {
	var names []string
	for name := range waits {
		names = append(names, strings.ReplaceAll(name, " ", "-"))
	}
	slices.Sort(names)
	return names
}

func newWait() *cobra.Command {
	var r connection
	var what string
	var timeout time.Duration
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "wait BERTH --for proven",
		Short: "Wait until a berth has come to something",
		Long: `Waits until a berth is

  proven       what Git declares is there, and its guards held to the end
  aligned      applied, declared and live agree
  healthy      all instances are
  steady       no rollout is under way
  waiting      a stage waits for a sign-off
  rolled-back  what Git declares was rolled back

The exit code is 1 where that does not come in time, or can come no more: a revision
that was rolled back is not proven.`,
		Example: "  aditus wait fares/north --for proven --timeout 10m",
		Args:    oneArg("berth, written WORKLOAD/SITE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := parseBerth(args[0])
			if err != nil {
				return err
			}
			is := waits[strings.ReplaceAll(what, "-", " ")]
			if is == nil {
				return usageError{fmt.Errorf("nothing is called %q; wait for %s", what, strings.Join(waitNames(), ", "))}
			}
			remote, folder, err := r.running()
			if err != nil {
				return err
			}
			if remote == nil {
				return fmt.Errorf("no Aditus runs on %s, so nothing moves: start one with aditus serve", folder)
			}
			ctx, cancel := context.WithTimeout(cmd.Context(), timeout)
			defer cancel()
			failed := ""
			b, err := waitFor(ctx, func() (status.Snapshot, error) { return remote.Renew(ctx) }, id, func(b status.Berth) bool {
				come := false
				come, failed = is(b)
				return come || failed != ""
			})
			if errors.Is(err, context.DeadlineExceeded) || errors.Is(ctx.Err(), context.DeadlineExceeded) {
				text, _ := words.Headline(b, time.Now())
				printBerth(cmd.OutOrStdout(), id, asJSON, fmt.Sprintf("not %s within %s: %s", what, timeout, text))
				return errWrong
			}
			if err != nil {
				return err
			}
			if failed != "" {
				printBerth(cmd.OutOrStdout(), id, asJSON, failed)
				return errWrong
			}
			printBerth(cmd.OutOrStdout(), id, asJSON, what)
			return nil
		},
	}
	connectionFlags(cmd, &r)
	cmd.Flags().StringVar(&what, "for", "proven", "what to wait for: "+strings.Join(waitNames(), ", "))
	cmd.Flags().DurationVar(&timeout, "timeout", 10*time.Minute, "how long at most")
	jsonFlag(cmd, &asJSON)
	cmd.RegisterFlagCompletionFunc("for", cobra.FixedCompletions(waitNames(), cobra.ShellCompDirectiveNoFileComp))
	return cmd
}
