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
	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
	"aditus/internal/core/health"
	"aditus/internal/core/rollout"
	"aditus/internal/core/say"
	"aditus/internal/status"
)

// Line is one thing told about a berth: a label and a sentence.
type Line struct {
	Label string
	Text  string
	Tone  Tone
}

// Lost tells whether all that was applied at a berth is gone from the site.
func Lost(b status.Berth) bool { return b.SyncStatus == compare.Absent && b.Applied != nil }

// undeclared tells whether Git no longer declares what runs at a berth.
func undeclared(b status.Berth) bool {
	return b.Declared == nil && b.Applied != nil && !b.Looked.IsZero()
}

// Headline tells in a few words what a berth is doing.
func Headline(b status.Berth, now time.Time) (string, Tone) {
	r := b.Rollout
	if r == nil {
		switch {
		case b.Bar != nil:
			return fmt.Sprintf("%s was rolled back %s and is barred", b.Bar.Version, say.Ago(now.Sub(b.Bar.At))), Bad
		case b.Ending != nil:
			return "is being torn down: " + b.Ending.Why, Moves
		case b.Gone != nil && b.Gone.LetGo:
			return fmt.Sprintf("let go %s, and runs on by itself: %s", say.Ago(now.Sub(b.Gone.At)), b.Gone.Why), Quiet
		case b.Gone != nil:
			return fmt.Sprintf("torn down %s: %s", say.Ago(now.Sub(b.Gone.At)), b.Gone.Why), Quiet
		case b.Found != nil:
			return "found serving, unproven here", Asks
		case b.SyncStatus == compare.Absent && b.Applied == nil:
			return "nothing is there yet", Quiet
		case b.SyncStatus == compare.Aligned && b.Health.Word == health.Healthy:
			return "aligned and healthy", Quiet
		case b.SyncStatus == compare.Behind:
			return "behind by " + say.Count(b.BehindBy, "revision"), Quiet
		case b.SyncStatus == compare.Drifted || b.SyncStatus == compare.Diverged:
			return string(b.SyncStatus) + " since " + b.DriftSince.Local().Format("15:04"), Bad
		}
		return string(b.SyncStatus) + ", " + string(b.Health.Word), CellOf(b).Tone
	}
	if b.Keeps() && r.KeptFor(now) <= 0 {
		return "proven; what is left of " + cmp.Or(r.Old.Version, "the old side") + " goes", Good
	}
	if b.Keeps() {
		return fmt.Sprintf("proven; the set of %s is kept for %s more, so that the way back is at once", r.Old.Version, say.Span(r.KeptFor(now))), Good
	}
	stage := r.Where()
	switch r.Phase {
	case rollout.Settling:
		if r.Rules.Style == declare.Rolling && !r.Return {
			return fmt.Sprintf("%s: %d of %d instances are new", stage, r.NewSide.Healthy, total(r.New.Parts)), Moves
		}
		return stage + ", settling: instances are coming up", Moves
	case rollout.Soaking:
		if r.SoakLeft() == 0 {
			return stage + ", soaked; " + cmp.Or(blocking(b), "goes on at the next look"), Moves
		}
		if r.Rules.Style == declare.BlueGreen && r.AskedShare() == 0 {
			return fmt.Sprintf("%s: the new set is tried without traffic, %s of %s left", stage, say.Span(r.SoakLeft()), say.Span(r.Rules.Stages[r.Stage].Soak.Duration)), Moves
		}
		return fmt.Sprintf("%s, soaking, %s of %s left", stage, say.Span(r.SoakLeft()), say.Span(r.Rules.Stages[r.Stage].Soak.Duration)), Moves
	case rollout.Waiting:
		return stage + ", waiting for a sign-off", Asks
	case rollout.Held:
		return fmt.Sprintf("%s, held while %s, for %s", stage, r.HeldFrom, say.Span(now.Sub(r.Since))), Asks
	case rollout.Proving:
		if why := blocking(b); why != "" && r.ProvingLeft() == 0 {
			return "its time at full traffic is over; " + why, Moves
		}
		return fmt.Sprintf("proving, %s of %s left", say.Span(r.ProvingLeft()), say.Span(r.Rules.Proving.Duration)), Good
	case rollout.RollingBack:
		return "rolling back, from " + stage, Bad
	}
	return string(r.Phase), Good
}

// blocking tells what keeps a rollout whose time is over from advancing.
func blocking(b status.Berth) string {
	if b.Rollout.Stale != "" {
		return "no fresh evidence: " + b.Rollout.Stale
	}
	for _, v := range b.Verdicts {
		if v.Stops() {
			return fmt.Sprintf("%s is %s", v.Guard, VerdictWords(v))
		}
	}
	return ""
}

// Describe tells a berth in full sentences: what is live, what is coming, how it is doing, and what happens next.
func Describe(b status.Berth, now time.Time) []Line {
	var lines []Line
	add := func(label, text string, tone Tone) {
		if text != "" {
			lines = append(lines, Line{label, text, tone})
		}
	}
	r := b.Rollout
	if r != nil && r.To != nil {
		add("coming", fmt.Sprintf("“%s” by %s, %s; %s", r.To.Subject, r.To.By(), clock(r.To.At, now), began(r)), Quiet)
		add("traffic", traffic(r), Quiet)
		add("health", fmt.Sprintf("%s %s, %s %s", sideName(r.Old, "old"), Health(r.OldSide), sideName(r.New, "new"), Health(r.NewSide)), healthTone(r))
		if r.Phase == rollout.RollingBack || r.Phase == rollout.Held {
			tone := Bad
			if r.Phase == rollout.Held {
				tone = Asks
			}
			add("why", say.Sentence(r.Why), tone)
		}
		add("next", Next(b, now), Quiet)
		return lines
	}
	if b.Applied != nil {
		proven := ""
		if !b.ProvenAt.IsZero() {
			proven = ", proven " + clock(b.ProvenAt, now)
		}
		add("live", fmt.Sprintf("“%s” by %s%s", b.Applied.Subject, b.Applied.By(), proven), Quiet)
	}
	tone := Quiet
	if b.Health.Word == health.Failing {
		tone = Bad
	}
	words := Health(b.Health)
	if b.Health.Word != health.Healthy && !b.HealthSince.IsZero() {
		words += ", since " + clock(b.HealthSince, now)
	}
	add("health", words, tone)
	if b.Bar != nil {
		add("barred", fmt.Sprintf("%s since %s: %s", b.Bar.Version, clock(b.Bar.At, now), b.Bar.Why), Bad)
	}
	if b.SyncStatus == compare.Drifted || b.SyncStatus == compare.Diverged {
		add("drift", changedByHand(b), Bad)
	}
	if b.Declared != nil && (b.Applied == nil || b.Declared.Fingerprint != b.Applied.Fingerprint) {
		add("declared", fmt.Sprintf("%s %s, “%s” by %s, %s", b.Declared.Version, b.Declared.Fingerprint.Short(), b.Declared.Subject, b.Declared.By(), clock(b.Declared.At, now)), Quiet)
	}
	if orphans := Orphans(b); len(orphans) > 0 {
		add("orphans", say.List(orphans)+", live and not declared", Quiet)
	}
	if b.Lock != nil {
		add("locked", fmt.Sprintf("by %s %s: %s", b.Lock.By, clock(b.Lock.At, now), b.Lock.Message), Asks)
	}
	if len(b.Sized) > 0 {
		add("scaled", sizes(b.Sized, now), Moves)
	}
	if b.Restarting != nil {
		add("restart", fmt.Sprintf("all instances are started anew, one by one, since %s; %d were so far", clock(b.Restarting.Since, now), b.Restarting.Count), Moves)
	}
	if b.Branch != nil {
		add("branch", fmt.Sprintf("it is there for the branch %s of %s, and goes with it", b.Branch.Branch, b.Branch.Link), Moves)
	}
	if b.Life != nil {
		tone := Quiet
		if !b.Life.Announced.IsZero() {
			tone = Asks
		}
		add("ends", ends(b.Life, now), tone)
	}
	if b.Found != nil {
		add("found", fmt.Sprintf("at %s, unproven here: %s", clock(b.Found.At, now), b.Found.Why), Asks)
	}
	if b.Left != nil {
		add("abandoned", fmt.Sprintf("%s was left with %s of the traffic at %s: %s", b.Left.Version, say.Share(b.Left.Share), clock(b.Left.At, now), b.Left.Why), Asks)
	}
	if b.Follows != "" {
		add("follows", fmt.Sprintf("the branch %s of %s until %s, then what the other sites follow", b.Follows, b.Link, b.Until.Local().Format("Mon 2 Jan 15:04")), Moves)
	}
	add("next", Next(b, now), Quiet)
	return lines
}

// sizes tells numbers of instances that were set other than declared.
func sizes(sized map[string]berth.Sized, now time.Time) string {
	var all []string
	for _, name := range slices.Sorted(maps.Keys(sized)) {
		size := sized[name]
		by := size.By
		if by == rollout.Automatic {
			by = "a schedule"
		}
		all = append(all, fmt.Sprintf("%s to %d by %s at %s, %d are declared", name, size.Count, by, clock(size.At, now), size.Declared))
	}
	return say.List(all)
}

// sideName names a side of a rollout by its set where it has one.
func sideName(s rollout.Side, name string) string {
	if s.Set != "" {
		return fmt.Sprintf("%s (%s)", name, s.Set)
	}
	return name
}

func began(r *status.Rollout) string {
	if r.By == rollout.Automatic || r.Phase != rollout.Settling {
		return "since " + r.Began.Local().Format("15:04:05")
	}
	return "started by " + r.By
}

func traffic(r *status.Rollout) string {
	if r.Rules.Style == declare.Rolling && !r.Return {
		return fmt.Sprintf("%s on new instances, as far as they have taken over", say.Share(r.Share))
	}
	text := say.Share(r.AskedShare()) + " asked"
	if r.Phase == rollout.Settling || r.HeldFrom == rollout.Settling {
		text = fmt.Sprintf("%s now, %s comes once the new instances are healthy", say.Share(r.Share), say.Share(r.Rules.Stages[r.Stage].Share))
		if r.Share == 0 {
			return text
		}
	}
	if o := r.Observed; o != nil {
		return text + fmt.Sprintf(", %s seen on the new cohort", PlusMinus(*o))
	}
	return text + ", " + say.Share(r.Share) + " at the target; no request counted yet"
}

// Health tells how the instances of a side are doing.
func Health(s health.Summary) string {
	if s.Wanted == 0 && s.Total == 0 {
		return "none"
	}
	text := fmt.Sprintf("%d of %d healthy", s.Healthy, max(s.Wanted, s.Total))
	for _, part := range []struct {
		n    int
		word string
	}{{s.Starting, "starting"}, {s.Failing, "failing"}, {s.Silent, "silent"}} {
		if part.n > 0 {
			text += fmt.Sprintf(", %d %s", part.n, part.word)
		}
	}
	if s.Restarts > 0 {
		text += ", " + say.Count(s.Restarts, "restart")
	}
	if s.Reason != "" && s.Word != health.Healthy {
		text += " (" + s.Reason + ")"
	}
	return text
}

func healthTone(r *status.Rollout) Tone {
	if r.OldSide.Failing+r.NewSide.Failing > 0 {
		return Bad
	}
	return Quiet
}

// Next tells what happens next if nobody does anything.
func Next(b status.Berth, now time.Time) string {
	r := b.Rollout
	if r == nil {
		switch {
		case b.Lock != nil:
			return "nothing comes until a person unlocks it"
		case b.Bar != nil:
			return fmt.Sprintf("%s stays barred until Git moves on or a person lifts the bar", b.Bar.Version)
		case b.Waits != "":
			if b.WaitsSince.IsZero() {
				return b.Waits
			}
			return b.Waits + ", since " + clock(b.WaitsSince, now)
		case undeclared(b):
			return "Git no longer declares it here; nothing is removed"
		case Lost(b):
			return "nothing is put back until a person says so"
		case b.SyncStatus == compare.Aligned:
			return "nothing is due; Git and the site agree"
		case !b.Corrects.IsZero():
			return fmt.Sprintf("it is put back at %s unless a person leaves it", b.Corrects.Local().Format(time.TimeOnly))
		case b.SyncStatus == compare.Drifted && b.Fights != "":
			return b.Fights + "; it is left until a person says otherwise"
		case b.SyncStatus == compare.Drifted:
			return "nothing is overwritten until a person says so"
		}
		return ""
	}
	if b.Keeps() {
		return fmt.Sprintf("the set of %s stops at %s, or when a newer revision comes", r.Old.Version, now.Add(r.KeptFor(now)).Local().Format(time.TimeOnly))
	}
	stages := r.Rules.Stages
	after := fmt.Sprintf("proving for %s", say.Span(r.Rules.Proving.Duration))
	switch {
	case r.Closes():
		after = "proven"
	case r.Stage == r.LastStage():
	case r.Rules.Style == declare.BlueGreen:
		after = "the switch of all traffic"
	case r.Rules.Style == declare.Rolling:
		after = "the next batch"
	default:
		after = say.Share(stages[r.Stage+1].Share) + " of the traffic"
	}
	switch r.Phase {
	case rollout.Settling:
		latest := r.Since
		if r.Progressed.After(latest) {
			latest = r.Progressed
		}
		late := latest.Add(r.Rules.Deadline.Duration).Local().Format(time.TimeOnly)
		switch {
		case r.Return:
			return fmt.Sprintf("all traffic goes to %s as soon as it is up", r.New.Version)
		case r.Rules.Style == declare.Rolling:
			return fmt.Sprintf("old instances stop as new ones are healthy; with no new one by %s it goes back", late)
		case r.Rules.Style == declare.BlueGreen && r.Stage == 0:
			return fmt.Sprintf("the set is tried once it is complete, by %s at the latest; else it is taken away", late)
		}
		return fmt.Sprintf("%s of the traffic once the new instances are healthy, %s at the latest; else it goes back", say.Share(stages[r.Stage].Share), late)
	case rollout.Soaking:
		if stages[r.Stage].SignOff != "" {
			after = "a sign-off by " + stages[r.Stage].SignOff
		}
		if c := r.Checking(); c != nil {
			return fmt.Sprintf("%s once the task %s has passed, which runs since %s, and all guards are clear", after, c.Task, c.Began.Local().Format(time.TimeOnly))
		}
		if why := blocking(b); why != "" && r.SoakLeft() == 0 {
			return fmt.Sprintf("%s as soon as all guards are clear; %s", after, why)
		}
		return fmt.Sprintf("%s at %s if all guards are clear", after, now.Add(r.SoakLeft()).Local().Format(time.TimeOnly))
	case rollout.Waiting:
		if r.Task != "" {
			return fmt.Sprintf("the task %s runs once a person signs off; what it does cannot be undone", r.Task)
		}
		return fmt.Sprintf("%s once %s signs off; guards stay on meanwhile", after, stages[r.Stage].SignOff)
	case rollout.Held:
		return "nothing until a person lets it go on or rolls it back; guards stay on"
	case rollout.Proving:
		if why := blocking(b); why != "" && r.ProvingLeft() == 0 {
			return "it goes on as soon as all guards are clear; " + why
		}
		if r.Control > 0 {
			return fmt.Sprintf("%s gives up its last %s at %s if all guards hold", r.Old.Version, say.Share(r.Control), now.Add(r.ProvingLeft()).Local().Format(time.TimeOnly))
		}
		if r.Rules.Style == declare.BlueGreen {
			return fmt.Sprintf("proven at %s if all guards hold; the old set is kept until %s", now.Add(r.ProvingLeft()).Local().Format(time.TimeOnly), r.Switched.Add(r.Rules.Keep.Duration).Local().Format(time.TimeOnly))
		}
		return fmt.Sprintf("proven at %s if all guards hold; then the old instances stop", now.Add(r.ProvingLeft()).Local().Format(time.TimeOnly))
	case rollout.RollingBack:
		if r.Traffic.IsZero() {
			return "traffic goes back first, then the new instances stop"
		}
		return "the new instances stop"
	}
	return "the old instances stop"
}

// clock says a moment: the time alone within a day, the day as well beyond it.
func clock(at, now time.Time) string {
	if now.Sub(at) < 20*time.Hour {
		return at.Local().Format("15:04")
	}
	return at.Local().Format("Mon 2 Jan 15:04")
}

// LinkLine tells what a link watches and when it was read last.
func LinkLine(l status.Link, now time.Time) string {
	read := "not read yet"
	if !l.Looked.IsZero() {
		read = fmt.Sprintf("read %s, every %s", say.Ago(now.Sub(l.Looked)), say.Span(l.Every))
	}
	if l.Off {
		read = "switched off: it is not read, and what it declared stays declared"
	}
	at := fmt.Sprintf("at %.7s", l.Commit)
	if l.Version != "" {
		at = "at version " + l.Version
	}
	return fmt.Sprintf("folder %s of %s in %s, %s, %s", cmp.Or(l.Folder, "."), l.Ref, l.Repository, at, read)
}

// LinkName is the name of a link in the settings, also where it follows another branch for a site.
func LinkName(l status.Link) string {
	if l.Follows == "" {
		return l.Name
	}
	return strings.TrimSuffix(l.Name, " for "+l.Follows)
}

// WaitingBehind tells the sites that wait behind a berth in the course.
func WaitingBehind(s status.Snapshot, id berth.ID) []string {
	var sites []string
	passed := false
	for _, site := range s.Sites {
		if site == id.Site {
			passed = true
			continue
		}
		if b, ok := s.Find(berth.ID{Workload: id.Workload, Site: site}); passed && ok && b.SyncStatus == compare.Behind && b.Rollout == nil {
			sites = append(sites, site)
		}
	}
	return sites
}

// PlusMinus says a share with the farther end of its interval.
func PlusMinus(e guard.Estimate) string {
	return fmt.Sprintf("%.1f %% ± %.1f", e.Value*100, max(e.High-e.Value, e.Value-e.Low)*100)
}
