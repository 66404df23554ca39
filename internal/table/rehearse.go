package table

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"mullein/internal/core/balance"
)

// Look is Fit without making or changing anything. changes says what a load would
// make or change first; what is returned is as it would be then.
func (d *Database) Look(ctx context.Context, t *Table) (f *Fitted, changes []string, err error) {
	if err := d.Prepare(ctx); err != nil {
		return nil, nil, err
	}
	oid, err := find(ctx, d.pool, t)
	if err != nil {
		return nil, nil, err
	}
	f = &Fitted{Table: t, oid: oid, casts: map[string]string{}, bytewise: true}
	if oid == 0 {
		return f, t.DDL()[:2], nil
	}
	err = d.pool.QueryRow(ctx, "SELECT coalesce((SELECT id FROM mullein.target WHERE name = $1), 0)",
		f.String()).Scan(&f.id)
	if err != nil {
		return nil, nil, fmt.Errorf("look for table %s: %w", t, err)
	}
	misfit, err := d.misfit(ctx, f)
	switch {
	case err != nil:
		return nil, nil, err
	case misfit == nil:
		return f, nil, nil
	case misfit.mendable && d.mayChange(t, misfit):
		f.view, f.standIn = f.changed(), viewName
		return f, misfit.Differences, nil
	}
	return nil, nil, misfit
}

// changed is a query for the table as it would be after the changes that it
// needs.
func (f *Fitted) changed() string {
	columns := []string{"t.ctid"}
	for _, name := range f.has {
		column := "t." + quote(name)
		if to := f.becomes[name]; to != "" {
			column += "::" + to + " AS " + quote(name)
		}
		columns = append(columns, column)
	}
	for _, c := range f.Columns {
		if to := f.becomes[c.Name]; to != "" && !slices.Contains(f.has, c.Name) {
			columns = append(columns, "NULL::"+to+" AS "+quote(c.Name))
		}
	}
	return "SELECT " + join(columns) + " FROM " + quote(f.Schema, f.Name) + " t"
}

// viewName is the view that stands for a table as it would be.
const viewName = "pg_temp.mullein_changed"

// Rehearse opens a transaction that can write nothing but temporary tables,
// over a snapshot of the target, in which rows are staged and compared.
func (s *Session) Rehearse(ctx context.Context, t *Fitted, parts int) (*Load, error) {
	stage, err := s.stage(ctx, t.Own)
	if err != nil {
		return nil, err
	}
	if t.view != "" {
		if _, err := s.conn.Exec(ctx, "DROP VIEW IF EXISTS "+viewName); err != nil {
			return nil, fmt.Errorf("drop the view of an earlier rehearsal: %w", err)
		}
		if _, err := s.conn.Exec(ctx, "CREATE VIEW "+viewName+" AS "+t.view); err != nil {
			return nil, fmt.Errorf("make a view of %s as it would be: %w", t, err)
		}
	}
	if t.Ranked { // what only reads could not make them later
		if _, err := s.conn.Exec(ctx, lateTables); err != nil {
			return nil, fmt.Errorf("make the tables of a late load: %w", err)
		}
	}
	return s.begin(ctx, t, parts, "REPEATABLE READ, READ ONLY", stage)
}

// Sample is a row that a load would write.
type Sample struct {
	What    string // inserted, updated, deleted, outdated, removed, missing or different
	Line    int64
	Values  []*string // as texts, in the order of the columns; null is no value
	Before  []*string // what the target holds for its key; empty where it holds nothing
	Changed []int     // which of the values are not as before
}

// Compare says what a merge of the staged rows would do, of all parts together,
// with up to most samples of each kind.
func (l *Load) Compare(ctx context.Context, most int) (balance.Balance, []Sample, error) {
	var total balance.Balance
	if l.table.oid == 0 || !l.table.keyed() {
		for part, n := range l.staged {
			total.Inserted += n - l.counts[part].Duplicate
			total.Duplicate += l.counts[part].Duplicate
		}
		samples, err := l.samples(ctx, "inserted", l.stage+" s WHERE "+l.notGone(), most)
		if err != nil || l.table.oid == 0 {
			return total, samples, err
		}
		gone, err := l.lacked(ctx, &total, most)
		return total, append(samples, gone...), err
	}
	if err := l.stand(ctx); err != nil {
		return total, nil, err
	}
	counts, _, err := l.plan(ctx, nil, nil)
	if err != nil {
		return total, nil, fmt.Errorf("compare with %s: %w", l.table, err)
	}
	for part := range counts {
		counts[part].Duplicate = l.counts[part].Duplicate
		total = total.Plus(counts[part])
	}
	var out []Sample
	for _, kind := range []struct{ class, what string }{{"i", "inserted"}, {"u", "updated"}, {"d", "deleted"},
		{"o", "outdated"}} {
		samples, err := l.samples(ctx, kind.what, "pg_temp.mullein_plan p JOIN "+l.stage+
			" s ON s.ctid = p.sid LEFT JOIN "+l.name()+" t ON "+l.sameKey()+" WHERE p.class = '"+kind.class+"'", most)
		if err != nil {
			return total, nil, err
		}
		out = append(out, samples...)
	}
	gone, err := l.lacked(ctx, &total, most)
	return total, append(out, gone...), err
}

// lacked counts the rows that would go, and returns some of them. More than the
// feed allows are an [*AbsentError].
func (l *Load) lacked(ctx context.Context, total *balance.Balance, most int) ([]Sample, error) {
	among, where := l.lacking()
	if where == "" {
		return nil, nil
	}
	if err := l.s.conn.QueryRow(ctx, "SELECT count(*) FROM "+l.name()+" t WHERE "+
		where).Scan(&total.Removed); err != nil {
		return nil, fmt.Errorf("count what would go: %w", err)
	}
	var own []string
	for _, c := range l.table.Own {
		own = append(own, "t."+quote(c.Name)+"::text")
	}
	rows, err := l.s.conn.Query(ctx, "SELECT ARRAY["+join(own)+"] FROM "+l.name()+" t WHERE "+where+" LIMIT $1", most)
	if err != nil {
		return nil, fmt.Errorf("look at what would go: %w", err)
	}
	samples, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (Sample, error) {
		s := Sample{What: "removed", Changed: []int{}}
		err := row.Scan(&s.Before)
		s.Values = s.Before
		return s, err
	})
	if err == nil && l.table.HasAbsentAtMost {
		err = l.boundAbsent(ctx, among, where)
	}
	return samples, err
}

func (l *Load) samples(ctx context.Context, what, from string, most int) ([]Sample, error) {
	var now, before []string
	for i, c := range l.table.Own {
		now = append(now, fmt.Sprintf("s.c%d::text", i))
		before = append(before, "t."+quote(c.Name)+"::text")
	}
	old := "'{}'::text[]"
	if strings.Contains(from, " t ON ") && what != "inserted" && what != "missing" {
		old = "ARRAY[" + strings.Join(before, ", ") + "]"
	}
	rows, err := l.s.conn.Query(ctx, "SELECT "+lineOf+", ARRAY["+strings.Join(now, ", ")+"], "+old+" FROM "+from+
		" ORDER BY s.place LIMIT $1", most)
	if err != nil {
		return nil, fmt.Errorf("look at %s rows: %w", what, err)
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (Sample, error) {
		s := Sample{What: what, Changed: []int{}}
		if err := row.Scan(&s.Line, &s.Values, &s.Before); err != nil {
			return s, err
		}
		for i := range s.Before {
			a, b := s.Values[i], s.Before[i]
			if (a == nil) != (b == nil) || a != nil && *a != *b {
				s.Changed = append(s.Changed, i)
			}
		}
		return s, nil
	})
}

// deepLock is how long a deep rehearsal waits for the target.
const deepLock = "5s"

// Try executes the statements of a merge. The caller rolls back.
func (l *Load) Try(ctx context.Context, run int64, parts []Part) ([]balance.Balance, error) {
	// What Compare has planned is planned anew, under the lock.
	if err := l.exec(ctx, "DELETE FROM pg_temp.mullein_plan; DELETE FROM pg_temp.mullein_candidate; SET LOCAL "+
		"lock_timeout = '"+deepLock+"'"); err != nil {
		return nil, err
	}
	if _, err := l.s.conn.Exec(ctx, "SELECT pg_advisory_xact_lock($1, $2)", lockSpace, int32(l.table.oid)); err != nil {
		return nil, fmt.Errorf("lock %s: %w", l.table, err)
	}
	if err := l.takePlaces(ctx); err != nil {
		return nil, err
	}
	return l.Merge(ctx, run, parts)
}
