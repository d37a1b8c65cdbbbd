package cli

import (
	"bufio"
	"cmp"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/charmbracelet/x/term"
	"github.com/spf13/cobra"

	"aditus/internal/config"
	"aditus/internal/source"
)

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

func newLinkCredential() *cobra.Command {
	var folder string
	var f linkFlags
	cmd := &cobra.Command{
		Use:   "credential LINK",
		Short: "Give a link, or a registry's host, another credential",
		Args:  oneArg("link's name or registry's host"),
		RunE: func(cmd *cobra.Command, args []string) error {
			folder, key, err := openToChange(cmd.Context(), folder)
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
		Use:   "webhook LINK",
		Short: "Make a link's webhook secret anew and print it, once",
		Long: `Makes a secret for POST /hooks/NAME and prints it; give it to whoever sends the
webhooks. The one before no longer counts. The address is the one under listen in
the settings. docs/links.md tells what is sent.`,
		Args: oneArg("link's name"),
		RunE: func(cmd *cobra.Command, args []string) error {
			folder, key, err := openToChange(cmd.Context(), folder)
			if err != nil {
				return err
			}
			settings, err := readSettings(folder)
			if err != nil {
				return err
			}
			if !slices.ContainsFunc(settings.Links, func(l config.Link) bool { return l.Name == args[0] }) {
				return settings.ErrNoLink(args[0])
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
