package ledger

import (
	"testing"
	"time"

	"aditus/internal/core/berth"
	"aditus/internal/core/rollout"
)

// older takes a ledger back to what each version made it, from the newest.
var older = []struct {
	version int
	back    []string
}{
	{5, []string{"ALTER TABLE revisions DROP COLUMN signed", "PRAGMA user_version = 5"}},
	{4, []string{"ALTER TABLE facts DROP COLUMN chain", "PRAGMA user_version = 4"}},
	{3, []string{
		"DROP INDEX facts_of", "DROP INDEX facts_rollout", "DROP TABLE marks", "DROP INDEX looks_at", "CREATE INDEX facts_berth ON facts (workload, site, at)",
		"ALTER TABLE points RENAME TO points_after", `CREATE TABLE points (
  workload TEXT NOT NULL, site TEXT NOT NULL, guard TEXT NOT NULL, revision TEXT NOT NULL, at INTEGER NOT NULL,
  value REAL NOT NULL, part REAL NOT NULL, whole REAL NOT NULL, stage INTEGER NOT NULL DEFAULT -1, PRIMARY KEY (workload, site, guard, revision, at)
) STRICT, WITHOUT ROWID`, "INSERT INTO points SELECT * FROM points_after", "DROP TABLE points_after", "PRAGMA user_version = 3",
	}},
	{2, []string{"DROP TABLE cursors", "PRAGMA user_version = 2"}},
	{1, []string{"DROP TABLE steady", "ALTER TABLE points DROP COLUMN stage", "PRAGMA user_version = 1"}},
}

// TestUpgrade opens a ledger of each earlier version: what is in it stays, and what is new can be written.
func TestUpgrade(t *testing.T) {
	if older[0].version != version-1 {
		t.Fatalf("how version %d was made from the one before is not tested", version)
	}
	for i, from := range older {
		folder := t.TempDir()
		l := open1(t, folder)
		record(t, l, Entry{Berth: boardingNorth, Points: []Point{{Guard: "slow", Revision: "a", At: at, Value: 0.1, Part: 1, Whole: 10, Stage: -1}}})
		for _, step := range older[:i+1] {
			for _, back := range step.back {
				if _, err := file(l).write.Exec(back); err != nil {
					t.Fatal(err)
				}
			}
		}
		l.Close()
		l = open1(t, folder)
		points, err := l.Points(boardingNorth, at, at)
		if err != nil || len(points) != 1 || points[0].Stage != -1 || points[0].Part != 1 {
			t.Errorf("from version %d: %+v (%v)", from.version, points, err)
		}
		record(t, l, Entry{Berth: boardingNorth, Steady: []Point{{Guard: "slow", Revision: "a", At: at}}})
		if err := l.keepCursor(t.Context(), "sink", 3); err != nil {
			t.Errorf("from version %d: %v", from.version, err)
		}
		if facts, err := Check(file(l).path); err != nil || facts != 0 {
			t.Errorf("from version %d: %d facts (%v)", from.version, facts, err)
		}
	}
}

// TestSteady sees that the history of steady times is kept for as long as it should, and rollouts are found since a moment.
func TestSteady(t *testing.T) { each(t, testSteady) }

func testSteady(t *testing.T, fresh func() opens) {
	open := fresh()
	l := open(nil)
	for day := range 40 {
		record(t, l, Entry{Berth: boardingNorth, Steady: []Point{{Guard: "slow", Revision: "a", At: at.AddDate(0, 0, day), Value: float64(day), Part: 1, Whole: 10}}})
		s := rollout.State{ID: l.NextRollout(), Began: at.AddDate(0, 0, day)}
		record(t, l, Entry{Berth: boardingNorth, Rollout: &s})
	}
	points, err := l.Steady(boardingNorth, "slow", time.Time{})
	if err != nil || len(points) != 29 || points[0].Value != 11 || points[28].Value != 39 {
		t.Errorf("%d points from %+v (%v)", len(points), points[0], err)
	}
	if found, err := l.Rollouts(boardingNorth, at.AddDate(0, 0, 35)); err != nil || len(found) != 5 {
		t.Errorf("%d rollouts (%v)", len(found), err)
	}
	if none, err := l.Steady(berth.ID{Workload: "boarding", Site: "south"}, "slow", time.Time{}); err != nil || len(none) > 0 {
		t.Errorf("of another boardingNorth: %v (%v)", none, err)
	}
}
