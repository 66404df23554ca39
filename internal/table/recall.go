package table

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"mullein/internal/core/balance"
	"mullein/internal/core/feed"
)

// Recall takes loads out of force or puts them back: a transaction in which
//
//	BeginRecall  opens the transaction, locks the target and finds the keys
//	Later        names the loads since that may have left rows alone because of them
//	Reread       takes up the rows of those keys from the file of such a load
//	Outcome      works out what becomes of each row
//	Commit       writes it, with an entry of its own in the order of loads
//
// A preview is the same up to the outcome, in a snapshot that writes nothing.
type Recall struct {
	*Load
	r       *refold
	outcome *Outcome
}

// Outcome is what a recall does to the target.
type Outcome struct {
	Removed  int64       `json:"removed"`  // rows that go from the target
	Restored int64       `json:"restored"` // rows that become what they were, or what later loads make of them
	Returned int64       `json:"returned"` // rows that come back
	Same     int64       `json:"same"`     // rows that later loads have written wholly anew; only their history changes
	Left     int64       `json:"left"`     // rows that somebody else has changed since; they are left as they are
	Samples  []RecallRow `json:"samples"`
}

// RecallRow is a row as it is and as it becomes.
type RecallRow struct {
	What   string          // removed, restored, returned or left
	Before json.RawMessage // the row as it is; null where there is none
	After  json.RawMessage // the row as it becomes; null where it goes
}

// LoadEntry is a load as the target's database knows it.
type LoadEntry struct {
	Nth         int64 // its place in the order of all loads
	Feed        string
	Delivery    string
	Path        string
	Arrival     int64
	Generation  int
	Run         int64
	SHA256      string
	Balance     balance.Balance
	Active      bool // in force: neither recalled nor replaced
	Journal     bool // what it changed is kept
	Replaced    []int64
	RowsBefore  *int64 // of the target
	RowsAfter   *int64
	CommittedAt time.Time
	comesBack   bool // all keys of its file are looked at
}

const selectLoads = `SELECT nth, feed, delivery, arrival, generation, run, sha256, balance, active, journal, replaced,
	rows_before, rows_after, committed_at FROM mullein.load `

// queryer is a connection, a pool of them, or a transaction.
type queryer interface {
	Query(ctx context.Context, sql string, args ...any) (pgx.Rows, error)
	QueryRow(ctx context.Context, sql string, args ...any) pgx.Row
	SendBatch(ctx context.Context, b *pgx.Batch) pgx.BatchResults
}

func loads(ctx context.Context, q queryer, where string, args ...any) ([]LoadEntry, error) {
	rows, err := q.Query(ctx, selectLoads+where, args...)
	if err != nil {
		return nil, fmt.Errorf("read loads: %w", err)
	}
	list, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (e LoadEntry, err error) {
		err = row.Scan(&e.Nth, &e.Feed, &e.Delivery, &e.Arrival, &e.Generation, &e.Run, &e.SHA256, &e.Balance,
			&e.Active, &e.Journal, &e.Replaced, &e.RowsBefore, &e.RowsAfter, &e.CommittedAt)
		m := Marker{Delivery: e.Delivery, SHA256: e.SHA256}
		e.Path = m.Path()
		return e, err
	})
	if err != nil {
		return nil, fmt.Errorf("read loads: %w", err)
	}
	return list, nil
}

// LoadsInto returns the last loads into a table, the newest first, before a place;
// 0 for all.
func (d *Database) LoadsInto(ctx context.Context, table string, before int64, most int) ([]LoadEntry, error) {
	return loads(ctx, d.pool, `WHERE target = (SELECT id FROM mullein.target WHERE name = $1) AND ($2 = 0 OR nth < $2)
		ORDER BY nth DESC LIMIT $3`, table, before, most)
}

// LoadsOf returns the loads of an arrival of a feed, the oldest first.
func (d *Database) LoadsOf(ctx context.Context, feed string, arrival int64) ([]LoadEntry, error) {
	if err := d.Prepare(ctx); err != nil {
		return nil, err
	}
	return loads(ctx, d.pool, "WHERE feed = $1 AND arrival = $2 ORDER BY nth LIMIT 1000", feed, arrival)
}

// CannotError says why something cannot be done.
type CannotError struct{ Reason string }

func (e *CannotError) Error() string { return e.Reason }

// Aim is what a recall does with loads.
type Aim int

// The aims of a recall.
const (
	TakeOut Aim = iota // take them out of force
	PutBack            // put back those that were taken out
)

// BeginRecall begins to recall the loads of arrivals of a feed, or to put them back.
func (s *Session) BeginRecall(ctx context.Context, t *Fitted, of string, aim Aim, arrivals []int64) (*Recall, error) {
	lock := func(l *Load) (self int64, err error) {
		if err = l.LockUnfenced(ctx, of); err == nil {
			self = l.nth[0]
		}
		return self, err
	}
	return s.recall(ctx, t, of, aim, arrivals, s.Begin, lock)
}

// PreviewRecall begins what BeginRecall does, and cannot write anything.
func (s *Session) PreviewRecall(ctx context.Context, t *Fitted, of string, aim Aim, arrivals []int64) (*Recall, error) {
	const afterAll = 1<<63 - 2 // it would be the last of all loads and recalls
	return s.recall(ctx, t, of, aim, arrivals, s.Rehearse, func(*Load) (int64, error) { return afterAll, nil })
}

func (s *Session) recall(ctx context.Context, t *Fitted, of string, aim Aim, arrivals []int64,
	begin func(context.Context, *Fitted, int) (*Load, error), place func(*Load) (int64, error)) (*Recall, error) {
	if _, err := s.conn.Exec(ctx, refoldTables); err != nil { // a preview could not make them later
		return nil, fmt.Errorf("make the tables of a recall: %w", err)
	}
	l, err := begin(ctx, t, 1)
	if err != nil {
		return nil, err
	}
	c := &Recall{Load: l}
	self, err := place(l)
	if err == nil {
		c.r = &refold{l: l, self: self}
		err = c.begin(ctx, of, aim, arrivals)
	}
	if err != nil {
		l.Close(ctx)
		return nil, err
	}
	return c, nil
}

func (c *Recall) begin(ctx context.Context, of string, aim Aim, arrivals []int64) error {
	list, err := loads(ctx, c.s.conn, "WHERE target = $1 AND feed = $2 AND arrival = ANY($3) ORDER BY nth",
		c.table.id, of, arrivals)
	if err != nil {
		return err
	}
	for _, e := range list {
		switch {
		case aim == TakeOut && e.Active:
			c.r.off, c.r.on = append(c.r.off, e.Nth), append(c.r.on, instead(e, list)...)
		case aim == PutBack && !e.Active && e.Nth == newest(list, e.Arrival):
			c.r.on, c.r.off = append(c.r.on, e.Nth), append(c.r.off, instead(e, list)...)
		}
	}
	if len(c.r.off)+len(c.r.on) == 0 {
		if aim == PutBack {
			return &CannotError{"it is in force; there is no recall to undo"}
		}
		return &CannotError{"no load of it is in force"}
	}
	if err := c.journaled(ctx); err != nil {
		return err
	}
	if c.table.keyed() {
		if c.r.undoing, err = c.r.listUndo(ctx); err != nil || c.r.undoing {
			return err
		}
		return c.r.keys(ctx)
	}
	if i := slices.IndexFunc(list, func(e LoadEntry) bool {
		return slices.Contains(c.r.on, e.Nth) && e.Balance.Outdated > 0
	}); i >= 0 {
		return &CannotError{fmt.Sprintf("rows of arrival %d were outdated when it was loaded, and are not kept; redo "+
			"it", list[i].Arrival)}
	}
	return c.onlyNewest(ctx)
}

// instead returns the loads that a load stands instead of: those that it replaced,
// but for earlier generations of the same arrivals, instead of which it has what
// those had replaced.
func instead(e LoadEntry, same []LoadEntry) []int64 {
	var out []int64
	for _, nth := range e.Replaced {
		if i := slices.IndexFunc(same, func(s LoadEntry) bool { return s.Nth == nth }); i >= 0 {
			out = append(out, instead(same[i], same)...)
		} else {
			out = append(out, nth)
		}
	}
	return out
}

func newest(of []LoadEntry, arrival int64) (nth int64) {
	for _, e := range of {
		if e.Arrival == arrival {
			nth = max(nth, e.Nth)
		}
	}
	return nth
}

// journaled makes sure that the journal holds all that happened since.
func (c *Recall) journaled(ctx context.Context) error {
	without, err := loads(ctx, c.s.conn, "WHERE target = $1 AND nth >= $2 AND NOT journal ORDER BY nth LIMIT 1",
		c.table.id, c.r.first())
	if err != nil || len(without) == 0 {
		return err
	}
	e := without[0]
	if e.Nth == c.r.first() {
		return &CannotError{fmt.Sprintf("the journal of arrival %d of %s is not kept any more, or never was "+
			"(target.recall)", e.Arrival, e.Feed)}
	}
	return &CannotError{fmt.Sprintf("arrival %d of %s was loaded into %s since then without a journal "+
		"(target.recall)", e.Arrival, e.Feed, c.table)}
}

// onlyNewest makes sure that no later load replaced what a load without a key
// wrote: without a key nobody can tell what would have become of each row.
func (c *Recall) onlyNewest(ctx context.Context) error {
	if !c.table.Mode.Replaces() {
		return nil
	}
	since, err := loads(ctx, c.s.conn, "WHERE target = $1 AND nth > $2 AND active AND NOT nth = ANY($3) ORDER BY nth "+
		"DESC LIMIT 1", c.table.id, slices.Max(append(slices.Clone(c.r.off), c.r.on...)),
		append(slices.Clone(c.r.off), c.r.on...))
	if err != nil || len(since) == 0 {
		return err
	}
	return &CannotError{fmt.Sprintf("the table has no key, and arrival %d of %s has replaced rows since; recall that "+
		"one first", since[0].Arrival, since[0].Feed)}
}

// Arrivals returns the arrivals whose loads the recall takes out of force, and
// those whose loads it puts back.
func (c *Recall) Arrivals(ctx context.Context) (off, on []int64, err error) {
	off, on = []int64{}, []int64{}
	for _, of := range []struct {
		nth []int64
		out *[]int64
	}{{c.r.off, &off}, {c.r.on, &on}} {
		list, err := loads(ctx, c.s.conn, "WHERE nth = ANY($1) ORDER BY nth", nonNil(of.nth))
		if err != nil {
			return nil, nil, err
		}
		for _, e := range list {
			*of.out = append(*of.out, e.Arrival)
		}
	}
	return off, on, nil
}

// Later names the loads since the recalled ones that left rows unwritten, which
// may be because of them.
func (c *Recall) Later(ctx context.Context) ([]LoadEntry, error) { return c.r.later(ctx) }

// Replacing says, before anything is staged, that the load will take those of
// arrivals out of force, and returns the loads since then that may have left rows
// unwritten because of them, for Reread.
func (l *Load) Replacing(ctx context.Context, arrivals []int64) ([]LoadEntry, error) {
	if !l.table.keyed() || !l.table.Journal || len(arrivals) == 0 {
		return nil, nil
	}
	off, err := l.loadsOf(ctx, arrivals)
	if err != nil || len(off) == 0 {
		return nil, err
	}
	r := &refold{l: l, off: off}
	later, err := r.later(ctx)
	if err != nil || len(later) == 0 {
		return nil, err
	}
	l.rereads = true
	if l.table.wholeTable() || slices.ContainsFunc(later, func(e LoadEntry) bool { return e.comesBack }) {
		return later, r.keys(ctx)
	}
	if err := l.exec(ctx, refoldTables); err != nil {
		return nil, fmt.Errorf("make the tables of a recall: %w", err)
	}
	l.touched, err = r.touched(ctx)
	return later, err
}

func (r *refold) later(ctx context.Context) ([]LoadEntry, error) {
	l, t := r.l, r.l.table
	if !t.keyed() {
		return nil, nil
	}
	const unwritten = "(balance->>'unchanged')::bigint + (balance->>'outdated')::bigint + (balance->>'kept')::bigint " +
		"+ (balance->>'deleted')::bigint > 0"
	// What comes back may have left rows unwritten when it was loaded.
	which := unwritten
	if t.wholeTable() {
		which = "true"
	}
	list, err := loads(ctx, l.s.conn, "WHERE nth = ANY($1) AND "+which+" ORDER BY nth", nonNil(r.on))
	if err != nil {
		return nil, err
	}
	for i := range list {
		list[i].comesBack = true
	}
	since, err := loads(ctx, l.s.conn, "WHERE target = $1 AND nth > $2 AND active AND NOT nth = ANY($3) AND "+which+
		" ORDER BY nth", t.id, r.first(), nonNil(r.off))
	// What a row was outdated by may be what goes.
	var outdated []LoadEntry
	since = slices.DeleteFunc(since, func(e LoadEntry) bool {
		found := t.ordered() && e.Balance.Outdated > 0 || t.Ranked && t.Lineage.AbsentSince != ""
		if e.comesBack = found; found {
			outdated = append(outdated, e)
		}
		return found
	})
	return slices.Concat(list, outdated, since), err
}

// Reread takes up the rows of a later load's file that have one of the keys,
// and those of the keys that the file lacks, where that means something.
func (l *Load) Reread(ctx context.Context, of LoadEntry, src Source, expected int64) (int64, error) {
	if err := l.exec(ctx, "SAVEPOINT reread"); err != nil {
		return 0, fmt.Errorf("take up rows of arrival %d: %w", of.Arrival, err)
	}
	if err := l.Stage(ctx, src, expected); err != nil {
		return 0, errors.Join(err, l.rollBack(ctx, "reread"))
	}
	columns, values, args := l.written(origin{of.Run, []Part{{File: of.Path, Arrival: of.Arrival}}})
	for i := range values {
		values[i] += " AS " + columns[i]
	}
	args = append(args, of.Nth)
	hash := l.keysHash()
	nth := "$" + fmt.Sprint(len(args)) + "::bigint"
	what := "'u'"
	if l.table.Deletes {
		what = "CASE WHEN " + isGone + " THEN 'd' ELSE 'u' END"
	}
	given := "(SELECT row_to_json(g.*) FROM (SELECT " + join(values) + ") g)"
	if of.comesBack {
		if _, err := l.s.conn.Exec(ctx, "INSERT INTO pg_temp.mullein_key (key, image) SELECT "+hash+", "+given+
			" FROM "+l.stage+" s WHERE $"+fmt.Sprint(len(args))+"::bigint > 0 ON CONFLICT DO NOTHING",
			args...); err != nil {
			return 0, fmt.Errorf("take up the keys of arrival %d: %w", of.Arrival, err)
		}
	}
	from := " s JOIN pg_temp.mullein_key k ON k.key = " + hash
	if l.touched != "" {
		from = " s WHERE " + l.touched
	}
	tag, err := l.s.conn.Exec(ctx, "INSERT INTO pg_temp.mullein_reread (key, load, what, given) SELECT "+hash+", "+nth+
		", "+what+", "+given+" FROM "+l.stage+from, args...)
	if err != nil {
		return 0, fmt.Errorf("take up rows of arrival %d: %w", of.Arrival, err)
	}
	if l.table.wholeTable() {
		parts := "NULL"
		if l.table.Mode == feed.ReplacePart {
			parts = "(SELECT array_agg(DISTINCT " + l.partHash() + ") FROM " + l.stage + " s)"
		}
		if err := l.exec(ctx,
			"INSERT INTO pg_temp.mullein_reread_whole SELECT "+fmt.Sprint(of.Nth)+", "+parts); err != nil {
			return 0, fmt.Errorf("take up the parts of arrival %d: %w", of.Arrival, err)
		}
	}
	clear(l.staged)
	clear(l.counts)
	return tag.RowsAffected(), l.exec(ctx, "DELETE FROM "+l.stage+"; RELEASE SAVEPOINT reread")
}

// Outcome works out what becomes of the rows, with up to most samples.
func (c *Recall) Outcome(ctx context.Context, most int) (*Outcome, error) {
	c.outcome = &Outcome{Samples: []RecallRow{}}
	if !c.table.keyed() {
		return c.outcome, c.withoutKey(ctx, most)
	}
	if c.r.undoing {
		return c.outcome, c.r.undoOutcome(ctx, c.outcome, most)
	}
	if err := c.r.work(ctx); err != nil {
		return nil, err
	}
	const changed = `SELECT s.key, w.image AS before, s.image AS after, CASE WHEN h.key IS NOT NULL THEN 'left'
			WHEN w.image IS NULL AND s.image IS NULL THEN 'same' WHEN w.image IS NULL THEN 'returned'
			WHEN s.image IS NULL THEN 'removed' WHEN w.image::text = s.image::text THEN 'same' ELSE 'restored' END AS what
		FROM pg_temp.mullein_state s LEFT JOIN pg_temp.mullein_was w USING (key)
		LEFT JOIN (SELECT key FROM pg_temp.mullein_event WHERE what = 'h' AND load = $1) h ON h.key = s.key`
	o := c.outcome
	err := c.s.conn.QueryRow(ctx, `SELECT count(*) FILTER (WHERE what = 'removed'),
			count(*) FILTER (WHERE what = 'restored'), count(*) FILTER (WHERE what = 'returned'),
			count(*) FILTER (WHERE what = 'same'), count(*) FILTER (WHERE what = 'left')
		FROM (SELECT what FROM (`+changed+`) c OFFSET 0) c`, c.r.self).Scan(&o.Removed, &o.Restored, &o.Returned, &o.Same, &o.Left)
	if err != nil {
		return nil, fmt.Errorf("count what is recalled: %w", err)
	}
	rows, err := c.s.conn.Query(ctx, `SELECT what, before, after FROM (
			SELECT *, row_number() OVER (PARTITION BY what ORDER BY key) AS nth FROM (`+changed+`) c WHERE what <> 'same') d
		WHERE nth <= $2 ORDER BY what, nth`, c.r.self, most)
	if err != nil {
		return nil, fmt.Errorf("look at what is recalled: %w", err)
	}
	o.Samples, err = pgx.CollectRows(rows, func(row pgx.CollectableRow) (s RecallRow, err error) {
		err = row.Scan(&s.What, &s.Before, &s.After)
		return s, err
	})
	return o, err
}

// inPlace is the SQL of the rows t of a table without a key whose place the loads
// that come back take, by the number of the parameter that lists those: all rows
// that are there now, whoever wrote them, or those of the same parts.
func (c *Recall) inPlace(on int) string {
	t := c.table
	switch t.Mode {
	case feed.Replace:
		return fmt.Sprintf("cardinality($%d::bigint[]) > 0", on)
	case feed.ReplacePart:
		return fmt.Sprintf("EXISTS (SELECT 1 FROM mullein.change c CROSS JOIN LATERAL json_populate_record(NULL::%s, "+
			"c.given) g WHERE c.load = ANY($%d) AND c.what = 'i' AND g.%s IS NOT DISTINCT FROM t.%[3]s)", c.name(),
			on, quote(t.Part))
	}
	return "false"
}

// withoutKey works out a recall of a table without a key: what the loads wrote
// goes, and what they removed comes back.
func (c *Recall) withoutKey(ctx context.Context, most int) error {
	o, name := c.outcome, c.name()
	arrivals, err := c.r.arrivals(ctx)
	if err != nil {
		return err
	}
	rows, err := c.s.conn.Query(ctx, `SELECT what, row, count(*) OVER (PARTITION BY what) FROM (
			SELECT 'removed' AS what, row_to_json(t.*) AS row FROM `+name+` t
			WHERE t.`+quote(c.table.Lineage.FromArrival)+` = ANY($1)
			UNION ALL SELECT 'removed', row_to_json(t.*) FROM `+name+` t WHERE `+c.inPlace(3)+`
			AND NOT coalesce(t.`+quote(c.table.Lineage.FromArrival)+` = ANY($1), false)
			UNION ALL SELECT 'returned', before FROM mullein.change c WHERE load = ANY($2) AND what = 'd'
			AND `+c.stillWanted()+`
			UNION ALL SELECT 'returned', given FROM mullein.change WHERE load = ANY($3) AND what = 'i') r`, arrivals,
		nonNil(c.r.off), nonNil(c.r.on))
	if err != nil {
		return fmt.Errorf("look at what is recalled: %w", err)
	}
	shown := map[string]int{}
	var what string
	var row json.RawMessage
	var n int64
	_, err = pgx.ForEachRow(rows, []any{&what, &row, &n}, func() error {
		s := RecallRow{What: what, Before: slices.Clone(row)}
		if what == "removed" {
			o.Removed = n
		} else {
			o.Returned = n
			s.Before, s.After = nil, s.Before
		}
		if shown[what]++; shown[what] <= most {
			o.Samples = append(o.Samples, s)
		}
		return nil
	})
	return err
}

// stillWanted is the SQL that reports whether the load that wrote what an entry
// was before is in force.
func (c *Recall) stillWanted() string {
	arrival := "c.before->>" + literal(c.table.Lineage.FromArrival)
	return "(" + arrival + " IS NULL OR EXISTS (SELECT 1 FROM mullein.load m WHERE m.target = c.target AND m.arrival " +
		"= (" + arrival + ")::bigint AND m.active))"
}

func (c *Recall) applyWithoutKey(ctx context.Context) error {
	name := c.name()
	columns := make([]string, len(c.table.writable))
	for i, w := range c.table.writable {
		columns[i] = quote(w)
	}
	if len(c.r.off) > 0 {
		arrivals, err := c.r.arrivals(ctx)
		if err != nil {
			return err
		}
		n, err := c.takeBack(ctx, arrivals)
		if err != nil {
			return err
		}
		c.r.grew -= n
	}
	// Rows that were not there when the load was made first are noted as removed
	// by it, so that they come back when it goes again.
	var gone int64
	err := c.s.conn.QueryRow(ctx, `WITH gone AS (DELETE FROM `+name+` t WHERE `+c.inPlace(1)+
		` RETURNING row_to_json(t.*) AS row),
			noted AS (INSERT INTO mullein.change (target, load, key, what, before)
				SELECT $2::integer, o.load, o.last + row_number() OVER (), 'd', g.row FROM gone g
				CROSS JOIN (SELECT load, max(key) AS last FROM mullein.change WHERE load = (SELECT max(n)
				FROM unnest($1::bigint[]) n) GROUP BY load) o
				WHERE NOT EXISTS (SELECT 1 FROM mullein.change d WHERE d.load = ANY($1) AND d.what = 'd'
				AND d.before::text = g.row::text))
		SELECT count(*) FROM gone`, nonNil(c.r.on), c.table.id).Scan(&gone)
	if err != nil {
		return fmt.Errorf("take rows out: %w", err)
	}
	c.r.grew -= gone
	tag, err := c.s.conn.Exec(ctx, "INSERT INTO "+name+" ("+join(columns)+") SELECT "+join(columns)+` FROM (
			SELECT before AS image FROM mullein.change c WHERE load = ANY($1) AND what = 'd' AND `+c.stillWanted()+`
			UNION ALL SELECT given FROM mullein.change WHERE load = ANY($2) AND what = 'i') b
		CROSS JOIN LATERAL json_populate_record(NULL::`+name+`, image)`, nonNil(c.r.off), nonNil(c.r.on))
	if err != nil {
		return fmt.Errorf("bring rows back: %w", err)
	}
	c.r.grew += tag.RowsAffected()
	// What stands in the target again is noted anew when it is taken back again.
	if _, err := c.s.conn.Exec(ctx, "DELETE FROM mullein.change WHERE load = ANY($1) AND what = 'i'",
		nonNil(c.r.on)); err != nil {
		return fmt.Errorf("correct the journal: %w", err)
	}
	return c.switchLoads(ctx, c.r.off, c.r.on)
}

// Commit writes what [Recall.Outcome] worked out.
func (c *Recall) Commit(ctx context.Context, of, by, because string) error {
	if err := c.savepoint(ctx, "recall"); err != nil {
		return err
	}
	var err error
	switch {
	case !c.table.keyed():
		err = c.applyWithoutKey(ctx)
	case c.r.undoing:
		err = c.r.undo(ctx, c.outcome)
	default:
		err = c.r.apply(ctx)
	}
	if errors.Is(err, errMoved) {
		err = &CannotError{fmt.Sprintf("somebody changed rows of %s at the same time; recall it again", c.table)}
	}
	if err != nil {
		return err
	}
	counts, err := json.Marshal(c.outcome)
	if err != nil {
		return fmt.Errorf("mark: %w", err)
	}
	if _, err := c.s.conn.Exec(ctx, "UPDATE mullein.target SET rows = rows + $2 WHERE id = $1", c.table.id,
		c.r.grew); err != nil {
		return fmt.Errorf("mark: %w", err)
	}
	if _, err := c.s.conn.Exec(ctx, "INSERT INTO mullein.recall (nth, target, feed, turned_off, turned_on, writers, "+
		"by, because, counts) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9::jsonb - 'samples')",
		c.r.self, c.table.id, of, nonNil(c.r.off), nonNil(c.r.on), c.writers, by, because, string(counts)); err != nil {
		return fmt.Errorf("mark: %w", err)
	}
	return c.Load.Commit(ctx)
}
