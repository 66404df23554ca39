package server_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/api"
	"mullein/internal/client"
	"mullein/internal/localpg/pgtest"
	"mullein/internal/server"
	"mullein/internal/settings"
)

func TestMain(m *testing.M) { pgtest.Main(m, nil) }

// service is a running service and its client.
type service struct {
	*client.Client
	server.Running
	t    *testing.T
	home string
}

// serve runs a service with a database of its own until the test ends.
func serve(t *testing.T) *service {
	t.Helper()
	return serveAt(t, filepath.Join(t.TempDir(), ".mullein"))
}

// serveAt is serve with a home folder, and landing roots.
func serveAt(t *testing.T, home string, roots ...string) *service {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	ready, done := make(chan server.Running, 1), make(chan error, 1)
	s := &service{t: t, home: home}
	go func() {
		done <- server.Serve(ctx, server.Config{
			Home: s.home, Settings: settings.Settings{Listen: "127.0.0.1:0", Database: pgtest.Database(t), LandingRoots: roots}, Out: io.Discard,
			Log: slog.New(slog.NewTextHandler(t.Output(), nil)), Ready: func(r server.Running) { ready <- r },
		})
	}()
	select {
	case s.Running = <-ready:
	case err := <-done:
		require.NoError(t, err)
	}
	t.Cleanup(func() {
		cancel()
		assert.NoError(t, <-done)
	})
	s.Client = client.New(s.URL, s.Token)
	return s
}

// put puts a feed of gauges that end in a table of their own; more is added to its file.
func (s *service) put(name, supplier, more string) {
	s.t.Helper()
	definition := fmt.Sprintf(`feed: %[1]s
supplier: {name: %[2]s}
landing: {at: landing/%[1]s, files: "G_{slot:%%Y%%m%%d}.csv"}
schema:
  fields: [{name: station}, {name: level_m, type: number}]
target: {table: river.%[3]s, mode: append}
%[4]s`, name, supplier, strings.ReplaceAll(name, "-", "_"), more)
	require.NoError(s.t, os.MkdirAll(filepath.Join(s.Root, "landing", name), 0o755))
	_, err := s.PutFeed(context.Background(), name, name+".yaml", definition)
	require.NoError(s.t, err)
}

// drop leaves a file in a feed's landing, which appears there at once and whole.
func (s *service) drop(feed, name, text string) {
	s.t.Helper()
	beside := filepath.Join(s.home, name)
	require.NoError(s.t, os.WriteFile(beside, []byte(text), 0o600))
	require.NoError(s.t, os.Rename(beside, filepath.Join(s.Root, "landing", feed, name)))
}

func (s *service) eventually(what string, ok func() bool) {
	s.t.Helper()
	require.Eventually(s.t, ok, time.Minute, 20*time.Millisecond, what)
}

// names returns the names of a page of feeds and the name after which the next begins.
func (s *service) names(q client.FeedQuery) (names []string, next string) {
	s.t.Helper()
	page, err := s.Feeds(context.Background(), q)
	require.NoError(s.t, err)
	for _, f := range page.Items {
		names = append(names, f.Name)
	}
	return names, page.Next
}

// TestNoFeedTakesTheServicesOwnFiles puts feeds whose landing holds the token: by name,
// and by a link that is made when the feed is there.
func TestNoFeedTakesTheServicesOwnFiles(t *testing.T) {
	t.Parallel()
	home := filepath.Join(t.TempDir(), ".mullein")
	s := serveAt(t, home, filepath.Dir(home))
	const definition = "feed: tokens\nlanding: {at: AT, files: \"*.token\", settle: 50ms}\nschema: {fields: [{name: " +
		"secret}]}\ndialect: {header: false}\ntarget: {table: river.tokens, mode: append}\n"
	for _, at := range []string{".", ".mullein", ".mullein/postgres/.."} {
		_, err := s.PutFeed(context.Background(), "tokens", "tokens.yaml", strings.Replace(definition, "AT", at, 1))
		assert.Error(t, err, at)
	}
	_, err := s.PutFeed(context.Background(), "tokens", "tokens.yaml", strings.Replace(definition, "AT", ".mullein", 1))
	assert.ErrorContains(t, err, "the service's own")
	_, err = s.PutFeed(context.Background(), "tokens", "tokens.yaml", strings.Replace(definition, "AT", "later", 1))
	require.NoError(t, err, "it is not there yet")
	require.NoError(t, os.Symlink(".mullein", filepath.Join(filepath.Dir(home), "later")))
	s.eventually("the landing to be refused", func() bool {
		page, err := s.Feeds(context.Background(), client.FeedQuery{})
		require.NoError(t, err)
		return strings.Contains(page.Items[0].Problem, "the service's own")
	})
	arrivals, err := s.Arrivals(context.Background(), client.ArrivalQuery{Most: 10})
	require.NoError(t, err)
	assert.Empty(t, arrivals.Items)
}

func TestFeedsArePagedAndFiltered(t *testing.T) {
	t.Parallel()
	s := serve(t)
	for n := range 7 {
		s.put(fmt.Sprintf("gauges-%d", n), []string{"Upper Catchment Office", "Estuary Buoys"}[n%2], "")
	}
	names, next := s.names(client.FeedQuery{Most: 3})
	assert.Equal(t, []string{"gauges-0", "gauges-1", "gauges-2"}, names)
	names, next = s.names(client.FeedQuery{Most: 3, After: next})
	assert.Equal(t, []string{"gauges-3", "gauges-4", "gauges-5"}, names)
	names, next = s.names(client.FeedQuery{Most: 3, After: next})
	assert.Equal(t, []string{"gauges-6"}, names)
	assert.Empty(t, next, "there are no more")

	names, _ = s.names(client.FeedQuery{Supplier: "Estuary Buoys"})
	assert.Equal(t, []string{"gauges-1", "gauges-3", "gauges-5"}, names)
	names, _ = s.names(client.FeedQuery{Text: "GAUGES-4"})
	assert.Equal(t, []string{"gauges-4"}, names, "by part of the name, in any case of letters")
	names, _ = s.names(client.FeedQuery{Text: "landing/gauges-5"})
	assert.Equal(t, []string{"gauges-5"}, names, "by the folder")
	names, _ = s.names(client.FeedQuery{Text: "gauges_4"})
	assert.Empty(t, names, "_ stands for itself")

	all, err := s.AllFeeds(context.Background(), client.FeedQuery{Most: 2})
	require.NoError(t, err)
	assert.Len(t, all, 7)
}

func TestStatusSaysFirstWhatNeedsAPerson(t *testing.T) {
	t.Parallel()
	s := serve(t)
	ctx := context.Background()
	s.put("gauges-good", "Upper Catchment Office", "")
	s.put("gauges-bad", "Estuary Buoys", "")
	s.put("gauges-quiet", "Estuary Buoys", "")
	s.drop("gauges-good", "G_20260701.csv", "station,level_m\nSR0101,1.5\n")
	s.drop("gauges-bad", "G_20260701.csv", "station,depth\nSR0101,1.5\n")
	s.eventually("a load and a refusal", func() bool {
		status, err := s.Status(ctx)
		require.NoError(t, err)
		return status.Totals.States["loaded"] == 1 && status.Totals.States["refused"] == 1
	})
	status, err := s.Status(ctx)
	require.NoError(t, err)
	require.Len(t, status.Needs, 1)
	assert.Equal(t, "gauges-bad", status.Needs[0].Feed)
	assert.Equal(t, int64(3), status.Totals.Feeds)
	assert.Equal(t, int64(1), status.Totals.Wrong)
	var lately []string
	for _, f := range status.Feeds {
		lately = append(lately, f.Name)
	}
	assert.ElementsMatch(t, []string{"gauges-good", "gauges-bad"}, lately, "only feeds that files came for")
	names, _ := s.names(client.FeedQuery{Wrong: true})
	assert.Equal(t, []string{"gauges-bad"}, names)

	day, err := s.Day(ctx)
	require.NoError(t, err)
	var lines []string
	for _, f := range day.Feeds {
		lines = append(lines, f.Feed)
	}
	assert.ElementsMatch(t, []string{"gauges-good", "gauges-bad"}, lines)
	require.Len(t, day.Quiet, 1)
	assert.Equal(t, "gauges-quiet", day.Quiet[0].Only, "the quiet ones are folded")
}

// TestATableWithoutAKey: its page works, and what needs a key says so.
func TestATableWithoutAKey(t *testing.T) {
	t.Parallel()
	s := serve(t)
	ctx := context.Background()
	s.put("gauges", "Estuary Buoys", "")
	s.drop("gauges", "G_20260701.csv", "station,level_m\nSR0101,1.5\n")
	s.eventually("the load", func() bool {
		status, err := s.Status(ctx)
		require.NoError(t, err)
		return status.Totals.States["loaded"] == 1
	})
	view, err := s.Target(ctx, "river.gauges")
	require.NoError(t, err)
	assert.Empty(t, view.Key)
	rows, err := s.Rows(ctx, "gauges", "", 0, 10)
	require.NoError(t, err)
	assert.Len(t, rows.Rows, 1)
	for name, call := range map[string]func() error{
		"row":      func() error { _, err := s.Row(ctx, "river.gauges", []string{"station=SR0101"}); return err },
		"collapse": func() error { _, err := s.Collapse(ctx, "river.gauges"); return err },
	} {
		err := call()
		var problem *client.Error
		require.True(t, errors.As(err, &problem), "%s: %v", name, err)
		assert.Equal(t, http.StatusConflict, problem.Status, name)
		assert.Contains(t, problem.Error(), "no key", name)
	}
}

func TestAnEventStreamEndsWithItsSession(t *testing.T) {
	t.Parallel()
	s := serve(t)
	_, code, _ := strings.Cut(s.SignIn, "#")
	do := func(method, path, body string, cookie *http.Cookie) *http.Response {
		r, err := http.NewRequest(method, s.URL+path, strings.NewReader(body))
		require.NoError(t, err)
		r.Header.Set("Content-Type", "application/json")
		if cookie != nil {
			r.AddCookie(cookie)
		}
		answer, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		t.Cleanup(func() { answer.Body.Close() })
		return answer
	}
	signedIn := do("POST", "/api/v1/session", `{"code": "`+code+`"}`, nil)
	require.Equal(t, http.StatusOK, signedIn.StatusCode)
	cookie := signedIn.Cookies()[0]
	stream := do("GET", "/api/v1/events", "", cookie)
	require.Equal(t, http.StatusOK, stream.StatusCode)
	first := make([]byte, 1)
	_, err := io.ReadFull(stream.Body, first)
	require.NoError(t, err, "the stream is open")
	require.Equal(t, http.StatusNoContent, do("DELETE", "/api/v1/session", "", cookie).StatusCode)
	_, err = io.Copy(io.Discard, stream.Body)
	assert.NoError(t, err, "the stream ends when the session does")
	assert.Equal(t, http.StatusUnauthorized, do("GET", "/api/v1/events", "", cookie).StatusCode)
}

// TestWhatCannotBeUndoneIsNotLoadedAgain asks for a redo where rows bear no arrival.
func TestWhatCannotBeUndoneIsNotLoadedAgain(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	s := serve(t)
	require.NoError(t, os.MkdirAll(filepath.Join(s.Root, "landing/bare"), 0o755))
	_, err := s.PutFeed(ctx, "bare", "bare.yaml", `feed: bare
landing: {at: landing/bare, files: "*.csv", reissue: skip}
schema: {fields: [{name: station}]}
target: {table: river.bare, mode: append, lineage: none}
`)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(s.Root, "landing/bare/a.csv"), []byte("station\nSR0101\n"), 0o644))
	require.Eventually(t, func() bool {
		a, err := s.Arrival(ctx, 1)
		return err == nil && a.State == api.ArrivalLoaded
	}, time.Minute, 20*time.Millisecond)
	_, err = s.Decide(ctx, api.Verdict{Verb: "redo", Arrivals: []int64{1}, Because: "again"})
	assert.ErrorContains(t, err, "files of bare cannot be loaded again (mode append): without the lineage column "+
		"from_arrival nobody knows which rows a file has added")
}

// TestTextsThatNoDatabaseKeeps are refused in words, wherever they stand in an address.
func TestTextsThatNoDatabaseKeeps(t *testing.T) {
	t.Parallel()
	s := serve(t)
	for address, want := range map[string]string{
		"/arrivals?text=a%00b": `the parameter "text" holds a NUL character`,
		"/feeds?text=%ff":      `the parameter "text" holds`, "/feeds/a%00b": "the path holds",
	} {
		var out any
		assert.ErrorContains(t, s.Get(context.Background(), address, &out), want, address)
	}
}

// TestEarlierGenerationsKeepTheirSteps loads a file twice.
func TestEarlierGenerationsKeepTheirSteps(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	s := serve(t)
	s.put("levels", "office", "")
	s.drop("levels", "G_20260701.csv", "station,level_m\nA,1\n")
	var a api.Arrival
	loaded := func(generation int) func() bool {
		return func() bool {
			list, err := s.Arrivals(ctx, client.ArrivalQuery{Feed: "levels", Most: 1})
			require.NoError(t, err)
			if len(list.Items) == 1 {
				a = list.Items[0]
			}
			return a.State == api.ArrivalLoaded && a.Generation == generation
		}
	}
	s.eventually("the load", loaded(1))
	_, err := s.Decide(ctx, api.Verdict{Verb: "redo", Arrivals: []int64{a.ID}, Because: "once more"})
	require.NoError(t, err)
	first := a
	s.eventually("the redo", loaded(2))
	loads, err := s.Loads(ctx, a.ID)
	require.NoError(t, err)
	require.Len(t, loads, 2)
	for i, of := range []api.Arrival{first, a} {
		assert.Equal(t, i+1, loads[i].Generation)
		assert.Equal(t, of.OpenedAt.UnixMicro(), loads[i].OpenedAt.UnixMicro())
		assert.Equal(t, of.StagedAt.UnixMicro(), loads[i].ReadAt.UnixMicro())
	}
	assert.True(t, loads[0].ReadAt.Before(*loads[1].OpenedAt))
}
