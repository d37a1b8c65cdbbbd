package cli

import (
	"fmt"
	"runtime/debug"

	"github.com/spf13/cobra"

	"aditus/internal/core/declare"
)

func newVersion() *cobra.Command {
	return &cobra.Command{
		Use:   "version",
		Short: "The version of this program",
		Args:  noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			version, commit := "unreleased", ""
			if info, ok := debug.ReadBuildInfo(); ok {
				if v := info.Main.Version; v != "" && v != "(devel)" {
					version = v
				}
				for _, s := range info.Settings {
					if s.Key == "vcs.revision" {
						commit = fmt.Sprintf(" (%.7s)", s.Value)
					}
				}
			}
			_, err := fmt.Fprintf(cmd.OutOrStdout(), "aditus %s%s, reads declarations of format %d\n", version, commit, declare.Format)
			return err
		},
	}
}
