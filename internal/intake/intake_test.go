package intake

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"runtime"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/feed"
	"mullein/internal/landing"
	"mullein/internal/ledger"
	"mullein/internal/localpg/pgtest"
)

func TestMain(m *testing.M) {
	pgtest.Main(m, func(ctx context.Context, url string) error {
		l, err := ledger.Open(ctx, url)
		if err != nil {
			return err
		}
		return l.Close()
	})
}

const gauges = `feed: gauges
landing: {at: in, files: "**/G_{catchment}_{slot:%Y%m%dT%H%M}*.csv", settle: 50ms}
schema:
  fields: [{name: station_id}]
  primaryKey: [station_id]
target: {table: river.gauge}
`

// place is a landing and the records, without anything that loads.
type place struct {
	url     string
	root    string
	ledger  *ledger.Ledger
	intake  *Intake
	readied int
}

func newPlace(t testing.TB) *place {
	t.Helper()
	p := &place{url: pgtest.Database(t), root: t.TempDir()}
	require.NoError(t, os.Mkdir(filepath.Join(p.root, "in"), 0o755))
	var err error
	p.ledger, err = ledger.Open(context.Background(), p.url)
	require.NoError(t, err)
	t.Cleanup(func() { p.ledger.Close() })
	f, err := feed.Parse("x", []byte(gauges))
	require.NoError(t, err)
	_, _, err = p.ledger.PutFeed(context.Background(), f.Name, gauges, "test")
	require.NoError(t, err)
	p.intake = New(Options{
		Ledger: p.ledger, Landing: func(_ context.Context, f *feed.Feed) (landing.Landing, error) {
			return landing.Open([]string{p.root},
				f.Landing.At)
		},
		Log: slog.New(slog.NewTextHandler(t.Output(), nil)), Ready: func(string) { p.readied++ },
		Listed: func(string) {}, Back: func(string) {},
	})
	return p
}

// lookout is one for the place's feed that nobody schedules.
func (p *place) lookout() *lookout {
	f, err := feed.Parse("x", []byte(gauges))
	if err != nil {
		panic(err)
	}
	return newLookout(p.intake, f, ledger.Feed{Name: "gauges", CreatedAt: time.Now()})
}

func (p *place) db(t testing.TB) *pgxpool.Pool {
	t.Helper()
	db, err := pgxpool.New(context.Background(), p.url)
	require.NoError(t, err)
	t.Cleanup(db.Close)
	return db
}

func (p *place) drop(t testing.TB, name, content string) {
	t.Helper()
	path := filepath.Join(p.root, "in", name)
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(t, os.WriteFile(path, []byte(content), 0o644))
}

// TestAListingFindsWhatEventsMissed works without any events.
func TestAListingFindsWhatEventsMissed(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	p := newPlace(t)
	o := p.lookout()
	p.drop(t, "deep/er/G_K1_20260701T1200.csv", "x")
	p.drop(t, "G_K1_20260701T1300.csv.part", "x")
	p.drop(t, ".hidden/G_K1_20260701T1400.csv", "x")
	p.drop(t, "other.csv", "x")
	require.NoError(t, o.open(context.Background()))
	defer o.folder.Close()
	_, err := o.tryList(ctx)
	require.NoError(t, err)
	require.Len(t, o.waiting.byPath, 1)
	_, err = o.tryList(ctx)
	require.NoError(t, err)
	require.Len(t, o.waiting.byPath, 1, "a second look finds nothing new")
	o.waiting.settle = 0
	o.settle(ctx)
	assert.Equal(t, 1, p.readied)
	ready, err := p.ledger.InStates(ctx, "gauges", 0, 1000, ledger.Ready)
	require.NoError(t, err)
	require.Len(t, ready, 1)
	assert.Equal(t, "deep/er/G_K1_20260701T1200.csv", ready[0].Path)
	o.listAll(ctx)
	assert.Greater(t, time.Until(o.next), minRest-time.Second, "a listing rests before the next")
}

// BenchmarkListing lists a folder of 200,000 files that are all in the ledger.
func BenchmarkListing(b *testing.B) {
	const files = 200_000
	ctx := context.Background()
	h := newPlace(b)
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
	_, err = h.db(b).CopyFrom(ctx, pgx.Identifier{"mullein_records", "arrival"},
		[]string{"feed", "path", "size", "modified", "inode", "state", "captures", "balance"}, pgx.CopyFromRows(rows))
	require.NoError(b, err)
	rows = nil
	o := h.lookout()
	require.NoError(b, o.open(context.Background()))
	defer o.folder.Close()
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
	require.Empty(b, o.waiting.byPath)
	require.GreaterOrEqual(b, len(o.known), files)
	b.ReportMetric(float64(b.Elapsed().Milliseconds())/float64(n), "ms/listing")
	b.ReportMetric(float64(first.Milliseconds()), "ms-first")
	b.ReportMetric(heap()-before, "MB-growth")
	b.ReportMetric(before, "MB-heap")
}
