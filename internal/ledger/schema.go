package ledger

import "fmt"

// version is the schema's version.
const version = 6

var schema = `
CREATE TABLE facts (
  seq INTEGER PRIMARY KEY, at INTEGER NOT NULL, workload TEXT NOT NULL, site TEXT NOT NULL, rollout INTEGER NOT NULL,
  kind TEXT NOT NULL, actor TEXT NOT NULL, revision TEXT NOT NULL, text TEXT NOT NULL, data TEXT,
  chain TEXT NOT NULL DEFAULT ''
) STRICT;
` + factIndexes + `
CREATE TABLE berths (workload TEXT NOT NULL, site TEXT NOT NULL, state TEXT NOT NULL, PRIMARY KEY (workload, site)) STRICT;
CREATE TABLE rollouts (id INTEGER PRIMARY KEY, workload TEXT NOT NULL, site TEXT NOT NULL, state TEXT NOT NULL) STRICT;
CREATE INDEX rollouts_berth ON rollouts (workload, site, id);
CREATE TABLE revisions (
  fingerprint TEXT NOT NULL, workload TEXT NOT NULL, seq INTEGER PRIMARY KEY, version TEXT NOT NULL, commit_hash TEXT NOT NULL,
  subject TEXT NOT NULL, author TEXT NOT NULL, at INTEGER NOT NULL, desired TEXT NOT NULL, signed TEXT NOT NULL DEFAULT '', UNIQUE (workload, fingerprint)
) STRICT;
` + pointsSchema + steadySchema + cursorSchema + `
CREATE TABLE looks (
  rollout INTEGER NOT NULL, at INTEGER NOT NULL, asked REAL NOT NULL, share REAL NOT NULL, requests_old REAL NOT NULL, requests_new REAL NOT NULL,
  old INTEGER NOT NULL, new INTEGER NOT NULL, PRIMARY KEY (rollout, at)
) STRICT, WITHOUT ROWID;
` + looksIndex + `
CREATE TABLE pictures (name TEXT PRIMARY KEY, at INTEGER NOT NULL, json TEXT NOT NULL) STRICT;
`

// Facts are found by berth and by rollout, in order. Every markEvery there is a mark, with the latest moment so far: facts since a moment come
// after the last mark before it, also where a clock went back.
const factIndexes = `CREATE INDEX facts_of ON facts (workload, site, seq);
CREATE INDEX facts_rollout ON facts (rollout, seq);
CREATE TABLE marks (seq INTEGER PRIMARY KEY, at INTEGER NOT NULL) STRICT;
CREATE INDEX marks_at ON marks (at, seq);`

const markEvery = 256

// markAll makes the marks of facts that have none.
const markAll = `INSERT INTO marks SELECT seq, latest FROM (SELECT seq, max(at) OVER (ORDER BY seq) AS latest FROM facts) WHERE seq % 256 = 0;`

// Points lie by berth and time, as they are asked for.
const pointsSchema = `CREATE TABLE points (
  workload TEXT NOT NULL, site TEXT NOT NULL, guard TEXT NOT NULL, revision TEXT NOT NULL, at INTEGER NOT NULL,
  value REAL NOT NULL, part REAL NOT NULL, whole REAL NOT NULL, stage INTEGER NOT NULL DEFAULT -1, PRIMARY KEY (workload, site, at, guard, revision)
) STRICT, WITHOUT ROWID;`

const looksIndex = `CREATE INDEX looks_at ON looks (at);`

const steadySchema = `CREATE TABLE steady (
  workload TEXT NOT NULL, site TEXT NOT NULL, guard TEXT NOT NULL, revision TEXT NOT NULL, at INTEGER NOT NULL,
  value REAL NOT NULL, part REAL NOT NULL, whole REAL NOT NULL, PRIMARY KEY (workload, site, guard, at, revision)
) STRICT, WITHOUT ROWID;`

const cursorSchema = `CREATE TABLE cursors (name TEXT PRIMARY KEY, seq INTEGER NOT NULL) STRICT;`

// upgrades bring a ledger from each version to the next, from the first.
var upgrades = []string{
	"ALTER TABLE points ADD COLUMN stage INTEGER NOT NULL DEFAULT -1;" + steadySchema,
	cursorSchema,
	"DROP INDEX facts_berth;" + factIndexes + markAll + looksIndex + "ALTER TABLE points RENAME TO points_before;" + pointsSchema +
		"INSERT INTO points (workload, site, guard, revision, at, value, part, whole, stage) SELECT workload, site, guard, revision, at, value, part, whole, stage FROM points_before ORDER BY workload, site, at; DROP TABLE points_before;",
	"ALTER TABLE facts ADD COLUMN chain TEXT NOT NULL DEFAULT '';",
	"ALTER TABLE revisions ADD COLUMN signed TEXT NOT NULL DEFAULT '';",
}

func errNewer(have int) error {
	return fmt.Errorf("it was written by a newer Aditus (schema %d, this one knows %d): use that one", have, version)
}
