package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"aditus/internal/control"
	"aditus/internal/core/berth"
	"aditus/internal/core/say"
	"aditus/internal/ledger"
	"aditus/internal/status"
	"aditus/internal/tui/kit"
	"aditus/internal/words"
)

func newStatus() *cobra.Command {
	var r connection
	var asJSON, wide bool
	cmd := &cobra.Command{
		Use:   "status",
		Short: "What needs a person, and how every berth stands",
		Long: `Tells what the board shows: what needs a person, the most urgent first, and a line
for each berth: of the Aditus that runs, or as the last one left it.

With --json the whole snapshot is printed; docs/ledger.md describes it.`,
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, fresh, err := r.picture(cmd.Context())
			if err != nil {
				return err
			}
			if asJSON {
				return writeJSON(cmd.OutOrStdout(), s)
			}
			if err := printStatus(cmd.OutOrStdout(), s, wide); err != nil {
				return err
			}
			if fresh != "" {
				fmt.Fprintf(cmd.OutOrStdout(), "\n%s\n", fresh)
			}
			return nil
		},
	}
	connectionFlags(cmd, &r)
	outputFlag(cmd, &asJSON, &wide)
	return cmd
}

// picture is what is known now, and a word on how fresh that is. One that runs and does not answer is told from its record.
func (r connection) picture(ctx context.Context) (status.Snapshot, string, error) {
	remote, folder, err := r.running()
	if err != nil {
		return status.Snapshot{}, "", err
	}
	if remote != nil {
		ctx, cancel := context.WithTimeout(ctx, pictureWait)
		defer cancel()
		s, err := remote.Renew(ctx)
		if err == nil && folder != "" {
			return s, howFresh(folder, s), nil
		}
		if err == nil || folder == "" {
			return s, "", err
		}
	}
	book, err := openRecord(folder)
	if err != nil {
		return status.Snapshot{}, "", err
	}
	defer book.Close()
	s, err := control.Recorded(book)
	return s, howFresh(folder, s), err
}

// pictureWait is how long a running Aditus may take to tell what it knows, before its record is read instead.
const pictureWait = 5 * time.Second

// silentAfter is how long a running Aditus may go without writing to its ledger before that is told.
const silentAfter = 30 * time.Second

// howFresh tells whether the picture is being renewed.
func howFresh(folder string, s status.Snapshot) string {
	running, wrote := ledger.InUse(folder)
	age := time.Since(wrote)
	switch leader := s.Leader; {
	case !running:
		return notRunning(folder)
	case leader != nil && leader.Here:
		return "Aditus works on " + folder + " now, and leads."
	case leader != nil:
		return fmt.Sprintf("Aditus stands by on %s now: %s leads%s.", folder, cmp.Or(leader.Name, "another server"), at(leader.Address))
	case age > silentAfter && !wrote.IsZero():
		return fmt.Sprintf("Aditus works on %s but could not write to its ledger for %s: this picture is old. See its screen; the disk may be full.", folder, say.Span(age))
	}
	return "Aditus works on " + folder + " now."
}

// notRunning tells that what is told is only what is on record.
func notRunning(folder string) string {
	if s, err := readSettings(folder); err == nil && s.Ledger != "" {
		return "No Aditus works on " + folder + " now: this is what is on record, and another server may lead."
	}
	return "No Aditus works on " + folder + " now: this is how it was left."
}

func at(address string) string {
	if address == "" {
		return ""
	}
	return ", at " + address
}

func printStatus(w io.Writer, s status.Snapshot, wide bool) error {
	c := words.Count(s)
	absent := ""
	if c.Absent > 0 {
		absent = fmt.Sprintf(", %d absent", c.Absent)
	}
	fmt.Fprintf(w, "%s: %d need you, %d moving, %d steady%s, as of %s\n", kit.Plain(s.Line), c.Need, c.Moving, c.Steady, absent, s.Now.Local().Format("2 Jan 2006 15:04:05"))
	if needs := words.Related(words.Needs(s)); len(needs) > 0 {
		fmt.Fprintln(w, "\nneeds you")
		for _, n := range needs {
			fmt.Fprintf(w, "  %s: %s\n", kit.Plain(n.About), kit.Plain(n.Text))
		}
	}
	for _, l := range s.Links {
		fmt.Fprintf(w, "\nlink %s: %s\n", l.Name, kit.Plain(words.LinkLine(l, s.Now)))
		for _, wrong := range l.Wrong {
			fmt.Fprintf(w, "  %s\n", kit.Plain(wrong))
		}
	}
	fmt.Fprintln(w)
	table := tabwriter.NewWriter(w, 0, 0, 3, ' ', 0)
	titles := "berth\tversion\tstand\thealth\tdoing"
	if wide {
		titles = "berth\tversion\trevision\tapplied\tproven\tdeclared\tlink\tstand\thealth\tsince\tdoing"
	}
	fmt.Fprintln(table, titles)
	for _, b := range s.Berths {
		cell := words.CellOf(b)
		version := cell.Version
		if cell.Coming != "" {
			version += " → " + cell.Coming + " " + say.Share(cell.Share)
		}
		doing, _ := words.Headline(b, s.Now)
		health := string(b.Health.Word)
		if b.Health.Wanted+b.Health.Total == 0 {
			health = words.Health(b.Health) // nothing is there
		}
		if wide {
			moment := func(t time.Time) string {
				if t.IsZero() {
					return "-"
				}
				return t.UTC().Format(time.RFC3339)
			}
			short := func(r *berth.Revision, of func(*berth.Revision) string) string {
				if r == nil {
					return "-"
				}
				return cmp.Or(kit.Plain(of(r)), "-")
			}
			fingerprint := func(r *berth.Revision) string { return r.Fingerprint.Short() }
			declared := func(r *berth.Revision) string { return r.Version + " " + r.Fingerprint.Short() }
			fmt.Fprintf(table, "%s\t%s\t%s\t%s\t%s\t%s\t%s\t%s\t%s\t%s\t%s\n", b.ID, kit.Plain(version), short(b.Applied, fingerprint), moment(b.AppliedAt), moment(b.ProvenAt),
				short(b.Declared, declared), cmp.Or(b.Link, "-"), b.SyncStatus, health, moment(b.HealthSince), kit.Plain(doing))
			continue
		}
		fmt.Fprintf(table, "%s\t%s\t%s\t%s\t%s\n", b.ID, kit.Plain(version), b.SyncStatus, health, kit.Plain(doing))
	}
	return table.Flush()
}

// factLine is a fact as one line for a person, with its time of the day.
func factLine(f ledger.Fact, in *time.Location) string {
	return fmt.Sprintf("%s  %-18s  %-12s  %s", f.At.In(in).Format(time.TimeOnly), strings.Trim(f.Workload+"/"+f.Site, "/"), f.Kind, kit.Plain(f.Text))
}
