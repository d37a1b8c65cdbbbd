package cli

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v4"

	"aditus/internal/config"
	"aditus/internal/core/declare"
	"aditus/internal/source"
	"aditus/internal/tui/kit"
)

func newLinkAllow() *cobra.Command {
	var folder string
	var all bool
	cmd := &cobra.Command{
		Use:   "allow [LINK...]",
		Short: "Write down what a link's repository may declare: what it declares now",
		Long: `Reads what the links that are named declare now, or all that have nothing under may: in the
settings, and writes the least there that lets them: workloads, sites, kinds of parts, host names,
TCP ports, registries and folders of artifacts. Look at it, and widen or narrow it there. With
--everything they may declare all that there is. docs/links.md tells what each of it means.`,
		Example: "  aditus link allow\n  aditus link allow notices",
		RunE: func(cmd *cobra.Command, args []string) error {
			folder, key, err := openToChange(cmd.Context(), folder)
			if err != nil {
				return err
			}
			settings, err := readSettings(folder)
			if err != nil {
				return err
			}
			for _, name := range args {
				if !slices.ContainsFunc(settings.Links, func(l config.Link) bool { return l.Name == name }) {
					return settings.ErrNoLink(name)
				}
			}
			for _, link := range settings.Links {
				if len(args) > 0 && !slices.Contains(args, link.Name) || len(args) == 0 && link.May != nil {
					continue
				}
				if all {
					_, err = config.SetMay(folder, link.Name, config.May{Everything: true})
				} else {
					err = allow(cmd.Context(), cmd.OutOrStdout(), folder, link, key)
				}
				if err != nil {
					return err
				}
			}
			return nil
		},
	}
	dataFlag(cmd, &folder)
	cmd.Flags().BoolVar(&all, "everything", false, "all that there is, now and later")
	return cmd
}

// allow writes into the settings that a link's repository may declare what it declares now, and tells that.
func allow(ctx context.Context, out io.Writer, folder string, link config.Link, key *source.Opener) error {
	ctx, cancel := context.WithTimeout(ctx, lookPatience)
	defer cancel()
	kept, err := key.Credentials(folder)
	if err != nil {
		return err
	}
	answer, err := source.Ask(ctx, link, source.Access{Credential: kept[link.Name]}, source.Seen{}, true)
	if err != nil {
		return fmt.Errorf("the link %s may declare nothing yet: %w; then write it down with: aditus link allow %s", link.Name, err, link.Name)
	}
	loaded, _ := source.Load(ctx, answer.Files, source.Options{Set: link.Variables, Opener: key, Bare: source.Bare{Workload: link.Workload, Sites: link.Sites}})
	declared := map[string][]declare.Desired{}
	for _, d := range loaded.Declarations {
		declared[d.Site] = append(declared[d.Site], d.Desired)
	}
	may := config.MayOf(declare.GrantOf(declared))
	if _, err := config.SetMay(folder, link.Name, may); err != nil {
		return err
	}
	text, err := yaml.Marshal(may)
	if err != nil {
		return err
	}
	fmt.Fprintf(out, "%s may declare, by the settings (may:), what it declares now:\n", link.Name)
	for line := range strings.Lines(string(text)) {
		fmt.Fprintf(out, "  %s\n", kit.Plain(strings.TrimRight(line, "\n")))
	}
	return nil
}
