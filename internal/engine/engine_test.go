package engine

import (
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/balance"
	"mullein/internal/core/feed"
	"mullein/internal/ledger"
	"mullein/internal/load"
	"mullein/internal/localpg/pgtest"
	"mullein/internal/table"
)

// prepare brings a template database to the form that a service makes of it.
func prepare(ctx context.Context, url string) error {
	l, err := ledger.Open(ctx, url)
	if err != nil {
		return err
	}
	defer l.Close()
	d, err := table.Open(ctx, url)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Prepare(ctx)
}

// house is a service without its doors: an engine over real parts.
type house struct {
	t      testing.TB
	url    string
	root   string
	ledger *ledger.Ledger
	target *table.Database
	db     *pgxpool.Pool
	engine *Engine
	onStep func(feed string, arrival int64, step load.Step)
	disk   func() (uint64, string)
	keep   time.Duration    // of rejects
	now    func() time.Time // nil for the machine's

	connections map[string]*table.Database
	stop        func()
}

const gauges = `feed: gauges
landing: {at: in, files: "**/G_{catchment}_{slot:%Y%m%dT%H%M}*.(csv|csv.gz)", settle: 50ms}
dialect: {delimiter: ";"}
schema:
  fields:
    - {name: station_id, constraints: {required: true, pattern: "SR[0-9]{4}"}}
    - {name: observed_at, type: datetime}
    - {name: level_m, type: number, decimalChar: ",", constraints: {minimum: -5, maximum: 30}}
    - {name: revised, type: integer}
  primaryKey: [station_id, observed_at]
  missingValues: ["", "-999"]
derive:
  catchment: file.captures.catchment
  flood: row.level_m > 4.5
tolerate: {rejects: 1}
when: {arrival: true, attempts: 3, pause: 100ms}
target: {table: river.gauge, newest: revised}
`

const header = "station_id;observed_at;level_m;revised\n"

func newHouse(t testing.TB, feeds ...string) *house {
	t.Helper()
	return houseAt(t, pgtest.Database(t), feeds...)
}

func houseAt(t testing.TB, url string, feeds ...string) *house {
	t.Helper()
	ctx := context.Background()
	h := &house{t: t, url: url, root: t.TempDir()}
	require.NoError(t, os.MkdirAll(filepath.Join(h.root, "in"), 0o755))
	var err error
	h.ledger, err = ledger.Open(ctx, h.url)
	require.NoError(t, err)
	t.Cleanup(func() { h.ledger.Close() })
	h.target, err = table.Open(ctx, h.url)
	require.NoError(t, err)
	t.Cleanup(h.target.Close)
	h.db, err = pgxpool.New(ctx, h.url)
	require.NoError(t, err)
	t.Cleanup(h.db.Close)
	for _, f := range feeds {
		h.put(f)
	}
	return h
}

func (h *house) put(text string) {
	h.t.Helper()
	f, err := feed.Parse("feed.yaml", []byte(text))
	require.NoError(h.t, err)
	_, _, err = h.ledger.PutFeed(context.Background(), f.Name, text, "test")
	require.NoError(h.t, err)
	if h.engine != nil {
		h.engine.Changed()
	}
}

// start brings the engine up. It ends with the test, or with stop.
func (h *house) start() *house {
	h.t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	databases := map[string]*table.Database{feed.MainConnection: h.target}
	maps.Copy(databases, h.connections)
	env := &load.Env{AddedColumns: load.DefaultAddedColumns, Ledger: h.ledger, Databases: table.NewConnections(databases),
		Roots: []string{h.root}, Service: "test", Log: slog.New(slog.NewTextHandler(h.t.Output(), nil)),
		OnStep: h.onStep, Progress: &load.Progresses{}}
	e := New(Options{Env: env, ID: uuid.NewString(), Disk: h.disk, Now: h.now, Keep: ledger.Keep{Rejects: h.keep}})
	h.engine = e
	done := make(chan struct{})
	go func() {
		defer close(done)
		assert.NoError(h.t, e.Run(ctx))
	}()
	h.stop = func() { cancel(); <-done }
	h.t.Cleanup(h.stop)
	return h
}

// drop leaves a file at the landing, whole at once.
func (h *house) drop(name, content string) {
	h.t.Helper()
	path := filepath.Join(h.root, "in", name)
	require.NoError(h.t, os.MkdirAll(filepath.Dir(path), 0o755))
	temporary := filepath.Join(h.root, "upload")
	require.NoError(h.t, os.WriteFile(temporary, []byte(content), 0o644))
	require.NoError(h.t, os.Rename(temporary, path))
}

const patience = 3 * time.Minute

func (h *house) wait(what string, ok func() bool) {
	h.t.Helper()
	h.waitLong(what, patience, 10*time.Millisecond, ok)
}

// waitLong waits for something that takes a while, and looks now and then.
func (h *house) waitLong(what string, patience, every time.Duration, ok func() bool) {
	h.t.Helper()
	if !assert.Eventually(h.t, ok, patience, every, what) {
		list, _, _ := h.ledger.Arrivals(context.Background(), ledger.Filter{Most: 1000})
		for _, a := range list {
			if a.State != ledger.Loaded {
				h.t.Logf("%d %s %s %q", a.ID, a.Path, a.State, a.Reason)
			}
		}
		feeds, _ := h.ledger.Feeds(context.Background())
		h.t.Logf("%+v", feeds)
		h.t.FailNow()
	}
}

// arrival waits until the newest arrival of a path has come to rest.
func (h *house) arrival(path string, beyond ...int64) ledger.Arrival {
	h.t.Helper()
	var a ledger.Arrival
	h.wait("arrival of "+path, func() bool {
		list, _, err := h.ledger.Arrivals(context.Background(), ledger.Filter{Text: path, Most: 1})
		require.NoError(h.t, err)
		if len(list) == 0 || len(beyond) > 0 && list[0].ID <= beyond[0] {
			return false
		}
		a = list[0]
		return a.FinishedAt != nil && a.TryAfter == nil && a.State != ledger.Loading && a.State != ledger.Ready
	})
	return a
}

func (h *house) lines(query string, args ...any) []string {
	h.t.Helper()
	rows, err := h.db.Query(context.Background(), query, args...)
	require.NoError(h.t, err)
	lines, err := pgx.CollectRows(rows, pgx.RowTo[string])
	require.NoError(h.t, err)
	return lines
}

func (h *house) exec(statement string) {
	h.t.Helper()
	_, err := h.db.Exec(context.Background(), statement)
	require.NoError(h.t, err)
}

const contents = `SELECT concat_ws('|', station_id, to_char(observed_at AT TIME ZONE 'UTC', 'HH24:MI'), level_m,
	revised, catchment, flood) FROM river.gauge ORDER BY 1`

func TestAFileBecomesRows(t *testing.T) {
	t.Parallel()
	h := newHouse(t, gauges).start()
	h.drop("2026/G_K1_20260701T1200.csv", header+
		"SR0001;2026-07-01T12:00:00Z;4,71;\n"+
		"SR0002;2026-07-01T12:00:00Z;-999;\n"+
		"SR0001;2026-07-01T12:00:00Z;4,72;\n"+ // the later line wins
		"SR0003;2026-07-01T12:00:00Z;99;\n") // a reject
	a := h.arrival("G_K1_20260701T1200.csv")
	require.Equal(t, ledger.Loaded, a.State, a.Reason)
	assert.Equal(t, balance.Balance{Read: 4, Inserted: 2, Duplicate: 1, Rejected: 1}, a.Balance)
	assert.Equal(t, []string{"SR0001|12:00|4.72|K1|t", "SR0002|12:00|K1"}, h.lines(contents))
	assert.Equal(t, []string{fmt.Sprintf("2026/G_K1_20260701T1200.csv|4|%d|%d", a.ID, *a.RunID)},
		h.lines(`SELECT concat_ws('|', from_file, from_line, from_arrival, loaded_run) FROM river.gauge
			WHERE station_id = 'SR0001'`))
	rejects, err := h.ledger.Rejects(context.Background(), ledger.RejectFilter{Arrival: a.ID, Most: 10})
	require.NoError(t, err)
	require.Len(t, rejects, 1)
	assert.Equal(t, ledger.Reject{ArrivalID: a.ID, Number: 1, Line: 5, ColumnName: "level_m",
		Reason: "more than the maximum 30", Value: "99", Original: "SR0003;2026-07-01T12:00:00Z;99;", Rule: "maximum",
		MarkFrom: 28, MarkTo: 30}, rejects[0].Reject)
	assert.Equal(t, []string{"Derived: file.captures.catchment"},
		h.lines(`SELECT col_description('river.gauge'::regclass, 5)`))
}

// TestWhatIsNew goes through the ways in which the same and other content come
// again: a correction, a touched file, a copy, a return, an old file.
func TestWhatIsNew(t *testing.T) {
	t.Parallel()
	h := newHouse(t, gauges).start()
	row := func(level, revised string) string {
		return header + "SR0001;2026-07-01T12:00:00Z;" + level + ";" + revised + "\nSR0002;2026-07-01T12:00:00Z;1;1\n"
	}
	const path = "G_K1_20260701T1200.csv"
	h.drop(path, row("2,5", "1"))
	a := h.arrival(path)
	assert.Equal(t, balance.Balance{Read: 2, Inserted: 2}, a.Balance)

	h.drop(path, row("2,6", "2"))
	b := h.arrival(path, a.ID)
	assert.Equal(t, balance.Balance{Read: 2, Updated: 1, Unchanged: 1}, b.Balance, "a correction")

	h.drop(path, row("2,6", "2"))
	c := h.arrival(path, b.ID)
	assert.Equal(t, ledger.Skipped, c.State)
	assert.Equal(t, b.ID, *c.CopyOf)
	assert.Contains(t, c.Reason, "only its time has changed")

	h.drop("G_K1_20260701T1200 (1).csv", row("2,6", "2"))
	d := h.arrival("G_K1_20260701T1200 (1).csv")
	assert.Equal(t, ledger.Skipped, d.State)
	assert.Contains(t, d.Reason, fmt.Sprintf("a copy of arrival %d", b.ID))

	h.drop("G_K2_20260701T1200.csv", row("2,6", "2"))
	e := h.arrival("G_K2_20260701T1200.csv")
	assert.Equal(t, ledger.Loaded, e.State, "other captured values: no copy")

	h.drop(path, row("2,5", "1"))
	f := h.arrival(path, c.ID)
	require.Equal(t, ledger.Loaded, f.State, "a return to the first content is no copy")
	assert.Equal(t, 2, f.Generation)
	assert.Equal(t, balance.Balance{Read: 2, Updated: 1, Outdated: 1}, f.Balance)

	old := filepath.Join(h.root, "upload")
	require.NoError(t, os.WriteFile(old, []byte(row("1,5", "3")), 0o644))
	past := time.Date(2001, 1, 1, 0, 0, 0, 0, time.UTC)
	require.NoError(t, os.Chtimes(old, past, past))
	require.NoError(t, os.Rename(old, filepath.Join(h.root, "in", "G_K3_20260701T1200.csv")))
	assert.Equal(t, ledger.Loaded, h.arrival("G_K3_20260701T1200.csv").State,
		"a file with an old time is loaded all the same")
	assert.Equal(t, []string{"SR0001|12:00|1.5|3|K3|f", "SR0002|12:00|1|1|K3|f"}, h.lines(contents))
}

func zipped(content string) string {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	_, _ = z.Write([]byte(content))
	_ = z.Close()
	return b.String()
}

func TestBadInputIsRefusedWithItsReason(t *testing.T) {
	t.Parallel()
	h := newHouse(t, gauges).start()
	good := "SR0001;2026-07-01T12:00:00Z;1;1\n"
	n := 0
	for name, c := range map[string]struct {
		content, reason string
		balance         balance.Balance
	}{
		"empty":       {"", "the file is empty", balance.Balance{}},
		"header only": {header, "the file holds no rows", balance.Balance{}},
		"no header":   {good + good, "none of the schema's columns is in the header", balance.Balance{}},
		"header twice": {"station_id;observed_at;level_m;level_m\n" + good, "twice, as columns 3 and 4",
			balance.Balance{}},
		"fewer cells": {header + good + "SR0002;2026\nSR0003\n",
			"2 of 3 rows were rejected; the feed tolerates 1", balance.Balance{Read: 3, Rejected: 2, Withheld: 1}},
		"more cells": {header + good + "a;b;c;d;e\na;b;c;d;e;f\n", "2 of 3 rows were rejected",
			balance.Balance{Read: 3, Rejected: 2, Withheld: 1}},
		"unclosed quote": {header + good + "\"SR0002;2026\n", "line 3: the quote opened here is never closed",
			balance.Balance{Read: 1, Withheld: 1}},
		"gzip cut short": {zipped(header + strings.Repeat(good, 1000))[:60], "cut short", balance.Balance{}},
		"blank keys": {header + ";2026-07-01T12:00:00Z;1;1\nSR0001;;1;1\n", "2 of 2 rows",
			balance.Balance{Read: 2, Rejected: 2}},
		"number too large": {header + "SR0001;2026-07-01T12:00:00Z;1;99999999999999999999\n" +
			"SR0001;2026-02-31T12:00:00Z;1;1\n", "2 of 2 rows", balance.Balance{Read: 2, Rejected: 2}},
		"not UTF-8 and NUL": {header + "SR\xff01;2026-07-01T12:00:00Z;1;1\nSR\x0001;2026-07-01T12:00:00Z;1;1\n",
			"2 of 2 rows", balance.Balance{Read: 2, Rejected: 2}},
		"a cell of 9 MB": {header + good + "SR0002;2026-07-01T12:00:00Z;" + strings.Repeat("9", 9<<20) + ";1\nx\n",
			"2 of 3 rows", balance.Balance{Read: 3, Rejected: 2, Withheld: 1}},
		"a gzip bomb": {zipped(header) + strings.Repeat(zipped(strings.Repeat("0", 1<<20)), 40), "gzip bomb",
			balance.Balance{}},
	} {
		n++
		path := fmt.Sprintf("G_K1_20260701T12%02d.csv", n)
		h.drop(path, c.content)
		a := h.arrival(path)
		assert.Equal(t, ledger.Refused, a.State, name)
		assert.Contains(t, a.Reason, c.reason, name)
		assert.Equal(t, c.balance, a.Balance, name)
		assert.NotEmpty(t, a.SHA256, name)
	}
	for name, make := range map[string]func(path string) error{
		"is a folder":       func(p string) error { return os.Mkdir(p, 0o755) },
		"is a named pipe":   mkfifo,
		"cannot be looked":  func(p string) error { return os.Symlink("/etc/passwd", p) },
		"symbolic link to ": func(p string) error { return os.Symlink("nowhere", p) },
	} {
		n++
		path := fmt.Sprintf("G_K1_20260701T12%02d.csv", n)
		require.NoError(t, make(filepath.Join(h.root, "in", path)))
		a := h.arrival(path)
		assert.Equal(t, ledger.Refused, a.State, name)
		assert.Contains(t, a.Reason, name)
	}
	assert.Equal(t, []string{"0"}, h.lines("SELECT count(*)::text FROM river.gauge"), "the table is untouched")
}
