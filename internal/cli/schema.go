package cli

import (
	"fmt"
	"maps"
	"slices"

	"github.com/spf13/cobra"

	"aditus/internal/control"
	"aditus/internal/control/api"
	"aditus/internal/core/alert"
	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
	"aditus/internal/core/guard/panel"
	"aditus/internal/core/say"
	"aditus/internal/ledger"
	"aditus/internal/scrape"
	"aditus/internal/source"
	"aditus/internal/status"
	"aditus/internal/view"
	"aditus/internal/words"
)

// readSchemas are those of what is read, and of what is written line by line.
func readSchemas() map[string][]byte {
	return map[string][]byte{"declaration": declare.Schema, "line": declare.LineSchema, "settings": settingsSchema(), "fact": ledger.FactSchema, "alert": alert.Schema, "verdict": guard.VerdictSchema, "recording": scrape.RecordingSchema, "played": panel.PlayedSchema}
}

// answers are what commands print with -o json, by the names of their schemas.
var answers = map[string]any{
	"status": status.Snapshot{}, "compare": view.Comparison{}, "review": status.Review{}, "course": status.Course{}, "calendar": status.Calendar{}, "sites": api.Sites{}, "spread": view.Spread{}, "report": view.Report{},
	"log": written{}, "links": []status.Link{}, "tokens": []control.TokenShown{}, "proposal": source.Proposal{}, "version": programVersion{}, "told": told{}, "leaving": []words.Leaving{}, "strays": api.Strays{},
}

func newSchema() *cobra.Command {
	names := slices.Concat(slices.Sorted(maps.Keys(readSchemas())), slices.Sorted(maps.Keys(answers)))
	return &cobra.Command{
		Use:   "schema [NAME]",
		Short: "The JSON Schema of what is read and written",
		Long: `Prints the JSON Schema (2020-12) of declarations, for editors that complete and
check YAML as you type; aditus check finds more than a schema can say. With a name it prints that of a line's rules
(line), of the settings, of a fact (one line of ledger.jsonl), of an alert (what comes to /alerts/NAME), of a verdict (one line of aditus guard replay), of a
recording that it replays, or of what it makes of it (played); or that of what a command prints with -o json:
` + say.List(slices.Sorted(maps.Keys(answers))) + `. (told is a line of sync, wait and the orders.)`,
		Example:   "  aditus schema > declaration.schema.json\n  aditus schema status",
		ValidArgs: names,
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
			schema, ok := readSchemas()[name]
			if answer, is := answers[name]; is {
				schema, ok = api.SchemaOf("What aditus prints as "+name, answer), true
			}
			if !ok {
				return usageError{fmt.Errorf("there is no schema of %q; there are %s", name, say.List(names))}
			}
			_, err := cmd.OutOrStdout().Write(schema)
			return err
		},
	}
}
