package engine

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mullein/internal/ledger"
)

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

const plainFeed = `feed: plain
landing: {at: in, files: "plain_*", settle: 50ms}
dialect: {delimiter: ";"}
schema:
  fields: [{name: station_id}, {name: observed_at, type: datetime}, {name: level_m, type: number}, {name: flow_m3s, type: number}, {name: quality}, {name: revised, type: integer}]
  primaryKey: [station_id, observed_at]
target: {table: river.plain}
`

// BenchmarkChecksInALoad measures what ten constraints and three checks of rows
// add to a whole load: the medians of loads that follow each other, each into
// an empty table.
func BenchmarkChecksInALoad(b *testing.B) {
	const rows = 300_000
	var text strings.Builder
	text.WriteString("station_id;observed_at;level_m;flow_m3s;quality;revised\n")
	for i := range rows {
		at := time.Date(2026, 1, 1, 0, 15*(i/200), 0, 0, time.UTC)
		fmt.Fprintf(&text, "SR%04d;%s;%.3f;%.2f;%s;%d\n", i%200, at.Format("2006-01-02T15:04:05Z"),
			float64(i%5000)/1000, 100+float64(i%9000)/100, "G", i)
	}
	strict := strings.Replace(fmt.Sprintf(benchFeed, "csv", `{delimiter: ";"}`, benchChecks), `files: "*"`,
		`files: "bench_*", settle: 50ms`, 1)
	for b.Loop() {
		h := newHouse(b, strict, plainFeed).start()
		times := map[string][]time.Duration{}
		for round := range 5 {
			for _, name := range []string{"plain", "bench"} {
				h.wait("the table to be made", func() bool {
					return round == 0 || len(h.loaded()) == 2*round ||
						name == "bench"
				})
				if round > 0 {
					h.exec("TRUNCATE river." + name)
				}
				path := fmt.Sprintf("%s_%d", name, round)
				h.drop(path, strings.Replace(text.String(), "SR0000", fmt.Sprintf("SR%04d", 9000+round), 1))
				a := h.arrival(path)
				require.Equal(b, ledger.Loaded, a.State, a.Reason)
				times[name] = append(times[name], a.FinishedAt.Sub(*a.OpenedAt))
			}
		}
		median := func(name string) float64 {
			slices.Sort(times[name])
			return times[name][len(times[name])/2].Seconds()
		}
		b.ReportMetric(median("bench")/median("plain"), "checks-x-plain-load")
		h.stop()
	}
}
