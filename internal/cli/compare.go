package cli

import (
	"errors"
	"fmt"
	"io"
	"slices"

	"github.com/spf13/cobra"

	"aditus/internal/control"
	"aditus/internal/core/berth"
	"aditus/internal/core/compare"
	"aditus/internal/core/say"
	"aditus/internal/target"
	"aditus/internal/tui/kit"
	"aditus/internal/view"
)

func newCompare() *cobra.Command {
	var r connection
	var against view.Against
	var part string
	var asJSON, asPatch, all, exitCode bool
	var whole reviewOptions
	cmd := &cobra.Command{
		Use:   "compare [BERTH]",
		Short: "Applied, declared and live, field by field, and what a sync would do",
		Long: `Holds what was put at a berth, what Git declares and what is really there against
each other. Each difference is one of

  pending   Git moved on
  drift     changed at the site
  conflict  both, and not alike
  orphan    live and ours, not declared any more
  mark      live is as declared already; only what is on record changes
  left      changed at the site where the declaration leaves that to others

Without a berth, --all --with REF tells what a proposed change would do at every site,
which sign-offs, consent and windows it would meet on its way, and what could not be
undone.

With --with it is compared with what another branch, tag, commit or revision
declares: a preview, of which nothing is taken. With --from and --to two revisions
are compared; with --site what is declared here and at another site.`,
		Example: `  aditus compare fares/north
  aditus compare fares/north --with preview/new-tariff
  aditus compare fares/north --from 8.1.4 --to 8.2.0
  aditus compare fares/drydock --site north
  aditus compare tides/isles --exit-code >/dev/null || echo it differs
  aditus compare --all --with new-tariff --markdown`,
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) > 1 {
				return usageError{errors.New("aditus compare takes one berth, or none with --all; see aditus compare --help")}
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 {
				whole.ref, whole.json, whole.exitCode = against.Ref, asJSON, exitCode
				return runReview(cmd, r, all, whole)
			}
			if whole.markdown || whole.keep || whole.kept != 0 {
				return usageError{errors.New("--markdown, --keep and --kept are for all berths: name none, and write --all --with REF")}
			}
			id, err := parseBerth(args[0])
			if err != nil {
				return err
			}
			if against.Check() != nil {
				return usageError{errors.New("choose one of --with REF, --site SITE, and --from REVISION --to REVISION")}
			}
			c, err := compareAt(cmd, r, id, against)
			if err != nil {
				return err
			}
			if part != "" {
				c.Fields = slices.DeleteFunc(c.Fields, func(d compare.Difference) bool { return d.Part() != part })
			}
			out := cmd.OutOrStdout()
			switch {
			case asPatch && c.Patch == nil:
				err = writeJSON(out, []int{})
			case asPatch:
				err = writeJSON(out, c.Patch)
			case asJSON:
				if !all {
					c.Fields = slices.DeleteFunc(c.Fields, func(d compare.Difference) bool { return d.Kind == compare.Same })
				}
				err = writeJSON(out, c)
			default:
				printComparison(out, c, all)
			}
			if err == nil && exitCode && c.Differs() {
				return errWrong
			}
			return err
		},
	}
	connectionFlags(cmd, &r)
	flags := cmd.Flags()
	flags.StringVar(&against.Ref, "with", "", "a branch, tag, commit or revision to preview, instead of what Git declares")
	flags.StringVar(&against.Site, "site", "", "compare with what is declared at another `site`")
	flags.StringVar(&against.From, "from", "", "a `revision` on record, by its fingerprint or version")
	flags.StringVar(&against.To, "to", "", "another `revision`")
	flags.StringVar(&part, "part", "", "only the fields of this `part`")
	jsonFlag(cmd, &asJSON)
	flags.BoolVar(&asPatch, "patch", false, "as a JSON Patch (RFC 6902) that makes live what is declared")
	flags.BoolVar(&all, "all", false, "every field, those that agree too; without a berth, every berth that --with would change")
	flags.BoolVar(&whole.markdown, "markdown", false, "with --all --with: as Markdown, to be posted where the change is reviewed")
	flags.BoolVar(&whole.keep, "keep", false, "with --all --with: put it on record")
	flags.Int64Var(&whole.kept, "kept", 0, "one that was kept, by the `number` of its fact")
	flags.BoolVar(&exitCode, "exit-code", false, "exit with 1 where anything differs")
	return cmd
}

// compareAt compares a berth: by the Aditus that runs, or, where none does, the site as it is with what was read of Git.
func compareAt(cmd *cobra.Command, r connection, id berth.ID, against view.Against) (view.Comparison, error) {
	remote, folder, err := r.running()
	switch {
	case err != nil:
		return view.Comparison{}, err
	case remote != nil:
		return remote.Compare(cmd.Context(), id, against)
	case isDemo(folder), against.Site != "", against.From != "": // the demo's sites are only there while it runs
		record, note, shut, err := r.client(cmd.Context())
		if err != nil {
			return view.Comparison{}, err
		}
		defer shut()
		if _, err := berthOf(cmd.Context(), record, id); err != nil {
			return view.Comparison{}, err
		}
		fmt.Fprintln(cmd.ErrOrStderr(), note)
		return record.Compare(cmd.Context(), id, against)
	}
	s, err := openLocal(cmd.Context(), folder, localOptions{readOnly: true})
	if err != nil {
		return view.Comparison{}, err
	}
	defer s.Close()
	seen := "is"
	b, err := s.Glance(cmd.Context(), id)
	if errors.Is(err, target.ErrUnreachable) {
		fmt.Fprintln(cmd.ErrOrStderr(), kit.Plain(say.Sentence(err.Error())))
		seen = "was seen last"
		record, err := control.OpenRecord(s.Ledger)
		if err != nil {
			return view.Comparison{}, err
		}
		if b, err = berthOf(cmd.Context(), record, id); err != nil {
			return view.Comparison{}, err
		}
	} else if err != nil {
		return view.Comparison{}, err
	}
	fmt.Fprintf(cmd.ErrOrStderr(), "No Aditus works on %s now: the site is told as it %s, Git as it was read last.\n", folder, seen)
	return view.CompareAgainst(cmd.Context(), s.Ledger, s.Snapshot(cmd.Context()), b, against, s.Preview)
}

func printComparison(w io.Writer, c view.Comparison, all bool) {
	if c.Two {
		fmt.Fprintf(w, "%s: from %s to %s\n", c.Berth, c.Applied, c.Declared)
	} else {
		fmt.Fprintf(w, "%s: %s\n  applied   %s\n  declared  %s\n  live      %s\n", c.Berth, c.SyncStatus, orDash(c.Applied), orDash(c.Declared), c.Live)
	}
	for _, d := range c.Fields {
		if d.Kind == compare.Same && !all {
			continue
		}
		kind := string(d.Kind)
		if kind == "" {
			kind = "agrees"
		}
		fmt.Fprintf(w, "\n%-8s  %s\n", kind, kit.Plain(d.Pointer))
		show := func(name string, value any) {
			fmt.Fprintf(w, "  %-8s  %s\n", name, kit.Plain(view.Value(value)))
		}
		if c.Two {
			show("from", d.Applied)
			show("to", d.Declared)
			continue
		}
		show("applied", d.Applied)
		show("declared", d.Declared)
		show("live", d.Live)
		if d.Owner != "" {
			fmt.Fprintf(w, "  %-8s  %s\n", "set by", kit.Plain(d.Owner))
		}
	}
	if c.Two {
		return
	}
	fmt.Fprintln(w, "\na sync")
	for _, text := range c.Does {
		fmt.Fprintf(w, "  %s\n", kit.Plain(say.Sentence(text)))
	}
	for _, text := range c.Undoes {
		fmt.Fprintf(w, "  overwrites: %s\n", kit.Plain(say.Sentence(text)))
	}
}

func orDash(text string) string {
	if text == "" {
		return "nothing"
	}
	return kit.Plain(text)
}
