package bench

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"mullein/internal/api"
	"mullein/internal/client"
	"mullein/internal/localpg"
)

const (
	rowsFirst = 2_000_000
	rowsLarge = 6_000_000
	stations  = 200
	settle    = 1 * time.Second
)

// rounds is how often each case is measured, MULLEIN_ROUNDS or 3; the median
// counts.
var rounds = func() int {
	if n, err := strconv.Atoi(os.Getenv("MULLEIN_ROUNDS")); err == nil {
		return n
	}
	return 3
}()

// bench is a PostgreSQL with the settings of a real service, and a Mullein
// process of its own.
type bench struct {
	b       *testing.B
	ctx     context.Context
	dir     string
	pg      *localpg.Server
	db      *pgx.Conn
	process *exec.Cmd
	client  *client.Client
}

func start(b *testing.B) *bench {
	ctx := context.Background()
	dir, err := os.MkdirTemp("/var/tmp", "mullein-bench-")
	require.NoError(b, err)
	require.NoError(b, os.Chmod(dir, 0o755))
	b.Cleanup(func() { os.RemoveAll(dir) })
	h := &bench{b: b, ctx: ctx, dir: dir}
	h.pg, err = localpg.Start(ctx, localpg.Options{Dir: dir})
	require.NoError(b, err)
	b.Cleanup(func() { _ = h.pg.Crash(ctx) })
	h.db, err = pgx.Connect(ctx, h.pg.URL())
	require.NoError(b, err)
	binary, err := filepath.Abs("../../bin/mullein")
	require.NoError(b, err)
	home := filepath.Join(dir, "home")
	require.NoError(b, os.MkdirAll(filepath.Join(home, "landings", "in"), 0o755))
	h.process = exec.Command(binary, "serve", "--home", home, "--listen", "127.0.0.1:0", "--database", h.pg.URL())
	require.NoError(b, h.process.Start())
	b.Cleanup(func() {
		_ = h.process.Process.Signal(syscall.SIGTERM)
		_ = h.process.Wait()
	})
	for deadline := time.Now().Add(20 * time.Second); h.client == nil; time.Sleep(50 * time.Millisecond) {
		require.True(b, time.Now().Before(deadline), "the service does not answer; is bin/mullein built?")
		address, errAddress := os.ReadFile(filepath.Join(home, "address"))
		token, errToken := os.ReadFile(filepath.Join(home, "owner.token"))
		if errAddress == nil && errToken == nil {
			h.client = client.New(strings.TrimSpace(string(address)), strings.TrimSpace(string(token)))
		}
	}
	return h
}

func (h *bench) landing() string { return filepath.Join(h.dir, "home", "landings", "in") }

func (h *bench) exec(statement string) {
	_, err := h.db.Exec(h.ctx, statement)
	require.NoError(h.b, err, statement)
}

// quiet leaves nothing for PostgreSQL to do beside what is measured next.
func (h *bench) quiet() {
	url, err := h.pg.SuperuserURL("postgres")
	require.NoError(h.b, err)
	db, err := pgx.Connect(h.ctx, url)
	require.NoError(h.b, err)
	defer db.Close(h.ctx)
	for _, statement := range []string{"VACUUM", "CHECKPOINT"} {
		_, err := db.Exec(h.ctx, statement)
		require.NoError(h.b, err, statement)
	}
}

// definition is a feed file; recall is how long its journal is kept.
func definition(name, recall string) string {
	return strings.NewReplacer("RECALL", recall, "NAME", name, "TABLE",
		strings.ReplaceAll(name, "-", "_")).Replace(`feed: NAME
landing: {at: in, files: "NAME_{catchment}_{slot:%Y%m%dT%H%M}.csv", settle: 1s}
dialect: {delimiter: ";"}
zone: Atlantic/Azores
schema:
  fields:
    - {name: station_id, source: Station, constraints: {required: true, pattern: "SR[0-9]{4}"}}
    - {name: observed_at, type: datetime, source: Time, format: "%d.%m.%Y %H:%M"}
    - {name: level_m, type: number, source: Level, decimalChar: ",", constraints: {minimum: -5, maximum: 30}}
    - {name: flow_m3s, type: number, source: Flow, decimalChar: ","}
    - {name: quality, source: Quality, constraints: {enum: [G, F, E]}}
    - {name: revised_at, type: datetime, source: Revised, format: "%d.%m.%Y %H:%M"}
  primaryKey: [station_id, observed_at]
  missingValues: ["", "-999"]
derive:
  catchment: file.captures.catchment
target: {table: river.TABLE, newest: revised_at, recall: RECALL}
`)
}

// variant says how a gauge file differs from the plain one.
type variant struct {
	changed func(i int) bool // rows with another level
	repeats bool             // each fifth row has the key of the one before
	from    int              // the year of the first row; 0 for 2000
}

// write makes a gauge file: rows in the order of time, then station.
func (h *bench) write(path string, rows int, v variant) int64 {
	file, err := os.Create(path)
	require.NoError(h.b, err)
	w := bufio.NewWriterSize(file, 1<<20)
	fmt.Fprintln(w, "Station;Time;Level;Flow;Quality;Revised")
	random := rand.New(rand.NewPCG(1, 2))
	at := time.Date(max(2000, v.from), 1, 1, 0, 0, 0, 0, time.UTC)
	for i := range rows {
		if i%stations == 0 {
			at = at.Add(15 * time.Minute)
			if at.Month() == 3 && at.Day() > 24 { // local times that a clock change drops would be rejects
				at = at.AddDate(0, 0, 10)
			}
			if at.Month() == 10 && at.Day() > 24 {
				at = at.AddDate(0, 0, 10)
			}
		}
		level := 1000 + random.IntN(4000)
		if v.changed != nil && v.changed(i) {
			level += 5000
		}
		station := i % stations
		if v.repeats && station%5 == 4 {
			station--
		}
		fmt.Fprintf(w, "SR%04d;%s;%d,%03d;%d,%02d;G;%s\n", station, at.Format("02.01.2006 15:04"), level/1000,
			level%1000,
			random.IntN(900), random.IntN(100), at.Format("02.01.2006 15:04"))
	}
	require.NoError(h.b, w.Flush())
	info, err := file.Stat()
	require.NoError(h.b, err)
	require.NoError(h.b, file.Close())
	return info.Size()
}

// load hands a file over and returns how long Mullein took from opening it to
// having it in the ledger.
func (h *bench) load(feed, source, slot string) (time.Duration, api.Arrival) {
	name := fmt.Sprintf("%s_K1_%s.csv", feed, slot)
	temporary := filepath.Join(h.landing(), "."+name)
	require.NoError(h.b, os.Link(source, temporary))
	require.NoError(h.b, os.Rename(temporary, filepath.Join(h.landing(), name)))
	for {
		list, err := h.client.Arrivals(h.ctx, client.ArrivalQuery{Feed: feed, Text: slot, Most: 1})
		require.NoError(h.b, err)
		if len(list.Items) == 1 && list.Items[0].FinishedAt != nil {
			a := list.Items[0]
			require.Equal(h.b, api.ArrivalLoaded, a.State, a.Reason)
			return a.FinishedAt.Sub(*a.OpenedAt), a
		}
		time.Sleep(20 * time.Millisecond)
	}
}

func (h *bench) put(feed, recall string) {
	_, err := h.client.PutFeed(h.ctx, feed, feed+".yaml", definition(feed, recall))
	require.NoError(h.b, err)
}

// readyMade writes a table, in the order of its file, as COPY's text format.
func (h *bench) readyMade(table string) string {
	path := filepath.Join(h.dir, table+".tsv")
	file, err := os.Create(path)
	require.NoError(h.b, err)
	defer file.Close()
	w := bufio.NewWriterSize(file, 1<<20)
	_, err = h.db.PgConn().CopyTo(h.ctx, w, "COPY (SELECT * FROM river."+table+" ORDER BY from_line) TO STDOUT")
	require.NoError(h.b, err)
	require.NoError(h.b, w.Flush())
	return path
}

func (h *bench) copyIn(path, table string) {
	file, err := os.Open(path)
	require.NoError(h.b, err)
	defer file.Close()
	_, err = h.db.PgConn().CopyFrom(h.ctx, bufio.NewReaderSize(file, 1<<20), "COPY "+table+" FROM STDIN")
	require.NoError(h.b, err)
}

// baseline is what a good engineer writes by hand.
func (h *bench) baseline(path, table string) time.Duration {
	return h.byHand(path, table, "station_id, observed_at")
}

// byHand is baseline for a table with another key.
func (h *bench) byHand(path, table, key string) time.Duration {
	rows, err := h.db.Query(h.ctx, "SELECT column_name::text FROM information_schema.columns WHERE table_schema = "+
		"'river' AND table_name = $1 AND NOT column_name = ANY($2) ORDER BY ordinal_position",
		table, strings.Split(key, ", "))
	require.NoError(h.b, err)
	columns, err := pgx.CollectRows(rows, pgx.RowTo[string])
	require.NoError(h.b, err)
	for i, c := range columns {
		columns[i] = c + " = excluded." + c
	}
	begin := time.Now()
	h.exec("BEGIN")
	h.exec("CREATE TEMP TABLE incoming (LIKE river." + table + ") ON COMMIT DROP")
	h.copyIn(path, "incoming")
	h.exec("INSERT INTO river." + table + " SELECT DISTINCT ON (" + key + ") * FROM incoming ORDER BY " + key +
		", from_line DESC ON CONFLICT (" + key + ") DO UPDATE SET " + strings.Join(columns, ", "))
	h.exec("COMMIT")
	return time.Since(begin)
}

// floor is the fastest way that keeps the table as it is: ready-made rows
// straight into the keyed table.
func (h *bench) floor(path, table string) time.Duration {
	begin := time.Now()
	h.copyIn(path, "river."+table)
	return time.Since(begin)
}

func median(d []time.Duration) time.Duration {
	slices.Sort(d)
	return d[len(d)/2]
}

func (h *bench) memory() float64 {
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", h.process.Process.Pid))
	require.NoError(h.b, err)
	_, rest, _ := strings.Cut(string(status), "VmHWM:")
	var kib float64
	_, err = fmt.Sscan(rest, &kib)
	require.NoError(h.b, err)
	return kib / 1024
}

// figures collects the times of a case over the rounds.
type figures struct{ mine, base, floor []time.Duration }

// report prints a row of the table in docs/performance.md: the times, sorted, how
// many times as fast as the baseline the case is, and how many times the floor's
// time it takes; each beside what is asked of it, 0 for nothing.
func (f *figures) report(b *testing.B, name string, fasterAsked, floorAsked float64) {
	faster := median(f.base).Seconds() / median(f.mine).Seconds()
	b.ReportMetric(faster, metric(name)+"/faster-than-baseline")
	floor := ""
	if f.floor != nil {
		times := median(f.mine).Seconds() / median(f.floor).Seconds()
		b.ReportMetric(times, metric(name)+"/times-the-floor")
		floor = ratio(times, floorAsked)
	}
	fmt.Printf("| %s | %s | %s | %s | %s | %s |\n", name, seconds(f.mine), seconds(f.base), seconds(f.floor),
		ratio(faster, fasterAsked), floor)
}

// metric makes a unit of a case's name, which must not have spaces.
func metric(name string) string {
	return strings.ReplaceAll(strings.ReplaceAll(name, ",", ""), " ", "-")
}

func ratio(of, asked float64) string {
	if asked == 0 {
		return fmt.Sprintf("%.2f", of)
	}
	return fmt.Sprintf("%.2f (%g)", of, asked)
}

func seconds(times []time.Duration) string {
	var out []string
	for _, t := range times {
		out = append(out, fmt.Sprintf("%.2f", t.Seconds()))
	}
	return strings.Join(out, " ")
}

const gaugeColumns = "station_id text NOT NULL, observed_at timestamptz NOT NULL, level_m numeric, flow_m3s numeric, " +
	"quality text, revised_at timestamptz, catchment text, " +
	"from_file text, from_line bigint, from_arrival bigint, loaded_run bigint, loaded_at timestamptz, row_digest " +
	"bytea, PRIMARY KEY (station_id, observed_at)"

// fresh makes an empty table for a feed, and others like it.
func (h *bench) fresh(feed, columns string, others ...string) (table string) {
	table = strings.ReplaceAll(feed, "-", "_")
	h.exec("CREATE SCHEMA IF NOT EXISTS river")
	h.exec("CREATE TABLE river." + table + " (" + columns + ")")
	for _, o := range others {
		h.exec("CREATE TABLE river." + o + " (LIKE river." + table + " INCLUDING ALL)")
	}
	return table
}

// BenchmarkLoad prints the ratios of a first load, the same again with one row
// changed, and 5 % changed with and without the journal; and memory.
func BenchmarkLoad(b *testing.B) {
	for range b.N {
		h := start(b)
		file := func(name string, v variant) string {
			path := filepath.Join(h.dir, name)
			h.write(path, rowsFirst, v)
			return path
		}
		source := file("first.csv", variant{})
		again := file("again.csv", variant{changed: func(i int) bool { return i == rowsFirst/2 }})
		share := file("share.csv", variant{changed: func(i int) bool { return i%20 == 3 }})
		other := file("other.csv", variant{changed: func(i int) bool { return i%20 == 3 || i%20 == 11 }})
		var first, same, kept, without figures
		for i := range rounds {
			mine, base, floor := fmt.Sprintf("gauge-%d", i), fmt.Sprintf("base_%d", i), fmt.Sprintf("floor_%d", i)
			table := h.fresh(mine, gaugeColumns, base, floor)
			h.put(mine, "14d")
			h.quiet()
			took, a := h.load(mine, source, "20260101T0000")
			require.EqualValues(b, rowsFirst, a.Balance.Inserted)
			first.mine = append(first.mine, took)
			path := h.readyMade(table)
			h.quiet()
			first.base = append(first.base, h.baseline(path, base))
			h.quiet()
			first.floor = append(first.floor, h.floor(path, floor))
			h.quiet()
			took, a = h.load(mine, again, "20260102T0000")
			require.EqualValues(b, 1, a.Balance.Updated)
			require.EqualValues(b, rowsFirst-1, a.Balance.Unchanged)
			same.mine = append(same.mine, took)
			h.quiet()
			same.base = append(same.base, h.baseline(path, base))
			h.quiet()
			took, a = h.load(mine, share, "20260103T0000")
			require.EqualValues(b, rowsFirst/20+1, a.Balance.Updated)
			kept.mine = append(kept.mine, took)
			h.exec("DROP TABLE river." + floor)
			path = h.readyMade(table)
			h.quiet()
			kept.base = append(kept.base, h.baseline(path, base))
			h.put(mine, "0s")
			h.quiet()
			took, a = h.load(mine, other, "20260104T0000")
			require.EqualValues(b, rowsFirst/20, a.Balance.Updated)
			without.mine = append(without.mine, took)
			without.base = kept.base
			h.exec("DROP TABLE river." + table + ", river." + base)
			require.NoError(b, h.client.RemoveFeed(h.ctx, mine))
			require.NoError(b, os.Remove(path))
		}
		same.floor, kept.floor, without.floor = first.floor, first.floor, first.floor
		first.report(b, "first load, 2 million rows", 3, 1.4)
		same.report(b, "the same again, one row changed", 8, 1.1)
		without.report(b, "5 % changed", 7, 1.2)
		kept.report(b, "5 % changed, with the journal kept", 1, 0)
		b.ReportMetric(h.memory(), "MB-resident-2M-rows")
		h.write(source, rowsLarge, variant{})
		h.put("gauge-large", "14d")
		_, a := h.load("gauge-large", source, "20260101T0000")
		require.EqualValues(b, rowsLarge, a.Balance.Inserted)
		b.ReportMetric(h.memory(), "MB-resident-6M-rows")
	}
}

// BenchmarkRepeats prints the ratios of a first load of a file of which each
// fifth row repeats a key.
func BenchmarkRepeats(b *testing.B) {
	for range b.N {
		h := start(b)
		source, plain := filepath.Join(h.dir, "repeats.csv"), filepath.Join(h.dir, "plain.csv")
		h.write(source, rowsFirst, variant{repeats: true})
		h.write(plain, rowsFirst, variant{})
		// What the baseline and the floor are given has as many rows; the floor's
		// have no repeats, which the keyed table could not take.
		made := h.fresh("gauge-made", gaugeColumns)
		h.put("gauge-made", "14d")
		h.load("gauge-made", plain, "20260101T0000")
		unique := h.readyMade(made)
		repeated := h.withRepeats(unique)
		var f figures
		for i := range rounds {
			mine, base, floor := fmt.Sprintf("gauge-%d", i), fmt.Sprintf("base_%d", i), fmt.Sprintf("floor_%d", i)
			table := h.fresh(mine, gaugeColumns, base, floor)
			h.put(mine, "14d")
			h.quiet()
			took, a := h.load(mine, source, "20260101T0000")
			require.EqualValues(b, rowsFirst/5, a.Balance.Duplicate)
			f.mine = append(f.mine, took)
			h.quiet()
			f.base = append(f.base, h.baseline(repeated, base))
			h.quiet()
			f.floor = append(f.floor, h.floor(unique, floor))
			h.exec("DROP TABLE river." + table + ", river." + base + ", river." + floor)
			require.NoError(b, h.client.RemoveFeed(h.ctx, mine))
		}
		f.report(b, "20 % duplicates in the file", 2.5, 1.7)
	}
}

// withRepeats returns rows of which each fifth has the key of the one before.
func (h *bench) withRepeats(path string) string {
	in, err := os.Open(path)
	require.NoError(h.b, err)
	defer in.Close()
	out, err := os.Create(path + ".repeats")
	require.NoError(h.b, err)
	defer out.Close()
	w := bufio.NewWriterSize(out, 1<<20)
	lines := bufio.NewScanner(in)
	for lines.Scan() {
		line := []byte(lines.Text())
		if line[5] == '4' || line[5] == '9' { // SR0004
			line[5]--
		}
		w.Write(append(line, '\n'))
	}
	require.NoError(h.b, lines.Err())
	require.NoError(h.b, w.Flush())
	return out.Name()
}

const (
	rowsWide    = 300_000
	columnsWide = 100
)

// BenchmarkWide prints the ratios of a first load with 100 columns.
func BenchmarkWide(b *testing.B) {
	for range b.N {
		h := start(b)
		var fields, columns, names strings.Builder
		for c := 3; c <= columnsWide; c++ {
			fmt.Fprintf(&fields, "    - {name: c%d, type: number}\n", c)
			fmt.Fprintf(&columns, "c%d numeric, ", c)
			fmt.Fprintf(&names, ",c%d", c)
		}
		source := filepath.Join(h.dir, "wide.csv")
		file, err := os.Create(source)
		require.NoError(b, err)
		w := bufio.NewWriterSize(file, 1<<20)
		fmt.Fprintln(w, "station_id,observed_at"+names.String())
		random := rand.New(rand.NewPCG(3, 4))
		for i := range rowsWide {
			fmt.Fprintf(w, "SR%04d,%s", i%stations, time.Date(2020, 1, 1, 0, 15*(i/stations), 0, 0,
				time.UTC).Format("2006-01-02T15:04:05Z"))
			for range columnsWide - 2 {
				fmt.Fprintf(w, ",%d.%02d", random.IntN(1000), random.IntN(100))
			}
			fmt.Fprintln(w)
		}
		require.NoError(b, w.Flush())
		require.NoError(b, file.Close())
		var f figures
		for i := range rounds {
			mine, base, floor := fmt.Sprintf("wide-%d", i), fmt.Sprintf("base_%d", i), fmt.Sprintf("floor_%d", i)
			table := h.fresh(mine, "station_id text NOT NULL, observed_at timestamptz NOT NULL, "+columns.String()+
				"from_file text, from_line bigint, from_arrival bigint, loaded_run bigint, loaded_at timestamptz, "+
				"row_digest bytea, PRIMARY KEY (station_id, observed_at)", base, floor)
			_, err := h.client.PutFeed(h.ctx, mine, mine+".yaml",
				"feed: "+mine+"\nlanding: {at: in, files: \""+mine+"_K1_{slot:%Y%m%dT%H%M}.csv\", settle: "+
					"1s}\nschema:\n  fields:\n    - {name: station_id}\n    - {name: observed_at, type: datetime}\n"+
					fields.String()+"  primaryKey: [station_id, observed_at]\ntarget: {table: river."+table+"}\n")
			require.NoError(b, err)
			h.quiet()
			took, a := h.load(mine, source, "20260101T0000")
			require.EqualValues(b, rowsWide, a.Balance.Inserted)
			f.mine = append(f.mine, took)
			path := h.readyMade(table)
			h.quiet()
			f.base = append(f.base, h.baseline(path, base))
			h.quiet()
			f.floor = append(f.floor, h.floor(path, floor))
			h.exec("DROP TABLE river." + table + ", river." + base + ", river." + floor)
			require.NoError(b, h.client.RemoveFeed(h.ctx, mine))
		}
		f.report(b, "100 columns, 300,000 rows", 2, 1.5)
	}
}

const (
	rowsThere = 20_000_000
	rowsSmall = 20_000
)

// BenchmarkIntoLarge prints how a file of 20,000 rows, half of them new, fares
// against the baseline in a table of 20 million rows, and how many of its rows
// were read one after the other.
func BenchmarkIntoLarge(b *testing.B) {
	for range b.N {
		h := start(b)
		table := h.fresh("gauge-there", gaugeColumns)
		h.exec("SET synchronous_commit = off; SET maintenance_work_mem = '512MB'")
		h.exec("ALTER TABLE river.gauge_there DROP CONSTRAINT gauge_there_pkey")
		h.exec(fmt.Sprintf(`INSERT INTO river.gauge_there SELECT 'SR' || lpad((i %% %d)::text, 4, '0'),
			timestamptz '1990-01-01 00:00Z' + (i / %[1]d) * interval '15 min', (i %% 4000) / 1000.0, (i %% 900) / 10.0,
			'G', timestamptz '1990-01-01 00:00Z', 'K1', 'old.csv', i, 0, 0, now(), decode(md5(i::text), 'hex')
			FROM generate_series(0, %d) i`, stations, rowsThere-1))
		h.exec("ALTER TABLE river.gauge_there ADD PRIMARY KEY (station_id, observed_at)")
		h.exec("VACUUM ANALYZE river.gauge_there")
		h.put("gauge-there", "14d")
		var f figures
		var scanned int64
		scans := func() (n int64) {
			time.Sleep(1500 * time.Millisecond) // statistics are told at intervals
			require.NoError(b, h.db.QueryRow(h.ctx, "SELECT seq_tup_read FROM pg_stat_user_tables WHERE relname = $1",
				table).Scan(&n))
			return n
		}
		source := filepath.Join(h.dir, "some.csv")
		for i := range rounds + 2 {
			_ = os.Remove(source) // files at the landing are links to it
			h.write(source, rowsSmall, variant{from: 2000 + i})
			if i == 0 { // the first load counts the rows
				h.load("gauge-there", source, "20260101T0000")
				continue
			}
			h.quiet()
			before := scans()
			took, _ := h.load("gauge-there", source, fmt.Sprintf("202601%02dT0000", i+1))
			f.mine = append(f.mine, took)
			scanned = max(scanned, scans()-before)
			part := filepath.Join(h.dir, "part.tsv")
			out, err := os.Create(part)
			require.NoError(b, err)
			_, err = h.db.PgConn().CopyTo(h.ctx, out,
				fmt.Sprintf("COPY (SELECT station_id, observed_at + interval '7 days', level_m, flow_m3s, quality, "+
					"revised_at, catchment, from_file, from_line, from_arrival, loaded_run, loaded_at, row_digest "+
					"FROM river.%s WHERE from_file LIKE '%%202601%02dT0000.csv') TO STDOUT", table, i+1))
			require.NoError(b, err)
			require.NoError(b, out.Close())
			h.quiet()
			f.base = append(f.base, h.baseline(part, table))
		}
		f.report(b, "20,000 rows into 20 million", 1, 0)
		b.ReportMetric(float64(scanned), "into-large/rows-scanned")
	}
}

// BenchmarkSmallFile measures from closing a small file to its rows being
// visible to others, beyond settle.
func BenchmarkSmallFile(b *testing.B) {
	for range b.N {
		h := start(b)
		h.put("gauge-small", "14d")
		var beyond []time.Duration
		for i := range 20 {
			name := fmt.Sprintf("gauge-small_K1_202601%02dT0000.csv", i+1)
			file, err := os.Create(filepath.Join(h.landing(), name))
			require.NoError(b, err)
			_, err = io.WriteString(file,
				fmt.Sprintf("Station;Time;Level;Flow;Quality;Revised\nSR0001;%02d.01.2026 12:00;1,5;2,5;G;\n", i+1))
			require.NoError(b, err)
			require.NoError(b, file.Close())
			closed := time.Now()
			for n := 0; n <= i; {
				require.Less(b, time.Since(closed), 20*time.Second)
				if err := h.db.QueryRow(h.ctx, "SELECT count(*) FROM river.gauge_small").Scan(&n); err != nil {
					n = 0 // the table is made by the first load
				}
			}
			beyond = append(beyond, time.Since(closed)-settle)
		}
		b.ReportMetric(float64(median(beyond).Milliseconds()), "ms-beyond-settle-median")
		b.ReportMetric(float64(slices.Max(beyond).Milliseconds()), "ms-beyond-settle-worst")
	}
}
