package source

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
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
	var rules []Rule
	var problems declare.Problems
	wrong := func(at declare.Node, suggestion, format string, args ...any) {
		problems = append(problems, declare.Problem{File: at.File, Line: at.Line, Column: at.Column, Message: fmt.Sprintf(format, args...), Suggestion: suggestion})
	}
	const shape = "write rules: [{name: …, must: …, say: …}]"
	if version, ok := document.Get("aditus"); !ok || version.Text != fmt.Sprint(declare.Format) {
		wrong(document, "start with aditus: 1", "rules need the version of their format")
	}
	list, ok := document.Get("rules")
	if _, judges := document.Get("health"); !ok && judges {
		return nil, problems
	}
	if !ok || list.Kind != declare.List {
		wrong(document, shape, "rules must be a list")
		return nil, problems
	}
	environment, err := ruleEnvironment()
	if err != nil {
		panic(fmt.Sprintf("the environment of rules is fixed: %v", err))
	}
	for _, item := range list.Items {
		var r Rule
		var must declare.Node
		for _, entry := range item.Entries {
			switch entry.Key.Text {
			case "name":
				r.Name = entry.Value.Text
			case "say":
				r.Says = strings.TrimSpace(entry.Value.Text)
			case "must":
				must = entry.Value
			case "then":
				if entry.Value.Text != "warn" && entry.Value.Text != "refuse" {
					wrong(entry.Value, "write refuse or warn", "a rule refuses or warns, and does not %q", entry.Value.Text)
				}
				r.Warns = entry.Value.Text == "warn"
			default:
				wrong(entry.Key, "known are must, name, say, then", "a rule has no key %q", entry.Key.Text)
			}
		}
		if r.Name == "" || r.Says == "" || must.Text == "" {
			wrong(item, shape, "a rule needs a name, what must be true, and the sentence to say where it is not")
			continue
		}
		if slices.ContainsFunc(rules, func(other Rule) bool { return other.Name == r.Name }) {
			wrong(item, "give each rule a name of its own", "there are two rules %q", r.Name)
			continue
		}
		ast, issues := environment.Compile(must.Text)
		if issues.Err() != nil {
			wrong(must, "see cel.dev for the language", "the rule %s is not understood: %s", r.Name, strings.Join(strings.Fields(issues.Err().Error()), " "))
			continue
		}
		if ast.OutputType() != cel.BoolType && ast.OutputType() != cel.DynType {
			wrong(must, "end it with a comparison", "the rule %s must be true or false, and is %s", r.Name, ast.OutputType())
			continue
		}
		r.program, err = environment.Program(ast, cel.CostLimit(mostCost), cel.InterruptCheckFrequency(1000))
		if err != nil {
			wrong(must, "", "the rule %s cannot be used: %v", r.Name, err)
			continue
		}
		rules = append(rules, r)
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

// Holds tells whether a rule is true of a berth.
func (r Rule) Holds(ctx context.Context, d Declaration) (bool, error) {
	text, err := json.Marshal(d.Desired)
	if err != nil {
		return false, err
	}
	var desired map[string]any
	if err := json.Unmarshal(text, &desired); err != nil {
		return false, err
	}
	value, _, err := r.program.ContextEval(ctx, map[string]any{"workload": d.Workload, "site": d.Site, "parts": desired["parts"], "desired": desired})
	if err != nil {
		return false, err
	}
	holds, ok := value.Value().(bool)
	if !ok {
		return false, fmt.Errorf("it gives %v, not true or false", value.Value())
	}
	return holds, nil
}

func sortedKeys[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }
