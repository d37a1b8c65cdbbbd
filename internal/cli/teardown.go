package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"aditus/internal/core/berth"
	"aditus/internal/core/say"
	"aditus/internal/status"
	"aditus/internal/tui/kit"
	"aditus/internal/words"
)

func newTearDown() *cobra.Command {
	var r connection
	var message, site string
	var parts []string
	var volumes, dry, yes, asJSON bool
	cmd := &cobra.Command{
		Use:   "tear-down [BERTH]",
		Short: "Take a berth, or parts of it, away from its site",
		Long: `Take all of a berth away from its site, with --part only parts of it, or with --site all berths of a
site. Its traffic ends first, then all that runs stops, then what is left is removed. What its volumes
hold stays unless --remove-volumes says otherwise. It comes again when somebody syncs. With --dry-run
it only tells what would go and what would stay. On a terminal the name of the part, the workload or
the site is to be typed before anything is done, unless --yes says that it was meant.`,
		Example: "  aditus tear-down piers/isles --dry-run\n  aditus tear-down piers/isles -m 'the trial is over'\n  aditus tear-down piers/isles --part lamps -m 'they are sold'\n  aditus tear-down --site isles -m 'the machine goes'",
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) > 1 || (len(args) == 1) == (site != "") {
				return usageError{errors.New("aditus tear-down takes one berth, written WORKLOAD/SITE, or --site SITE")}
			}
			if len(parts) > 0 && site != "" {
				return usageError{errors.New("--part is for one berth: leave --site out")}
			}
			name := site
			var id berth.ID
			if site == "" {
				var err error
				if id, err = parseBerth(args[0]); err != nil {
					return err
				}
				if name = id.Workload; len(parts) == 1 {
					name = parts[0]
				}
			}
			s, _, err := r.picture(cmd.Context())
			if err != nil {
				return err
			}
			leaves, err := leaving(s, id, site, volumes, parts)
			if err != nil {
				return err
			}
			if dry {
				if asJSON {
					return writeJSON(cmd.OutOrStdout(), leaves)
				}
				return writeLeaving(cmd.OutOrStdout(), leaves)
			}
			if isTerminal() && !yes && !asJSON {
				if err := writeLeaving(cmd.OutOrStdout(), leaves); err != nil {
					return err
				}
				if err := typed(cmd.OutOrStdout(), os.Stdin, name); err != nil {
					return err
				}
			}
			return r.tearDown(cmd.Context(), cmd.OutOrStdout(), leaves, berth.Order{Verb: berth.TearDown, Note: message, Volumes: volumes, Parts: parts}, asJSON)
		},
	}
	connectionFlags(cmd, &r)
	jsonFlag(cmd, &asJSON)
	cmd.Flags().StringVarP(&message, "message", "m", "", "why; needed")
	cmd.Flags().StringVar(&site, "site", "", "all berths of this `site`")
	cmd.Flags().StringArrayVar(&parts, "part", nil, "only this `part`; may stand several times")
	cmd.Flags().BoolVar(&volumes, "remove-volumes", false, "what its volumes hold goes too")
	cmd.Flags().BoolVar(&dry, "dry-run", false, "tell what would go and what would stay, and do nothing")
	cmd.Flags().BoolVar(&yes, "yes", false, "ask nothing on a terminal")
	return cmd
}

// leaving tells what goes and stays of a berth, or of all that there is something of at a site.
func leaving(s status.Snapshot, id berth.ID, site string, volumes bool, parts []string) (all []words.Leaving, err error) {
	for _, b := range s.Berths {
		if b.ID == id || site != "" && b.Site == site && (b.Applied != nil || len(b.Cohorts) > 0) {
			all = append(all, words.LeavingOf(s, b, volumes, parts...))
		}
	}
	switch {
	case len(all) > 0:
		return all, nil
	case site != "":
		return nil, fmt.Errorf("there is nothing at a site %s; there are %s", site, say.List(s.Sites))
	}
	return nil, fmt.Errorf("there is no berth %s; %s", id, nearBerths(s, id))
}

func writeLeaving(w io.Writer, all []words.Leaving) error {
	for _, l := range all {
		if _, err := fmt.Fprintln(w, l.Berth); err != nil {
			return err
		}
		for _, line := range l.Lines() {
			if _, err := fmt.Fprintln(w, "  "+kit.Plain(line)); err != nil {
				return err
			}
		}
	}
	return nil
}

// typed has a name typed.
func typed(out io.Writer, in io.Reader, name string) error {
	fmt.Fprintf(out, "\nType %s to tear this down: ", name)
	line, err := bufio.NewReader(in).ReadString('\n')
	if err != nil && !errors.Is(err, io.EOF) {
		return err
	}
	if strings.TrimSpace(line) != name {
		return fmt.Errorf("nothing was changed: that is not %s", name)
	}
	return nil
}

// tearDown gives the order for each that can be torn down, and tells why others cannot.
func (r connection) tearDown(ctx context.Context, out io.Writer, all []words.Leaving, order berth.Order, asJSON bool) error {
	var failed []error
	for _, l := range all {
		order.Berth = l.Berth
		if err := r.give(ctx, order, false); err != nil {
			if len(all) > 1 {
				err = fmt.Errorf("%s: %w", l.Berth, err)
			}
			failed = append(failed, err)
			continue
		}
		text := "is being torn down"
		if len(order.Parts) > 0 {
			text = "is being rid of " + say.List(order.Parts)
		}
		if asJSON {
			printBerth(out, l.Berth, true, text)
			continue
		}
		fmt.Fprintf(out, "%s %s.\n", l.Berth, text)
	}
	return errors.Join(failed...)
}
