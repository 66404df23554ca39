package table

import (
	"context"
	"errors"
	"fmt"

	"github.com/jackc/pgx/v5"
)

// Described is a table as the database has it.
type Described struct {
	Table      string
	There      bool   // it exists
	About      string // its comment
	Columns    []DescribedColumn
	Unique     [][]string // columns of unique indexes that are no primary key, of columns alone and whole tables
	Rows       int64      // as far as loads and recalls know; others may have added some
	Bytes      int64      // of the table
	IndexBytes int64
	Partitions int64
	Entries    int64         // of the journal
	Loads      []LoadEntry   // the last ones, the newest first
	Recalls    []RecallEntry // the last ones, the newest first
	Next       int64         // the before of the next page of loads; 0 when there is none
}

// DescribedColumn is a column of a table.
type DescribedColumn struct {
	Name    string
	Type    string
	Key     bool // part of the primary key
	NotNull bool
	About   string
}

// RecallEntry is a recall as the target's database knows it.
type RecallEntry struct {
	Nth     int64
	Feed    string
	Off     []int64 // the places of the loads that it took out
	On      []int64 // the places of the loads that it put back
	By      string
	Because string
}

// Describe returns what is known of a table, with up to most of its loads before a
// place.
func (d *Database) Describe(ctx context.Context, schema, name string, before int64, most int) (*Described, error) {
	t := &Described{Table: schema + "." + name, Columns: []DescribedColumn{}, Unique: [][]string{}, Recalls: []RecallEntry{}}
	if err := d.Prepare(ctx); err != nil {
		return nil, err
	}
	var oid uint32
	err := d.pool.QueryRow(ctx, `SELECT c.oid, coalesce(obj_description(c.oid, 'pg_class'), ''),
		sum(pg_table_size(p.relid)), sum(pg_indexes_size(p.relid)), count(*) - 1
		FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace, LATERAL (SELECT relid
		FROM pg_partition_tree(c.oid) UNION SELECT c.oid) p
		WHERE n.nspname = $1 AND c.relname = $2 AND c.relkind IN ('r', 'p') GROUP BY 1, 2`, schema, name).Scan(&oid,
		&t.About, &t.Bytes, &t.IndexBytes, &t.Partitions)
	if errors.Is(err, pgx.ErrNoRows) {
		t.Loads = []LoadEntry{}
		return t, nil
	}
	if err != nil {
		return nil, fmt.Errorf("describe %s: %w", t.Table, err)
	}
	t.There = true
	rows, err := d.pool.Query(ctx, `SELECT a.attname, format_type(a.atttypid, a.atttypmod),
		coalesce(a.attnum = ANY(i.indkey), false), a.attnotnull, coalesce(col_description($1, a.attnum), '')
		FROM pg_attribute a LEFT JOIN pg_index i ON i.indrelid = a.attrelid AND i.indisprimary WHERE a.attrelid = $1
		AND a.attnum > 0 AND NOT a.attisdropped ORDER BY a.attnum`, oid)
	if err != nil {
		return nil, fmt.Errorf("describe %s: %w", t.Table, err)
	}
	if t.Columns, err = pgx.CollectRows(rows, func(row pgx.CollectableRow) (c DescribedColumn, err error) {
		err = row.Scan(&c.Name, &c.Type, &c.Key, &c.NotNull, &c.About)
		return c, err
	}); err != nil {
		return nil, fmt.Errorf("describe %s: %w", t.Table, err)
	}
	if t.Unique, err = d.uniqueIndexes(ctx, oid); err != nil {
		return nil, fmt.Errorf("describe %s: %w", t.Table, err)
	}
	var id int
	err = d.pool.QueryRow(ctx, "SELECT id, rows FROM mullein.target t WHERE name = $1", t.Table).Scan(&id, &t.Rows)
	if err == nil {
		err = d.pool.QueryRow(ctx, "SELECT count(*) FROM mullein.change WHERE "+entriesSince(id, 0)).Scan(&t.Entries)
	}
	if err != nil && !errors.Is(err, pgx.ErrNoRows) {
		return nil, fmt.Errorf("describe %s: %w", t.Table, err)
	}
	if t.Loads, err = d.LoadsInto(ctx, t.Table, before, most+1); err != nil {
		return nil, err
	}
	if len(t.Loads) > most {
		t.Loads, t.Next = t.Loads[:most], t.Loads[most-1].Nth
	}
	rows, err = d.pool.Query(ctx, `SELECT nth, feed, turned_off, turned_on, by, because FROM mullein.recall
		WHERE target = (SELECT id FROM mullein.target WHERE name = $1) ORDER BY nth DESC LIMIT $2`, t.Table, most)
	if err != nil {
		return nil, fmt.Errorf("describe %s: %w", t.Table, err)
	}
	t.Recalls, err = pgx.CollectRows(rows, func(row pgx.CollectableRow) (r RecallEntry, err error) {
		err = row.Scan(&r.Nth, &r.Feed, &r.Off, &r.On, &r.By, &r.Because)
		return r, err
	})
	return t, err
}

// uniqueIndexes returns the columns of a table's unique indexes beside the primary key.
func (d *Database) uniqueIndexes(ctx context.Context, oid uint32) ([][]string, error) {
	rows, err := d.pool.Query(ctx, `SELECT array_agg(a.attname::text ORDER BY k.at) FROM pg_index i,
		LATERAL unnest(i.indkey[0:i.indnkeyatts - 1]) WITH ORDINALITY k(column_number, at)
		JOIN pg_attribute a ON a.attrelid = $1 AND a.attnum = k.column_number
		WHERE i.indrelid = $1 AND i.indisunique AND NOT i.indisprimary AND i.indpred IS NULL AND i.indexprs IS NULL
		GROUP BY i.indexrelid ORDER BY i.indexrelid`, oid)
	if err != nil {
		return nil, err
	}
	out, err := pgx.CollectRows(rows, pgx.RowTo[[]string])
	return append([][]string{}, out...), err
}
