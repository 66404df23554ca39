package reading

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/parquet-go/parquet-go"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/decode"
	"mullein/internal/core/feed"
)

const benchRows = 100_000

const benchFeed = `feed: bench
landing: {at: in, files: "*"}
format: %s
dialect: %s
schema:
  fieldsMatch: equal
  fields:
    - {name: station_id, constraints: {required: true, pattern: "SR[0-9]{4}"}}
    - {name: observed_at, type: datetime, constraints: {required: true}}
    - {name: level_m, type: number, constraints: {minimum: -5, maximum: 30}}
    - {name: flow_m3s, type: number, constraints: {minimum: 0, maximum: 5000}}
    - {name: quality, constraints: {enum: [G, F, E], maxLength: 1}}
    - {name: revised, type: integer, constraints: {minimum: 0}}
  primaryKey: [station_id, observed_at]
%s
target: {table: river.bench}
`

const benchChecks = `checks:
  row:
    - {name: a, must: row.level_m < row.flow_m3s || row.quality == 'F'}
    - {name: b, must: row.revised >= 0}
    - {name: c, must: "row.quality != 'X'"}
`

type benchRow struct {
	Station  string    `parquet:"station_id,dict" json:"station_id"`
	Observed time.Time `parquet:"observed_at,timestamp(microsecond)" json:"observed_at"`
	Level    float64   `parquet:"level_m" json:"level_m"`
	Flow     float64   `parquet:"flow_m3s" json:"flow_m3s"`
	Quality  string    `parquet:"quality,dict" json:"quality"`
	Revised  int64     `parquet:"revised" json:"revised"`
}

// typed reads all rows of a file into types, with constraints and checks.
func typed(b *testing.B, f *feed.Feed, content []byte) (rows int64) {
	plan, err := NewPlan(f)
	require.NoError(b, err)
	r, err := plan.Open(Subject{Path: "x", Size: int64(len(content)), Digest: "known"},
		Source{Bytes: bytes.NewReader(content)}, &Counter{})
	require.NoError(b, err)
	for {
		rec, err := r.next()
		if err != nil {
			require.Equal(b, io.EOF, err)
			require.Zero(b, r.rejected)
			return rows
		}
		if r.convert(rec) {
			if ok, err := r.check(rec); ok && err == nil {
				rows++
			}
		}
	}
}

// BenchmarkFormats measures, on one core, the way from bytes to typed rows
// against what the languages' own libraries take for less: the medians of
// rounds that follow each other.
func BenchmarkFormats(b *testing.B) {
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(1))
	parse := func(format, dialect, more string) *feed.Feed {
		f, err := feed.Parse("bench.yaml", fmt.Appendf(nil, benchFeed, format, dialect, more))
		require.NoError(b, err)
		return f
	}
	var text, lines strings.Builder
	text.WriteString("station_id;observed_at;level_m;flow_m3s;quality;revised\n")
	var rows []benchRow
	for i := range benchRows {
		r := benchRow{fmt.Sprintf("SR%04d", i%200), time.Date(2026, 1, 1, 0, 15*(i/200), 0, 0, time.UTC),
			float64(i%5000) / 1000, 100 + float64(i%9000)/100, "G", int64(i)}
		rows = append(rows, r)
		fmt.Fprintf(&text, "%s;%s;%.3f;%.2f;%s;%d\n", r.Station, r.Observed.Format("2006-01-02T15:04:05Z"), r.Level,
			r.Flow, r.Quality, r.Revised)
		line, err := json.Marshal(r)
		require.NoError(b, err)
		lines.Write(append(line, '\n'))
	}
	var columns bytes.Buffer
	require.NoError(b, parquet.Write(&columns, rows))
	cases := map[string]func(){
		"csv-split": func() {
			r := csv.NewReader(strings.NewReader(text.String()))
			r.Comma, r.ReuseRecord = ';', true
			for {
				if _, err := r.Read(); err != nil {
					break
				}
			}
		},
		"csv": func() {
			require.EqualValues(b, benchRows, typed(b, parse("csv", `{delimiter: ";"}`, ""), []byte(text.String())))
		},
		"csv-checks": func() {
			require.EqualValues(b, benchRows, typed(b, parse("csv", `{delimiter: ";"}`, benchChecks),
				[]byte(text.String())))
		},
		"json-maps": func() {
			for line := range strings.Lines(lines.String()) {
				m := map[string]any{}
				if err := json.Unmarshal([]byte(line), &m); err != nil {
					b.Fatal(err)
				}
			}
		},
		"jsonl": func() {
			require.EqualValues(b, benchRows,
				typed(b, parse("jsonl", "{}", ""), []byte(lines.String())))
		},
		"parquet-library": func() {
			file, err := parquet.OpenFile(bytes.NewReader(columns.Bytes()), int64(columns.Len()))
			require.NoError(b, err)
			buf := make([]parquet.Row, 512)
			for _, group := range file.RowGroups() {
				r := group.Rows()
				for {
					n, err := r.ReadRows(buf)
					if n == 0 || err != nil {
						break
					}
				}
				require.NoError(b, r.Close())
			}
		},
		"parquet-structs": func() {
			r := parquet.NewGenericReader[benchRow](bytes.NewReader(columns.Bytes()))
			buf := make([]benchRow, 512)
			for {
				if _, err := r.Read(buf); err != nil {
					break
				}
			}
			require.NoError(b, r.Close())
		},
		"parquet": func() { require.EqualValues(b, benchRows, typed(b, parse("parquet", "{}", ""), columns.Bytes())) },
		"parquet-decode": func() {
			rows, err := decode.Open(decode.Source{Name: "x", File: bytes.NewReader(columns.Bytes()),
				Size: int64(columns.Len())}, decode.How{Format: decode.Parquet})
			require.NoError(b, err)
			require.NoError(b, rows.(decode.Selector).Select([]string{"station_id", "observed_at", "level_m",
				"flow_m3s", "quality", "revised"}))
			for {
				if _, err := rows.Next(); err != nil {
					break
				}
			}
		},
	}
	for b.Loop() {
		const rounds, again = 5, 4
		times := map[string][]time.Duration{}
		for range rounds {
			for name, do := range cases {
				runtime.GC()
				began := time.Now()
				for range again { // the memory of the first time is of no interest
					do()
				}
				times[name] = append(times[name], time.Since(began))
			}
		}
		median := func(name string) float64 {
			slices.Sort(times[name])
			return times[name][rounds/2].Seconds()
		}
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		cases["csv"]()
		runtime.ReadMemStats(&after)
		b.ReportMetric(float64(after.Mallocs-before.Mallocs)/benchRows, "csv-allocs/row")
		b.ReportMetric(median("csv")/median("csv-split"), "csv-x-split")
		b.ReportMetric(median("csv-checks")/median("csv-split"), "csv-checks-x-split")
		b.ReportMetric(median("json-maps")/median("jsonl"), "jsonl-times-faster")
		b.ReportMetric(median("parquet")/median("parquet-library"), "parquet-x-library")
		b.ReportMetric(median("parquet")/median("parquet-structs"), "parquet-x-library-structs")
		b.ReportMetric(median("parquet-decode")/median("parquet-library"), "parquet-decode-x-library")
	}
}
