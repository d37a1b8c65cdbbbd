package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"aditus/internal/config"
	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
	"aditus/internal/core/say"
	"aditus/internal/source"
	"aditus/internal/target"
	"aditus/internal/target/local"
	"aditus/internal/tui/kit"
)

// loadFlags say how declarations on disk are read.
type loadFlags struct {
	folder  string
	set     []string
	offline bool
	bare    source.Bare
	runs    bool // it is tried whether what is declared can be run
}

// lacks tells what a part asks for that its site, as the settings have it, cannot do.
func lacks(settings config.Settings) func(source.Declaration, declare.Part) []string {
	return func(d source.Declaration, part declare.Part) []string {
		at := slices.IndexFunc(settings.Sites, func(s config.Site) bool { return s.Name == d.Site })
		if at < 0 {
			return nil
		}
		kind, err := target.Find(kinds, settings.Sites[at].Target.Kind)
		if err != nil {
			return nil
		}
		return kind.Lacks(part)
	}
}

// tryRuns tries whether a part can be run at its site, as the settings have it; one with a file as its artifact at a site of this
// machine. What is the same is tried once.
func tryRuns(settings config.Settings, known *source.Registries) func(context.Context, source.Declaration, declare.Part) (string, error) {
	type answer struct {
		doubt string
		err   error
	}
	tried := map[string]answer{}
	return func(ctx context.Context, d source.Declaration, part declare.Part) (string, error) {
		on := config.Target{}
		if i := slices.IndexFunc(settings.Sites, func(s config.Site) bool { return s.Name == d.Site }); i >= 0 {
			on = settings.Sites[i].Target
		} else if part.Artifact == "" || strings.HasPrefix(part.Artifact, declare.FileScheme) {
			on.Kind = local.Kind.Name
		}
		kind, err := target.Find(kinds, on.Kind)
		if err != nil || kind.Runs == nil {
			return "", nil
		}
		text, err := json.Marshal([]any{on, part})
		if err != nil {
			return "", err
		}
		a, done := tried[string(text)]
		if !done {
			a.doubt, a.err = kind.Runs(ctx, target.Ground{Settings: settings, Artifact: known.Fetch}, on, part)
			tried[string(text)] = a
		}
		return a.doubt, a.err
	}
}

func (f *loadFlags) add(cmd *cobra.Command) {
	dataFlag(cmd, &f.folder)
	f.addOthers(cmd)
}

// addOthers adds the flags but for --data.
func (f *loadFlags) addOthers(cmd *cobra.Command) {
	setFlag(cmd, &f.set)
	cmd.Flags().BoolVar(&f.offline, "offline", false, "do not ask registries whether the artifacts exist")
}

// load reads declarations on disk. Sites, registries and the key come from the data folder, where there is one.
func (f *loadFlags) load(ctx context.Context, path string) (source.Loaded, declare.Problems, int, error) {
	files, err := source.FromFolder(path)
	if err != nil {
		return source.Loaded{}, nil, 0, err
	}
	set, err := setValues(f.set)
	if err != nil {
		return source.Loaded{}, nil, 0, err
	}
	o := source.Options{Set: set, Bare: f.bare}
	folder, err := dataFolder(f.folder)
	if err != nil {
		return source.Loaded{}, nil, 0, err
	}
	var registries map[string]config.Registry
	var credentials func(string) source.Credential
	settings, err := readSettings(folder)
	if err == nil {
		registries = settings.Registries
		if f.runs {
			o.Silent = func(rule guard.Rule) error { return settings.Knows(rule.Signal) }
		}
		if _, err := os.Stat(filepath.Join(folder, source.KeyFile)); err == nil {
			if o.Opener, err = source.OpenKey(folder); err != nil {
				return source.Loaded{}, nil, 0, err
			}
			if kept, err := o.Opener.Credentials(folder); err == nil {
				credentials = func(host string) source.Credential { return kept[host] }
			}
		}
	}
	if f.runs {
		o.Lacks = lacks(settings)
	}
	if !f.offline {
		known := source.NewRegistries(registries, credentials)
		o.Resolve = known.Resolve
		if f.runs {
			o.Runs = tryRuns(settings, known)
		}
	}
	var loaded source.Loaded
	var problems declare.Problems
	err = underWay(os.Stderr, "looking at what is declared, and at its artifacts", func() error {
		loaded, problems = source.Load(ctx, files, o)
		return nil
	})
	return loaded, problems, len(files), err
}

func newCheck() *cobra.Command {
	var f loadFlags
	var asJSON, asSARIF bool
	cmd := &cobra.Command{
		Use:   "check PATH",
		Short: "Check declarations before they are pushed",
		Long: `Reads a folder of declarations, or one file, and tells everything that is wrong
with it: file, line, column, what was expected, and a suggestion. Every artifact is
asked for in its registry, unless the settings of the data folder skip that registry;
for a local site it is unpacked, and what it runs is found.
The exit code is 1 when there is anything but warnings.`,
		Example: "  aditus check workloads/\n  aditus check workloads/ --sarif > problems.sarif",
		Args:    oneArg("path to a folder of declarations or a file"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if asJSON && asSARIF {
				return usageError{fmt.Errorf("choose one of --json and --sarif")}
			}
			f.runs = true
			f.bare = source.Bare{Workload: source.BareName(args[0], "objects"), Sites: []string{"site"}}
			loaded, problems, files, err := f.load(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			root := args[0]
			if info, err := os.Stat(root); err == nil && !info.IsDir() {
				root = filepath.Dir(root)
			}
			problems = problems.In(filepath.ToSlash(root))
			out, wrong := cmd.OutOrStdout(), len(problems.Wrong())
			switch {
			case asSARIF:
				err = source.WriteSARIF(out, "", problems)
			case asJSON && problems == nil:
				err = writeJSON(out, []int{})
			case asJSON:
				err = writeJSON(out, problems)
			default:
				for _, p := range problems {
					fmt.Fprintln(out, kit.Plain(p.Error()))
				}
				for _, d := range loaded.Declarations {
					if wrong == 0 {
						fmt.Fprintf(out, "%s  %s/%s  %s\n", d.Fingerprint().Short(), d.Workload, d.Site, kit.Plain(d.Version()))
					}
				}
			}
			if err != nil {
				return err
			}
			if wrong > 0 {
				fmt.Fprintf(cmd.ErrOrStderr(), "%s in %s\n", say.Count(wrong, "problem"), say.Count(files, "file"))
				return errWrong
			}
			return nil
		},
	}
	f.add(cmd)
	jsonFlag(cmd, &asJSON)
	cmd.Flags().BoolVar(&asSARIF, "sarif", false, "as SARIF 2.1.0, which code hosts and editors read")
	return cmd
}
