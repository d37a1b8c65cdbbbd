package cli

import (
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"
)

// Manual writes the manual pages (section 1) of all commands into a folder, as of a day, and what shells complete commands with, into
// folders beside: bash, zsh and fish.
func Manual(folder string, day time.Time) error {
	root := newRoot()
	pages := filepath.Join(folder, "man")
	if err := os.MkdirAll(pages, 0o755); err != nil {
		return err
	}
	if err := doc.GenManTree(root, &doc.GenManHeader{Title: "ADITUS", Section: "1", Source: "Aditus " + thisVersion().Version, Manual: "Aditus", Date: &day}, pages); err != nil {
		return err
	}
	for name, write := range map[string]func(*cobra.Command, string) error{
		"bash/aditus":      func(c *cobra.Command, name string) error { return c.GenBashCompletionFileV2(name, true) },
		"zsh/_aditus":      func(c *cobra.Command, name string) error { return c.GenZshCompletionFile(name) },
		"fish/aditus.fish": func(c *cobra.Command, name string) error { return c.GenFishCompletionFile(name, true) },
	} {
		name = filepath.Join(folder, filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
			return err
		}
		if err := write(root, name); err != nil {
			return err
		}
	}
	return nil
}
