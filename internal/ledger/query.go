package ledger

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"aditus/internal/core/berth"
	"aditus/internal/core/declare"
	"aditus/internal/core/rollout"
)

// Query selects facts. Zero fields select all.
type Query struct {
	Berth   berth.ID
	Rollout int64
	After   int64     // only facts with a larger number
	Since   time.Time // only facts at or after it
	Newest  int       // only the last so many
	Most    int       // of those only the first so many: a page, where After is the last number of the one before
}

// Facts gives the facts that a query selects, oldest first.
func (l *Ledger) Facts(q Query) ([]Fact, error) {
	where, args := []string{"seq > $1"}, []any{q.After}
	also := func(what string, value any) {
		args = append(args, value)
		where = append(where, fmt.Sprintf("%s $%d", what, len(args)))
	}
	switch {
	case q.Rollout != 0: // its facts are few: the berth is looked at in each, by an expression that no index is of
		also("rollout =", q.Rollout)
		if q.Berth.Workload != "" {
			also("workload || '' =", q.Berth.Workload)
			also("site || '' =", q.Berth.Site)
		}
	case q.Berth.Workload != "":
		also("workload =", q.Berth.Workload)
		also("site =", q.Berth.Site)
	}
	if !q.Since.IsZero() {
		since := q.Since.UnixMilli()
		if q.After == 0 { // where to begin
			var mark sql.NullInt64
			if err := l.row([]any{&mark}, `SELECT max(seq) FROM (SELECT seq FROM marks WHERE at < $1 ORDER BY at DESC, seq DESC LIMIT 1) AS mark`, since); err != nil {
				return nil, err
			}
			args[0] = mark.Int64
		}
		also("at >=", since)
	}
	from, order, limit := strings.Join(where, " AND "), " ORDER BY seq", 0
	switch {
	case q.Newest > 0 && q.Most > 0:
		from += fmt.Sprintf(" AND seq >= (SELECT min(seq) FROM (SELECT seq FROM facts WHERE %s ORDER BY seq DESC LIMIT %d) AS newest)", from, q.Newest)
		limit = min(q.Newest, q.Most)
	case q.Newest > 0:
		order, limit = " ORDER BY seq DESC", q.Newest
	case q.Most > 0:
		limit = q.Most
	}
	query := `SELECT seq, at, workload, site, rollout, kind, actor, revision, text, data FROM facts WHERE ` + from + order
	if limit > 0 {
		query += fmt.Sprintf(" LIMIT %d", limit)
	}
	rows, err := l.query(query, args...)
	facts, err := collect(rows, err, func(rows *sql.Rows) (f Fact, err error) {
		var at int64
		var data sql.NullString
		err = rows.Scan(&f.Seq, &at, &f.Workload, &f.Site, &f.Rollout, &f.Kind, &f.By, &f.Revision, &f.Text, &data)
		f.At = time.UnixMilli(at)
		if data.Valid {
			f.Data = json.RawMessage(data.String)
		}
		return f, err
	})
	if strings.HasSuffix(order, "DESC") {
		slices.Reverse(facts)
	}
	return facts, err
}

// PageSize is how many facts are asked for at once where there may be many.
const PageSize = 1000

// Page gives the facts that a query selects to do, oldest first, however many they are: get gives a page of them.
func Page(q Query, get func(Query) ([]Fact, error), do func(Fact) error) error {
	left := q.Newest
	for q.Most = PageSize; ; {
		facts, err := get(q)
		if err != nil {
			return err
		}
		for _, f := range facts {
			if err := do(f); err != nil {
				return err
			}
		}
		if left -= len(facts); len(facts) < q.Most || left == 0 {
			return nil
		}
		if q.After = facts[len(facts)-1].Seq; q.Newest > 0 {
			q.Newest, q.Most = 0, min(PageSize, left)
		} else if left > 0 {
			q.Most = min(PageSize, left)
		}
	}
}

// Berths gives the state of every berth on record.
func (l *Ledger) Berths() (map[berth.ID]berth.State, error) {
	type row struct {
		berth berth.ID
		state berth.State
	}
	rows, err := l.query(`SELECT workload, site, state FROM berths`)
	found, err := collect(rows, err, func(rows *sql.Rows) (r row, err error) {
		var text string
		if err = rows.Scan(&r.berth.Workload, &r.berth.Site, &text); err != nil {
			return r, err
		}
		if err = json.Unmarshal([]byte(text), &r.state); err != nil {
			return r, fmt.Errorf("the state of %s: %w", r.berth, err)
		}
		return r, nil
	})
	states := make(map[berth.ID]berth.State, len(found))
	for _, r := range found {
		states[r.berth] = r.state
	}
	return states, err
}

// Rollout gives the state of a rollout.
func (l *Ledger) Rollout(id int64) (rollout.State, berth.ID, error) {
	var text string
	var s rollout.State
	var b berth.ID
	err := l.row([]any{&b.Workload, &b.Site, &text}, `SELECT workload, site, state FROM rollouts WHERE id = $1`, id)
	if errors.Is(err, sql.ErrNoRows) {
		var facts int
		if err := l.row([]any{&facts}, `SELECT count(*) FROM (SELECT 1 FROM facts WHERE rollout = $1 LIMIT 1) AS found`, id); err == nil && facts > 0 {
			return s, b, fmt.Errorf("rollout %d was kept for as long as keep: rollouts in the settings says, and is gone but for its facts, which aditus ledger tells: %w", id, ErrNone)
		}
		return s, b, fmt.Errorf("rollout %d: %w", id, ErrNone)
	}
	if err == nil {
		err = json.Unmarshal([]byte(text), &s)
	}
	if err != nil {
		return s, b, fmt.Errorf("read rollout %d: %w", id, err)
	}
	return s, b, nil
}

// LastRollout gives the number of a berth's newest rollout.
func (l *Ledger) LastRollout(b berth.ID) (int64, error) {
	var id sql.NullInt64
	if err := l.row([]any{&id}, `SELECT max(id) FROM rollouts WHERE workload = $1 AND site = $2`, b.Workload, b.Site); err != nil {
		return 0, fmt.Errorf("read the rollouts of %s: %w", b, err)
	}
	if !id.Valid {
		return 0, fmt.Errorf("a rollout of %s: %w", b, ErrNone)
	}
	return id.Int64, nil
}

const revisionColumns = `fingerprint, workload, seq, version, commit_hash, subject, author, at, desired, signed`

// Revisions gives the revisions of a workload whose fingerprint begins with a name, where it has shortest characters at
// least, or whose version it is, newest first.
func (l *Ledger) Revisions(workload, name string) ([]berth.Revision, error) {
	rows, err := l.query(`SELECT `+revisionColumns+` FROM revisions
		WHERE workload = $1 AND (length($2) >= $3 AND substr(fingerprint, 1, length($2)) = $2 OR version = $2) ORDER BY seq DESC`, workload, name, shortest)
	return collect(rows, err, scanRevision)
}

// shortest is how much of a fingerprint names a revision.
const shortest = 4

// RevisionName is a revision without what it declares.
type RevisionName struct {
	Workload    string
	Fingerprint declare.Fingerprint
	Version     string
}

// RevisionNames gives the names of all revisions of all workloads, oldest first.
func (l *Ledger) RevisionNames() ([]RevisionName, error) {
	rows, err := l.query(`SELECT workload, fingerprint, version FROM revisions ORDER BY seq`)
	return collect(rows, err, func(rows *sql.Rows) (n RevisionName, err error) {
		return n, rows.Scan(&n.Workload, &n.Fingerprint, &n.Version)
	})
}

// Revision gives one revision of a workload.
func (l *Ledger) Revision(workload string, fingerprint declare.Fingerprint) (*berth.Revision, error) {
	rows, err := l.query(`SELECT `+revisionColumns+` FROM revisions WHERE workload = $1 AND fingerprint = $2`, workload, string(fingerprint))
	found, err := collect(rows, err, scanRevision)
	if err == nil && len(found) == 0 {
		err = fmt.Errorf("revision %s of %s: %w", fingerprint.Short(), workload, ErrNone)
	}
	if err != nil {
		return nil, err
	}
	return &found[0], nil
}

func scanRevision(rows *sql.Rows) (r berth.Revision, err error) {
	var at int64
	var desired string
	if err = rows.Scan(&r.Fingerprint, &r.Workload, &r.Seq, &r.Version, &r.Commit, &r.Subject, &r.Author, &at, &desired, &r.Signed); err != nil {
		return r, err
	}
	r.At, r.Desired = time.UnixMilli(at), &declare.Desired{}
	if err = json.Unmarshal([]byte(desired), r.Desired); err != nil {
		return r, fmt.Errorf("revision %s of %s: %w", r.Fingerprint.Short(), r.Workload, err)
	}
	return r, nil
}

// Points gives the signals of a berth from a moment to another, oldest first.
func (l *Ledger) Points(b berth.ID, from, to time.Time) ([]Point, error) {
	rows, err := l.query(`SELECT guard || '', revision || '', at, value, part, whole, stage FROM points
		WHERE workload = $1 AND site = $2 AND at BETWEEN $3 AND $4 ORDER BY at`, b.Workload, b.Site, from.UnixMilli(), to.UnixMilli())
	return collect(rows, err, scanPoint)
}

// PointsOf gives the signals of one guard of a berth for two revisions from a moment to another, oldest first. There may be tens of
// thousands: each is read as few numbers.
func (l *Ledger) PointsOf(b berth.ID, guard string, of [2]declare.Fingerprint, from, to time.Time) ([]Point, error) {
	rows, err := l.query(`SELECT 1048576 * at + 2 * (stage + 1) + CASE revision WHEN $6 THEN 0 ELSE 1 END, value, part, whole FROM points
		WHERE workload = $1 AND site = $2 AND at BETWEEN $3 AND $4 AND guard = $5 AND revision IN ($6, $7) ORDER BY at`, b.Workload, b.Site, from.UnixMilli(), to.UnixMilli(), guard, string(of[0]), string(of[1]))
	return collectMany(rows, err, many, func(rows *sql.Rows) (p Point, err error) {
		var which int64
		err = rows.Scan(&which, &p.Value, &p.Part, &p.Whole)
		p.Guard, p.Revision, p.At, p.Stage = guard, of[which&1], time.UnixMilli(which>>20), int(which>>1&0x7ffff)-1
		return p, err
	})
}

// many points are expected of a guard: they are not moved again and again as they come.
const many = 1024

// scanPoint scans into plain types, of which there may be tens of thousands: others go through texts.
func scanPoint(rows *sql.Rows) (p Point, err error) {
	var at, stage int64
	var revision string
	err = rows.Scan(&p.Guard, &revision, &at, &p.Value, &p.Part, &p.Whole, &stage)
	p.Revision, p.At, p.Stage = declare.Fingerprint(revision), time.UnixMilli(at), int(stage)
	return p, err
}

// Steady gives what a guard's signal was while a revision served alone, whichever that was, since a moment, oldest first.
func (l *Ledger) Steady(b berth.ID, guard string, since time.Time) ([]Point, error) {
	rows, err := l.query(`SELECT at, value, part, whole FROM steady
		WHERE workload = $1 AND site = $2 AND guard = $3 AND at >= $4 ORDER BY at`, b.Workload, b.Site, guard, since.UnixMilli())
	return collectMany(rows, err, many, func(rows *sql.Rows) (p Point, err error) {
		var at int64
		err = rows.Scan(&at, &p.Value, &p.Part, &p.Whole)
		p.Guard, p.At, p.Stage = guard, time.UnixMilli(at), -1
		return p, err
	})
}

// Rollouts gives the states of a berth's rollouts that began since a moment, oldest first.
func (l *Ledger) Rollouts(b berth.ID, since time.Time) ([]rollout.State, error) {
	rows, err := l.query(`SELECT state FROM rollouts WHERE workload = $1 AND site = $2 ORDER BY id DESC`, b.Workload, b.Site)
	all, err := collect(rows, err, func(rows *sql.Rows) (s rollout.State, err error) {
		if s, err = scanRollout(rows); err == nil && s.Began.Before(since) {
			err = errEnough
		}
		return s, err
	})
	slices.Reverse(all)
	return all, err
}

func scanRollout(row interface{ Scan(...any) error }) (s rollout.State, err error) {
	var text string
	if err = row.Scan(&text); err == nil {
		err = json.Unmarshal([]byte(text), &s)
	}
	return s, err
}

// Traffic gives the traffic and instances of a rollout, oldest first.
func (l *Ledger) Traffic(id int64) ([]Traffic, error) {
	rows, err := l.query(`SELECT at, asked, share, requests_old, requests_new, old, new FROM looks WHERE rollout = $1 ORDER BY at`, id)
	return collect(rows, err, func(rows *sql.Rows) (k Traffic, err error) {
		var at int64
		err = rows.Scan(&at, &k.Asked, &k.Share, &k.Requests[0], &k.Requests[1], &k.Old, &k.New)
		k.At = time.UnixMilli(at)
		return k, err
	})
}

// Picture reads a value kept by KeepPicture into value and tells when it was kept.
func (l *Ledger) Picture(name string, value any) (time.Time, error) {
	var at int64
	var text string
	err := l.row([]any{&at, &text}, `SELECT at, json FROM pictures WHERE name = $1`, name)
	if errors.Is(err, sql.ErrNoRows) {
		return time.Time{}, fmt.Errorf("%s: %w", name, ErrNone)
	}
	if err == nil {
		err = json.Unmarshal([]byte(text), value)
	}
	if err != nil {
		return time.Time{}, fmt.Errorf("read %s from the ledger: %w", name, err)
	}
	return time.UnixMilli(at), nil
}

// Latest is the newest moment on record: a clock that starts again must not start before it.
func (l *Ledger) Latest() (time.Time, error) {
	var at sql.NullInt64
	err := l.row([]any{&at}, `SELECT max(at) FROM (SELECT max(at) AS at FROM marks UNION ALL SELECT max(at) FROM facts WHERE seq > (SELECT coalesce(max(seq), 0) FROM marks) UNION ALL SELECT max(at) FROM looks UNION ALL SELECT max(at) FROM pictures) AS latest`)
	if err != nil || !at.Valid {
		return time.Time{}, err
	}
	return time.UnixMilli(at.Int64), nil
}

// errEnough ends a reading at the first row that is not wanted any more.
var errEnough = errors.New("enough")

// lines are the rows of an answer that is waited for with patience.
type lines struct {
	*sql.Rows
	done    func()
	explain func(error) error
}

// query asks for rows.
func (l *Ledger) query(text string, args ...any) (lines, error) {
	return l.ask(context.Background(), text, args...)
}

func (l *Ledger) ask(ctx context.Context, text string, args ...any) (lines, error) {
	done := func() {}
	if l.patience > 0 {
		ctx, done = context.WithTimeout(ctx, l.patience)
	}
	rows, err := l.read.QueryContext(ctx, text, args...)
	for tries := 0; err != nil && tries < ReadersAtOnce && l.again(err); tries++ { // as many sessions may have been left from before
		rows, err = l.read.QueryContext(ctx, text, args...)
	}
	if err != nil {
		done()
		return lines{}, l.explain(err)
	}
	return lines{rows, done, l.explain}, nil
}

// row reads the first row of an answer; sql.ErrNoRows where there is none.
func (l *Ledger) row(into []any, text string, args ...any) error {
	return l.rowOf(context.Background(), into, text, args...)
}

func (l *Ledger) rowOf(ctx context.Context, into []any, text string, args ...any) error {
	rows, err := l.ask(ctx, text, args...)
	if err != nil {
		return err
	}
	defer rows.done()
	defer rows.Close()
	if !rows.Next() {
		return cmp.Or(rows.explain(rows.Err()), sql.ErrNoRows)
	}
	return rows.Scan(into...)
}

func collect[T any](rows lines, err error, scan func(*sql.Rows) (T, error)) ([]T, error) {
	return collectMany(rows, err, 0, scan)
}

// collectMany is collect of about so many rows.
func collectMany[T any](rows lines, err error, about int, scan func(*sql.Rows) (T, error)) ([]T, error) {
	if err != nil {
		return nil, fmt.Errorf("read the ledger: %w", err)
	}
	defer rows.done()
	defer rows.Close()
	found := slices.Grow([]T(nil), about)
	for rows.Next() {
		item, err := scan(rows.Rows)
		if errors.Is(err, errEnough) {
			return found, nil
		}
		if err != nil {
			return nil, fmt.Errorf("read the ledger: %w", err)
		}
		found = append(found, item)
	}
	return found, rows.explain(rows.Err())
}
