package cli

import (
	"bufio"
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/charmbracelet/x/term"
	"github.com/spf13/cobra"

	"aditus/internal/control"
	"aditus/internal/core/say"
	"aditus/internal/engine"
	"aditus/internal/ledger"
	"aditus/internal/source"
	"aditus/internal/tui/kit"
)

func newLink() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "link",
		Short: "Connections to repositories and registries",
		Args:  noArgs,
		RunE:  func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(newLinkAdd(), newLinkFind(), newLinkTest(), newLinkList(), newLinkRemove(), newLinkCredential(), newLinkHook())
	return cmd
}

// linkFlags are what a link is made of on the command line.
type linkFlags struct {
	link source.Link
	user string
	key  string
	ask  bool
	set  []string
	skip []string // registries that are not asked
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
	f.credential(cmd)
	setFlag(cmd, &f.set)
	flags.StringArrayVar(&f.skip, "skip-registry", nil, "do not ask this registry's `host` for artifacts; may stand several times")
}

func (f *linkFlags) credential(cmd *cobra.Command) {
	cmd.Flags().StringVar(&f.user, "user", "", "`name` to go in with (default $ADITUS_USER)")
	cmd.Flags().StringVar(&f.key, "key", "", "`file` with an ssh key (default $ADITUS_SSH_KEY)")
	cmd.Flags().BoolVar(&f.ask, "ask", false, "ask for a password or token; without it $ADITUS_PASSWORD is taken")
}

// read gives the credential that was given; nil for none. A password never stands on the command line, where others
// can see it.
func (f *linkFlags) read(cmd *cobra.Command) (*source.Credential, error) {
	c := source.Credential{User: cmp.Or(f.user, os.Getenv("ADITUS_USER")), Password: os.Getenv("ADITUS_PASSWORD"), Passphrase: os.Getenv("ADITUS_SSH_PASSPHRASE")}
	if name := cmp.Or(f.key, os.Getenv("ADITUS_SSH_KEY")); name != "" {
		text, err := os.ReadFile(name)
		if err != nil {
			return nil, fmt.Errorf("read the ssh key: %w", err)
		}
		c.Key = string(text)
	}
	if f.ask {
		what := "Password or token: "
		if c.Key != "" {
			what = "Passphrase of the key: "
		}
		secret, err := askSecret(cmd, what)
		if err != nil {
			return nil, err
		}
		if c.Key != "" {
			c.Passphrase = secret
		} else {
			c.Password = secret
		}
	}
	if c == (source.Credential{}) {
		return nil, nil
	}
	return &c, nil
}

// askSecret reads a secret: without showing it from a terminal, else from a line of standard input.
func askSecret(cmd *cobra.Command, what string) (string, error) {
	if file, ok := cmd.InOrStdin().(*os.File); ok && term.IsTerminal(file.Fd()) {
		fmt.Fprint(cmd.ErrOrStderr(), what)
		text, err := term.ReadPassword(file.Fd())
		fmt.Fprintln(cmd.ErrOrStderr())
		return string(text), err
	}
	text, err := bufio.NewReader(cmd.InOrStdin()).ReadString('\n')
	if err != nil && !errors.Is(err, io.EOF) {
		return "", fmt.Errorf("read the secret: %w", err)
	}
	return strings.TrimRight(text, "\r\n"), nil
}

func newLinkAdd() *cobra.Command {
	var folder string
	var f linkFlags
	cmd := &cobra.Command{
		Use:   "add NAME REPOSITORY",
		Short: "Connect a repository, or a bundle in a registry",
		Long: `Tries the connection at once, looks for workloads in it, and keeps it in the
settings. REPOSITORY is a local path; an address with https, ssh, git or file;
USER@HOST:PATH; or oci://HOST/PATH for a bundle of declarations.

Sites that the declarations name and the settings do not have yet are added as
stand-ins that take revisions by hand. A running Aditus takes the link over at once.

Credentials are asked for with --ask, or taken from the environment; they are kept
encrypted in the data folder and never shown again.`,
		Example: `  aditus link add line ~/src/declarations
  aditus link add line https://git.skerry.example/line.git --user maren --ask
  aditus link add line git@git.skerry.example:line.git --key ~/.ssh/id_ed25519
  aditus link add base oci://registry.skerry.example/line/base --version ^1.4`,
		Args: twoArgs("NAME and REPOSITORY"),
		RunE: func(cmd *cobra.Command, args []string) error {
			folder, err := lineFolder(folder)
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

// lookPatience is how long a repository may take to answer on the command line.
const lookPatience = 2 * time.Minute

func addLink(cmd *cobra.Command, folder string, f linkFlags) error {
	ctx, cancel := context.WithTimeout(cmd.Context(), lookPatience)
	defer cancel()
	link, err := f.complete()
	if err != nil {
		return err
	}
	credential, err := f.read(cmd)
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
	found, head, err := source.Find(ctx, link, access)
	if err != nil {
		return fmt.Errorf("the link is not added: %w", err)
	}
	took := time.Since(began)
	if link.Folder, err = chooseFolder(cmd, found, link.Folder); err != nil {
		return err
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
	var sites []string
	for _, at := range found {
		if at.Folder == link.Folder {
			sites = at.Sites()
		}
	}
	before, _ := readSettings(folder)
	settings, err := engine.AddLink(folder, engine.Settings{Line: "Your line", Beat: time.Second}, link, sites, f.skip)
	if err != nil {
		return err
	}
	out := cmd.OutOrStdout()
	fmt.Fprintf(out, "%s answers in %s: %s is at %.7s, “%s” by %s\n", kit.Plain(link.Where()), say.Took(took), kit.Plain(link.Ref()), head.Hash, kit.Plain(head.Subject), kit.Plain(head.Author))
	for _, at := range found {
		if at.Folder == link.Folder {
			tellFound(out, at)
		}
	}
	var added []string
	for _, site := range settings.Sites[len(before.Sites):] {
		added = append(added, site.Name)
	}
	if len(added) > 0 {
		fmt.Fprintf(out, "new in the settings, as stand-ins that take revisions by hand: %s\n", say.List(added))
	}
	tellProblems(ctx, out, link, access, settings, key)
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

// tellProblems tells what is wrong with what a link declares now. The link stays: it is read again at every look.
func tellProblems(ctx context.Context, out io.Writer, link source.Link, access source.Access, settings engine.Settings, key *source.Opener) {
	look, err := source.LookAt(ctx, link, access, source.Seen{}, true)
	if err != nil {
		fmt.Fprintln(out, kit.Plain(err.Error()))
		return
	}
	_, problems := source.Load(ctx, look.Files, source.Options{Set: link.Variables, Opener: key, Resolve: source.NewRegistries(settings.Registries, nil).Resolve})
	for _, p := range problems.In(link.Folder) {
		fmt.Fprintln(out, kit.Plain(p.Error()))
	}
	if len(problems.Wrong()) > 0 {
		fmt.Fprintln(out, "Nothing of it is taken until that is mended.")
	}
}

// complete fills in what was left out, and checks.
func (f *linkFlags) complete() (source.Link, error) {
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
	if err := link.Check(); err != nil {
		return link, usageError{err}
	}
	return link, nil
}

// chooseFolder gives the folder to watch: the one that was named, or the one that has declarations, or the one that a
// person chooses of several.
func chooseFolder(cmd *cobra.Command, found []source.Found, named string) (string, error) {
	if len(found) == 0 {
		return "", errors.New("the link is not added: there are no declarations in it; a declaration is a .yaml file that starts with aditus: 1, see docs/declarations.md")
	}
	for _, at := range found {
		if named != "" && at.Folder == strings.TrimSuffix(named, "/") {
			return at.Folder, nil
		}
	}
	if named == "" && len(found) == 1 {
		return found[0].Folder, nil
	}
	out := cmd.ErrOrStderr()
	for i, at := range found {
		fmt.Fprintf(out, "%3d  %s\n", i+1, at.Folder)
		tellFound(out, at)
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

func tellFound(w io.Writer, at source.Found) {
	table := tabwriter.NewWriter(w, 0, 0, 2, ' ', 0)
	for _, workload := range at.Workloads {
		fmt.Fprintf(table, "     %s\t%s\n", kit.Plain(workload.Name), kit.Plain(strings.Join(workload.Sites, " ")))
	}
	table.Flush()
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
			link, err := f.complete()
			if err != nil {
				return err
			}
			credential, err := f.read(cmd)
			if err != nil {
				return err
			}
			access := source.Access{}
			if credential != nil {
				access.Credential = *credential
			}
			found, _, err := source.Find(cmd.Context(), link, access)
			if err != nil {
				return err
			}
			if asJSON {
				return writeJSON(cmd.OutOrStdout(), found)
			}
			for _, at := range found {
				fmt.Fprintln(cmd.OutOrStdout(), at.Folder)
				tellFound(cmd.OutOrStdout(), at)
			}
			return nil
		},
	}
	f.add(cmd)
	cmd.Flags().BoolVar(&asJSON, "json", false, "as JSON")
	return cmd
}

func newLinkTest() *cobra.Command {
	var folder string
	cmd := &cobra.Command{
		Use:   "test [NAME...]",
		Short: "Try links now; nothing is taken from them",
		RunE: func(cmd *cobra.Command, args []string) error {
			folder, err := dataFolder(folder)
			if err != nil {
				return err
			}
			settings, err := readSettings(folder)
			if err != nil {
				return err
			}
			outside, err := engine.OpenOutside(folder, nil)
			if err != nil {
				return err
			}
			bad := false
			for _, link := range settings.Links {
				if len(args) > 0 && !contains(args, link.Name) {
					continue
				}
				ctx, cancel := context.WithTimeout(cmd.Context(), lookPatience)
				began := time.Now()
				look, err := source.LookAt(ctx, link, source.Access{Credential: outside.Credentials(link.Name)}, source.Seen{}, true)
				cancel()
				if err != nil {
					bad = true
					fmt.Fprintf(cmd.OutOrStdout(), "%s: %s\n", link.Name, kit.Plain(err.Error()))
					continue
				}
				fmt.Fprintf(cmd.OutOrStdout(), "%s: answers in %s, %s is at %.7s, %s\n", link.Name, say.Took(time.Since(began)), link.Ref(), look.Commit, say.Count(len(look.Files), "file"))
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

func contains(list []string, wanted string) bool {
	for _, one := range list {
		if one == wanted {
			return true
		}
	}
	return false
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
			var s engine.Snapshot
			if book, err := ledger.OpenToRead(folder); err == nil {
				s, _ = control.Recorded(book) // without one nothing was asked yet
				book.Close()
			}
			var links []engine.Link
			for _, link := range settings.Links {
				shown := engine.Link{Name: link.Name, Repository: link.Where(), Ref: link.Ref(), Folder: link.Folder, Every: link.Every, Bundle: link.Bundle()}
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
				fmt.Fprintf(cmd.OutOrStdout(), "%s: %s\n", l.Name, kit.Plain(control.LinkLine(l, s.Now)))
				if l.Problem != nil {
					fmt.Fprintf(cmd.OutOrStdout(), "  %s\n", kit.Plain(say.Sentence(l.Problem.Text)))
				}
			}
			return nil
		},
	}
	dataFlag(cmd, &folder)
	cmd.Flags().BoolVar(&asJSON, "json", false, "as JSON")
	return cmd
}

func newLinkRemove() *cobra.Command {
	var folder string
	cmd := &cobra.Command{
		Use:   "remove NAME",
		Short: "Forget a link and its credential; what it declared stays live",
		Args:  oneArg("link's name"),
		RunE: func(cmd *cobra.Command, args []string) error {
			folder, err := dataFolder(folder)
			if err != nil {
				return err
			}
			if err := engine.RemoveLink(folder, args[0]); err != nil {
				return err
			}
			key, err := source.OpenKey(folder)
			if err != nil {
				return err
			}
			return errors.Join(key.KeepCredential(folder, args[0], nil), key.KeepCredential(folder, hookName(args[0]), nil))
		},
	}
	dataFlag(cmd, &folder)
	return cmd
}

func newLinkCredential() *cobra.Command {
	var folder string
	var f linkFlags
	cmd := &cobra.Command{
		Use:   "credential NAME",
		Short: "Give a link, or a registry's host, another credential",
		Args:  oneArg("link's name or registry's host"),
		RunE: func(cmd *cobra.Command, args []string) error {
			folder, err := dataFolder(folder)
			if err != nil {
				return err
			}
			c, err := f.read(cmd)
			if err != nil {
				return err
			}
			if c == nil {
				return usageError{errors.New("there is no credential: use --ask, --key, or $ADITUS_PASSWORD")}
			}
			key, err := source.OpenKey(folder)
			if err != nil {
				return err
			}
			return key.KeepCredential(folder, args[0], c)
		},
	}
	dataFlag(cmd, &folder)
	f.credential(cmd)
	return cmd
}

func newLinkHook() *cobra.Command {
	var folder string
	cmd := &cobra.Command{
		Use:   "webhook NAME",
		Short: "Make a link's webhook secret anew and print it, once",
		Long: `Makes a secret for POST /hooks/NAME and prints it; give it to whoever sends the
webhooks. The one before no longer counts. The address is the one under listen in
the settings. docs/links.md tells what is sent.`,
		Args: oneArg("link's name"),
		RunE: func(cmd *cobra.Command, args []string) error {
			folder, err := dataFolder(folder)
			if err != nil {
				return err
			}
			settings, err := readSettings(folder)
			if err != nil {
				return err
			}
			known := false
			for _, l := range settings.Links {
				known = known || l.Name == args[0]
			}
			if !known {
				return fmt.Errorf("there is no link %q", args[0])
			}
			key, err := source.OpenKey(folder)
			if err != nil {
				return err
			}
			secret := rand.Text()
			if err := key.KeepCredential(folder, hookName(args[0]), &source.Credential{Password: secret}); err != nil {
				return err
			}
			if settings.Listen == "" {
				fmt.Fprintln(cmd.ErrOrStderr(), "No webhook comes in yet: name an address under listen: in the settings, such as 127.0.0.1:8790, and start Aditus again.")
			}
			fmt.Fprintln(cmd.OutOrStdout(), secret)
			return nil
		},
	}
	dataFlag(cmd, &folder)
	return cmd
}

func writeJSON(w io.Writer, value any) error {
	out := json.NewEncoder(w)
	out.SetIndent("", "  ")
	return out.Encode(value)
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
