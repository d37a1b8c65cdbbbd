package declare

import (
	"fmt"
	"strings"

	"aditus/internal/core/guard"
	"aditus/internal/core/say"
)

// Floor is what holds for what it selects, whatever is declared.
type Floor struct {
	Name string `json:"name"`
	Selector
	Rules    []HouseRule  `json:"rules,omitempty"`
	Soak     Span         `json:"soak,omitzero"` // of all stages together at least
	Proving  Span         `json:"proving,omitzero"`
	SignOffs []string     `json:"sign-offs,omitempty"` // roles; each gives one before the first stage with less than all of the traffic is gone on from
	Guards   []guard.Rule `json:"guards,omitempty"`
}

// HouseRule is a rule of the house as it is written: an expression in CEL that must be true of every berth.
type HouseRule struct {
	Name  string `json:"name"`
	Must  string `json:"must"`
	Says  string `json:"say"`             // the author's sentence, where it does not hold
	Warns bool   `json:"warns,omitempty"` // it is told, and refuses nothing
	At    Node   `json:"-"`               // where Must stands
}

// Hold gives a desired state that is no looser than the floor; held names what it was short of, in words.
func (f Floor) Hold(d Desired) (own Desired, held []string) {
	least := Desired{Rollout: Rollout{Style: d.Rollout.Style, Proving: f.Proving, Control: d.Rollout.Control, Stages: []Stage{{Share: 1, Soak: f.Soak}}}, Guards: f.Guards}
	for _, role := range f.SignOffs {
		least.Rollout.Stages = append(least.Rollout.Stages, Stage{SignOff: role})
	}
	return tighten(d, least, " of "+f.Name, true)
}

// ReadFloors reads floors that stand in a document of their own.
func ReadFloors(document Node) ([]Floor, Problems) {
	r := &reader{}
	var floors []Floor
	r.fields(document, "", "the floors", []string{"aditus", "floors"}, map[string]func(Node, string){
		"aditus": r.format,
		"floors": func(n Node, p string) { floors = r.floors(n, p) },
	})
	r.problems.Sort()
	return floors, r.problems
}

func (r *reader) floors(n Node, pointer string) (all []Floor) {
	r.several(n, pointer, "floors", func(item Node, p string) (string, bool) {
		var f Floor
		known := map[string]func(Node, string){
			"name":      func(n Node, p string) { f.Name = r.text(n, p, "name") },
			"soak":      func(n Node, p string) { f.Soak = r.span(n, p, 0) },
			"proving":   func(n Node, p string) { f.Proving = r.span(n, p, 0) },
			"sign-offs": func(n Node, p string) { f.SignOffs = r.people(n, p, "sign-offs") },
			"guards":    func(n Node, p string) { f.Guards = r.guards(n, p) },
			"rules":     func(n Node, p string) { f.Rules = r.houseRules(n) },
		}
		r.selector(known, &f.Selector)
		if !r.fields(item, p, "a floor", []string{"name"}, known) {
			return "", false
		}
		all = append(all, f)
		return f.Name, true
	})
	return all
}

const ruleShape = "write rules: [{name: …, must: …, say: …}]"

// ReadRules reads the rules of the house from a document that has them under rules.
func ReadRules(document Node) ([]HouseRule, Problems) {
	r := &reader{}
	if version, ok := document.Get("aditus"); !ok || version.Text != fmt.Sprint(Format) {
		r.wrong(document, "", "start with aditus: 1", "rules need the version of their format")
	}
	list, ok := document.Get("rules")
	if _, judges := document.Get("health"); !ok && judges {
		return nil, r.problems
	}
	if !ok {
		list = document
		list.Kind = Null
	}
	return r.houseRules(list), r.problems
}

func (r *reader) houseRules(list Node) (rules []HouseRule) {
	if list.Kind != List {
		r.wrong(list, "", ruleShape, "rules must be a list")
		return nil
	}
	known := map[string]bool{}
	for _, item := range list.Items {
		var rule HouseRule
		for _, entry := range item.Entries {
			switch entry.Key.Text {
			case "name":
				rule.Name = entry.Value.Text
			case "say":
				rule.Says = strings.TrimSpace(entry.Value.Text)
			case "must":
				rule.Must, rule.At = entry.Value.Text, entry.Value
			case "then":
				if entry.Value.Text != "warn" && entry.Value.Text != "refuse" {
					r.wrong(entry.Value, "", "write refuse or warn", "a rule refuses or warns, and does not %q", entry.Value.Text)
				}
				rule.Warns = entry.Value.Text == "warn"
			default:
				r.wrong(entry.Key, "", "known are must, name, say, then", "a rule has no key %q", entry.Key.Text)
			}
		}
		switch {
		case rule.Name == "" || rule.Says == "" || rule.Must == "":
			r.wrong(item, "", ruleShape, "a rule needs a name, what must be true, and the sentence to say where it is not")
		case known[rule.Name]:
			r.wrong(item, "", "give each rule a name of its own", "there are two rules %q", rule.Name)
		default:
			known[rule.Name] = true
			rules = append(rules, rule)
		}
	}
	return rules
}

// HoldAll holds a desired state to several floors; held tells, for each that it was short of, what was.
func HoldAll(floors []Floor, d Desired) (own Desired, held []string) {
	for _, f := range floors {
		var short []string
		if d, short = f.Hold(d); len(short) > 0 {
			held = append(held, fmt.Sprintf("%s asks for %s", f.Name, say.List(short)))
		}
	}
	return d, held
}
