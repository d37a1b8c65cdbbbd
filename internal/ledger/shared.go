package ledger

import (
	"cmp"
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/stdlib"

	"aditus/internal/core/fault"
)

// shared is a database in PostgreSQL that several servers share. One of them leads: its one session that writes holds an advisory
// lock, and each of its transactions sees that nobody has taken the lead since. So whoever loses the session records no more,
// whatever it believes, and is to begin anew with what is on record.
type shared struct {
	at     string
	folder string // of which a ledger is brought; empty for none
	config *pgx.ConnConfig

	mu   sync.Mutex
	turn *turn // nil while it does not lead; guarded by mu
}

// turn is the time from the moment that a server took the lead to the one that it lost it.
type turn struct {
	*waiter   // whose session holds the lock
	number    int64
	ends      context.CancelCauseFunc
	ended     context.Context
	confirmed time.Time  // when the database last said that it leads
	using     sync.Mutex // the session; and guards confirmed
}

// Rules of the lead. A leader that cannot have the database say so any more acts no more after acting, which is before another server
// takes the lead, after silent.
const (
	beat      = time.Second            // a leader asks the database so often whether it still leads
	acting    = 2 * beat               // for so long it need not ask again before it acts
	answer    = 3 * time.Second        // so long the database may take for that
	silent    = 5 * time.Second        // a leader of which the database hears nothing for so long is none
	lookAgain = 500 * time.Millisecond // a server that waits looks so often
	changing  = 10 * time.Second       // so long a change may take
	patience  = 10 * time.Second       // so long a reading may take
	reaching  = 5 * time.Second        // so long it may take to connect
)

// leadLock is the advisory lock that whoever leads holds.
const leadLock int64 = 0x6164_6974_7573 // its name, in ASCII

// sharedSchema is the schema of PostgreSQL that the tables are in.
const sharedSchema = "aditus"

const leadSchema = `CREATE TABLE lead (
  turn BIGINT NOT NULL, schema BIGINT NOT NULL, name TEXT NOT NULL, address TEXT NOT NULL, key TEXT NOT NULL, since BIGINT NOT NULL
);`

// Connect opens a ledger that lies in PostgreSQL, to read it, and to write to it once it leads. address is a connection URI
// (postgres://USER@HOST/DATABASE); what it leaves out comes from where every client of PostgreSQL takes it, such as PGPASSFILE.
// Where there is no ledger yet when it takes the lead, that of the data folder is brought there; folder may be empty.
// told is called with every batch of facts once they are kept; it may be nil.
func Connect(address, folder string, told func([]Fact)) (*Ledger, error) {
	config, err := pgx.ParseConfig(address)
	if err != nil {
		return nil, fmt.Errorf("the address of the ledger: %w; write it like postgres://aditus@db.example/aditus", err)
	}
	config.RuntimeParams["search_path"] = sharedSchema
	config.RuntimeParams["application_name"] = "aditus"
	config.RuntimeParams["lock_timeout"] = fmt.Sprint(silent.Milliseconds())
	config.RuntimeParams["idle_in_transaction_session_timeout"] = fmt.Sprint(changing.Milliseconds())
	if config.ConnectTimeout == 0 || config.ConnectTimeout > reaching {
		config.ConnectTimeout = reaching
	}
	s := &shared{folder: folder, at: fmt.Sprintf("postgres://%s/%s", net.JoinHostPort(config.Host, fmt.Sprint(config.Port)), config.Database), config: config}
	if strings.HasPrefix(config.Host, "/") {
		s.at = fmt.Sprintf("postgres:%s/%s", config.Host, config.Database)
	}
	reads := config.Copy()
	reads.RuntimeParams["default_transaction_read_only"] = "on"
	read := stdlib.OpenDB(*reads)
	read.SetMaxOpenConns(ReadersAtOnce)
	read.SetConnMaxIdleTime(time.Minute)
	l := newLedger(s, read, told)
	l.patience = patience
	return l, nil
}

func (s *shared) place() string { return s.at }

func (s *shared) change(ctx context.Context, do func(*sql.Tx) error) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	s.mu.Lock()
	t := s.turn
	s.mu.Unlock()
	if t == nil {
		return ErrDeposed
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), changing) // a caller who goes in the middle would take the session along
	defer cancel()
	t.using.Lock()
	defer t.using.Unlock()
	return s.lost(t, t.change(ctx, do))
}

// change changes something, where nobody has taken the lead.
func (t *turn) change(ctx context.Context, do func(*sql.Tx) error) error {
	asked := time.Now()
	tx, err := t.session.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if err := t.goesOn(tx.QueryRowContext(ctx, `SELECT 1 FROM lead WHERE turn = $1 FOR SHARE`, t.number)); err != nil { // nobody takes it until this ends
		return err
	}
	if err := do(tx); err != nil {
		return err
	}
	if err := tx.Commit(); err != nil {
		return err
	}
	t.confirmed = asked
	return nil
}

// goesOn fails where another server has taken the lead.
func (t *turn) goesOn(row *sql.Row) error {
	var one int
	err := row.Scan(&one)
	if errors.Is(err, sql.ErrNoRows) {
		return ErrDeposed
	}
	return err
}

// ask asks the database whether a turn goes on.
func (s *shared) ask(ctx context.Context, t *turn) error {
	asked := time.Now()
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), answer)
	defer cancel()
	err := s.lost(t, t.goesOn(t.session.QueryRowContext(ctx, `SELECT 1 FROM lead WHERE turn = $1`, t.number)))
	if err == nil {
		t.confirmed = asked
	}
	return err
}

// lost ends a turn whose session did not survive an error, or that another one followed, and explains the error.
func (s *shared) lost(t *turn, err error) error {
	if err == nil {
		return nil
	}
	gone := true
	t.session.Raw(func(c any) error { // is not called where it has gone
		conn, ok := c.(*stdlib.Conn)
		gone = !ok || conn.Conn().IsClosed()
		return nil
	})
	if !gone && !errors.Is(err, ErrDeposed) {
		return s.explain(err)
	}
	if !errors.Is(err, ErrDeposed) {
		err = fmt.Errorf("%w: the session with the database %s ended: %w", ErrDeposed, s.at, err)
	}
	s.end(t, err)
	return err
}

// isTransport tells whether an error may be of the way to the database rather than of what was asked.
func isTransport(err error) bool {
	var network net.Error
	return errors.As(err, &network) || errors.Is(err, context.DeadlineExceeded) || pgconn.Timeout(err) || isBroken(err)
}

// isBroken tells whether an error is that a session has ended, so that another one may do: the database was started anew since, or ends.
func isBroken(err error) bool {
	for _, way := range []error{io.EOF, io.ErrUnexpectedEOF, net.ErrClosed, syscall.ECONNRESET, syscall.EPIPE, driver.ErrBadConn} {
		if errors.Is(err, way) {
			return true
		}
	}
	var told *pgconn.PgError
	return errors.As(err, &told) && (strings.HasPrefix(told.Code, "57P") || strings.HasPrefix(told.Code, "08")) // operator_intervention, connection_exception
}

// again implements store.
func (s *shared) again(err error) bool { return isBroken(err) }

// end ends a turn.
func (s *shared) end(t *turn, why error) {
	s.mu.Lock()
	if s.turn == t {
		s.turn = nil
	}
	s.mu.Unlock()
	t.ends(why)
	go func() { // a session of a database that does not answer takes its time
		t.using.Lock() // a session that is being closed is not to be asked anything: database/sql has none in its hands then
		defer t.using.Unlock()
		t.session.Raw(func(c any) error {
			if conn, ok := c.(*stdlib.Conn); ok {
				ctx, cancel := context.WithTimeout(context.Background(), answer)
				defer cancel()
				conn.Conn().Close(ctx)
			}
			return nil
		})
		t.close()
	}()
}

// leads implements store: the database says so, now or a moment ago.
func (s *shared) leads(ctx context.Context) error {
	s.mu.Lock()
	t := s.turn
	s.mu.Unlock()
	if t == nil {
		return ErrDeposed
	}
	t.using.Lock()
	defer t.using.Unlock()
	now := time.Now()
	if now.Sub(t.confirmed) < acting && now.Round(0).Sub(t.confirmed.Round(0)).Abs() < acting { // by both clocks: the machine may have slept
		return nil
	}
	return s.ask(ctx, t)
}

func (s *shared) close() error {
	s.mu.Lock()
	t := s.turn
	s.mu.Unlock()
	if t != nil {
		s.end(t, context.Canceled)
	}
	return nil
}

// lead implements store.
func (s *shared) lead(ctx context.Context, me Server, told func(Lead) error) (context.Context, error) {
	var w *waiter
	defer func() { w.close() }()
	for {
		var seen Lead
		var err error
		if w == nil {
			w, err = s.wait(ctx, me)
		}
		if err == nil {
			var t *turn
			if t, seen, err = s.take(ctx, w, me); t != nil {
				w = nil // it is the turn's
				go s.confirm(t)
				return t.ended, nil
			}
		}
		if err != nil {
			w.close()
			w = nil
		} else if seen.Key != "" && seen.Key != me.Key {
			err = otherKey(me.Key, seen.Key)
		}
		if fatal := (*mismatch)(nil); errors.As(err, &fatal) {
			return nil, err
		}
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		seen.Trouble = s.explain(err)
		if err := told(seen); err != nil {
			return nil, err
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(lookAgain):
		}
	}
}

// waiter is a session that waits for the lead.
type waiter struct {
	db      *sql.DB
	session *sql.Conn
}

func (w *waiter) close() {
	if w != nil {
		w.session.Close()
		w.db.Close()
	}
}

// wait opens a session that can take the lead.
func (s *shared) wait(ctx context.Context, me Server) (*waiter, error) {
	config := s.config.Copy()
	config.RuntimeParams["application_name"] = "aditus " + me.Name
	db := stdlib.OpenDB(*config)
	db.SetMaxOpenConns(1)
	ctx, cancel := context.WithTimeout(ctx, reaching)
	defer cancel()
	session, err := db.Conn(ctx)
	if err != nil {
		db.Close()
		return nil, err
	}
	return &waiter{db, session}, nil
}

// mismatch is what no waiting mends.
type mismatch struct{ text string }

func (m *mismatch) Error() string { return m.text }

func otherKey(own, others string) error {
	return &mismatch{fmt.Sprintf("the key of this server (%s) is not that of the others (%s): copy key.txt from the data folder of one of them into this one's, so that it can open the line's secrets", cmp.Or(own, "none"), others)}
}

// confirm asks again and again whether a turn goes on, until it does not.
func (s *shared) confirm(t *turn) {
	ticker := time.NewTicker(beat)
	defer ticker.Stop()
	for {
		select {
		case <-t.ended.Done():
			s.end(t, context.Cause(t.ended))
			return
		case <-ticker.C:
			t.using.Lock()
			s.ask(context.Background(), t) // which ends it where it does not
			t.using.Unlock()
		}
	}
}

// take takes the lead where nobody has it; else it tells who does.
func (s *shared) take(ctx context.Context, w *waiter, me Server) (t *turn, seen Lead, err error) {
	asking, cancel := context.WithTimeout(ctx, answer)
	defer cancel()
	var got bool
	if err := w.session.QueryRowContext(asking, `SELECT pg_try_advisory_lock($1)`, leadLock).Scan(&got); err != nil {
		return nil, seen, err
	}
	if !got {
		seen, err = s.look(asking, w.session)
		return nil, seen, err
	}
	making, done := context.WithTimeout(ctx, bringing)
	defer done()
	if _, err := w.session.ExecContext(making, `SELECT set_config('synchronous_commit', 'on', false) WHERE current_setting('synchronous_commit') = 'off'`); err != nil {
		return nil, seen, err // what is recorded is on disk
	}
	made := &turn{waiter: w, confirmed: time.Now()}
	if made.number, err = s.begin(making, w.session, me); err != nil {
		return nil, seen, err
	}
	made.ended, made.ends = context.WithCancelCause(ctx)
	s.mu.Lock()
	s.turn = made
	s.mu.Unlock()
	return made, seen, nil
}

// bringing is how long it may take to make the tables, and to bring a ledger into them.
const bringing = time.Hour

// begin makes what is missing, and begins a turn.
func (s *shared) begin(ctx context.Context, session *sql.Conn, me Server) (number int64, err error) {
	tx, err := session.BeginTx(ctx, nil)
	if err != nil {
		return 0, err
	}
	defer tx.Rollback()
	if err := s.migrate(ctx, tx); err != nil {
		return 0, err
	}
	var key string
	err = tx.QueryRowContext(ctx, `UPDATE lead SET turn = turn + 1, name = $1, address = $2, since = $3, key = CASE key WHEN '' THEN $4 ELSE key END RETURNING turn, key`,
		plain(me.Name), plain(me.Address), time.Now().UnixMilli(), me.Key).Scan(&number, &key)
	if err == nil && key != me.Key {
		err = otherKey(me.Key, key)
	}
	if err != nil {
		return 0, err
	}
	if err := tx.Commit(); err != nil {
		return 0, err
	}
	return number, s.setAside()
}

// migrate brings the tables to what this version knows. The lock is held.
func (s *shared) migrate(ctx context.Context, tx *sql.Tx) error {
	if _, err := tx.ExecContext(ctx, `CREATE SCHEMA IF NOT EXISTS `+sharedSchema); err != nil {
		return err
	}
	var there bool
	if err := tx.QueryRowContext(ctx, `SELECT to_regclass($1) IS NOT NULL`, sharedSchema+".lead").Scan(&there); err != nil {
		return err
	}
	if !there {
		if _, err := tx.ExecContext(ctx, ofServer.Replace(schema)+leadSchema+fmt.Sprintf(`INSERT INTO lead VALUES (0, %d, '', '', '', 0)`, version)); err != nil {
			return err
		}
		return s.bring(ctx, tx)
	}
	if err := s.same(ctx, tx); err != nil {
		return err
	}
	var have int
	if err := tx.QueryRowContext(ctx, `SELECT schema FROM lead`).Scan(&have); err != nil {
		return err
	}
	switch {
	case have > version:
		return &mismatch{errNewer(have).Error()}
	case have < version:
		_, err := tx.ExecContext(ctx, ofServer.Replace(strings.Join(upgrades[have-1:], ""))+fmt.Sprintf(`UPDATE lead SET schema = %d`, version))
		return err
	}
	return nil
}

// ofServer makes a schema one of PostgreSQL. Texts are in the order of their bytes, as in a file.
var ofServer = strings.NewReplacer(" STRICT, WITHOUT ROWID", "", " STRICT", "", "INTEGER", "BIGINT", "REAL", "DOUBLE PRECISION", "TEXT", `TEXT COLLATE "C"`)

// look tells who leads, and ends the session of one of which nothing is heard: it was stopped, or cut off.
func (s *shared) look(ctx context.Context, session *sql.Conn) (seen Lead, err error) {
	var since int64
	switch err = session.QueryRowContext(ctx, `SELECT turn, name, address, key, since FROM lead`).Scan(&seen.Turn, &seen.Name, &seen.Address, &seen.Key, &since); {
	case errors.Is(err, sql.ErrNoRows) || isMissing(err):
		err = nil // whoever leads is about to make it
	case err != nil:
		return seen, err
	}
	if since > 0 {
		seen.Since = time.UnixMilli(since)
	}
	var pid int
	var quiet sql.NullFloat64
	err = session.QueryRowContext(ctx, `SELECT pid, CASE WHEN state <> 'active' OR wait_event_type = 'Client' THEN extract(epoch FROM clock_timestamp() - state_change)::float8 ELSE 0 END FROM pg_locks JOIN pg_stat_activity USING (pid)
		WHERE locktype = 'advisory' AND granted AND pg_locks.database = (SELECT oid FROM pg_database WHERE datname = current_database()) AND classid::bigint = $1::bigint >> 32 AND objid::bigint = $1::bigint & 4294967295 AND objsubid = 1`, leadLock).Scan(&pid, &quiet)
	switch {
	case errors.Is(err, sql.ErrNoRows):
		return seen, nil // it has just gone
	case err != nil:
		return seen, err
	case !quiet.Valid:
		return seen, errors.New("the database does not tell this server whether the one that leads lives: give both the same role of PostgreSQL, and have it keep track_activities on")
	}
	seen.Quiet = time.Duration(quiet.Float64 * float64(time.Second))
	if seen.Quiet >= silent {
		_, err = session.ExecContext(ctx, `SELECT pg_terminate_backend($1)`, pid)
	}
	return seen, err
}

// isMissing tells whether a table is not there yet.
func isMissing(err error) bool {
	var told *pgconn.PgError
	return errors.As(err, &told) && (told.Code == "42P01" || told.Code == "3F000")
}

// explain implements store.
func (s *shared) explain(err error) error {
	var told *pgconn.PgError
	var unreached *pgconn.ConnectError
	switch {
	case err == nil || errors.Is(err, ErrDeposed) || errors.Is(err, ErrFull):
		return err
	case isMissing(err):
		return fmt.Errorf("%w: there is no ledger in %s yet: start a server that leads it", ErrNone, s.at)
	case errors.As(err, &told) && (told.Code == "53100" || told.Code == "58030"): // disk_full, io_error
		return fmt.Errorf("%w of the database %s: free some space there; nothing changes at the sites until then (%v)", ErrFull, s.at, err)
	case errors.As(err, &told) && (strings.HasPrefix(told.Code, "28") || strings.HasPrefix(told.Code, "42501") || strings.HasPrefix(told.Code, "3D")):
		return fmt.Errorf("the database %s does not let this server do that: %s; see docs/server.md for what its role needs", s.at, told.Message)
	case errors.As(err, &unreached) || isTransport(err) || errors.Is(err, sql.ErrConnDone):
		return fault.New(ErrUnreached, "the database %s does not answer: %v", s.at, err)
	}
	return err
}
