package e2e

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/api"
	"mullein/internal/cli"
	"mullein/internal/client"
	"mullein/internal/demo"
	"mullein/internal/localpg/pgtest"
	"mullein/internal/server"
	"mullein/internal/settings"
)

func TestMain(m *testing.M) { pgtest.Main(m, nil) }

// service is a running Mullein with the sample feeds.
type service struct {
	database string // its address
	t        *testing.T
	home     string
	client   *client.Client
	server.Running
	stop func() error
}

func serve(t *testing.T) *service {
	t.Helper()
	return serveWith(t, filepath.Join(t.TempDir(), ".mullein"), pgtest.Database(t))
}

func serveWith(t *testing.T, home, database string) *service {
	t.Helper()
	return serveFrom(t, settings.From{Home: home, Environ: []string{"MULLEIN_LISTEN=127.0.0.1:0", "MULLEIN_DATABASE=" + database}})
}

// serveFrom is a service with settings, which are read again when they change.
func serveFrom(t *testing.T, from settings.From) *service {
	t.Helper()
	said, err := settings.Read(from)
	require.NoError(t, err)
	s := &service{t: t, home: from.Home, database: said.Database}
	ctx, cancel := context.WithCancel(context.Background())
	ready, done := make(chan server.Running, 1), make(chan error, 1)
	go func() {
		done <- server.Serve(ctx, server.Config{
			Home: s.home, Settings: said.Settings, Reread: func() (*settings.Loaded, error) { return settings.Read(from) },
			Log: slog.New(slog.NewTextHandler(t.Output(), nil)), Out: io.Discard,
			Ready: func(r server.Running) { ready <- r },
		})
	}()
	select {
	case s.Running = <-ready:
	case err := <-done:
		require.NoError(t, err)
	}
	s.client = client.New(s.URL, s.Token)
	stopped := false
	s.stop = func() error {
		if stopped {
			return nil
		}
		stopped = true
		cancel()
		return <-done
	}
	t.Cleanup(func() { assert.NoError(t, s.stop()) })
	return s
}

func (s *service) feeds() *service {
	s.t.Helper()
	require.NoError(s.t, demo.Put(context.Background(), s.client, s.Root))
	return s
}

func (s *service) example() *service {
	s.t.Helper()
	require.NoError(s.t, demo.Example(context.Background(), s.feeds().client, s.Root))
	return s
}

// eventually waits until something is so.
func (s *service) eventually(ok func() bool) {
	s.t.Helper()
	require.Eventually(s.t, ok, time.Minute, 20*time.Millisecond)
}

// mullein runs a command line and returns its exit code and what it printed.
func (s *service) mullein(args ...string) (code int, stdout, stderr string) {
	var out, errOut bytes.Buffer
	program := cli.Program{Private: func(string) (string, error) { return s.database, nil },
		Open: func(_ context.Context, _, _ string) (string, func(), error) { return s.database, func() {}, nil },
		Reconcile: func(ctx context.Context, o cli.ServeOptions, database string) (map[string][]string, error) {
			return server.Reconcile(ctx, server.Config{Home: s.home, Settings: o.Settings.Settings,
				Log: slog.New(slog.NewTextHandler(s.t.Output(), nil))}, database)
		}}
	code = cli.Run(context.Background(), program, append([]string{"--home", s.home}, args...), &out, &errOut)
	return code, out.String(), errOut.String()
}

func (s *service) request(method, path string, change func(*http.Request)) *http.Response {
	s.t.Helper()
	r, err := http.NewRequest(method, s.URL+path, strings.NewReader("{}"))
	require.NoError(s.t, err)
	r.Header.Set("Content-Type", "application/json")
	if change != nil {
		change(r)
	}
	answer, err := http.DefaultClient.Do(r)
	require.NoError(s.t, err)
	s.t.Cleanup(func() { answer.Body.Close() })
	return answer
}

func TestEveryRouteButHealthAndSignInAsksForAToken(t *testing.T) {
	t.Parallel()
	s := serve(t)
	for _, path := range []string{"/healthz", "/readyz"} {
		assert.Equal(t, http.StatusOK, s.request("GET", path, nil).StatusCode, path)
	}
	document := s.request("GET", "/api/openapi.json",
		func(r *http.Request) { r.Header.Set("Authorization", "Bearer "+s.Token) })
	require.Equal(t, http.StatusOK, document.StatusCode)
	var api struct {
		OpenAPI string
		Paths   map[string]map[string]any
	}
	text, err := io.ReadAll(document.Body)
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(text, &api))
	assert.Equal(t, "3.1.0", api.OpenAPI)
	asked := 0
	for path, methods := range api.Paths {
		path = strings.NewReplacer("{feed}", "x", "{id}", "1", "{user}", "ada").Replace(path)
		for method := range methods {
			if path == "/api/v1/session" && method == "post" || path == "/api/v1/session/ways" {
				continue
			}
			answer := s.request(strings.ToUpper(method), path, nil)
			assert.Equal(t, http.StatusUnauthorized, answer.StatusCode, "%s %s", method, path)
			assert.Equal(t, "application/problem+json", answer.Header.Get("Content-Type"))
			asked++
		}
	}
	assert.Greater(t, asked, 20)
	committed, err := os.ReadFile("../../web/src/api/openapi.json")
	require.NoError(t, err)
	assert.JSONEq(t, string(text), string(committed), "the console's client is made from an older API: make docs")
}

func TestSignInAndCrossSiteCalls(t *testing.T) {
	t.Parallel()
	s := serve(t)
	_, link, _ := strings.Cut(s.SignIn, "#")
	signIn := func(body string) *http.Response {
		return s.request("POST", "/api/v1/session", func(r *http.Request) {
			r.Body = io.NopCloser(strings.NewReader(body))
			r.ContentLength = int64(len(body))
		})
	}
	assert.Equal(t, http.StatusUnauthorized, signIn(`{"token": "mu_wrong"}`).StatusCode)
	answer := signIn(`{"code": "` + link + `"}`)
	require.Equal(t, http.StatusOK, answer.StatusCode)
	cookie := answer.Cookies()[0]
	assert.True(t, cookie.HttpOnly)
	assert.Equal(t, http.SameSiteStrictMode, cookie.SameSite)
	assert.Equal(t, http.StatusUnauthorized, signIn(`{"code": "`+link+`"}`).StatusCode, "a link is good once")
	assert.Equal(t, http.StatusOK, signIn(`{"token": "`+s.Token+`"}`).StatusCode)

	with := func(headers ...string) func(*http.Request) {
		return func(r *http.Request) {
			r.AddCookie(cookie)
			for i := 0; i < len(headers); i += 2 {
				r.Header.Set(headers[i], headers[i+1])
			}
		}
	}
	assert.Equal(t, http.StatusOK, s.request("GET", "/api/v1/session", with()).StatusCode)
	assert.Equal(t, http.StatusForbidden, s.request("POST", "/api/v1/feeds/x/pause",
		with("Sec-Fetch-Site", "cross-site")).StatusCode)
	assert.Equal(t, http.StatusForbidden, s.request("POST", "/api/v1/feeds/x/pause",
		with("Origin", "http://elsewhere.example")).StatusCode)
	assert.Equal(t, http.StatusNotFound, s.request("POST", "/api/v1/feeds/x/pause",
		with("Sec-Fetch-Site", "same-origin")).StatusCode)
	page := s.request("GET", "/today", nil)
	assert.Contains(t, page.Header.Get("Content-Security-Policy"), "script-src 'self'; style-src 'self' 'nonce-")
	assert.Equal(t, http.StatusNoContent, s.request("DELETE", "/api/v1/session", with()).StatusCode)
	assert.Equal(t, http.StatusUnauthorized, s.request("GET", "/api/v1/session", with()).StatusCode, "signed out")
	code, made, _ := s.mullein("token", "new", "night-shift")
	require.Zero(t, code)
	other := client.New(s.URL, strings.TrimSpace(made))
	tokens, err := other.Tokens(context.Background())
	require.NoError(t, err)
	require.Len(t, tokens.Items, 2)
	assert.Equal(t, "night-shift", tokens.Items[1].Name)
	session := signIn(`{"token": "` + strings.TrimSpace(made) + `"}`).Cookies()[0]
	code, out, _ := s.mullein("token", "end", strconv.FormatInt(tokens.Items[1].ID, 10))
	assert.Zero(t, code, out)
	_, err = other.Tokens(context.Background())
	assert.Error(t, err, "it was ended")
	assert.Equal(t, http.StatusUnauthorized,
		s.request("GET", "/api/v1/session", func(r *http.Request) { r.AddCookie(session) }).StatusCode,
		"and its session")
	big := s.request("PUT", "/api/v1/feeds/x", func(r *http.Request) {
		r.Header.Set("Authorization", "Bearer "+s.Token)
		r.Body, r.ContentLength = io.NopCloser(strings.NewReader(strings.Repeat("x", 4<<20))), 4<<20
	})
	assert.Equal(t, http.StatusRequestEntityTooLarge, big.StatusCode)
	kept, err := os.Stat(filepath.Join(s.home, "sign-in.link"))
	require.NoError(t, err, "no terminal shows it")
	assert.Equal(t, os.FileMode(0o600), kept.Mode())
	var last int
	for range 12 {
		last = s.request("POST", "/api/v1/session", func(r *http.Request) {
			r.Header.Set("Content-Type", "application/json")
			text := `{"token": "guessed"}`
			r.Body, r.ContentLength = io.NopCloser(strings.NewReader(text)), int64(len(text))
		}).StatusCode
	}
	assert.Equal(t, http.StatusTooManyRequests, last)
}

func TestEventsTellOfArrivalsRunsAndLoads(t *testing.T) {
	t.Parallel()
	s := serve(t).feeds()
	stream := s.request("GET", "/api/v1/events",
		func(r *http.Request) { r.Header.Set("Authorization", "Bearer "+s.Token) })
	require.Equal(t, http.StatusOK, stream.StatusCode)
	delivered := make(chan error, 1)
	go func() { delivered <- demo.Example(context.Background(), s.client, s.Root) }()
	want := map[string]bool{"arrival settling": true, "arrival ready": true, "arrival loading": true,
		"arrival loaded": true, "run running": true, "run done": true, "load loaded": true, "arrival refused": true,
		"arrival skipped": true}
	lines := bufio.NewScanner(stream.Body)
	kind := ""
	for len(want) > 0 && lines.Scan() {
		if event, ok := strings.CutPrefix(lines.Text(), "event: "); ok {
			kind = event
		}
		if data, ok := strings.CutPrefix(lines.Text(), "data: "); ok && kind == "change" {
			var e api.Event
			require.NoError(t, json.Unmarshal([]byte(data), &e))
			delete(want, e.Kind+" "+e.State)
		}
	}
	assert.Empty(t, want)
	require.NoError(t, <-delivered)
}

func TestListsArePagedByKey(t *testing.T) {
	t.Parallel()
	s := serve(t).example()
	ctx := context.Background()
	var ids []int64
	for before := int64(0); ; {
		page, err := s.client.Arrivals(ctx, client.ArrivalQuery{Before: before, Most: 3})
		require.NoError(t, err)
		for _, a := range page.Items {
			ids = append(ids, a.ID)
		}
		if before = page.Next; before == 0 {
			break
		}
	}
	assert.Equal(t, []int64{12, 11, 10, 9, 8, 7, 6, 5, 4, 3, 2, 1}, ids)
	runs, err := s.client.Runs(ctx, client.RunQuery{Feed: "gauge-readings", Most: 2})
	require.NoError(t, err)
	assert.Len(t, runs.Items, 2)
	assert.NotZero(t, runs.Next)
}

func TestTheServiceStopsCleanlyAndGoesOn(t *testing.T) {
	t.Parallel()
	s := serve(t).example()
	begin := time.Now()
	require.NoError(t, s.stop())
	assert.Less(t, time.Since(begin), 10*time.Second)
	code, _, stderr := s.mullein("status")
	assert.Equal(t, 1, code)
	assert.Contains(t, stderr, "no service answers at")
}

// TestAServiceOutlivesItsDatabase kills the private PostgreSQL of a service.
func TestAServiceOutlivesItsDatabase(t *testing.T) {
	t.Parallel()
	dir, err := pgtest.Folder()
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	s := serveWith(t, filepath.Join(dir, "home"), "").example()
	pidFile, err := os.ReadFile(filepath.Join(s.home, "postgres/postmaster.pid"))
	require.NoError(t, err)
	pid, err := strconv.Atoi(strings.SplitN(string(pidFile), "\n", 2)[0])
	require.NoError(t, err)
	require.NoError(t, syscall.Kill(pid, syscall.SIGKILL))
	ready := func() int { return s.request("GET", "/readyz", nil).StatusCode }
	require.Eventually(t, func() bool { return ready() == http.StatusServiceUnavailable }, time.Minute,
		20*time.Millisecond)
	assert.Equal(t, http.StatusOK, s.request("GET", "/healthz", nil).StatusCode, "the service itself stays up")
	require.Eventually(t, func() bool { return ready() == http.StatusOK }, time.Minute, 50*time.Millisecond,
		"and comes back by itself")
	require.NoError(t, os.WriteFile(filepath.Join(s.Root, "landing/registry/STATIONS_2026-07-02.csv"),
		[]byte("nothing\n"), 0o644))
	require.Eventually(t, func() bool {
		list, err := s.client.Arrivals(context.Background(),
			client.ArrivalQuery{Text: "2026-07-02", State: api.ArrivalRefused, Most: 1})
		return err == nil && len(list.Items) == 1
	}, time.Minute, 50*time.Millisecond, "and goes on working")
}

func TestTheCommandLine(t *testing.T) {
	t.Parallel()
	s := serve(t).example()
	bad := filepath.Join(t.TempDir(), "bad.yaml")
	require.NoError(t, os.WriteFile(bad, []byte("feed: x\nlandng: {}\n"), 0o644))
	for _, c := range []struct {
		args   string
		code   int
		stdout string
		stderr string
	}{
		{"ledger", 0, "GAUGE_K1_20260701T1200 (1).csv", ""},
		{"ledger gauge-readings --state refused", 0, "the gzip is cut short", ""},
		{"ledger --check", 0, "refused", ""}, // it was overtaken
		{"ledger --state lost", 2, "", `unknown state "lost"`},
		{"ledger nowhere", 1, "", `feed "nowhere": not found`},
		{"arrival 2", 0, "12 read = 10 inserted + 1 duplicate + 1 rejected", ""},
		{"arrival two", 2, "", "not the number of an arrival"},
		{"rejects gauge-readings", 0, "not a number", ""},
		{"rejects 2", 0, "SR0102;01.07.2026 12:00;2,4x", ""},
		{"rows gauge-readings --limit 1", 0, "from_line", ""},
		{"rows 1", 0, "Sorrel, Upper Weir", ""},
		{"runs", 0, "arrival", ""},
		{"status", 0, "river.gauge_reading", ""},
		{"status gauge-readings", 0, "by station_id, observed_at", ""},
		{"feed list", 0, "station-registry", ""},
		{"feed show station-registry", 0, "feed: station-registry", ""},
		{"feed history station-registry", 0, "VERSION", ""},
		{"feed check " + bad, 3, bad + `:2:1: unknown key "landng"; did you mean "landing"?`, ""},
		{"feed put " + bad, 1, "", `unknown key "landng"`},
		{"feed check ../demo/feeds", 0, "good", ""},
		{"feed put ../demo/feeds", 0, "gauge-readings: as it was, version 1", ""},
		{"feed put ../demo/feeds/gauge-readings.yaml", 0, "gauge-readings: as it was, version 1", ""},
		{"feed which gauge-readings", 0, "a copy of arrival 2", ""},
		{"ledger --day 2026-02-30", 2, "", "is no day"},
		{"ledger --text GAUGE_K?_*.gz", 0, "GAUGE_K2_20260701T1200.csv.gz", ""},
		{"hold 1 --because x", 1, "", "arrival 1 is loaded; hold takes those that are noticed"},
		{"redo 1", 2, "", "redo needs --because"},
		{"redo --because x", 2, "", "takes the numbers of arrivals, or --feed"},
		{"redo 4711 --because x", 1, "", "arrival 4711: not found"},
		{"skip 6 --because torn", 0, "skipped", ""},
		{"arrival 6", 0, "skip by owner on", ""},
		{"redo --feed gauge-readings --text (1) --because x", 0, "GAUGE_K1_20260701T1200 (1).csv: ready", ""},
		{"release --feed gauge-readings --state held --because x", 1, "", "no arrivals of gauge-readings are such"},
		{"reconcile", 0, "Ledger and markers agree.", ""},
		{"cancel 1", 1, "", "run 1 is done already"},
		{"run gauge-readings --from July", 1, "", `"July" is no slot`},
		{"run station-registry --from 2026-07-01 --to 2026-07-03 --wait", 0,
			"3 slots up to 2026-07-03; 2 without files: 2026-07-02, 2026-07-03", ""},
		{"run station-registry --require 5", 3, "0 arrivals were there; 5 were required", ""},
		{"due station-registry --simulate 2026-10-24..2026-10-26", 0, "STATIONS_2026-10-25.csv", ""},
		{"due ../demo/feeds/station-registry.yaml --simulate 2026-03-29", 0, "Sun 2026-03-29 06:00   +00:00", ""},
		{"due nowhere", 1, "", "not found"},
		{"due --days 99", 2, "", "--days takes 1 to 62"},
		{"excuse 1", 2, "", "excuse needs --because"},
		{"accept 4711 x.csv --because x", 1, "", "slot 4711: not found"},
		{"deliver gauge-readings nowhere.csv", 1, "", "no such file"},
		{"deliver gauge-readings ../demo/feeds/gauge-readings.yaml", 1, "",
			"would not be taken: it does not fit the pattern"},
		{"feed pause gauge-readings", 0, "paused", ""},
		{"feed list", 0, "paused", ""},
		{"feed resume gauge-readings", 0, "resumed", ""},
		{"feed remove gauge-readings", 2, "", "say --yes"},
		{"run station-registry --wait", 0, "nothing new was there", ""},
		{"run station-registry --wait --file STATIONS_2026-07-01.csv", 3, "it is loaded already, as arrival ", ""},
		{"run station-registry --wait --file STATIONS_2026-07-09.csv", 3,
			"STATIONS_2026-07-09.csv: it is not at the landing", ""},
		{"status --check", 0, "Nothing needs a person", ""},
		{"status station-registry --check", 0, "station-registry", ""},
		{"ledger --check --state loaded", 0, "loaded", ""},
		{"ledger station-registry --check", 0, "loaded", ""},
		{"due station-registry --check", 0, "", ""},
		{"row river.gauge_reading station_id=SR0001 observed_at=yesterdayish", 1, "",
			"the key cannot be read: invalid input syntax for type timestamp with time zone: \"yesterdayish\""},
		{"rehearse station-registry", 0, "Nothing of station-registry would be loaded next", ""},
		{"ledger nowhere -o json", 1, "", "\"status\": 404,\n  \"detail\": \"feed \\\"nowhere\\\": not found\"\n}"},
		{"nonsense", 2, "", "unknown command"},
		{"ledger -o xml", 2, "", "-o takes table, json, jsonl or csv"},
		{"ledger --nonsense", 2, "", "unknown flag"},
	} {
		code, stdout, stderr := s.mullein(strings.Fields(c.args)...)
		assert.Equal(t, c.code, code, "%s: %s", c.args, stderr)
		assert.Contains(t, stdout, c.stdout, c.args)
		assert.Contains(t, stderr, c.stderr, c.args)
		assert.NotContains(t, stdout, "\x1b", "no colours in a pipe")
	}
	for _, args := range []string{"ledger", "arrival 2", "rejects 2", "rows 2", "runs", "status", "feed list",
		"feed history gauge-readings", "run gauge-readings"} {
		code, stdout, _ := s.mullein(append(strings.Fields(args), "-o", "json")...)
		assert.Equal(t, 0, code)
		assert.True(t, json.Valid([]byte(stdout)), args)
	}
}

func TestRunWaitEndsWithItsBalance(t *testing.T) {
	t.Parallel()
	s := serve(t).feeds()
	in := filepath.Join(s.Root, "landing/registry")
	require.NoError(t, os.WriteFile(filepath.Join(in, "STATIONS_2026-07-01.csv"),
		[]byte("station_id,station_name,river,catchment,place,zero_m,since,telemetry\nSR0001,Upper "+
			"Weir,Sorrel,K1,\"-28.6, 38.5\",210,1961-04-01,yes\n"), 0o644))
	code, stdout, stderr := s.mullein("run", "station-registry", "--wait", "-o", "json")
	require.Equal(t, 0, code, stderr)
	var run struct {
		State   string
		Balance map[string]int64
	}
	require.NoError(t, json.Unmarshal([]byte(stdout), &run))
	assert.Equal(t, "done", run.State)
	if run.Balance["read"] == 1 { // else a run that the arrival started had it already
		assert.Equal(t, map[string]int64{"read": 1, "inserted": 1, "updated": 0, "unchanged": 0, "outdated": 0,
			"kept": 0, "deleted": 0, "duplicate": 0, "rejected": 0, "left_out": 0, "withheld": 0, "removed": 0},
			run.Balance)
	}
	require.NoError(t, s.client.Pause(context.Background(), "station-registry"))
	require.NoError(t, os.WriteFile(filepath.Join(in, "STATIONS_2026-07-02.csv"), []byte("nothing\n"), 0o644))
	code, stdout, _ = s.mullein("run", "station-registry", "--wait")
	assert.Equal(t, 3, code, "something was refused")
	assert.Contains(t, stdout, "none of the schema's columns is in the header")
	for args, say := range map[string]string{"status --check": "Needs a person, 1 feed",
		"status station-registry --check": "wrong", "ledger --check": "refused"} {
		code, stdout, _ = s.mullein(strings.Fields(args)...)
		assert.Equal(t, 3, code, args)
		assert.Contains(t, stdout, say, args)
	}
	code, stdout, _ = s.mullein("run", "station-registry", "--wait")
	assert.Equal(t, 3, code, "it is refused still")
	assert.Contains(t, stdout, "STATIONS_2026-07-02.csv, is refused: ")
	require.NoError(t, os.Rename(in, in+".away"))
	code, stdout, _ = s.mullein("run", "station-registry", "--wait")
	assert.Equal(t, 3, code, "the landing is away")
	assert.Contains(t, stdout, "station-registry is not working, and 0 files waiting: ")
}

func TestAFeedPutAgainIsANewVersion(t *testing.T) {
	t.Parallel()
	s := serve(t).feeds()
	text, err := os.ReadFile("../demo/feeds/station-registry.yaml")
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "station-registry.yaml")
	require.NoError(t, os.WriteFile(file, bytes.Replace(text, []byte("Every gauging"), []byte("Each gauging"), 1),
		0o644))
	code, stdout, stderr := s.mullein("feed", "put", file)
	require.Equal(t, 0, code, stderr)
	assert.Contains(t, stdout, "station-registry: changed, version 2")
	_, old, _ := s.mullein("feed", "show", "station-registry", "--version", "1")
	assert.Equal(t, string(text), old)
	other := bytes.Replace(text, []byte("table: river.station"), []byte("table: river.site"), 1)
	other = bytes.Replace(other, []byte("primaryKey: station_id"), []byte("primaryKey: [station_id, since]"), 1)
	other = bytes.Replace(other, []byte("at: landing/registry"), []byte("at: landing/sites"), 1)
	require.NoError(t, os.MkdirAll(filepath.Join(s.Root, "landing/sites"), 0o755))
	require.NoError(t, os.WriteFile(file, other, 0o644))
	code, _, stderr = s.mullein("feed", "put", file)
	assert.Equal(t, 2, code, "what it leaves behind is shown first")
	for _, say := range []string{"landing.at: landing/sites instead of landing/registry",
		"target.table: river.site instead of river.station",
		"schema.primaryKey: (station_id, since) instead of (station_id)", "nothing was changed; say --yes"} {
		assert.Contains(t, stderr, say)
	}
	code, stdout, stderr = s.mullein("feed", "put", file, "--yes")
	require.Equal(t, 0, code, stderr)
	assert.Contains(t, stdout, "station-registry: changed, version 3")
	code, _, _ = s.mullein("feed", "remove", "station-registry", "--yes")
	require.Equal(t, 0, code)
	code, _, _ = s.mullein("status", "station-registry")
	assert.Equal(t, 1, code)
	code, stdout, stderr = s.mullein("ledger", "station-registry")
	assert.Equal(t, 0, code, stderr)
	assert.Contains(t, stdout, "Nothing has arrived.", "its ledger can be read still")
	code, _, stderr = s.mullein("feed", "put", file)
	assert.Equal(t, 2, code)
	assert.Contains(t, stderr, "it was removed after version 3, and its ledger goes on")
	_, stdout, _ = s.mullein("feed", "put", file, "--yes")
	assert.Contains(t, stdout, "version 4", "its history stays")
}

// TestAFolderOfFeedsAndRollups puts both, and says what does not fit.
func TestAFolderOfFeedsAndRollups(t *testing.T) {
	t.Parallel()
	s := serve(t)
	folder := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(s.Root, "in"), 0o755))
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte(text), 0o644))
	}
	const levels = "feed: levels\nlanding: {at: in, files: \"L_*.csv\", settle: 50ms}\nschema:\n  fields:\n    - " +
		"{name: station}\n    - {name: level, type: number}\n  primaryKey: station\ntarget: {table: river.level}\n"
	write("levels.yaml", levels)
	require.NoError(t, os.WriteFile(filepath.Join(s.Root, "in/L_1.csv"), []byte("station,level\na,1.5\n"), 0o644))
	code, _, stderr := s.mullein("feed", "put", folder, "--yes")
	require.Equal(t, 0, code, stderr)
	code, _, stderr = s.mullein("run", "levels", "--wait")
	require.Equal(t, 0, code, stderr)
	write("peaks.yaml", "rollup: peaks\ntable: river.peak\nkey: [station]\nselect: SELECT station, max(level) AS peak "+
		"FROM river.level GROUP BY 1\nfrom: {river.level: {station: station}}\n")
	code, stdout, stderr := s.mullein("feed", "check", folder)
	assert.Equal(t, 0, code, stderr)
	assert.Contains(t, stdout, "good. rollup peaks -> river.peak")
	code, stdout, stderr = s.mullein("feed", "put", folder, "--yes")
	require.Equal(t, 0, code, stderr)
	assert.Contains(t, stdout, "peaks: put; it is kept in river.peak")
	write("levels.yaml", strings.Replace(levels, "table: river.level", "table: river.peak", 1))
	code, _, stderr = s.mullein("feed", "put", filepath.Join(folder, "levels.yaml"), "--yes")
	assert.Equal(t, 1, code)
	assert.Contains(t, stderr, "rollup peaks keeps its rows in river.peak")
	write("levels.yaml", strings.Replace(levels, "primaryKey: station", "primaryKey: [station, level]", 1))
	code, stdout, stderr = s.mullein("feed", "put", filepath.Join(folder, "levels.yaml"), "--yes")
	assert.Equal(t, 3, code, stderr)
	assert.Contains(t, stdout, "  table river.level does not fit, and until it does files wait:\n    ")
	assert.Contains(t, stdout, "\n    `mullein feed rebuild` gives it the new shape")
	code, stdout, stderr = s.mullein("feed", "rebuild", "levels", "--because", "each level counts", "--yes")
	require.Equal(t, 0, code, stderr)
	assert.Regexp(t, `river.level: \d+ arrivals loaded afresh, by run \d+`, stdout)
	_, stdout, _ = s.mullein("runs", "levels")
	assert.Contains(t, stdout, "rebuild")
}

// TestTheExamplesOfThePagesAreTrue runs what the pages of docs show with its
// output.
func TestTheExamplesOfThePagesAreTrue(t *testing.T) {
	t.Parallel()
	s := serve(t).feeds()
	pages, err := filepath.Glob("../../docs/*.md")
	require.NoError(t, err)
	ran := 0
	for _, page := range pages {
		text, err := os.ReadFile(page)
		require.NoError(t, err)
		for _, block := range strings.Split(string(text), "```")[1:] {
			if command, want, ok := strings.Cut(strings.TrimPrefix(block, "\n"), "\n"); ok &&
				strings.HasPrefix(command, "$ mullein ") {
				_, stdout, stderr := s.mullein(strings.Fields(command)[2:]...)
				assert.Equal(t, want, stdout, "%s: %s%s", page, command, stderr)
				ran++
			}
		}
	}
	assert.NotZero(t, ran)
}

// TestTheReadmeIsTrue does what the README says, word for word.
func TestTheReadmeIsTrue(t *testing.T) {
	readme, err := os.ReadFile("../../README.md")
	require.NoError(t, err)
	s := serve(t)
	t.Chdir(filepath.Dir(s.home))
	_, chapter, _ := strings.Cut(string(readme), "## A feed of your own")
	chapter, _, _ = strings.Cut(chapter, "\n## ")
	var outputs []string
	for i, block := range strings.Split(chapter, "```") {
		language, body, _ := strings.Cut(block, "\n")
		if language == "yaml" {
			drafted, err := os.ReadFile("feeds/temp.yaml")
			require.NoError(t, err)
			assert.Equal(t, body, string(drafted), "the draft as it stands in the README")
		}
		if i%2 == 0 || language != "" || strings.Contains(body, "mullein serve") {
			continue
		}
		for _, line := range strings.Split(strings.TrimSpace(body), "\n") {
			if command, ok := strings.CutPrefix(line, "bin/mullein "); ok {
				code, stdout, stderr := s.mullein(strings.Fields(command)...)
				assert.Equal(t, 0, code, "%s: %s%s", line, stdout, stderr)
				outputs = append(outputs, stdout)
				continue
			}
			shell(t, line)
		}
	}
	all := strings.Join(outputs, "\n")
	for _, want := range []string{"2 read = 2 inserted", "nothing was loaded", "temp: created, version 1",
		"4 read = 4 inserted", "14.2"} {
		assert.Contains(t, all, want)
	}
	fmt.Fprintln(t.Output(), all)
}

// TestStatusSaysForWhatFilesWait looks at a file that settles, and at one whose landing is away.
func TestStatusSaysForWhatFilesWait(t *testing.T) {
	t.Parallel()
	s := serve(t)
	in := filepath.Join(s.Root, "landing", "slow")
	require.NoError(t, os.MkdirAll(in, 0o755))
	file := filepath.Join(t.TempDir(), "slow.yaml")
	require.NoError(t, os.WriteFile(file, []byte(`feed: slow
landing: {at: landing/slow, files: "S_{slot:%Y%m%d}.csv", settle: 1h}
schema: {fields: [{name: station}], primaryKey: [station]}
target: {table: river.slow}
`), 0o644))
	code, _, errOut := s.mullein("feed", "put", file)
	require.Equal(t, 0, code, errOut)
	require.NoError(t, os.WriteFile(filepath.Join(in, "S_20260701.csv"), []byte("station\nA\n"), 0o644))
	says := func(pattern string) {
		t.Helper()
		s.eventually(func() bool {
			_, out, _ := s.mullein("status", "slow")
			return regexp.MustCompile(pattern).MatchString(out)
		})
	}
	says(`\d  S_20260701.csv  settling  it to be whole, if it stays as it is  \d{4}-\d\d-\d\d \d\d:\d\d:\d\d`)
	require.NoError(t, os.Rename(in, in+"-away"))
	says(`not working   landing landing/slow is away.*(?s:.*)S_20260701.csv  settling  the feed to work again`)
	require.NoError(t, os.Rename(in+"-away", in))
	says(`settling  it to be whole, if it stays`)
}
