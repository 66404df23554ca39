package reading

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/feed"
	"mullein/internal/core/tabular"
	"mullein/internal/landing"
)

// bytesOf is a receiver that counts the canonical bytes of keys, and keeps nothing.
type bytesOf struct {
	n   int
	buf []byte
}

// Add counts a row.
func (s *bytesOf) Add(values []tabular.Value, _ int64, _ int, digest []byte) {
	s.buf = values[0].AppendCanonical(s.buf[:0])
	s.n += len(s.buf) + len(digest) + 64
}

// Len is what was counted.
func (s *bytesOf) Len() int { return s.n }

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
		fmt.Fprintf(&text, "SR%04d;%s;%d,%03d;%d,%02d;G;%s\n", i%200, at.Format("02.01.2006 15:04"), i%5, i%1000,
			i%900, i%100, at.Format("02.01.2006 15:04"))
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
	defer folder.Close()
	plan, err := NewPlan(f)
	require.NoError(b, err)
	b.SetBytes(int64(text.Len()))
	b.ReportAllocs()
	for b.Loop() {
		file, err := folder.Open("GAUGE_K1_20260101T1200.csv")
		require.NoError(b, err)
		subject := Subject{Path: file.Entry.Path, Size: file.Entry.Size, Captures: map[string]any{"catchment": "K1",
			"slot": "2026-01-01T13:00:00Z"}}
		r, err := plan.Open(subject, Source{Bytes: file}, &Counter{})
		require.NoError(b, err)
		counted := &bytesOf{}
		for err == nil {
			err = r.Fill(counted, 256<<10)
			counted.n = 0
		}
		require.Equal(b, io.EOF, err)
		require.EqualValues(b, rows, r.Counts().Read)
		require.Zero(b, r.Counts().Rejected)
		require.NoError(b, file.Close())
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/rows, "ns/row")
}

// TestDigestsOfFiles takes digests of files that are read in pieces of all sizes,
// in order, begun anew, and known beforehand.
func TestDigestsOfFiles(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewPCG(7, 8))
	content := make([]byte, 3<<20)
	for i := range content {
		content[i] = byte(random.Uint32())
	}
	for _, size := range []int{0, 1, 1000, hashedAside - 1, hashedAside, hashedAside + 1, 1 << 20, len(content)} {
		want := fmt.Sprintf("%x", sha256.Sum256(content[:size]))
		for _, piece := range []int{1000, hashedAside, 256 << 10} {
			h := NewHasher(bytes.NewReader(content[:size]), "")
			buffer := make([]byte, piece)
			var read []byte
			for {
				n, err := h.Read(buffer)
				read = append(read, buffer[:n]...)
				clear(buffer) // whoever reads may write to it again at once
				if err != nil {
					require.Equal(t, io.EOF, err)
					break
				}
			}
			assert.True(t, bytes.Equal(content[:size], read))
			assert.Equal(t, want, h.Sum(), "%d bytes in pieces of %d", size, piece)
			assert.Equal(t, want, h.Sum(), "asked twice")
			assert.EqualValues(t, size, h.n)
		}
	}
	h := NewHasher(bytes.NewReader(content), "known")
	_, err := io.Copy(io.Discard, h)
	require.NoError(t, err)
	assert.Equal(t, "known", h.Sum())
	assert.EqualValues(t, len(content), h.n)
}

// TestAFileThatWasLetGo still tells what it held, and its digest as often as one asks.
func TestAFileThatWasLetGo(t *testing.T) {
	t.Parallel()
	f, err := feed.Parse("x.yaml", []byte("feed: x\nlanding: {at: in, files: \"*\"}\ntolerate: {rejects: 100%}\ntarget: {table: x, mode: append}\n"+
		"schema: {fields: [{name: level, type: number}]}\n"))
	require.NoError(t, err)
	plan, err := NewPlan(f)
	require.NoError(t, err)
	content := []byte("level\n" + strings.Repeat("1.5\n", 100_000) + "high\n")
	want := fmt.Sprintf("%x", sha256.Sum256(content))
	r, err := plan.Open(Subject{Path: "x", Size: int64(len(content))}, Source{Bytes: bytes.NewReader(content)}, &Counter{})
	require.NoError(t, err)
	require.ErrorIs(t, r.Fill(new(bytesOf), 1<<62), io.EOF)
	require.NoError(t, r.Finish())
	r.Release()
	for range 2 {
		require.NoError(t, r.Finish())
		assert.Equal(t, want, r.Digest())
	}
	assert.Equal(t, Counts{Read: 100_001, Rejected: 1}, r.Counts())
	assert.Len(t, r.Rejects(), 1)
	assert.Equal(t, []string{"level"}, r.Header())
}
