package source

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"sync"

	"cel.dev/cel-go/cel"

	"aditus/internal/core/declare"
	"aditus/internal/expression"
)

// Rule is a rule of the house: an expression in CEL (cel.dev) that must be true of every berth.
type Rule struct {
	Name  string
	Says  string // the author's sentence, where it does not hold
	Warns bool   // it is told, and refuses nothing

	program cel.Program
}

// mostCost bounds what a rule may compute for one berth, in CEL's units of cost.
const mostCost = 10_000_000

// ruleEnvironment is what a rule can speak of: workload and site are names; parts and desired are the desired state in
// the form of aditus render.
var ruleEnvironment = sync.OnceValues(func() (*cel.Env, error) {
	return cel.NewEnv(
		cel.Variable("workload", cel.StringType), cel.Variable("site", cel.StringType),
		cel.Variable("parts", cel.MapType(cel.StringType, cel.DynType)), cel.Variable("desired", cel.MapType(cel.StringType, cel.DynType)),
	)
})

// ReadRules reads the rules of the house.
func ReadRules(document declare.Node) ([]Rule, declare.Problems) {
	written, problems := declare.ReadRules(document)
	rules, wrong := compileRules(written)
	return rules, append(problems, wrong...)
}

// ReadFloors reads a file of this machine that says what holds whatever is declared; there is nothing in it where name is empty.
func ReadFloors(name string) ([]declare.Floor, error) {
	if name == "" {
		return nil, nil
	}
	text, err := os.ReadFile(name)
	if err != nil {
		return nil, fmt.Errorf("what holds whatever is declared: %w", err)
	}
	node, err := ReadYAML(name, text)
	if err != nil {
		return nil, err
	}
	floors, problems := declare.ReadFloors(node)
	for _, floor := range floors {
		_, wrong := compileRules(floor.Rules)
		problems = append(problems, wrong...)
		if len(floor.Teams) > 0 {
			problems = append(problems, declare.Problem{File: name, Line: 1, Column: 1, Message: "teams are the line's, and not known in a file of this machine", Suggestion: "name sites"})
		}
	}
	if len(problems) > 0 {
		return nil, problems
	}
	return floors, nil
}

// compileRules makes rules that can be asked of those that are written.
func compileRules(written []declare.HouseRule) (rules []Rule, problems declare.Problems) {
	environment, err := ruleEnvironment()
	if err != nil {
		panic(fmt.Sprintf("the environment of rules is fixed: %v", err))
	}
	for _, w := range written {
		wrong := func(suggestion, format string, args ...any) {
			problems = append(problems, declare.Problem{File: w.At.File, Line: w.At.Line, Column: w.At.Column, Message: fmt.Sprintf(format, args...), Suggestion: suggestion})
		}
		ast, issues := environment.Compile(w.Must)
		if issues.Err() != nil {
			wrong("see cel.dev for the language", "the rule %s is not understood: %s", w.Name, strings.Join(strings.Fields(issues.Err().Error()), " "))
			continue
		}
		if ast.OutputType() != cel.BoolType && ast.OutputType() != cel.DynType {
			wrong("end it with a comparison", "the rule %s must be true or false, and is %s", w.Name, ast.OutputType())
			continue
		}
		program, err := environment.Program(ast, cel.CostLimit(mostCost), cel.CostTracking(nil), cel.InterruptCheckFrequency(1000))
		if err != nil {
			wrong("", "the rule %s cannot be used: %v", w.Name, err)
			continue
		}
		rules = append(rules, Rule{w.Name, w.Says, w.Warns, program})
	}
	return rules, problems
}

// ReadHealth reads, from the same document, how objects of a kind are told to be doing, by kind.
func ReadHealth(document declare.Node) (map[string]declare.Rule, declare.Problems) {
	rules := map[string]declare.Rule{}
	var problems declare.Problems
	wrong := func(at declare.Node, suggestion, format string, args ...any) {
		problems = append(problems, declare.Problem{File: at.File, Line: at.Line, Column: at.Column, Pointer: "/health", Message: fmt.Sprintf(format, args...), Suggestion: suggestion})
	}
	const shape = "write health: {Boat.skerry.example: {healthy: object.status.phase == 'Afloat'}}"
	of, _ := document.Get("health")
	if of.Kind != declare.Map && of.Kind != declare.Null {
		wrong(of, shape, "health must be a mapping of kinds")
	}
	for _, entry := range of.Entries {
		var rule declare.Rule
		for _, field := range entry.Value.Entries {
			into := map[string]*string{"healthy": &rule.Healthy, "failing": &rule.Failing, "say": &rule.Say}[field.Key.Text]
			if into == nil {
				wrong(field.Key, "known are healthy, failing, say", "a rule of health has no key %q", field.Key.Text)
				continue
			}
			*into = strings.TrimSpace(field.Value.Text)
			if field.Key.Text == "say" {
				continue
			}
			if _, err := expression.Compile(*into); err != nil {
				wrong(field.Value, "see cel.dev for the language; the object is called object", "when a %s is %s is not understood: %v", entry.Key.Text, field.Key.Text, err)
			}
		}
		if rule.Healthy == "" {
			wrong(entry.Value, shape, "the rule for %s does not say when one is healthy", entry.Key.Text)
		}
		rules[entry.Key.Text] = rule
	}
	return rules, problems
}

// Holds tells whether a rule is true of a berth, and what it took to tell, in CEL's units of cost.
func (r Rule) Holds(ctx context.Context, d Declaration) (holds bool, cost uint64, err error) {
	text, err := json.Marshal(d.Desired)
	if err != nil {
		return false, 0, err
	}
	var desired map[string]any
	if err := json.Unmarshal(text, &desired); err != nil {
		return false, 0, err
	}
	value, details, err := r.program.ContextEval(ctx, map[string]any{"workload": d.Workload, "site": d.Site, "parts": desired["parts"], "desired": desired})
	if details != nil && details.ActualCost() != nil {
		cost = *details.ActualCost()
	}
	if err != nil {
		return false, cost, err
	}
	holds, ok := value.Value().(bool)
	if !ok {
		return false, cost, fmt.Errorf("it gives %v, not true or false", value.Value())
	}
	return holds, cost, nil
}

func sortedKeys[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }
