package words

import (
	"fmt"

	"aditus/internal/core/compare"
	"aditus/internal/core/declare"
	"aditus/internal/core/health"
	"aditus/internal/core/rollout"
	"aditus/internal/core/say"
	"aditus/internal/status"
)

// Cell is how a berth stands, in the fewest
type Cell struct {
	Version string // what serves
	Coming  string // what is on its way in; empty for nothing
	Note    string // what is not steady about it
	Tone    Tone
	Stage   int // during a rollout: from 1
	Stages  int
	Share   float64
	Style   declare.Style
	New, Of int  // rolling: instances that are new, of how many
	Absent  bool // nothing is at its site yet
}

// CellOf gives a berth's cell.
func CellOf(b status.Berth) Cell {
	c := Cell{Version: "none"}
	if b.Applied != nil {
		c.Version = b.Applied.Version
	}
	if r := b.Rollout; r != nil {
		if !r.Old.None() {
			c.Version = r.Old.Version
		}
		c.Coming, c.Stage, c.Stages, c.Share = r.New.Version, r.Stage+1, len(r.Rules.Stages), r.Share
		c.Tone, c.Style = Moves, r.Rules.Style
		c.New, c.Of = r.NewSide.Healthy, max(r.NewSide.Healthy, total(r.New.Parts))
		if b.Keeps() {
			return kept(b)
		}
		switch r.Phase {
		case rollout.Proving:
			c.Note, c.Tone = "proving "+say.Span(r.ProvingLeft()), Good
		case rollout.Proven:
			c.Note, c.Tone = "proven", Good
		case rollout.RollingBack, rollout.RolledBack:
			c.Note, c.Tone = "rolling back", Bad
		case rollout.Held:
			c.Note, c.Tone = "held", Asks
		case rollout.Waiting:
			c.Tone = Asks
		}
		return c
	}
	switch {
	case b.Ending != nil:
		c.Note, c.Tone = "tearing down", Moves
	case b.Gone != nil && b.Applied == nil:
		c.Note = "torn down"
		if b.Gone.LetGo {
			c.Note = "let go"
		}
	case b.Found != nil && b.Health.Word != health.Failing:
		c.Note, c.Tone = "unproven here", Asks
	case b.Left != nil && b.Health.Word != health.Failing:
		c.Coming, c.Share, c.Tone, c.Note = b.Left.Version, b.Left.Share, Asks, "abandoned"
	case b.SyncStatus == compare.Unread && b.Problem != nil:
		c.Note, c.Tone = "unread", Bad
	case b.Health.Word == health.Failing:
		c.Note, c.Tone = "failing", Bad
	case beyondLimit(b):
		c.Note, c.Tone = "breach", Bad
	case b.Bar != nil:
		c.Note, c.Tone = "barred "+b.Bar.Version, Bad
	case b.SyncStatus == compare.Drifted || b.SyncStatus == compare.Diverged:
		c.Note, c.Tone = string(b.SyncStatus), Bad
	case b.Lock != nil:
		c.Note, c.Tone = "locked", Quiet
	case undeclared(b):
		c.Note = "not declared"
	case b.SyncStatus == compare.Behind:
		c.Note = fmt.Sprintf("behind %d", b.BehindBy)
	case Lost(b):
		c.Note, c.Tone = "gone", Bad
	case b.SyncStatus == compare.Absent:
		c.Note, c.Absent = "absent", b.Applied == nil
	case b.Health.Word == health.Stopped:
		c.Note = "stopped"
	case b.Health.Word == health.Starting && !b.Looked.IsZero():
		c.Note, c.Tone = "starting", Moves
	case b.Life != nil && !b.Life.Announced.IsZero():
		c.Note, c.Tone = "ends "+b.Life.Ends.Local().Format("2 Jan"), Asks
	case b.Follows != "" || b.Branch != nil:
		c.Note = "preview"
	case len(Orphans(b)) > 0:
		c.Note = say.Count(len(Orphans(b)), "orphan")
	}
	return c
}

// kept is the cell of a berth whose old set is kept after the switch.
func kept(b status.Berth) Cell {
	return Cell{Version: b.Rollout.New.Version, Tone: Quiet, Note: b.Rollout.Old.Version + " kept"}
}

func total(parts map[string]int) (sum int) {
	for _, n := range parts {
		sum += n
	}
	return sum
}
