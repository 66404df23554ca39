package table

import (
	"cmp"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"mullein/internal/core/balance"
	"mullein/internal/core/feed"
	"mullein/internal/core/tabular"
)

// directWay is that of one large file into an empty target: without a staging table.
// Which rows of a key lose is known from memory. Where
// that does not do, rows whose key may have come before are set aside, in a
// temporary file, and compared with the target at the end. Until the
// commit the target is locked against everybody: to write it without its index,
// and without logging each row, nobody may look.
type directWay struct {
	*Load
	form *directForm
}

// directForm is that of the target's rows, and of the staging table for those that
// are set aside.
type directForm struct {
	columns []string // of the target, quoted, in the order in which rows are written
	before  []byte   // what stands between a row's own columns and its line, ready-made
	between []byte   // between line and digest
	line    bool
	digest  bool
	winners *winners
	aside   []byte // suspects, in the form of the staging table
	file    *os.File
	set     int64 // how many rows were set aside
	err     error
	recent  []recentRow // that were not sent yet, in the order of their lines
}

// recentRow is a row that waits to be sent: one with its key that wins over it may
// be near.
type recentRow struct {
	line int64
	at   int // in the batch's bytes
	gone bool
}

// keptBack is how many bytes of the last rows of a chunk are sent with the next.
const keptBack = 64 << 10

// exact reports whether the target's columns are just of the types that rows are
// handed over in.
func (f *Fitted) exact() bool {
	for _, c := range f.Columns {
		if f.types[c.Name] != sqlTypes[c.Kind][0] {
			return false
		}
	}
	return true
}

// GoDirect has the rows go straight into the target, which has to be empty, where
// the load is of one part without anything to undo. It takes the locks that Lock
// would take. direct is false where it is not possible; then nothing has changed.
func (l *Load) GoDirect(ctx context.Context, of string, fence, run int64, part Part, expected int64) (direct bool,
	err error) {
	t := l.table
	if expected < l.many || l.several() || !t.keyed() || t.lateIndex == "" || !t.exact() || len(t.Merge) > 0 ||
		t.Deletes || !t.bytewise || t.Ranked && t.Mode == feed.ReplacePart ||
		t.Mode == feed.Append || len(part.Replaces) > 0 {
		return false, nil
	}
	var filled bool
	if err := l.s.conn.QueryRow(ctx, "SELECT EXISTS (SELECT 1 FROM "+l.name()+")").Scan(&filled); err != nil || filled {
		return false, err
	}
	if err := l.stand(ctx); err != nil || l.late || l.remembered {
		return false, err
	}
	if err := l.Lock(ctx, of, fence); err != nil {
		return false, err
	}
	if err := l.stand(ctx); err != nil || l.late || l.remembered {
		return false, err
	}
	err = l.emptyForAll(ctx, "direct")
	if err != nil {
		if undo := l.rollBack(ctx, "direct"); undo != nil {
			return false, errors.Join(err, undo)
		}
		return false, nil
	}
	var now time.Time
	if err := l.s.conn.QueryRow(ctx, "SELECT now()").Scan(&now); err != nil {
		return false, err
	}
	d := &directForm{winners: newWinners(t.Table, expected)}
	for _, c := range t.Own {
		d.columns = append(d.columns, quote(c.Name))
	}
	add := func(to *[]byte, column string, v tabular.Value, kind tabular.Kind) {
		if column != "" {
			d.columns = append(d.columns, quote(column))
			*to = appendValue(*to, &v, kind)
		}
	}
	g := t.Lineage
	add(&d.before, g.FromFile, tabular.Value{Kind: tabular.Text, B: []byte(part.File)}, tabular.Text)
	if d.line = g.FromLine != ""; d.line {
		d.columns = append(d.columns, quote(g.FromLine))
	}
	add(&d.between, g.FromArrival, tabular.Value{Kind: tabular.Integer, I: part.Arrival}, tabular.Integer)
	add(&d.between, g.LoadedRun, tabular.Value{Kind: tabular.Integer, I: run}, tabular.Integer)
	add(&d.between, g.LoadedAt, tabular.Value{Kind: tabular.Instant, I: now.UnixMicro()}, tabular.Instant)
	if d.digest = g.RowDigest != ""; d.digest {
		d.columns = append(d.columns, quote(g.RowDigest))
	}
	l.way = &directWay{l, d}
	return true, nil
}

// lock has nothing to do: the target is locked since before its rows were read.
func (w *directWay) lock(context.Context, fence) error { return nil }

// mayPass is false: what was written as it was read cannot be written again.
func (w *directWay) mayPass(error) bool { return false }

// Nothing is unchanged in an empty target.
func (w *directWay) unchangedKeys(context.Context) (string, error) {
	return "SELECT 0 AS load, 0 AS key WHERE false", nil
}

func (w *directWay) confirmOthers(context.Context, string) error { return nil }

// replacedRows has nothing to leave out: nothing is replaced in an empty target.
func (w *directWay) replacedRows(context.Context) (string, error) { return "", nil }

func (w *directWay) skipped() int64   { return 0 }
func (w *directWay) mostDiffer() bool { return false }
func (w *directWay) sparse() bool     { return false }
func (w *directWay) close() error     { return nil }

// copyIn copies the rows into the target, and those that were set aside into the
// staging table.
func (w *directWay) copyIn(ctx context.Context, src Source, expected int64) error {
	l, d := w.Load, w.form
	var err error
	if d.file, err = nameless("mullein-aside-"); err != nil {
		return fmt.Errorf("set rows aside: %w", err)
	}
	defer d.file.Close()
	b := NewBatch(l.table.Table, expected, true)
	b.form, d.winners.cut = d, d.cut
	n, err := l.copyFrom(ctx, src, b, l.name()+" ("+join(d.columns)+")")
	if refuses(err) { // which row is at fault is found among staged ones
		return fmt.Errorf("%w: %w", ErrRestage, err)
	}
	if err != nil {
		return err
	}
	copy(l.staged, b.rows)
	if d.writeAside(); d.err != nil {
		return fmt.Errorf("set rows aside: %w", d.err)
	}
	if n+d.set+d.winners.never != l.staged[0] {
		return fmt.Errorf("copy rows: %d handed over, %d arrived, %d were set aside, %d lost", l.staged[0], n, d.set,
			d.winners.never)
	}
	if err := l.exec(ctx, "SET LOCAL work_mem = '128MB'; SET LOCAL maintenance_work_mem = '256MB'"); err != nil {
		return err
	}
	if err := w.dropLost(ctx); err != nil || d.set == 0 {
		return err
	}
	if _, err := d.file.Seek(0, io.SeekStart); err != nil {
		return fmt.Errorf("set rows aside: %w", err)
	}
	rows := io.MultiReader(strings.NewReader(string(copyHeader)), d.file, strings.NewReader(string(copyEnd)))
	tag, err := l.s.conn.PgConn().CopyFrom(ctx, rows, "COPY "+l.stage+" FROM STDIN BINARY")
	if err != nil {
		return fmt.Errorf("stage rows: %w", err)
	}
	if tag.RowsAffected() != d.set {
		return fmt.Errorf("stage rows: %d handed over, %d arrived", d.set, tag.RowsAffected())
	}
	return l.dropRepeats(ctx)
}

// dropLost takes out of the target the rows that lost after they were sent.
func (w *directWay) dropLost(ctx context.Context) error {
	l, known := w.Load, w.form.winners
	l.counts[0].Duplicate = known.never + int64(len(known.lost))
	// Each statement goes through the whole table once. It is planned with its
	// lines at hand: then they are hashed, which takes a third of a join's time.
	for lines := range slices.Chunk(known.lost, 1<<20) {
		tag, err := l.s.conn.Exec(ctx, "DELETE FROM "+l.name()+" WHERE "+quote(l.table.Lineage.FromLine)+
			" = ANY($1::bigint[])", pgx.QueryExecModeExec, lines)
		if err != nil {
			return fmt.Errorf("take out repeats: %w", err)
		}
		if n := int64(len(lines)); tag.RowsAffected() != n {
			return fmt.Errorf("take out repeats: %d rows lost, %d were found by their lines", n, tag.RowsAffected())
		}
	}
	return nil
}

// merge compares what was set aside with the target, and builds the key's index.
func (w *directWay) merge(ctx context.Context, from origin, _ int) ([]balance.Balance, error) {
	l := w.Load
	counts := make([]balance.Balance, 1)
	repeats := l.counts[0].Duplicate
	if w.form.set > 0 {
		n, err := l.mergeAside(ctx, from)
		if err != nil {
			return nil, err
		}
		l.counts[0].Duplicate += n
		repeats += n
	}
	err := l.exec(ctx, "ALTER TABLE "+l.name()+" ADD CONSTRAINT "+quote(l.table.lateIndex)+" "+l.table.lateDef+
		"; RELEASE SAVEPOINT direct")
	if err != nil {
		return nil, err
	}
	counts[0].Inserted = l.staged[0] - repeats
	l.grown = []int64{counts[0].Inserted}
	return counts, nil
}

// mergeAside brings rows that were set aside together with those in the target
// that have their keys, and returns how many lost: all of the former are later in
// the file.
func (l *Load) mergeAside(ctx context.Context, from origin) (repeats int64, err error) {
	wins := "true"
	if l.table.Newest != "" {
		t, s := "t."+quote(l.table.Newest), l.column(l.table.Newest)
		wins = "NOT (" + t + " IS NOT NULL AND (" + s + " IS NULL OR " + s + " < " + t + "))"
	}
	if err := l.exec(ctx, "ANALYZE "+l.stage); err != nil {
		return 0, err
	}
	tag, err := l.s.conn.Exec(ctx, "INSERT INTO pg_temp.mullein_plan SELECT s.ctid, CASE WHEN "+wins+
		" THEN 'u' ELSE 'o' END, t.ctid FROM "+l.stage+" s JOIN "+l.name()+" t ON "+l.sameKey())
	if err != nil {
		return 0, err
	}
	if repeats = tag.RowsAffected(); repeats >= l.many {
		if err := l.exec(ctx, "ANALYZE pg_temp.mullein_plan"); err != nil {
			return 0, err
		}
	}
	if _, err := l.insert(ctx, from, l.stage+" s WHERE NOT EXISTS (SELECT 1 FROM pg_temp.mullein_plan p WHERE p.sid = "+
		"s.ctid)"); err != nil || repeats == 0 {
		return repeats, err
	}
	statement, args := l.updateSQL(from, l.plannedRows(), "p", "p.class = 'u'")
	_, err = l.s.conn.Exec(ctx, statement, unprepared(args...)...)
	return repeats, err
}

// emptyForAll takes the target, which has to be empty, for this load alone, and
// its key's index away.
func (l *Load) emptyForAll(ctx context.Context, savepoint string) error {
	if err := l.savepoint(ctx, savepoint); err != nil {
		return err
	}
	if err := l.exec(ctx, "SET LOCAL lock_timeout = '500ms'; LOCK TABLE "+l.name()+
		" IN ACCESS EXCLUSIVE MODE; SET LOCAL lock_timeout = '20s'"); err != nil {
		return err
	}
	var filled bool
	if err := l.s.conn.QueryRow(ctx, "SELECT EXISTS (SELECT 1 FROM "+l.name()+")").Scan(&filled); err != nil {
		return err
	}
	if filled {
		return errMoved
	}
	prepare := "ALTER TABLE " + l.name() + " DROP CONSTRAINT " + quote(l.table.lateIndex)
	var level string
	if err := l.s.conn.QueryRow(ctx, "SHOW wal_level").Scan(&level); err != nil {
		return err
	}
	if level == "minimal" {
		// Emptying the empty table gives it a new file. Until the commit nobody
		// else knows that file, so it is synced as a whole instead of logged row
		// by row.
		prepare += "; TRUNCATE " + l.name()
	}
	return l.exec(ctx, prepare)
}

const asideAtOnce = 1 << 20

// cut takes a row back that was not sent yet.
func (d *directForm) cut(line int64) bool {
	i, found := slices.BinarySearchFunc(d.recent, line, func(r recentRow,
		line int64) int {
		return cmp.Compare(r.line, line)
	})
	if found {
		d.recent[i].gone = true
	}
	return found
}

// flush has nothing to add: what was set aside is compared at the end.
func (d *directForm) flush(*Batch, int, bool) (more bool, err error) { return false, nil }

// release returns the rows that are to be sent, without those that were taken back.
// The last rows begin the next chunk; where there is none, all are sent.
func (d *directForm) release(b *Batch, next []byte) (send []byte) {
	buf, rows := b.buf, d.recent
	if len(rows) == 0 {
		b.buf = next
		return buf
	}
	send, d.recent = buf[:rows[0].at], rows[:0]
	for i, r := range rows {
		end := len(buf)
		if i+1 < len(rows) {
			end = rows[i+1].at
		}
		switch {
		case r.gone:
		case next != nil && r.at >= len(buf)-keptBack:
			d.recent = append(d.recent, recentRow{line: r.line, at: len(next)})
			next = append(next, buf[r.at:end]...)
		default:
			send = append(send, buf[r.at:end]...) // never ahead of where it is read
		}
	}
	b.buf = next
	return send
}

// add sends a row, sets it aside, or does neither when it is known to lose to an
// earlier one with its key.
func (d *directForm) add(b *Batch, r batchRow) {
	hash := d.winners.hash(b.keyOf(r.values))
	if !d.winners.closed {
		wins, ok := d.winners.enter(hash, r.values, r.line, r.element)
		switch {
		case !ok:
			b.seen = d.winners.filter(b.expect)
		case !wins:
			return
		}
	}
	if d.winners.closed && b.seen.mark(hash.Hi) {
		b.marked++
		d.aside = b.appendStaged(d.aside, r, true)
		if d.set++; len(d.aside) > asideAtOnce {
			d.writeAside()
		}
		return
	}
	d.put(b, r.values, r.line, r.digest)
}

// put writes a row in the form of the target.
func (d *directForm) put(b *Batch, values []tabular.Value, line int64, digest []byte) {
	d.recent = append(d.recent, recentRow{line: line, at: len(b.buf)})
	be := binary.BigEndian
	b.buf = be.AppendUint16(b.buf, uint16(len(d.columns)))
	for i := range values {
		b.buf = appendValue(b.buf, &values[i], b.kinds[i])
	}
	b.buf = append(b.buf, d.before...)
	if d.line {
		b.buf = be.AppendUint32(b.buf, 8)
		b.buf = be.AppendUint64(b.buf, uint64(line))
	}
	b.buf = append(b.buf, d.between...)
	if d.digest {
		b.buf = be.AppendUint32(b.buf, uint32(len(digest)))
		b.buf = append(b.buf, digest...)
	}
}

// writeAside writes what was set aside to the file.
func (d *directForm) writeAside() {
	if d.err == nil && len(d.aside) > 0 {
		_, d.err = d.file.Write(d.aside)
	}
	d.aside = d.aside[:0]
}
