package table

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
	"mullein/internal/core/feed"
	"mullein/internal/core/tabular"
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
	nth    []int64 // the places of the parts in the order of all loads, once the target is locked

	writers   []int64 // the transaction numbers that rows written by the load bear
	turnedOff []int64 // the earlier loads, by place, that this one replaces
	grown     []int64 // by how many rows the target grows with each part
	way       way
	readOnly  bool
	many, few int64 // rows from which on a load is prepared for being large, or even guessed at
	run       int64
	own       int    // the part with which is noted what is done for the whole load
	waived    bool   // of all parts
	touched   string // the SQL that reports whether what is replaced touched a staged row's key; "" where its keys are listed
	kept      int64  // rows of a load that is replaced which stay as they are
	rereads   bool   // files of other loads are read again
	standing
}

// Part is one file of a load: several may be committed together.
type Part struct {
	File     string
	Arrival  int64
	Replaces []int64 // arrivals whose rows are undone, itself among them when it is loaded again
	Waived   bool    // somebody has decided that absent rows may be many
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
	begin := "BEGIN ISOLATION LEVEL " + mode
	if s.Limit > 0 {
		begin += fmt.Sprintf("; SET LOCAL statement_timeout = %d", max(1, s.Limit.Milliseconds()))
	}
	if _, err := s.conn.PgConn().Exec(ctx, begin).ReadAll(); err != nil {
		return nil, fmt.Errorf("begin: %w", err)
	}
	l := &Load{s: s, table: t, stage: "pg_temp." + quote(stage), staged: make([]int64, parts),
		counts: make([]balance.Balance, parts), grown: make([]int64, parts), readOnly: mode != "READ COMMITTED",
		many: manyRows, few: fewRows}
	l.way = &stagedWay{l}
	return l, nil
}

// rows is how many staged rows are left.
func (l *Load) rows() (n int64) {
	for part := range l.staged {
		n += l.staged[part] - l.counts[part].Duplicate
	}
	return n - l.way.skipped()
}

// several reports whether the rows are of more than one part.
func (l *Load) several() bool { return len(l.staged) > 1 }

// Close rolls back unless the load was committed.
func (l *Load) Close(ctx context.Context) {
	_ = l.way.close() // what was not asked for by Stage does not matter
	if l.s != nil && !l.s.conn.IsClosed() && l.s.conn.PgConn().TxStatus() != 'I' {
		if _, err := l.s.conn.Exec(context.WithoutCancel(ctx), "ROLLBACK"); err != nil {
			l.s.disconnect() // the database rolls back when the connection goes
		}
	}
	l.s = nil
}

// Stage copies all rows of the source into the staging table, or where its way
// leads. expected is about how many they are. Errors of the source are returned as
// they are.
func (l *Load) Stage(ctx context.Context, src Source, expected int64) error {
	return l.way.copyIn(ctx, src, expected)
}

// copyFrom copies the rows of a source, while they are read, and returns how many
// arrived.
func (l *Load) copyFrom(ctx context.Context, src Source, b *Batch, to string) (int64, error) {
	reading, stopReading := context.WithCancel(ctx)
	defer stopReading()
	r := newCopyReader(reading, src, b)
	tag, err := l.s.conn.PgConn().CopyFrom(ctx, r, "COPY "+to+" FROM STDIN BINARY")
	stopReading()
	r.drain()
	if r.source != nil {
		return 0, r.source
	}
	if err != nil {
		return 0, fmt.Errorf("copy rows: %w", err)
	}
	return tag.RowsAffected(), nil
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
	if n >= l.many {
		if err := l.prepareForMany(ctx); err != nil {
			return err
		}
	}
	if l.table.ranges != "" && !l.readOnly {
		if err := l.makePartitions(ctx); err != nil {
			return err
		}
	}
	if marked > 0 {
		return l.dropRepeats(ctx)
	}
	return nil
}

// prepareForMany sets the transaction's memory for work that is not small, and the statistics
// of staged keys to what they are: many and different, each column for itself. Else the
// planner would hash the whole target, not what is staged, and rows would not be found in
// the order in which they lie.
func (l *Load) prepareForMany(ctx context.Context) error {
	// A merge join would go through the target by its key, row by row, where that is not how rows lie.
	const memory = "SET LOCAL work_mem = '128MB'; SET LOCAL maintenance_work_mem = '256MB'; SET LOCAL enable_mergejoin = off"
	if !l.table.keyed() || l.readOnly { // where a column's statistics cannot be set
		return l.exec(ctx, memory)
	}
	var columns, alter []string
	for _, k := range l.table.Key {
		c := fmt.Sprintf("c%d", l.table.index(k))
		columns = append(columns, c)
		alter = append(alter, "ALTER "+c+" SET (n_distinct = -1)", "ALTER "+c+" SET STATISTICS 10")
	}
	return l.exec(ctx, memory+"; ALTER TABLE "+l.stage+" "+join(alter)+"; ANALYZE "+l.stage+" ("+join(columns)+")")
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
// then the later file, then the later line. Its merged columns are merged over
// all rows of the key, from the oldest to the newest. Only keys with a suspect
// are looked at.
func (l *Load) dropRepeats(ctx context.Context) error {
	keys := strings.Join(l.keys(), ", ")
	order := "s.place DESC"
	if l.table.Newest != "" {
		order = l.column(l.table.Newest) + " DESC NULLS LAST, " + order
	} else if l.table.Ranked && l.several() {
		order = l.rankOf() + " DESC, " + order
	}
	suspects := l.stage + ` s WHERE (` + keys + `) IN (SELECT ` + keys + ` FROM ` + l.stage + ` s WHERE s.suspect)`
	if len(l.table.Merge) > 0 {
		if err := l.mergeRepeats(ctx, keys, order, suspects); err != nil {
			return fmt.Errorf("merge repeats: %w", err)
		}
	}
	gone, err := l.byPart(ctx, `WITH gone AS (DELETE FROM `+l.stage+` d USING (
			SELECT s.ctid AS sid, row_number() OVER (PARTITION BY `+keys+` ORDER BY `+order+`) AS nth
			FROM `+suspects+`
		) r WHERE d.ctid = r.sid AND r.nth > 1 RETURNING d.place)
		SELECT place >> `+shift+`, count(*) FROM gone GROUP BY 1`)
	if err != nil {
		return fmt.Errorf("find repeats: %w", err)
	}
	for part, n := range gone {
		l.counts[part].Duplicate += n
	}
	return nil
}

// mergeRepeats returns the winner of each key the merged values of all its rows.
// The winner changes its place in the staging table, and so do its repeats'
// numbers; the order that dropRepeats goes by is not touched unless newest is
// merged itself, which cannot make another row the winner.
func (l *Load) mergeRepeats(ctx context.Context, keys, order, suspects string) error {
	var sets, values []string
	oldest := strings.NewReplacer(" DESC NULLS LAST", " ASC NULLS FIRST", " DESC", " ASC").Replace(order)
	for i, c := range l.table.Own {
		v := fmt.Sprintf("s.c%d", i)
		over := "OVER (PARTITION BY " + keys + ")"
		switch l.table.Merge[c.Name] {
		case feed.Greatest:
			v = "max(" + v + ") " + over
		case feed.Least:
			v = "min(" + v + ") " + over
		case feed.Add:
			v = "sum(" + v + ") " + over + "::" + sqlTypes[c.Kind][0]
		case feed.KeepFirst:
			v = "(array_agg(" + v + ") FILTER (WHERE " + v + " IS NOT NULL) OVER (PARTITION BY " + keys +
				" ORDER BY " + oldest + " ROWS BETWEEN UNBOUNDED PRECEDING AND UNBOUNDED FOLLOWING))[1]"
		case feed.KeepWhenBlank:
			v = "(array_agg(" + v + ") FILTER (WHERE " + v + " IS NOT NULL) OVER (PARTITION BY " + keys +
				" ORDER BY " + order + " ROWS BETWEEN UNBOUNDED PRECEDING AND UNBOUNDED FOLLOWING))[1]"
		default:
			continue
		}
		sets = append(sets, fmt.Sprintf("c%d = r.v%d", i, i))
		values = append(values, fmt.Sprintf("%s AS v%d", v, i))
	}
	return l.exec(ctx, `UPDATE `+l.stage+` d SET `+strings.Join(sets, ", ")+` FROM (
		SELECT s.ctid AS sid, row_number() OVER (PARTITION BY `+keys+`
		ORDER BY `+order+`) AS nth, `+strings.Join(values, ", ")+` FROM `+suspects+`
		) r WHERE d.ctid = r.sid AND r.nth = 1`)
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

// Dropped is a staged row that was taken out, and the values because of which it
// was.
type Dropped struct {
	Part  int
	Line  int64
	Value string
}

// DropNotUnique takes out the rows whose values in some own columns were,
// together, in an earlier line of their file already. It returns how many of each
// part, and up to most of them.
func (l *Load) DropNotUnique(ctx context.Context, columns []string, most int) ([]int64, []Dropped, error) {
	values := l.columns(columns)
	counts, dropped, err := l.drop(ctx, `USING (
			SELECT s.ctid AS sid, row_number() OVER (PARTITION BY `+strings.Join(values, ", ")+`, s.place >> `+shift+`
			ORDER BY s.place) AS nth
			FROM `+l.stage+` s WHERE `+noneNull(values)+` AND `+l.notGone()+`
		) r WHERE s.ctid = r.sid AND r.nth > 1`, values, most)
	if err != nil {
		return nil, nil, fmt.Errorf("look for values of %s that repeat: %w", strings.Join(columns, ", "), err)
	}
	return counts, dropped, nil
}

// DropStrangers takes out the rows whose values in some own columns do not
// stand, together, in another table. It returns how many of each part, and up to
// most of them.
func (l *Load) DropStrangers(ctx context.Context, k tabular.ForeignKey, most int) ([]int64, []Dropped, error) {
	values := l.columns(k.Fields)
	var same []string
	for i, v := range values {
		same = append(same, "o."+quote(k.Reference[i])+" = "+v)
	}
	schema, table, _ := strings.Cut(k.Table, ".")
	counts, dropped, err := l.drop(ctx, "WHERE "+noneNull(values)+" AND "+l.notGone()+
		" AND NOT EXISTS (SELECT 1 FROM "+quote(schema, table)+" o WHERE "+strings.Join(same, " AND ")+")", values,
		most)
	if err != nil {
		return nil, nil, fmt.Errorf("look for %s: %w", k, err)
	}
	return counts, dropped, nil
}

// columns returns staged own columns, comparable with the target's.
func (l *Load) columns(names []string) []string {
	out := make([]string, len(names))
	for i, name := range names {
		out[i] = l.column(name)
	}
	return out
}

func noneNull(values []string) string {
	return strings.Join(values, " IS NOT NULL AND ") + " IS NOT NULL"
}

// drop takes out staged rows (s), and returns how many of each part, and up to most
// of each with their values.
func (l *Load) drop(ctx context.Context, which string, values []string, most int) ([]int64, []Dropped, error) {
	rows, err := l.s.conn.Query(ctx, `WITH gone AS (DELETE FROM `+l.stage+` s `+which+
		` RETURNING s.place, concat_ws(', ', `+strings.Join(values, ", ")+`) AS value)
		SELECT * FROM (SELECT place >>
		`+shift+`, (place >> `+strconv.Itoa(lineShift)+`) & `+strconv.Itoa(lineMask)+`, left(value, 200), count(*) OVER (PARTITION BY place >> `+shift+`) AS n,
			row_number() OVER (PARTITION BY place >> `+shift+` ORDER BY place) AS nth FROM gone) g WHERE nth <= $1
			ORDER BY 1, 2`, most)
	if err != nil {
		return nil, nil, err
	}
	counts := make([]int64, len(l.staged))
	var dropped []Dropped
	var d Dropped
	var n, nth int64
	_, err = pgx.ForEachRow(rows, []any{&d.Part, &d.Line, &d.Value, &n, &nth}, func() error {
		counts[d.Part] = n
		dropped = append(dropped, d)
		return nil
	})
	if err != nil {
		return nil, nil, err
	}
	for part, n := range counts {
		l.staged[part] -= n
	}
	return counts, dropped, nil
}

// takePlaces returns the parts their places in the order of all loads. It is
// called under the target's lock, so places of one target are in its order.
func (l *Load) takePlaces(ctx context.Context) error {
	err := l.s.conn.QueryRow(ctx, "SELECT array_agg(nextval('mullein.nth')) FROM generate_series(1, $1)",
		len(l.staged)).Scan(&l.nth)
	if err != nil {
		return fmt.Errorf("take a place in the order of loads: %w", err)
	}
	return nil
}

// AlreadyLoadedError says that markers show some of the deliveries as loaded.
type AlreadyLoadedError struct{ Markers []Marker }

func (e *AlreadyLoadedError) Error() string {
	return fmt.Sprintf("%s is loaded already, as generation %d", e.Markers[0].Delivery, e.Markers[0].Generation)
}

// record is a marker as it is written.
type record struct {
	Marker
	Nth        int64   `json:"nth"`
	Target     int     `json:"target"`
	Run        int64   `json:"run"`
	Journal    bool    `json:"journal"`
	Replaced   []int64 `json:"replaced"`
	Writers    []int64 `json:"writers"`
	RowsBefore int64   `json:"rows_before"`
	RowsAfter  int64   `json:"rows_after"`
	Rank       int64   `json:"rank"`
	Whole      bool    `json:"whole"`
}

const recordColumns = "feed, delivery, generation, arrival, fence, sha256, balance, nth, target, run, journal, " +
	"replaced, writers, rows_before, rows_after, rank, whole"

// Mark writes the markers of the load's parts into the transaction.
func (l *Load) Mark(ctx context.Context, markers []Marker) error {
	var grown, rows int64
	for _, n := range l.grown {
		grown += n
	}
	if err := l.s.conn.QueryRow(ctx, "UPDATE mullein.target SET rows = rows + $2 WHERE id = $1 RETURNING rows - $2",
		l.table.id, grown).Scan(&rows); err != nil {
		return fmt.Errorf("mark: %w", err)
	}
	records := make([]record, len(markers))
	for i, m := range markers {
		records[i] = record{Marker: m, Nth: l.nth[m.Part], Target: l.table.id, Run: l.run, Journal: l.table.Journal,
			Replaced: []int64{}, Writers: nonNil(l.writers), RowsBefore: rows, RowsAfter: rows + l.grown[m.Part],
			Rank: Unranked}
		if l.table.Ranked {
			records[i].Rank = l.ranks[m.Part]
			records[i].Whole = l.table.wholeTable() && l.table.Mode != feed.ReplacePart
		}
		rows = records[i].RowsAfter
	}
	records[0].Replaced = nonNil(l.turnedOff)
	text, err := json.Marshal(records)
	if err != nil {
		return fmt.Errorf("mark: %w", err)
	}
	const given = `jsonb_to_recordset($1::jsonb) AS m(feed text, delivery text, generation integer, arrival bigint,
		fence bigint, sha256 text, balance jsonb, nth bigint, target integer, run bigint, journal boolean, replaced bigint[],
		writers bigint[], rows_before bigint, rows_after bigint, rank bigint, whole boolean)`
	tag, err := l.s.conn.Exec(ctx, "INSERT INTO mullein.load ("+recordColumns+") SELECT "+recordColumns+" FROM "+
		given+" ON CONFLICT DO NOTHING", string(text))
	if err != nil {
		return fmt.Errorf("mark: %w", err)
	}
	if tag.RowsAffected() == int64(len(markers)) {
		return nil
	}
	// Those that this transaction did not write stood there before: their
	// balance or their arrival differ, or their fence.
	there, err := l.s.conn.Query(ctx, `SELECT l.feed, l.delivery, l.generation, l.arrival, l.fence, l.sha256,
		l.balance, l.committed_at, l.active FROM mullein.load l
		JOIN `+given+` USING (feed, delivery, generation) WHERE l.xmin <> pg_current_xact_id()::xid`, string(text))
	if err != nil {
		return fmt.Errorf("mark: %w", err)
	}
	have, err := pgx.CollectRows(there, func(row pgx.CollectableRow) (Marker, error) {
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

// Refusal returns the reason, for people, when an error is the database's own
// word against the rows: a constraint, a trigger, a value out of range. Trying
// again would give the same. It is "" for other errors. detail names values of the row.
func Refusal(err error) (reason, detail string) {
	var e *pgconn.PgError
	if !errors.As(err, &e) {
		return "", ""
	}
	switch class := e.Code[:2]; {
	case class == "22", class == "23", class == "44", e.Code == "P0001":
	default:
		return "", ""
	}
	reason = "the target says no: " + e.Message
	if e.ConstraintName != "" && !strings.Contains(e.Message, e.ConstraintName) {
		reason += " (constraint " + e.ConstraintName + ")"
	}
	if detail = e.Detail; len(detail) > 500 {
		detail = detail[:500] + "..."
	}
	return reason, detail
}

// refuses reports whether an error is a [Refusal].
func refuses(err error) bool {
	reason, _ := Refusal(err)
	return reason != ""
}

// Denied reports whether an error is for people who set up the target: rights, a
// missing table or column. The rows are not at fault.
func Denied(err error) bool { return strings.HasPrefix(sqlState(err), "42") }
