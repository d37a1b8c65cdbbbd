package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"aditus/internal/config"
	"aditus/internal/control"
	"aditus/internal/control/api"
	"aditus/internal/core/say"
	"aditus/internal/engine"
	"aditus/internal/source"
	"aditus/internal/status"
	"aditus/internal/target"
	"aditus/internal/target/sim"
	"aditus/internal/tui/kit"
	"aditus/internal/words"
)

func newLink() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "link",
		Short: "Connections to repositories and registries",
		Args:  noArgs,
		RunE:  func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(newLinkAdd(), newLinkFind(), newLinkTest(), newLinkList(), newLinkTurn("off", "Have a link not be read any more; what it declared stays declared", true), newLinkTurn("on", "Have a link that was switched off be read again", false), newLinkRemove(), newLinkAllow(), newLinkCredential(), newLinkHook())
	return cmd
}

// linkFlags are what a link is made of on the command line.
type linkFlags struct {
	link   config.Link
	user   string
	key    string
	ask    bool
	set    []string
	skip   []string // registries that are not asked
	target string
}

func (f *linkFlags) add(cmd *cobra.Command) {
	flags := cmd.Flags()
	flags.StringVar(&f.link.Branch, "branch", "", "the `branch` to watch (default main)")
	flags.StringVar(&f.link.Tag, "tag", "", "the `tag` to stay at")
	flags.StringVar(&f.link.Commit, "commit", "", "the `commit` to stay at, all 40 characters")
	flags.StringVar(&f.link.Version, "version", "", "of a bundle: a version, a range such as ^1.4, or a digest")
	flags.StringVar(&f.link.Folder, "folder", "", "the `folder` with the declarations (default: the one that has any)")
	flags.DurationVar(&f.link.Every, "every", time.Minute, "polling `interval`")
	flags.StringVar(&f.link.KnownHosts, "known-hosts", "", "`file` with the keys of ssh hosts (default: your own)")
	flags.StringVar(&f.link.CA, "ca", "", "`file` with further certificates to trust")
	flags.BoolVar(&f.link.Plain, "plain", false, "of a bundle: the registry speaks http")
	flags.StringVar(&f.link.Workload, "workload", "", "of a folder that has only objects of a cluster's API: the `name` of the workload that they are (default: the folder's)")
	flags.StringSliceVar(&f.link.Sites, "sites", nil, "of such a folder: the `sites` where they run (default: the only one that is a cluster)")
	f.credential(cmd)
	setFlag(cmd, &f.set)
	flags.StringVar(&f.target, "target", sim.Kind.Name, "what new sites run on: stand-in; local[=ADDRESS] for processes on this machine, with HTTP coming in at the address (127.0.0.1:8080), and at the next ports for further sites; containers[=ENGINE[,ADDRESS][,KEY=VALUE…]] for containers of an engine, such as containers=ssh://root@quay.skerry.example/run/podman/podman.sock,:8080,key=/etc/aditus/quay.key; or cluster[=CONTEXT[/NAMESPACE]] for a namespace of a Kubernetes cluster, the current context's and named like the site where that is left out")
	flags.StringArrayVar(&f.skip, "skip-registry", nil, "do not ask this registry's `host` for artifacts; may stand several times")
}

// complete fills in what was left out, and checks.
func (f *linkFlags) complete() (config.Link, error) {
	set, err := setValues(f.set)
	if err != nil {
		return f.link, err
	}
	link := f.link
	if len(set) > 0 {
		link.Variables = set
	}
	if !link.Bundle() && link.Branch == "" && link.Tag == "" && link.Commit == "" {
		link.Branch = "main"
	}
	if (link.Workload == "") != (len(link.Sites) == 0) {
		return link, nil // they are found
	}
	if err := link.Check(); err != nil {
		return link, usageError{err}
	}
	return link, nil
}

func newLinkTest() *cobra.Command {
	var folder string
	cmd := &cobra.Command{
		Use:   "test [LINK...]",
		Short: "Try links now, and without names what sites stand on; nothing is taken or changed",
		RunE: func(cmd *cobra.Command, args []string) error {
			folder, err := dataFolder(folder)
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
			outside, err := engine.OpenAccess(folder, nil)
			if err != nil {
				return err
			}
			bad := false
			for _, link := range settings.Links {
				if len(args) > 0 && !slices.Contains(args, link.Name) {
					continue
				}
				ctx, cancel := context.WithTimeout(cmd.Context(), lookPatience)
				began := time.Now()
				answer, err := source.Ask(ctx, link, source.Access{Credential: outside.Credentials(link.Name)}, source.Seen{}, true)
				cancel()
				if err != nil {
					bad = true
					fmt.Fprintf(cmd.OutOrStdout(), "%s: %s\n", link.Name, kit.Plain(err.Error()))
					continue
				}
				fmt.Fprintf(cmd.OutOrStdout(), "%s: answers in %s, %s is at %.7s, %s\n", link.Name, say.Took(time.Since(began)), link.Ref(), answer.Commit, say.Count(len(answer.Files), "file"))
			}
			if len(args) == 0 && !trySites(cmd, settings.Sites) {
				bad = true
			}
			if bad {
				return errWrong
			}
			return nil
		},
	}
	dataFlag(cmd, &folder)
	return cmd
}

// trySites asks what the sites stand on, where there is something to ask, and tells whether all is well.
func trySites(cmd *cobra.Command, sites []config.Site) (well bool) {
	well = true
	for _, site := range sites {
		kind, err := target.Find(kinds, site.Target.Kind)
		if err != nil || kind.Try == nil {
			continue
		}
		ctx, cancel := context.WithTimeout(cmd.Context(), lookPatience)
		told, err := kind.Try(ctx, site.Target)
		cancel()
		if err != nil {
			told, well = append(told, err.Error()), false
		}
		for _, line := range told {
			fmt.Fprintf(cmd.OutOrStdout(), "%s: %s\n", site.Name, kit.Plain(line))
		}
	}
	return well
}

func newLinkList() *cobra.Command {
	var folder string
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "list",
		Short: "All links with their last answers",
		Args:  noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			folder, err := dataFolder(folder)
			if err != nil {
				return err
			}
			settings, err := readSettings(folder)
			if err != nil {
				return err
			}
			var s status.Snapshot
			if book, err := openRecord(folder); err == nil {
				s, _ = control.Recorded(book) // without one nothing was asked yet
				book.Close()
			}
			var links []status.Link
			for _, link := range settings.Links {
				shown := status.Link{Name: link.Name, Repository: link.Where(), Ref: link.Ref(), Folder: link.Folder, Every: link.Every, Bundle: link.Bundle()}
				for _, seen := range s.Links {
					if seen.Name == link.Name {
						shown = seen
					}
				}
				links = append(links, shown)
			}
			if asJSON {
				return writeJSON(cmd.OutOrStdout(), links)
			}
			for _, l := range links {
				fmt.Fprintf(cmd.OutOrStdout(), "%s: %s\n", l.Name, kit.Plain(words.LinkLine(l, s.Now)))
				if l.Problem != nil {
					fmt.Fprintf(cmd.OutOrStdout(), "  %s\n", kit.Plain(say.Sentence(l.Problem.Text)))
				}
				for _, wrong := range l.Wrong {
					fmt.Fprintf(cmd.OutOrStdout(), "  %s\n", kit.Plain(wrong))
				}
			}
			return nil
		},
	}
	dataFlag(cmd, &folder)
	jsonFlag(cmd, &asJSON)
	return cmd
}

func newLinkRemove() *cobra.Command {
	var folder string
	cmd := &cobra.Command{
		Use:   "remove LINK",
		Short: "Forget a link and its credential; what it declared stays live",
		Args:  oneArg("link's name"),
		RunE: func(cmd *cobra.Command, args []string) error {
			folder, key, err := openToChange(cmd.Context(), folder)
			if err != nil {
				return err
			}
			if err := config.RemoveLink(folder, args[0]); err != nil {
				return err
			}
			return errors.Join(key.KeepCredential(folder, args[0], nil), key.KeepCredential(folder, hookName(args[0]), nil))
		},
	}
	dataFlag(cmd, &folder)
	return cmd
}

// newLinkTurn switches a link off, or on.
func newLinkTurn(name, short string, off bool) *cobra.Command {
	var r connection
	cmd := &cobra.Command{
		Use:   name + " LINK",
		Short: short,
		Args:  oneArg("link's name"),
		RunE: func(cmd *cobra.Command, args []string) error {
			all, err := r.settings(cmd)
			if err != nil {
				return err
			}
			entry, err := config.EntryOf(all, "links", args[0])
			if err != nil {
				return err
			}
			if delete(entry.Value, "off"); off {
				entry.Value["off"] = true
			}
			return putSettings(cmd, r, api.Settings{Links: map[string]map[string]any{args[0]: entry.Value}})
		},
	}
	connectionFlags(cmd, &r)
	return cmd
}

func writeJSON(w io.Writer, value any) error {
	text, err := json.MarshalIndent(value, "", "  ")
	if err == nil {
		_, err = w.Write(append(say.JSON(text), '\n'))
	}
	return err
}

// twoArgs wants exactly two arguments.
func twoArgs(what string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) != 2 {
			return usageError{fmt.Errorf("%s takes %s; see %s --help", cmd.CommandPath(), what, cmd.CommandPath())}
		}
		return nil
	}
}
