package shapes

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// Options say where to measure, and what.
type Options struct {
	Program string  // mullein itself, of which a service is started
	Server  string  // the address of a database; a scratch one is made beside it, and dropped
	Dir     string  // for files, which are removed; "" for the folder for temporary files
	Shapes  []Shape // to measure, those with one table side by side
	Rounds  int     // of each shape, at the most
	Out     io.Writer
}

// Head is the head of the table that [Run] prints.
const Head = `| rows before | key | newest | columns | files | of these | Mullein, s | script, s | times as fast | memory, MB | journal, MB |
|---|---|---|---|---|---|---|---|---|---|---|`

// Run measures shapes, and prints a line of a table in Markdown for each: the medians of as
// many rounds, in which Mullein and the script take turns.
func Run(ctx context.Context, o Options) (err error) {
	m, err := startMachine(ctx, o)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, m.close()) }()
	fmt.Fprintln(o.Out, Head)
	var at *tables
	for i, s := range o.Shapes {
		if at == nil || at.of != s.table() {
			if at != nil {
				if err := at.drop(ctx); err != nil {
					return err
				}
			}
			at = &tables{machine: m, of: s.table(), name: fmt.Sprintf("shape_%d", i)}
			if s.Before > 0 {
				if err := at.fill(ctx, s); err != nil {
					return err
				}
			}
		}
		r, err := at.measure(ctx, s, max(1, min(s.Rounds, o.Rounds)))
		if err != nil {
			return fmt.Errorf("%s: %w", s, err)
		}
		fmt.Fprintln(o.Out, r)
	}
	if m.noCheckpoint {
		fmt.Fprintln(o.Out, "\nWithout CHECKPOINT between rounds, which the role may not: what one round left to write, "+
			"another may have paid for.")
	}
	return nil
}

// Result is what was measured of a shape.
type Result struct {
	Shape
	Mullein, Script []time.Duration // of each round, sorted; none of the script where it was not measured
	Memory          int             // of the service at most, in MB; 0 where nobody tells it
	Journal         int64           // bytes that a load added to it
}

// String returns a line of the table under [Head].
func (r Result) String() string {
	mine, script, times := r.Mullein[len(r.Mullein)/2].Seconds(), "", ""
	if len(r.Script) > 0 {
		by := r.Script[len(r.Script)/2].Seconds()
		script, times = fmt.Sprintf("%.2f", by), fmt.Sprintf("%.2f", by/mine)
	}
	files := fmt.Sprintf("%d rows", r.Rows)
	if r.Files > 1 {
		files = fmt.Sprintf("%d of %d rows", r.Files, r.Rows)
	}
	if r.Format != "csv" {
		files += ", " + r.Format
	}
	return fmt.Sprintf("| %d | %s | %s | %s | %s | %s | %.2f | %s | %s | %d | %.1f |", r.Before, r.Key, r.Order, r.Columns, files,
		r.Change, mine, script, times, r.Memory, float64(r.Journal)/1e6)
}

// tables are a table that Mullein keeps, beside one that a script keeps, with the version that
// each key has.
type tables struct {
	*machine
	of, name string
	version  []byte
	loads    int
	mine     string // the feed, and its table; "" before it is made
	script   string
}

// make makes a feed, and the script's table.
func (t *tables) make(ctx context.Context, s Shape) error {
	t.loads++
	t.mine = fmt.Sprintf("%s_%d", t.name, t.loads)
	t.script = t.mine + "_script"
	if err := os.MkdirAll(t.folder(), 0o755); err != nil {
		return err
	}
	if _, err := t.client.PutFeed(ctx, t.feed(), t.feed()+".yaml", definition(s, t.feed(), t.mine)); err != nil {
		return err
	}
	var columns []string
	for _, c := range columnsOf(s) {
		columns = append(columns, c.name+" "+columnTypes[c.kind])
	}
	if keys[s.Key].uuid {
		columns[0] = "id uuid"
	}
	columns = append(columns, "from_file text, from_line bigint, from_arrival bigint, loaded_run bigint, loaded_at timestamptz, "+
		"row_digest bytea")
	_, err := t.db.Exec(ctx, "CREATE TABLE "+qualified(t.script)+" ("+strings.Join(columns, ", ")+") WITH (fillfactor = 90)")
	if err == nil && s.Before == 0 {
		err = t.index(ctx, s)
	}
	return err
}

// feed is the name of the feed, folder that of its landing.
func (t *tables) feed() string   { return strings.ReplaceAll(t.mine, "_", "-") }
func (t *tables) folder() string { return filepath.Join(t.landing(), t.feed()) }

// index makes the key of the script's table.
func (t *tables) index(ctx context.Context, s Shape) error {
	_, err := t.db.Exec(ctx, "ALTER TABLE "+qualified(t.script)+" ADD PRIMARY KEY ("+strings.Join(keyNames(s), ", ")+")")
	return err
}

// fill makes the table as it is before, by Mullein, and the script's like it.
func (t *tables) fill(ctx context.Context, s Shape) error {
	if err := t.make(ctx, s); err != nil {
		return err
	}
	first := s
	first.Files, first.Rows = 1, s.Before
	w, err := write(first, t.dir, t.slot(), func(i int) int { return i }, func(int) bool { return true }, &t.version)
	if err != nil {
		return err
	}
	if _, err := t.loaded(ctx, first, w); err != nil {
		return err
	}
	if err := os.Remove(w.ready[0]); err != nil || s.Alone {
		return err
	}
	if _, err := t.db.Exec(ctx, "INSERT INTO "+qualified(t.script)+" SELECT * FROM "+qualified(t.mine)); err != nil {
		return err
	}
	return t.index(ctx, s)
}

// slot returns the time that the names of the next files begin with.
func (t *tables) slot() time.Time {
	t.loads++
	return time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC).AddDate(0, 0, t.loads)
}

func (t *tables) drop(ctx context.Context) error {
	if t.mine == "" {
		return nil
	}
	if err := t.client.RemoveFeed(ctx, t.feed()); err != nil {
		return err
	}
	_, err := t.db.Exec(ctx, "DROP TABLE "+qualified(t.mine)+", "+qualified(t.script))
	return errors.Join(err, os.RemoveAll(t.folder()))
}

// measure returns what a shape takes: interleaved rounds of both.
func (t *tables) measure(ctx context.Context, s Shape, rounds int) (r Result, err error) {
	r.Shape = s
	c, first := changes[s.Change], rand.IntN(1000)
	for round := range rounds {
		if s.Before == 0 {
			t.version = nil
			if err := t.make(ctx, s); err != nil {
				return r, err
			}
		}
		there := len(t.version)
		w, err := write(s, t.dir, t.slot(), func(i int) int {
			if c.key == nil {
				return there + i
			}
			return c.key(i, s.Rows, s.Before, first+round)
		}, c.is, &t.version)
		if err != nil {
			return r, err
		}
		if err := t.calm(ctx, s); err != nil {
			return r, err
		}
		journal, err := t.journal(ctx)
		if err != nil {
			return r, err
		}
		t.forgetPeak()
		took, err := t.loaded(ctx, s, w)
		if err != nil {
			return r, err
		}
		r.Mullein, r.Memory = append(r.Mullein, took), max(r.Memory, t.peak())
		after, err := t.journal(ctx)
		if err != nil {
			return r, err
		}
		r.Journal = max(r.Journal, after-journal)
		if !s.Alone {
			if err := t.calm(ctx, s); err != nil {
				return r, err
			}
			if took, err = t.allByHand(ctx, s, w.ready); err != nil {
				return r, err
			}
			r.Script = append(r.Script, took)
		}
		for _, path := range w.ready {
			if err := os.Remove(path); err != nil {
				return r, err
			}
		}
		if s.Before == 0 {
			if err := t.drop(ctx); err != nil {
				return r, err
			}
			t.mine = ""
		}
	}
	slices.Sort(r.Mullein)
	slices.Sort(r.Script)
	return r, nil
}

// allByHand has the script load some files, and returns how long it took.
func (t *tables) allByHand(ctx context.Context, s Shape, paths []string) (took time.Duration, err error) {
	for _, path := range paths {
		one, err := t.byHand(ctx, s, t.script, path)
		if err != nil {
			return 0, err
		}
		took += one
	}
	return took, nil
}

// journal returns how large the journal is, in bytes.
func (t *tables) journal(ctx context.Context) (size int64, err error) {
	err = t.db.QueryRow(ctx, "SELECT coalesce(pg_total_relation_size(to_regclass('mullein.change')), 0)").Scan(&size)
	return size, err
}

// calm is quiet with the tables that are there.
func (t *tables) calm(ctx context.Context, s Shape) error {
	if s.Before == 0 {
		return t.quiet(ctx)
	}
	return t.quiet(ctx, t.mine, t.script)
}

// loaded leaves files at the landing, all at once, and returns how long it took from opening
// the first of them to having the last in the ledger.
func (t *tables) loaded(ctx context.Context, s Shape, w written) (time.Duration, error) {
	names, err := os.ReadDir(w.folder)
	if err != nil {
		return 0, err
	}
	var last int64
	if err := t.db.QueryRow(ctx, "SELECT coalesce(max(id), 0) FROM mullein_records.arrival").Scan(&last); err != nil {
		return 0, err
	}
	for _, n := range names {
		if err := os.Rename(filepath.Join(w.folder, n.Name()), filepath.Join(t.folder(), n.Name())); err != nil {
			return 0, err
		}
	}
	// Seldom for many rows: who asks takes what is measured from the processors.
	pause := time.Duration(min(1000, 20+s.Files*s.Rows/2000)) * time.Millisecond
	for {
		select {
		case <-ctx.Done():
			return 0, ctx.Err()
		case <-time.After(pause):
		}
		var loaded int
		var bad *string
		var seconds *float64
		if err := t.db.QueryRow(ctx, `SELECT count(*) FILTER (WHERE state = 'loaded'), max(path || ' is ' || state || ': ' || reason)
			FILTER (WHERE state IN ('refused', 'failed', 'held')), extract(epoch FROM max(finished_at) - min(opened_at))
			FROM mullein_records.arrival WHERE feed = $1 AND id > $2`, t.feed(), last).Scan(&loaded, &bad, &seconds); err != nil {
			return 0, err
		}
		switch {
		case bad != nil:
			return 0, errors.New(*bad)
		case loaded == s.Files:
			return time.Duration(*seconds * float64(time.Second)), nil
		}
	}
}
