package source

import (
	"bytes"
	"os"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"aditus/internal/core/declare"
)

// TestLine reads the example of the docs by the reader and by the schema, and what is wrong in each of several ways.
func TestLine(t *testing.T) {
	value, err := jsonschema.UnmarshalJSON(bytes.NewReader(declare.LineSchema))
	if err != nil {
		t.Fatal(err)
	}
	compiler := jsonschema.NewCompiler()
	if err := compiler.AddResource("line.json", value); err != nil {
		t.Fatal(err)
	}
	schema, err := compiler.Compile("line.json")
	if err != nil {
		t.Fatal(err)
	}
	docs, err := os.ReadFile("../../docs/line.md")
	if err != nil {
		t.Fatal(err)
	}
	_, text, _ := strings.Cut(string(docs), "```yaml\n")
	text, _, _ = strings.Cut(text, "```")
	load := func(text string) (Loaded, declare.Problems) {
		return Load(t.Context(), []File{{Name: "line.yaml", Text: []byte(text)}}, Options{Sites: []string{"drydock", "slipway", "north", "south", "isles"}})
	}
	loaded, problems := load(text)
	if len(problems) > 0 || loaded.Line == nil || len(loaded.Line.Courses) != 2 || len(loaded.Line.Windows) != 1 {
		t.Fatalf("the example of the docs: %v, %+v", problems, loaded.Line)
	}
	if c := loaded.Line.CourseOf("tides"); c == nil || c.Name != "quick" {
		t.Errorf("the course of tides is %+v", c)
	}
	example, _ := asJSON(t, text)
	if err := schema.Validate(example); err != nil {
		t.Errorf("the schema refuses the example of the docs: %v", err)
	}
	for want, change := range map[string][2]string{
		"line.yaml:11:5: a course has no key \"onn\"; did you mean \"on\"?": {"    on: true\n    override", "    onn: true\n    override"},
		"on must be true or false":                                 {"    on: true\n    override", "    on: maybe\n    override"},
		"there is no site \"quay\"":                                {"{sites: [drydock]}\n      - sites", "{sites: [drydock, quay]}\n      - sites"},
		"slipway does not stand in a step before":                  {"{sites: [drydock]}\n      - sites", "{sites: [drydock], after: slipway}\n      - sites"},
		"drydock stands in two steps":                              {"sites: [isles], after: {any", "sites: [isles, drydock], after: {any"},
		"it waits for nothing that was proven":                     {"{sites: [drydock]}\n      - sites", "{sites: [drydock], for: 2h}\n      - sites"},
		"expected one of stop, go on, all, not \"never\"":          {"back: stop", "back: never"},
		"fewer boats by night: cron: \"0 22 * *\" is no cron":      {"\"0 22 * * *\"", "\"0 22 * *\""},
		"write either cron: or at:":                                {"cron: \"0 22 * * *\", zone", "zone"},
		"does not say to how many instances":                       {", to: 1", ""},
		"to must be a whole number":                                {", to: 1", ", to: few"},
		"what a sync would do does not scale":                      {"do: preview", "do: preview, to: 2"},
		"there are two schedules named \"all boats by day\"":       {"fewer boats by night", "all boats by day"},
		"would restart all that the line has":                      {"do: preview, teams: [islanders]", "do: restart"},
		"says not when it is, or twice":                            {"after: 720h", "after: 720h, at: 2026-12-28"},
		"would be the end of all that the line has":                {"workloads: [quiet-hours], ", ""},
		"would be announced before it began":                       {"after: 720h", "after: 70h"},
		"\"tomorrow\" is no moment":                                {"after: 720h", "at: tomorrow"},
		"\"preview\" is no pattern of branches":                    {"preview/*", "preview"},
		"the host name is the same for all branches":               {"{branch}.crewing", "crewing"},
		"there is no site \"nroth\"":                               {"weekdays, sites: [north]", "weekdays, sites: [nroth]"},
		"there is no site \"isle\"":                                {"  isles: {team", "  isle: {team"},
		"there is no site \"dock\"":                                {"site: drydock", "site: dock"},
		"it must be all or any of several":                         {"{any: [north, south]}", "{any: [north, south], all: [north]}"},
		"is for all workloads, as the course line is":              {"    workloads: [tide*]\n", ""},
		"have not the same course":                                 {"[boarding, gates]", "[boarding, tides]"},
		"weekdays: there is no time zone \"Atlantic/Skerry\"":      {"sites: [north], zone: Atlantic/Faroe", "sites: [north], zone: Atlantic/Skerry"},
		"harbour festival: it ends at 2026-11-03T20:00, before it": {"until: 2026-12-03", "until: 2026-11-03"},
		"no cron schedule":                                         {"drift: {then", "drift: {look: often, then"},
		"is for the team anglers, which has no site":               {"sites: [north], zone", "teams: [anglers], zone"},
		"a role is nobody's":                                       {"harbour: [Maren Oake]", "harbour: []"},
	} {
		changed := strings.Replace(text, change[0], change[1], 1)
		if _, problems := load(changed); changed == text || !strings.Contains(problems.Error(), want) {
			t.Errorf("%q: %v", want, problems)
		}
	}
	if _, problems := Load(t.Context(), []File{{Name: "line.yaml", Text: []byte(text)}}, Options{NotLine: true}); len(problems) != 1 || !problems[0].Warning {
		t.Errorf("in a link that is not named: %v", problems)
	}
}
