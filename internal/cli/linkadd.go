package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/charmbracelet/x/term"
	"github.com/spf13/cobra"

	"aditus/internal/config"
	"aditus/internal/core/say"
	"aditus/internal/ledger"
	"aditus/internal/source"
	"aditus/internal/target"
	"aditus/internal/tui/kit"
)

func newLinkAdd() *cobra.Command {
	var folder string
	var f linkFlags
	cmd := &cobra.Command{
		Use:   "add NAME REPOSITORY",
		Short: "Connect a repository, or a bundle in a registry",
		Long: `Tries the connection at once, looks for workloads in it, and keeps it in the
settings. REPOSITORY is a local path; an address with https, ssh, git or file;
USER@HOST:PATH; or oci://HOST/PATH for a bundle of declarations.

Sites that the declarations name and the settings do not have yet are added, taking
revisions by hand: as stand-ins, with --target local as processes on this machine, or
with --target cluster as namespaces of a Kubernetes cluster. A running Aditus takes
the link over at once.

A folder that has only objects of a cluster's API is one workload: --workload names
it, --sites says where it runs.

Credentials are asked for with --ask, or taken from the environment; they are kept
encrypted in the data folder and never shown again.`,
		Example: `  aditus link add line ~/src/declarations
  aditus link add line https://git.skerry.example/line.git --user maren --ask
  aditus link add line git@git.skerry.example:line.git --key ~/.ssh/id_ed25519
  aditus link add base oci://registry.skerry.example/line/base --version ^1.4
  aditus link add lantern ~/manifests --sites harbour --target cluster=shore/harbour`,
		Args: twoArgs("NAME and REPOSITORY"),
		RunE: func(cmd *cobra.Command, args []string) error {
			folder, err := lineFolder(folder)
			if err == nil {
				err = changeable(cmd.Context(), folder)
			}
			if err != nil {
				return err
			}
			f.link.Name, f.link.Repository = args[0], args[1]
			return addLink(cmd, folder, f)
		},
	}
	dataFlag(cmd, &folder)
	f.add(cmd)
	return cmd
}

// newSites makes the sites that are not in the settings yet, with what --target says they run on.
func newSites(before config.Settings, names []string, on string) ([]config.Site, error) {
	name, rest, _ := strings.Cut(on, "=")
	kind, err := target.Find(kinds, name)
	if err != nil {
		return nil, usageError{fmt.Errorf("--target %s: %w", on, err)}
	}
	all, added := slices.Clone(before.Sites), []config.Site(nil)
	for _, name := range names {
		if slices.ContainsFunc(all, func(s config.Site) bool { return s.Name == name }) {
			continue
		}
		site := config.Site{Name: name}
		if site.Target, err = kind.New(site.Name, all, rest); err != nil {
			return nil, usageError{fmt.Errorf("--target %s: %w", on, err)}
		}
		if kind.OnMachine(site.Target) && before.Ledger != "" {
			site.Target.Machine = machineName()
		}
		all, added = append(all, site), append(added, site)
	}
	return added, nil
}

func describeTarget(t config.Target) string {
	kind, err := target.Find(kinds, t.Kind)
	if err != nil {
		return err.Error()
	}
	return kind.Describe(t)
}

// lookPatience is how long a repository may take to answer on the command line.
const lookPatience = 2 * time.Minute

// given reads what link the flags make, and the credential for it; nil for none.
func (f *linkFlags) given(cmd *cobra.Command) (config.Link, *source.Credential, error) {
	link, err := f.complete()
	if err != nil {
		return config.Link{}, nil, err
	}
	credential, err := f.read(cmd)
	return link, credential, err
}

func addLink(cmd *cobra.Command, folder string, f linkFlags) error {
	ctx, cancel := context.WithTimeout(cmd.Context(), lookPatience)
	defer cancel()
	link, credential, err := f.given(cmd)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return fmt.Errorf("make the data folder: %w", err)
	}
	access := source.Access{}
	if credential != nil {
		access.Credential = *credential
	}
	began := time.Now()
	var found []source.Found
	var head source.Commit
	err = underWay(cmd.ErrOrStderr(), "looking through "+link.Where(), func() (err error) {
		found, head, err = source.Find(ctx, link, access)
		return err
	})
	if err != nil {
		return fmt.Errorf("the link is not added: %w", err)
	}
	took := time.Since(began)
	if link.Folder, err = chooseFolder(cmd, found, link.Folder); err != nil {
		return err
	}
	before, _ := readSettings(folder)
	chosen := found[slices.IndexFunc(found, func(at source.Found) bool { return at.Folder == link.Folder })]
	if len(chosen.Workloads) == 0 {
		if err := bareLink(&link, chosen, before); err != nil {
			return err
		}
		chosen.Workloads = []source.FoundWorkload{{Name: link.Workload, Sites: link.Sites}}
	} else if link.Workload != "" || len(link.Sites) > 0 {
		return usageError{fmt.Errorf("--workload and --sites are for a folder that has only objects of a cluster's API; %s has declarations, which say both", chosen.Folder)}
	}
	key, err := source.OpenKey(folder)
	if err != nil {
		return err
	}
	if credential != nil {
		if err := key.KeepCredential(folder, link.Name, credential); err != nil {
			return err
		}
	}
	sites, err := newSites(before, chosen.Sites(), f.target)
	if err != nil {
		return err
	}
	settings, err := config.AddLink(folder, firstSettings, link, sites, f.skip)
	if err != nil {
		return err
	}
	out := cmd.OutOrStdout()
	fmt.Fprintf(out, "%s answers in %s: %s is at %.7s, “%s” by %s\n", kit.Plain(link.Where()), say.Took(took), kit.Plain(link.Ref()), head.Hash, kit.Plain(head.Subject), kit.Plain(head.Author))
	printFound(out, chosen)
	var added []string
	for _, site := range settings.Sites[len(before.Sites):] {
		added = append(added, site.Name+" ("+describeTarget(site.Target)+")")
	}
	if len(added) > 0 {
		fmt.Fprintf(out, "new in the settings, taking revisions by hand: %s\n", say.List(added))
	}
	trySites(cmd, settings.Sites[len(before.Sites):])
	for _, l := range settings.Links {
		if l.May == nil && len(settings.Links) > 1 {
			if err := allow(ctx, out, folder, l, key); err != nil {
				fmt.Fprintln(out, kit.Plain(say.Sentence(err.Error())))
			}
		}
	}
	printProblems(ctx, out, link, access, settings, key)
	if running, _ := ledger.InUse(folder); running {
		if len(added) > 0 {
			fmt.Fprintln(out, "Aditus runs on this folder; start it again to open the new sites.")
		} else {
			fmt.Fprintln(out, "Aditus runs on this folder and takes the link over now.")
		}
		return nil
	}
	fmt.Fprintln(out, "Open it with: aditus")
	return nil
}

// printProblems tells what is wrong with what a link declares now. The link stays: it is read again at every answer.
func printProblems(ctx context.Context, out io.Writer, link config.Link, access source.Access, settings config.Settings, key *source.Opener) {
	var answer source.Answer
	err := underWay(os.Stderr, "reading "+link.Where(), func() (err error) {
		answer, err = source.Ask(ctx, link, access, source.Seen{}, true)
		return err
	})
	if err != nil {
		fmt.Fprintln(out, kit.Plain(err.Error()))
		return
	}
	_, problems := source.Load(ctx, answer.Files, source.Options{Set: link.Variables, Opener: key, Bare: source.Bare{Workload: link.Workload, Sites: link.Sites}, Resolve: source.NewRegistries(settings.Registries, nil).Resolve})
	for _, p := range problems.In(link.Folder) {
		fmt.Fprintln(out, kit.Plain(p.Error()))
	}
	if len(problems.Wrong()) > 0 {
		fmt.Fprintln(out, "Nothing of it is taken until that is mended.")
	}
}

// chooseFolder gives the folder to watch: the one that was named, or the one that has declarations, or the one that a
// person chooses of several.
func chooseFolder(cmd *cobra.Command, found []source.Found, named string) (string, error) {
	if len(found) == 0 {
		return "", errors.New("the link is not added: there are no declarations in it, and no objects of a cluster's API; a declaration is a .yaml file that starts with aditus: 1, see docs/declarations.md")
	}
	for _, at := range found {
		if named != "" && at.Folder == strings.TrimSuffix(named, "/") {
			return at.Folder, nil
		}
	}
	if declared := slices.DeleteFunc(slices.Clone(found), func(at source.Found) bool { return len(at.Workloads) == 0 }); named == "" && len(declared) == 1 {
		return declared[0].Folder, nil
	}
	if named == "" && len(found) == 1 {
		return found[0].Folder, nil
	}
	out := cmd.ErrOrStderr()
	for i, at := range found {
		fmt.Fprintf(out, "%3d  %s\n", i+1, at.Folder)
		printFound(out, at)
	}
	if named != "" {
		return "", fmt.Errorf("the link is not added: there are no declarations in the folder %q; those that have any stand above", named)
	}
	if file, ok := cmd.InOrStdin().(*os.File); !ok || !term.IsTerminal(file.Fd()) {
		return "", usageError{errors.New("several folders have declarations: name one with --folder")}
	}
	fmt.Fprint(out, "Which folder, by its number? ")
	line, _ := bufio.NewReader(cmd.InOrStdin()).ReadString('\n')
	n, err := strconv.Atoi(strings.TrimSpace(line))
	if err != nil || n < 1 || n > len(found) {
		return "", usageError{fmt.Errorf("the link is not added: %q is none of the numbers", strings.TrimSpace(line))}
	}
	return found[n-1].Folder, nil
}

// bareLink says of a folder that has only objects of a cluster's API which workload they are, and where it runs.
func bareLink(link *config.Link, at source.Found, before config.Settings) error {
	if link.Workload == "" {
		link.Workload = source.BareName(at.Folder, link.Name)
	}
	if len(link.Sites) == 0 {
		for _, site := range before.Sites {
			if kind, err := target.Find(kinds, site.Target.Kind); err == nil && kind.Objects != nil {
				link.Sites = append(link.Sites, site.Name)
			}
		}
		if len(link.Sites) != 1 {
			return usageError{fmt.Errorf("%s has %s of a cluster's API and no declaration, and would be the workload %s: say where it runs with --sites NAME, and for a new site with --target cluster=CONTEXT/NAMESPACE", at.Folder, say.Count(len(at.Objects), "object"), link.Workload)}
		}
	}
	return link.Check()
}

// mostListed are so many of a folder's objects that are named.
const mostListed = 6

func printFound(w io.Writer, at source.Found) {
	table := tabwriter.NewWriter(w, 0, 0, 2, ' ', 0)
	defer table.Flush()
	if len(at.Objects) > 0 {
		listed := at.Objects
		if more := len(listed) - mostListed; more > 0 {
			listed = append(slices.Clone(listed[:mostListed]), fmt.Sprintf("and %d more", more))
		}
		fmt.Fprintf(table, "     %s of a cluster's API, one workload\t%s\n", say.Count(len(at.Objects), "object"), kit.Plain(strings.Join(listed, ", ")))
	}
	for _, workload := range at.Workloads {
		fmt.Fprintf(table, "     %s\t%s\n", kit.Plain(workload.Name), kit.Plain(strings.Join(workload.Sites, " ")))
	}
}

func newLinkFind() *cobra.Command {
	var f linkFlags
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "find REPOSITORY",
		Short: "List the workloads and sites in a repository, folder by folder",
		Args:  oneArg("repository"),
		RunE: func(cmd *cobra.Command, args []string) error {
			f.link.Name, f.link.Repository = "found", args[0]
			link, credential, err := f.given(cmd)
			if err != nil {
				return err
			}
			access := source.Access{}
			if credential != nil {
				access.Credential = *credential
			}
			var found []source.Found
			err = underWay(cmd.ErrOrStderr(), "looking through "+link.Where(), func() (err error) {
				found, _, err = source.Find(cmd.Context(), link, access)
				return err
			})
			if err != nil {
				return err
			}
			if asJSON {
				return writeJSON(cmd.OutOrStdout(), found)
			}
			for _, at := range found {
				fmt.Fprintln(cmd.OutOrStdout(), at.Folder)
				printFound(cmd.OutOrStdout(), at)
			}
			return nil
		},
	}
	f.add(cmd)
	jsonFlag(cmd, &asJSON)
	return cmd
}
