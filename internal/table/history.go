package table

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

// Step is one thing that happened to a row.
type Step struct {
	What   string     // inserted, updated, deleted, marked (as absent from a delivery) or changed by hand
	Load   *LoadEntry // the load that did it; null when it was none, or is not known any more
	Line   int64      // of the file; 0 where it is not known
	At     *time.Time
	Before json.RawMessage // the row before, null for none
	After  json.RawMessage // the row after, null for none
}

// History is what is known of a row.
type History struct {
	Table string
	Key   []string        // the columns of the key
	Now   json.RawMessage // the row as it stands in the target; null for none
	Hand  bool            // somebody else has written it last
	Steps []Step          // the oldest first, as far back as the journal goes
}

// entry is a journal's entry of one key.
type entry struct {
	load          int64
	what          string
	before, given json.RawMessage
}

// History returns what happened to the row with a key, given as texts.
func (d *Database) History(ctx context.Context, t *Fitted, key map[string]string) (*History, error) {
	h := &History{Table: t.String(), Key: t.Key, Steps: []Step{}}
	of, err := json.Marshal(key)
	if err != nil {
		return nil, err
	}
	name := quote(t.Schema, t.Name)
	given := "json_populate_record(NULL::" + name + ", $1::json) g"
	err = d.pool.QueryRow(ctx, "SELECT row_to_json(t.*), t.xmin::text::bigint NOT IN (SELECT unnest(writers) FROM "+
		"mullein.load WHERE target = $2 UNION ALL SELECT unnest(writers) FROM mullein.recall WHERE target = $2 UNION "+
		"ALL SELECT unnest(writers) FROM mullein.target WHERE id = $2) FROM "+
		given+" JOIN "+name+" t ON "+t.sameRow("t", "g"), string(of), t.id).Scan(&h.Now, &h.Hand)
	if e := new(pgconn.PgError); errors.As(err, &e) && strings.HasPrefix(e.Code,
		"22") { // it is no value of its column's type
		return nil, &CannotError{"the key cannot be read: " + e.Message}
	}
	if err != nil && err != pgx.ErrNoRows {
		return nil, fmt.Errorf("look at the row: %w", err)
	}
	rows, err := d.pool.Query(ctx, "SELECT c.load, c.what::text, c.before, c.given FROM "+given+
		" JOIN mullein.change c ON c.key = "+t.keyHash("g")+" AND c."+entriesSince(t.id, 0)+" ORDER BY c.load, c.what <> 'h'",
		string(of))
	if err != nil {
		return nil, fmt.Errorf("read the journal: %w", err)
	}
	entries, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (e entry, err error) {
		err = row.Scan(&e.load, &e.what, &e.before, &e.given)
		return e, err
	})
	if err != nil {
		return nil, fmt.Errorf("read the journal: %w", err)
	}
	return h, d.tell(ctx, t, h, entries)
}

var stepWords = map[string]string{"i": "inserted", "u": "updated", "d": "deleted", "o": "deleted", "m": "marked",
	"h": "changed by hand"}

// tell makes the steps of a history from the journal's entries. Insertions have
// no entry: they are where a row stands that was not there before, and its
// lineage says who wrote it.
func (d *Database) tell(ctx context.Context, t *Fitted, h *History, entries []entry) error {
	known := map[int64]*LoadEntry{}
	var nths, arrivals []int64
	for _, e := range append(entries, entry{before: h.Now}) {
		nths, arrivals = append(nths, e.load), append(arrivals, number(e.before, t.Lineage.FromArrival))
	}
	list, err := loads(ctx, d.pool, "WHERE target = $1 AND (nth = ANY($2) OR arrival = ANY($3)) ORDER BY nth", t.id,
		nths, arrivals)
	if err != nil {
		return err
	}
	for i := range list {
		known[list[i].Nth] = &list[i]
	}
	none := true // whether there is no row, as far as was told
	for i, e := range append(entries, entry{load: 1<<63 - 1, before: h.Now}) {
		last := i == len(entries)
		if e.before != nil && (none || i == 0) {
			s := Step{What: "inserted", After: e.before, Line: number(e.before, t.Lineage.FromLine)}
			for k := range list {
				if list[k].Arrival == number(e.before, t.Lineage.FromArrival) && list[k].Nth < e.load {
					s.Load, s.At = &list[k], &list[k].CommittedAt
				}
			}
			h.Steps = append(h.Steps, s)
		}
		if last {
			break
		}
		s := Step{What: stepWords[e.what], Load: known[e.load], Before: e.before}
		if s.Load != nil {
			s.At = &s.Load.CommittedAt
		}
		s.After = h.Now
		if i+1 < len(entries) {
			s.After = entries[i+1].before
		}
		if s.Load != nil && !s.Load.Active && e.given != nil {
			s.After = e.given // what it had made of the row while it was in force
		}
		if e.what == "d" {
			s.After = nil
		}
		switch {
		case s.What == "updated" && s.Before == nil:
			s.What = "inserted"
		case s.What == "inserted" && s.Before != nil: // a recall has brought back what was before
			s.What = "updated"
		}
		if s.After != nil && e.what != "m" {
			s.Line = number(s.After, t.Lineage.FromLine)
		}
		nothing := e.what == "x" || e.before == nil && (e.what == "m" || e.what == "o" || e.what == "d")
		if !nothing && string(s.Before) != string(s.After) { // else a recall has made it one that changes nothing
			h.Steps = append(h.Steps, s)
		}
		none = e.what == "d" || e.what != "u" && e.before == nil
		if s.Load != nil && !s.Load.Active {
			none = e.before == nil
		} else if e.what == "i" {
			none = false
		}
	}
	if h.Hand && h.Now != nil {
		h.Steps = append(h.Steps, Step{What: stepWords["h"], After: h.Now})
	}
	return nil
}

// number reads a whole number of a row; 0 when it has none.
func number(row json.RawMessage, column string) int64 {
	var columns map[string]any
	if column == "" || row == nil || json.Unmarshal(row, &columns) != nil {
		return 0
	}
	n, _ := columns[column].(float64)
	return int64(n)
}

// Verified is what a comparison of a file with the table found.
type Verified struct {
	Same      int64 // rows of the file that the table holds as they are
	Later     int64 // rows whose key a later load has written
	Newer     int64 // rows whose key an earlier load keeps, which was newer
	Gone      int64 // rows whose key another load has removed, or a newer one does not have
	Different int64 // rows that the table holds otherwise, although no later load wrote them
	Missing   int64 // rows whose key the table does not have
	Repeated  int64 // rows that lost against another row of the file with the same key
	Columns   []string
	Samples   []Sample // of the rows that are different or missing
}

// Verify holds the staged rows of an arrival's file against the target, row by
// row, with up to most samples of each kind.
func (l *Load) Verify(ctx context.Context, arrival int64, most int) (*Verified, error) {
	t := l.table
	v := &Verified{Columns: []string{}, Samples: []Sample{}}
	for _, c := range t.Own {
		v.Columns = append(v.Columns, c.Name)
	}
	join := "LEFT JOIN " + l.name() + " t ON " + l.sameKey()
	missing, differs := "", l.differs()
	if t.keyed() {
		missing = "t." + quote(t.Key[0]) + " IS NULL"
	} else {
		if t.Lineage.RowDigest == "" {
			return nil, &CannotError{"the table has neither a key nor the lineage column row_digest: its rows cannot " +
				"be told apart"}
		}
		join = "LEFT JOIN (SELECT DISTINCT ON (" + quote(t.Lineage.RowDigest) + ") * FROM " + l.name() +
			" t WHERE t." + quote(t.Lineage.FromArrival) + " = $1) t ON t." + quote(t.Lineage.RowDigest) + " = s.digest"
		missing, differs = "t."+quote(t.Lineage.RowDigest)+" IS NULL", "false"
	}
	later, newer, gone := "false", "false", "false"
	const own = "(SELECT max(m.nth) FROM mullein.load m WHERE m.arrival = $1)"
	if t.Lineage.FromArrival != "" {
		column := "t." + quote(t.Lineage.FromArrival)
		later = column + " <> $1"
		newer = later + " AND (SELECT max(m.nth) FROM mullein.load m WHERE m.arrival = " + column + ") < " + own
	}
	if t.keyed() {
		gone = l.removed()
	}
	class := "CASE WHEN " + missing + " THEN CASE WHEN " + gone + " THEN 'gone' ELSE 'missing' END WHEN NOT " +
		differs + " THEN 'same' WHEN " + newer + " THEN 'newer' WHEN " + later + " THEN 'later' ELSE 'different' END"
	from := l.stage + " s " + join + " WHERE " + l.notGone() + " AND $1::bigint > 0"
	rows, err := l.s.conn.Query(ctx, "SELECT "+class+", count(*) FROM "+from+" GROUP BY 1", arrival)
	if err != nil {
		return nil, fmt.Errorf("hold the file against %s: %w", t, err)
	}
	var what string
	var n int64
	if _, err := pgx.ForEachRow(rows, []any{&what, &n}, func() error {
		*map[string]*int64{"missing": &v.Missing, "same": &v.Same, "later": &v.Later, "newer": &v.Newer,
			"gone": &v.Gone, "different": &v.Different}[what] = n
		return nil
	}); err != nil {
		return nil, fmt.Errorf("hold the file against %s: %w", t, err)
	}
	for part := range l.counts {
		v.Repeated += l.counts[part].Duplicate
	}
	for what, n := range map[string]int64{"missing": v.Missing, "different": v.Different} {
		if n == 0 {
			continue
		}
		samples, err := l.samples(ctx, what, strings.ReplaceAll(from, "$1", fmt.Sprint(arrival))+" AND "+
			strings.ReplaceAll(class, "$1", fmt.Sprint(arrival))+" = '"+what+"'", most)
		if err != nil {
			return nil, err
		}
		v.Samples = append(v.Samples, samples...)
	}
	return v, nil
}

// removed is the SQL that reports whether another load than that of arrival $1 has removed
// the key of a staged row, or is newer and does not have it.
func (l *Load) removed() string {
	target, key := l.target(), l.keysHash()
	out := "EXISTS (SELECT 1 FROM mullein.change c JOIN mullein.load m ON m.nth = c.load AND m.active" +
		" WHERE c.key = " + key + " AND c." + entriesSince(l.table.id, 0) + " AND c.what = 'd' AND m.arrival <> $1)" +
		" OR EXISTS (SELECT 1 FROM mullein.load o JOIN mullein.load m ON m.target = o.target AND m.active" +
		" AND m.rank > o.rank WHERE o.arrival = $1 AND (m.whole OR EXISTS (SELECT 1 FROM mullein.remembered r" +
		" WHERE r.load = m.nth AND r.target = " + target + " AND r.what = 'd' AND r.key = " + key + ")))"
	if l.table.Newest != "" && l.table.Deletes {
		out += " OR EXISTS (SELECT 1 FROM mullein.remembered r JOIN mullein.load m ON m.nth = r.load AND m.active" +
			" WHERE r.target = " + target + " AND r.what = 'd' AND r.key = " + key + ")"
	}
	return out
}
