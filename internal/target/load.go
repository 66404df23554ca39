package target

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
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
	stage  string  // quoted
	staged []int64 // rows of each part
	counts []balance.Balance
}

// Part is one file of a load: several may be committed together.
type Part struct {
	File     string
	Arrival  int64
	Replaces []int64 // arrivals whose rows are undone, itself among them when it is loaded again
}

// Begin opens the transaction of a load of some parts.
func (s *Session) Begin(ctx context.Context, t *Fitted, parts int) (*Load, error) {
	stage, err := s.stage(ctx, t.Own)
	if err != nil {
		return nil, err
	}
	return s.begin(ctx, t, parts, "READ COMMITTED", stage)
}

func (s *Session) begin(ctx context.Context, t *Fitted, parts int, mode, stage string) (*Load, error) {
	if _, err := s.conn.Exec(ctx, "BEGIN ISOLATION LEVEL "+mode); err != nil {
		return nil, fmt.Errorf("begin: %w", err)
	}
	return &Load{s: s, table: t, stage: "pg_temp." + quote(stage), staged: make([]int64, parts), counts: make([]balance.Balance, parts)}, nil
}

// rows is how many staged rows are left.
func (l *Load) rows() (n int64) {
	for part := range l.staged {
		n += l.staged[part] - l.counts[part].Duplicate
	}
	return n
}

// several tells whether the rows are of more than one part.
func (l *Load) several() bool { return len(l.staged) > 1 }

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
	copy(l.staged, b.rows)
	return l.received(ctx, tag.RowsAffected(), b.marked)
}

// StagePieces copies the rows of small files into the staging table.
func (l *Load) StagePieces(ctx context.Context, pieces []Piece) error {
	parts := []io.Reader{bytes.NewReader(copyHeader)}
	var marked int64
	for _, p := range pieces {
		parts = append(parts, bytes.NewReader(p.bytes))
		l.staged[p.part] = p.rows
		marked += p.marked
	}
	parts = append(parts, bytes.NewReader(copyEnd))
	tag, err := l.s.conn.PgConn().CopyFrom(ctx, io.MultiReader(parts...), "COPY "+l.stage+" FROM STDIN BINARY")
	if err != nil {
		return fmt.Errorf("stage rows: %w", err)
	}
	return l.received(ctx, tag.RowsAffected(), marked)
}

func (l *Load) received(ctx context.Context, n, marked int64) error {
	if n != l.rows() {
		return fmt.Errorf("stage rows: %d handed over, %d arrived", l.rows(), n)
	}
	if n >= manyRows {
		// The planner's defaults suit small work; this transaction's is not.
		if err := l.exec(ctx, "SET LOCAL work_mem = '128MB'; SET LOCAL maintenance_work_mem = '256MB'"); err != nil {
			return err
		}
	}
	if marked > 0 {
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
// then the later file, then the later line. Only keys with a suspect are
// looked at.
func (l *Load) dropRepeats(ctx context.Context) error {
	keys := strings.Join(l.keys(), ", ")
	order := "s.place DESC"
	if l.table.Newest != "" {
		order = l.column(l.table.Newest) + " DESC NULLS LAST, " + order
	}
	gone, err := l.byPart(ctx, `WITH gone AS (DELETE FROM `+l.stage+` d USING (
			SELECT s.ctid AS sid, row_number() OVER (PARTITION BY `+keys+` ORDER BY `+order+`) AS nth
			FROM `+l.stage+` s WHERE (`+keys+`) IN (SELECT `+keys+` FROM `+l.stage+` s WHERE s.suspect)
		) r WHERE d.ctid = r.sid AND r.nth > 1 RETURNING d.place)
		SELECT place >> `+shift+`, count(*) FROM gone GROUP BY 1`)
	if err != nil {
		return fmt.Errorf("find repeats: %w", err)
	}
	for part, n := range gone {
		l.counts[part].Duplicate = n
	}
	return nil
}

var shift = strconv.Itoa(placeShift)

// byPart runs a query that gives a count for each part.
func (l *Load) byPart(ctx context.Context, query string, args ...any) ([]int64, error) {
	rows, err := l.s.conn.Query(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	out := make([]int64, len(l.staged))
	var part, n int64
	_, err = pgx.ForEachRow(rows, []any{&part, &n}, func() error {
		out[part] += n
		return nil
	})
	return out, err
}

// Repeat is a staged row whose value in a column stands in an earlier row of
// its file too.
type Repeat struct {
	Part  int
	Line  int64
	Value string
}

// DropNotUnique takes out the rows whose value in an own column was in an
// earlier line of their file already. It gives how many of each part, and up
// to most of them.
func (l *Load) DropNotUnique(ctx context.Context, column string, most int) ([]int64, []Repeat, error) {
	value := l.column(column)
	rows, err := l.s.conn.Query(ctx, `WITH gone AS (DELETE FROM `+l.stage+` d USING (
			SELECT s.ctid AS sid, `+value+`::text AS value, row_number() OVER (PARTITION BY `+value+`, s.place >> `+shift+` ORDER BY s.place) AS nth
			FROM `+l.stage+` s WHERE `+value+` IS NOT NULL
		) r WHERE d.ctid = r.sid AND r.nth > 1 RETURNING d.place, r.value)
		SELECT * FROM (SELECT place >> `+shift+`, (place >> `+strconv.Itoa(lineShift)+`) & `+strconv.Itoa(lineMask)+`, left(value, 200), count(*) OVER (PARTITION BY place >> `+shift+`) AS n,
			row_number() OVER (PARTITION BY place >> `+shift+` ORDER BY place) AS nth FROM gone) g WHERE nth <= $1 ORDER BY 1, 2`, most)
	if err != nil {
		return nil, nil, fmt.Errorf("look for values of %s that repeat: %w", column, err)
	}
	counts := make([]int64, len(l.staged))
	var repeats []Repeat
	var r Repeat
	var n, nth int64
	_, err = pgx.ForEachRow(rows, []any{&r.Part, &r.Line, &r.Value, &n, &nth}, func() error {
		counts[r.Part] = n
		repeats = append(repeats, r)
		return nil
	})
	if err != nil {
		return nil, nil, fmt.Errorf("look for values of %s that repeat: %w", column, err)
	}
	for part, n := range counts {
		l.staged[part] -= n
	}
	return counts, repeats, nil
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

// mergeTries is how often a merge is done again when somebody else writes to
// the target meanwhile.
const mergeTries = 5

// errMoved says that the target changed between two statements of a merge.
var errMoved = errors.New("the target changed during the merge")

// origin is what the lineage columns say.
type origin struct {
	run   int64
	parts []Part
}

// replaced lists the arrivals whose rows are undone, and those of them that
// are not loaded again themselves.
func (o origin) replaced() (all, others []int64) {
	for _, p := range o.parts {
		for _, id := range p.Replaces {
			all = append(all, id)
			if id != p.Arrival {
				others = append(others, id)
			}
		}
	}
	return all, others
}

// Merge writes the staged rows into the target and gives each part's counts:
// inserted, updated, unchanged, outdated, duplicate and removed.
func (l *Load) Merge(ctx context.Context, run int64, parts []Part) ([]balance.Balance, error) {
	from := origin{run, parts}
	for try := 1; ; try++ {
		counts, err := l.tryMerge(ctx, from, try == 1)
		if err == nil {
			for part := range counts {
				c := &counts[part]
				c.Duplicate = l.counts[part].Duplicate
				if n := c.Inserted + c.Updated + c.Unchanged + c.Outdated + c.Deleted + c.Duplicate; n != l.staged[part] {
					return nil, fmt.Errorf("merge into %s: %d rows of %s staged, %d accounted for", l.table, l.staged[part], parts[part].File, n)
				}
			}
			return counts, nil
		}
		again := errors.Is(err, errMoved) || l.isKeyConflict(err)
		if !again || try == mergeTries {
			return nil, fmt.Errorf("merge into %s: %w", l.table, err)
		}
	}
}

// isKeyConflict tells a foreign writer's row with the same key from other
// constraints, which refuse the delivery.
func (l *Load) isKeyConflict(err error) bool {
	var e *pgconn.PgError
	return errors.As(err, &e) && e.Code == "23505" && e.SchemaName == l.table.Schema && (l.table.lateIndex == "" || e.ConstraintName == l.table.lateIndex)
}

func (l *Load) tryMerge(ctx context.Context, from origin, mayBeFirst bool) ([]balance.Balance, error) {
	if err := l.exec(ctx, "SAVEPOINT merge"); err != nil {
		return nil, err
	}
	counts, err := l.write(ctx, from, mayBeFirst)
	if err != nil {
		if undo := l.exec(ctx, "ROLLBACK TO SAVEPOINT merge"); undo != nil {
			return nil, errors.Join(err, undo)
		}
		return nil, err
	}
	return counts, l.exec(ctx, "RELEASE SAVEPOINT merge")
}

func (l *Load) write(ctx context.Context, from origin, mayBeFirst bool) ([]balance.Balance, error) {
	removed, err := l.undo(ctx, from)
	if err != nil {
		return nil, err
	}
	filled := true
	if mayBeFirst {
		if err := l.s.conn.QueryRow(ctx, "SELECT EXISTS (SELECT 1 FROM "+l.name()+")").Scan(&filled); err != nil {
			return nil, err
		}
	}
	var counts []balance.Balance
	if filled || l.table.Deletes {
		counts, err = l.merge(ctx, from)
	} else {
		counts, err = l.fillAll(ctx, from)
	}
	if err != nil {
		return nil, err
	}
	for part, n := range removed {
		counts[part].Removed = n
	}
	return counts, nil
}

// undo takes out the rows that replaced arrivals last wrote and that are not
// loaded again, and gives how many for each part. Those that are loaded again
// are left for the merge to change in place.
func (l *Load) undo(ctx context.Context, from origin) ([]int64, error) {
	replaced, _ := from.replaced()
	if len(replaced) == 0 {
		return nil, nil
	}
	if l.table.Lineage.FromArrival == "" {
		return nil, fmt.Errorf("what was loaded cannot be undone: %s has no lineage column that names the arrival", l.table)
	}
	column := "t." + quote(l.table.Lineage.FromArrival)
	rows, err := l.s.conn.Query(ctx, "WITH gone AS (DELETE FROM "+l.name()+" t WHERE "+column+" = ANY($1) AND NOT EXISTS (SELECT 1 FROM "+l.stage+" s WHERE "+l.sameKey()+
		") RETURNING "+column+" AS arrival) SELECT arrival, count(*) FROM gone GROUP BY 1", replaced)
	if err != nil {
		return nil, err
	}
	out := make([]int64, len(l.staged))
	var arrival, n int64
	_, err = pgx.ForEachRow(rows, []any{&arrival, &n}, func() error {
		part := slices.IndexFunc(from.parts, func(p Part) bool { return slices.Contains(p.Replaces, arrival) })
		out[part] += n
		return nil
	})
	return out, err
}

// fillAll writes into an empty target, where every row is new.
func (l *Load) fillAll(ctx context.Context, from origin) ([]balance.Balance, error) {
	return l.allInserted(l.fill(ctx, from))
}

// allInserted gives the counts of a load of which every row was inserted.
func (l *Load) allInserted(n int64, err error) ([]balance.Balance, error) {
	if err != nil {
		return nil, err
	}
	if n != l.rows() {
		return nil, errMoved
	}
	counts := make([]balance.Balance, len(l.staged))
	for part := range counts {
		counts[part].Inserted = l.staged[part] - l.counts[part].Duplicate
	}
	return counts, nil
}

func (l *Load) name() string { return quote(l.table.Schema, l.table.Name) }

func (l *Load) exec(ctx context.Context, statement string) error {
	_, err := l.s.conn.PgConn().Exec(ctx, statement).ReadAll()
	return err
}

// fill writes all rows into an empty target. For many rows, the key's index
// is built after them, which is several times faster than row by row, where
// nothing else hangs on it and nobody holds the table.
func (l *Load) fill(ctx context.Context, from origin) (int64, error) {
	if l.rows() < manyRows || l.table.lateIndex == "" {
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

func (l *Load) fillBeforeIndex(ctx context.Context, from origin) (int64, error) {
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
// counts of the statements must agree. The classes: i to insert, o outdated, u
// to update, l unchanged but of a replaced arrival, so its lineage changes; d to
// delete, n to delete where nothing is.
func (l *Load) merge(ctx context.Context, from origin) ([]balance.Balance, error) {
	replaced, others := from.replaced()
	if len(replaced) == 0 {
		if counts, err := l.insertAll(ctx, from); counts != nil || err != nil {
			return counts, err
		}
	}
	counts, classes, err := l.plan(ctx, replaced, others)
	if err != nil {
		return nil, err
	}
	return counts, l.carryOut(ctx, from, classes)
}

// plan classifies the rows against the target, and changes nothing in it. It
// gives the counts of each part, and those of the classes.
func (l *Load) plan(ctx context.Context, replaced, others []int64) ([]balance.Balance, map[string]int64, error) {
	among := l.stage + " s"
	if len(replaced) == 0 {
		var err error
		if among, err = l.candidates(ctx); err != nil {
			return nil, nil, err
		}
	}
	older, relined := "false", "false"
	var args []any
	if l.table.Newest != "" {
		t, s := "t."+quote(l.table.Newest), l.column(l.table.Newest)
		older = "(" + t + " IS NOT NULL AND (" + s + " IS NULL OR " + s + " < " + t + "))"
	}
	if len(replaced) > 0 {
		column := "t." + quote(l.table.Lineage.FromArrival)
		older = "(" + older + " AND NOT " + column + " = ANY($1))"
		relined = column + " = ANY($2)"
		args = []any{replaced, append([]int64{}, others...)}
	}
	key := "t." + quote(l.table.Key[0])
	differs := l.differs()
	deletes := ""
	if l.table.Deletes {
		differs = "(" + differs + " OR " + isGone + ")"
		deletes = "WHEN " + isGone + " AND " + key + " IS NULL THEN 'n' WHEN " + isGone + " AND NOT " + older + " THEN 'd' "
	}
	tag, err := l.s.conn.Exec(ctx, `INSERT INTO pg_temp.mullein_plan (sid, class)
			SELECT s.ctid, CASE `+deletes+`WHEN `+key+` IS NULL THEN 'i' WHEN NOT `+differs+` THEN 'l' WHEN `+older+` THEN 'o' ELSE 'u' END
			FROM `+among+` LEFT JOIN `+l.name()+` t ON `+l.sameKey()+`
			WHERE `+key+` IS NULL OR `+differs+` OR `+relined, args...)
	if err != nil {
		return nil, nil, err
	}
	counts := make([]balance.Balance, len(l.staged))
	for part := range counts {
		counts[part].Unchanged = l.staged[part] - l.counts[part].Duplicate
	}
	if tag.RowsAffected() == 0 {
		return counts, nil, nil
	}
	classes, err := l.planned(ctx, counts)
	return counts, classes, err
}

// carryOut does what was planned.
func (l *Load) carryOut(ctx context.Context, from origin, classes map[string]int64) error {
	if planned := classes["u"] + classes["l"]; planned > 0 {
		if n, err := l.update(ctx, from); err != nil || n != planned {
			return orMoved(err)
		}
	}
	if planned := classes["d"]; planned > 0 {
		tag, err := l.s.conn.Exec(ctx, "DELETE FROM "+l.name()+" t USING pg_temp.mullein_plan p JOIN "+l.stage+" s ON s.ctid = p.sid WHERE p.class = 'd' AND "+l.sameKey())
		if err != nil || tag.RowsAffected() != planned {
			return orMoved(err)
		}
	}
	if planned := classes["i"]; planned > 0 {
		n, err := l.insert(ctx, from, "pg_temp.mullein_plan p JOIN "+l.stage+" s ON s.ctid = p.sid AND p.class = 'i'")
		if err != nil || n != planned {
			return orMoved(err)
		}
	}
	return nil
}

// fewRows is up to where it is not worth guessing that all rows are new.
const fewRows = 1000

// insertAll inserts all rows without looking for their keys first, when a
// sample of them says that all are new. counts is nil when they are not.
func (l *Load) insertAll(ctx context.Context, from origin) (counts []balance.Balance, err error) {
	if l.rows() < fewRows || l.table.Deletes {
		return nil, nil
	}
	var known bool
	err = l.s.conn.QueryRow(ctx, "SELECT EXISTS (SELECT 1 FROM "+l.stage+" s JOIN "+l.name()+" t ON "+l.sameKey()+" WHERE "+lineOf+" % 97 = 2)").Scan(&known)
	if err != nil || known {
		return nil, err
	}
	if err := l.exec(ctx, "SAVEPOINT all_new"); err != nil {
		return nil, err
	}
	counts, err = l.allInserted(l.insert(ctx, from, l.stage+" s"))
	if err == nil {
		return counts, l.exec(ctx, "RELEASE SAVEPOINT all_new")
	}
	if undo := l.exec(ctx, "ROLLBACK TO SAVEPOINT all_new"); undo != nil {
		return nil, errors.Join(err, undo)
	}
	if l.isKeyConflict(err) { // the sample was wrong
		return nil, nil
	}
	return nil, err
}

// planned counts the classes of the plan, and sorts the rows of each part.
func (l *Load) planned(ctx context.Context, counts []balance.Balance) (map[string]int64, error) {
	query := "SELECT class, 0, count(*) FROM pg_temp.mullein_plan GROUP BY class"
	if l.several() {
		query = "SELECT p.class, s.place >> " + shift + ", count(*) FROM pg_temp.mullein_plan p JOIN " + l.stage + " s ON s.ctid = p.sid GROUP BY 1, 2"
	}
	rows, err := l.s.conn.Query(ctx, query)
	if err != nil {
		return nil, err
	}
	classes := map[string]int64{}
	var class string
	var part, n int64
	_, err = pgx.ForEachRow(rows, []any{&class, &part, &n}, func() error {
		classes[class] += n
		c := &counts[part]
		switch class {
		case "l":
			return nil
		case "i":
			c.Inserted += n
		case "u":
			c.Updated += n
		case "o":
			c.Outdated += n
		case "d", "n":
			c.Deleted += n
		}
		c.Unchanged -= n
		return nil
	})
	return classes, err
}

// candidates gives the staged rows that are to be classified, as a FROM item
// with the alias s: all of them, or, when a sample says that most of many rows
// are unchanged, those whose digest the target does not hold. A digest covers
// the key, so a row with a known digest is unchanged; comparing digests alone
// is much cheaper than finding each row by its key.
func (l *Load) candidates(ctx context.Context) (string, error) {
	digest := l.table.Lineage.RowDigest
	if digest == "" || l.rows() < manyRows {
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
func (l *Load) written(from origin) (columns, values []string, args []any) {
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
			if i := strings.Index(value, "]["); i > 0 { // an element of an array
				value = "(" + value[:i+1] + ")" + value[i+1:]
			}
		}
		values = append(values, value)
	}
	g := l.table.Lineage
	if l.several() {
		var files []string
		var arrivals []int64
		for _, p := range from.parts {
			files, arrivals = append(files, p.File), append(arrivals, p.Arrival)
		}
		nth := "[(s.place >> " + shift + ")::integer + 1]"
		add(g.FromFile, "text[]"+nth, files)
		add(g.FromLine, lineOf)
		add(g.FromArrival, "bigint[]"+nth, arrivals)
	} else {
		add(g.FromFile, "text", from.parts[0].File)
		add(g.FromLine, lineOf)
		add(g.FromArrival, "bigint", from.parts[0].Arrival)
	}
	add(g.LoadedRun, "bigint", from.run)
	add(g.LoadedAt, "now()")
	add(g.RowDigest, "s.digest")
	return columns, values, args
}

func (l *Load) insert(ctx context.Context, from origin, rows string) (int64, error) {
	columns, values, args := l.written(from)
	tag, err := l.s.conn.Exec(ctx, "INSERT INTO "+l.name()+" ("+strings.Join(columns, ", ")+") SELECT "+strings.Join(values, ", ")+" FROM "+rows, args...)
	return tag.RowsAffected(), err
}

func (l *Load) update(ctx context.Context, from origin) (int64, error) {
	columns, values, args := l.written(from)
	var sets []string
	for i := range columns {
		if i < len(l.table.Own) && slices.Contains(l.table.Key, l.table.Own[i].Name) {
			continue
		}
		sets = append(sets, columns[i]+" = "+values[i])
	}
	tag, err := l.s.conn.Exec(ctx, "UPDATE "+l.name()+" t SET "+strings.Join(sets, ", ")+
		" FROM pg_temp.mullein_plan p JOIN "+l.stage+" s ON s.ctid = p.sid WHERE p.class IN ('u', 'l') AND "+l.sameKey(), args...)
	return tag.RowsAffected(), err
}

// AlreadyLoadedError says that markers show some of the deliveries as loaded.
type AlreadyLoadedError struct{ Markers []Marker }

func (e *AlreadyLoadedError) Error() string {
	return fmt.Sprintf("%s is loaded already, as generation %d", e.Markers[0].Delivery, e.Markers[0].Generation)
}

// Mark writes the markers of the load's parts into the transaction.
func (l *Load) Mark(ctx context.Context, markers []Marker) error {
	text, err := json.Marshal(markers)
	if err != nil {
		return fmt.Errorf("mark: %w", err)
	}
	const given = `jsonb_to_recordset($1::jsonb) AS m(feed text, delivery text, generation integer, arrival bigint, fence bigint, sha256 text, balance jsonb)`
	tag, err := l.s.conn.Exec(ctx, `INSERT INTO mullein.load (feed, delivery, generation, arrival, fence, sha256, balance)
		SELECT * FROM `+given+` ON CONFLICT DO NOTHING`, string(text))
	if err != nil {
		return fmt.Errorf("mark: %w", err)
	}
	if tag.RowsAffected() == int64(len(markers)) {
		return nil
	}
	// Those that this transaction did not write stood there before: their
	// balance or their arrival differ, or their fence.
	rows, err := l.s.conn.Query(ctx, `SELECT l.feed, l.delivery, l.generation, l.arrival, l.fence, l.sha256, l.balance, l.committed_at FROM mullein.load l
		JOIN `+given+` USING (feed, delivery, generation) WHERE l.xmin <> pg_current_xact_id()::xid`, string(text))
	if err != nil {
		return fmt.Errorf("mark: %w", err)
	}
	have, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (Marker, error) {
		m, err := marker(row)
		if err != nil {
			return Marker{}, err
		}
		return *m, nil
	})
	if err != nil || len(have) == 0 {
		return fmt.Errorf("mark: a marker stands in the way and cannot be read: %w", orMoved(err))
	}
	return &AlreadyLoadedError{have}
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
