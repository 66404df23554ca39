package target

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"mullein/internal/core/balance"
)

// Load is one delivery on its way into its target: a transaction in which
//
//	Begin   opens the transaction
//	Stage   copies the rows into the staging table, without any lock, and
//	        leaves one row a key
//	Lock    demands that the fence still holds and locks the target
//	Merge   classifies the rows and writes those that are new or changed
//	Commit  writes the marker and commits: rows and marker together or neither
//
// Close rolls back what was not committed.
type Load struct {
	s      *Session
	table  *Fitted
	stage  string // quoted
	staged int64
	rows   int64 // left after repeats were taken out
	counts balance.Balance
}

// Begin opens the transaction of a load.
func (s *Session) Begin(ctx context.Context, t *Fitted) (*Load, error) {
	stage, err := s.stage(ctx, t.Own)
	if err != nil {
		return nil, err
	}
	if _, err := s.conn.Exec(ctx, "BEGIN ISOLATION LEVEL READ COMMITTED"); err != nil {
		return nil, fmt.Errorf("begin: %w", err)
	}
	return &Load{s: s, table: t, stage: "pg_temp." + quote(stage)}, nil
}

// Close rolls back unless the load was committed.
func (l *Load) Close(ctx context.Context) {
	if l.s != nil && !l.s.conn.IsClosed() && l.s.conn.PgConn().TxStatus() != 'I' {
		if _, err := l.s.conn.Exec(context.WithoutCancel(ctx), "ROLLBACK"); err != nil {
			l.s.Close() // the database rolls back when the connection goes
		}
	}
	l.s = nil
}

// Stage copies all rows of the source into the staging table. expected is
// about how many they are. Errors of the source are returned as they are.
func (l *Load) Stage(ctx context.Context, src Source, expected int64) error {
	b := NewBatch(l.table.Table, expected, l.table.bytewise)
	reading, stopReading := context.WithCancel(ctx)
	defer stopReading()
	r := newCopyReader(reading, src, b)
	tag, err := l.s.conn.PgConn().CopyFrom(ctx, r, "COPY "+l.stage+" FROM STDIN BINARY")
	stopReading()
	r.drain()
	if r.err != nil && r.err != io.EOF {
		return r.err
	}
	if err != nil {
		return fmt.Errorf("stage rows: %w", err)
	}
	l.staged, l.rows = tag.RowsAffected(), tag.RowsAffected()
	if l.staged != b.rows {
		return fmt.Errorf("stage rows: %d handed over, %d arrived", b.rows, l.staged)
	}
	if l.staged >= manyRows {
		// The planner's defaults suit small work; this transaction's is not.
		if err := l.exec(ctx, "SET LOCAL work_mem = '128MB'; SET LOCAL maintenance_work_mem = '256MB'"); err != nil {
			return err
		}
	}
	if b.marked > 0 {
		return l.dropRepeats(ctx)
	}
	return nil
}

// manyRows is from where on a load is large enough to be worth preparation.
const manyRows = 50_000

func (t *Table) index(name string) int {
	return slices.IndexFunc(t.Own, func(c Column) bool { return c.Name == name })
}

// staged is a staged own column, comparable with the target's.
func (l *Load) column(name string) string {
	return fmt.Sprintf("s.c%d%s", l.table.index(name), l.table.casts[name])
}

func (l *Load) keys() []string {
	var keys []string
	for _, k := range l.table.Key {
		keys = append(keys, l.column(k))
	}
	return keys
}

// dropRepeats leaves one row for each key that repeats: the greatest newest,
// then the later line. Only keys with a suspect are looked at.
func (l *Load) dropRepeats(ctx context.Context) error {
	keys := strings.Join(l.keys(), ", ")
	order := "s.line DESC"
	if l.table.Newest != "" {
		order = l.column(l.table.Newest) + " DESC NULLS LAST, " + order
	}
	tag, err := l.s.conn.Exec(ctx, `DELETE FROM `+l.stage+` d USING (
		SELECT s.ctid AS sid, row_number() OVER (PARTITION BY `+keys+` ORDER BY `+order+`) AS place
		FROM `+l.stage+` s WHERE (`+keys+`) IN (SELECT `+keys+` FROM `+l.stage+` s WHERE s.suspect)
		) r WHERE d.ctid = r.sid AND r.place > 1`)
	if err != nil {
		return fmt.Errorf("find repeats: %w", err)
	}
	l.counts.Duplicate = tag.RowsAffected()
	l.rows = l.staged - l.counts.Duplicate
	return nil
}

// Repeat is a staged row whose value in a column stands in an earlier row too.
type Repeat struct {
	Line  int64
	Value string
}

// DropNotUnique takes out the rows whose value in an own column was in an
// earlier line already, and gives how many, and up to most of them.
func (l *Load) DropNotUnique(ctx context.Context, column string, most int) (int64, []Repeat, error) {
	value := l.column(column)
	rows, err := l.s.conn.Query(ctx, `WITH gone AS (DELETE FROM `+l.stage+` d USING (
			SELECT s.ctid AS sid, `+value+`::text AS value, row_number() OVER (PARTITION BY `+value+` ORDER BY s.line) AS place
			FROM `+l.stage+` s WHERE `+value+` IS NOT NULL
		) r WHERE d.ctid = r.sid AND r.place > 1 RETURNING d.line, r.value)
		SELECT line, left(value, 200), count(*) OVER () FROM gone ORDER BY line LIMIT $1`, most)
	if err != nil {
		return 0, nil, fmt.Errorf("look for values of %s that repeat: %w", column, err)
	}
	defer rows.Close()
	var n int64
	var repeats []Repeat
	for rows.Next() {
		var r Repeat
		if err := rows.Scan(&r.Line, &r.Value, &n); err != nil {
			return 0, nil, fmt.Errorf("look for values of %s that repeat: %w", column, err)
		}
		repeats = append(repeats, r)
	}
	l.staged -= n
	l.rows -= n
	return n, repeats, rows.Err()
}

// Lock demands that the feed's fence is still the highest and locks the target
// against other loads, each in a statement of its own, so that what follows
// sees what those before us committed.
func (l *Load) Lock(ctx context.Context, feed string, fence int64) error {
	var highest int64
	err := l.s.conn.QueryRow(ctx, "SELECT fence FROM mullein.feed WHERE feed = $1 FOR UPDATE", feed).Scan(&highest)
	if err != nil {
		return fmt.Errorf("look at the fence: %w", err)
	}
	if highest != fence {
		return ErrFenced
	}
	if _, err := l.s.conn.Exec(ctx, "SELECT pg_advisory_xact_lock($1, $2)", lockSpace, int32(l.table.oid)); err != nil {
		return fmt.Errorf("lock %s: %w", l.table, err)
	}
	return nil
}

// Origin is what the lineage columns say of all rows of a load.
type Origin struct {
	File    string
	Arrival int64
	Run     int64
}

// mergeTries is how often a merge is done again when somebody else writes to
// the target meanwhile.
const mergeTries = 5

// errMoved says that the target changed between two statements of a merge.
var errMoved = errors.New("the target changed during the merge")

// Merge writes the staged rows into the target and gives the counts of its
// part of the balance: inserted, updated, unchanged, outdated and duplicate.
func (l *Load) Merge(ctx context.Context, from Origin) (balance.Balance, error) {
	for try := 1; ; try++ {
		counts, err := l.tryMerge(ctx, from, try == 1)
		if err == nil {
			if n := counts.Inserted + counts.Updated + counts.Unchanged + counts.Outdated; n != l.rows {
				return counts, fmt.Errorf("merge into %s: %d rows staged, %d accounted for", l.table, l.rows, n)
			}
			counts.Duplicate = l.counts.Duplicate
			l.counts = counts
			return counts, nil
		}
		again := errors.Is(err, errMoved) || l.isKeyConflict(err)
		if !again || try == mergeTries {
			return balance.Balance{}, fmt.Errorf("merge into %s: %w", l.table, err)
		}
	}
}

// isKeyConflict tells a foreign writer's row with the same key from other
// constraints, which refuse the delivery.
func (l *Load) isKeyConflict(err error) bool {
	var e *pgconn.PgError
	return errors.As(err, &e) && e.Code == "23505" && e.SchemaName == l.table.Schema && (l.table.lateIndex == "" || e.ConstraintName == l.table.lateIndex)
}

func (l *Load) tryMerge(ctx context.Context, from Origin, mayBeFirst bool) (balance.Balance, error) {
	if err := l.exec(ctx, "SAVEPOINT merge"); err != nil {
		return balance.Balance{}, err
	}
	var counts balance.Balance
	var err error
	var filled bool
	if mayBeFirst {
		err = l.s.conn.QueryRow(ctx, "SELECT EXISTS (SELECT 1 FROM "+l.name()+")").Scan(&filled)
	}
	if err == nil && mayBeFirst && !filled {
		counts.Inserted, err = l.fill(ctx, from)
	} else if err == nil {
		counts, err = l.merge(ctx, from)
	}
	if err != nil {
		if undo := l.exec(ctx, "ROLLBACK TO SAVEPOINT merge"); undo != nil {
			return counts, errors.Join(err, undo)
		}
		return counts, err
	}
	return counts, l.exec(ctx, "RELEASE SAVEPOINT merge")
}

func (l *Load) name() string { return quote(l.table.Schema, l.table.Name) }

func (l *Load) exec(ctx context.Context, statement string) error {
	_, err := l.s.conn.PgConn().Exec(ctx, statement).ReadAll()
	return err
}

// fill writes all rows into an empty target. For many rows, the key's index
// is built after them, which is several times faster than row by row, where
// nothing else hangs on it and nobody holds the table.
func (l *Load) fill(ctx context.Context, from Origin) (int64, error) {
	if l.rows < manyRows || l.table.lateIndex == "" {
		return l.insert(ctx, from, l.stage+" s")
	}
	n, err := l.fillBeforeIndex(ctx, from)
	if err == nil {
		return n, nil
	}
	if undo := l.exec(ctx, "ROLLBACK TO SAVEPOINT late_index"); undo != nil {
		return 0, errors.Join(err, undo)
	}
	if Refusal(err) != "" && !l.isKeyConflict(err) {
		return 0, err
	}
	return l.insert(ctx, from, l.stage+" s")
}

func (l *Load) fillBeforeIndex(ctx context.Context, from Origin) (int64, error) {
	err := l.exec(ctx, "SAVEPOINT late_index; SET LOCAL lock_timeout = '500ms'; LOCK TABLE "+l.name()+" IN ACCESS EXCLUSIVE MODE; SET LOCAL lock_timeout = '20s'")
	if err != nil {
		return 0, err
	}
	var filled bool
	if err := l.s.conn.QueryRow(ctx, "SELECT EXISTS (SELECT 1 FROM "+l.name()+")").Scan(&filled); err != nil {
		return 0, err
	}
	if filled {
		return 0, errMoved
	}
	prepare := "ALTER TABLE " + l.name() + " DROP CONSTRAINT " + quote(l.table.lateIndex)
	var level string
	if err := l.s.conn.QueryRow(ctx, "SHOW wal_level").Scan(&level); err != nil {
		return 0, err
	}
	if level == "minimal" {
		// Emptying the empty table gives it a new file. Until the commit nobody
		// else knows that file, so it is synced as a whole instead of logged row
		// by row.
		prepare += "; TRUNCATE " + l.name()
	}
	if err := l.exec(ctx, prepare); err != nil {
		return 0, err
	}
	n, err := l.insert(ctx, from, l.stage+" s")
	if err != nil {
		return 0, err
	}
	err = l.exec(ctx, "ALTER TABLE "+l.name()+" ADD CONSTRAINT "+quote(l.table.lateIndex)+" "+l.table.lateDef+"; RELEASE SAVEPOINT late_index")
	return n, err
}

// merge classifies the rows against the target, then updates and inserts. The
// counts of the three statements must agree.
func (l *Load) merge(ctx context.Context, from Origin) (balance.Balance, error) {
	var counts balance.Balance
	among, err := l.candidates(ctx)
	if err != nil {
		return counts, err
	}
	older := "false"
	if l.table.Newest != "" {
		t, s := "t."+quote(l.table.Newest), l.column(l.table.Newest)
		older = "(" + t + " IS NOT NULL AND (" + s + " IS NULL OR " + s + " < " + t + "))"
	}
	rows, err := l.s.conn.Query(ctx, `WITH plan AS (
			INSERT INTO pg_temp.mullein_plan (sid, class)
			SELECT s.ctid, CASE WHEN t.`+quote(l.table.Key[0])+` IS NULL THEN 'i' WHEN `+older+` THEN 'o' ELSE 'u' END
			FROM `+among+` LEFT JOIN `+l.name()+` t ON `+l.sameKey()+`
			WHERE t.`+quote(l.table.Key[0])+` IS NULL OR `+l.differs()+`
			RETURNING class)
		SELECT class, count(*) FROM plan GROUP BY class`)
	if err != nil {
		return counts, err
	}
	var class string
	var n int64
	_, err = pgx.ForEachRow(rows, []any{&class, &n}, func() error {
		switch class {
		case "i":
			counts.Inserted = n
		case "u":
			counts.Updated = n
		case "o":
			counts.Outdated = n
		}
		return nil
	})
	if err != nil {
		return counts, err
	}
	counts.Unchanged = l.rows - counts.Inserted - counts.Updated - counts.Outdated
	if counts.Updated > 0 {
		if n, err := l.update(ctx, from); err != nil || n != counts.Updated {
			return counts, orMoved(err)
		}
	}
	if counts.Inserted > 0 {
		n, err := l.insert(ctx, from, "pg_temp.mullein_plan p JOIN "+l.stage+" s ON s.ctid = p.sid AND p.class = 'i'")
		if err != nil || n != counts.Inserted {
			return counts, orMoved(err)
		}
	}
	return counts, nil
}

// candidates gives the staged rows that are to be classified, as a FROM item
// with the alias s: all of them, or, when a sample says that most of many rows
// are unchanged, those whose digest the target does not hold. A digest covers
// the key, so a row with a known digest is unchanged; comparing digests alone
// is much cheaper than finding each row by its key.
func (l *Load) candidates(ctx context.Context) (string, error) {
	digest := l.table.Lineage.RowDigest
	if digest == "" || l.rows < manyRows {
		return l.stage + " s", nil
	}
	const sample = 1000
	var same int
	err := l.s.conn.QueryRow(ctx, `SELECT count(*) FROM (SELECT * FROM `+l.stage+` LIMIT $1) s JOIN `+l.name()+` t ON `+l.sameKey()+
		` AND t.`+quote(digest)+` = s.digest`, sample).Scan(&same)
	if err != nil {
		return "", err
	}
	if same < sample/2 {
		return l.stage + " s", nil
	}
	_, err = l.s.conn.Exec(ctx, `INSERT INTO pg_temp.mullein_candidate SELECT s.ctid FROM `+l.stage+` s
		WHERE NOT EXISTS (SELECT 1 FROM `+l.name()+` t WHERE t.`+quote(digest)+` = s.digest)`)
	return "pg_temp.mullein_candidate c JOIN " + l.stage + " s ON s.ctid = c.sid", err
}

func orMoved(err error) error {
	if err != nil {
		return err
	}
	return errMoved
}

func (l *Load) sameKey() string {
	var same []string
	for i, k := range l.keys() {
		same = append(same, "t."+quote(l.table.Key[i])+" = "+k)
	}
	return strings.Join(same, " AND ")
}

// differs tells changed rows from unchanged ones: by the digest where the
// target keeps it, else column by column.
func (l *Load) differs() string {
	if d := l.table.Lineage.RowDigest; d != "" {
		return "t." + quote(d) + " IS DISTINCT FROM s.digest"
	}
	var differs []string
	for _, c := range l.table.Own {
		t, s := "t."+quote(c.Name), l.column(c.Name)
		if base := sqlTypes[c.Kind][0]; base == "point" || base == "jsonb" {
			t, s = t+"::text", s+"::text"
		}
		differs = append(differs, t+" IS DISTINCT FROM "+s)
	}
	return "(" + strings.Join(differs, " OR ") + ")"
}

// written lists the target's columns and what is written into them.
func (l *Load) written(from Origin) (columns, values []string, args []any) {
	for i, c := range l.table.Own {
		columns = append(columns, quote(c.Name))
		values = append(values, fmt.Sprintf("s.c%d", i))
	}
	add := func(column, value string, arg ...any) {
		if column == "" {
			return
		}
		columns = append(columns, quote(column))
		if len(arg) > 0 {
			args = append(args, arg[0])
			value = fmt.Sprintf("$%d::%s", len(args), value)
		}
		values = append(values, value)
	}
	g := l.table.Lineage
	add(g.FromFile, "text", from.File)
	add(g.FromLine, "s.line")
	add(g.FromArrival, "bigint", from.Arrival)
	add(g.LoadedRun, "bigint", from.Run)
	add(g.LoadedAt, "now()")
	add(g.RowDigest, "s.digest")
	return columns, values, args
}

func (l *Load) insert(ctx context.Context, from Origin, rows string) (int64, error) {
	columns, values, args := l.written(from)
	tag, err := l.s.conn.Exec(ctx, "INSERT INTO "+l.name()+" ("+strings.Join(columns, ", ")+") SELECT "+strings.Join(values, ", ")+" FROM "+rows, args...)
	return tag.RowsAffected(), err
}

func (l *Load) update(ctx context.Context, from Origin) (int64, error) {
	columns, values, args := l.written(from)
	var sets []string
	for i := range columns {
		if i < len(l.table.Own) && slices.Contains(l.table.Key, l.table.Own[i].Name) {
			continue
		}
		sets = append(sets, columns[i]+" = "+values[i])
	}
	tag, err := l.s.conn.Exec(ctx, "UPDATE "+l.name()+" t SET "+strings.Join(sets, ", ")+
		" FROM pg_temp.mullein_plan p JOIN "+l.stage+" s ON s.ctid = p.sid WHERE p.class = 'u' AND "+l.sameKey(), args...)
	return tag.RowsAffected(), err
}

// AlreadyLoadedError says that a marker shows the same delivery as loaded.
type AlreadyLoadedError struct{ Marker Marker }

func (e *AlreadyLoadedError) Error() string {
	return fmt.Sprintf("%s is loaded already, as generation %d", e.Marker.Delivery, e.Marker.Generation)
}

// Mark writes the load's marker into the transaction.
func (l *Load) Mark(ctx context.Context, m Marker) error {
	text, err := json.Marshal(m.Balance)
	if err != nil {
		return fmt.Errorf("mark: %w", err)
	}
	tag, err := l.s.conn.Exec(ctx, `INSERT INTO mullein.load (feed, delivery, generation, arrival, fence, sha256, balance)
		VALUES ($1, $2, $3, $4, $5, $6, $7) ON CONFLICT DO NOTHING`,
		m.Feed, m.Delivery, m.Generation, m.Arrival, m.Fence, m.SHA256, string(text))
	if err != nil {
		return fmt.Errorf("mark: %w", err)
	}
	if tag.RowsAffected() == 1 {
		return nil
	}
	have, err := marker(l.s.conn.QueryRow(ctx, selectMarker+" WHERE feed = $1 AND delivery = $2 AND generation = $3", m.Feed, m.Delivery, m.Generation))
	if err != nil || have == nil {
		return fmt.Errorf("mark: a marker stands in the way and cannot be read: %w", orMoved(err))
	}
	return &AlreadyLoadedError{*have}
}

// Commit makes rows and marker visible. An error may mean either outcome; the
// marker tells which.
func (l *Load) Commit(ctx context.Context) error {
	tag, err := l.s.conn.Exec(ctx, "COMMIT")
	if err != nil {
		return fmt.Errorf("commit: %w", err)
	}
	if tag.String() != "COMMIT" {
		return fmt.Errorf("commit: the database answered %s", tag)
	}
	return nil
}

// Refusal gives the reason, for people, when an error is the database's own
// word against the rows: a constraint, a trigger, a value out of range. Trying
// again would give the same. It is "" for other errors.
func Refusal(err error) string {
	var e *pgconn.PgError
	if !errors.As(err, &e) {
		return ""
	}
	switch class := e.Code[:2]; {
	case class == "22", class == "23", class == "44", e.Code == "P0001":
	default:
		return ""
	}
	reason := "the target says no: " + e.Message
	if e.ConstraintName != "" && !strings.Contains(e.Message, e.ConstraintName) {
		reason += " (constraint " + e.ConstraintName + ")"
	}
	if e.Detail != "" {
		detail := e.Detail
		if len(detail) > 500 {
			detail = detail[:500] + "..."
		}
		reason += "; " + detail
	}
	return reason
}

// Denied tells whether an error is for people who set up the target: rights, a
// missing table or column. The rows are not at fault.
func Denied(err error) bool { return strings.HasPrefix(sqlState(err), "42") }
