// Package words says in sentences what a status says: what needs a person, how a berth stands, what can be done there and what
// happens next. Each is derived once, for every face, from a snapshot alone.
package words

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"aditus/internal/core/berth"
	"aditus/internal/core/compare"
	"aditus/internal/core/course"
	"aditus/internal/core/guard"
	"aditus/internal/core/health"
	"aditus/internal/core/policy"
	"aditus/internal/core/rollout"
	"aditus/internal/core/say"
	"aditus/internal/status"
)

// Tone is what a sentence is about, for its colour: a role that means the same everywhere.
type Tone int

const (
	Quiet Tone = iota
	Good       // clear, proven
	Bad        // breach, drift, failing
	Asks       // waits for a person
	Moves      // under way
)

// Need is something that a person should see to.
type Need struct {
	Berth  berth.ID   // the first that it concerns; empty for none
	Berths []berth.ID // all that it concerns
	About  string     // what stands in front of the sentence
	Tone   Tone
	Text   string
	Keys   []Verb // what answers it, most fitting first
	Denied bool   // whoever is shown it may do none of what answers it
	rank   int
	since  time.Time
}

// ID names a need: the same as long as it is the same one.
func (n Need) ID() string { return fmt.Sprintf("%s %d", n.About, n.rank) }

// Needs lists what needs a person, the most urgent first.
func Needs(s status.Snapshot) []Need {
	var needs []Need
	for _, p := range s.Problems {
		needs = append(needs, Need{About: p.About, Tone: Bad, Text: say.Sentence(p.Text) + since(s.Now, p.Since), since: p.Since})
	}
	for _, l := range s.Links {
		if l.Problem == nil {
			continue
		}
		n := Need{About: "link " + l.Name, Tone: Bad, Text: say.Sentence(l.Problem.Text) + since(s.Now, l.Problem.Since), Keys: []Verb{LookNow}, rank: 1, since: l.Problem.Since}
		if l.Rewritten {
			n.Tone, n.Keys = Asks, []Verb{AcceptHistory, LookNow}
		}
		needs = append(needs, n)
	}
	silent, ending := map[string][]status.Berth{}, map[string][]status.Berth{}
	for i := range s.Berths {
		b := s.Berths[i]
		if b.SyncStatus == compare.Unread && b.Problem != nil {
			silent[b.Site] = append(silent[b.Site], b)
			continue
		}
		if n, ok := needOf(b, s.Now); ok {
			if n.Keys[0] == Extend { // those that end together are told together
				key := b.Site + " " + b.Life.Name + b.Life.Ends.String()
				if ending[key] = append(ending[key], b); len(ending[key]) > 1 {
					continue
				}
			}
			n.Berth, n.Berths, n.About = b.ID, []berth.ID{b.ID}, b.Workload+" · "+b.Site
			needs = append(needs, n)
		}
	}
	for _, key := range slices.Sorted(maps.Keys(ending)) {
		berths := ending[key]
		if first := berths[0]; len(berths) > 1 {
			needs = slices.DeleteFunc(needs, func(n Need) bool { return n.Berth == first.ID && n.Keys[0] == Extend })
			needs = append(needs, Need{
				Berth: first.ID, Berths: idsOf(berths), About: first.Site, Tone: Asks, rank: endRank, since: first.Life.Announced, Keys: []Verb{Extend, WatchIt},
				Text: say.Sentence(fmt.Sprintf("%s at %s: of each %s", say.Count(len(berths), "berth"), first.Site, ends(first.Life, s.Now))),
			})
		}
	}
	for site, berths := range silent {
		first := berths[0]
		needs = append(needs, Need{
			Berth: first.ID, Berths: idsOf(berths), About: site, Tone: Bad, rank: 2, since: first.Problem.Since, Keys: []Verb{WatchIt},
			Text: say.Sentence(first.Problem.Text) + " " + say.Count(len(berths), "workload") + " there cannot be seen" + since(s.Now, first.Problem.Since),
		})
	}
	narrowed := map[berth.ID]*status.Berth{}
	for i := range s.Berths {
		if b := &s.Berths[i]; len(b.MayNot) > 0 {
			narrowed[b.ID] = b
		}
	}
	for i := range needs {
		if b := narrowed[needs[i].Berth]; b != nil {
			needs[i].allow(b)
		}
	}
	slices.SortStableFunc(needs, func(a, b Need) int {
		return cmp.Or(cmp.Compare(a.rank, b.rank), b.since.Compare(a.since), cmp.Compare(a.About, b.About))
	})
	return needs
}

func idsOf(berths []status.Berth) (ids []berth.ID) {
	for _, b := range berths {
		ids = append(ids, b.ID)
	}
	return ids
}

// shape is a sentence without its numbers, which may differ where all else is the same.
func shape(text string) string {
	var out strings.Builder
	number := false
	for _, r := range text {
		digit := r >= '0' && r <= '9'
		if number = digit || number && (r == '.' || r == ',' || r == ':'); !number {
			out.WriteRune(r)
		}
	}
	return out.String()
}

// alike is what is the same of related needs.
type alike struct {
	of   string
	rank int
	says string
}

// Related puts those together that say the same of one workload at several sites, or of several workloads at one site. The first of
// them stands for all.
func Related(needs []Need) []Need {
	for _, of := range []struct {
		same, other func(berth.ID) string
		several     string
	}{
		{func(id berth.ID) string { return id.Workload }, func(id berth.ID) string { return id.Site }, "site"},
		{func(id berth.ID) string { return id.Site }, func(id berth.ID) string { return id.Workload }, "workload"},
	} {
		first, out := map[alike]int{}, make([]Need, 0, len(needs))
		for _, n := range needs {
			if len(n.Berths) != 1 {
				out = append(out, n)
				continue
			}
			key := alike{of.same(n.Berth), n.rank, shape(strings.ReplaceAll(n.Text, of.other(n.Berth), "…"))}
			at, has := first[key]
			if !has {
				first[key] = len(out)
				out = append(out, n)
				continue
			}
			out[at].Berths = append(slices.Clip(out[at].Berths), n.Berth)
		}
		for i, n := range out {
			if len(n.Berths) < 2 || n.About != n.Berth.Workload+" · "+n.Berth.Site {
				continue
			}
			var where []string
			for _, id := range n.Berths {
				where = append(where, of.other(id))
			}
			if len(where) > 4 {
				where = append(where[:3], fmt.Sprintf("%d more", len(where)-3))
			}
			out[i].About = of.same(n.Berth) + " · " + say.Count(len(n.Berths), of.several)
			out[i].Text += " The same for " + say.List(where) + "."
		}
		needs = out
	}
	return needs
}

// allow leaves what whoever is shown a need may do about it.
func (n *Need) allow(b *status.Berth) {
	changes := 0
	n.Keys = slices.DeleteFunc(slices.Clone(n.Keys), func(verb Verb) bool {
		scope := scopeOf(verb)
		if scope != policy.Look {
			changes++
		}
		return b.MayNot[scope] != ""
	})
	n.Denied = changes > 0 && !slices.ContainsFunc(n.Keys, func(verb Verb) bool { return scopeOf(verb) != policy.Look })
}

func since(now, at time.Time) string {
	if at.IsZero() {
		return ""
	}
	return " Since " + strings.TrimSuffix(say.Ago(now.Sub(at)), " ago") + "."
}

// needOf tells what a berth needs of a person, if anything.
func needOf(b status.Berth, now time.Time) (Need, bool) {
	r := b.Rollout
	if b.Keeps() {
		r = nil // it is over but for the old set
	}
	switch {
	case b.Problem != nil:
		return Need{Tone: Bad, rank: 3, since: b.Problem.Since, Text: say.Sentence(b.Problem.Text) + since(now, b.Problem.Since), Keys: []Verb{WatchIt}}, true
	case r == nil && b.Bar != nil:
		how := "; rolled back"
		if b.Bar.By != rollout.Automatic {
			how = "" // the reason names the person
		}
		return Need{Tone: Bad, rank: 4, since: b.Bar.At, Keys: []Verb{SeeWhy, OfferRevert, LiftBar},
			Text: fmt.Sprintf("%s%s %s, barred.", say.Capital(b.Bar.Why), how, say.Ago(now.Sub(b.Bar.At)))}, true
	case r != nil && r.Phase == rollout.Held:
		return Need{Tone: Asks, rank: 4, since: r.Since, Keys: []Verb{GoOn, RollBack, WatchIt}, Text: fmt.Sprintf("%s, %s.", say.Capital(r.Why), say.Ago(now.Sub(r.Since)))}, true
	case r != nil && r.Calls != "":
		return Need{Tone: Bad, rank: 3, since: r.Since, Keys: []Verb{WatchIt, Abandon}, Text: say.Sentence(r.Calls) + since(now, r.Since)}, true
	case r == nil && b.Calls != "":
		return Need{Tone: Bad, rank: 3, since: b.Looked, Keys: []Verb{SeeWhy, RollBack}, Text: say.Sentence(b.Calls)}, true
	case r == nil && b.Found != nil:
		return Need{Tone: Asks, rank: 3, since: b.Found.At, Keys: []Verb{Vouch, Compare, RollBack}, Text: say.Sentence("found serving, unproven here: "+b.Found.Why) + " " + say.Sentence(b.Found.Next()) + since(now, b.Found.At)}, true
	case r == nil && b.Left != nil:
		return Need{Tone: Asks, rank: 6, since: b.Left.At, Keys: []Verb{Sync, RollBack, WatchIt}, Text: fmt.Sprintf("%s was left halfway, with %s of the traffic: %s.%s", b.Left.Version, say.Share(b.Left.Share), b.Left.Why, since(now, b.Left.At))}, true
	case r != nil && r.Phase == rollout.Waiting:
		return Need{Tone: Asks, rank: 5, since: r.Since, Keys: []Verb{SignOff, WatchIt},
			Text: waitsFor(r) + fmt.Sprintf(", since %s.", strings.TrimSuffix(say.Ago(now.Sub(r.Since)), " ago"))}, true
	case r != nil:
		if v, stuck := stuckGuard(r, b.Verdicts); stuck {
			return Need{Tone: Bad, rank: 3, since: v.Since, Keys: []Verb{WatchIt, RollBack}, Text: fmt.Sprintf("Nothing advances: %s is %s%s.%s", v.Guard, v.Word, because(v.Why), since(now, v.Since))}, true
		}
		if v, beyond := breached(b); beyond && r.Phase.Forward() && v.Then == guard.Tell {
			return Need{Tone: Bad, rank: 6, since: r.Since, Keys: []Verb{WatchIt, RollBack}, Text: say.Sentence(rollout.Sentence(v)) + " The guard only tells; the rollout goes on."}, true
		}
		return Need{}, false
	case Lost(b):
		return Need{Tone: Bad, rank: 3, since: b.DriftSince, Keys: []Verb{Sync}, Text: "All of it is gone from the site." + since(now, b.DriftSince) + " Nothing is put back until you say so."}, true
	case b.Health.Word == health.Failing:
		return Need{Tone: Bad, rank: 3, since: b.HealthSince, Keys: []Verb{LookInside, SeeWhy},
			Text: fmt.Sprintf("%d of %s failing: %s.", b.Health.Failing, say.Count(b.Health.Total, "instance"), b.Health.Reason) + since(now, b.HealthSince)}, true
	case beyondLimit(b):
		v, _ := breached(b)
		return Need{Tone: Bad, rank: 3, since: b.Looked, Keys: []Verb{SeeWhy, RollBack}, Text: say.Sentence(rollout.Sentence(v)) + onlyTells(v)}, true
	case !b.Corrects.IsZero():
		return Need{Tone: Asks, rank: 6, since: b.DriftSince, Keys: []Verb{LeaveIt, Sync},
			Text: fmt.Sprintf("Changed by hand at %s: %s. It is put back at %s unless you leave it.", b.DriftSince.Local().Format("15:04"), changedByHand(b), b.Corrects.Local().Format("15:04:05"))}, true
	case b.Life != nil && !b.Life.Announced.IsZero():
		return Need{Tone: Asks, rank: endRank, since: b.Life.Announced, Keys: []Verb{Extend, WatchIt}, Text: say.Sentence(ends(b.Life, now))}, true
	case b.Asks != nil && b.Lock == nil:
		keys, rank := []Verb{SignOff, Compare}, 5
		if b.Asks.Kind == course.Consent {
			keys = []Verb{TakeOffer, PutOff, Compare}
			if b.Asks.Last.IsZero() || b.Asks.Last.Sub(now) > soonTaken {
				rank = 7 // nothing breaks while it is thought about
			}
		}
		version := ""
		if b.Declared != nil {
			version = b.Declared.Version + " "
		}
		return Need{Tone: Asks, rank: rank, since: b.Asks.Since, Keys: keys, Text: say.Sentence(version+b.Asks.Why+planned(b)) + since(now, b.Asks.Since)}, true
	case b.Fights != "" && b.SyncStatus == compare.Drifted:
		return Need{Tone: Bad, rank: 5, since: b.DriftSince, Keys: []Verb{Compare, Sync},
			Text: fmt.Sprintf("Changed by hand: %s; %s. It is left now.", changedByHand(b), b.Fights)}, true
	case b.SyncStatus == compare.Drifted || b.SyncStatus == compare.Diverged:
		return Need{Tone: Bad, rank: 6, since: b.DriftSince, Keys: []Verb{Sync, Compare},
			Text: fmt.Sprintf("Changed by hand at %s: %s. Nothing is overwritten until you say so.", b.DriftSince.Local().Format("15:04"), changedByHand(b))}, true
	}
	return Need{}, false
}

// ends tells when a life ends, or why it goes on though it ended.
func ends(life *berth.Life, now time.Time) string {
	if left := life.Ends.Sub(now); left > 0 {
		text := fmt.Sprintf("its life ends in %s, on %s (%s); it is torn down then", say.Span(left), say.Moment(life.Ends), life.Name)
		if x := life.Extended; x != nil {
			text += fmt.Sprintf("; extended by %s: %s", x.By, x.Why)
		}
		return text
	}
	text := fmt.Sprintf("its life ended on %s (%s)", say.Moment(life.Ends), life.Name)
	if life.Waits != "" {
		text += ", and it is not torn down yet: " + life.Waits
	}
	return text
}

// endRank is where ends of lives stand among the needs.
const endRank = 6

// soonTaken is how long before its last day an offer is as urgent as a sign-off.
const soonTaken = 24 * time.Hour

// onlyTells says so of a standing guard that does nothing by itself.
func onlyTells(v guard.Verdict) string {
	if v.Then == guard.RollBack {
		return ""
	}
	return " The standing guard only tells; roll back if it should go."
}

// waitsFor tells what a rollout waits for, without its end.
func waitsFor(r *status.Rollout) string {
	if r.Task != "" {
		return fmt.Sprintf("The task %s cannot be undone and waits for a sign-off before it runs", r.Task)
	}
	return fmt.Sprintf("%s waits for a sign-off by %s", say.Capital(r.Where()), r.Rules.Stages[r.Stage].SignOff)
}

// breached gives the first guard whose signal is beyond its limit.
func breached(b status.Berth) (guard.Verdict, bool) {
	for _, v := range b.Verdicts {
		if v.Word == guard.Breach {
			return v, true
		}
	}
	return guard.Verdict{}, false
}

// beyondLimit tells whether a signal is beyond its limit in steady times.
func beyondLimit(b status.Berth) bool {
	_, is := breached(b)
	return is && b.Rollout == nil
}

// because puts a reason behind what it is the reason of; nothing where there is none.
func because(why string) string {
	if why == "" {
		return ""
	}
	return ", as " + why
}

func stuckGuard(r *status.Rollout, verdicts []guard.Verdict) (guard.Verdict, bool) {
	if r.Phase == rollout.RollingBack || r.Phase.Over() {
		return guard.Verdict{}, false
	}
	for _, v := range verdicts {
		if (v.Word == guard.Silent || v.Word == guard.Undecided && v.Why != "") && v.Stops() {
			return v, true
		}
	}
	return guard.Verdict{}, false
}

func changedByHand(b status.Berth) string {
	var changed []string
	for _, d := range b.Differences {
		if d.Kind == compare.Drift || d.Kind == compare.Conflict {
			changed = append(changed, strings.Replace(d.String(), "/", " ", 1))
		}
	}
	if len(changed) > 2 {
		changed = append(changed[:2], fmt.Sprintf("%d more", len(changed)-2))
	}
	return say.List(changed)
}

// Counts are how many berths need a person, move by themselves, and are steady.
type Counts struct{ Need, Moving, Steady, Absent int }

// Count counts the berths of a snapshot. One that needs a person counts there alone; of one that is absent nothing is at its site.
func Count(s status.Snapshot) Counts { return CountOf(s, Needs(s)) }

// CountOf is Count where what needs a person is known.
func CountOf(s status.Snapshot, needs []Need) Counts {
	c := Counts{Need: len(needs)}
	needing := make(map[berth.ID]bool, len(needs))
	for _, n := range needs {
		for _, id := range n.Berths {
			needing[id] = true
		}
	}
	for i := range s.Berths {
		switch b := &s.Berths[i]; {
		case needing[b.ID]:
		case b.Moving():
			c.Moving++
		case b.SyncStatus == compare.Absent && b.Applied == nil && b.Lock == nil:
			c.Absent++
		default:
			c.Steady++
		}
	}
	return c
}
