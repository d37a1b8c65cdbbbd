package ledger

import (
	"context"
	"database/sql"
	"fmt"
	"time"

	"aditus/internal/core/berth"
	"aditus/internal/core/guard/panel"
	"aditus/internal/core/rollout"
)

// Keep says for how long the ledger keeps what; 0 is for ever.
type Keep struct {
	Points   time.Duration // every point of a guard's signal; then one a minute
	Minutes  time.Duration // those; then one an hour
	Traffic  time.Duration // of rollouts, look by look
	Rollouts time.Duration // since they ended
	Facts    time.Duration
}

// pruneEvery is how often it is looked for what is kept long enough.
const pruneEvery = time.Hour

// Tend prunes again and again until ctx ends. report is told how it went.
func (l *Ledger) Tend(ctx context.Context, now func() time.Time, k Keep, report func(error)) {
	ticker := time.NewTicker(pruneEvery)
	defer ticker.Stop()
	for {
		if err := l.Prune(ctx, now(), k); ctx.Err() == nil {
			report(err)
		}
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
	}
}

// pruneRows is how much is changed at once, so that nobody waits long to record.
const pruneRows = 2000

// thinning sums points up that are older than an age, so many at a time.
type thinning struct {
	cursor string // how far it is done
	age    time.Duration
	every  time.Duration
	chunk  time.Duration
}

// Prune gives up what is kept long enough, and sums up points that are old enough. What is under way keeps all of its own. It may be ended and begun again at any time.
func (l *Ledger) Prune(ctx context.Context, now time.Time, k Keep) error {
	for _, t := range []thinning{{"points by the minute", k.Points, time.Minute, time.Hour}, {"points by the hour", k.Minutes, time.Hour, 24 * time.Hour}} {
		if err := l.thin(ctx, now, t); err != nil {
			return fmt.Errorf("thin the points of the ledger %s: %w", l.place(), err)
		}
	}
	under, err := l.underWay()
	if err != nil {
		return fmt.Errorf("prune the ledger %s: %w", l.place(), err)
	}
	for _, old := range []struct {
		age    time.Duration
		remove string
	}{
		{k.Traffic, `DELETE FROM looks WHERE (rollout, at) IN (SELECT rollout, at FROM looks WHERE at < $1 AND rollout NOT IN (` + under + `) ORDER BY at LIMIT $2)`},
		{k.Facts, `DELETE FROM facts WHERE seq IN (SELECT seq FROM facts WHERE at < $1 AND seq < (SELECT max(seq) FROM facts) ORDER BY seq LIMIT $2)`}, // no number is given twice,
	} {
		for more := old.age > 0; more; {
			err := l.change(ctx, func(tx *sql.Tx) error {
				result, err := tx.Exec(old.remove, now.Add(-old.age).UnixMilli(), pruneRows)
				if err != nil {
					return err
				}
				n, err := result.RowsAffected()
				more = n == pruneRows
				return err
			})
			if err != nil {
				return fmt.Errorf("prune the ledger %s: %w", l.place(), err)
			}
		}
	}
	if k.Rollouts > 0 {
		if err := l.pruneRollouts(ctx, now.Add(-k.Rollouts)); err != nil {
			return fmt.Errorf("prune the ledger %s: %w", l.place(), err)
		}
	}
	return nil
}

// underWay lists the rollouts that are under way, as they stand in a query; 0 where there is none.
func (l *Ledger) underWay() (string, error) {
	states, err := l.Berths()
	list := "0"
	for _, state := range states {
		if state.Rollout > 0 {
			list += fmt.Sprintf(",%d", state.Rollout)
		}
	}
	return list, err
}

// thin sums points up.
func (l *Ledger) thin(ctx context.Context, now time.Time, t thinning) error {
	if t.age <= 0 {
		return nil
	}
	from, err := l.cursor(Cursor{Name: t.cursor})
	if err != nil {
		return err
	}
	states, err := l.Berths()
	if err != nil {
		return err
	}
	end := now.Add(-t.age).Truncate(t.chunk)
	reached := end
	for id := (berth.ID{}); ; {
		err := l.rowOf(ctx, []any{&id.Workload, &id.Site}, `SELECT workload, site FROM points WHERE (workload, site) > ($1, $2) ORDER BY workload, site LIMIT 1`, id.Workload, id.Site)
		if err == sql.ErrNoRows {
			break
		} else if err != nil {
			return err
		}
		until := end
		if under := states[id].Rollout; under != 0 { // it goes on with its evidence
			s, _, err := l.Rollout(under)
			if err != nil {
				return err
			}
			if lead := s.Began.Add(-panel.LeadIn * s.Rules.Interval.Duration).Truncate(t.chunk); lead.Before(until) {
				until = lead
			}
		}
		if until.Before(reached) {
			reached = until
		}
		if err := l.thinBerth(ctx, id, t, time.UnixMilli(from), until); err != nil {
			return err
		}
	}
	if reached.UnixMilli() <= from {
		return nil
	}
	return l.keepCursor(ctx, t.cursor, reached.UnixMilli())
}

// thinBerth sums a berth's points up between two moments, a chunk at a time.
func (l *Ledger) thinBerth(ctx context.Context, id berth.ID, t thinning, from, until time.Time) error {
	for {
		var next int64
		err := l.rowOf(ctx, []any{&next}, `SELECT at FROM points WHERE workload = $1 AND site = $2 AND at >= $3 AND at < $4 ORDER BY at LIMIT 1`, id.Workload, id.Site, from.UnixMilli(), until.UnixMilli())
		if err == sql.ErrNoRows {
			return nil
		} else if err != nil {
			return err
		}
		begin := time.UnixMilli(next).Truncate(t.chunk)
		from = begin.Add(t.chunk)
		points, err := l.Points(id, begin, from.Add(-time.Millisecond))
		if err != nil {
			return err
		}
		thin := panel.Thin(points, t.every)
		if len(thin) == len(points) {
			continue
		}
		e := Entry{Berth: id, Points: thin}
		err = l.change(ctx, func(tx *sql.Tx) error {
			if _, err := tx.Exec(`DELETE FROM points WHERE workload = $1 AND site = $2 AND at >= $3 AND at < $4`, id.Workload, id.Site, begin.UnixMilli(), from.UnixMilli()); err != nil {
				return err
			}
			return e.writePoints(tx)
		})
		if err != nil {
			return err
		}
	}
}

// pruneRollouts gives up rollouts that ended before a moment, but for each berth's last one. Those of a berth follow each other.
func (l *Ledger) pruneRollouts(ctx context.Context, before time.Time) error {
	type row struct {
		state rollout.State
		last  bool
	}
	for after := int64(0); ; {
		rows, err := l.ask(ctx, `SELECT state, id = (SELECT max(id) FROM rollouts o WHERE o.workload = r.workload AND o.site = r.site) FROM rollouts r WHERE id > $1 ORDER BY id LIMIT $2`, after, pruneRows/10)
		page, err := collect(rows, err, func(rows *sql.Rows) (r row, err error) {
			r.state, err = scanRollout(scanned{rows, &r.last})
			return r, err
		})
		if err != nil || len(page) == 0 {
			return err
		}
		over, ended := false, []any{}
		for _, r := range page {
			after = r.state.ID
			over = over || !r.state.Began.Before(before)
			if !r.last && !r.state.Ended.IsZero() && r.state.Ended.Before(before) {
				ended = append(ended, r.state.ID)
			}
		}
		err = l.change(ctx, func(tx *sql.Tx) error {
			for _, id := range ended {
				if _, err := tx.Exec(`DELETE FROM rollouts WHERE id = $1`, id); err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil || over {
			return err
		}
	}
}

// scanned is a row that has something beside a state.
type scanned struct {
	rows   *sql.Rows
	beside any
}

// Scan scans the state.
func (s scanned) Scan(into ...any) error { return s.rows.Scan(append(into, s.beside)...) }
