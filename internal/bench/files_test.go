package bench

import (
	"bufio"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/parquet-go/parquet-go"
	"github.com/stretchr/testify/require"
)

// levelRow is a row of the files that come in many formats.
type levelRow struct {
	Site    string    `parquet:"site,dict"`
	N       int64     `parquet:"n"`
	Level   float64   `parquet:"level"`
	Flow    float64   `parquet:"flow"`
	Quality string    `parquet:"quality,dict"`
	At      time.Time `parquet:"at,timestamp(microsecond)"`
}

func level(k int) levelRow {
	return levelRow{fmt.Sprintf("SR%04d", k%1000), int64(k / 1000), float64(k%4000) / 8, float64(k%900) + 0.5,
		string(rune('A' + k%5)), time.Date(2020, 1, 1, 0, 0, k%500_000, 0, time.UTC)}
}

const levelColumns = "site text NOT NULL, n bigint NOT NULL, level numeric, flow numeric, quality text, at timestamptz, " +
	"from_file text, from_line bigint, from_arrival bigint, loaded_run bigint, loaded_at timestamptz, row_digest " +
	"bytea, PRIMARY KEY (site, n)"

// levelFormats writes rows as each format has them.
var levelFormats = map[string]func(w io.Writer) (row func(levelRow) error, end func() error){
	"csv": func(w io.Writer) (func(levelRow) error, func() error) {
		_, err := io.WriteString(w, "site,n,level,flow,quality,at\n")
		return func(r levelRow) error {
			if err == nil {
				_, err = fmt.Fprintf(w, "%s,%d,%g,%g,%s,%s\n", r.Site, r.N, r.Level, r.Flow, r.Quality,
					r.At.Format("2006-01-02T15:04:05Z"))
			}
			return err
		}, func() error { return err }
	},
	"jsonl": func(w io.Writer) (func(levelRow) error, func() error) {
		return func(r levelRow) error {
			_, err := fmt.Fprintf(w, `{"site":"%s","n":%d,"level":%g,"flow":%g,"quality":"%s","at":"%s"}`+"\n", r.Site,
				r.N, r.Level, r.Flow, r.Quality, r.At.Format("2006-01-02T15:04:05Z"))
			return err
		}, func() error { return nil }
	},
	"parquet": func(w io.Writer) (func(levelRow) error, func() error) {
		out := parquet.NewGenericWriter[levelRow](w, parquet.Compression(&parquet.Snappy), parquet.MaxRowsPerRowGroup(500_000))
		return func(r levelRow) error {
			_, err := out.Write([]levelRow{r})
			return err
		}, out.Close
	},
}

// several are files for one feed, and the same rows as a script is given them.
type several struct {
	format      string
	files, rows int // rows of each file
}

// write writes the files into a folder, and their rows, as COPY takes them, beside it.
func (s several) write(h *bench, folder string) (ready []string) {
	require.NoError(h.b, os.MkdirAll(folder, 0o755))
	create := func(path string) (*bufio.Writer, func()) {
		file, err := os.Create(path)
		require.NoError(h.b, err)
		w := bufio.NewWriterSize(file, 1<<20)
		return w, func() {
			require.NoError(h.b, w.Flush())
			require.NoError(h.b, file.Close())
		}
	}
	for i := range s.files {
		slot := time.Date(2026, 1, 1, 0, i, 0, 0, time.UTC).Format("20060102T1504")
		w, done := create(filepath.Join(folder, slot+"."+s.format))
		row, end := levelFormats[s.format](w)
		path := filepath.Join(h.dir, "ready-"+strconv.Itoa(i)+".tsv")
		tsv, tsvDone := create(path)
		for k := i * s.rows; k < (i+1)*s.rows; k++ {
			r := level(k)
			require.NoError(h.b, row(r))
			fmt.Fprintf(tsv, "%s\t%d\t%g\t%g\t%s\t%s\tin/%s.csv\t%d\t1\t1\t2026-01-01T00:00:00Z\t\\\\x01%032x\n", r.Site, r.N,
				r.Level, r.Flow, r.Quality, r.At.Format("2006-01-02T15:04:05Z"), slot, k+2, k)
		}
		require.NoError(h.b, end())
		done()
		tsvDone()
		ready = append(ready, path)
	}
	return ready
}

// BenchmarkFiles prints how several files for one new feed fare beside the script, which
// is given one after the other: -bench 'Files/csv/8x1250000' is one.
func BenchmarkFiles(b *testing.B) {
	cells := []several{{format: "csv", files: 1, rows: 2_000_000}, {format: "csv", files: 8, rows: 250_000},
		{format: "csv", files: 8, rows: 1_250_000}, {format: "csv", files: 150, rows: 14_000},
		{format: "csv", files: 10_000, rows: 100}, {format: "jsonl", files: 1, rows: 2_000_000},
		{format: "jsonl", files: 150, rows: 14_000}, {format: "parquet", files: 1, rows: 2_000_000},
		{format: "parquet", files: 8, rows: 250_000}, {format: "parquet", files: 150, rows: 14_000}}
	var lines []string
	for _, s := range cells {
		b.Run(fmt.Sprintf("%s/%dx%d", s.format, s.files, s.rows), func(b *testing.B) {
			line := s.measure(start(b))
			b.Log(line)
			lines = append(lines, line)
		})
	}
	fmt.Println("| format | files | rows of each | Mullein, s | script, s | times as fast |")
	fmt.Println("|---|---|---|---|---|---|")
	fmt.Println(strings.Join(lines, "\n"))
}

// measure returns a line of the table: interleaved rounds of both into empty tables.
func (s several) measure(h *bench) string {
	var f figures
	for round := range rounds {
		feed := "level-" + strconv.Itoa(round)
		table := h.fresh(feed, levelColumns, feed[:5]+"_script_"+strconv.Itoa(round))
		ready := s.write(h, filepath.Join(h.dir, feed))
		_, err := h.client.PutFeed(h.ctx, feed, feed+".yaml", fmt.Sprintf(`feed: %s
landing: {at: in/%[1]s, files: "{slot:%%Y%%m%%dT%%H%%M}.%s", settle: 1s}
format: %[2]s
schema:
  fields: [{name: site}, {name: n, type: integer}, {name: level, type: number}, {name: flow, type: number},
    {name: quality}, {name: at, type: datetime}]
  primaryKey: [site, n]
target: {table: river.%[3]s}
`, feed, s.format, table))
		require.NoError(h.b, err)
		h.quiet()
		f.mine = append(f.mine, s.loaded(h, feed))
		script := "level_script_" + strconv.Itoa(round)
		h.quiet()
		var base time.Duration
		for _, path := range ready {
			base += h.byHand(path, script, "site, n")
			require.NoError(h.b, os.Remove(path))
		}
		f.base = append(f.base, base)
		h.exec("DROP TABLE river." + table + ", river." + script)
		require.NoError(h.b, h.client.RemoveFeed(h.ctx, feed))
		require.NoError(h.b, os.RemoveAll(filepath.Join(h.landing(), feed)))
	}
	mine, base := median(f.mine).Seconds(), median(f.base).Seconds()
	return fmt.Sprintf("| %s | %d | %d | %.2f | %.2f | %.2f |", s.format, s.files, s.rows, mine, base, base/mine)
}

// loaded lets the files come at once, and returns how long it took from opening the first
// to having the last in the ledger.
func (s several) loaded(h *bench, feed string) time.Duration {
	require.NoError(h.b, os.Rename(filepath.Join(h.dir, feed), filepath.Join(h.landing(), feed)))
	require.Eventually(h.b, func() bool { // seldom, since two processors have enough to do
		var loaded, bad int
		require.NoError(h.b, h.db.QueryRow(h.ctx, `SELECT count(*) FILTER (WHERE state = 'loaded'),
			count(*) FILTER (WHERE state IN ('refused', 'failed', 'held')) FROM mullein_records.arrival WHERE feed = $1`,
			feed).Scan(&loaded, &bad))
		require.Zero(h.b, bad)
		return loaded == s.files
	}, 10*time.Minute, 500*time.Millisecond)
	var took float64
	require.NoError(h.b, h.db.QueryRow(h.ctx, `SELECT extract(epoch FROM max(finished_at) - min(opened_at))
		FROM mullein_records.arrival WHERE feed = $1`, feed).Scan(&took))
	var rows int
	require.NoError(h.b, h.db.QueryRow(h.ctx, "SELECT count(*) FROM river."+strings.ReplaceAll(feed, "-", "_")).Scan(&rows))
	require.Equal(h.b, s.files*s.rows, rows, "each row once")
	return time.Duration(took * float64(time.Second))
}
