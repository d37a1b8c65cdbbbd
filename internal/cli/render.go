package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v4"

	"aditus/internal/core/berth"
	"aditus/internal/core/declare"
	"aditus/internal/source"
	"aditus/internal/target"
	"aditus/internal/tui/kit"
)

func newRender() *cobra.Command {
	var f loadFlags
	var r connection
	var from string
	var pretty, objects bool
	cmd := &cobra.Command{
		Use:   "render BERTH",
		Short: "The canonical desired state of a berth",
		Long: `Prints what is declared for a berth as canonical JSON (RFC 8785), with the site's
differences and variables in it: the bytes that the revision is the SHA-256 of.
Without --from it is what Git declares, as it was read last. Secrets stay encrypted.`,
		Example: "  aditus render fares/north\n  aditus render fares/north --from workloads/ --pretty",
		Args:    oneArg("berth, written WORKLOAD/SITE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := parseBerth(args[0])
			if err != nil {
				return err
			}
			var desired *declare.Desired
			if f.folder = r.data; from == "" {
				desired, err = r.declared(cmd.Context(), id)
			} else {
				desired, err = f.desired(cmd.Context(), id, from)
			}
			if err != nil {
				return err
			}
			if objects {
				return writeObjects(cmd, r.data, id, *desired)
			}
			text := desired.Canonical()
			if pretty {
				var out bytes.Buffer
				if err := json.Indent(&out, text, "", "  "); err != nil {
					return err
				}
				text = out.Bytes()
			}
			_, err = fmt.Fprintf(cmd.OutOrStdout(), "%s\n", text)
			return err
		},
	}
	connectionFlags(cmd, &r)
	f.addOthers(cmd)
	cmd.Flags().StringVar(&from, "from", "", "a `folder` of declarations instead of what Git declares")
	cmd.Flags().BoolVar(&pretty, "pretty", false, "indented, for people; those are not the bytes of the revision")
	cmd.Flags().BoolVar(&objects, "objects", false, "the objects that it would be at its site, as YAML, where that is a cluster; values of secrets are left out")
	return cmd
}

// writeObjects writes what a revision would be at its site.
func writeObjects(cmd *cobra.Command, data string, id berth.ID, desired declare.Desired) error {
	folder, err := dataFolder(data)
	if err != nil {
		return err
	}
	settings, err := readSettings(folder)
	if err != nil {
		return err
	}
	for _, site := range settings.Sites {
		kind, err := target.Find(kinds, site.Target.Kind)
		switch {
		case site.Name != id.Site:
			continue
		case err != nil:
			return err
		case kind.Objects == nil:
			return fmt.Errorf("%s is no cluster: it has no objects", id.Site)
		}
		made, err := kind.Objects(site, desired)
		if err != nil {
			return err
		}
		for _, o := range made {
			text, err := yaml.Marshal(o)
			if err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "---\n%s", text)
		}
		return nil
	}
	return settings.ErrNoSite(id.Site)
}

// desired gives what a folder declares for a berth.
func (f *loadFlags) desired(ctx context.Context, id berth.ID, from string) (*declare.Desired, error) {
	f.bare = source.Bare{Workload: id.Workload, Sites: []string{id.Site}}
	loaded, problems, _, err := f.load(ctx, from)
	if err != nil {
		return nil, err
	}
	if wrong := problems.Wrong(); len(wrong) > 0 {
		return nil, fmt.Errorf("%w; aditus check %s tells all", wrong, from)
	}
	for _, d := range loaded.Declarations {
		if d.Workload == id.Workload && d.Site == id.Site {
			return &d.Desired, nil
		}
	}
	return nil, fmt.Errorf("%s declares no %s", from, id)
}

// declared gives what Git declares for a berth, as it was read last.
func (r connection) declared(ctx context.Context, id berth.ID) (*declare.Desired, error) {
	c, _, shut, err := r.client(ctx)
	if err != nil {
		return nil, err
	}
	defer shut()
	if _, err := berthOf(ctx, c, id); err != nil {
		return nil, err
	}
	return c.Declared(ctx, id)
}

func newVariables() *cobra.Command {
	var f loadFlags
	var asJSON bool
	cmd := &cobra.Command{
		Use:     "variables PATH [NAME]",
		Short:   "Where each variable is used, and its value at each site",
		Example: "  aditus variables workloads/\n  aditus variables workloads/ log-level",
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) < 1 || len(args) > 2 {
				return usageError{fmt.Errorf("aditus variables takes a folder of declarations, and perhaps a variable's name")}
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			loaded, problems, _, err := f.load(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			uses := []source.SiteUse{}
			for _, use := range loaded.Uses {
				if len(args) == 1 || use.Variable == args[1] {
					uses = append(uses, use)
				}
			}
			if asJSON {
				return writeJSON(cmd.OutOrStdout(), uses)
			}
			table := tabwriter.NewWriter(cmd.OutOrStdout(), 0, 0, 2, ' ', 0)
			fmt.Fprintln(table, "variable\tberth\tfield\tvalue there\tgiven by\tused in")
			for _, u := range uses {
				given := u.Given
				if given == "" {
					given = "its default"
				}
				fmt.Fprintf(table, "%s\t%s/%s\t%s\t%s\t%s\t%s:%d\n", u.Variable, u.Workload, u.Site, strings.TrimPrefix(u.Pointer, "/parts/"), kit.Plain(u.Value), given, u.File, u.Line)
			}
			if err := table.Flush(); err != nil {
				return err
			}
			if wrong := problems.Wrong(); len(wrong) > 0 {
				return fmt.Errorf("%w; aditus check %s tells all", wrong, args[0])
			}
			return nil
		},
	}
	f.add(cmd)
	jsonFlag(cmd, &asJSON)
	return cmd
}
