package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/charmbracelet/x/term"
	"github.com/spf13/cobra"

	"aditus/internal/disk"
	"aditus/internal/source"
)

func newSecret() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "secret",
		Short: "Values that are encrypted in Git",
		Args:  noArgs,
		RunE:  func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(newSecretKey(), newSecretSeal(), newSecretBind())
	return cmd
}

func newSecretKey() *cobra.Command {
	var folder string
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "key",
		Short: "The public key that secrets for this Aditus are sealed with",
		Args:  noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			_, key, err := openKey(folder)
			if err != nil {
				return err
			}
			if asJSON {
				return writeLine(cmd.OutOrStdout(), map[string]string{"key": key.Recipient()})
			}
			fmt.Fprintln(cmd.OutOrStdout(), key.Recipient())
			return nil
		},
	}
	dataFlag(cmd, &folder)
	jsonFlag(cmd, &asJSON)
	return cmd
}

// openKey gives the data folder that is given or meant with its key, and makes both where they are not there yet.
func openKey(given string) (string, *source.Opener, error) {
	folder, err := dataFolder(given)
	if err != nil {
		return "", nil, err
	}
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return "", nil, fmt.Errorf("make the data folder: %w", err)
	}
	key, err := source.OpenKey(folder)
	return folder, key, err
}

// openToChange gives the same where what is kept with it may be changed here.
func openToChange(ctx context.Context, given string) (string, *source.Opener, error) {
	folder, key, err := openKey(given)
	if err == nil {
		err = changeable(ctx, folder)
	}
	return folder, key, err
}

func newSecretSeal() *cobra.Command {
	var folder string
	var to []string
	var place string
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "seal",
		Short: "Encrypt a value for a part of kind secret",
		Long: `Reads a value from standard input, or asks for it, and prints it encrypted with age,
to be pasted under values: of a part of kind secret, after NAME: |. It is sealed for
this data folder's key, or for the public keys that are named with --to. With --for it opens
at that place alone, so that nobody can have it opened by pasting it elsewhere; without, anywhere
where the settings let the repository declare everything.`,
		Example: "  printf %s 'the password' | aditus secret seal --for fares/login/password",
		Args:    noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			_, key, err := openKey(folder)
			if err != nil {
				return err
			}
			var plain string
			if file, ok := cmd.InOrStdin().(*os.File); ok && term.IsTerminal(file.Fd()) {
				plain, err = askSecret(cmd, "Value: ")
			} else {
				var text []byte
				text, err = io.ReadAll(io.LimitReader(cmd.InOrStdin(), 1<<20))
				plain = string(text)
			}
			if err != nil {
				return err
			}
			if plain == "" {
				return errors.New("there is nothing to seal")
			}
			seal := func() (string, error) { return key.Seal(plain, to...) }
			if place != "" {
				at, ok := source.ReadPlace(place)
				if !ok {
					return usageError{fmt.Errorf("--for takes WORKLOAD/PART/KEY, such as fares/login/password, not %q", place)}
				}
				seal = func() (string, error) { return key.SealFor(at, plain, to...) }
			}
			sealed, err := seal()
			if err != nil {
				return err
			}
			if asJSON {
				return writeLine(cmd.OutOrStdout(), map[string]string{"sealed": sealed})
			}
			fmt.Fprintln(cmd.OutOrStdout(), strings.TrimRight(sealed, "\n"))
			return nil
		},
	}
	dataFlag(cmd, &folder)
	jsonFlag(cmd, &asJSON)
	cmd.Flags().StringVar(&place, "for", "", "the `place` where it opens, WORKLOAD/PART/KEY")
	cmd.Flags().StringArrayVar(&to, "to", nil, "a public `key` to seal for; may stand several times")
	return cmd
}

func newSecretBind() *cobra.Command {
	var folder string
	var to []string
	cmd := &cobra.Command{
		Use:   "bind PATH",
		Short: "Seal the secrets in a folder of declarations anew, each for its place",
		Long: `Opens all secrets in a folder of declarations, or one file, that are sealed for no place yet, and
seals each for the workload, part and key that it stands under, so that it opens there alone. The
files are changed; all else in them stays as it is. The key of the data folder is needed to open
them; they are sealed for it, or for the public keys that are named with --to.`,
		Example: "  aditus secret bind workloads/",
		Args:    oneArg("path to a folder of declarations or a file"),
		RunE: func(cmd *cobra.Command, args []string) error {
			_, key, err := openKey(folder)
			if err != nil {
				return err
			}
			files, err := source.FromFolder(args[0])
			if err != nil {
				return err
			}
			bound := 0
			for _, file := range files {
				text, n, err := source.Bind(file, key, to...)
				if err != nil {
					return err
				}
				if n == 0 {
					continue
				}
				at := args[0]
				if info, err := os.Stat(at); err == nil && info.IsDir() {
					at = filepath.Join(at, filepath.FromSlash(file.Name))
				}
				if err := replaceFile(at, text); err != nil {
					return err
				}
				bound += n
				fmt.Fprintf(cmd.OutOrStdout(), "%s: %d sealed anew\n", file.Name, n)
			}
			if bound == 0 {
				fmt.Fprintln(cmd.OutOrStdout(), "All secrets there are sealed for their places already, or there are none.")
			}
			return nil
		},
	}
	dataFlag(cmd, &folder)
	cmd.Flags().StringArrayVar(&to, "to", nil, "a public `key` to seal for; may stand several times")
	return cmd
}

// replaceFile writes a file anew, whole or not at all, with the mode that it has.
func replaceFile(name string, text []byte) error {
	info, err := os.Stat(name)
	if err != nil {
		return err
	}
	return disk.Keep(disk.Machine, name, text, info.Mode().Perm())
}
