package table

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"mullein/internal/core/rollup"
)

// A rollup is kept in step by triggers on the tables that it reads: whatever
// changes a row of them, a load, a recall or somebody else, leaves notes in its own
// transaction. They are taken after the commit, under the rollup's own lock, in the
// statement that reads the select, which so sees at least what those who left the notes
// committed. A select that fails refuses no good rows.
//
// A note is one of these, as JSON:
//   - an object, a key: it is recomputed. Notes are keys where the row alone tells which it
//     touched, before the change and after.
//   - an array of a table and one of its rows, as it was before or after a change: where it
//     takes a select to know the keys, they are looked for after the commit. As all other
//     tables are then as they were when the row came or went, or their changes are notes of
//     keys, none is missed. But a row that went and was joined with one that went, too, is
//     found by neither; so where rows of two such tables wait, the whole is computed.
//   - true: more was touched than is worth noting, and the whole is computed.
//   - a string, why the key could not be told: the whole is computed.

// ErrNoRollup says that there is no rollup of a name.
var ErrNoRollup = errors.New("not found")

// RollupState is a rollup and how it stands.
type RollupState struct {
	Rollup     rollup.Rollup
	Name       string
	About      string
	Table      string
	Key        []string
	Sources    []string // the tables that it reads
	Definition string
	PutBy      string
	PutAt      time.Time
	Filled     bool       // it was computed as a whole since it was put
	ComputedAt *time.Time // when keys were recomputed last
	Waiting    int64      // notes of keys that wait to be recomputed
	Problem    string     // why it is not kept; empty when it is
	id         int
	types      map[string]string // of the columns of its table; see look
}

// PutRollup creates a rollup or changes it. Its table is made, and filled, by the
// next [Database.KeepRollups].
func (d *Database) PutRollup(ctx context.Context, r *rollup.Rollup, definition, by string) error {
	if err := d.Prepare(ctx); err != nil {
		return err
	}
	return pgx.BeginFunc(ctx, d.pool, func(tx pgx.Tx) error {
		var old string
		err := tx.QueryRow(ctx, "SELECT definition FROM mullein.rollup WHERE name = $1 FOR UPDATE", r.Name).Scan(&old)
		if err != nil && !errors.Is(err, pgx.ErrNoRows) {
			return fmt.Errorf("put rollup %s: %w", r.Name, err)
		}
		if old == definition {
			return nil
		}
		_, err = tx.Exec(ctx, `INSERT INTO mullein.rollup (name, definition, put_by) VALUES ($1, $2, $3)
			ON CONFLICT (name) DO UPDATE SET definition = excluded.definition, put_by = excluded.put_by,
			put_at = now(), filled = false, problem = '', version = mullein.rollup.version + 1`, r.Name, definition, by)
		if err != nil {
			return fmt.Errorf("put rollup %s: %w", r.Name, err)
		}
		return nil
	})
}

// CheckRollup says what is wrong with a rollup's select and expressions, as far
// as the tables that it reads are there; else nil.
func (d *Database) CheckRollup(ctx context.Context, r *rollup.Rollup) error {
	for source := range r.From {
		if there, err := d.there(ctx, source); err != nil || !there {
			return err
		}
	}
	err := d.tried(ctx, r, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, "SELECT * FROM ("+r.Select+"\n) q LIMIT 0")
		if err != nil {
			return fmt.Errorf("select: %w", err)
		}
		has := map[string]bool{}
		for _, f := range rows.FieldDescriptions() {
			has[f.Name] = true
		}
		rows.Close()
		if err := rows.Err(); err != nil {
			return fmt.Errorf("select: %w", err)
		}
		for _, k := range r.Key {
			if !has[k] {
				return fmt.Errorf("key: the select gives no column %q", k)
			}
		}
		for source, of := range r.From {
			some := fmt.Sprintf("SELECT * FROM %s LIMIT %d", tableOf(source), rowsTried)
			keys := "SELECT " + expressions(r, of.Keys) + " FROM (" + some + ") t"
			if of.Select != "" {
				keys = "SELECT " + join(quoteAll(r.Key)) + " FROM (WITH touched AS (" + some + ") SELECT * FROM (" +
					of.Select + "\n) q) t"
			}
			// Its text makes sure that it is computed.
			if _, err := tx.Exec(ctx, "SELECT count(t::text) FROM ("+keys+") t"); err != nil {
				return fmt.Errorf("from.%s: %w", source, err)
			}
		}
		return nil
	})
	if err != nil {
		return &CannotError{fmt.Sprintf("rollup %s: %v", r.Name, err)}
	}
	return nil
}

// tried tries something of a rollup, with as little right as it will have, and takes all
// back.
func (d *Database) tried(ctx context.Context, r *rollup.Rollup, try func(tx pgx.Tx) error) error {
	var apart bool
	err := pgx.BeginFunc(ctx, d.pool, func(tx pgx.Tx) (err error) {
		if apart, err = rollupsApart(ctx, tx); err != nil || !apart {
			return err
		}
		return makeRole(ctx, tx, r)
	})
	if err != nil {
		return err
	}
	tx, err := d.pool.Begin(ctx)
	if err != nil {
		return fmt.Errorf("try rollup %s: %w", r.Name, err)
	}
	defer tx.Rollback(context.WithoutCancel(ctx)) // nothing of it stays
	if _, err := tx.Exec(ctx, "SET LOCAL transaction_read_only = on"); err != nil {
		return err
	}
	if err := allNamed(ctx, tx, r); err != nil { // without running anything
		return err
	}
	if apart {
		if _, err := tx.Exec(ctx, "SET LOCAL ROLE "+rollupRole); err != nil {
			return err
		}
	}
	return try(tx)
}

// rowsTried is for how many rows of a source its expressions are tried.
const rowsTried = 1000

// allNamed demands that from names all tables that selects read: what changes in others
// would not be noticed. A select of from must not read its own table beside touched: two
// rows of it that went together would not be found.
func allNamed(ctx context.Context, tx pgx.Tx, r *rollup.Rollup) error {
	for _, source := range append([]string{""}, slices.Sorted(maps.Keys(r.From))...) {
		query, where := r.Select, "select"
		with := ""
		if source != "" {
			query, where = r.From[source].Select, "from."+source
			with = "WITH touched AS (SELECT * FROM json_populate_record(NULL::" + tableOf(source) + ", '{}')) "
		}
		if query == "" {
			continue
		}
		read, err := tablesRead(ctx, tx, with+"SELECT * FROM ("+query+"\n) q")
		if err != nil {
			return fmt.Errorf("%s: %w", where, err)
		}
		for _, table := range read {
			if _, named := r.From[table]; !named {
				return fmt.Errorf("from: the select reads %s too, and from does not name it: its changes would not be "+
					"noticed", table)
			}
			if table == source {
				return fmt.Errorf("%s: it reads %s beside touched: rows of it that go together would not be found",
					where, table)
			}
		}
	}
	return nil
}

// tablesRead returns the tables that a query reads, by the planner's list.
func tablesRead(ctx context.Context, tx pgx.Tx, query string) ([]string, error) {
	var plan any
	if err := tx.QueryRow(ctx, "EXPLAIN (VERBOSE, FORMAT JSON) "+query).Scan(&plan); err != nil {
		return nil, err
	}
	read := map[string]bool{}
	relations(plan, read)
	var out []string
	for name := range read {
		// Of a table with partitions the planner names those.
		var root string
		if err := tx.QueryRow(ctx, `SELECT n.nspname || '.' || c.relname FROM pg_class c
			JOIN pg_namespace n ON n.oid = c.relnamespace
			WHERE c.oid = coalesce(pg_partition_root(to_regclass($1)), to_regclass($1))`,
			tableOf(name)).Scan(&root); err != nil {
			return nil, fmt.Errorf("look at %s: %w", name, err)
		}
		if !strings.HasPrefix(root, "pg_catalog.") {
			out = append(out, root)
		}
	}
	return out, nil
}

// relations gathers the tables that a plan reads.
func relations(plan any, into map[string]bool) {
	switch plan := plan.(type) {
	case []any:
		for _, p := range plan {
			relations(p, into)
		}
	case map[string]any:
		if name, ok := plan["Relation Name"].(string); ok {
			schema, _ := plan["Schema"].(string)
			into[schema+"."+name] = true
		}
		for _, p := range plan {
			relations(p, into)
		}
	}
}

func (d *Database) there(ctx context.Context, table string) (there bool, err error) {
	err = d.pool.QueryRow(ctx, "SELECT to_regclass($1) IS NOT NULL", tableOf(table)).Scan(&there)
	return there, err
}

// tableOf quotes schema.table.
func tableOf(name string) string {
	schema, table, _ := strings.Cut(name, ".")
	return quote(schema, table)
}

// expressions lists those of a source, in the order of the key.
func expressions(r *rollup.Rollup, of map[string]string) string {
	var list []string
	for _, k := range r.Key {
		list = append(list, "("+of[k]+")")
	}
	return join(list)
}

// Rollups returns all rollups of the database, by name.
func (d *Database) Rollups(ctx context.Context) ([]RollupState, error) {
	if err := d.Prepare(ctx); err != nil {
		return nil, err
	}
	rows, err := d.pool.Query(ctx, `SELECT r.id, r.name, r.definition, r.put_by, r.put_at, r.filled, r.computed_at,
		r.problem, (SELECT count(*) FROM mullein.touched t WHERE t.rollup = r.id)
		FROM mullein.rollup r ORDER BY name`)
	if err != nil {
		return nil, fmt.Errorf("read rollups: %w", err)
	}
	list, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (s RollupState, err error) {
		if err := row.Scan(&s.id, &s.Name, &s.Definition, &s.PutBy, &s.PutAt, &s.Filled, &s.ComputedAt, &s.Problem,
			&s.Waiting); err != nil {
			return s, err
		}
		r, err := rollup.Parse(s.Name+".yaml", []byte(s.Definition))
		if err != nil {
			s.Problem = err.Error()
			return s, nil
		}
		s.Rollup, s.About, s.Table, s.Key, s.Sources = *r, r.About, r.Table, r.Key, []string{}
		for source := range r.From {
			s.Sources = append(s.Sources, source)
		}
		return s, nil
	})
	if err != nil {
		return nil, fmt.Errorf("read rollups: %w", err)
	}
	return list, nil
}

// Lag is a rollup that is not in step with the tables that it reads.
type Lag struct {
	Rollup     string
	Waiting    int64      // notes of touched keys; mostCounted and one more for more
	ComputedAt *time.Time // when it was computed last; nil for never
	Problem    string     // why it is not kept; empty when it lags only
}

// notThereYet ends the problem of a rollup that reads a table which no load has made yet.
const notThereYet = " is not there yet"

// WaitsForTable reports whether the rollup was never computed, and waits for a table that it reads.
func (l *Lag) WaitsForTable() bool {
	return l.ComputedAt == nil && strings.HasSuffix(l.Problem, notThereYet)
}

// mostCounted is up to how many notes are counted.
const mostCounted = 100_000

// Lagging returns the rollups that are not in step, by name.
func (d *Database) Lagging(ctx context.Context) ([]Lag, error) {
	if err := d.Prepare(ctx); err != nil {
		return nil, err
	}
	rows, err := d.pool.Query(ctx, `SELECT * FROM (SELECT r.name, (SELECT count(*) FROM (SELECT 1
		FROM mullein.touched t WHERE t.rollup = r.id LIMIT $1) n) AS waiting, r.computed_at, r.problem, r.filled
			FROM mullein.rollup r) r WHERE waiting > 0 OR problem <> '' OR NOT filled ORDER BY name`, mostCounted+1)
	if err != nil {
		return nil, fmt.Errorf("look for rollups that lag: %w", err)
	}
	list, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (l Lag, err error) {
		var filled bool
		err = row.Scan(&l.Rollup, &l.Waiting, &l.ComputedAt, &l.Problem, &filled)
		return l, err
	})
	if err != nil {
		return nil, fmt.Errorf("look for rollups that lag: %w", err)
	}
	return list, nil
}

func (d *Database) rollup(ctx context.Context, name string) (*RollupState, error) {
	list, err := d.Rollups(ctx)
	if err != nil {
		return nil, err
	}
	for i := range list {
		if list[i].Name == name {
			return &list[i], nil
		}
	}
	return nil, fmt.Errorf("rollup %q: %w", name, ErrNoRollup)
}

// RemoveRollup ends a rollup. Its table stays as it is.
func (d *Database) RemoveRollup(ctx context.Context, name string) error {
	s, err := d.rollup(ctx, name)
	if err != nil {
		return err
	}
	// What is being computed is for nothing.
	_, err = d.pool.Exec(ctx, "SELECT pg_cancel_backend(pid) FROM pg_locks WHERE locktype = 'advisory' AND granted "+
		"AND objsubid = 2 AND classid = $1 AND objid = $2 AND database = (SELECT oid FROM pg_database WHERE datname = "+
		"current_database())",
		uint32(rollupSpace), uint32(s.id))
	if err != nil {
		return fmt.Errorf("end the computation of rollup %s: %w", name, err)
	}
	return d.underLock(ctx, s, func(tx pgx.Tx) error {
		if err := dropTriggers(ctx, tx, s, nil); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, "DELETE FROM mullein.rollup WHERE id = $1", s.id)
		return err
	})
}

// rollupSpace is the first key of the advisory locks of rollups.
const rollupSpace = lockSpace + 1

// underLock does something as the only one that works on a rollup.
func (d *Database) underLock(ctx context.Context, s *RollupState, do func(pgx.Tx) error) error {
	return pgx.BeginFunc(ctx, d.pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "SELECT pg_advisory_xact_lock($1, $2)", rollupSpace, s.id); err != nil {
			return err
		}
		if err := s.look(ctx, tx); err != nil {
			return fmt.Errorf("look at %s: %w", s.Table, err)
		}
		return do(tx)
	})
}

// KeepRollups brings all rollups in step with the tables that they read, and
// calls computed with each that it computed, and for how many keys.
func (d *Database) KeepRollups(ctx context.Context, computed func(rollup string, keys int64) error) error {
	var any bool
	if err := d.pool.QueryRow(ctx, "SELECT EXISTS (SELECT 1 FROM mullein.rollup r WHERE NOT filled OR problem <> '' "+
		"OR EXISTS (SELECT 1 FROM mullein.touched t WHERE t.rollup = r.id))").Scan(&any); err != nil || !any {
		return err
	}
	list, err := d.Rollups(ctx)
	if err != nil {
		return err
	}
	for i := range list {
		s := &list[i]
		if s.Table == "" || s.Filled && s.Waiting == 0 && s.Problem == "" {
			continue
		}
		n, err := d.keep(ctx, s)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		problem := ""
		if err != nil {
			problem = err.Error()
		}
		if problem != s.Problem {
			if _, err := d.pool.Exec(ctx, "UPDATE mullein.rollup SET problem = $2 WHERE id = $1", s.id,
				problem); err != nil {
				return fmt.Errorf("note a rollup's problem: %w", err)
			}
		}
		if n > 0 || err == nil && !s.Filled {
			if err := computed(s.Name, n); err != nil {
				return err
			}
		}
	}
	return nil
}

func (d *Database) keep(ctx context.Context, s *RollupState) (int64, error) {
	for source := range s.Rollup.From {
		there, err := d.there(ctx, source)
		if err != nil {
			return 0, err
		}
		if !there {
			return 0, errors.New("the table " + source + notThereYet)
		}
	}
	if !s.Filled {
		return d.RebuildRollup(ctx, s.Name)
	}
	var lost string
	err := d.pool.QueryRow(ctx, "SELECT coalesce(min(key #>> '{}'), '') FROM mullein.touched WHERE rollup = $1 AND "+
		"json_typeof(key) = 'string'",
		s.id).Scan(&lost)
	if err != nil {
		return 0, fmt.Errorf("look for touched keys: %w", err)
	}
	if lost != "" {
		return d.rebuildInstead(ctx, s, lost)
	}
	var keys int64
	err = d.underLock(ctx, s, func(tx pgx.Tx) (err error) {
		keys, err = s.follow(ctx, tx)
		return err
	})
	if fails := (*fromError)(nil); errors.As(err, &fails) {
		return d.rebuildInstead(ctx, s, fails.Error())
	}
	return keys, err
}

// rebuildInstead computes a rollup as a whole where it is not known what was touched. Its
// error, if it is computed, says why.
func (d *Database) rebuildInstead(ctx context.Context, s *RollupState, why string) (int64, error) {
	n, err := d.RebuildRollup(ctx, s.Name)
	if err == nil {
		err = fmt.Errorf("rollup %s: an expression of from fails: %s. It was computed as a whole instead", s.Name, why)
	}
	return n, err
}

// fromError says that a select of from fails.
type fromError struct {
	source string
	err    error
}

func (e *fromError) Error() string { return "from." + e.source + ": " + e.err.Error() }
func (e *fromError) Unwrap() error { return e.err }

// follow brings the table in step with what is noted, or with the next of many notes, and
// returns how many keys it recomputed.
func (s *RollupState) follow(ctx context.Context, tx pgx.Tx) (int64, error) {
	var whole bool
	err := tx.QueryRow(ctx, "SELECT EXISTS (SELECT 1 FROM mullein.touched WHERE rollup = $1 AND json_typeof(key) IN "+
		"('string', 'boolean'))", s.id).Scan(&whole)
	if err != nil {
		return 0, fmt.Errorf("look for touched keys: %w", err)
	}
	if !whole {
		found, err := s.keysOfRows(ctx, tx)
		if err != nil {
			return 0, err
		}
		whole = !found
	}
	if whole {
		return recomputeWhole(ctx, tx, s)
	}
	return recompute(ctx, tx, s)
}

// keysOfRows looks for the keys that noted rows touch and notes those in their stead. It
// reports false, and does nothing, where rows of more than one table wait.
func (s *RollupState) keysOfRows(ctx context.Context, tx pgx.Tx) (bool, error) {
	const waiting = "SELECT DISTINCT key->>0 AS source FROM mullein.touched WHERE rollup = $1 AND json_typeof(key) = " +
		"'array'"
	var source *string
	var several bool
	if err := tx.QueryRow(ctx, "SELECT min(source), count(*) > 1 FROM ("+waiting+") w", s.id).Scan(&source,
		&several); err != nil {
		return false, fmt.Errorf("look for touched rows: %w", err)
	}
	if source == nil || several {
		return !several, nil
	}
	of := s.Rollup.From[*source].Select
	if of == "" {
		return false, nil // of an earlier definition
	}
	var pairs []string
	for _, k := range s.Key {
		pairs = append(pairs, literal(k)+", q."+quote(k))
	}
	// Notes of other tables that came since are seen by the same statement.
	query := "WITH taken AS (DELETE FROM mullein.touched WHERE rollup = $1 AND json_typeof(key) = 'array' AND (SELECT " +
		"count(*) FROM (" + waiting +
		`) w) = 1 RETURNING key),
		touched AS MATERIALIZED (SELECT n.* FROM taken CROSS JOIN LATERAL json_populate_record(NULL::` +
		tableOf(*source) + ", key->1) n) " +
		"INSERT INTO mullein.touched (rollup, key) SELECT DISTINCT ON (key::text) $1, key FROM (SELECT " +
		"json_build_object(" + join(pairs) +
		") AS key FROM (" + of + "\n) q) k"
	err := s.withLittleRight(ctx, tx, func() error {
		_, err := tx.Exec(ctx, query, s.id)
		return err
	})
	if err != nil {
		return false, &fromError{*source, err}
	}
	return true, nil
}

// recomputeWhole takes all notes, and brings all rows up to date.
func recomputeWhole(ctx context.Context, tx pgx.Tx, s *RollupState) (int64, error) {
	with := fmt.Sprintf("taken AS (DELETE FROM mullein.touched WHERE rollup = %d RETURNING 1), fresh AS MATERIALIZED "+
		"(%s\n)", s.id, s.Rollup.Select)
	return s.write(ctx, tx, with, "true", "(SELECT count(*) FROM fresh)")
}

const (
	// fewTouched is up to how many notes the select is asked for each key: it then finds
	// the rows of a key by an index. For more, it is computed once.
	fewTouched = 500
	// touchedAtOnce bounds the notes that are taken in one transaction.
	touchedAtOnce = 1_000_000
)

// recompute takes notes of touched keys and brings the rows of those keys up to
// date, in one statement: what it sees of the sources is at least what those who
// left the notes had committed.
func recompute(ctx context.Context, tx pgx.Tx, s *RollupState) (int64, error) {
	var notes int
	if err := tx.QueryRow(ctx, "SELECT count(*) FROM (SELECT 1 FROM mullein.touched WHERE rollup = $1 LIMIT $2) n",
		s.id, fewTouched+1).Scan(&notes); err != nil {
		return 0, fmt.Errorf("look for touched keys: %w", err)
	}
	with := fmt.Sprintf(`taken AS (DELETE FROM mullein.touched WHERE ctid = ANY(ARRAY(SELECT ctid FROM mullein.touched
		WHERE rollup = %d AND json_typeof(key) = 'object' LIMIT %d)) RETURNING key),
		k AS MATERIALIZED (SELECT DISTINCT %s FROM taken CROSS JOIN LATERAL json_populate_record(NULL::%s, key) n),
		h AS MATERIALIZED (SELECT %s AS h FROM k), `, s.id, touchedAtOnce, s.columns("n", s.Key), tableOf(s.Table),
		s.hash("k"))
	among := s.hash("r") + " IN (SELECT h FROM h)"
	if notes > fewTouched {
		with += fmt.Sprintf("fresh AS MATERIALIZED (SELECT q.* FROM (%s\n) q WHERE %s IN (SELECT h FROM h))",
			s.Rollup.Select, s.hash("q"))
	} else {
		// OFFSET keeps the planner from computing all keys and choosing from them. A key with
		// nulls is not found by an index.
		const each = "SELECT f.* FROM (SELECT * FROM k WHERE %s(%s)) k CROSS JOIN LATERAL (SELECT * FROM (%s\n) q " +
			"WHERE %s OFFSET 0) f"
		with += "fresh AS MATERIALIZED (" + fmt.Sprintf(each, "", s.whole("k"), s.Rollup.Select, s.same("q", "k")) +
			" UNION ALL " +
			fmt.Sprintf(each, "NOT ", s.whole("k"), s.Rollup.Select, s.alike("q", "k")) + ")"
		const rows = "SELECT r.ctid FROM (SELECT * FROM k WHERE %s(%s)) k JOIN %s r ON %s"
		among = "r.ctid IN (" + fmt.Sprintf(rows, "", s.whole("k"), tableOf(s.Table), s.same("r", "k")) +
			" UNION ALL " +
			fmt.Sprintf(rows, "NOT ", s.whole("k"), tableOf(s.Table), s.alike("r", "k")) + ")"
	}
	return s.write(ctx, tx, with, among, "(SELECT count(*) FROM k)")
}

func (s *RollupState) same(a, b string) string {
	t := Table{Key: s.Key}
	return t.sameRow(a, b)
}

// alike is the SQL that reports whether two rows have the same key, nulls being alike.
func (s *RollupState) alike(a, b string) string {
	var list []string
	for _, k := range s.Key {
		list = append(list, a+"."+quote(k)+" IS NOT DISTINCT FROM "+b+"."+quote(k))
	}
	return strings.Join(list, " AND ")
}

// hash is the SQL of the hash of a row's key, in which nulls are alike.
func (s *RollupState) hash(of string) string {
	var list []string
	for _, k := range s.Key {
		list = append(list, wellHashed(of+"."+quote(k), s.types[k]))
	}
	return "hash_record_extended(ROW(" + join(list) + "), 0)"
}

// look finds out of which types the columns of the rollup's table are.
func (s *RollupState) look(ctx context.Context, tx pgx.Tx) error {
	rows, err := tx.Query(ctx, "SELECT attname, format_type(atttypid, atttypmod) FROM pg_attribute WHERE attrelid = "+
		"to_regclass($1) AND attnum > 0 AND NOT attisdropped",
		tableOf(s.Table))
	if err != nil {
		return err
	}
	s.types = map[string]string{}
	var name, sqlType string
	_, err = pgx.ForEachRow(rows, []any{&name, &sqlType}, func() error { s.types[name] = sqlType; return nil })
	return err
}

func (s *RollupState) columns(of string, names []string) string {
	var list []string
	for _, n := range names {
		list = append(list, of+"."+quote(n))
	}
	return join(list)
}

// whole is the SQL that reports whether no column of a row's key is null.
func (s *RollupState) whole(of string) string {
	var list []string
	for _, k := range s.Key {
		list = append(list, of+"."+quote(k)+" IS NOT NULL")
	}
	return strings.Join(list, " AND ")
}

// write makes those rows of the table for which among holds what the CTE fresh
// gives: it deletes, updates and inserts what differs, and leaves the rest.
func (s *RollupState) write(ctx context.Context, tx pgx.Tx, with, among, count string) (n int64, err error) {
	rows, err := tx.Query(ctx, "SELECT * FROM "+tableOf(s.Table)+" LIMIT 0")
	if err != nil {
		return 0, err
	}
	var all, names, sets []string
	for _, f := range rows.FieldDescriptions() {
		if f.Name != "computed_at" {
			all, names = append(all, f.Name), append(names, quote(f.Name))
			sets = append(sets, quote(f.Name)+" = excluded."+quote(f.Name))
		}
	}
	rows.Close()
	name := tableOf(s.Table)
	err = s.withLittleRight(ctx, tx, func() error {
		return tx.QueryRow(ctx, "WITH "+with+", gone AS (DELETE FROM "+name+" r WHERE "+among+
			" AND NOT "+s.hash("r")+" IN (SELECT "+s.hash("f")+` FROM fresh f)),
		put AS (INSERT INTO `+name+" AS r ("+join(names)+") SELECT "+s.columns("f", all)+` FROM fresh f
		ON CONFLICT (`+join(quoteAll(s.Key))+") DO UPDATE SET "+join(sets)+", computed_at = now() WHERE ROW("+
			s.columns("r", all)+")::text IS DISTINCT FROM ROW("+s.columns("excluded", all)+`)::text)
		SELECT `+count).Scan(&n)
	})
	if err != nil {
		return 0, fmt.Errorf("compute %s: %w", s.Table, err)
	}
	_, err = tx.Exec(ctx, "UPDATE mullein.rollup SET computed_at = now() WHERE id = $1", s.id)
	return n, err
}

// RebuildRollup computes a rollup as a whole: it makes the table and the triggers
// where they lack, and returns how many rows the rollup has.
func (d *Database) RebuildRollup(ctx context.Context, name string) (n int64, err error) {
	s, err := d.rollup(ctx, name)
	if err != nil {
		return 0, err
	}
	var apart bool
	err = d.underLock(ctx, s, func(tx pgx.Tx) (err error) {
		if err := s.make(ctx, tx); err != nil {
			return err
		}
		if apart, err = rollupsApart(ctx, tx); err != nil || !apart {
			return err
		}
		return s.giveRights(ctx, tx)
	})
	if err != nil {
		return 0, err
	}
	err = d.underLock(ctx, s, func(tx pgx.Tx) error {
		// The triggers wait for those who write at the moment, so that the select
		// sees what they write, or their notes come later.
		var noting []string
		for _, source := range slices.Sorted(maps.Keys(s.Rollup.From)) {
			if err := s.makeTriggers(ctx, tx, source, s.Rollup.From[source], apart); err != nil {
				return err
			}
			for event := range s.noting(source, s.Rollup.From[source]) {
				noting = append(noting, s.function(source, event))
			}
		}
		if err := dropTriggers(ctx, tx, s, noting); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, "DELETE FROM mullein.touched WHERE rollup = $1", s.id); err != nil {
			return err
		}
		if _, err := s.write(ctx, tx, "fresh AS MATERIALIZED ("+s.Rollup.Select+"\n)", "true", "0"); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, "UPDATE mullein.rollup SET filled = true, problem = '' WHERE id = $1",
			s.id); err != nil {
			return err
		}
		return tx.QueryRow(ctx, "SELECT count(*) FROM "+tableOf(s.Table)).Scan(&n)
	})
	return n, err
}

// make makes the rollup's table.
func (s *RollupState) make(ctx context.Context, tx pgx.Tx) error {
	schema, _, _ := strings.Cut(s.Table, ".")
	name := tableOf(s.Table)
	var there bool
	if err := tx.QueryRow(ctx, "SELECT to_regclass($1) IS NOT NULL", name).Scan(&there); err != nil {
		return err
	}
	if there {
		return s.allowNulls(ctx, tx)
	}
	for _, statement := range []string{
		"CREATE SCHEMA IF NOT EXISTS " + quote(schema),
		"CREATE TABLE " + name + " AS SELECT * FROM (" + s.Rollup.Select + "\n) q WITH NO DATA",
		"ALTER TABLE " + name + " ADD UNIQUE NULLS NOT DISTINCT (" + join(quoteAll(s.Key)) +
			"), ADD COLUMN computed_at timestamptz NOT NULL DEFAULT now()",
		"COMMENT ON TABLE " + name + " IS " + literal(s.About),
		"COMMENT ON COLUMN " + name + ".computed_at IS 'When the row was last computed otherwise than before.'",
	} {
		if _, err := tx.Exec(ctx, statement); err != nil {
			return fmt.Errorf("make %s: %w", s.Table, err)
		}
	}
	return nil
}

// allowNulls changes a table that was made when keys could not be null.
func (s *RollupState) allowNulls(ctx context.Context, tx pgx.Tx) error {
	var primary string
	err := tx.QueryRow(ctx, "SELECT conname FROM pg_constraint WHERE conrelid = to_regclass($1) AND contype = 'p'",
		tableOf(s.Table)).Scan(&primary)
	if errors.Is(err, pgx.ErrNoRows) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("look at the key of %s: %w", s.Table, err)
	}
	alter := "ALTER TABLE " + tableOf(s.Table) + " DROP CONSTRAINT " + quote(primary) +
		", ADD UNIQUE NULLS NOT DISTINCT (" +
		join(quoteAll(s.Key)) + ")"
	for _, k := range s.Key {
		alter += ", ALTER COLUMN " + quote(k) + " DROP NOT NULL"
	}
	if _, err := tx.Exec(ctx, alter); err != nil {
		return fmt.Errorf("change the key of %s: %w", s.Table, err)
	}
	return nil
}

// function is the name of what notes an event of a source, whose own name may be as long
// as a name can be.
func (s *RollupState) function(source, event string) string {
	sum := sha256.Sum256([]byte(source))
	return fmt.Sprintf("touch_%d_%x_%s", s.id, sum[:8], strings.ToLower(event))
}

// noted is what a change of a source notes.
type noted struct {
	note string // PL/pgSQL
	rows string // what the trigger is to refer to
}

// noting is what each kind of change of a source notes.
func (s *RollupState) noting(source string, of rollup.Source) map[string]noted {
	var pairs []string
	for _, k := range s.Key {
		pairs = append(pairs, literal(k)+", "+"("+of.Keys[k]+")")
	}
	note := func(rows string) string {
		if of.Select != "" {
			return s.noteRows(source, rows)
		}
		return fmt.Sprintf("INSERT INTO mullein.touched (rollup, key) SELECT DISTINCT ON (key::text) %d, key FROM "+
			"(SELECT json_build_object(%s) AS key FROM %s) k;", s.id, join(pairs), rows)
	}
	return map[string]noted{
		"INSERT": {note("new_rows"), "REFERENCING NEW TABLE AS new_rows"},
		"DELETE": {note("old_rows"), "REFERENCING OLD TABLE AS old_rows"},
		"UPDATE": {note("(SELECT * FROM old_rows UNION ALL SELECT * FROM new_rows) both_rows"),
			"REFERENCING OLD TABLE AS old_rows NEW TABLE AS new_rows"},
		"TRUNCATE": {fmt.Sprintf("INSERT INTO mullein.touched (rollup, key) VALUES (%d, 'true');", s.id), ""},
	}
}

// makeTriggers notes the keys that changes of a source touch.
func (s *RollupState) makeTriggers(ctx context.Context, tx pgx.Tx, source string, of rollup.Source, apart bool) error {
	if _, err := tx.Exec(ctx, "LOCK TABLE "+tableOf(source)+" IN SHARE ROW EXCLUSIVE MODE"); err != nil {
		return fmt.Errorf("lock %s: %w", source, err)
	}
	for event, on := range s.noting(source, of) {
		function := "mullein." + quote(s.function(source, event))
		// An expression that fails must not stop who writes to the source. The note says
		// that nobody knows which keys were touched, and why.
		body := "#variable_conflict use_column\nBEGIN BEGIN " + on.note + fmt.Sprintf(
			" EXCEPTION WHEN OTHERS THEN INSERT INTO mullein.touched (rollup, key) VALUES (%d, to_json(SQLERRM)); "+
				"END; RETURN NULL; END", s.id)
		owner := "CURRENT_USER"
		if apart {
			owner = rollupRole
		}
		for _, statement := range []string{
			"CREATE OR REPLACE FUNCTION " + function + "() RETURNS trigger LANGUAGE plpgsql SECURITY DEFINER SET " +
				"search_path = pg_catalog, public, pg_temp AS " + literal(body),
			"CREATE OR REPLACE TRIGGER " + quote(fmt.Sprintf("mullein_touch_%d_%s", s.id, strings.ToLower(event))) +
				" AFTER " +
				event + " ON " + tableOf(source) + " " + on.rows + " FOR EACH STATEMENT EXECUTE FUNCTION " +
				function + "()",
			"ALTER FUNCTION " + function + "() OWNER TO " + owner,
		} {
			if _, err := tx.Exec(ctx, statement); err != nil {
				return fmt.Errorf("note what touches %s: %w", source, err)
			}
		}
	}
	return nil
}

// rowsNoted is up to how many rows of one change are noted.
const rowsNoted = 100_000

// noteRows is what notes rows whose keys it takes a select to know.
func (s *RollupState) noteRows(source, rows string) string {
	return fmt.Sprintf(`IF (SELECT count(*) FROM (SELECT 1 FROM %[3]s LIMIT %[4]d + 1) n) > %[4]d THEN
		INSERT INTO mullein.touched (rollup, key) VALUES (%[1]d, 'true');
	ELSE
		INSERT INTO mullein.touched (rollup, key) SELECT DISTINCT ON (key::text) %[1]d, key
		FROM (SELECT json_build_array(%[2]s, to_json(noted)) AS key FROM %[5]s) k;
	END IF;`, s.id, literal(source), rows, rowsNoted, "(SELECT * FROM "+rows+") noted")
}

// dropTriggers takes a rollup's triggers and their functions away, but for some.
func dropTriggers(ctx context.Context, tx pgx.Tx, s *RollupState, keep []string) error {
	rows, err := tx.Query(ctx, `SELECT p.proname FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace
		WHERE n.nspname = 'mullein' AND p.proname LIKE $1 AND NOT p.proname = ANY($2)`,
		fmt.Sprintf(`touch\_%d\_%%`, s.id), append([]string{}, keep...))
	if err != nil {
		return err
	}
	names, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return err
	}
	for _, n := range names {
		if _, err := tx.Exec(ctx, "DROP FUNCTION mullein."+quote(n)+"() CASCADE"); err != nil {
			return fmt.Errorf("drop %s: %w", n, err)
		}
	}
	return nil
}

// RollupVerified is what a comparison of a rollup with a full computation found.
type RollupVerified struct {
	Rows    int64 // of the rollup
	Same    int64
	Wrong   int64             // rows that the select gives otherwise
	Missing int64             // rows that the select gives and the rollup lacks
	Surplus int64             // rows that the select does not give
	Samples []json.RawMessage // keys of rows that are not the same
}

// VerifyRollup compares a rollup with a full computation, after bringing it up
// to date.
func (d *Database) VerifyRollup(ctx context.Context, name string) (*RollupVerified, error) {
	s, err := d.rollup(ctx, name)
	if err != nil {
		return nil, err
	}
	if there, err := d.there(ctx, s.Table); err != nil || !there {
		return nil, errors.Join(err, &CannotError{"the table " + s.Table + notThereYet})
	}
	v := &RollupVerified{Samples: []json.RawMessage{}}
	err = d.underLock(ctx, s, func(tx pgx.Tx) error {
		for s.Waiting > 0 {
			n, err := s.follow(ctx, tx)
			if err != nil {
				return err
			}
			if n == 0 {
				break
			}
		}
		const compare = ` FROM (SELECT to_jsonb(q.*) AS row, %s AS h FROM (%s
			) q) q FULL JOIN (SELECT to_jsonb(r.*) - 'computed_at' AS row, %s AS h FROM %s r) r ON q.h = r.h`
		from := fmt.Sprintf(compare, s.hash("q"), s.Rollup.Select, s.hash("r"), tableOf(s.Table))
		err := s.withLittleRight(ctx, tx, func() error {
			return tx.QueryRow(ctx, "SELECT count(r.row), count(*) FILTER (WHERE q.row = r.row), count(*) FILTER "+
				"(WHERE q.row <> r.row), count(*) FILTER (WHERE r.row IS NULL), count(*) FILTER (WHERE q.row IS "+
				"NULL)"+from).Scan(&v.Rows, &v.Same, &v.Wrong, &v.Missing, &v.Surplus)
		})
		if err != nil {
			return fmt.Errorf("compare %s: %w", s.Table, err)
		}
		return s.withLittleRight(ctx, tx, func() error {
			rows, err := tx.Query(ctx, "SELECT coalesce(q.row, r.row)"+from+" WHERE q.row IS DISTINCT FROM r.row "+
				"LIMIT 10")
			if err != nil {
				return err
			}
			v.Samples, err = pgx.CollectRows(rows, pgx.RowTo[json.RawMessage])
			return err
		})
	})
	return v, err
}

func quoteAll(names []string) []string {
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = quote(n)
	}
	return out
}
