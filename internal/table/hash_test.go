package table

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestKeysHaveHashesOfTheirOwn looks at many times and numbers of 64 bits, of which
// PostgreSQL's own hashes of records take some to be the same.
func TestKeysHaveHashesOfTheirOwn(t *testing.T) {
	t.Parallel()
	s := open(t)
	const many = "generate_series(0, 299999)"
	for _, c := range []struct{ sqlType, value string }{
		{"bigint", "i * 999999999989"},
		{"timestamp with time zone", "to_timestamp(i * 3600)"},
		{"timestamp(3) with time zone", "to_timestamp(i * 3600)"},
		{"timestamp without time zone", "to_timestamp(i * 3600) AT TIME ZONE 'UTC'"},
		{"time without time zone", "time '00:00' + i * 287 * interval '1 microsecond'"},
		{"numeric", "(i * 999999999989)::numeric"},
		{"uuid", "md5(i::text)::uuid"},
		{"text", "i::text"},
	} {
		hash := "hash_record_extended(ROW('A'::text, " + wellHashed(c.value, c.sqlType) + "), 0)"
		assert.Equal(t, []string{"300000"},
			s.lines("SELECT count(DISTINCT "+hash+") FROM (SELECT i::bigint AS i FROM "+many+" i) n"), c.sqlType)
	}
	for _, c := range [][2]string{{"bigint", "numeric"}, {"smallint", "bigint"}, {"integer", "numeric"}} {
		assert.Equal(t, []string{"true"},
			s.lines("SELECT (hash_record_extended(ROW("+wellHashed("7::"+c[0],
				c[0])+"), 0) = hash_record_extended(ROW("+
				wellHashed("7::"+c[1], c[1])+"), 0))::text"), "%s becomes %s", c[0], c[1])
	}
}

// TestKeysAreNamedAnew takes over a journal that an earlier version wrote, whose hashes
// were others.
func TestKeysAreNamedAnew(t *testing.T) {
	t.Parallel()
	s := open(t)
	table := ranked(func(t *Table) { t.Deletes, t.Journal = true, true })
	s.inOrder(table, 1, 1, row{"A", 1, 100, 1}, row{"B", 1, 100, 1}, row{"C", 1, 100, 1}, row{"D", 1, 100, 1})
	s.inOrder(table, 2, 5, row{"A", 1, 200, 1}, row{"B", 1, 0, 99}, row{"C", 1, 100, 1})
	before := s.keysNamed()
	require.NotEmpty(t, before)
	fitted, err := s.db.Fit(ctx, table)
	require.NoError(t, err)
	s.exec("CREATE TABLE named AS SELECT " + fitted.keyHash("g") +
		` AS new, hash_record_extended(ROW(g.station, g.at), 0) AS old FROM
		(SELECT station, at FROM (VALUES ('A'), ('B'), ('C'), ('D')) s (station) CROSS JOIN (SELECT DISTINCT at FROM river.gauge) a) g`)
	for _, statement := range []string{
		"UPDATE mullein.change c SET key = old FROM named WHERE new = c.key",
		"UPDATE mullein.remembered c SET key = old FROM named WHERE new = c.key",
		"UPDATE mullein.confirmed c SET keys = ARRAY(SELECT old FROM unnest(c.keys) k JOIN named ON new = k)",
		"UPDATE mullein.target SET key_hash = 0",
	} {
		s.exec(statement)
	}
	require.NotEqual(t, before, s.keysNamed())
	_, err = s.db.Fit(ctx, table)
	require.NoError(t, err)
	assert.Equal(t, before, s.keysNamed())
}

func (s *shop) keysNamed() []string {
	return s.lines("SELECT concat_ws(' ', 'change', load, what, key) FROM mullein.change UNION ALL SELECT concat_ws(' " +
		"', 'remembered', load, what, key) FROM mullein.remembered UNION ALL SELECT concat_ws(' ', 'confirmed', load, " +
		"others, keys) FROM mullein.confirmed ORDER BY 1")
}
