package cli

import (
	"github.com/spf13/cobra"

	"aditus/internal/core/declare"
)

func newSchema() *cobra.Command {
	return &cobra.Command{
		Use:   "schema",
		Short: "The JSON Schema of declarations",
		Long: `Prints the JSON Schema (2020-12) of declarations, for editors that complete and
check YAML as you type. aditus check finds more than a schema can say.`,
		Example: "  aditus schema > declaration.schema.json",
		Args:    noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			_, err := cmd.OutOrStdout().Write(declare.Schema)
			return err
		},
	}
}
