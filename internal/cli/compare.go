package cli

import (
	"errors"
	"fmt"
	"io"
	"slices"

	"github.com/spf13/cobra"

	"aditus/internal/control"
	"aditus/internal/core/compare"
	"aditus/internal/core/declare"
	"aditus/internal/core/say"
	"aditus/internal/engine"
	"aditus/internal/ledger"
	"aditus/internal/tui/kit"
)

func newCompare() *cobra.Command {
	var r reach
	var with, from, to, site, part string
	var asJSON, asPatch, all, exitCode bool
	cmd := &cobra.Command{
		Use:   "compare BERTH",
		Short: "Applied, declared and live, field by field, and what a sync would do",
		Long: `Holds what was put at a berth, what Git declares and what is really there against
each other. Each difference is one of

  pending   Git moved on
  drift     changed at the site
  conflict  both, and not alike
  orphan    live and ours, not declared any more
  mark      live is as declared already; only what is on record changes
  left      changed at the site where the declaration leaves that to others

With --with it is compared with what another branch, tag, commit or revision
declares: a preview, of which nothing is taken. With --from and --to two revisions
are compared; with --site what is declared here and at another site.`,
		Example: `  aditus compare fares/north
  aditus compare fares/north --with preview/new-tariff
  aditus compare fares/north --from 8.1.4 --to 8.2.0
  aditus compare fares/drydock --site north
  aditus compare tides/isles --exit-code >/dev/null || echo it differs`,
		Args: oneArg("berth, written WORKLOAD/SITE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := parseBerth(args[0])
			if err != nil {
				return err
			}
			if (from == "") != (to == "") || from != "" && (with != "" || site != "") || with != "" && site != "" {
				return usageError{errors.New("choose one of --with REF, --site SITE, and --from REVISION --to REVISION")}
			}
			c, err := compareWith(cmd, r, id, with, site, from, to)
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
	reachFlags(cmd, &r)
	flags := cmd.Flags()
	flags.StringVar(&with, "with", "", "a branch, tag, commit or revision to preview, instead of what Git declares")
	flags.StringVar(&site, "site", "", "compare with what is declared at another `site`")
	flags.StringVar(&from, "from", "", "a `revision` on record, by its fingerprint or version")
	flags.StringVar(&to, "to", "", "another `revision`")
	flags.StringVar(&part, "part", "", "only the fields of this `part`")
	flags.BoolVar(&asJSON, "json", false, "as JSON")
	flags.BoolVar(&asPatch, "patch", false, "as a JSON Patch (RFC 6902) that makes live what is declared")
	flags.BoolVar(&all, "all", false, "every field, those that agree too")
	flags.BoolVar(&exitCode, "exit-code", false, "exit with 1 where anything differs")
	return cmd
}

func compareWith(cmd *cobra.Command, r reach, id ledger.Berth, with, site, from, to string) (control.Comparison, error) {
	remote, folder, err := r.running()
	switch {
	case err != nil:
		return control.Comparison{}, err
	case remote != nil && site == "" && from == "":
		return remote.Compare(cmd.Context(), id, with)
	case remote != nil && folder == "":
		return control.Comparison{}, usageError{errors.New("--site, --from and --to are read from a ledger: call this where the data folder is")}
	}
	book, err := ledger.OpenToRead(folder)
	if err != nil {
		return control.Comparison{}, err
	}
	defer book.Close()
	b, err := recordedBerth(book, id)
	if err != nil {
		return control.Comparison{}, err
	}
	revisions, err := book.Revisions()
	if err != nil {
		return control.Comparison{}, err
	}
	switch {
	case from != "":
		a, err := control.FindRevision(revisions, id.Workload, from)
		if err != nil {
			return control.Comparison{}, err
		}
		z, err := control.FindRevision(revisions, id.Workload, to)
		if err != nil {
			return control.Comparison{}, err
		}
		return control.CompareTwo(id, a.Version+" "+a.Fingerprint.Short(), z.Version+" "+z.Fingerprint.Short(), a.Desired, z.Desired), nil
	case site != "":
		other, err := recordedBerth(book, ledger.Berth{Workload: id.Workload, Site: site})
		if err != nil {
			return control.Comparison{}, err
		}
		declaredOf := func(b engine.Berth) (*declare.Desired, error) {
			if b.Declared == nil {
				return nil, fmt.Errorf("nothing is declared for %s", b.Berth)
			}
			r, err := book.Revision(id.Workload, b.Declared.Fingerprint)
			if err != nil {
				return nil, err
			}
			return r.Desired, nil
		}
		here, err1 := declaredOf(b)
		there, err2 := declaredOf(other)
		if err := errors.Join(err1, err2); err != nil {
			return control.Comparison{}, err
		}
		return control.CompareTwo(id, id.Site, site, here, there), nil
	}
	if isDemo(folder) { // its sites are only there while it runs
		fmt.Fprintln(cmd.ErrOrStderr(), howFresh(folder))
		return compareAsSeen(cmd, nil, book, revisions, b, with)
	}
	s, err := openStation(folder, nil, nil)
	if err != nil {
		return control.Comparison{}, err
	}
	defer s.Close()
	if b, err = s.Glance(cmd.Context(), id); err != nil {
		return control.Comparison{}, err
	}
	fmt.Fprintf(cmd.ErrOrStderr(), "No Aditus works on %s now: the site is told as it is, Git as it was read last.\n", folder)
	return compareAsSeen(cmd, s, book, revisions, b, with)
}

// compareAsSeen compares a berth as it was seen, with another ref where that is not empty. s reads branches; nil where
// that cannot be.
func compareAsSeen(cmd *cobra.Command, s *station, book *ledger.Ledger, revisions []ledger.Revision, b engine.Berth, with string) (control.Comparison, error) {
	if with == "" {
		return control.NewComparison(book, b, nil)
	}
	r, err := control.FindRevision(revisions, b.Workload, with)
	if err == nil || s == nil {
		if err != nil {
			return control.Comparison{}, fmt.Errorf("%w; branches of the demo are read while it runs", err)
		}
		return control.NewComparison(book, b, r)
	}
	desired, commit, err := s.Preview(cmd.Context(), b.Berth, with)
	if err != nil {
		return control.Comparison{}, fmt.Errorf("compare %s with %s: %w", b.Berth, with, err)
	}
	return control.NewComparison(book, b, control.PreviewRevision(b.Berth, desired, commit))
}

// recordedBerth gives a berth as it was seen last.
func recordedBerth(book *ledger.Ledger, id ledger.Berth) (engine.Berth, error) {
	s, err := control.Recorded(book)
	if err != nil {
		return engine.Berth{}, err
	}
	b, ok := s.Find(id)
	if !ok {
		return b, fmt.Errorf("there is no berth %s; %s", id, nearBerths(s, id))
	}
	return b, nil
}

func printComparison(w io.Writer, c control.Comparison, all bool) {
	if c.Two {
		fmt.Fprintf(w, "%s: from %s to %s\n", c.Berth, c.Applied, c.Declared)
	} else {
		fmt.Fprintf(w, "%s: %s\n  applied   %s\n  declared  %s\n  live      %s\n", c.Berth, c.Stand, orDash(c.Applied), orDash(c.Declared), c.Live)
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
			fmt.Fprintf(w, "  %-8s  %s\n", name, kit.Plain(control.Value(value)))
		}
		if c.Two {
			show("from", d.Applied)
			show("to", d.Declared)
			continue
		}
		show("applied", d.Applied)
		show("declared", d.Declared)
		show("live", d.Live)
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
