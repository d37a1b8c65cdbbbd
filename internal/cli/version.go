package cli

import (
	"fmt"
	"runtime/debug"

	"github.com/spf13/cobra"

	"aditus/internal/core/declare"
)

// programVersion is what is told of this program.
type programVersion struct {
	Version string `json:"version"`
	Commit  string `json:"commit,omitempty"`
	Format  int    `json:"format"` // of the declarations that it reads
}

// thisVersion is this program's, as it was built.
func thisVersion() programVersion {
	v := programVersion{Version: "unreleased", Format: declare.Format}
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return v
	}
	if version := info.Main.Version; version != "" && version != "(devel)" {
		v.Version = version
	}
	for _, s := range info.Settings {
		if s.Key == "vcs.revision" {
			v.Commit = s.Value
		}
	}
	return v
}

// String is the version in one line.
func (v programVersion) String() string {
	commit := ""
	if v.Commit != "" {
		commit = fmt.Sprintf(" (%.7s)", v.Commit)
	}
	return fmt.Sprintf("aditus %s%s, reads declarations of format %d", v.Version, commit, v.Format)
}

func newVersion() *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "version",
		Short: "The version of this program",
		Args:  noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if asJSON {
				return writeLine(cmd.OutOrStdout(), thisVersion())
			}
			_, err := fmt.Fprintln(cmd.OutOrStdout(), thisVersion())
			return err
		},
	}
	jsonFlag(cmd, &asJSON)
	return cmd
}
