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

// Branch is one row of a berth's anatomy: a cohort, a part of it, an instance of a part, or whatever a site knows of it.
type Branch struct {
	ID       string // stays the same from one look to the next
	Depth    int    // 0 for a cohort, 1 for a part, 2 and more for what is in it
	Name     string
	Kind     string // of a part or a node
	Words    string // how it is doing
	Why      string // where it is not well
	Tone     words.Tone
	Side     words.Tone // Moves for what is coming, Quiet else
	Cohort   *status.Cohort
	Part     *status.Part
	Instance *status.Instance
	Node     *status.Node // what its site knows of it
	Others   bool         // it is looked after by others
	Last     bool         // the last one of its kind under the same parent
	Stems    uint64       // the levels above it, as bits, at which more follows below
}

// Anatomy lists what a berth is made of, from its cohorts down to what its site knows of what belongs to it, with health rolled
// up. tree is what the site knows; nothing where it knows no more than instances.
func Anatomy(b status.Berth, tree []status.Node, now time.Time) []Branch {
	var rows []Branch
	cohorts := slices.Clone(b.Cohorts)
	if b.Rollout != nil { // what is coming stands first
		slices.SortStableFunc(cohorts, func(x, y status.Cohort) int {
			return cmp.Compare(age(b, x.Revision), age(b, y.Revision))
		})
	}
	shared := sharedBy(b, cohorts)
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
			Words: trafficOf(c) + ", " + words.Health(sum), Tone: toneOfHealth(sum.Word), Side: side, Cohort: c,
		})
		for k := range c.Parts {
			part := partBranch(c, &c.Parts[k], side, now)
			var nodes []Branch
			for n := range tree {
				if of := &tree[n]; of.Part == c.Parts[k].Name && (of.Revision == c.Revision || of.Revision == "" && shared[of.Part] == c.Revision) {
					nodes = append(nodes, nodeBranch(c, &c.Parts[k], of, part[0].ID, 2, side, now)...)
				}
			}
			if len(nodes) > 0 {
				part = append(part[:1], nodes...)
			}
			rows = append(rows, part...)
		}
	}
	return stemmed(rows)
}

// sharedBy tells under which cohort's parts stands what no cohort has for itself: what is applied, or what is there.
func sharedBy(b status.Berth, cohorts []status.Cohort) map[string]declare.Fingerprint {
	of := map[string]declare.Fingerprint{}
	for _, c := range cohorts {
		for _, part := range c.Parts {
			if _, has := of[part.Name]; !has || b.Applied != nil && c.Revision == b.Applied.Fingerprint {
				of[part.Name] = c.Revision
			}
		}
	}
	return of
}

// stemmed notes of each row what follows it at its own level and at those above.
func stemmed(rows []Branch) []Branch {
	follows := uint64(0)
	for i, r := range slices.Backward(rows) {
		level := uint64(1) << min(r.Depth, 63)
		rows[i].Last, rows[i].Stems = follows&level == 0, follows&(level-1)
		follows = follows&(level-1) | level
	}
	return rows
}

// nodeBranch gives the rows of a node and of all below it.
func nodeBranch(c *status.Cohort, part *status.Part, n *status.Node, above string, depth int, side words.Tone, now time.Time) []Branch {
	row := Branch{ID: above + "/" + n.ID, Depth: depth, Name: n.Name, Kind: n.Kind, Tone: toneOfHealth(n.Word), Side: side, Cohort: c, Part: part, Node: n, Others: n.Owner != ""}
	var told []string
	switch {
	case n.Word == health.Stopped:
		told = append(told, cmp.Or(n.Reason, "stopped on purpose"))
	case n.Word != health.Healthy:
		told, row.Why = append(told, string(n.Word)), n.Reason
	case !n.Since.IsZero() && n.Instance != "":
		told = append(told, "healthy for "+say.Span(now.Sub(n.Since)))
	}
	if n.Note != "" && row.Why == "" {
		told = append(told, n.Note)
	}
	if n.Restarts > 0 {
		told = append(told, say.Count(n.Restarts, "restart"))
	}
	if len(told) == 0 {
		told = append(told, string(n.Word))
	}
	if n.Owner != "" {
		told = append(told, "made by "+n.Owner)
	}
	row.Words = strings.Join(told, ", ")
	for i := range c.Instances {
		if c.Instances[i].ID == n.Instance {
			row.Instance = &c.Instances[i]
		}
	}
	rows := []Branch{row}
	for i := range n.Below {
		rows = append(rows, nodeBranch(c, part, &n.Below[i], row.ID, depth+1, side, now)...)
	}
	return rows
}

func age(b status.Berth, revision declare.Fingerprint) int {
	if revision == b.Rollout.New.Revision {
		return 0
	}
	return 1
}

func partBranch(c *status.Cohort, part *status.Part, side words.Tone, now time.Time) []Branch {
	row := Branch{ID: string(c.Revision) + "/" + part.Name, Depth: 1, Name: part.Name, Kind: string(part.Kind), Side: side, Cohort: c, Part: part}
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
	wanted := part.Wanted
	if side == words.Moves {
		wanted = len(all) // as many as the stage asks for
	}
	rows[0].Words, rows[0].Tone, rows[0].Why = partWords(part, wanted, all)
	if part.Kind == declare.Objects {
		rows[0].Words, rows[0].Tone, rows[0].Why = objectWords(c, part, all)
	}
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
		words = append(words, Uses(in.Cores, in.Memory))
	}
	return strings.Join(words, ", ")
}

// Uses tells what something uses of its machine.
func Uses(cores float64, memory uint64) string {
	return fmt.Sprintf("%.2f cores, %.0f MB", cores, float64(memory)/1e6)
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

// objectWords tells a part of objects: how many there are, and the first of those that are not well.
func objectWords(c *status.Cohort, part *status.Part, instances []health.Instance) (text string, tone words.Tone, why string) {
	there, all, sum := 0, 0, health.Sum(instances, len(instances))
	tone, why = toneOfHealth(sum.Word), sum.Reason
	if len(instances) == 0 {
		tone = words.Quiet
	}
	for _, o := range c.Objects {
		if o.Part != part.Name {
			continue
		}
		if all++; !o.There {
			continue // how it is doing tells of another revision's form of it
		}
		there++
		if o.Word == health.Failing && tone != words.Bad || o.Moves && tone == words.Quiet {
			tone, why = toneOfHealth(o.Word), o.ID+": "+o.Reason
		}
	}
	text = say.Count(all, "object")
	if there < all {
		text = fmt.Sprintf("%d of %d objects as declared", there, all)
	}
	if len(instances) > 0 {
		text += fmt.Sprintf(", %d of %d instances healthy", sum.Healthy, len(instances))
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
