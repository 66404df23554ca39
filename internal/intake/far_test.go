package intake

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/feed"
	"mullein/internal/landing"
	"mullein/internal/ledger"
)

// oddStore is a place whose listings are not to be trusted.
type oddStore struct {
	landing.Store
	files  map[string]landing.Entry // what really lies there
	listed []string                 // what a listing tells, in order
	away   error
	asked  map[string]int // looks by path
}

func (s *oddStore) List(_ context.Context, _ string, visit func(landing.Entry) error) error {
	for _, name := range s.listed {
		if err := visit(s.files[name]); err != nil {
			return err
		}
	}
	return s.away
}

func (s *oddStore) Stat(_ context.Context, path string) (landing.Entry, error) {
	s.asked[path]++
	if e, there := s.files[path]; there {
		return e, nil
	}
	if s.away != nil {
		return landing.Entry{}, s.away
	}
	return landing.Entry{}, fmt.Errorf("%s: %w", path, fs.ErrNotExist)
}

func (s *oddStore) Rest() time.Duration { return 0 }
func (s *oddStore) Renames() bool       { return true }

// TestAPlaceThatListsOddly tells names twice, leaves some out, breaks off in the midst: each file is one arrival, and none is gone that is
// there.
func TestAPlaceThatListsOddly(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	p := newPlace(t)
	name := func(n int) string { return fmt.Sprintf("G_K1_20260701T1%d00.csv", n) }
	s := &oddStore{files: map[string]landing.Entry{}, asked: map[string]int{}}
	for n := range 4 {
		s.files[name(n)] = landing.Entry{Path: name(n), Size: 5, Modified: time.Now().Add(time.Duration(n-2) * time.Hour).UTC().Truncate(time.Second)}
	}
	p.intake.Landing = func(ctx context.Context, f *feed.Feed) (landing.Landing, error) {
		return landing.OpenFar(ctx, s, f.Landing.At, ".", []string{p.root}), nil
	}
	f, err := feed.Parse("x", []byte(strings.Replace(gauges, "at: in", `at: "place:odd"`, 1)))
	require.NoError(t, err)
	o := newLookout(p.intake, f, ledger.Feed{Name: "gauges", CreatedAt: time.Now()})
	require.NoError(t, o.open(ctx))
	arrivals := func(state ledger.State) int {
		list, err := p.ledger.InStates(ctx, "gauges", 0, 1000, state)
		require.NoError(t, err)
		return len(list)
	}
	s.listed = []string{name(0), name(1), name(0), name(2), name(3), name(3)}
	o.listAll(ctx)
	assert.Equal(t, 4, arrivals(ledger.Settling), "each once, whatever time it says")
	assert.Empty(t, s.asked, "what a listing has seen is not asked for")

	s.listed = []string{name(1)} // a page is missing
	o.listAll(ctx)
	assert.Equal(t, 4, arrivals(ledger.Settling))
	assert.Equal(t, 1, s.asked[name(0)], "it is looked for before it is gone")

	s.listed, s.away = []string{name(1)}, errors.New("connection reset") // it breaks off
	delete(s.files, name(2))
	o.listAll(ctx)
	assert.Equal(t, 4, arrivals(ledger.Settling), "nobody can say that it is gone")
	assert.Contains(t, o.problem, "connection reset")

	s.listed, s.away = []string{name(0), name(1), name(3)}, nil
	o.listAll(ctx)
	assert.Equal(t, 3, arrivals(ledger.Settling))
	assert.Equal(t, 1, arrivals(ledger.Gone))

	// What is whole is known by a listing that began when it had been still for long enough.
	o.waiting.rest(time.Now())
	require.Eventually(t, func() bool {
		o.listAll(ctx)
		o.waiting.listedAnew()
		o.settle(ctx)
		return arrivals(ledger.Ready) == 3
	}, 10*time.Second, 20*time.Millisecond)
}

// TestAPlaceIsListedLessWhileNothingIsExpected follows a day of a calendar.
func TestAPlaceIsListedLessWhileNothingIsExpected(t *testing.T) {
	t.Parallel()
	f, err := feed.Parse("f.yaml", []byte("feed: f\nlanding: {at: 'place:far/in', files: 'a_{slot:%Y%m%d}.csv'}\nschema: {fields: [{name: id}], primaryKey: [id]}\n"+
		"target: {table: a.b}\ndue: {cron: '0 6 * * *', missing_after: 3h}\n"))
	require.NoError(t, err)
	for _, c := range []struct {
		at    string
		least time.Duration
		want  time.Duration
	}{
		{"05:30", 15 * time.Second, 15 * time.Second}, // it may come early
		{"06:00", 15 * time.Second, 15 * time.Second},
		{"08:59", 15 * time.Second, 15 * time.Second}, // late, and not yet missing
		{"09:01", 15 * time.Second, 150 * time.Second},
		{"23:00", 15 * time.Second, 150 * time.Second},
		{"23:00", 10 * time.Minute, 15 * time.Minute},
		{"23:00", time.Hour, time.Hour},
		{"04:59", 15 * time.Second, time.Minute}, // until it may come again
	} {
		at, err := time.Parse("15:04", c.at)
		require.NoError(t, err)
		now := time.Date(2026, 3, 1, at.Hour(), at.Minute(), 0, 0, time.UTC)
		assert.Equal(t, c.want, idleRest(f.Due, c.least, now), c.at)
	}
	assert.Equal(t, time.Second, idleRest(nil, time.Second, time.Now()), "without a calendar")
}

// TestALookoutEndsOnce has it ended by several at once, as when a service stops while a look ends.
func TestALookoutEndsOnce(t *testing.T) {
	t.Parallel()
	f, err := feed.Parse("f.yaml", []byte("feed: f\nlanding: {at: in, files: '*.csv'}\nschema: {fields: [{name: id}], primaryKey: [id]}\ntarget: {table: a.b}\n"))
	require.NoError(t, err)
	for range 100 {
		o := newLookout(nil, f, ledger.Feed{})
		o.asked = []chan struct{}{make(chan struct{})}
		asked := o.asked[0]
		var at sync.WaitGroup
		for range 4 {
			at.Go(o.end)
		}
		at.Wait()
		<-o.ended
		<-asked
	}
}
