package table

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"mullein/internal/core/check"
	"mullein/internal/core/feed"
	"mullein/internal/core/tabular"
)

// Column is a column of a target table.
type Column struct {
	Name      string
	Kind      tabular.Kind
	NotNull   bool
	Comment   string
	MaxLength int // characters of a text; 0 for no bound
}

// Table is what a feed wants its target to be.
type Table struct {
	Schema, Name string
	Comment      string
	Own          []Column // those that come from rows, in the order in which rows are handed in
	Columns      []Column // Own, then the lineage columns
	Key          []string
	Newest       string // the column by which the newest row of a key wins; "" for the order of loads
	Ranked       bool   // that order goes by ranks: see [Load.Rank]
	Lineage      feed.Lineage
	Deletes      bool // some rows say that their key is to be deleted

	Mode            feed.Mode
	Part            string // of [feed.ReplacePart]
	Merge           map[string]feed.Merge
	Absent          feed.Absent
	AbsentAtMost    check.Tolerance
	HasAbsentAtMost bool
	Journal         bool // what loads change is kept
	Missing         feed.MissingColumns
}

func (t *Table) String() string { return t.Schema + "." + t.Name }

// NewTable completes a table from its own columns.
func NewTable(schema, name, comment string, own []Column, key []string, newest string, lineage feed.Lineage) *Table {
	t := &Table{Schema: schema, Name: name, Comment: comment, Own: own, Key: key, Newest: newest, Lineage: lineage,
		Mode: feed.Upsert}
	t.Columns = slices.Clone(own)
	for i := range t.Columns {
		t.Columns[i].NotNull = t.Columns[i].NotNull || slices.Contains(key, t.Columns[i].Name)
	}
	for _, l := range []Column{
		{Name: lineage.FromFile, Kind: tabular.Text, Comment: "The file that the row came from, below the landing."},
		{Name: lineage.FromLine, Kind: tabular.Integer, Comment: "The line of that file."},
		{Name: lineage.FromArrival, Kind: tabular.Integer,
			Comment: "The arrival that wrote the row, in Mullein's ledger."},
		{Name: lineage.LoadedRun, Kind: tabular.Integer, Comment: "The run that wrote the row."},
		{Name: lineage.LoadedAt, Kind: tabular.Instant, Comment: "When the row was written."},
		{Name: lineage.RowDigest, Kind: tabular.Binary, Comment: "Digest of the row's own columns; equal digests are " +
			"equal rows."},
		{Name: lineage.AbsentSince, Kind: tabular.Instant, Comment: "Since when deliveries lack the row."},
	} {
		if l.Name != "" {
			t.Columns = append(t.Columns, l)
		}
	}
	return t
}

// sqlTypes is what each kind becomes in a table that we create, then what is
// taken as well in a table that others made.
var sqlTypes = map[tabular.Kind][]string{
	tabular.Text:    {"text", "character varying", "character", "citext"},
	tabular.Integer: {"bigint", "integer", "smallint", "numeric"},
	tabular.Decimal: {"numeric", "double precision", "real"},
	tabular.Float:   {"double precision", "real", "numeric"},
	tabular.Boolean: {"boolean"},
	tabular.Instant: {"timestamp with time zone"},
	tabular.Day:     {"date"},
	tabular.Clock:   {"time without time zone"},
	tabular.Span:    {"interval"},
	tabular.Point:   {"point"},
	tabular.JSON:    {"jsonb", "json"},
	tabular.Binary:  {"bytea"},
	tabular.UUID:    {"uuid"},
}

// MisfitError lists how an existing table differs from what the feed wants.
type MisfitError struct {
	Table       string
	Differences []string

	mends    []string // what each difference takes, after ALTER TABLE; "" for what nobody can mend so
	mendable bool     // all of them can be mended
	lineage  bool     // a lineage column is missing
	made     bool     // we made the table, so a rebuild may give it another shape
}

func (e *MisfitError) Error() string {
	out := fmt.Sprintf("table %s does not fit the feed: %s", e.Table, strings.Join(e.Differences, "; "))
	if e.made {
		out += "; " + rebuildGives
	}
	return out
}

const rebuildGives = "`mullein feed rebuild` gives it the new shape and loads all files into it again"

// WaysOut says what people may do about it, beside the statements that the differences
// name.
func (e *MisfitError) WaysOut() []string {
	var out []string
	if e.mendable {
		out = append(out, "target.missing_columns: add  lets Mullein add and widen columns itself")
	}
	if e.lineage {
		out = append(out, "target.lineage: none  does without lineage columns, and without what needs them; or give "+
			"them other names there")
	}
	if e.made {
		out = append(out, rebuildGives)
	}
	return out
}

// Fitted is a table that is there and fits.
type Fitted struct {
	*Table
	id        int // in the bookkeeping
	oid       uint32
	casts     map[string]string // by own column: what makes a staged value comparable with the target's
	types     map[string]string // of all columns, as the database writes them
	ranges    string            // the column by whose ranges it is partitioned; "" for none
	becomes   map[string]string // by column that is missing or too narrow: the type that it is to have
	standIn   string            // what stands for the table in loads, quoted; "" for the table itself
	view      string            // the query of a view that stands for it
	has       []string          // all columns that the table has
	writable  []string          // those that the database does not generate
	limits    map[string]tabular.Limit
	bytewise  bool   // equal keys have equal bytes, so a filter of hashes finds all repeats
	lateIndex string // the constraint to make anew after the first rows; "" when that must not be done
	lateDef   string
}

// Limit returns what an own column cannot take although the feed's schema may allow it.
func (f *Fitted) Limit(column string) tabular.Limit { return f.limits[column] }

// Exists reports whether the table is there: [Database.Look] does not make it.
func (f *Fitted) Exists() bool { return f.oid != 0 }

// Fit makes the schema and the table when they are absent, and otherwise holds
// the table against what the feed wants. Differences are a [*MisfitError].
func (d *Database) Fit(ctx context.Context, t *Table) (*Fitted, error) {
	oid, err := find(ctx, d.pool, t)
	if err != nil {
		return nil, err
	}
	f := &Fitted{Table: t, oid: oid, casts: map[string]string{}}
	if oid == 0 {
		if made, err := d.create(ctx, f); err != nil || made {
			return f, err
		}
	}
	misfit, err := d.misfit(ctx, f)
	if err != nil {
		return nil, err
	}
	if misfit != nil && misfit.mendable && d.mayChange(t, misfit) {
		if err := d.change(ctx, t, misfit.mends); err != nil {
			return nil, err
		}
		if misfit, err = d.misfit(ctx, f); err != nil {
			return nil, err
		}
	}
	if misfit != nil {
		return nil, misfit
	}
	return f, d.register(ctx, f)
}

// misfit is compare; of a table that does not fit it finds out who made it.
func (d *Database) misfit(ctx context.Context, f *Fitted) (misfit *MisfitError, err error) {
	now, err := look(ctx, d.pool, f.oid)
	if err != nil {
		return nil, err
	}
	if err = d.compare(ctx, f, now); !errors.As(err, &misfit) {
		return nil, err
	}
	err = d.pool.QueryRow(ctx, "SELECT coalesce((SELECT made FROM mullein.target WHERE name = $1), false)",
		f.String()).Scan(&misfit.made)
	if err != nil {
		return nil, fmt.Errorf("look who made table %s: %w", f, err)
	}
	return misfit, nil
}

// find returns the number of a table in the catalogs, 0 when it is not there.
func find(ctx context.Context, q queryer, t *Table) (oid uint32, err error) {
	err = q.QueryRow(ctx, `SELECT c.oid FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE n.nspname = $1 AND c.relname = $2`, t.Schema, t.Name).Scan(&oid)
	if errors.Is(err, pgx.ErrNoRows) {
		return 0, nil
	}
	if err != nil {
		return 0, fmt.Errorf("look for table %s: %w", t, err)
	}
	return oid, nil
}

// Shapes returns a word for the shape of each of some tables, named as schema.table: it
// is another one when their columns, indexes, constraints or rights are others. Tables
// that are not there are left out.
func (d *Database) Shapes(ctx context.Context, tables []string) (map[string]string, error) {
	rows, err := d.pool.Query(ctx, `SELECT t, md5(concat_ws(' ', c.oid, c.relkind, c.relacl,
			(SELECT string_agg(a.xmin::text, ' ' ORDER BY a.attnum) FROM pg_attribute a WHERE a.attrelid = c.oid
			AND a.attnum > 0),
			(SELECT string_agg(i.indexrelid::text, ' ' ORDER BY i.indexrelid) FROM pg_index i WHERE i.indrelid = c.oid
			AND i.indisvalid),
			(SELECT string_agg(k.oid::text, ' ' ORDER BY k.oid) FROM pg_constraint k WHERE k.conrelid = c.oid)))
		FROM unnest($1::text[]) t JOIN pg_namespace n ON n.nspname = split_part(t, '.', 1)
		JOIN pg_class c ON c.relnamespace = n.oid AND c.relname = substr(t, length(n.nspname) + 2)`, tables)
	if err != nil {
		return nil, fmt.Errorf("look at the shapes of tables: %w", err)
	}
	out := map[string]string{}
	var name, shape string
	_, err = pgx.ForEachRow(rows, []any{&name, &shape}, func() error { out[name] = shape; return nil })
	return out, err
}

// mayChange reports whether a table may be altered to fit: the feed says so, or it
// is one that we made and the feed does not forbid it.
func (d *Database) mayChange(t *Table, misfit *MisfitError) bool {
	return t.Missing == feed.AddMissingColumns || t.Missing == feed.AddToOwn && misfit.made
}

// register gives the table its number in the bookkeeping. Its rows are counted once,
// when it is met for the first time.
func (d *Database) register(ctx context.Context, f *Fitted) error {
	var hash int
	err := d.pool.QueryRow(ctx, "SELECT id, key_hash FROM mullein.target WHERE name = $1", f.String()).Scan(&f.id,
		&hash)
	if errors.Is(err, pgx.ErrNoRows) {
		err = d.pool.QueryRow(ctx, `INSERT INTO mullein.target AS t (name, rows, made, key_hash)
			SELECT $1, count(*), false, 1 FROM `+quote(f.Schema, f.Name)+`
			ON CONFLICT (name) DO UPDATE SET made = t.made RETURNING id, key_hash`, f.String()).Scan(&f.id, &hash)
	}
	if err != nil {
		return fmt.Errorf("note table %s: %w", f, err)
	}
	if hash == 0 && f.standIn == "" { // else all keys are about to be named anew
		return d.rehash(ctx, f)
	}
	return nil
}

// create makes a table, takes it up and gives it its number in the bookkeeping. It reports
// false when somebody else made it meanwhile; then it is only found.
func (d *Database) create(ctx context.Context, f *Fitted) (made bool, err error) {
	t, hash := f.Table, 1
	err = pgx.BeginFunc(ctx, d.pool, func(tx pgx.Tx) error {
		// Two services may come to the table at once; but the tables of others are made
		// at the same time.
		var there bool
		if err := tx.QueryRow(ctx, "SELECT to_regnamespace($3) IS NOT NULL FROM (SELECT pg_advisory_xact_lock($1, "+
			"hashtext($2)) OFFSET 0) locked",
			makeSpace, t.String(), quote(t.Schema)).Scan(&there); err != nil {
			return err
		}
		ddl := t.DDL()
		if there {
			ddl = ddl[1:]
		} else if _, err := tx.Exec(ctx, "SELECT pg_advisory_xact_lock($1, 0)", lockSpace); err != nil {
			return err
		} else if _, err := tx.Exec(ctx,
			"SELECT FROM pg_namespace LIMIT "+
				"1"); err != nil { // with its lock the session hears of what others have made
			return err
		}
		if _, err := tx.Conn().PgConn().Exec(ctx, strings.Join(ddl, ";\n")).ReadAll(); err != nil {
			return err
		}
		now, err := f.asMade(ctx, tx)
		if err != nil || now == nil {
			return err
		}
		made = true
		if err := d.compare(ctx, f, now); err != nil {
			return err
		}
		return tx.QueryRow(ctx, `INSERT INTO mullein.target AS t (name, rows, made, key_hash) VALUES ($1, 0, true, 1)
			ON CONFLICT (name) DO UPDATE SET rows = 0, made = true RETURNING id, key_hash`, t.String()).Scan(&f.id,
			&hash)
	})
	if isDenied(err) {
		return false, fmt.Errorf("table %s cannot be made (%w); run: GRANT CREATE ON DATABASE %s TO %s, or create the "+
			"schema and GRANT USAGE, CREATE ON SCHEMA %s TO %s",
			t, err, quote(d.config.Database), quote(d.config.User), quote(t.Schema), quote(d.config.User))
	}
	if err != nil {
		return false, fmt.Errorf("make table %s: %w", t, err)
	}
	if hash == 0 { // a table of that name was here before, and went
		return made, d.rehash(ctx, f)
	}
	return made, nil
}

// asMade returns the shape of a table that this transaction has made; nil when somebody
// else had made it before. Little has to be asked for it: there may be thousands of new
// tables.
func (f *Fitted) asMade(ctx context.Context, tx pgx.Tx) (*shape, error) {
	s := &shape{kind: "r", mayRead: true, mayInsert: true, mayUpdate: true}
	key := uniqueIndex{columns: slices.Sorted(slices.Values(f.Key))}
	var made bool
	err := tx.QueryRow(ctx, `SELECT t.oid, t.xmin = pg_current_xact_id()::xid, coalesce(c.conname, ''),
		coalesce(pg_get_constraintdef(c.oid), ''),
			coalesce(x.reltablespace = 0, true) AND NOT EXISTS (SELECT 1 FROM pg_publication WHERE puballtables)
		FROM pg_namespace n JOIN pg_class t ON t.relnamespace = n.oid LEFT JOIN pg_constraint c ON c.conrelid = t.oid
		AND c.contype = 'p' LEFT JOIN pg_class x ON x.oid = c.conindid
		WHERE n.nspname = $1 AND t.relname = $2`, f.Schema, f.Name).Scan(&f.oid, &made, &key.name, &key.definition,
		&key.alone)
	if err != nil || !made {
		return nil, err
	}
	if f.keyed() {
		s.keys = []uniqueIndex{key}
	}
	for _, c := range f.Columns {
		s.columns = append(s.columns, existing{name: c.Name, sqlType: sqlTypes[c.Kind][0], notNull: c.NotNull,
			deterministic: true})
	}
	return s, nil
}

// DDL returns the statements that make the table, each without its semicolon.
func (t *Table) DDL() []string {
	return append([]string{"CREATE SCHEMA IF NOT EXISTS " + quote(t.Schema), t.create()}, t.comments()...)
}

func (t *Table) create() string {
	var lines []string
	for _, c := range t.Columns {
		line := quote(c.Name) + " " + sqlTypes[c.Kind][0]
		if c.NotNull {
			line += " NOT NULL"
		}
		lines = append(lines, line)
	}
	if t.keyed() {
		lines = append(lines, "PRIMARY KEY ("+join(quoteAll(t.Key))+")")
	}
	storage := ""
	if t.keyed() && t.Mode != feed.AddMissing {
		// Room for rows that are updated to stay on their page, up to a third of them at once: then the
		// key's index is not written, and half as many pages are.
		storage = " WITH (fillfactor = 75)"
	}
	return "CREATE TABLE IF NOT EXISTS " + quote(t.Schema, t.Name) + " (\n  " + strings.Join(lines, ",\n  ") + "\n)" +
		storage
}

func (t *Table) comments() []string {
	var statements []string
	name := quote(t.Schema, t.Name)
	for _, c := range t.Columns {
		if c.Comment != "" {
			statements = append(statements, "COMMENT ON COLUMN "+name+"."+quote(c.Name)+" IS "+literal(c.Comment))
		}
	}
	if t.Comment != "" {
		statements = append(statements, "COMMENT ON TABLE "+name+" IS "+literal(t.Comment))
	}
	return statements
}

// literal writes a text for statements that take no parameters.
func literal(s string) string {
	s = strings.ReplaceAll(strings.ReplaceAll(s, "\x00", ""), "'", "''")
	if strings.Contains(s, `\`) {
		return " E'" + strings.ReplaceAll(s, `\`, `\\`) + "'"
	}
	return "'" + s + "'"
}

// shape is a table as the database has it.
type shape struct {
	kind                          string // of pg_class
	mayRead, mayInsert, mayUpdate bool
	ranges                        string // the column by whose ranges it is partitioned; "" for none
	columns                       []existing
	keys                          []uniqueIndex
}

// uniqueIndex is a unique index over whole columns.
type uniqueIndex struct {
	columns          []string // sorted
	name, definition string   // of the constraint, where it is the primary key's
	alone            bool     // nothing else hangs on the table
}

// existing is a column as the database has it.
type existing struct {
	sqlType, name     string
	collation         string // quoted; "" for the database's own
	notNull, defaults bool
	generated         bool
	deterministic     bool
}

// cast is what follows a staged value of a kind, so that it can be compared
// with the column in the column's own notion of equality. It never cuts a
// value to the column's length.
func (e existing) cast(k tabular.Kind) string {
	base, _, _ := strings.Cut(e.sqlType, "(")
	cast := ""
	switch {
	case base == "character":
		cast = "::bpchar"
	case base != sqlTypes[k][0] && base != "character varying":
		cast = "::" + base
	}
	if e.collation != "" {
		cast += " COLLATE " + e.collation
	}
	return cast
}

// limit returns what the column takes.
func (e existing) limit() tabular.Limit {
	l := tabular.Limit{Type: e.sqlType, NotNull: e.notNull}
	base, modifier, _ := strings.Cut(e.sqlType, "(")
	switch base {
	case "character varying", "character":
		_, _ = fmt.Sscanf(modifier, "%d)", &l.MaxLength) // 0 when it has none
	case "smallint":
		l.Bits = 16
	case "integer":
		l.Bits = 32
	case "numeric":
		_, _ = fmt.Sscanf(modifier, "%d,%d)", &l.Digits, &l.Scale)
	}
	return l
}

// say adds a difference that nobody can mend by altering the table.
func (e *MisfitError) say(format string, args ...any) { e.mend("", format, args...) }

// mend adds a difference, with what mends it after ALTER TABLE; "" for nothing.
func (e *MisfitError) mend(mend, format string, args ...any) {
	e.Differences, e.mends = append(e.Differences, fmt.Sprintf(format, args...)), append(e.mends, mend)
	e.mendable = e.mendable && mend != ""
}

// compare compares the table with what the feed wants, difference by difference.
func (d *Database) compare(ctx context.Context, f *Fitted, has *shape) error {
	misfit := &MisfitError{Table: f.String(), mendable: true}
	if has.kind != "r" && has.kind != "p" {
		return &MisfitError{Table: f.String(),
			Differences: []string{"it is not a table but a view or something else that rows cannot be merged into"}}
	}
	f.ranges = has.ranges
	f.compareColumns(has.columns, misfit)
	if f.keyed() && !f.compareKey(has.keys) {
		misfit.say("no primary key or unique index over (%s)%s", strings.Join(f.Key, ", "), d.repeated(ctx, f))
	}
	if !has.mayRead || !has.mayInsert || !has.mayUpdate {
		misfit.say("rights lack; its owner may run: GRANT SELECT, INSERT, UPDATE ON %s TO %s", quote(f.Schema, f.Name),
			quote(d.config.User))
	}
	if len(misfit.Differences) > 0 {
		return misfit
	}
	return nil
}

// compareColumns takes up what columns the table has, and says how they differ from those
// that are wanted.
func (f *Fitted) compareColumns(columns []existing, misfit *MisfitError) {
	byName := map[string]existing{}
	f.types, f.becomes, f.has, f.writable = map[string]string{}, map[string]string{}, nil, nil
	f.limits = map[string]tabular.Limit{}
	for _, c := range columns {
		byName[c.name] = c
		f.has = append(f.has, c.name)
		f.types[c.name] = c.sqlType
		if !c.generated {
			f.writable = append(f.writable, c.name)
		}
	}
	wanted := map[string]bool{}
	f.bytewise = true
	for _, c := range f.Columns {
		wanted[c.Name] = true
		has, there := byName[c.Name]
		if has = f.compareColumn(c, has, there, misfit); slices.Contains(f.Key, c.Name) {
			base, _, _ := strings.Cut(has.sqlType, "(")
			f.bytewise = f.bytewise && has.deterministic && (base == sqlTypes[c.Kind][0] || base == "character varying")
		}
		limit := has.limit()
		limit.NotNull = limit.NotNull && !slices.Contains(f.Key, c.Name) // no key has nulls anyway
		f.limits[c.Name] = limit
		f.casts[c.Name] = has.cast(c.Kind)
	}
	for _, c := range columns {
		if !wanted[c.name] && c.notNull && !c.defaults && !c.generated {
			misfit.say("column %s is NOT NULL without a default, and the feed does not fill it", c.name)
		}
	}
}

// compareColumn says how a column differs from what is wanted of it, and returns it as it
// is when that is mended.
func (f *Fitted) compareColumn(c Column, has existing, there bool, misfit *MisfitError) existing {
	wider := widens(has.sqlType, c)
	base, _, _ := strings.Cut(has.sqlType, "(")
	switch {
	case !there:
		has = existing{sqlType: sqlTypes[c.Kind][0], deterministic: true}
		f.becomes[c.Name] = has.sqlType
		mend := "ADD COLUMN " + quote(c.Name) + " " + has.sqlType
		whole := mend
		misfit.lineage = misfit.lineage || slices.Contains(f.Lineage.Names(), c.Name)
		if slices.Contains(f.Key, c.Name) {
			whole = "" // rows that are there have no value for it
		}
		misfit.mend(whole, "column %s is missing (ALTER TABLE %s %s)", c.Name, quote(f.Schema, f.Name), mend)
	case has.generated:
		misfit.say("column %s is generated by the database and cannot be written", c.Name)
	case wider != "":
		f.becomes[c.Name] = wider
		misfit.mend("ALTER COLUMN "+quote(c.Name)+" TYPE "+wider,
			"column %s is %s; the feed needs %s (ALTER TABLE %s ALTER COLUMN %s TYPE %s)", c.Name, has.sqlType,
			wider, quote(f.Schema, f.Name), quote(c.Name), wider)
		has.sqlType = wider
	case !slices.Contains(sqlTypes[c.Kind], base):
		misfit.say("column %s is %s; the feed needs %s", c.Name, has.sqlType, sqlTypes[c.Kind][0])
	}
	return has
}

// widens returns the wider type that a column of a type has to become, to take
// every value of the feed's; "" when it need not, or cannot.
func widens(has string, c Column) string {
	base, rest, _ := strings.Cut(has, "(")
	var length int
	_, _ = fmt.Sscanf(rest, "%d)", &length) // 0 when it has none
	integers := []string{"smallint", "integer", "bigint"}
	switch {
	case c.Kind == tabular.Decimal && slices.Contains(integers, base):
		return "numeric"
	case c.Kind == tabular.Float && (slices.Contains(integers[:2], base)):
		return "double precision"
	case c.Kind == tabular.Text && base == "character varying" && length > 0 && c.MaxLength > length:
		return fmt.Sprintf("character varying(%d)", c.MaxLength)
	}
	return ""
}

// writtenAnew notes that all rows of a table bear this transaction's number, as
// they do when they are written anew for another type.
func (t *Table) writtenAnew() string {
	return "UPDATE mullein.target SET writers = writers || pg_current_xact_id()::xid::text::bigint WHERE name = " +
		literal(t.String())
}

// change alters a table so that it fits.
func (d *Database) change(ctx context.Context, t *Table, mends []string) error {
	err := pgx.BeginFunc(ctx, d.pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "SET LOCAL lock_timeout = '20s'"); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, "ALTER TABLE "+quote(t.Schema, t.Name)+" "+join(mends)); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, t.writtenAnew())
		return err
	})
	if err != nil {
		return fmt.Errorf("change table %s: %w", t, err)
	}
	return nil
}

// look returns the shape of a table.
func look(ctx context.Context, q queryer, oid uint32) (*shape, error) {
	s := &shape{}
	var b pgx.Batch
	b.Queue(`SELECT relkind::text, has_table_privilege(oid, 'SELECT'), has_table_privilege(oid, 'INSERT'),
		has_table_privilege(oid, 'UPDATE'),
			coalesce((SELECT a.attname::text FROM pg_partitioned_table p
			JOIN pg_attribute a ON a.attrelid = p.partrelid AND a.attnum = p.partattrs[0]
				WHERE p.partrelid = oid AND p.partstrat = 'r' AND p.partnatts = 1), '')
		FROM pg_class WHERE oid = $1`, oid).QueryRow(func(row pgx.Row) error {
		return row.Scan(&s.kind, &s.mayRead, &s.mayInsert, &s.mayUpdate, &s.ranges)
	})
	b.Queue(selectColumns, oid).Query(func(rows pgx.Rows) (err error) {
		s.columns, err = pgx.CollectRows(rows, scanColumn)
		return err
	})
	// A key's index may be built after the rows of a first load only when nothing else
	// hangs on it. A foreign key that refers to the table has triggers there.
	b.Queue(`SELECT array(SELECT a.attname::text FROM unnest(i.indkey) k
		JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = k ORDER BY 1),
			coalesce(c.conname, ''), coalesce(pg_get_constraintdef(c.oid), ''),
			(SELECT count(*) FROM pg_index WHERE indrelid = $1) = 1 AND t.relkind = 'r' AND t.relreplident = 'd'
				AND NOT i.indisclustered AND x.reloptions IS NULL AND x.reltablespace = 0
				AND pg_has_role(t.relowner, 'USAGE')
				AND NOT EXISTS (SELECT 1 FROM pg_description e WHERE e.classoid = 'pg_constraint'::regclass
				AND e.objoid = c.oid)
				AND NOT EXISTS (SELECT 1 FROM pg_description e WHERE e.classoid = 'pg_class'::regclass
				AND e.objoid = i.indexrelid)
				AND NOT EXISTS (SELECT 1 FROM pg_trigger g WHERE g.tgrelid = $1)
				AND NOT EXISTS (SELECT 1 FROM pg_inherits h WHERE h.inhrelid = $1 OR h.inhparent = $1)
				AND NOT EXISTS (SELECT 1 FROM pg_publication_rel p WHERE p.prrelid = $1)
				AND NOT EXISTS (SELECT 1 FROM pg_publication WHERE puballtables)
		FROM pg_index i JOIN pg_class t ON t.oid = i.indrelid JOIN pg_class x ON x.oid = i.indexrelid
		LEFT JOIN pg_constraint c ON c.conrelid = i.indrelid AND c.conindid = i.indexrelid AND c.contype = 'p'
		AND NOT c.condeferrable
		WHERE i.indrelid = $1 AND i.indisunique AND i.indimmediate AND i.indpred IS NULL AND i.indexprs IS NULL`,
		oid).Query(func(rows pgx.Rows) (err error) {
		s.keys, err = pgx.CollectRows(rows, func(row pgx.CollectableRow) (k uniqueIndex, err error) {
			err = row.Scan(&k.columns, &k.name, &k.definition, &k.alone)
			slices.Sort(k.columns)
			return k, err
		})
		return err
	})
	if err := q.SendBatch(ctx, &b).Close(); err != nil {
		return nil, fmt.Errorf("look at a table: %w", err)
	}
	return s, nil
}

// The table's number is hidden from the planner, which would plan anew for each.
const selectColumns = `SELECT a.attname, CASE t.typtype WHEN 'd' THEN format_type(t.typbasetype, t.typtypmod)
	ELSE format_type(a.atttypid, a.atttypmod) END,
		a.attnotnull OR t.typnotnull, a.atthasdef OR a.attidentity <> '' OR t.typdefault IS NOT NULL,
		a.attgenerated <> '' OR a.attidentity = 'a', coalesce(c.collisdeterministic, true),
		coalesce(CASE WHEN a.attcollation NOT IN (0, 'pg_catalog."default"'::regcollation)
		THEN a.attcollation::regcollation::text END, '')
	FROM pg_attribute a JOIN pg_type t ON t.oid = a.atttypid LEFT JOIN pg_collation c ON c.oid = a.attcollation
	WHERE a.attrelid = (SELECT $1::oid) AND a.attnum > 0 AND NOT a.attisdropped ORDER BY a.attnum`

func scanColumn(row pgx.CollectableRow) (c existing, err error) {
	err = row.Scan(&c.name, &c.sqlType, &c.notNull, &c.defaults, &c.generated, &c.deterministic, &c.collation)
	return c, err
}

func (d *Database) columns(ctx context.Context, oid uint32) ([]existing, error) {
	rows, err := d.pool.Query(ctx, selectColumns, oid)
	if err != nil {
		return nil, fmt.Errorf("read columns: %w", err)
	}
	return pgx.CollectRows(rows, scanColumn)
}

// compareKey reports whether there is a unique index over just the key's columns, without
// which two writers could leave a key twice, and takes up whether it may be built anew.
func (f *Fitted) compareKey(there []uniqueIndex) (fits bool) {
	key := slices.Sorted(slices.Values(f.Key))
	for _, index := range there {
		if !slices.Equal(index.columns, key) {
			continue
		}
		fits = true
		if index.alone && index.name != "" {
			f.lateIndex, f.lateDef = index.name, index.definition
		}
	}
	return fits
}

// repeated says how many keys stand more than once in a table.
func (d *Database) repeated(ctx context.Context, f *Fitted) string {
	for _, k := range f.Key {
		if !slices.Contains(f.has, k) {
			return ""
		}
	}
	keys := join(quoteAll(f.Key))
	var n int64
	var one *string
	err := d.pool.QueryRow(ctx, "SELECT count(*), min(key) FROM (SELECT ROW("+keys+")::text AS key FROM "+
		quote(f.Schema, f.Name)+" GROUP BY "+keys+" HAVING count(*) > 1) k").Scan(&n, &one)
	if err != nil {
		return ""
	}
	if n == 0 {
		return fmt.Sprintf(" (ALTER TABLE %s ADD PRIMARY KEY (%s))", quote(f.Schema, f.Name), keys)
	}
	return fmt.Sprintf("; %d keys stand in it more than once, such as %s. Leave one row of each and add the key, by "+
		"`mullein target %s --collapse` or by hand", n, *one, f)
}

// Bytewise reports whether equal keys have equal bytes, so that hashes of keys
// tell which rows may have the same key.
func (f *Fitted) Bytewise() bool { return f.bytewise }

func join(list []string) string { return strings.Join(list, ", ") }

// Collapse leaves one row of each key that stands more than once in a table, the
// greatest newest, then the one that was written last, and makes the key. It
// gives how many rows went. It is for people to decide.
func (d *Database) Collapse(ctx context.Context, t *Table) (gone int64, err error) {
	if !t.keyed() {
		return 0, &CannotError{fmt.Sprintf("%s has no key", t)}
	}
	name, keys := quote(t.Schema, t.Name), join(quoteAll(t.Key))
	order := "ctid DESC"
	if t.Newest != "" {
		order = quote(t.Newest) + " DESC NULLS LAST, " + order
	}
	err = pgx.BeginFunc(ctx, d.pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "SET LOCAL lock_timeout = '20s'"); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, "LOCK TABLE "+name+" IN SHARE ROW EXCLUSIVE MODE"); err != nil {
			return err
		}
		tag, err := tx.Exec(ctx, "DELETE FROM "+name+" t USING (SELECT tableoid, ctid, row_number() OVER (PARTITION "+
			"BY "+keys+" ORDER BY "+order+") AS nth FROM "+name+") r WHERE t.tableoid = r.tableoid AND t.ctid = "+
			"r.ctid AND r.nth > 1")
		if err != nil {
			return err
		}
		gone = tag.RowsAffected()
		if _, err := tx.Exec(ctx, "ALTER TABLE "+name+" ADD PRIMARY KEY ("+keys+")"); err != nil {
			return err
		}
		_, err = tx.Exec(ctx, "UPDATE mullein.target SET rows = (SELECT count(*) FROM "+name+") WHERE name = $1",
			t.String())
		return err
	})
	if err != nil {
		return 0, fmt.Errorf("collapse %s: %w", t, err)
	}
	return gone, nil
}
