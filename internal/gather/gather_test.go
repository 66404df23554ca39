package gather

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/landing"
)

// shelf is a landing.
type shelf struct {
	mu    sync.Mutex
	files map[string]string
	away  error
}

func (s *shelf) deliver(_ context.Context, feed, name string, content io.Reader) error {
	text, err := io.ReadAll(content)
	s.mu.Lock()
	defer s.mu.Unlock()
	at := feed + "/" + name
	if _, there := s.files[at]; there {
		return landing.ErrTaken
	}
	if err == nil {
		err = s.away
	}
	if err == nil {
		s.files[at] = string(text)
	}
	return err
}

func (s *shelf) all() (text string, files int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, of := range s.files {
		text += of
	}
	return text, len(s.files)
}

func (s *shelf) is(err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.away = err
}

func begin(t *testing.T, folder string, s *shelf, l Limits) (*Gatherer, func()) {
	t.Helper()
	g := New(Options{Folder: folder, Limits: func() Limits { return l }, Deliver: s.deliver, Log: slog.New(slog.NewTextHandler(t.Output(), nil)),
		Name: func(_ context.Context, _ string, _ time.Time, unique string) (string, error) {
			return "in/rows_" + unique + ".jsonl", nil
		}})
	ctx, cancel := context.WithCancel(context.Background())
	var running sync.WaitGroup
	running.Go(func() { g.Run(ctx) })
	stop := sync.OnceFunc(func() {
		cancel()
		running.Wait()
	})
	t.Cleanup(stop)
	return g, stop
}

func eventually(t *testing.T, ok func() bool) {
	t.Helper()
	require.Eventually(t, ok, 20*time.Second, 10*time.Millisecond)
}

// TestRowsOfManySenders gathers rows of many senders at a time into few files, each row once.
func TestRowsOfManySenders(t *testing.T) {
	t.Parallel()
	s := &shelf{files: map[string]string{}}
	g, _ := begin(t, t.TempDir(), s, Limits{After: 300 * time.Millisecond, Rows: 400, Bytes: 1 << 30})
	var senders sync.WaitGroup
	const many, each = 20, 100
	for sender := range many {
		senders.Go(func() {
			for i := range each {
				assert.NoError(t, g.Take(t.Context(), "buoys", fmt.Appendf(nil, "{\"n\": %d}\n", sender*each+i), 1))
			}
		})
	}
	senders.Wait()
	var text string
	var files int
	eventually(t, func() bool {
		text, files = s.all()
		return strings.Count(text, "\n") == many*each
	})
	seen := map[string]bool{}
	for line := range strings.Lines(text) {
		seen[line] = true
	}
	assert.Len(t, seen, many*each)
	assert.Less(t, files, many*each/10)
}

// TestRowsOutliveTheService takes rows while the landing is away, ends, and begins anew: what was taken is delivered, once, and
// a row that was cut short is nobody's.
func TestRowsOutliveTheService(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	s := &shelf{files: map[string]string{}}
	s.is(errors.New("away"))
	g, stop := begin(t, folder, s, Limits{After: time.Millisecond, Rows: 1, Bytes: 1})
	require.NoError(t, g.Take(t.Context(), "buoys", []byte("{\"n\": 1}\n"), 1))
	require.NoError(t, g.Take(t.Context(), "buoys", []byte("{\"n\": 2}\n"), 1))
	stop()
	files, err := filepath.Glob(filepath.Join(folder, "buoys", "*"))
	require.NoError(t, err)
	require.NotEmpty(t, files)
	torn, err := os.OpenFile(files[len(files)-1], os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = torn.WriteString(`{"n": 3`)
	require.NoError(t, errors.Join(err, torn.Close()))
	s.is(nil)
	_, stop = begin(t, folder, s, Limits{After: time.Hour, Rows: 1 << 30, Bytes: 1 << 30})
	eventually(t, func() bool {
		left, err := filepath.Glob(filepath.Join(folder, "buoys", "*"))
		return err == nil && len(left) == 0
	})
	text, _ := s.all()
	assert.ElementsMatch(t, []string{`{"n": 1}`, `{"n": 2}`}, strings.Split(strings.TrimSpace(text), "\n"))
	stop()
}
