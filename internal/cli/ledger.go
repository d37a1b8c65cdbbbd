package cli

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"aditus/internal/control/api"
	"aditus/internal/core/say"
	"aditus/internal/ledger"
	notices "aditus/internal/notify"
	"aditus/internal/tui/kit"
	"aditus/internal/view"
)

func newLedger() *cobra.Command {
	var r connection
	var newest int
	var since string
	var follow, asJSON, wide, asEvents, verify bool
	var noted []string
	cmd := &cobra.Command{
		Use:   "ledger [BERTH]",
		Short: "What happened, and why",
		Long: `Prints the newest facts on record, oldest first: of one berth, or of all. With --since
all that came since a moment, a day, or so long ago; with -n as well, the newest of them. With --json
each is a line of JSON (aditus schema fact); -o wide adds its number, revision, rollout and by whom it is. With --follow it goes on as facts come,
over a restart of the server too, and loses none.

With --verify all facts of the data folder's ledger are looked through: each is chained to the one
before it, so that one that was changed, removed or put there is found. It prints the last one's
number and sum; note that elsewhere, and give it with --noted the next time, so that a chain that was
made anew as a whole is found too. The exit code is 1 where something does not fit.`,
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) > 1 {
				return usageError{errors.New("aditus ledger takes one berth, or none for all")}
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			if verify {
				return verifyLedger(cmd, r, noted, asJSON)
			}
			if len(noted) > 0 {
				return usageError{errors.New("--noted goes with --verify")}
			}
			q := ledger.Query{Newest: newest}
			if since != "" {
				var err error
				if q.Since, err = view.ReadMoment(since, time.Now()); err != nil {
					return usageError{err}
				}
				if !cmd.Flags().Changed("newest") {
					q.Newest = 0
				}
			}
			if len(args) == 1 {
				id, err := parseBerth(args[0])
				if err != nil {
					return err
				}
				q.Berth = id
			}
			out, line := cmd.OutOrStdout(), ""
			if asJSON && asEvents {
				return usageError{errors.New("choose one of --json and --cloudevents")}
			}
			printFact := func(w io.Writer, f ledger.Fact, asJSON bool) error {
				switch {
				case wide:
					return printWide(w, f)
				case !asEvents:
					return printFact(w, f, asJSON)
				}
				e, err := notices.Event(line, f)
				if err != nil {
					return err
				}
				return writeLine(w, e)
			}
			if follow {
				remote, folder, err := r.running()
				if err != nil {
					return err
				}
				if remote == nil {
					return fmt.Errorf("no Aditus runs on %s, so nothing comes: start one with aditus serve", folder)
				}
				if asEvents {
					now, err := remote.Renew(cmd.Context())
					if err != nil {
						return err
					}
					line = now.Line
				}
				return followFacts(cmd, remote, q, func(f ledger.Fact) error { return printFact(out, f, asJSON) })
			}
			c, _, shut, err := r.client(cmd.Context())
			if err != nil {
				return err
			}
			defer shut()
			line = c.Snapshot(cmd.Context()).Line
			lines := bufio.NewWriter(out)
			err = ledger.Page(q, func(q ledger.Query) ([]ledger.Fact, error) { return c.Facts(cmd.Context(), q) }, func(f ledger.Fact) error { return printFact(lines, f, asJSON) })
			return errors.Join(err, lines.Flush())
		},
	}
	connectionFlags(cmd, &r)
	cmd.Flags().IntVarP(&newest, "newest", "n", 50, "how many facts at most")
	cmd.Flags().StringVar(&since, "since", "", "from then on: 2h or 3d ago, 2026-11-26, or 2026-11-26T08:00:00Z")
	cmd.Flags().BoolVarP(&follow, "follow", "f", false, "go on with new facts as they come")
	outputFlag(cmd, &asJSON, &wide)
	cmd.Flags().BoolVar(&asEvents, "cloudevents", false, "an event of CloudEvents 1.0 for each fact, as a line of JSON")
	cmd.Flags().BoolVar(&verify, "verify", false, "look whether all facts are as they were written")
	cmd.Flags().StringArrayVar(&noted, "noted", nil, "with --verify: a `head` that it printed before, NUMBER:SUM; may stand several times")
	return cmd
}

// verifyLedger looks through all facts on record.
func verifyLedger(cmd *cobra.Command, r connection, noted []string, asJSON bool) error {
	var heads []ledger.Head
	for _, text := range noted {
		number, sum, _ := strings.Cut(text, ":")
		seq, err := strconv.ParseInt(number, 10, 64)
		if err != nil || len(sum) != 64 {
			return usageError{fmt.Errorf("--noted takes NUMBER:SUM as --verify prints it, not %q", text)}
		}
		heads = append(heads, ledger.Head{Seq: seq, Chain: sum})
	}
	if r.server != "" {
		return usageError{errors.New("--verify reads the ledger itself: run it where that is")}
	}
	folder, err := dataFolder(r.data)
	if err != nil {
		return err
	}
	book, err := openRecord(folder)
	if err != nil {
		return err
	}
	defer book.Close()
	v, err := book.Verify(cmd.Context(), heads...)
	if err != nil {
		return fmt.Errorf("the ledger %s: %w", book.Place(), err)
	}
	if asJSON {
		return writeLine(cmd.OutOrStdout(), v)
	}
	fmt.Fprintf(cmd.OutOrStdout(), "All %d facts are as they were written.\n", v.Facts)
	if v.Older > 0 {
		fmt.Fprintf(cmd.OutOrStdout(), "%d before them are of a version that did not chain them, and cannot be verified.\n", v.Older)
	}
	if v.Facts > 0 {
		fmt.Fprintf(cmd.OutOrStdout(), "the last one, to be noted elsewhere: %d:%s\n", v.Head.Seq, v.Head.Chain)
	}
	return nil
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
	_, err := fmt.Fprintf(w, "%s  %s\n", f.At.Local().Format(time.DateOnly), factLine(f, time.Local))
	return err
}

// printWide prints a fact with its number, its moment in UTC, its revision and rollout, and by whom it is.
func printWide(w io.Writer, f ledger.Fact) error {
	rollout, revision := "-", "-"
	if f.Rollout != 0 {
		rollout = fmt.Sprint(f.Rollout)
	}
	if f.Revision != "" {
		revision = f.Revision.Short()
	}
	at := "-"
	if f.Workload+f.Site != "" {
		at = f.Berth().String()
	}
	_, err := fmt.Fprintf(w, "%8d  %s  %-24s  %-12s  %-7s  %5s  %-12s  %s\n", f.Seq, f.At.UTC().Format("2006-01-02T15:04:05.000Z"), kit.Plain(at), kit.Plain(string(f.Kind)), kit.Plain(revision), rollout, kit.Plain(f.By), kit.Plain(f.Text))
	return err
}

// writeLine writes a value as one line of JSON.
func writeLine(w io.Writer, value any) error {
	text, err := json.Marshal(value)
	if err == nil {
		_, err = w.Write(append(say.JSON(text), '\n'))
	}
	return err
}
