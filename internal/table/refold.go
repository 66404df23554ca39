package table

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"mullein/internal/core/feed"
)

// refold takes loads out of force, or puts them back, as if they had never
// been there or had never gone: for each key that they touched, the entries of
// the journal from the first of those loads on are gone through anew, from what
// the row was before it, and the target's row becomes what comes out.
//
// It first works in temporary tables only (work) and then writes (apply), so
// that a preview is the same work without the writing.
type refold struct {
	l       *Load
	off, on []int64 // loads, by place
	self    int64   // the place of the load or recall that does it
	undoing bool    // what is done is listed in mullein_undo

	grew int64 // by how many rows the target grows
}

func (r *refold) do(ctx context.Context) error {
	if len(r.off)+len(r.on) == 0 {
		return nil
	}
	if err := r.keys(ctx); err != nil {
		return err
	}
	if err := r.work(ctx); err != nil {
		return err
	}
	return r.apply(ctx)
}

// refoldTables belong to sessions that need them: each commit of a session
// empties its tables, which costs.
const refoldTables = `
CREATE TEMPORARY TABLE IF NOT EXISTS mullein_before (sid tid NOT NULL, same boolean NOT NULL, tid tid NOT NULL,
key bigint NOT NULL, arrival bigint) ON COMMIT DELETE ROWS;
CREATE TEMPORARY TABLE IF NOT EXISTS mullein_kept (key bigint NOT NULL, sid tid NOT NULL,
tid tid NOT NULL) ON COMMIT DELETE ROWS;
CREATE TEMPORARY TABLE IF NOT EXISTS mullein_key (key bigint PRIMARY KEY, image json) ON COMMIT DELETE ROWS;
CREATE TEMPORARY TABLE IF NOT EXISTS mullein_was (key bigint PRIMARY KEY, image json,
foreign_hand boolean, part oid, place tid) ON COMMIT DELETE ROWS;
CREATE TEMPORARY TABLE IF NOT EXISTS mullein_reread (key bigint, load bigint, what "char", given json,
PRIMARY KEY (key, load)) ON COMMIT DELETE ROWS;
CREATE TEMPORARY TABLE IF NOT EXISTS mullein_reread_whole (load bigint PRIMARY KEY,
parts bigint[]) ON COMMIT DELETE ROWS;
CREATE TEMPORARY TABLE IF NOT EXISTS mullein_event (key bigint, nth bigint, load bigint, what "char", before json,
given json, active boolean, entry tid, rank bigint, PRIMARY KEY (key, nth)) ON COMMIT DELETE ROWS;
CREATE TEMPORARY TABLE IF NOT EXISTS mullein_unchanged (load bigint NOT NULL,
key bigint NOT NULL) ON COMMIT DELETE ROWS;
CREATE TEMPORARY TABLE IF NOT EXISTS mullein_undo (key bigint NOT NULL, part oid, place tid, entry tid,
what "char") ON COMMIT DELETE ROWS;
CREATE TEMPORARY TABLE IF NOT EXISTS mullein_state (key bigint PRIMARY KEY, image json, rank bigint,
deletion json) ON COMMIT DELETE ROWS;
`

func (r *refold) exec(ctx context.Context, what, statement string, args ...any) error {
	if _, err := r.l.s.conn.Exec(ctx, statement, args...); err != nil {
		return fmt.Errorf("%s: %w", what, err)
	}
	return nil
}

func (r *refold) first() int64 { return slices.Min(append(slices.Clone(r.off), r.on...)) }

// since is the condition on an entry of the journal that it is not of before the first of
// the loads.
func (r *refold) since() string { return entriesSince(r.l.table.id, r.first(), r.self) }

// keys finds the keys that the loads touched: those with an entry of them, and
// those that they inserted, which stand in the target still or in a later entry
// as what was before.
func (r *refold) keys(ctx context.Context) error {
	l, t := r.l, r.l.table
	if !l.readOnly {
		if err := l.exec(ctx, refoldTables); err != nil {
			return fmt.Errorf("make the tables of a recall: %w", err)
		}
	}
	if err := l.exec(ctx, "SET LOCAL work_mem = '128MB'"); err != nil {
		return err
	}
	arrival := t.Lineage.FromArrival
	arrivals, err := r.arrivals(ctx)
	if err != nil {
		return err
	}
	replaced, err := l.way.replacedRows(ctx)
	if err != nil {
		return err
	}
	every := ""
	if len(r.on) > 0 && t.wholeTable() {
		// What comes back may lack rows that were not there when it was loaded.
		every = " UNION ALL SELECT " + t.keyHash("t") + ", row_to_json(t.*) FROM " + l.name() +
			" t UNION ALL SELECT key, coalesce(before, given) FROM mullein.change WHERE " + r.since()
	} else if t.ordered() && (t.Deletes || t.wholeTable()) {
		// Rows that lost may have lost to what goes, which lacks them or deletes their keys.
		every = " UNION ALL SELECT key, given FROM mullein.change WHERE what = 'x' AND load > $3 AND " + r.since()
	}
	return r.exec(ctx, "find the keys of a load", `INSERT INTO pg_temp.mullein_key (key, image)
		SELECT DISTINCT ON (key) key, image FROM (
			SELECT key, coalesce(before, given) AS image FROM mullein.change WHERE target = $1 AND load = ANY($2)
			AND NOT key IN (SELECT key FROM pg_temp.mullein_kept)
			UNION ALL SELECT `+t.keyHash("t")+`, row_to_json(t.*) FROM `+l.name()+` t
			WHERE t.`+quote(arrival)+` = ANY($4)`+replaced+`
			AND NOT `+t.keyHash("t")+` IN (SELECT key FROM pg_temp.mullein_kept)
			UNION ALL SELECT key, before FROM mullein.change WHERE `+r.since()+` AND load > $3
			AND (before->>`+literal(arrival)+`)::bigint = ANY($4)`+every+`
			OFFSET 0) k WHERE image IS NOT NULL ORDER BY key ON CONFLICT DO NOTHING`,
		t.id, append(slices.Clone(r.off), r.on...), r.first(), arrivals)
}

// touched returns the SQL that reports whether the loads touched the key of a staged row,
// for when their keys are not listed.
func (r *refold) touched(ctx context.Context) (string, error) {
	l, t := r.l, r.l.table
	arrivals, err := r.arrivals(ctx)
	if err != nil {
		return "", err
	}
	of := "'{" + join(texts(arrivals)) + "}'::bigint[]"
	entry := "c.load = ANY('{" + join(texts(r.off)) + "}'::bigint[]) OR c.load > " + fmt.Sprint(r.first()) +
		" AND (c.before->>" +
		literal(t.Lineage.FromArrival) + ")::bigint = ANY(" + of + ")"
	return "(EXISTS (SELECT 1 FROM " + l.name() + " t WHERE " + l.sameKey() + " AND t." +
		quote(t.Lineage.FromArrival) + " = ANY(" + of +
		")) OR EXISTS (SELECT 1 FROM mullein.change c WHERE c.key = " + l.keysHash() + " AND c." + r.since() +
		" AND (" + entry + ")))", nil
}

// arrivals returns the arrivals of the loads that go out of force. What those
// that come back had inserted is in the journal already.
func (r *refold) arrivals(ctx context.Context) (out []int64, err error) {
	err = r.l.s.conn.QueryRow(ctx, "SELECT coalesce(array_agg(arrival), '{}') FROM mullein.load WHERE nth = ANY($1)",
		nonNil(r.off)).Scan(&out)
	if err != nil {
		return nil, fmt.Errorf("look for the arrivals of loads: %w", err)
	}
	return out, nil
}

// work goes through the entries of the keys, in temporary tables.
func (r *refold) work(ctx context.Context) error {
	if err := r.l.exec(ctx, "DELETE FROM pg_temp.mullein_was; DELETE FROM pg_temp.mullein_event; DELETE FROM "+
		"pg_temp.mullein_state; DELETE FROM pg_temp.mullein_unchanged; ANALYZE pg_temp.mullein_key"); err != nil {
		return err
	}
	if err := r.lacked(ctx); err != nil {
		return err
	}
	if err := r.look(ctx); err != nil {
		return err
	}
	if err := r.events(ctx); err != nil {
		return err
	}
	if err := r.begin(ctx); err != nil {
		return err
	}
	var rounds int64
	if err := r.l.s.conn.QueryRow(ctx,
		"SELECT coalesce(max(nth), 0) FROM pg_temp.mullein_event").Scan(&rounds); err != nil {
		return err
	}
	step, err := r.stepFor(ctx)
	if err != nil {
		return err
	}
	for nth := int64(2); nth <= rounds; nth++ { // the first is what was before
		if err := r.exec(ctx, "keep what is before an entry",
			`UPDATE pg_temp.mullein_event e SET before = s.image FROM pg_temp.mullein_state s WHERE s.key = e.key
				AND e.nth = $1`, nth); err != nil {
			return err
		}
		if err := r.exec(ctx, "go through an entry", step, nth); err != nil {
			return err
		}
		if err := r.tellOutdated(ctx, nth); err != nil {
			return err
		}
		if err := r.unchanged(ctx, nth); err != nil {
			return err
		}
	}
	return nil
}

// unchanged notes which rows of older loads an entry leaves as they are. They may go by a
// later entry, and come back when that goes.
func (r *refold) unchanged(ctx context.Context, nth int64) error {
	if !r.l.table.Ranked {
		return nil
	}
	return r.exec(ctx, "note what is unchanged", `INSERT INTO pg_temp.mullein_unchanged (load, key) SELECT e.load, e.key
		FROM pg_temp.mullein_event e JOIN pg_temp.mullein_state s ON s.key = e.key AND s.rank = e.rank
		WHERE e.nth = $2 AND e.active AND e.what IN ('u', 'i') AND s.image IS NOT NULL
			AND e.rank > coalesce((SELECT max(m.rank) FROM mullein.load m WHERE m.target = $1
			AND m.arrival = (s.image->>`+
		literal(r.l.table.Lineage.FromArrival)+`)::bigint), e.rank)`, r.l.table.id, nth)
}

// tellOutdated tells deletions and rows that had an effect from those that were older
// than what is there.
func (r *refold) tellOutdated(ctx context.Context, nth int64) error {
	if t := r.l.table; !t.Deletes && !t.Ranked {
		return nil
	}
	err := r.exec(ctx, "tell deletions from outdated ones",
		`UPDATE pg_temp.mullein_event e SET what = CASE WHEN s.image IS NULL THEN 'd' ELSE 'o' END
		FROM pg_temp.mullein_state s WHERE s.key = e.key AND e.nth = $1 AND e.active AND e.what IN ('d', 'o')
		AND e.before IS NOT NULL`, nth)
	if err != nil {
		return err
	}
	return r.exec(ctx, "tell rows from outdated ones",
		`UPDATE pg_temp.mullein_event e SET what = CASE WHEN e.before IS NULL AND s.image IS NULL THEN 'x' ELSE 'u' END
		FROM pg_temp.mullein_state s WHERE s.key = e.key AND e.nth = $1 AND e.active
			AND (e.what = 'x' OR e.what IN ('u', 'i') AND e.before IS NULL AND s.image IS NULL)`, nth)
}

// begin begins with what each row was before the first of the loads, and with its place
// in the order of them.
func (r *refold) begin(ctx context.Context) error {
	l, t := r.l, r.l.table
	rank, deletion := "NULL::bigint", "NULL::json"
	const remembered = "mullein.remembered d JOIN mullein.load m ON m.nth = d.load AND m.active WHERE d.target = $1 " +
		"AND d.what = 'd' AND d.key = e.key AND m.nth < $2"
	if t.Ranked {
		if !l.readOnly {
			if err := l.exec(ctx, lateTables); err != nil {
				return fmt.Errorf("make the tables of a recall: %w", err)
			}
		}
		if err := l.gatherVouched(ctx, Unranked, r.first()); err != nil {
			return err
		}
		arrival := "(e.before->>" + literal(t.Lineage.FromArrival) + ")::bigint"
		whole := "(SELECT max(m.rank) FROM mullein.load m WHERE m.target = $1 AND m.active AND m.whole AND m.nth < $2)"
		dead := []string{"(SELECT max(m.rank) FROM " + remembered + ")"}
		switch {
		case t.Mode == feed.ReplacePart:
			dead = append(dead, "(SELECT max(m.rank) FROM pg_temp.mullein_key k CROSS JOIN LATERAL "+
				"json_populate_record(NULL::"+l.name()+
				", k.image) g JOIN mullein.remembered d ON d.target = $1 AND d.what = 'p' AND d.key = "+
				"hash_record_extended(ROW(g."+quote(t.Part)+
				"), 0) JOIN mullein.load m ON m.nth = d.load AND m.active AND m.nth < $2 WHERE k.key = e.key)")
		case t.wholeTable():
			dead = append(dead, whole)
		}
		marked := ""
		if a := t.Lineage.AbsentSince; a != "" {
			marked = ", CASE WHEN e.before->>" + literal(a) + " IS NOT NULL THEN " + whole + " END"
		}
		rank = "CASE WHEN e.before IS NULL THEN greatest(" + join(dead) + ") ELSE greatest((SELECT max(m.rank) FROM " +
			"mullein.load m WHERE m.target = $1 AND m.arrival = " +
			arrival + " AND m.nth < $2), " + l.vouchedFor("e.key", arrival) + marked + ") END"
	}
	if t.Deletes && t.Newest != "" {
		newest := "d.newest::" + t.types[t.Newest]
		deletion = "(SELECT json_build_object(" + literal(t.Newest) + ", d.newest) FROM " + remembered +
			" ORDER BY " + newest + " DESC NULLS LAST LIMIT 1)"
	}
	return r.exec(ctx, "begin with what was before", `INSERT INTO pg_temp.mullein_state (key, image, rank, deletion)
		SELECT e.key, e.before, `+rank+`, `+deletion+` FROM pg_temp.mullein_event e WHERE e.nth = 1 AND $1 > 0
		AND $2::bigint > 0`, t.id, r.first())
}

// writersOf is the SQL of the transactions that wrote to the target $1, and those of $2.
const writersOf = `SELECT DISTINCT unnest(writers) AS writer FROM (SELECT writers FROM mullein.load WHERE target = $1
	UNION ALL SELECT writers FROM mullein.recall WHERE target = $1 UNION ALL SELECT writers FROM mullein.target
	WHERE id = $1 UNION ALL SELECT $2::bigint[]) w`

// look reads the rows of the keys as they are now, and which of them somebody
// else has written: their transaction is none of ours.
func (r *refold) look(ctx context.Context) error {
	l, t := r.l, r.l.table
	return r.exec(ctx, "look at the rows", `WITH ours AS MATERIALIZED (`+writersOf+`)
		INSERT INTO pg_temp.mullein_was (key, image, foreign_hand, part, place)
		SELECT k.key, row_to_json(t.*), t.xmin::text::bigint NOT IN (SELECT writer FROM ours), t.tableoid, t.ctid
		FROM pg_temp.mullein_key k CROSS JOIN LATERAL (SELECT `+t.keyOf("k.image")+`) g
		JOIN `+l.name()+` t ON `+t.sameRow("t", "g"), t.id, nonNil(l.writers))
}

// keyOf is the SQL of the columns of the key of an image.
func (t *Fitted) keyOf(image string) string {
	columns := make([]string, len(t.Key))
	for i, k := range t.Key {
		columns[i] = "(" + image + "->>" + literal(k) + ")::" + t.types[k] + " AS " + quote(k)
	}
	return join(columns)
}

// lacked notes which of the keys the whole-table deliveries lack whose files were read
// again.
func (r *refold) lacked(ctx context.Context) error {
	t := r.l.table
	if !t.wholeTable() {
		return nil
	}
	what, among := "d", ""
	switch {
	case t.Absent == feed.AbsentMark:
		what = "m"
	case t.Mode == feed.ReplacePart:
		among = " CROSS JOIN LATERAL json_populate_record(NULL::" + r.l.name() +
			", k.image) g WHERE hash_record_extended(ROW(g." + quote(t.Part) + "), 0) = ANY(w.parts)"
	}
	return r.exec(ctx, "note what whole-table deliveries lack",
		"INSERT INTO pg_temp.mullein_reread (key, load, what) SELECT k.key, w.load, '"+
			what+"' FROM pg_temp.mullein_reread_whole w CROSS JOIN pg_temp.mullein_key k"+among+" ON CONFLICT DO NOTHING")
}

// events lists what happened to each key from the first of the loads on: first
// what the row was before (b), then the entries of the journal, the insertions that have no entry, what was read anew
// from files, and the changes of others that a recall finds.
func (r *refold) events(ctx context.Context) error {
	arrival := literal(r.l.table.Lineage.FromArrival)
	const last = "9223372036854775807"
	return r.exec(ctx, "list what happened to the keys", `WITH entry AS (
			SELECT c.key, c.load, c.what, c.before, c.given, coalesce(m.active, true) AS active, c.ctid AS entry
			FROM pg_temp.mullein_key k JOIN mullein.change c ON c.key = k.key AND c.`+r.since()+`
			LEFT JOIN mullein.load m ON m.nth = c.load
			WHERE NOT EXISTS (SELECT 1 FROM mullein.recall u JOIN mullein.recall v ON u.nth = ANY(v.turned_off)
			WHERE u.nth = c.load)
			UNION ALL SELECT k.key, `+last+`, 'z', w.image, NULL, true, NULL FROM pg_temp.mullein_key k
			LEFT JOIN pg_temp.mullein_was w USING (key)
		), told AS (
			SELECT *, lag(load) OVER w IS NULL AS is_first, lead(before) OVER w AS next,
				CASE WHEN lag(active) OVER w THEN lag(CASE what WHEN 'd' THEN true WHEN 'h' THEN given IS NULL
				WHEN 'm' THEN before IS NULL WHEN 'o' THEN before IS NULL WHEN 'x' THEN before IS NULL ELSE false
				END) OVER w ELSE lag(before IS NULL) OVER w END AS was_none
			FROM entry WINDOW w AS (PARTITION BY key ORDER BY load, what <> 'h')
		), inserted AS (
			SELECT t.key, (SELECT max(m.nth) FROM mullein.load m WHERE m.target = $1
			AND m.arrival = (t.before->>`+arrival+`)::bigint AND m.nth < t.load) AS load, t.before AS given, t.is_first
			FROM told t WHERE t.before IS NOT NULL AND (t.is_first OR t.was_none)
		), event AS (
			SELECT key, load, what, before, CASE WHEN given IS NULL AND what = 'u' THEN next ELSE given
			END AS given, active, entry FROM told WHERE what <> 'z'
			UNION ALL SELECT t.key, 0, 'b', CASE WHEN EXISTS (SELECT 1 FROM inserted i WHERE i.key = t.key
			AND i.is_first AND i.load >= $2) THEN NULL ELSE t.before END, NULL, false, NULL FROM told t WHERE t.is_first
			UNION ALL SELECT i.key, i.load, 'i', NULL, i.given, m.active, NULL FROM inserted i
			JOIN mullein.load m ON m.nth = i.load WHERE i.load >= $2 OR NOT i.is_first
			UNION ALL SELECT a.key, a.load, a.what, NULL, a.given, true, NULL FROM pg_temp.mullein_reread a
			JOIN pg_temp.mullein_key k ON k.key = a.key WHERE NOT EXISTS (SELECT 1 FROM told t WHERE t.key = a.key
			AND t.load = a.load) AND NOT EXISTS (SELECT 1 FROM inserted i WHERE i.key = a.key AND i.load = a.load)
			UNION ALL SELECT w.key, $3, 'h', NULL, w.image, true, NULL FROM pg_temp.mullein_was w WHERE w.foreign_hand
			UNION ALL SELECT t.key, $3, 'h', NULL, NULL, true, NULL FROM told t WHERE t.what = 'z'
			AND t.before IS NULL AND NOT t.is_first AND NOT t.was_none
		)
		INSERT INTO pg_temp.mullein_event (key, nth, load, what, before, given, active, entry, rank)
		SELECT e.key, row_number() OVER (PARTITION BY e.key ORDER BY e.load, e.what <> 'h'), e.load, e.what, e.before,
		e.given,
			e.active AND NOT e.load = ANY($4) OR e.load = ANY($5), e.entry, (SELECT m.rank FROM mullein.load m
			WHERE m.nth = e.load) FROM event e`,
		r.l.table.id, r.first(), r.self, nonNil(r.off), nonNil(r.on))
}

// stepFor returns the statement that applies one entry of each key to its state: a short one
// where an entry makes of a row what it gives, or leaves it.
func (r *refold) stepFor(ctx context.Context) (string, error) {
	t := r.l.table
	ours := func(name string) bool {
		return slices.ContainsFunc(t.Columns, func(c Column) bool { return c.Name == name })
	}
	digest := t.Lineage.RowDigest
	if t.Mode != feed.Upsert || len(t.Merge) > 0 || t.Newest != "" || digest == "" || t.Lineage.AbsentSince != "" ||
		slices.ContainsFunc(t.has, func(name string) bool { return !ours(name) }) {
		return r.step(), nil
	}
	// What was read anew has its columns in another order, and the digest of a row that
	// somebody changed is not its own.
	var odd bool
	err := r.l.s.conn.QueryRow(ctx, "SELECT EXISTS (SELECT 1 FROM pg_temp.mullein_reread)"+
		" OR EXISTS (SELECT 1 FROM pg_temp.mullein_event WHERE what = 'h')").Scan(&odd)
	if err != nil || odd {
		return r.step(), err
	}
	outranked := "false"
	if t.Ranked {
		outranked = "coalesce(s.rank > e.rank, false)"
	}
	return `UPDATE pg_temp.mullein_state st SET image = n.image, rank = n.rank FROM (
		SELECT e.key, CASE WHEN e.what IN ('d', 'o') THEN CASE WHEN ` + outranked + ` THEN s.image END
				WHEN e.what = 'm' THEN s.image WHEN s.image IS NULL AND ` + outranked + ` THEN NULL
				WHEN s.image IS NULL THEN e.given
				WHEN ` + outranked + ` OR s.image->>` + literal(digest) + ` = e.given->>` + literal(digest) + ` THEN s.image
				ELSE e.given END AS image, greatest(s.rank, e.rank) AS rank
		FROM pg_temp.mullein_event e JOIN pg_temp.mullein_state s ON s.key = e.key
		WHERE e.nth = $1 AND e.active) n WHERE st.key = n.key`, nil
}

// step is the statement that applies one entry of each key to its state.
func (r *refold) step() string {
	l, t := r.l, r.l.table
	name := l.name()
	columns, same := r.written()
	outranked, keeps := "false", strings.Join(append(same, "true"), " AND ")
	if t.Ranked {
		outranked = "coalesce(s.rank > e.rank, false)"
		keeps = "(" + keeps + ") OR " + outranked
	}
	older, dead := outranked, outranked
	if t.Newest != "" && !t.Mode.Replaces() {
		over := func(o string) string {
			o, g := o+"."+quote(t.Newest), "g."+quote(t.Newest)
			return "(" + o + " IS NOT NULL AND (" + g + " IS NULL OR " + g + " < " + o + "))"
		}
		older, dead = over("o"), "s.deletion IS NOT NULL AND "+over("d")
		keeps = "(" + keeps + ") OR " + older
	}
	if t.Mode == feed.AddMissing {
		keeps = "true"
	}
	mark, given, buried := "s.image", "e.given", "NULL"
	if a := t.Lineage.AbsentSince; a != "" {
		const since = "coalesce((SELECT committed_at FROM mullein.load m WHERE m.nth = e.load), now())"
		mark = "CASE WHEN s.image IS NOT NULL AND NOT " + outranked + " THEN " +
			r.marked("o", "coalesce(o."+quote(a)+", "+since+")") + " ELSE s.image END"
		given = r.marked("g", "NULL::timestamptz") // it may have been marked when it was written
		buried = r.marked("g", "coalesce(g."+quote(a)+", "+since+")")
	}
	deletion := "s.deletion"
	if t.Deletes && t.Newest != "" {
		deletion = "CASE WHEN e.what IN ('d', 'o') AND e.given IS NOT NULL AND NOT (" + dead +
			") THEN e.given ELSE s.deletion END"
	}
	deletes := "e.given IS NOT NULL AND " + older
	if t.Ranked {
		deletes = older
	}
	return `UPDATE pg_temp.mullein_state st SET image = n.image, rank = n.rank, deletion = n.deletion FROM (
		SELECT e.key, CASE WHEN e.what = 'h' THEN e.given WHEN e.what IN ('d', 'o') THEN CASE WHEN ` + deletes +
		` THEN s.image END WHEN e.what = 'm' THEN ` + mark + `
				WHEN s.image IS NULL AND ` + dead + ` THEN ` + buried + ` WHEN s.image IS NULL THEN ` + given +
		` WHEN ` + keeps + ` THEN s.image
				ELSE (SELECT row_to_json(x.*) FROM (SELECT ` + strings.Join(columns, ", ") +
		`) x) END AS image, greatest(s.rank, e.rank) AS rank, ` + deletion + ` AS deletion
		FROM pg_temp.mullein_event e JOIN pg_temp.mullein_state s ON s.key = e.key
			CROSS JOIN LATERAL json_populate_record(NULL::` + name + `, s.image) o
			CROSS JOIN LATERAL json_populate_record(NULL::` + name + `, e.given) g
			CROSS JOIN LATERAL json_populate_record(NULL::` + name + `, s.deletion) d
		WHERE e.nth = $1 AND e.active) n WHERE st.key = n.key`
}

// written is the SQL of the columns of a row o that an entry's row g is written over, and of
// what must hold for it to stay as it is.
func (r *refold) written() (columns, same []string) {
	t := r.l.table
	own := map[string]string{}
	for _, c := range t.Own {
		if slices.Contains(t.Key, c.Name) {
			continue
		}
		old, now := "o."+quote(c.Name), "g."+quote(c.Name)
		own[c.Name] = merged(t.Merge[c.Name], old, now)
		same = append(same, "NOT ("+distinct(c.Kind, old, own[c.Name])+")")
	}
	if a := t.Lineage.AbsentSince; a != "" {
		same = append(same, "o."+quote(a)+" IS NULL")
	}
	for _, name := range t.has {
		value := "o." + quote(name)
		if v, ours := own[name]; ours {
			value = v
		} else if name == t.Lineage.AbsentSince {
			value = "NULL::timestamptz"
		} else if slices.ContainsFunc(t.Columns[len(t.Own):], func(c Column) bool { return c.Name == name }) {
			value = "g." + quote(name)
		}
		columns = append(columns, value+" AS "+quote(name))
	}
	return columns, same
}

// confirm keeps which of the keys newer loads leave unchanged now: see
// [Load.confirm].
func (r *refold) confirm(ctx context.Context) error {
	if !r.l.table.Ranked {
		return nil
	}
	// A load of which the keys are kept that it did not have, says nothing of those that
	// were not in the target then, and may be now.
	if err := r.exec(ctx, "keep which keys are not unchanged", `UPDATE mullein.confirmed c
		SET keys = ARRAY(SELECT unnest(c.keys) UNION SELECT k.key FROM pg_temp.mullein_key k
			WHERE NOT EXISTS (SELECT 1 FROM pg_temp.mullein_event e WHERE e.key = k.key AND e.load = c.load
			AND e.active AND e.what IN ('u', 'i')))
		WHERE c.target = $1 AND c.others AND c.load >= $2`, r.l.table.id, r.first()); err != nil {
		return err
	}
	return r.exec(ctx, "keep which keys are unchanged", `INSERT INTO mullein.confirmed (load, target, others, keys)
		SELECT load, $1, false, array_agg(key) FROM pg_temp.mullein_unchanged GROUP BY load`, r.l.table.id)
}

// marked is the SQL of a row, which an entry e has as a record, marked as absent since a
// time.
func (r *refold) marked(row, since string) string {
	var marked []string
	for _, name := range r.l.table.has {
		value := row + "." + quote(name)
		if name == r.l.table.Lineage.AbsentSince {
			value = since
		}
		marked = append(marked, value+" AS "+quote(name))
	}
	return "(SELECT row_to_json(x.*) FROM (SELECT " + strings.Join(marked, ", ") + ") x)"
}

// apply writes what came out into the journal and the target.
func (r *refold) apply(ctx context.Context) error {
	l, t := r.l, r.l.table
	if err := l.switchLoads(ctx, r.off, r.on); err != nil {
		return err
	}
	if err := r.exec(ctx, "correct the journal", `UPDATE mullein.change c
		SET what = e.what, before = e.before, given = e.given FROM pg_temp.mullein_event e
		WHERE c.ctid = e.entry AND (c.before::text IS DISTINCT FROM e.before::text
		OR c.given::text IS DISTINCT FROM e.given::text OR c.what <> e.what)`); err != nil {
		return err
	}
	if err := r.exec(ctx, "write the journal", `INSERT INTO mullein.change (target, load, key, what, before, given)
		SELECT $1, load, key, what, before, given FROM pg_temp.mullein_event WHERE entry IS NULL AND what <> 'b'
		AND NOT (what IN ('d', 'm') AND before IS NULL)`, t.id); err != nil {
		return err
	}
	if err := r.confirm(ctx); err != nil {
		return err
	}
	name := l.name()
	now := "CROSS JOIN LATERAL json_populate_record(NULL::" + name + ", s.image) n"
	var columns, values, sets []string
	for _, c := range t.writable {
		columns = append(columns, quote(c))
		values = append(values, "n."+quote(c))
		sets = append(sets, quote(c)+" = n."+quote(c))
	}
	gone, err := r.write(ctx, "s.image IS NULL", "DELETE FROM "+name+" t USING changed w WHERE "+rowAt("w"))
	if err != nil {
		return err
	}
	if _, err := r.write(ctx, "s.image::text <> w.image::text", "UPDATE "+name+" t SET "+strings.Join(sets, ", ")+
		" FROM changed w CROSS JOIN LATERAL json_populate_record(NULL::"+name+", w.image) n WHERE "+rowAt("w")); err != nil {
		return err
	}
	tag, err := l.s.conn.Exec(ctx, "INSERT INTO "+name+" ("+strings.Join(columns, ", ")+") SELECT "+
		strings.Join(values, ", ")+" FROM pg_temp.mullein_state s "+now+
		" WHERE s.image IS NOT NULL AND NOT EXISTS (SELECT 1 FROM pg_temp.mullein_was w WHERE w.key = s.key)")
	if err != nil {
		return fmt.Errorf("bring rows back: %w", err)
	}
	r.grew += tag.RowsAffected() - gone
	return nil
}

// write changes those of the rows that were seen, changed, with a statement, and returns how
// many. It is [errMoved] when somebody else has changed one of them since.
func (r *refold) write(ctx context.Context, which, statement string) (done int64, err error) {
	var expected int64
	err = r.l.s.conn.QueryRow(ctx, "WITH changed AS MATERIALIZED (SELECT s.image, w.part, w.place"+
		" FROM pg_temp.mullein_state s JOIN pg_temp.mullein_was w USING (key) WHERE "+which+"), done AS ("+statement+
		" RETURNING 1) SELECT (SELECT count(*) FROM changed), (SELECT count(*) FROM done)").Scan(&expected, &done)
	if err != nil {
		return 0, fmt.Errorf("bring rows back: %w", err)
	}
	if done != expected {
		return 0, errMoved
	}
	return done, nil
}
