package table

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"mullein/internal/core/balance"
	"mullein/internal/core/feed"
)

// The journal is the table mullein.change: an entry for each row that a load
// changed, with the row as it was before. A row that a load inserted has no
// entry: it stands in the target, or in a later entry as what was before, and
// its lineage says which load wrote it. So first loads cost nothing, and yet
// every step of a row's life is known. What an entry holds:
//
//	u  updated: before; given is what the load gave, where columns are merged
//	d  deleted: before; given where newest may stand against it
//	o  a deletion that a recall has found outdated: before, given
//	m  marked as absent: before
//	i  inserted: given. Written only when a recall needs it
//	x  a row that a recall has found outdated where nothing was: given
//	h  somebody else had changed the row: given is the row as a recall found it
//
// Rows are held as JSON, as PostgreSQL writes a row of the target, so that they
// outlive columns that come later.

// entriesSince is the SQL of the condition on an entry of the journal that it is of a load
// into a target, or of a recall from it, whose place is at least first. Entries are found
// by load and key alone: those of one load lie together, so that they are written as fast
// as into an empty table, however large the journal is.
func entriesSince(target int, first int64, others ...int64) string {
	of := fmt.Sprintf("WHERE target = %d AND nth >= %d", target, first)
	return "load = ANY(ARRAY(SELECT nth FROM mullein.load " + of + " UNION ALL SELECT nth FROM mullein.recall " + of +
		" UNION SELECT unnest('{" + join(texts(others)) + "}'::bigint[])))"
}

// sameRow is the SQL that reports whether two rows of the target have one key.
func (t *Table) sameRow(a, b string) string {
	var same []string
	for _, k := range t.Key {
		same = append(same, a+"."+quote(k)+" = "+b+"."+quote(k))
	}
	return strings.Join(same, " AND ")
}

// wholeTable reports whether it means something that a delivery lacks rows.
func (t *Table) wholeTable() bool {
	return t.Mode.Replaces() || t.Absent == feed.AbsentMark || t.Absent == feed.AbsentDelete
}

// keyed reports whether the table has a key.
func (t *Table) keyed() bool { return len(t.Key) > 0 }

// nthOf is the SQL of a staged row's load, by its part.
func (l *Load) nthOf() string { return ofPart(l.nth) }

// journalSQL notes the rows of the target that are about to be updated or deleted, found
// at p.tid for staged rows (s).
func (l *Load) journalSQL(from origin, rows, p string) (string, []any) {
	given, args := "NULL::json", []any(nil)
	if len(l.table.Merge) > 0 || l.table.Deletes && l.table.Newest != "" {
		var columns, values []string
		columns, values, args = l.written(from)
		for i := range values {
			values[i] += " AS " + columns[i]
		}
		given = "(SELECT row_to_json(g.*) FROM (SELECT " + strings.Join(values, ", ") + ") g)"
	}
	return `INSERT INTO mullein.change (target, load, key, what, before, given) SELECT ` + l.target() + `, ` + l.nthOf() +
		`, ` + p + `.key, CASE WHEN ` + p + `.class = 'd' THEN 'd' ELSE 'u' END, row_to_json(t.*), ` + given +
		` FROM ` + rows + ` JOIN ` + l.name() + ` t ON ` + l.sameRow(p) + ` WHERE ` + p + `.class IN ('u', 'l', 'd')`, args
}

func (l *Load) target() string { return fmt.Sprint(l.table.id) }

// AbsentError says that a delivery lacks more of the target's rows than the feed
// allows.
type AbsentError struct {
	Absent, Rows int64
	AtMost       string
}

func (e *AbsentError) Error() string {
	return fmt.Sprintf("%d of the %d rows of the target are not in the delivery; absent_at_most is %s", e.Absent,
		e.Rows, e.AtMost)
}

// absent removes or marks the rows of the target that the delivery does not
// have, where the feed says so, and returns how many they are.
func (l *Load) absent(ctx context.Context) (int64, error) {
	t := l.table
	among, where := l.lacking()
	if where == "" {
		return 0, nil
	}
	if t.HasAbsentAtMost && !l.waived {
		if err := l.boundAbsent(ctx, among, where); err != nil {
			return 0, err
		}
	}
	if t.Absent == feed.AbsentMark {
		return l.markAbsent(ctx, where)
	}
	key := "row_number() OVER ()"
	if t.keyed() {
		key = t.keyHash("g")
	}
	note := ""
	if t.Journal {
		note = ", noted AS (INSERT INTO mullein.change (target, load, key, what, before) SELECT " + l.target() +
			", " + fmt.Sprint(l.nth[l.own]) + ", " + key + ", 'd', row_to_json(g.*) FROM gone g)"
	}
	var n int64
	if err := l.s.conn.QueryRow(ctx, "WITH gone AS (DELETE FROM "+l.name()+" t WHERE "+where+" RETURNING t.*)"+note+
		" SELECT count(*) FROM gone").Scan(&n); err != nil {
		return 0, fmt.Errorf("remove what is absent: %w", err)
	}
	l.grown[l.own] -= n
	return n, nil
}

// lacking is the SQL of the rows of the target that the delivery does not have,
// and of those among which they are; "" where the feed does not mind.
func (l *Load) lacking() (among, where string) {
	t := l.table
	if !t.wholeTable() {
		return "", ""
	}
	among = "true"
	if t.Mode == feed.ReplacePart {
		part := "t." + quote(t.Part)
		given := l.column(t.Part)
		among = "(" + part + " IN (SELECT " + given + " FROM " + l.stage + " s) OR " + part +
			" IS NULL AND EXISTS (SELECT 1 FROM " + l.stage + " s WHERE " + given + " IS NULL))"
	}
	where = among
	if t.keyed() {
		where += " AND NOT EXISTS (SELECT 1 FROM " + l.stage + " s WHERE " + l.sameKey() + ")"
	}
	if t.Absent == feed.AbsentMark {
		where += " AND t." + quote(t.Lineage.AbsentSince) + " IS NULL"
	}
	if newer := l.outranked(); newer != "" {
		where += " AND NOT " + newer
	}
	return among, where
}

func (l *Load) boundAbsent(ctx context.Context, among, where string) error {
	e := &AbsentError{AtMost: l.table.AbsentAtMost.String()}
	if err := l.s.conn.QueryRow(ctx, "SELECT count(*), count(*) FILTER (WHERE "+where+") FROM "+l.name()+" t WHERE "+
		among).Scan(&e.Rows, &e.Absent); err != nil {
		return fmt.Errorf("count what is absent: %w", err)
	}
	if !l.table.keyed() { // nobody can tell which rows are still there
		e.Absent = max(0, e.Rows-l.rows())
	}
	if l.table.AbsentAtMost.Refuse(e.Rows, e.Absent) != "" {
		return e
	}
	return nil
}

func (l *Load) markAbsent(ctx context.Context, where string) (int64, error) {
	if l.table.Journal {
		if _, err := l.s.conn.Exec(ctx, "INSERT INTO mullein.change (target, load, key, what, before) SELECT "+
			l.target()+", "+fmt.Sprint(l.nth[l.own])+", "+l.table.keyHash("t")+
			", 'm', row_to_json(t.*) FROM "+l.name()+" t WHERE "+where+" FOR UPDATE OF t"); err != nil {
			return 0, fmt.Errorf("note what is absent: %w", err)
		}
	}
	tag, err := l.s.conn.Exec(ctx, "UPDATE "+l.name()+" t SET "+quote(l.table.Lineage.AbsentSince)+" = now() WHERE "+
		where)
	if err != nil {
		return 0, fmt.Errorf("mark what is absent: %w", err)
	}
	return tag.RowsAffected(), nil
}

// writeWithoutKey appends all rows, after what goes because of the mode or is
// replaced.
func (l *Load) writeWithoutKey(ctx context.Context, from origin, replaced []int64) ([]balance.Balance, error) {
	outdated, err := l.dropOutdated(ctx)
	if err != nil {
		return nil, err
	}
	var removed int64
	if l.table.Mode == feed.Replace && outdated != nil {
		// A newer delivery is the whole table.
	} else if l.table.Mode.Replaces() {
		removed, err = l.absent(ctx)
	} else if len(replaced) > 0 {
		removed, err = l.takeBack(ctx, replaced)
		l.grown[l.own] -= removed
	}
	if err != nil {
		return nil, err
	}
	n, err := l.insert(ctx, from, l.stage+" s")
	for _, dropped := range outdated {
		n += dropped
	}
	counts, err := l.allInserted(n, err)
	if err == nil {
		counts[l.own].Removed = removed
		for part, dropped := range outdated {
			counts[part].Inserted, counts[part].Outdated = counts[part].Inserted-dropped, dropped
			l.grown[part] -= dropped
		}
	}
	return counts, err
}

// takeBack deletes the rows of arrivals from a target without a key, and keeps
// them in the journal as what those loads had inserted.
func (l *Load) takeBack(ctx context.Context, arrivals []int64) (int64, error) {
	arrival := quote(l.table.Lineage.FromArrival)
	off, err := l.loadsOf(ctx, arrivals)
	if err != nil {
		return 0, err
	}
	l.turnedOff = off
	note := ""
	if l.table.Journal {
		note = `, noted AS (INSERT INTO mullein.change (target, load, key, what, given) SELECT ` + l.target() +
			`, m.nth, row_number() OVER (), 'i', row_to_json(g.*)
			FROM gone g JOIN (SELECT arrival, max(nth) AS nth FROM mullein.load WHERE nth = ANY($2)
			GROUP BY arrival) m ON m.arrival = g.` + arrival + `)`
	} else {
		note = ", noted AS (SELECT $2::bigint[])"
	}
	var n int64
	err = l.s.conn.QueryRow(ctx, "WITH gone AS (DELETE FROM "+l.name()+" t WHERE t."+arrival+
		" = ANY($1) RETURNING t.*)"+note+" SELECT count(*) FROM gone", arrivals, off).Scan(&n)
	if err != nil {
		return 0, fmt.Errorf("take back rows: %w", err)
	}
	return n, l.switchLoads(ctx, off, nil)
}

// loadsOf returns the loads of arrivals into the target that are in force.
func (l *Load) loadsOf(ctx context.Context, arrivals []int64) ([]int64, error) {
	off := []int64{}
	err := l.s.conn.QueryRow(ctx, "SELECT coalesce(array_agg(nth ORDER BY nth), '{}') FROM mullein.load WHERE target "+
		"= $1 AND arrival = ANY($2) AND active", l.table.id, arrivals).Scan(&off)
	if err != nil {
		return nil, fmt.Errorf("look for loads: %w", err)
	}
	return off, nil
}

// switchLoads takes loads out of force and puts others back.
func (l *Load) switchLoads(ctx context.Context, off, on []int64) error {
	if _, err := l.s.conn.Exec(ctx, "UPDATE mullein.load SET active = nth = ANY($2) WHERE nth = ANY($1) OR nth = "+
		"ANY($2)", nonNil(off), nonNil(on)); err != nil {
		return fmt.Errorf("switch loads: %w", err)
	}
	return nil
}

func nonNil(list []int64) []int64 {
	if list == nil {
		return []int64{}
	}
	return list
}

// replace takes the effect of replaced arrivals out of the target, brings back
// what they had overwritten, and merges the staged rows. The counts compare the
// target before all of it with the target after it.
func (l *Load) replace(ctx context.Context, from origin, replaced []int64) ([]balance.Balance, error) {
	if err := l.exec(ctx, refoldTables); err != nil {
		return nil, err
	}
	if l.rows() >= l.few { // they are joined with the target several times
		if err := l.prepareForMany(ctx); err != nil {
			return nil, err
		}
	}
	arrival := "NULL"
	if a := l.table.Lineage.FromArrival; a != "" {
		arrival = "t." + quote(a)
	}
	if err := l.exec(ctx, "INSERT INTO pg_temp.mullein_before (sid, same, tid, key, arrival) SELECT s.ctid, NOT "+
		l.differs()+", t.ctid, "+l.keysHash()+", "+arrival+" FROM "+l.stage+" s JOIN "+l.name()+" t ON "+
		l.sameKey()); err != nil {
		return nil, err
	}
	off, err := l.loadsOf(ctx, replaced)
	if err != nil {
		return nil, err
	}
	l.turnedOff = off
	if err := l.keepEqual(ctx, from, replaced, off); err != nil {
		return nil, fmt.Errorf("look for rows that stay as they are: %w", err)
	}
	r := &refold{l: l, off: off, self: l.nth[l.own]}
	if err := r.do(ctx); err != nil {
		return nil, err
	}
	if l.late { // what was gathered of newer loads is that of before by now
		if err := l.gatherVouched(ctx, slices.Min(l.ranks), math.MaxInt64); err != nil {
			return nil, err
		}
	}
	if _, err := l.absent(ctx); err != nil {
		return nil, err
	}
	counts, classes, err := l.plan(ctx, nil, nil)
	if err != nil {
		return nil, err
	}
	if err := l.carryOut(ctx, from, classes); err != nil {
		return nil, err
	}
	if err := l.comparedWithBefore(ctx, counts); err != nil {
		return nil, err
	}
	part := max(0, slices.IndexFunc(from.parts, func(p Part) bool { return len(p.Replaces) > 0 }))
	l.grown[part] += r.grew
	return counts, l.countRemoved(ctx, &counts[part], counts)
}

// keepEqual leaves rows alone that replaced arrivals wrote last, and that are staged again
// as they are, unless another load has something to say about them. What those arrivals had
// overwritten is now what the load has. It names rows of other arrivals after its own.
func (l *Load) keepEqual(ctx context.Context, from origin, replaced, off []int64) error {
	t := l.table
	if t.Lineage.RowDigest == "" || len(t.Merge) > 0 || t.wholeTable() || l.several() {
		return nil
	}
	if len(off) == 0 {
		return nil
	}
	var reread, listed, odd bool
	of := l.oddEntries(off)
	if err := l.s.conn.QueryRow(ctx, "SELECT EXISTS (SELECT 1 FROM pg_temp.mullein_reread), EXISTS (SELECT 1 FROM "+
		"pg_temp.mullein_key), EXISTS ("+of+")",
		off, replaced).Scan(&reread, &listed, &odd); err != nil {
		return err
	}
	which := "arrival = ANY($2) AND $1::bigint[] IS NOT NULL AND same"
	if reread {
		which += " AND NOT key IN (SELECT key FROM pg_temp.mullein_reread)"
	}
	if odd {
		which += " AND NOT key IN (" + of + ")"
	}
	tag, err := l.s.conn.Exec(ctx, "INSERT INTO pg_temp.mullein_kept SELECT key, sid, tid FROM pg_temp.mullein_before WHERE "+
		which, off, replaced)
	if l.kept = tag.RowsAffected(); err != nil || l.kept == 0 {
		return err
	}
	if listed {
		if err := l.exec(ctx, "DELETE FROM pg_temp.mullein_key WHERE key IN (SELECT key FROM "+
			"pg_temp.mullein_kept)"); err != nil {
			return err
		}
	}
	if _, others := from.replaced(); len(others) > 0 {
		return l.takeOver(ctx, from, off)
	}
	// An earlier generation of the same arrival never comes back.
	_, err = l.s.conn.Exec(ctx, "UPDATE mullein.change SET load = $1 WHERE load = ANY($2) AND key IN (SELECT key FROM "+
		"pg_temp.mullein_kept)",
		l.nth[l.own], off)
	return err
}

// oddEntries is the SQL of the keys of entries that are no mere changes of the loads $1 of
// arrivals $2, and of those of others that hold what the loads wrote, as a deletion that was
// recalled does.
func (l *Load) oddEntries(off []int64) string {
	return "SELECT c.key FROM mullein.change c WHERE c.load = ANY($1) AND NOT c.what IN ('u', 'i') UNION ALL SELECT " +
		"c.key FROM mullein.change c WHERE c." + entriesSince(l.table.id, slices.Min(off)+1) + " AND (c.before->>" +
		literal(l.table.Lineage.FromArrival) + ")::bigint = ANY($2)"
}

// takeOver makes rows that are kept those of the load, and keeps in the journal what the
// loads that go had made of them, since those come back when this one is recalled.
func (l *Load) takeOver(ctx context.Context, from origin, off []int64) error {
	t := l.table
	arrival := "t." + quote(t.Lineage.FromArrival)
	kept := "pg_temp.mullein_kept k JOIN " + l.stage + " s ON s.ctid = k.sid JOIN " + l.name() + " t ON " +
		l.sameRow("k")
	for _, statement := range []string{
		`INSERT INTO mullein.change (target, load, key, what, before) SELECT target, ` + fmt.Sprint(l.nth[l.own]) +
			`, key, 'u', before
			FROM mullein.change WHERE load = ANY($1) AND what IN ('u', 'i') AND before IS NOT NULL
			AND key IN (SELECT key FROM pg_temp.mullein_kept)`,
		`UPDATE mullein.change c SET given = row_to_json(t.*) FROM ` + kept + ` WHERE c.load = ANY($1)
			AND c.key = k.key`,
		`INSERT INTO mullein.change (target, load, key, what, given)
			SELECT ` + l.target() + `, (SELECT max(m.nth) FROM mullein.load m WHERE m.nth = ANY($1)
			AND m.arrival = ` + arrival + `), k.key, 'i', row_to_json(t.*)
			FROM ` + kept + ` WHERE NOT EXISTS (SELECT 1 FROM mullein.change c WHERE c.load = ANY($1)
			AND c.key = k.key)`,
	} {
		if _, err := l.s.conn.Exec(ctx, statement, off); err != nil {
			return err
		}
	}
	columns, values, args := l.written(from)
	var sets []string
	for i := len(t.Own); i < len(columns); i++ {
		sets = append(sets, columns[i]+" = "+values[i])
	}
	tag, err := l.s.conn.Exec(ctx, "UPDATE "+l.name()+" t SET "+join(sets)+" FROM pg_temp.mullein_kept k JOIN "+l.stage+
		" s ON s.ctid = k.sid WHERE "+l.sameRow("k"), args...)
	if err != nil || tag.RowsAffected() != l.kept {
		return orMoved(err)
	}
	return nil
}

// countRemoved finds out how many rows of the target went with what was
// replaced: by so many did it grow less than by the rows inserted and deleted.
func (l *Load) countRemoved(ctx context.Context, c *balance.Balance, counts []balance.Balance) error {
	var deleted int64
	if err := l.s.conn.QueryRow(ctx, "SELECT count(*) FROM pg_temp.mullein_plan p JOIN pg_temp.mullein_before b ON "+
		"b.sid = p.sid WHERE p.class = 'd'").Scan(&deleted); err != nil {
		return err
	}
	c.Removed = -deleted
	for part := range counts {
		c.Removed += counts[part].Inserted - l.grown[part]
	}
	return nil
}

// comparedWithBefore counts rows that were written as updated or unchanged
// where the target held their key before what was replaced went.
func (l *Load) comparedWithBefore(ctx context.Context, counts []balance.Balance) error {
	rows, err := l.s.conn.Query(ctx, "SELECT p.class, s.place >> "+shift+
		", b.same, count(*) FROM pg_temp.mullein_plan p JOIN "+l.stage+
		" s ON s.ctid = p.sid JOIN pg_temp.mullein_before b ON b.sid = p.sid WHERE p.class IN ('i', 'u') GROUP BY 1, "+
		"2, 3")
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var class string
		var part, n int64
		var same bool
		if err := rows.Scan(&class, &part, &same, &n); err != nil {
			return err
		}
		c := &counts[part]
		if class == "i" {
			c.Inserted -= n
		} else {
			c.Updated -= n
		}
		if same {
			c.Unchanged += n
		} else {
			c.Updated += n
		}
	}
	return rows.Err()
}

// Prune drops up to most entries of the journals of feeds, of loads that were
// committed before the time that each is kept since, and returns how many. Loads
// whose journal is gone can no longer be recalled.
func (d *Database) Prune(ctx context.Context, since map[string]time.Time, most int) (n int64, err error) {
	text, err := json.Marshal(since)
	if err != nil {
		return 0, err
	}
	const of = `jsonb_each_text($1::jsonb) f JOIN mullein.load l ON l.feed = f.key AND l.journal
		AND l.committed_at < f.value::timestamptz`
	err = pgx.BeginFunc(ctx, d.pool, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, `DELETE FROM mullein.change c WHERE c.ctid = ANY(ARRAY(SELECT c.ctid FROM `+of+
			` JOIN mullein.change c ON c.load = l.nth LIMIT $2))`, string(text), most)
		if err != nil {
			return err
		}
		if n = tag.RowsAffected(); n < int64(most) {
			_, err = tx.Exec(ctx, `UPDATE mullein.load SET journal = false WHERE nth IN (SELECT l.nth FROM `+of+`)`,
				string(text))
		}
		return err
	})
	if err != nil {
		return 0, fmt.Errorf("prune journals: %w", err)
	}
	return n, nil
}

// DropMarkers drops up to most markers of loads that were committed before a time, are
// not in force, and have no journal any more: nothing can bring them back into force.
// It returns how many. Markers of loads in force stay for ever: they are why nothing
// is loaded twice.
func (d *Database) DropMarkers(ctx context.Context, before time.Time, most int) (int64, error) {
	tag, err := d.pool.Exec(ctx, `WITH old AS (DELETE FROM mullein.load WHERE nth IN (
			SELECT nth FROM mullein.load WHERE NOT active AND NOT journal AND committed_at < $1 ORDER BY committed_at
			LIMIT $2) RETURNING nth),
		keys AS (DELETE FROM mullein.remembered WHERE load IN (SELECT nth FROM old)),
		same AS (DELETE FROM mullein.confirmed WHERE load IN (SELECT nth FROM old))
		SELECT FROM old`, before, most)
	if err != nil {
		return 0, fmt.Errorf("drop old markers: %w", err)
	}
	return tag.RowsAffected(), nil
}
