package engine

import (
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"mullein/internal/landing"
)

// BenchmarkListing lists a folder of 200,000 files that are all in the ledger.
func BenchmarkListing(b *testing.B) {
	const files = 200_000
	h := newHouse(b, gauges)
	in := filepath.Join(h.root, "in")
	for n := range files {
		name := filepath.Join(in, fmt.Sprintf("%03d", n%100), fmt.Sprintf("G_K1_20260701T1200_%06d.csv", n))
		if n < 100 {
			require.NoError(b, os.Mkdir(filepath.Dir(name), 0o755))
		}
		require.NoError(b, os.WriteFile(name, []byte("x"), 0o644))
	}
	folder, err := landing.Open([]string{h.root}, "in")
	require.NoError(b, err)
	defer folder.Close()
	var rows [][]any
	require.NoError(b, folder.List(ctx, func(string) bool { return true }, func(e landing.Entry) error {
		if e.Problem == "" {
			rows = append(rows, []any{"gauges", e.Path, e.Size, e.Modified, int64(e.Inode), "loaded", "{}", "{}"})
		}
		return nil
	}))
	_, err = h.db.CopyFrom(ctx, pgx.Identifier{"mullein_records", "arrival"}, []string{"feed", "path", "size", "modified", "inode", "state", "captures", "balance"}, pgx.CopyFromRows(rows))
	require.NoError(b, err)
	rows = nil
	o := newLookout(New(Options{Ledger: h.ledger, Roots: []string{h.root}}), h.definition(), h.feed(), func() {})
	defer o.close()
	began := time.Now()
	_, err = o.tryList(ctx)
	require.NoError(b, err)
	first := time.Since(began)
	heap := func() float64 {
		runtime.GC()
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		return float64(m.HeapAlloc) / 1e6
	}
	before := heap()
	n := 0
	for b.Loop() {
		_, err = o.tryList(ctx)
		require.NoError(b, err)
		n++
	}
	require.Empty(b, o.waiting)
	require.GreaterOrEqual(b, len(o.known), files)
	b.ReportMetric(float64(b.Elapsed().Milliseconds())/float64(n), "ms/listing")
	b.ReportMetric(float64(first.Milliseconds()), "ms-first")
	b.ReportMetric(heap()-before, "MB-growth")
	b.ReportMetric(before, "MB-heap")
}
