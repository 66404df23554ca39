package table

import (
	"context"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"
)

// Most loads that are taken out are the last that had to do with their keys, and nobody else
// has written their rows since. Then nothing has to be gone through anew: what they overwrote
// or deleted becomes what it was, and what they inserted goes. What is undone is listed in
// mullein_undo: for each key, where its row and its entry in the journal are.

// rowAt is the SQL that reports whether a row t of the target lies where a row of another
// table says that it was seen.
func rowAt(of string) string { return "t.tableoid = " + of + ".part AND t.ctid = " + of + ".place" }

// listUndo lists what is undone, and reports whether that is all there is to do.
func (r *refold) listUndo(ctx context.Context) (bool, error) {
	l, t := r.l, r.l.table
	if len(r.on) > 0 {
		return false, nil
	}
	later, err := r.later(ctx)
	if err != nil || len(later) > 0 {
		return false, err
	}
	arrivals, err := r.arrivals(ctx)
	if err != nil {
		return false, err
	}
	if err := l.exec(ctx, "SET LOCAL work_mem = '128MB'"); err != nil {
		return false, err
	}
	err = r.exec(ctx, "list what is undone",
		`WITH ours AS MATERIALIZED (`+writersOf+`) INSERT INTO pg_temp.mullein_undo (key, part, place, entry, what)
		SELECT coalesce(c.key, w.key), w.part, w.place, c.entry, CASE WHEN w.foreign_hand THEN 'f'
		ELSE coalesce(c.what, 'i') END FROM (
			SELECT `+t.keyHash("t")+` AS key, t.tableoid AS part, t.ctid AS place,
			t.xmin::text::bigint NOT IN (SELECT writer FROM ours) AS foreign_hand
			FROM `+l.name()+` t WHERE t.`+quote(t.Lineage.FromArrival)+` = ANY($4)) w
		FULL JOIN (SELECT key, ctid AS entry, CASE WHEN before IS NULL AND what IN ('u', 'd') THEN 'n' ELSE what
		END AS what FROM mullein.change WHERE target = $1 AND load = ANY($3)) c USING (key)`,
		t.id, nonNil(l.writers), r.off, arrivals)
	if err != nil {
		return false, err
	}
	if err := l.exec(ctx, "ANALYZE pg_temp.mullein_undo"); err != nil {
		return false, err
	}
	last, err := r.wroteLast(ctx, arrivals)
	if err != nil {
		return false, err
	}
	// What was overwritten is there, what was deleted is not, and no key is there twice.
	var plain bool
	err = l.s.conn.QueryRow(ctx, `SELECT coalesce(bool_and(CASE what WHEN 'u' THEN place IS NOT NULL WHEN 'i'
		THEN entry IS NULL
			WHEN 'd' THEN place IS NULL WHEN 'o' THEN place IS NULL WHEN 'x' THEN place IS NULL ELSE false END), true)
			AND count(*) = count(DISTINCT key)
			AND NOT EXISTS (SELECT 1 FROM pg_temp.mullein_undo u JOIN mullein.change c ON c.ctid = u.entry
			CROSS JOIN LATERAL json_populate_record(NULL::`+
		l.name()+`, c.before) g JOIN `+l.name()+` t ON `+t.sameRow("t", "g")+` WHERE u.what = 'd')
		FROM pg_temp.mullein_undo`).Scan(&plain)
	if err != nil {
		return false, fmt.Errorf("look at what is undone: %w", err)
	}
	if !plain || !last {
		return false, l.exec(ctx, "DELETE FROM pg_temp.mullein_undo")
	}
	return true, nil
}

// wroteLast reports whether the journal has no entry of another load since then that has
// to do with what is undone: of one of its keys, of a row that was inserted and went again,
// or of a row that lost, maybe to a deletion of what goes.
func (r *refold) wroteLast(ctx context.Context, arrivals []int64) (last bool, err error) {
	t := r.l.table
	which := "(c.before->>" + literal(t.Lineage.FromArrival) + ")::bigint = ANY($3) OR EXISTS (SELECT 1 FROM " +
		"pg_temp.mullein_undo u WHERE u.key = c.key)"
	if t.ordered() && (t.Deletes || t.wholeTable()) {
		which += " OR c.what = 'x'"
	}
	err = r.l.s.conn.QueryRow(ctx, "SELECT NOT EXISTS (SELECT 1 FROM mullein.change c WHERE c."+r.since()+
		" AND c.load > $1 AND NOT c.load = ANY($2) AND ("+which+"))",
		r.first(), r.off, arrivals).Scan(&last)
	if err != nil {
		return false, fmt.Errorf("look for what happened to the keys since: %w", err)
	}
	return last, nil
}

// undoOutcome says what becomes of the rows, with up to most samples of each kind.
func (r *refold) undoOutcome(ctx context.Context, o *Outcome, most int) error {
	l := r.l
	err := l.s.conn.QueryRow(ctx, "SELECT count(*) FILTER (WHERE what = 'i'), count(*) FILTER (WHERE what = 'u'), "+
		"count(*) FILTER (WHERE what = 'd') FROM pg_temp.mullein_undo").
		Scan(&o.Removed, &o.Restored, &o.Returned)
	if err != nil {
		return fmt.Errorf("count what is recalled: %w", err)
	}
	rows, err := l.s.conn.Query(ctx, `SELECT CASE u.what WHEN 'i' THEN 'removed' WHEN 'u' THEN 'restored'
		ELSE 'returned' END AS kind, row_to_json(t.*), c.before FROM (
			SELECT *, row_number() OVER (PARTITION BY what ORDER BY key) AS nth FROM pg_temp.mullein_undo
			WHERE what IN ('i', 'u', 'd')) u
		LEFT JOIN `+l.name()+` t ON `+rowAt("u")+` LEFT JOIN mullein.change c ON c.ctid = u.entry WHERE u.nth <= $1
		ORDER BY kind, u.nth`, most)
	if err != nil {
		return fmt.Errorf("look at what is recalled: %w", err)
	}
	o.Samples, err = pgx.CollectRows(rows, func(row pgx.CollectableRow) (s RecallRow, err error) {
		err = row.Scan(&s.What, &s.Before, &s.After)
		return s, err
	})
	return err
}

// undo writes the journal and the target.
func (r *refold) undo(ctx context.Context, o *Outcome) error {
	l, t := r.l, r.l.table
	name := l.name()
	if err := l.switchLoads(ctx, r.off, nil); err != nil {
		return err
	}
	if err := r.undoConfirmed(ctx); err != nil {
		return err
	}
	var columns, values, sets []string
	for _, c := range t.writable {
		columns = append(columns, quote(c))
		values = append(values, "n."+quote(c))
		sets = append(sets, quote(c)+" = n."+quote(c))
	}
	populated := " CROSS JOIN LATERAL json_populate_record(NULL::" + name + ", u.before) n "
	// What the loads wrote is noted, for when they are put back.
	for _, s := range []struct {
		expected  int64
		statement string
		args      []any
	}{
		{o.Removed, "WITH gone AS (DELETE FROM " + name + " t USING pg_temp.mullein_undo u WHERE " + rowAt("u") + `
			AND u.what = 'i' RETURNING t.*)
			INSERT INTO mullein.change (target, load, key, what, given) SELECT $1, m.nth, ` + t.keyHash("g") +
			`, 'i', row_to_json(g.*) FROM gone g
			JOIN (SELECT arrival, max(nth) AS nth FROM mullein.load WHERE nth = ANY($2)
			GROUP BY arrival) m ON m.arrival = g.` + quote(t.Lineage.FromArrival),
			[]any{t.id, r.off}},
		{o.Restored, "WITH noted AS (UPDATE mullein.change c SET given = coalesce(c.given, row_to_json(t.*)) FROM " +
			"pg_temp.mullein_undo u JOIN " + name + " t ON " + rowAt("u") +
			" WHERE c.ctid = u.entry AND u.what = 'u' RETURNING u.part, u.place, c.before) UPDATE " + name +
			" t SET " + strings.Join(sets, ", ") +
			" FROM noted u" + populated + "WHERE " + rowAt("u"), nil},
		{o.Returned, "INSERT INTO " + name + " (" + strings.Join(columns, ", ") + ") SELECT " + strings.Join(values,
			", ") +
			" FROM (SELECT c.before FROM pg_temp.mullein_undo u JOIN mullein.change c ON c.ctid = u.entry WHERE " +
			"u.what = 'd') u" + populated, nil},
	} {
		if s.expected == 0 {
			continue
		}
		tag, err := l.s.conn.Exec(ctx, s.statement, s.args...)
		if err != nil {
			return fmt.Errorf("undo what a load did: %w", err)
		}
		if tag.RowsAffected() != s.expected {
			return errMoved
		}
	}
	r.grew = o.Returned - o.Removed
	return nil
}

// undoConfirmed notes that nobody knows what loads that kept the keys that they did not
// have say of these: see [refold.confirm].
func (r *refold) undoConfirmed(ctx context.Context) error {
	if !r.l.table.Ranked {
		return nil
	}
	return r.exec(ctx, "keep which keys are not unchanged", `UPDATE mullein.confirmed c
		SET keys = ARRAY(SELECT unnest(c.keys) UNION SELECT u.key FROM pg_temp.mullein_undo u)
		WHERE c.target = $1 AND c.others AND c.load >= $2`, r.l.table.id, r.first())
}
