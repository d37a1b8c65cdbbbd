package cli

import (
	"cmp"
	"fmt"
	"io"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"aditus/internal/control"
	"aditus/internal/control/api"
	"aditus/internal/core/say"
	"aditus/internal/status"
	"aditus/internal/tui/kit"
	"aditus/internal/words"
)

func newSiteList() *cobra.Command {
	var r connection
	var asJSON, wide bool
	cmd := &cobra.Command{
		Use:   "sites",
		Short: "What each site runs on, whether it answers, its room, and how revisions come to it",
		Long: `Asks all sites what they run on, for 5 s at most, and tells how much room there is, what runs there and
how revisions come to each. It ends with status 1 where one does not answer, or lacks something.`,
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			var all []status.Site
			var now time.Time
			if err := r.ask(cmd.Context(), func(c control.Reader, s status.Snapshot) (err error) {
				now = s.Now
				all, err = c.Sites(cmd.Context())
				return err
			}); err != nil {
				return err
			}
			if asJSON {
				if err := writeJSON(cmd.OutOrStdout(), api.Sites{Sites: all}); err != nil {
					return err
				}
			} else if err := writeSites(cmd.OutOrStdout(), all, now, wide); err != nil {
				return err
			}
			var troubled []string
			for _, s := range all {
				if s.Trouble != "" {
					troubled = append(troubled, s.Name)
				}
			}
			if len(troubled) > 0 {
				return fmt.Errorf("there is something to be mended at %s", say.List(troubled))
			}
			return nil
		},
	}
	connectionFlags(cmd, &r)
	outputFlag(cmd, &asJSON, &wide)
	return cmd
}

// writeSites tells them in words: a line each, and what is to be mended.
func writeSites(w io.Writer, all []status.Site, now time.Time, wide bool) error {
	out := tabwriter.NewWriter(w, 0, 8, 3, ' ', 0)
	titles := []string{"site", "runs on", "answers", "version", "room", "runs", "takes revisions", "may begin"}
	if wide {
		titles = append(titles, "team", "takes", "drift")
	}
	fmt.Fprintln(out, strings.Join(titles, "\t"))
	for _, s := range all {
		answers, _ := words.SiteAnswers(s, now)
		room, _ := words.SiteRoom(s)
		cells := []string{s.Name, s.Ground.On, answers, s.Ground.Version, room, words.SiteRuns(s), words.SiteComes(s), words.SiteOpen(s, now)}
		if wide {
			var takes []string
			for _, kind := range s.Ground.Takes {
				takes = append(takes, string(kind))
			}
			cells = append(cells, cmp.Or(s.Team, "-"), say.List(takes), words.SiteDrift(s))
		}
		for i := range cells {
			cells[i] = kit.Plain(cells[i])
		}
		fmt.Fprintln(out, strings.Join(cells, "\t"))
	}
	if err := out.Flush(); err != nil {
		return err
	}
	for _, s := range all {
		if s.Trouble != "" {
			fmt.Fprintf(w, "\n%s: %s\n", kit.Plain(s.Name), kit.Plain(say.Sentence(s.Trouble)))
		}
	}
	return nil
}
