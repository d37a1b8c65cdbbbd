package ledger

import (
	"encoding/json"
	"go/ast"
	"go/parser"
	"go/token"
	"slices"
	"strconv"
	"testing"
)

// TestKinds holds the kinds of facts that there are in the code against those of the schema.
func TestKinds(t *testing.T) {
	var schema struct {
		Properties struct{ Kind struct{ Enum []string } }
	}
	if err := json.Unmarshal(FactSchema, &schema); err != nil {
		t.Fatal(err)
	}
	seen := 0
	for _, name := range []string{"../core/rollout/fact.go", "../core/berth/fact.go"} {
		file, err := parser.ParseFile(token.NewFileSet(), name, nil, 0)
		if err != nil {
			t.Fatal(err)
		}
		ast.Inspect(file, func(n ast.Node) bool {
			constant, ok := n.(*ast.ValueSpec)
			if !ok || len(constant.Values) == 0 {
				return true
			}
			text, ok := constant.Values[0].(*ast.BasicLit)
			if !ok || text.Kind != token.STRING {
				return true
			}
			kind, _ := strconv.Unquote(text.Value)
			if seen++; !slices.Contains(schema.Properties.Kind.Enum, kind) {
				t.Errorf("%s: a fact of the kind %q is not in fact.schema.json", name, kind)
			}
			return true
		})
	}
	if seen < 25 {
		t.Errorf("only %d kinds were read: the test looks in the wrong place", seen)
	}
}
