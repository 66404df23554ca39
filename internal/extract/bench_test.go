package extract

import (
	"context"
	"fmt"
	"io"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"mullein/internal/localpg/pgtest"
)

// BenchmarkExtract writes 2 million rows of a table into files of each format, beside COPY TO STDOUT of the same rows, which is
// read and thrown away.
func BenchmarkExtract(b *testing.B) {
	const rows = 2_000_000
	ctx, url := context.Background(), pgtest.Database(b)
	statements(b, url, "CREATE SCHEMA river", "CREATE TABLE river.level (station text, measured_at timestamptz, level_m numeric(8,3), flow double precision, note text, "+
		"run bigint, changed_at timestamptz)",
		fmt.Sprintf(`INSERT INTO river.level SELECT 'NB' || lpad((g %% 4000)::text, 5, '0'), timestamptz '2026-01-01' + g * interval '3 seconds', (g %% 30000) / 1000.0,
			g * 0.37, CASE WHEN g %% 20 = 0 THEN 'ice at the gauge, read by hand' END, g / 100, timestamptz '2026-06-01' + g * interval '11 milliseconds'
			FROM generate_series(1, %d) g`, rows), "VACUUM ANALYZE river.level")
	conn, err := pgx.Connect(ctx, url)
	require.NoError(b, err)
	defer conn.Close(ctx)
	copied := func() time.Duration {
		began := time.Now()
		_, err := conn.PgConn().CopyTo(ctx, io.Discard, "COPY river.level TO STDOUT (FORMAT csv)")
		require.NoError(b, err)
		return time.Since(began)
	}
	copied() // the table is in memory
	for _, name := range []string{"level.csv", "level.csv.gz", "level.csv.zst", "level.jsonl", "level.parquet"} {
		b.Run(name, func(b *testing.B) {
			x := extracts(b, "extract: x\nfrom: {table: river.level}\nfiles: {at: l, name: "+name+"}\n")
			x.Files.SplitRows = 1_000_000
			var ours, theirs time.Duration
			for b.Loop() {
				theirs += copied()
				began := time.Now()
				source, err := Open(ctx, x, url)
				require.NoError(b, err)
				n, err := source.Count(ctx, Window{})
				require.NoError(b, err)
				require.EqualValues(b, rows, n)
				out := &parts{folder: b.TempDir(), files: &x.Files, columns: source.Columns(), name: func(part int64) string { return fmt.Sprint(part) }}
				_, err = source.Read(ctx, Window{}, out.take)
				require.NoError(b, err)
				require.NoError(b, out.finish())
				require.NoError(b, source.Close(ctx))
				ours += time.Since(began)
			}
			b.ReportMetric(ours.Seconds()/float64(b.N), "s")
			b.ReportMetric(theirs.Seconds()/float64(b.N), "copy-s")
			b.ReportMetric(100*theirs.Seconds()/ours.Seconds(), "%ofCOPY")
		})
	}
}
