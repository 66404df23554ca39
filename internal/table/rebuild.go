package table

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"mullein/internal/core/balance"
)

// InForce returns the loads of a feed into a table that are in force, in order.
func (d *Database) InForce(ctx context.Context, t *Fitted, feed string) ([]LoadEntry, error) {
	return loads(ctx, d.pool, "WHERE target = $1 AND feed = $2 AND active ORDER BY nth", t.id, feed)
}

// Find finds a table without making it, or holding it against what is wanted.
func (d *Database) Find(ctx context.Context, t *Table) (*Fitted, error) {
	if err := d.Prepare(ctx); err != nil {
		return nil, err
	}
	f := &Fitted{Table: t}
	var err error
	if f.oid, err = find(ctx, d.pool, t); err != nil || f.oid == 0 {
		return f, err
	}
	err = d.pool.QueryRow(ctx, "SELECT coalesce((SELECT id FROM mullein.target WHERE name = $1), 0)",
		f.String()).Scan(&f.id)
	if err != nil {
		return nil, fmt.Errorf("look for table %s: %w", t, err)
	}
	return f, nil
}

// Counted is how many rows a table has, and how many of them a rebuild loses.
type Counted struct {
	Rows    int64
	Others  int64 // that none of the loads brought
	Changed int64 // that one of the loads brought and somebody else changed since
}

// Count counts the rows of a table that is there, as it is for its loads in force.
func (d *Database) Count(ctx context.Context, f *Fitted, in []LoadEntry) (c Counted, err error) {
	columns, err := d.columns(ctx, f.oid)
	if err != nil {
		return c, err
	}
	const foreign = "t.xmin::text::bigint NOT IN (SELECT unnest(writers) FROM mullein.load WHERE target = $2 UNION " +
		"ALL SELECT unnest(writers) FROM mullein.recall WHERE target = $2 UNION ALL SELECT unnest(writers) FROM " +
		"mullein.target WHERE id = $2)"
	brought := "NOT " + foreign + " AND $1::bigint[] IS NOT NULL"
	if a := f.Lineage.FromArrival; slices.ContainsFunc(columns,
		func(has existing) bool { return a != "" && has.name == a }) {
		brought = "coalesce(t." + quote(a) + " = ANY($1), false)"
	}
	arrivals := []int64{}
	for _, l := range in {
		arrivals = append(arrivals, l.Arrival)
	}
	err = d.pool.QueryRow(ctx, "SELECT count(*), count(*) FILTER (WHERE NOT brought), count(*) FILTER (WHERE brought "+
		"AND other) FROM (SELECT "+brought+" AS brought, "+
		foreign+" AS other FROM "+quote(f.Schema, f.Name)+" t) r", arrivals, f.id).Scan(&c.Rows, &c.Others, &c.Changed)
	if err != nil {
		return c, fmt.Errorf("count the rows of %s: %w", f, err)
	}
	return c, nil
}

// OtherFeeds returns the feeds beside one that have loaded into a table.
func (d *Database) OtherFeeds(ctx context.Context, t *Fitted, feed string) ([]string, error) {
	rows, err := d.pool.Query(ctx, "SELECT DISTINCT feed FROM mullein.load WHERE target = $1 AND feed <> $2 ORDER BY "+
		"1", t.id, feed)
	if err != nil {
		return nil, fmt.Errorf("look for other feeds: %w", err)
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

// FitAnew is [Database.Fit] for a rebuild. Where a table that we made has another
// shape than the feed wants now, an empty temporary table of the new shape stands
// for it in loads of this session, until [Load.Reshape].
func (s *Session) FitAnew(ctx context.Context, t *Table) (*Fitted, error) {
	f, err := s.db.Fit(ctx, t)
	var misfit *MisfitError
	if !errors.As(err, &misfit) || !misfit.made {
		return f, err
	}
	beside := *t
	beside.Schema, beside.Name = "pg_temp", "mullein_anew"
	if _, err := s.conn.Exec(ctx, "DROP TABLE IF EXISTS pg_temp.mullein_anew"); err != nil {
		return nil, fmt.Errorf("make a table of the new shape: %w", err)
	}
	if _, err := s.conn.Exec(ctx, beside.create()); err != nil {
		return nil, fmt.Errorf("make a table of the new shape: %w", err)
	}
	f = &Fitted{Table: t, casts: map[string]string{}, standIn: quote(beside.Schema, beside.Name)}
	if err := s.conn.QueryRow(ctx, "SELECT 'pg_temp.mullein_anew'::regclass::oid").Scan(&f.oid); err != nil {
		return nil, fmt.Errorf("make a table of the new shape: %w", err)
	}
	now, err := look(ctx, s.conn, f.oid)
	if err != nil {
		return nil, err
	}
	if err := s.db.compare(ctx, f, now); err != nil {
		return nil, err
	}
	if f.oid, err = find(ctx, s.conn, t); err != nil { // loads lock the target itself
		return nil, err
	}
	return f, s.db.register(ctx, f)
}

// Reshape returns the target the shape and the rows of the temporary table that
// stands for it, if one does. Readers wait for the while.
func (l *Load) Reshape(ctx context.Context) error {
	if l.table.standIn == "" {
		return nil
	}
	statements, err := l.reshaping(ctx)
	if err != nil {
		return err
	}
	for _, statement := range statements {
		_, err := l.s.conn.Exec(ctx, statement)
		var e *pgconn.PgError
		if errors.As(err, &e) && e.Detail != "" {
			err = fmt.Errorf("%w: %s", err, e.Detail)
		}
		if err != nil {
			return fmt.Errorf("give %s its new shape: %w", l.table, err)
		}
	}
	return nil
}

// reshaping returns the statements of Reshape. Columns that the feed does not fill
// any more stay, and are empty. Rows are deleted, not truncated, so that triggers
// see them go; the key is built after the new ones are in.
func (l *Load) reshaping(ctx context.Context) ([]string, error) {
	t := l.table
	name := quote(t.Schema, t.Name)
	columns, err := l.s.db.columns(ctx, t.oid)
	if err != nil {
		return nil, err
	}
	var key string
	err = l.s.conn.QueryRow(ctx, "SELECT coalesce((SELECT conname::text FROM pg_constraint WHERE conrelid = $1 AND "+
		"contype = 'p'), '')", t.oid).Scan(&key)
	if err != nil {
		return nil, fmt.Errorf("look for the key of %s: %w", t, err)
	}
	var mends, names []string
	mend := func(format string, args ...any) { mends = append(mends, fmt.Sprintf(format, args...)) }
	if key != "" {
		mend("DROP CONSTRAINT %s", quote(key))
	}
	for _, c := range columns {
		if !slices.ContainsFunc(t.Columns, func(own Column) bool { return own.Name == c.name }) && c.notNull &&
			!c.defaults && !c.generated {
			mend("ALTER COLUMN %s DROP NOT NULL", quote(c.name))
		}
	}
	for _, c := range t.Columns {
		names = append(names, quote(c.Name))
		at := slices.IndexFunc(columns, func(has existing) bool { return has.name == c.Name })
		if at < 0 {
			mend("ADD COLUMN %s %s", quote(c.Name), sqlTypes[c.Kind][0])
		} else if columns[at].sqlType != sqlTypes[c.Kind][0] {
			mend("ALTER COLUMN %s TYPE %s USING NULL", quote(c.Name), sqlTypes[c.Kind][0])
		}
		if c.NotNull {
			mend("ALTER COLUMN %s SET NOT NULL", quote(c.Name))
		} else if at >= 0 && columns[at].notNull {
			mend("ALTER COLUMN %s DROP NOT NULL", quote(c.Name))
		}
	}
	all := join(names)
	out := []string{
		"SET LOCAL lock_timeout = '20s'",
		"LOCK TABLE " + name + " IN ACCESS EXCLUSIVE MODE",
		"DELETE FROM " + name,
		"ALTER TABLE " + name + " " + join(mends),
		"INSERT INTO " + name + " (" + all + ") SELECT " + all + " FROM " + t.standIn,
		t.writtenAnew(),
	}
	if t.keyed() {
		out = append(out, "ALTER TABLE "+name+" ADD PRIMARY KEY ("+join(quoteAll(t.Key))+")")
	}
	return append(out, t.comments()...), nil
}

// EmptyOut takes all rows out of the target, for loads that follow in the same
// transaction, and ends what the journal knows: it begins anew with them.
func (l *Load) EmptyOut(ctx context.Context) error {
	for _, statement := range []string{
		"DELETE FROM " + l.name(),
		"DELETE FROM mullein.change WHERE " + entriesSince(l.table.id, 0),
		"UPDATE mullein.load SET active = false, journal = false WHERE target = " + l.target(),
		"UPDATE mullein.target SET rows = 0, key_hash = 1 WHERE id = " + l.target(),
	} {
		if err := l.exec(ctx, statement); err != nil {
			return fmt.Errorf("empty %s: %w", l.table, err)
		}
	}
	return nil
}

// Next makes the load ready for the rows of another file, in the same
// transaction and under the same lock.
func (l *Load) Next(ctx context.Context) error {
	if err := l.exec(ctx, "DELETE FROM "+l.stage+"; DELETE FROM pg_temp.mullein_plan; DELETE FROM "+
		"pg_temp.mullein_candidate"); err != nil {
		return fmt.Errorf("make ready for the next file: %w", err)
	}
	l.staged, l.counts, l.writers = make([]int64, 1), make([]balance.Balance, 1), nil
	return l.takePlaces(ctx)
}
