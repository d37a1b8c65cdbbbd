package words

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"aditus/internal/core/berth"
	"aditus/internal/core/compare"
	"aditus/internal/core/declare"
	"aditus/internal/core/say"
	"aditus/internal/status"
)

// Leaving is what goes from a site with a berth that is torn down, and what stays there.
type Leaving struct {
	Berth berth.ID `json:"berth"`
	Goes  []string `json:"goes"`
	Stays []string `json:"stays"`
	Not   string   `json:"not,omitempty"` // why it cannot be torn down now
}

// LeavingOf tells what goes and what stays of a berth, or of only some of its parts, as its site shows it. volumes is whether what they hold
// goes too.
func LeavingOf(s status.Snapshot, b status.Berth, volumes bool, only ...string) Leaving {
	l := Leaving{Berth: b.ID, Goes: []string{}, Stays: []string{}}
	for _, a := range Actions(b) {
		if a.Verb == TearDown && a.Not != nil {
			l.Not = a.Not.Error()
		}
	}
	if b.SyncStatus == compare.Unread {
		l.Goes = append(l.Goes, "what is there cannot be seen now")
	}
	held := map[string]bool{}
	goes := func(part string) bool { return len(only) == 0 || slices.Contains(only, part) }
	for _, c := range b.Cohorts {
		of := ""
		if len(b.Cohorts) > 1 {
			of = " of " + c.Version
		}
		instances := map[string]int{}
		for _, in := range c.Instances {
			instances[in.Part]++
		}
		for _, p := range c.Parts {
			orphan := ""
			if p.Orphan {
				orphan = ", an orphan"
			}
			if !goes(p.Name) {
				if needed := slices.DeleteFunc(slices.Clone(p.Needs), func(n string) bool { return !slices.Contains(only, n) }); len(needed) > 0 {
					l.Stays = append(l.Stays, fmt.Sprintf("%s%s: it needs %s, and runs on as it does", p.Name, of, say.List(needed)))
				}
				continue
			}
			switch p.Kind {
			case declare.Volume:
				held[p.Name] = true
			case declare.Service:
				l.Goes = append(l.Goes, fmt.Sprintf("%s%s%s: %s, and what they wrote", p.Name, of, orphan, say.Count(instances[p.Name], "instance")))
			case declare.Task:
				l.Goes = append(l.Goes, p.Name+of+orphan+": the task, with what came of it")
			case declare.Route:
				l.Goes = append(l.Goes, fmt.Sprintf("%s%s%s: nothing answers%s any more", p.Name, of, orphan, hostOf(p)))
			case declare.Objects:
			default:
				l.Goes = append(l.Goes, p.Name+of+orphan+": "+string(p.Kind))
			}
		}
		for _, o := range c.Objects {
			if !goes(o.Part) {
				continue
			}
			if o.Stays {
				l.Stays = append(l.Stays, fmt.Sprintf("%s%s: %s, which was there before, or is to be kept; it is nobody's then", o.Part, of, o.ID))
				continue
			}
			l.Goes = append(l.Goes, fmt.Sprintf("%s%s: %s", o.Part, of, o.ID))
		}
	}
	for _, name := range slices.Sorted(maps.Keys(held)) {
		if volumes {
			l.Goes = append(l.Goes, name+": the volume, with all that it holds; that does not come back")
		} else {
			l.Stays = append(l.Stays, name+": the volume, with all that it holds, unless volumes are to go too")
		}
	}
	if len(only) > 0 {
		l.Stays = append(l.Stays, "the rest of "+b.Workload+", as it is")
		if b.Declared != nil {
			l.Stays = append(l.Stays, fmt.Sprintf("what Git declares of it, %s, which comes again with the next sync", b.Declared.Version))
		}
		return l
	}
	var need []string
	for _, other := range s.Berths {
		if other.Site == b.Site && other.Workload != b.Workload && slices.Contains(other.Needs, b.Workload) && (other.Applied != nil || other.Declared != nil) {
			need = append(need, other.Workload)
		}
	}
	if len(need) > 0 {
		l.Stays = append(l.Stays, fmt.Sprintf("%s: declared to need %s; what runs of it goes on, and nothing newer of it comes meanwhile", say.List(need), b.Workload))
	}
	if b.Declared != nil {
		l.Stays = append(l.Stays, fmt.Sprintf("what Git declares, %s, which comes again when a person or a schedule syncs", b.Declared.Version))
	}
	l.Stays = append(l.Stays, "what is on record of it")
	return l
}

// OwnMade is a part at a berth's site that is neither objects as they are, nor a service whose instances were all found there; empty for none.
func OwnMade(b status.Berth) string {
	for _, c := range b.Cohorts {
		for _, p := range c.Parts {
			if p.Kind != declare.Objects && (p.Kind != declare.Service || !wasFound(b, p.Name)) {
				return p.Name
			}
		}
	}
	return ""
}

// wasFound tells whether all instances of a part, one at least, ran before Aditus had them run.
func wasFound(b status.Berth, part string) bool {
	found := false
	for _, c := range b.Cohorts {
		for _, in := range c.Instances {
			if in.Part == part && !in.Found {
				return false
			}
			found = found || in.Part == part
		}
	}
	return found
}

// LettingGoOf tells what stays of a berth that is let go: all of it.
func LettingGoOf(b status.Berth) Leaving {
	l := Leaving{Berth: b.ID}
	for _, c := range b.Cohorts {
		for _, o := range c.Objects {
			l.Stays = append(l.Stays, o.ID+", as it is")
		}
		for _, in := range c.Instances {
			l.Stays = append(l.Stays, in.Part+", which ran before: its process, as it is")
		}
	}
	l.Goes = []string{"the marks on them, and the account that is kept of them at the site"}
	if b.Declared != nil {
		l.Stays = append(l.Stays, fmt.Sprintf("what Git declares, %s: take it out of Git too, or a sync takes all of it over again", b.Declared.Version))
	}
	return l
}

// hostOf is where a route answered.
func hostOf(p status.Part) string {
	for _, key := range []string{"host", "preview"} {
		if host, _ := p.Live[key].(string); host != "" {
			return " at " + host
		}
	}
	if port, _ := p.Live["tcp"].(float64); port != 0 {
		return fmt.Sprintf(" at port %v", port)
	}
	return ""
}

// Lines tells it, a line each.
func (l Leaving) Lines() (lines []string) {
	if l.Not != "" {
		return []string{"not possible now: " + l.Not}
	}
	for _, one := range l.Goes {
		lines = append(lines, "goes   "+one)
	}
	for _, one := range l.Stays {
		lines = append(lines, "stays  "+one)
	}
	return lines
}

// TearDownOnly is an order to tear some parts of a berth down, as it is asked for: by the part's name, or the workload's where there are several.
func TearDownOnly(a Action, workload string, parts []string) Action {
	name := workload
	if len(parts) == 1 {
		name = parts[0]
	}
	a.Asks = fmt.Sprintf("Tear down only %s of %s? The rest of it stays as it is.", say.List(parts), workload)
	a.Says = fmt.Sprintf("Type %s, or %s %s, and why:", name, name, withVolumes)
	a.Read = func(text string) (berth.Order, error) {
		o, err := ReadLeaving(text, name)
		o.Parts = parts
		return o, err
	}
	return a
}

// ReadLeaving reads a name, whether volumes go too, and why.
func ReadLeaving(text, name string) (o berth.Order, err error) {
	typed, why, _ := strings.Cut(strings.TrimSpace(text), " ")
	why = strings.TrimSpace(why)
	if rest, with := strings.CutPrefix(why, withVolumes); with {
		o.Volumes, why = true, strings.TrimSpace(rest)
	}
	if o.Note = why; typed != name {
		err = fmt.Errorf("that is not %s", name)
	}
	return o, err
}

// withVolumes is typed after a name where what volumes hold is to go too.
const withVolumes = "with volumes"
