package e2e

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/client"
	"mullein/internal/localpg/pgtest"
	"mullein/internal/settings"
)

// neighbourRows is a table of a neighbour, with what moves badly between databases.
const neighbourRows = `CREATE SCHEMA neighbour; CREATE TABLE neighbour.level (station text, at timestamptz, level_m numeric(8,3), exact numeric, flow double precision, note text,
	frozen boolean, day date, local timestamp, raw bytea, id uuid, extra jsonb, changed_at timestamptz DEFAULT clock_timestamp(), PRIMARY KEY (station, at));
INSERT INTO neighbour.level SELECT 'NB' || g % 50, timestamptz '2026-01-01' + g * interval '17 minutes', (g % 5000) / 1000.0, (g::numeric ^ 7) / 8, g * 0.37,
	CASE g % 5 WHEN 0 THEN 'ice, "thick"' WHEN 1 THEN E'two\nlines' WHEN 2 THEN 'é – ß' END, CASE WHEN g % 3 > 0 THEN g % 3 = 1 END,
	date '1900-01-01' + g * 20, timestamp '2026-03-29 00:00' + g * interval '1.5 seconds', decode(md5(g::text), 'hex'), md5(g::text)::uuid,
	CASE WHEN g % 4 = 0 THEN jsonb_build_object('a', g, 'b', ARRAY[g]) END FROM generate_series(1, 2000) g;`

const neighbourFeed = `feed: from-%[1]s
landing: {at: landing/%[1]s, files: "LEVELS_{n:#}_{part:#}.%[2]s", settle: 100ms%[6]s}
format: %[3]s
schema:
  fields:
    - {name: station}
    - {name: at, type: datetime}
    - {name: level_m, type: number}
    - {name: exact, type: number}
    - {name: flow, type: number}
    - {name: note}
    - {name: frozen, type: boolean}
    - {name: day, type: date}
    - {name: local, type: datetime}
    - {name: raw%[4]s}
    - {name: id, format: uuid}
    - {name: extra, type: object}
    - {name: changed_at, type: datetime}
  primaryKey: [station, at]
  missingValues: [%[5]s]
target: {table: copy.%[1]s, newest: changed_at}
`

// TestAnExtractFeedsAFeed moves a table to another by files of each format, and finds it there cell by cell; then what changes.
func TestAnExtractFeedsAFeed(t *testing.T) {
	t.Parallel()
	s := serve(t)
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, s.database)
	require.NoError(t, err)
	defer conn.Close(ctx)
	_, err = conn.Exec(ctx, neighbourRows)
	require.NoError(t, err)
	dir := t.TempDir()
	for _, f := range []struct{ name, end, format, raw, missing, more, landing string }{
		{"csv", "csv.gz", "csv", ", format: binary", `'\N'`, `, dialect: {nullSequence: '\N'}`, ""},
		{"lines", "jsonl.zst", "jsonl", ", format: binary", "", ", listed_in: 'LEVELS_{run}.lst'", `, delivery: list, listed_in: "LEVELS_{n:#}.lst"`},
		{"parquet", "parquet", "parquet", ", format: binary", "", "", ""},
	} {
		require.NoError(t, os.MkdirAll(filepath.Join(s.Root, "landing", f.name), 0o755))
		feedFile, extractFile := filepath.Join(dir, "feed.yaml"), filepath.Join(dir, f.name+".yaml")
		require.NoError(t, os.WriteFile(feedFile, fmt.Appendf(nil, neighbourFeed, f.name, f.end, f.format, f.raw, f.missing, f.landing), 0o600))
		code, out, stderr := s.mullein("feed", "put", feedFile)
		require.Zero(t, code, out+stderr)
		require.NoError(t, os.WriteFile(extractFile, fmt.Appendf(nil, "extract: %s-out\nfrom: {table: neighbour.level}\nnew: {by: changed_at}\n"+
			"files: {at: landing/%[1]s, name: 'LEVELS_{run}_{part}.%s', split: {rows: 700}%s}\n", f.name, f.end, f.more), 0o600))
		code, out, stderr = s.mullein("extract", "put", extractFile)
		require.Zero(t, code, out+stderr)
		assert.Contains(t, out, f.name+"-out: created, version 1\n")
	}
	same := func(name string) {
		t.Helper()
		const columns = "station, at, level_m, exact, flow, note, frozen, day, local AT TIME ZONE 'UTC', raw, id, extra, changed_at"
		const copied = "station, at, level_m, exact, flow, note, frozen, day, local, raw, id, extra, changed_at"
		var wrong, rows int
		require.NoError(t, conn.QueryRow(ctx, fmt.Sprintf("SELECT (SELECT count(*) FROM (SELECT %s FROM neighbour.level EXCEPT SELECT %s FROM copy.%s) x), count(*) FROM copy.%[3]s",
			columns, copied, name)).Scan(&wrong, &rows))
		assert.Equal(t, [2]int{0, 2000}, [2]int{wrong, rows}, name)
	}
	loaded := func(name, line string) {
		t.Helper()
		last := ""
		t.Cleanup(func() {
			if t.Failed() {
				t.Log(name, last)
			}
		})
		s.eventually(func() bool {
			list, err := s.client.ExtractWindows(ctx, name+"-out", 0, 1)
			if err == nil && len(list.Items) > 0 {
				last = list.Items[0].Line
			}
			return last == line
		})
		assert.Equal(t, line, last)
	}
	for _, name := range []string{"csv", "lines", "parquet"} {
		code, out, stderr := s.mullein("extract", "rehearse", name+"-out")
		assert.Zero(t, code, stderr)
		assert.Contains(t, out, " rows, up to ")
		code, out, stderr = s.mullein("extract", "run", name+"-out", "--wait")
		assert.Zero(t, code, stderr)
		assert.Contains(t, out, "run 1, done: up to ")
		loaded(name, "2000 at the source = 2000 in 3 files = 2000 read by from-"+name+": 2000 read = 2000 inserted")
		same(name)
	}
	_, err = conn.Exec(ctx, "UPDATE neighbour.level SET level_m = level_m + 1, note = NULL, changed_at = clock_timestamp() WHERE station = 'NB7'")
	require.NoError(t, err)
	for _, name := range []string{"csv", "lines", "parquet"} {
		code, _, stderr := s.mullein("extract", "run", name+"-out", "--wait")
		assert.Zero(t, code, stderr)
		loaded(name, "40 at the source = 40 in 1 file = 40 read by from-"+name+": 40 read = 40 updated")
		same(name)
	}

	// What people do with it.
	code, out, _ := s.mullein("extract", "list")
	assert.Zero(t, code)
	assert.Contains(t, out, "csv-out")
	code, out, _ = s.mullein("extract", "show", "csv-out")
	assert.Zero(t, code)
	assert.Contains(t, out, "feeds     from-csv\n")
	code, out, _ = s.mullein("extract", "windows", "csv-out")
	assert.Zero(t, code)
	assert.Contains(t, out, "= 40 read by from-csv")
	code, _, stderr := s.mullein("extract", "mark", "csv-out", "--back-to", "2")
	assert.Equal(t, 2, code)
	assert.Contains(t, stderr, "--because")
	code, out, stderr = s.mullein("extract", "mark", "csv-out", "--back-to", "2", "--because", "the feed was put again")
	assert.Zero(t, code, stderr)
	assert.Contains(t, out, "csv-out: 20", "the mark of before")
	code, _, stderr = s.mullein("extract", "mark", "csv-out", "--set", "soon", "--because", "try")
	assert.Equal(t, 1, code)
	assert.Contains(t, stderr, `invalid input syntax for type timestamp`)
	require.Zero(t, first(s.mullein("extract", "pause", "csv-out", "--because", "the neighbour moves house")))
	code, out, _ = s.mullein("extract", "run", "csv-out", "--wait") // a person may
	assert.Zero(t, code)
	assert.Contains(t, out, "40 at the source")
	require.Zero(t, first(s.mullein("extract", "resume", "csv-out", "--because", "it has moved")))
	loaded("csv", "40 at the source = 40 in 1 file = 40 read by from-csv: 40 read = 40 unchanged")
	_, out, _ = s.mullein("acts")
	for _, act := range []string{"put-extract", "mark-extract", "pause-extract", "resume-extract", "run-extract"} {
		assert.Contains(t, out, act)
	}
	code, _, stderr = s.mullein("extract", "run", "nobody")
	assert.Equal(t, 1, code)
	assert.Contains(t, stderr, `extract "nobody": not found`)
	require.Zero(t, first(s.mullein("extract", "remove", "lines-out")))
	_, out, _ = s.mullein("extract", "list")
	assert.NotContains(t, out, "lines-out")
}

func first(code int, _, _ string) int { return code }

// TestAnExtractIntoAPlace writes files to an SFTP server, from where a feed takes them.
func TestAnExtractIntoAPlace(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	far := newFarSide(t)
	far.name(far.Address, far.HostKey, "every: 1s")
	s := serveFrom(t, settings.From{Home: far.home, Environ: []string{"MULLEIN_LISTEN=127.0.0.1:0", "MULLEIN_DATABASE=" + pgtest.Database(t)}})
	_, err := s.client.PutExtract(ctx, "buoys-out", "x.yaml", "extract: buoys-out\nfrom: {select: 'SELECT g AS buoy, g * 0.5 AS level FROM generate_series(1, 10) g'}\n"+
		"files: {at: 'place:upper/out', name: 'B_{run}.csv', checksum: '{path}.sha256'}\n")
	require.NoError(t, err)
	_, err = s.client.PutFeed(ctx, "buoys", "buoys.yaml", strings.Replace(buoys, "target:", "checks: {file: {checksum: '{path}.sha256'}}\ntarget:", 1))
	require.NoError(t, err)
	code, out, stderr := s.mullein("extract", "run", "buoys-out", "--wait")
	assert.Zero(t, code, stderr)
	assert.Contains(t, out, "10 at the source = 10 in 1 file")
	s.eventually(func() bool {
		list, err := s.client.Arrivals(ctx, client.ArrivalQuery{Feed: "buoys", Most: 10})
		return err == nil && len(list.Items) == 1 && list.Items[0].State == "loaded" && list.Items[0].Balance.Inserted == 10
	})
}

// TestAnExtractFollowsAFeed runs after a feed has loaded something, and not before.
func TestAnExtractFollowsAFeed(t *testing.T) {
	t.Parallel()
	s := serve(t)
	ctx := context.Background()
	for _, folder := range []string{"in", "out"} {
		require.NoError(t, os.MkdirAll(filepath.Join(s.Root, "landing", folder), 0o755))
	}
	_, err := s.client.PutFeed(ctx, "levels", "f.yaml", "feed: levels\nlanding: {at: landing/in, files: 'L_*.csv', settle: 50ms}\n"+
		"schema: {fields: [{name: id, type: integer}], primaryKey: [id]}\ntarget: {table: river.level}\n")
	require.NoError(t, err)
	_, err = s.client.PutExtract(ctx, "levels-out", "x.yaml", "extract: levels-out\nfrom: {table: river.level}\nnew: {by: id}\n"+
		"files: {at: landing/out, name: 'L_{run}.csv'}\nwhen: {after: {all: [levels]}}\n")
	require.NoError(t, err)
	for i := range 2 {
		require.NoError(t, os.WriteFile(filepath.Join(s.Root, "landing/in", fmt.Sprintf("L_%d.csv", i)), fmt.Appendf(nil, "id\n%d\n", i+1), 0o644))
		s.eventually(func() bool {
			text, err := os.ReadFile(filepath.Join(s.Root, "landing/out", fmt.Sprintf("L_%d.csv", i+1)))
			return err == nil && strings.HasPrefix(string(text), "id,") && strings.Count(string(text), "\n") == 2
		})
	}
	windows, err := s.client.ExtractWindows(ctx, "levels-out", 0, 10)
	require.NoError(t, err)
	require.Len(t, windows.Items, 2)
	assert.Equal(t, "after", windows.Items[0].Cause)
}

// TestTheConsoleOfExtracts looks at an extract, rehearses and runs it, and sees by itself what comes of it; one that fails stands among
// what needs a person, and is told.
func TestTheConsoleOfExtracts(t *testing.T) {
	t.Parallel()
	s := serve(t)
	ctx := context.Background()
	require.NoError(t, os.MkdirAll(filepath.Join(s.Root, "landing/out"), 0o755))
	put := func(from string) {
		t.Helper()
		_, err := s.client.PutExtract(ctx, "levels-out", "x.yaml", "extract: levels-out\nabout: All levels.\nfrom: {select: '"+from+"'}\nnew: {by: id}\n"+
			"files: {at: landing/out, name: 'L_{run}.csv'}\n")
		require.NoError(t, err)
	}
	put("SELECT g AS id FROM generate_series(1, 1234) g")
	_, err := s.client.PutFeed(ctx, "levels", "f.yaml", "feed: levels\nlanding: {at: landing/out, files: 'L_*.csv', settle: 50ms}\n"+
		"schema: {fields: [{name: id, type: integer}], primaryKey: [id]}\ntarget: {table: river.level}\n")
	require.NoError(t, err)
	b := browse(t)
	b.do(chromedp.Navigate(s.SignIn))
	b.sees("Today")
	b.do(chromedp.Navigate(s.URL + "/extracts"))
	b.sees("levels-out", "waiting", "none yet", "levels")
	b.do(chromedp.Navigate(s.URL + "/extracts/levels-out"))
	b.sees("All levels.", "No run yet.", "SELECT g AS id")
	const press = `[...document.querySelectorAll("button")].find(b => b.innerText == %q).click()`
	clicked := func(label string) {
		t.Helper()
		_, err := chromedp.Run(b.ctx, chromedp.Evaluate[any](fmt.Sprintf(press, label)))
		require.NoError(t, err)
	}
	clicked("Rehearse")
	b.sees("A run would write 1,234 rows, up to 1234, into L_1.csv.")
	clicked("Run now")
	b.sees("up to 1234", "done", "1,234 read", "1,234 inserted") // without a reload
	put("SELECT nothing AS id")
	clicked("Run now")
	b.sees(`column "nothing" does not exist`, "failed")
	b.do(chromedp.Navigate(s.URL + "/today"))
	b.sees("levels-out", "an extract failed", `column "nothing" does not exist`)
	code, out, _ := s.mullein("status", "--check")
	assert.Equal(t, 3, code)
	assert.Contains(t, out, `extract levels-out has failed: column "nothing" does not exist`)
	s.eventually(func() bool {
		list, err := s.client.Problems(ctx, false, 0, 10)
		return err == nil && len(list.Items) > 0 && contains(list, `extract levels-out: column "nothing" does not exist`)
	})
	put("SELECT g AS id FROM generate_series(1, 1240) g")
	b.do(chromedp.Navigate(s.URL + "/extracts/levels-out"))
	b.sees("(1234, 1240]", "6 read") // what failed is begun again with its new version
	s.eventually(func() bool {
		status, err := s.client.Status(ctx)
		return err == nil && len(status.Extracts) == 0
	})
	b.mu.Lock()
	assert.Empty(t, b.complaints)
	b.mu.Unlock()
}

// TestTheDocumentedExtractWorks does what docs/extracts.md shows, with databases of the test's own behind its connections.
func TestTheDocumentedExtractWorks(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	text, err := os.ReadFile("../../docs/extracts.md")
	require.NoError(t, err)
	blocks := map[string]string{}
	commands := ""
	for i, block := range strings.Split(string(text), "```") {
		language, body, _ := strings.Cut(block, "\n")
		switch {
		case i%2 == 0:
		case language == "yaml":
			blocks[strings.Fields(body)[0]] = body
		case strings.HasPrefix(body, "mullein "):
			commands = body
		}
	}
	neighbour := pgtest.Database(t)
	conn, err := pgx.Connect(ctx, neighbour)
	require.NoError(t, err)
	defer conn.Close(ctx)
	_, err = conn.Exec(ctx, `CREATE SCHEMA gauges; CREATE TABLE gauges.level (station text, measured_at timestamptz, level_m numeric, changed_at timestamptz);
		INSERT INTO gauges.level SELECT 'NB1', timestamptz '2026-11-01' + g * interval '1 hour', g, now() - interval '1 hour' FROM generate_series(1, 38) g`)
	require.NoError(t, err)
	home := filepath.Join(t.TempDir(), ".mullein")
	require.NoError(t, os.MkdirAll(home, 0o755))
	require.Contains(t, blocks["#"], "connections:")
	require.NoError(t, os.WriteFile(filepath.Join(home, settings.FileName),
		[]byte(strings.Replace(blocks["#"], "postgres://reader@db.neighbour.example/gauges", neighbour, 1)), 0o600))
	s := serveFrom(t, settings.From{Home: home, Environ: []string{"MULLEIN_LISTEN=127.0.0.1:0", "MULLEIN_DATABASE=" + pgtest.Database(t)}})
	require.NoError(t, os.MkdirAll(filepath.Join(s.Root, "landing/neighbour"), 0o755))
	_, err = s.client.PutFeed(ctx, "neighbour-levels", "f.yaml", blocks["feed:"])
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "neighbour-levels.yaml")
	require.NoError(t, os.WriteFile(file, []byte(blocks["extract:"]), 0o600))
	ran := 0
	for _, line := range strings.Split(strings.TrimSpace(commands), "\n") {
		command, _, _ := strings.Cut(strings.TrimPrefix(line, "mullein "), "   ")
		args := strings.Fields(strings.Replace(command, "neighbour-levels.yaml", file, 1))
		if before, because, ok := strings.Cut(command, ` --because "`); ok {
			args = append(strings.Fields(before), "--because", strings.Trim(because, `"`))
		}
		code, _, stderr := s.mullein(args...)
		assert.Zero(t, code, "%s: %s", line, stderr)
		ran++
	}
	assert.Equal(t, 7, ran)
	const add = "INSERT INTO gauges.level SELECT 'NB2', timestamptz '2026-11-01' + g * interval '1 hour', g, now() - interval '30 minutes' FROM generate_series(1, 38) g"
	_, err = conn.Exec(ctx, add+"; UPDATE gauges.level SET level_m = 0, changed_at = now() - interval '30 minutes' WHERE station = 'NB1' AND level_m <= 2")
	require.NoError(t, err)
	code, _, stderr := s.mullein("extract", "run", "neighbour-levels", "--wait")
	assert.Zero(t, code, stderr)
	s.eventually(func() bool {
		list, err := s.client.ExtractWindows(ctx, "neighbour-levels", 0, 1)
		return err == nil && strings.Contains(string(text), list.Items[0].Line) && list.Items[0].Line != ""
	})
}
