package engine

import (
	"fmt"
	"io"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mullein/internal/core/feed"
	"mullein/internal/landing"
	"mullein/internal/ledger"
	"mullein/internal/target"
)

// BenchmarkReading measures the way from bytes to rows that are ready to be
// staged, without a database.
func BenchmarkReading(b *testing.B) {
	const rows = 200_000
	var text strings.Builder
	text.WriteString("Station;Time;Level;Flow;Quality;Revised\n")
	at := time.Date(2026, 1, 1, 12, 0, 0, 0, time.UTC)
	for i := range rows {
		if i%200 == 0 {
			at = at.Add(15 * time.Minute)
		}
		fmt.Fprintf(&text, "SR%04d;%s;%d,%03d;%d,%02d;G;%s\n", i%200, at.Format("02.01.2006 15:04"), i%5, i%1000, i%900, i%100, at.Format("02.01.2006 15:04"))
	}
	root := b.TempDir()
	require.NoError(b, os.Mkdir(root+"/in", 0o755))
	require.NoError(b, os.WriteFile(root+"/in/GAUGE_K1_20260101T1200.csv", []byte(text.String()), 0o644))
	definition, err := os.ReadFile("../demo/feeds/gauge-readings.yaml")
	require.NoError(b, err)
	f, err := feed.Parse("x", definition)
	require.NoError(b, err)
	folder, err := landing.Open([]string{root}, "in")
	require.NoError(b, err)
	table, err := Table(f)
	require.NoError(b, err)
	w := &worker{e: New(Options{}), feed: f}
	b.SetBytes(int64(text.Len()))
	b.ReportAllocs()
	for b.Loop() {
		file, err := folder.Open("GAUGE_K1_20260101T1200.csv")
		require.NoError(b, err)
		r := newReading(w, &progress{}, &ledger.Run{}, &ledger.Arrival{Path: "GAUGE_K1_20260101T1200.csv", Captures: map[string]any{"catchment": "K1", "slot": "2026-01-01T13:00:00Z"}}, "")
		require.NoError(b, r.begin(file.Entry, file, nil))
		batch := target.NewBatch(table, rows, true)
		for err == nil {
			err = r.Fill(batch, 256<<10)
			batch.Reset()
		}
		require.Equal(b, io.EOF, err)
		require.EqualValues(b, rows, r.read)
		require.Zero(b, r.rejected)
		require.NoError(b, file.Close())
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/rows, "ns/row")
}
