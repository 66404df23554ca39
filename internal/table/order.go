package table

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"mullein/internal/core/balance"
	"mullein/internal/core/feed"
)

// Who wins for a key: within a delivery see [Load.dropRepeats], while rows go straight
// into an empty table see winners. This file is about deliveries that come in another
// order than the one by which the newest row wins.
//
// Where a table is [Table.Ranked], each load has a rank, the time in the name of its
// file or the time of the file. A row of the target has the rank of the load that wrote
// it, which its lineage names, or that of a newer load that had the same row and thus
// left it alone. What a row of the target cannot tell is remembered beside it:
//
//	mullein.confirmed    the keys that a load found unchanged; or, where it found most
//	                     of the table unchanged, the keys that it did not have
//	mullein.remembered   d: a key that a row of a load deleted; p: a part that a load
//	                     brought, of [feed.ReplacePart]
//	mullein.load.whole   a load that was held against the whole table
//
// Each counts as long as its load is in force. A load that is newer than all loads in
// force, as most are, asks for none of it.

// Unranked is the rank of loads that have none: the oldest.
const Unranked = math.MinInt64

// standing is how a load stands in the order of those in force.
type standing struct {
	ranks      []int64 // of the parts
	late       bool    // a load in force is newer than a part
	whole      int64   // the greatest rank of loads in force that were held against the whole table
	remembered bool    // keys are remembered as deleted, or parts as brought
	vouched    bool    // a newer load has left rows unchanged
	never      int64   // rows that delete a key which the target does not have
}

// lateTables belong to sessions that had a load which came late.
const lateTables = `
CREATE TEMPORARY TABLE IF NOT EXISTS mullein_newer (arrival bigint PRIMARY KEY,
rank bigint NOT NULL) ON COMMIT DELETE ROWS;
CREATE TEMPORARY TABLE IF NOT EXISTS mullein_vouched (key bigint PRIMARY KEY,
rank bigint NOT NULL) ON COMMIT DELETE ROWS;
CREATE TEMPORARY TABLE IF NOT EXISTS mullein_vouching (nth bigint, rank bigint, keys bigint[]) ON COMMIT DELETE ROWS;
`

// Rank says, before anything is staged, which rank each part of the load has.
func (l *Load) Rank(ranks ...int64) { l.ranks = ranks }

// ordered reports whether it matters in which order loads come.
func (t *Table) ordered() bool { return t.Ranked || t.Deletes && t.Newest != "" }

// stand finds out how the load stands in the order of those in force.
func (l *Load) stand(ctx context.Context) error {
	t := l.table
	l.standing = standing{ranks: l.ranks, whole: Unranked}
	for len(l.ranks) < len(l.staged) {
		l.ranks = append(l.ranks, Unranked)
	}
	if !t.ordered() || l.table.id == 0 {
		return nil
	}
	oldest := slices.Min(l.ranks)
	err := l.s.conn.QueryRow(ctx, "SELECT "+fmt.Sprint(t.Ranked)+
		" AND EXISTS (SELECT 1 FROM mullein.load WHERE target = $1 AND active AND rank > $2), EXISTS (SELECT 1 FROM "+
		"mullein.remembered WHERE target = $1)",
		t.id, oldest).Scan(&l.late, &l.remembered)
	if err != nil {
		return fmt.Errorf("look for newer loads: %w", err)
	}
	if !l.late {
		return nil
	}
	err = l.s.conn.QueryRow(ctx, "SELECT coalesce(max(rank), $2) FROM mullein.load WHERE target = $1 AND active AND "+
		"whole AND rank > $2",
		t.id, int64(Unranked)).Scan(&l.whole)
	if err != nil {
		return fmt.Errorf("look for newer loads: %w", err)
	}
	if !l.readOnly {
		if err := l.exec(ctx, lateTables); err != nil {
			return fmt.Errorf("make the tables of a late load: %w", err)
		}
	}
	const newer = "m.target = $1 AND m.active AND m.rank > $2 ON CONFLICT DO NOTHING"
	if _, err := l.s.conn.Exec(ctx, "INSERT INTO pg_temp.mullein_newer SELECT m.arrival, m.rank FROM mullein.load m "+
		"WHERE "+newer,
		t.id, oldest); err != nil {
		return fmt.Errorf("look for newer loads: %w", err)
	}
	return l.gatherVouched(ctx, oldest, math.MaxInt64)
}

// gatherVouched gathers what loads in force left unchanged that are newer than a rank
// and came before a place.
func (l *Load) gatherVouched(ctx context.Context, rank, before int64) error {
	if err := l.exec(ctx, "DELETE FROM pg_temp.mullein_vouched; DELETE FROM pg_temp.mullein_vouching"); err != nil {
		return fmt.Errorf("look for what newer loads left unchanged: %w", err)
	}
	const from = " FROM mullein.confirmed c JOIN mullein.load m ON m.nth = c.load WHERE c.target = $1 AND m.active " +
		"AND m.rank > $2 AND m.nth < $3 AND "
	var n int64
	for _, statement := range []string{
		"INSERT INTO pg_temp.mullein_vouched SELECT key, max(rank) FROM (SELECT unnest(c.keys) AS key, m.rank" +
			from + "NOT c.others) v GROUP BY key",
		"INSERT INTO pg_temp.mullein_vouching SELECT m.nth, m.rank, c.keys" + from + "c.others",
	} {
		tag, err := l.s.conn.Exec(ctx, statement, l.table.id, rank, before)
		if err != nil {
			return fmt.Errorf("look for what newer loads left unchanged: %w", err)
		}
		n += tag.RowsAffected()
	}
	l.vouched = n > 0
	return nil
}

// rankOf is the SQL of a staged row's rank.
func (l *Load) rankOf() string { return ofPart(l.ranks) }

// ofPart is the SQL of a number that staged rows have by their part.
func ofPart(of []int64) string {
	if len(of) == 1 {
		return fmt.Sprintf("'%d'::bigint", of[0])
	}
	return "('{" + join(texts(of)) + "}'::bigint[])[(s.place >> " + shift + ")::integer + 1]"
}

func texts(of []int64) []string {
	out := make([]string, len(of))
	for i, n := range of {
		out[i] = fmt.Sprint(n)
	}
	return out
}

// newer is the SQL that reports whether a row t of the target was written by a load that
// is newer than a rank.
func (l *Load) newer(rank string) string {
	return "EXISTS (SELECT 1 FROM pg_temp.mullein_newer n WHERE n.arrival = t." +
		quote(l.table.Lineage.FromArrival) + " AND n.rank > " + rank + ")"
}

// vouchedFor is the SQL of the greatest rank of the gathered loads that left a row
// unchanged, of a key's hash and the SQL of its arrival; null for none.
func (l *Load) vouchedFor(hash, arrival string) string {
	return "greatest((SELECT v.rank FROM pg_temp.mullein_vouched v WHERE v.key = " + hash +
		"), (SELECT max(g.rank) FROM pg_temp.mullein_vouching g WHERE g.nth > coalesce((SELECT max(m.nth) FROM " +
		"mullein.load m WHERE m.target = " +
		l.target() + " AND m.arrival = " + arrival + "), 0) AND NOT " + hash + " = ANY(g.keys)))"
}

// vouchedRow is vouchedFor of a row t of the target.
func (l *Load) vouchedRow() string {
	return l.vouchedFor(l.table.keyHash("t"), "t."+quote(l.table.Lineage.FromArrival))
}

// outranked is the SQL that reports whether a row t of the target has a greater rank than
// the newest part of the load; "" where none can.
func (l *Load) outranked() string {
	if !l.late {
		return ""
	}
	rank := fmt.Sprintf("'%d'::bigint", slices.Max(l.ranks))
	out := l.newer(rank)
	if l.vouched && l.table.keyed() {
		out = "(" + out + " OR coalesce(" + l.vouchedRow() + " > " + rank + ", false))"
	}
	return out
}

// older is the SQL that reports whether a staged row is older than the row t of the
// target that has its key, as far as one look tells: see [Load.passOver].
func (l *Load) older() string {
	t := l.table
	if t.Newest != "" && !t.Mode.Replaces() {
		was, now := "t."+quote(t.Newest), l.column(t.Newest)
		return "(" + was + " IS NOT NULL AND (" + now + " IS NULL OR " + now + " < " + was + "))"
	}
	if !l.late {
		return "false"
	}
	older := l.newer(l.rankOf())
	if a := t.Lineage.AbsentSince; a != "" {
		older = "(" + older + " OR t." + quote(a) + " IS NOT NULL AND " + l.beforeWhole() + ")"
	}
	return older
}

// beforeWhole is the SQL that reports whether a staged row is older than a load that was
// held against the whole table.
func (l *Load) beforeWhole() string { return fmt.Sprintf("%s < '%d'::bigint", l.rankOf(), l.whole) }

// goneSince is the SQL that reports whether a staged row whose key the target does not have
// came too late for it: the key was deleted since, or a newer delivery lacks it.
func (l *Load) goneSince() string {
	t := l.table
	var since []string
	if t.Mode == feed.Replace || t.Absent == feed.AbsentDelete {
		if l.whole > Unranked {
			since = append(since, l.beforeWhole())
		}
	}
	if l.remembered {
		remembered := func(what, hash, newer string) string {
			return "EXISTS (SELECT 1 FROM mullein.remembered r JOIN mullein.load m ON m.nth = r.load AND m.active " +
				"WHERE r.target = " +
				l.target() + " AND r.what = '" + what + "' AND r.key = " + hash + " AND " + newer + ")"
		}
		switch {
		case t.Mode == feed.ReplacePart && l.late:
			since = append(since, remembered("p", l.partHash(), "m.rank > "+l.rankOf()))
		case t.Ranked && l.late:
			since = append(since, remembered("d", l.keysHash(), "m.rank > "+l.rankOf()))
		case t.Newest != "":
			now, was := l.column(t.Newest), "r.newest::"+l.table.types[t.Newest]
			since = append(since,
				remembered("d", l.keysHash(), was+" IS NOT NULL AND ("+now+" IS NULL OR "+now+" < "+was+")"))
		}
	}
	if len(since) == 0 {
		return "false"
	}
	return "(" + strings.Join(since, " OR ") + ")"
}

// passOver makes planned changes of rows outdated that a newer load has left unchanged,
// which only few are.
func (l *Load) passOver(ctx context.Context) error {
	if !l.late || !l.vouched {
		return nil
	}
	_, err := l.s.conn.Exec(ctx, "UPDATE pg_temp.mullein_plan p SET class = 'o' FROM "+l.stage+" s, "+l.name()+
		" t WHERE s.ctid = p.sid AND p.class IN ('u', 'd') AND "+l.sameRow("p")+" AND "+l.vouchedRow()+" > "+l.rankOf())
	if err != nil {
		return fmt.Errorf("look for what newer loads left unchanged: %w", err)
	}
	return nil
}

// dropOutdated takes the staged rows out that came too late for a target without a key,
// and returns how many of each part; nil for none.
func (l *Load) dropOutdated(ctx context.Context) ([]int64, error) {
	since := l.goneSince()
	if since == "false" {
		return nil, nil
	}
	out, err := l.byPart(ctx, "WITH gone AS (DELETE FROM "+l.stage+" s WHERE "+since+
		" RETURNING s.place) SELECT place >> "+shift+", count(*) FROM gone GROUP BY 1")
	if err != nil {
		return nil, fmt.Errorf("look for newer rows: %w", err)
	}
	if !slices.ContainsFunc(out, func(n int64) bool { return n > 0 }) {
		return nil, nil
	}
	return out, nil
}

// remember keeps what the target's rows cannot tell of the load.
func (l *Load) remember(ctx context.Context, counts []balance.Balance) error {
	t := l.table
	if !t.ordered() || !t.keyed() && t.Mode != feed.ReplacePart {
		return nil
	}
	if t.Deletes {
		newest := "NULL"
		if t.Newest != "" {
			newest = l.column(t.Newest) + "::text"
		}
		if _, err := l.s.conn.Exec(ctx, "INSERT INTO mullein.remembered (target, what, key, load, newest) SELECT "+
			l.target()+", 'd', "+l.keysHash()+", "+l.nthOf()+", "+newest+" FROM "+l.stage+" s WHERE "+isGone+
			" ON CONFLICT DO NOTHING"); err != nil {
			return fmt.Errorf("remember deleted keys: %w", err)
		}
	}
	if !t.Ranked {
		return nil
	}
	if t.Mode == feed.ReplacePart {
		if _, err := l.s.conn.Exec(ctx, "INSERT INTO mullein.remembered (target, what, key, load) SELECT DISTINCT "+
			l.target()+", 'p'::\"char\", "+l.partHash()+", "+l.nthOf()+" FROM "+l.stage+" s ON CONFLICT DO NOTHING"); err != nil {
			return fmt.Errorf("remember parts: %w", err)
		}
	}
	if t.keyed() {
		return l.confirm(ctx, counts)
	}
	return nil
}

// Forget drops up to about most of what is remembered of loads of feeds that were
// committed before the time that each is kept since, and returns how many.
func (d *Database) Forget(ctx context.Context, since map[string]time.Time, most int) (n int64, err error) {
	text, err := json.Marshal(since)
	if err != nil {
		return 0, err
	}
	for _, of := range []string{"remembered", "confirmed"} {
		tag, err := d.pool.Exec(ctx, `DELETE FROM mullein.`+of+` r WHERE r.ctid = ANY(ARRAY(SELECT r.ctid
			FROM jsonb_each_text($1::jsonb) f
			JOIN mullein.load l ON l.feed = f.key AND l.committed_at < f.value::timestamptz
			JOIN mullein.`+of+` r ON r.load = l.nth LIMIT $2))`, string(text), most)
		if err != nil {
			return n, fmt.Errorf("forget the order of old rows: %w", err)
		}
		n += tag.RowsAffected()
	}
	return n, nil
}

// mostLookedAt is how many rows a target may have for all of them to be looked at.
const mostLookedAt = 2_000_000

// RowsStand reports whether so many rows of the target bear an arrival. It is false where
// that would take long to find out.
func (s *Session) RowsStand(ctx context.Context, t *Fitted, arrival, rows int64) (stand bool, err error) {
	if t.Lineage.FromArrival == "" {
		return false, nil
	}
	err = s.db.pool.QueryRow(ctx, "SELECT CASE WHEN rows <= $3 THEN (SELECT count(*) FROM "+quote(t.Schema,
		t.Name)+" t WHERE t."+
		quote(t.Lineage.FromArrival)+" = $1) = $2 ELSE false END FROM mullein.target WHERE id = $4", arrival, rows,
		mostLookedAt, t.id).Scan(&stand)
	if err != nil {
		return false, fmt.Errorf("look for rows of arrival %d: %w", arrival, err)
	}
	return stand, nil
}

// confirm keeps which keys the load found unchanged. Where that is most of the table,
// the keys that it did not have are fewer.
func (l *Load) confirm(ctx context.Context, counts []balance.Balance) error {
	var unchanged, written int64
	for _, c := range counts {
		unchanged += c.Unchanged
		written += c.Inserted + c.Updated
	}
	again := len(l.turnedOff) > 0 && l.way.skipped() > 0
	if again {
		unchanged -= l.way.skipped() // its own rows, which need nobody to vouch for them
	}
	if unchanged -= l.never; unchanged == 0 {
		return nil
	}
	var rows int64
	if err := l.s.conn.QueryRow(ctx, "SELECT rows FROM mullein.target WHERE id = $1",
		l.table.id).Scan(&rows); err != nil {
		return fmt.Errorf("look at the target: %w", err)
	}
	for _, n := range l.grown {
		rows += n
	}
	others := rows - unchanged - written
	const insert = "INSERT INTO mullein.confirmed (load, target, others, keys) "
	var err error
	switch {
	case l.several() || again || others > unchanged:
		keys := ""
		if keys, err = l.way.unchangedKeys(ctx); err == nil {
			err = l.exec(ctx, insert+"SELECT load, "+l.target()+", false, array_agg(key) FROM ("+keys+") k GROUP BY 1")
		}
	case others <= 0:
		_, err = l.s.conn.Exec(ctx, insert+"VALUES ($1, $2, true, '{}')", l.nth[0], l.table.id)
	default:
		err = l.way.confirmOthers(ctx, insert)
	}
	if err != nil {
		return fmt.Errorf("keep which keys are unchanged: %w", err)
	}
	return nil
}
