package table

import (
	"context"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"
)

// Keys are named by a hash of 64 bits, in the journal and wherever it is remembered what
// became of them. Equal keys have equal hashes, in the database's own notion of equality.

// keyHash is the SQL of the hash of the key of a row of the target.
func (f *Fitted) keyHash(alias string) string {
	keys := make([]string, len(f.Key))
	for i, k := range f.Key {
		keys[i] = alias + "." + quote(k)
	}
	return f.hashOf(keys)
}

// keysHash is the hash of a staged row's key.
func (l *Load) keysHash() string { return l.table.hashOf(l.keys()) }

// hashOf is the SQL of the hash of a key's columns, given as SQL.
func (f *Fitted) hashOf(keys []string) string {
	all := make([]string, len(keys))
	for i, k := range f.Key {
		all[i] = wellHashed(keys[i], f.types[k])
	}
	return "hash_record_extended(ROW(" + join(all) + "), 0)"
}

// wellHashed is the SQL of a value as it is to be hashed. PostgreSQL folds whole numbers
// and times of 64 bits into 32 before it hashes them, so that of a million times some
// would have one hash. A column's hash stays when it becomes numeric.
func wellHashed(value, sqlType string) string {
	switch base, _, _ := strings.Cut(sqlType, "("); {
	case sqlType == "smallint", sqlType == "integer", sqlType == "bigint":
		return "(" + value + ")::numeric"
	case strings.HasPrefix(base, "timestamp") && strings.HasSuffix(sqlType, "with time zone"):
		return "timestamptz_send((" + value + ")::" + sqlType + ")"
	case strings.HasPrefix(base, "timestamp"):
		return "timestamp_send((" + value + ")::" + sqlType + ")"
	case strings.HasPrefix(base, "time") && strings.HasSuffix(sqlType, "without time zone"):
		return "time_send((" + value + ")::" + sqlType + ")"
	}
	return value
}

// partHash is the hash of a staged row's part.
func (l *Load) partHash() string {
	return "hash_record_extended(ROW(" + l.column(l.table.Part) + "), 0)"
}

// rehash names keys anew that an earlier version named by a worse hash.
func (d *Database) rehash(ctx context.Context, f *Fitted) error {
	if !f.keyed() {
		return nil
	}
	name := quote(f.Schema, f.Name)
	var keys []string
	for _, k := range f.Key {
		keys = append(keys, "g."+quote(k))
	}
	was, now := "hash_record_extended(ROW("+join(keys)+"), 0)", f.keyHash("g")
	image := func(of string) string {
		return " CROSS JOIN LATERAL json_populate_record(NULL::" + name + ", coalesce(" + of + ".before, " + of +
			".given)) g "
	}
	of := "target = " + fmt.Sprint(f.id)
	return pgx.BeginFunc(ctx, d.pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "SELECT pg_advisory_xact_lock($1, $2)", lockSpace, int32(f.oid)); err != nil {
			return err
		}
		var worse bool
		err := tx.QueryRow(ctx, "SELECT key_hash = 0 FROM mullein.target WHERE id = $1", f.id).Scan(&worse)
		if err != nil || !worse {
			return err
		}
		for _, statement := range []string{
			"CREATE TEMPORARY TABLE mullein_rehashed ON COMMIT DROP AS SELECT DISTINCT " + was + " AS old, " + now +
				" AS new FROM mullein.change c" + image("c") +
				"WHERE c." + of + " AND coalesce(c.before, c.given) IS NOT NULL UNION SELECT " + was + ", " + now +
				" FROM " + name + " g",
			"CREATE INDEX ON mullein_rehashed (old)",
			"ANALYZE mullein_rehashed",
			"UPDATE mullein.change c SET key = " + now + " FROM mullein.change i" + image("i") +
				"WHERE i.ctid = c.ctid AND c." + of + " AND coalesce(c.before, c.given) IS NOT NULL",
			"UPDATE mullein.change c SET key = r.new FROM mullein_rehashed r WHERE c." + of +
				" AND c.before IS NULL AND c.given IS NULL AND r.old = c.key",
			"UPDATE mullein.remembered m SET key = r.new FROM mullein_rehashed r WHERE m." + of +
				" AND m.what = 'd' AND r.old = m.key",
			"UPDATE mullein.confirmed c SET keys = ARRAY(SELECT coalesce(r.new, k) FROM unnest(c.keys) k LEFT JOIN " +
				"mullein_rehashed r ON r.old = k) WHERE c." + of,
			"UPDATE mullein.target SET key_hash = 1 WHERE id = " + fmt.Sprint(f.id),
		} {
			if _, err := tx.Exec(ctx, statement); err != nil {
				return fmt.Errorf("name the keys of %s anew: %w", f, err)
			}
		}
		return nil
	})
}
