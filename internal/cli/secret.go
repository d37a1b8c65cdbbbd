package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/charmbracelet/x/term"
	"github.com/spf13/cobra"

	"aditus/internal/source"
)

func newSecret() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "secret",
		Short: "Values that are encrypted in Git",
		Args:  noArgs,
		RunE:  func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(newSecretKey(), newSecretSeal())
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

func newSecretSeal() *cobra.Command {
	var folder string
	var to []string
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "seal",
		Short: "Encrypt a value for a part of kind secret",
		Long: `Reads a value from standard input, or asks for it, and prints it encrypted with age,
to be pasted under values: of a part of kind secret, after NAME: |. It is sealed for
this data folder's key, or for the public keys that are named with --to.`,
		Example: "  printf %s 'the password' | aditus secret seal",
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
			sealed, err := key.Seal(plain, to...)
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
	cmd.Flags().StringArrayVar(&to, "to", nil, "a public `key` to seal for; may stand several times")
	return cmd
}
