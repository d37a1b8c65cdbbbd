package declare

import (
	"math"
	"slices"
	"strconv"
	"time"
)

// mostBatches bounds how many stages the batches of a rolling rollout make.
const mostBatches = 100

// rollout reads how a revision comes in. The parts must have been read: batches are told from their instances.
func (r *reader) rollout(n Node, pointer string, d Desired) Rollout {
	out := defaultRollout
	alone := d.OnlyObjects()
	if alone {
		out.Style = Rolling
	}
	if style, ok := n.Get("style"); ok {
		if out.Style = oneOf(r, style, pointer+"/style", Canary, Rolling, BlueGreen); alone && out.Style != Rolling {
			r.wrong(style, pointer+"/style", "leave style out, or declare a service whose pods come from: FILE#KIND/NAME", "what stands in objects is rolled by the cluster, and not by shares")
		}
	}
	known := map[string]func(Node, string){
		"style":     func(Node, string) {},
		"deadline":  func(n Node, p string) { out.Deadline = r.span(n, p, time.Second) },
		"proving":   func(n Node, p string) { out.Proving = r.span(n, p, 0) },
		"cool-down": func(n Node, p string) { out.CoolDown = r.span(n, p, 0) },
		"interval":  func(n Node, p string) { out.Interval = r.span(n, p, time.Second) },
		"steady":    func(n Node, p string) { out.Steady = r.span(n, p, 0) },
		"warm-up":   func(n Node, p string) { out.WarmUp = r.span(n, p, 0) },
		"newer":     func(n Node, p string) { out.Newer = oneOf(r, n, p, NewerSupersedes, NewerWaits) },
		"false-rollbacks": func(n Node, p string) {
			if out.Risk = r.percent(n, p); out.Risk > maxRisk {
				r.wrong(n, p, "write it like 1 %", "more than 20 %% of all good revisions rolled back is no guard")
			}
		},
	}
	var batch Budget
	soak, trial, keep, check := Span{}, defaultTrial, defaultKeep, ""
	budgets := func() {
		known["extra"] = func(n Node, p string) { out.Extra = r.budget(n, p) }
		known["missing"] = func(n Node, p string) { out.Missing = r.budget(n, p) }
	}
	switch out.Style {
	case Rolling:
		budgets()
		known["batch"] = func(n Node, p string) { batch = r.budget(n, p) }
		known["soak"] = func(n Node, p string) { soak = r.span(n, p, 0) }
		known["check"] = func(n Node, p string) { check = r.trial(n, p, d) }
	case BlueGreen:
		out.Extra = Budget{}
		known["keep"] = func(n Node, p string) { keep = r.span(n, p, 0) }
		known["try"] = func(n Node, p string) {
			r.fields(n, p, "try", nil, map[string]func(Node, string){
				"for":      func(n Node, p string) { trial.Soak = r.span(n, p, 0) },
				"task":     func(n Node, p string) { out.Try = r.trial(n, p, d) },
				"sign-off": func(n Node, p string) { trial.SignOff = r.text(n, p, "sign-off") },
			})
		}
	default:
		budgets()
		known["control"] = func(n Node, p string) { out.Control = r.control(n, p) }
		known["stages"] = func(n Node, p string) { out.Stages = r.stages(n, p, d) }
	}
	r.fields(n, pointer, "a "+string(out.Style)+" rollout", nil, known)
	switch out.Style {
	case Rolling:
		if out.Stages = r.batches(n, pointer, batch, soak, d); check != "" {
			out.Stages[0].Checks = []string{check}
		}
	case BlueGreen:
		out.Stages, out.Keep = []Stage{trial, {Share: 1}}, keep
	default:
		if _, written := n.Get("stages"); !written {
			out.Stages = slices.Clone(defaultStages)
		}
	}
	if out.Style != BlueGreen && out.Extra == (Budget{}) && out.Missing == (Budget{}) {
		r.wrong(n, pointer, "write extra: 1, or missing: 1", "with no instance extra and none missing nothing can ever be exchanged")
	}
	return out
}

// maxControl is the largest share of the traffic that old may keep through proving.
const maxControl = 0.5

// control reads the share that old keeps through proving; nil where it is the default, so that writing it changes nothing.
func (r *reader) control(n Node, pointer string) *float64 {
	value, unit, ok := quantity(n.Text)
	switch share := value / 100; {
	case !ok || unit != "%" || share < 0 || share > maxControl:
		r.wrong(n, pointer, "write it like 5 %, or 0 % for none", "expected a share up to %.0f %%, not %q", maxControl*100, n.Text)
	case share != DefaultControl:
		return &share
	}
	return nil
}

// maxRisk is the largest chance of a false rollback that can be declared.
const maxRisk = 0.2

// check reads the name of the task that a stage runs against the new cohort.
func (r *reader) check(n Node, pointer string, d Desired, before []Stage) []string {
	name := r.trial(n, pointer, d)
	if slices.ContainsFunc(before, func(s Stage) bool { return slices.Contains(s.Checks, name) }) {
		r.wrong(n, pointer, "declare another task that does the same", "the task %s is the check of a stage before, and runs once in a rollout", name)
	}
	return []string{name}
}

// trial reads the name of the task that tries a new set.
func (r *reader) trial(n Node, pointer string, d Desired) string {
	name := r.text(n, pointer, "task")
	if part, ok := d.Parts[name]; name != "" && (!ok || part.Kind != Task) {
		var tasks []string
		for other, part := range d.Parts {
			if part.Kind == Task {
				tasks = append(tasks, other)
			}
		}
		slices.Sort(tasks)
		r.wrong(n, pointer, didYouMean(name, tasks), "there is no task %q among the parts", name)
	} else if ok && part.NotUndoable {
		r.wrong(n, pointer, "leave undoable: false out of the task, or let it run on the way in", "what %s does cannot be undone, so that it tries nothing", name)
	}
	return name
}

// budget reads a number of instances, or a share of them.
func (r *reader) budget(n Node, pointer string) Budget {
	if n.Kind == Number {
		return Budget{Number: r.count(n, pointer, "a number of instances", 0, maxInstances)}
	}
	value, unit, ok := quantity(n.Text)
	if !ok || unit != "%" || value < 0 || value > 100 {
		r.wrong(n, pointer, "write it like 2 or 25 %", "expected a number of instances or a share of them, not %q", n.Text)
		return Budget{Number: 1}
	}
	return Budget{Share: value / 100}
}

// batches makes the stages of a rolling rollout: one for each batch, counted on the service with the most instances.
func (r *reader) batches(n Node, pointer string, batch Budget, soak Span, d Desired) []Stage {
	most := 0
	for _, part := range d.Parts {
		if part.Kind == Service {
			most = max(most, part.Instances)
		}
	}
	each := batch.More(most)
	if each <= 0 || each >= most {
		return []Stage{{Share: 1, Soak: soak}}
	}
	count := (most + each - 1) / each
	if count > mostBatches {
		r.wrong(n, pointer, "write batch: "+strconv.Itoa((most+mostBatches-1)/mostBatches)+" or more, or a share such as 5 %", "%d batches are more than %d", count, mostBatches)
		return []Stage{{Share: 1, Soak: soak}}
	}
	var stages []Stage
	for i := range count {
		share := math.Min(1, float64((i+1)*each)/float64(most))
		stages = append(stages, Stage{Share: share, Soak: soak})
	}
	return stages
}

func (r *reader) stages(n Node, pointer string, d Desired) []Stage {
	if n.Kind != List || len(n.Items) == 0 {
		r.wrong(n, pointer, "", "stages must be a list of at least one stage, the last with the share 100 %%")
		return nil
	}
	var stages []Stage
	for i, item := range n.Items {
		stage, p := Stage{}, pointer+"/"+strconv.Itoa(i)
		r.fields(item, p, "a stage", []string{"share"}, map[string]func(Node, string){
			"share":    func(n Node, p string) { stage.Share = r.percent(n, p) },
			"soak":     func(n Node, p string) { stage.Soak = r.span(n, p, 0) },
			"sign-off": func(n Node, p string) { stage.SignOff = r.text(n, p, "sign-off") },
			"guards":   func(n Node, p string) { stage.Guards = r.guardNames(n, p) },
			"check":    func(n Node, p string) { stage.Checks = r.check(n, p, d, stages) },
		})
		if i > 0 && stage.Share <= stages[i-1].Share && stage.Share > 0 {
			r.wrong(item, p, "", "each stage's share must be larger than the one before")
		}
		stages = append(stages, stage)
	}
	if last := stages[len(stages)-1]; last.Share != 1 {
		r.wrong(n.Items[len(n.Items)-1], pointer, "add a stage with share: 100 %", "the last stage must have the share 100 %%")
	}
	return stages
}

// guardNames reads the guards that count in a stage. Whether there are such is checked once the guards were read.
func (r *reader) guardNames(n Node, pointer string) []string {
	names := r.list(n, pointer, "guards")
	for i, name := range names {
		if i < len(n.Items) {
			r.named = append(r.named, namedGuard{n.Items[i], pointer + "/" + strconv.Itoa(i), name})
		}
	}
	return names
}

// namedGuard is a guard's name where a stage has it.
type namedGuard struct {
	at      Node
	pointer string
	name    string
}

// knownGuards checks that the guards that stages name are there.
func (r *reader) knownGuards(d Desired) {
	var names []string
	for _, rule := range d.Guards {
		names = append(names, rule.Name)
	}
	for _, n := range r.named {
		if !slices.Contains(names, n.name) {
			r.wrong(n.at, n.pointer, didYouMean(n.name, names), "there is no guard %q", n.name)
		}
	}
}
