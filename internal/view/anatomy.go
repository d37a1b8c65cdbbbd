package view

import (
	"cmp"
	"fmt"
	"maps"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"

	"aditus/internal/core/declare"
	"aditus/internal/core/health"
	"aditus/internal/core/say"
	"aditus/internal/status"
	"aditus/internal/words"
)

// Branch is one row of a berth's anatomy: a cohort, a part of it, or an instance of a part.
type Branch struct {
	ID       string // stays the same from one look to the next
	Depth    int    // 0 for a cohort, 1 for a part, 2 for an instance
	Name     string
	Kind     string // of a part
	Words    string // how it is doing
	Why      string // where it is not well
	Tone     words.Tone
	Side     words.Tone // Moves for what is coming, Quiet else
	Cohort   *status.Cohort
	Part     *status.Part
	Instance *status.Instance
	Last     bool // the last one of its kind under the same parent
}

// Anatomy lists what a berth is made of, from its cohorts down to the instance, with health rolled up.
func Anatomy(b status.Berth, now time.Time) []Branch {
	var rows []Branch
	cohorts := slices.Clone(b.Cohorts)
	if b.Rollout != nil { // what is coming stands first
		slices.SortStableFunc(cohorts, func(x, y status.Cohort) int {
			return cmp.Compare(age(b, x.Revision), age(b, y.Revision))
		})
	}
	for i := range cohorts {
		c := &cohorts[i]
		side, role := words.Quiet, "applied"
		if r := b.Rollout; r != nil {
			switch c.Revision {
			case r.New.Revision:
				side, role = words.Moves, "new"
			case r.Old.Revision:
				role = "old"
			}
		}
		var all []health.Instance
		for _, in := range c.Instances {
			if !in.Done {
				all = append(all, in.Health)
			}
		}
		sum := health.Sum(all, len(all))
		sum.Reason = "" // it stands at the part and the instance
		rows = append(rows, Branch{
			ID: string(c.Revision), Name: strings.TrimSpace(fmt.Sprintf("%s %s", c.Version, c.Revision.Short())), Kind: role,
			Words: trafficOf(c) + ", " + words.Health(sum), Tone: toneOfHealth(sum.Word), Side: side, Cohort: c, Last: i == len(b.Cohorts)-1,
		})
		for k := range c.Parts {
			rows = append(rows, partBranch(c, &c.Parts[k], side, k == len(c.Parts)-1, now)...)
		}
	}
	return rows
}

func age(b status.Berth, revision declare.Fingerprint) int {
	if revision == b.Rollout.New.Revision {
		return 0
	}
	return 1
}

func partBranch(c *status.Cohort, part *status.Part, side words.Tone, last bool, now time.Time) []Branch {
	row := Branch{ID: string(c.Revision) + "/" + part.Name, Depth: 1, Name: part.Name, Kind: string(part.Kind), Side: side, Cohort: c, Part: part, Last: last}
	rows := []Branch{row}
	var all []health.Instance
	for i := range c.Instances {
		in := &c.Instances[i]
		if in.Part != part.Name {
			continue
		}
		text := string(in.Health.Word) + " for " + say.Span(now.Sub(in.Health.Started))
		tone := toneOfHealth(in.Health.Word)
		switch {
		case in.Done:
			text, tone = "ran to its end", words.Quiet
		case in.Health.Word == health.Healthy && in.Health.Restarts > 0:
			text += ", " + say.Count(in.Health.Restarts, "restart")
		}
		all = append(all, in.Health)
		rows = append(rows, Branch{ID: row.ID + "/" + in.ID, Depth: 2, Name: in.ID, Words: text, Why: in.Health.Reason, Tone: tone, Side: side, Cohort: c, Part: part, Instance: in})
	}
	if len(rows) > 1 {
		rows[len(rows)-1].Last = true
	}
	wanted := part.Wanted
	if side == words.Moves {
		wanted = len(all) // as many as the stage asks for
	}
	rows[0].Words, rows[0].Tone, rows[0].Why = partWords(part, wanted, all)
	return rows
}

// Place tells where an instance listens, and what it uses of its machine; empty where neither is known.
func Place(in *status.Instance) string {
	var words []string
	for _, name := range slices.Sorted(maps.Keys(in.Ports)) {
		if in.Address != "" {
			words = append(words, fmt.Sprintf("%s on %s", name, net.JoinHostPort(in.Address, strconv.Itoa(in.Ports[name]))))
		}
	}
	if in.Memory > 0 {
		words = append(words, fmt.Sprintf("%.2f cores", in.Cores), fmt.Sprintf("%.0f MB", float64(in.Memory)/1e6))
	}
	return strings.Join(words, ", ")
}

// trafficOf tells which traffic a cohort has.
func trafficOf(c *status.Cohort) string {
	if c.Preview && c.Share == 0 {
		return "on its preview route"
	}
	return say.Share(c.Share) + " of the traffic"
}

// partWords tells a part by its kind.
func partWords(part *status.Part, wanted int, instances []health.Instance) (string, words.Tone, string) {
	text, tone, why := "", words.Quiet, ""
	switch part.Kind {
	case declare.Service:
		sum := health.Sum(instances, max(wanted, len(instances)))
		text, tone, why = words.Health(health.Summary{Total: sum.Total, Healthy: sum.Healthy, Wanted: sum.Wanted, Starting: sum.Starting, Failing: sum.Failing, Silent: sum.Silent, Restarts: sum.Restarts, Word: health.Healthy}), toneOfHealth(sum.Word), sum.Reason
		if wanted == 0 && part.Wanted == 0 && len(instances) == 0 {
			text = "stopped on purpose"
		}
	case declare.Task:
		text = "has not run"
		for _, in := range instances {
			text, tone, why = "runs", words.Moves, ""
			switch {
			case in.Reason == "ran to its end":
				text, tone = "ran to its end", words.Quiet
			case in.Word == health.Failing:
				text, tone, why = "failed", words.Bad, in.Reason
			}
		}
	case declare.Settings, declare.Secret:
		values, _ := part.Live["values"].(map[string]any)
		text = say.Count(len(values), "value")
	case declare.Route:
		to, _ := part.Live["to"].(map[string]any)
		host := cmp.Or(textOf(part.Live["host"]), "any host")
		if path := textOf(to["path"]); path != "/" {
			host += path
		}
		if tcp, ok := part.Live["tcp"].(float64); ok {
			host = fmt.Sprintf("tcp %.0f", tcp)
		}
		text = host + " to " + textOf(part.Live["service"])
		if port := textOf(to["port"]); port != "" {
			text += ":" + port
		}
	case declare.Volume:
		size, _ := part.Live["size"].(float64)
		text = say.Bytes(int64(size))
	}
	if part.Orphan {
		text, tone = text+", not declared: an orphan", words.Moves
	}
	return text, tone, why
}

// textOf is a live field that is a text; empty where it is not there.
func textOf(value any) string {
	text, _ := value.(string)
	return text
}

func toneOfHealth(word health.Word) words.Tone {
	switch word {
	case health.Failing, health.Silent:
		return words.Bad
	case health.Starting:
		return words.Moves
	}
	return words.Quiet
}

// Variable is an environment variable as an instance has it beside what was declared.
type Variable struct {
	Name     string
	Has      string // what the instance was started with
	Declared string
	Tone     words.Tone
	Note     string // what is not as it should be
}

// Environment holds an instance's variables against what is declared.
func Environment(in *status.Instance, part *status.Part) []Variable {
	names := map[string]bool{}
	for name := range in.Environment {
		names[name] = true
	}
	for name := range part.Environment {
		names[name] = true
	}
	var list []Variable
	for name := range names {
		has, isThere := in.Environment[name]
		declared, isDeclared := part.Environment[name]
		v := Variable{Name: name, Has: has, Declared: declared}
		switch {
		case !isThere:
			v.Note, v.Tone = "declared, and the instance does not have it", words.Bad
		case !isDeclared:
			v.Note, v.Tone = "the instance has it, and it is not declared", words.Bad
		case has != declared:
			v.Note, v.Tone = "the instance was started with another value", words.Bad
		}
		list = append(list, v)
	}
	slices.SortFunc(list, func(a, b Variable) int { return strings.Compare(a.Name, b.Name) })
	return list
}
