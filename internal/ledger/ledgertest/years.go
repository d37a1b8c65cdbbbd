// Package ledgertest has ledgers of many years.
package ledgertest

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"path/filepath"
	"testing"
	"time"

	_ "modernc.org/sqlite"

	"aditus/internal/core/berth"
	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
	"aditus/internal/core/rollout"
	"aditus/internal/ledger"
)

// What is in a ledger of Years: berths of twenty workloads at five sites, each of which had rollouts of factsEach facts, evenly over two years,
// under guard for an hour each.
const (
	workloads  = 20
	sites      = 5
	factsEach  = 50
	years      = 2 * 365 * 24 * time.Hour
	interval   = 10 * time.Second
	intervals  = 360
	steadyEach = 5 * time.Minute
)

// Now is the end of the years.
var Now = time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)

// Berth is one of the berths.
var Berth = berth.ID{Workload: "ferry-7", Site: "site-3"}

// New and Old are the revisions of each rollout of it.
var New, Old = revision("2.0.0", "b"), revision("1.0.0", "a")

func revision(version, letter string) berth.Revision {
	rule := func(name string) guard.Rule {
		return guard.Rule{Name: name, Limit: guard.Limit{Kind: guard.AtMost, Value: 0.02, Unit: guard.Share}, Way: guard.Sequential, Missing: guard.MissingHolds, Then: guard.RollBack}
	}
	desired := &declare.Desired{Format: 1, Workload: Berth.Workload, Parts: map[string]declare.Part{}, Rollout: declare.Rollout{Style: declare.Canary, Interval: declare.Span{Duration: interval}}, Guards: []guard.Rule{rule("errors"), rule("slow")}}
	return berth.Revision{Fingerprint: declare.Fingerprint(letter + "000000000"), Workload: Berth.Workload, Version: version, Commit: letter, At: Now, Desired: desired}
}

// Years makes a ledger of so many facts in a folder, thinned as it is where it is left to itself.
func Years(tb testing.TB, folder string, facts int) {
	tb.Helper()
	book, err := ledger.Open(folder, nil)
	if err != nil {
		tb.Fatal(err)
	}
	for _, r := range []*berth.Revision{&Old, &New} {
		if err := book.Record(context.Background(), ledger.Entry{Berth: Berth, Revision: r}); err != nil {
			tb.Fatal(err)
		}
	}
	if err := book.Close(); err != nil {
		tb.Fatal(err)
	}
	db, err := sql.Open("sqlite", "file:"+filepath.Join(folder, ledger.FileName)+"?_pragma=journal_mode(OFF)&_pragma=synchronous(OFF)&_pragma=cache_size(-400000)")
	if err != nil {
		tb.Fatal(err)
	}
	defer db.Close()
	db.SetMaxOpenConns(1)
	state, err := json.Marshal(rollout.State{ID: 1, Old: rollout.Side{Revision: Old.Fingerprint, Version: Old.Version}, New: rollout.Side{Revision: New.Fingerprint, Version: New.Version}, Rules: New.Desired.Rollout, Phase: rollout.Proven, Stage: 3, Why: "every guard passed for as long as its proving", By: "aditus"})
	if err != nil {
		tb.Fatal(err)
	}
	rollouts := facts / factsEach
	first := Now.Add(-years).UnixMilli()
	step := years.Milliseconds() / int64(rollouts)
	begin := fmt.Sprintf("(%d + r.n * %d)", first, step)
	berths := fmt.Sprintf("'ferry-' || (r.n / %d %% %d), 'site-' || (r.n %% %d)", sites, workloads, sites)
	numbers := func(n int) string {
		return fmt.Sprintf("WITH RECURSIVE r(n) AS (SELECT 0 UNION ALL SELECT n + 1 FROM r WHERE n < %d)", n-1)
	}
	points := func(from, to time.Duration, every time.Duration) string {
		return fmt.Sprintf(`%s, i(k) AS (SELECT 1 UNION ALL SELECT k + 1 FROM i WHERE k < %d), g(name) AS (VALUES ('errors'), ('slow')), v(name) AS (VALUES ('%s'), ('%s'))
			INSERT INTO points SELECT %s, g.name, v.name, %s + i.k * %d, 0.001 * (i.k %% 7), i.k %% 7, 1000, 0 FROM r, i, g, v WHERE %s >= %d AND %s < %d`,
			numbers(rollouts), int(intervals*interval/every), Old.Fingerprint, New.Fingerprint, berths, begin, every.Milliseconds(), begin, Now.Add(-from).UnixMilli(), begin, Now.Add(-to).UnixMilli())
	}
	day := 24 * time.Hour
	for _, text := range []string{
		fmt.Sprintf(`%s INSERT INTO rollouts SELECT r.n + 1, %s, json_set('%s', '$.id', r.n + 1, '$.began', strftime('%%Y-%%m-%%dT%%H:%%M:%%SZ', %s / 1000, 'unixepoch'), '$.ended', strftime('%%Y-%%m-%%dT%%H:%%M:%%SZ', %s / 1000 + 3600, 'unixepoch')) FROM r`, numbers(rollouts), berths, state, begin, begin),
		fmt.Sprintf(`%s, f(k) AS (SELECT 0 UNION ALL SELECT k + 1 FROM f WHERE k < %d) INSERT INTO facts (at, workload, site, rollout, kind, actor, revision, text, data)
			SELECT %s + f.k * 60000, %s, r.n + 1, CASE f.k WHEN 0 THEN 'taken' WHEN 1 THEN 'stage' WHEN 49 THEN 'proven' ELSE 'settled' END, 'aditus', '%s', 'all instances are healthy, and every guard holds', '{"share":0.25,"soak":"10m"}'
			FROM r CROSS JOIN f`, numbers(rollouts), factsEach-1, begin, berths, New.Fingerprint),
		"INSERT INTO marks SELECT seq, latest FROM (SELECT seq, max(at) OVER (ORDER BY seq) AS latest FROM facts) WHERE seq % 256 = 0",
		points(14*day, 0, interval), points(90*day, 14*day, time.Minute), points(years, 90*day, time.Hour),
		fmt.Sprintf(`WITH RECURSIVE s(n) AS (SELECT 0 UNION ALL SELECT n + 1 FROM s WHERE n < %d), g(name) AS (VALUES ('errors'), ('slow'))
			INSERT INTO steady SELECT '%s', '%s', g.name, '%s', %d - s.n * %d, 0.002, 20, 10000 FROM s, g`, int(ledger.SteadyKept/steadyEach)-1, Berth.Workload, Berth.Site, Old.Fingerprint, Now.UnixMilli(), steadyEach.Milliseconds()),
		fmt.Sprintf(`%s, i(k) AS (SELECT 0 UNION ALL SELECT k + 1 FROM i WHERE k < 359) INSERT INTO looks SELECT r.n + 1, %s + i.k * 10000, 0.25, 0.25, 100, 30, 3, 1 FROM r, i WHERE %s >= %d`, numbers(rollouts), begin, begin, Now.Add(-14*day).UnixMilli()),
	} {
		if _, err := db.Exec(text); err != nil {
			tb.Fatalf("%v: %s", err, text)
		}
	}
}
