package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
	"aditus/internal/core/guard/panel"
	"aditus/internal/ledger"
	"aditus/internal/scrape"
)

func newSchema() *cobra.Command {
	return &cobra.Command{
		Use:   "schema [declaration|line|settings|fact|verdict|recording|played]",
		Short: "The JSON Schema of what is read and written",
		Long: `Prints the JSON Schema (2020-12) of declarations, for editors that complete and
check YAML as you type; aditus check finds more than a schema can say. With a name
it prints that of a line's rules, of the settings, of a fact (one line of ledger.jsonl), of a verdict (one
line of aditus guard replay), of a recording that it replays, or of what it makes of it.`,
		Example: "  aditus schema > declaration.schema.json",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 1 {
				return usageError{fmt.Errorf("aditus schema takes one name at most, not %d", len(args))}
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			name := "declaration"
			if len(args) == 1 {
				name = args[0]
			}
			schemas := map[string][]byte{"declaration": declare.Schema, "line": declare.LineSchema, "settings": settingsSchema(), "fact": ledger.FactSchema, "verdict": guard.VerdictSchema, "recording": scrape.RecordingSchema, "played": panel.PlayedSchema}
			schema, ok := schemas[name]
			if !ok {
				return usageError{fmt.Errorf("there is no schema of %q; there are declaration, line, settings, fact, verdict, recording and played", name)}
			}
			_, err := cmd.OutOrStdout().Write(schema)
			return err
		},
	}
}
