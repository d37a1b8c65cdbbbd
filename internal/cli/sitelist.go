package cli

import (
	"context"
	"fmt"
	"io"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"aditus/internal/core/say"
	"aditus/internal/status"
	"aditus/internal/tui/kit"
	"aditus/internal/words"
)

func newSiteList() *cobra.Command {
	var r connection
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "sites",
		Short: "What each site runs on, whether it answers, its room, and how revisions come to it",
		Long: `Asks all sites what they run on, for 5 s at most, and tells how much room there is, what runs there and
how revisions come to each. It ends with status 1 where one does not answer.`,
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			all, now, err := r.sites(cmd.Context())
			if err != nil {
				return err
			}
			if asJSON {
				if err := writeJSON(cmd.OutOrStdout(), map[string]any{"sites": all}); err != nil {
					return err
				}
			} else if err := writeSites(cmd.OutOrStdout(), all, now); err != nil {
				return err
			}
			var silent []string
			for _, s := range all {
				if !s.Answers {
					silent = append(silent, s.Name)
				}
			}
			if len(silent) > 0 {
				return fmt.Errorf("no answer from %s", say.List(silent))
			}
			return nil
		},
	}
	connectionFlags(cmd, &r)
	jsonFlag(cmd, &asJSON)
	return cmd
}

// sites asks the Aditus that runs, or one that runs for as long as that takes.
func (r connection) sites(ctx context.Context) (all []status.Site, now time.Time, err error) {
	remote, folder, err := r.running()
	if err != nil {
		return nil, now, err
	}
	if remote != nil {
		s, err := remote.Renew(ctx)
		if err != nil {
			return nil, now, err
		}
		all, err = remote.Sites(ctx)
		return all, s.Now, err
	}
	err = onlyAsked(ctx, folder, true, func(s *localEngine) error {
		now = looked(ctx, s).Now
		all, err = s.Live.Sites(ctx)
		return err
	})
	return all, now, err
}

// writeSites tells them in words: a line each, and what is to be mended.
func writeSites(w io.Writer, all []status.Site, now time.Time) error {
	out := tabwriter.NewWriter(w, 0, 8, 3, ' ', 0)
	fmt.Fprintln(out, strings.Join([]string{"site", "runs on", "answers", "version", "room", "runs", "takes revisions", "may begin"}, "\t"))
	for _, s := range all {
		answers, _ := words.SiteAnswers(s, now)
		room, _ := words.SiteRoom(s)
		fmt.Fprintln(out, kit.Plain(s.Name)+"\t"+kit.Plain(s.Ground.On)+"\t"+answers+"\t"+kit.Plain(s.Ground.Version)+"\t"+room+"\t"+words.SiteRuns(s)+"\t"+words.SiteComes(s)+"\t"+words.SiteOpen(s, now))
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
