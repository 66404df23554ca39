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

// directWay is that of large files into an empty target: without a staging table.
// Which rows of a key lose is known from memory. Where
// that does not do, rows whose key may have come before are set aside, in a
// temporary file, and compared with the target at the end. A key that stands in two
// files is none of its business: then rows are staged. Until the
// commit the target is locked against everybody: to write it without its index,
// and without logging each row, nobody may look.
type directWay struct {
	*Load
	form     *directForm
	arrivals []int64 // of the parts
}

// directForm is that of the target's rows, and of the staging table for those that
// are set aside.
type directForm struct {
	columns []string // of the target, quoted, in the order in which rows are written
	parts   []directPart
	part    int   // the one at hand
	last    int64 // the place of the last row: its line, counted on from part to part
	line    bool
	digest  bool
	winners *winners
	aside   []byte // suspects, in the form of the staging table
	file    *os.File
	set     int64 // how many rows were set aside
	err     error
	recent  []recentRow // that were not sent yet, in the order of their places
}

// directPart is what the rows of a part have in common.
type directPart struct {
	before  []byte // what stands between a row's own columns and its line, ready-made
	between []byte // between line and digest
	first   int64  // the place of what would be its line 0
	repeats int64  // rows that lost
}

// recentRow is a row that waits to be sent: one with its key that wins over it may
// be near.
type recentRow struct {
	place int64
	at    int // in the batch's bytes
	gone  bool
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
// there is nothing to undo. It takes the locks that Lock
// would take. direct is false where it is not possible; then nothing has changed.
func (l *Load) GoDirect(ctx context.Context, of string, fence, run int64, parts []Part, expected int64) (direct bool,
	err error) {
	t := l.table
	if expected < l.many || !t.keyed() || t.lateIndex == "" || !t.exact() || len(t.Merge) > 0 ||
		t.Deletes || !t.bytewise || t.Ranked && t.Mode == feed.ReplacePart ||
		t.Mode == feed.Append || l.several() && (t.wholeTable() || t.Lineage.FromArrival == "") ||
		slices.ContainsFunc(parts, func(p Part) bool { return len(p.Replaces) > 0 }) {
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
	w := &directWay{Load: l, form: newDirectForm(t.Table, run, now, parts, expected)}
	for _, p := range parts {
		w.arrivals = append(w.arrivals, p.Arrival)
	}
	l.way = w
	return true, nil
}

func newDirectForm(t *Table, run int64, now time.Time, parts []Part, expected int64) *directForm {
	g := t.Lineage
	d := &directForm{winners: newWinners(t, expected), line: g.FromLine != "", digest: g.RowDigest != ""}
	for _, c := range t.Own {
		d.columns = append(d.columns, quote(c.Name))
	}
	for _, column := range []string{g.FromFile, g.FromLine, g.FromArrival, g.LoadedRun, g.LoadedAt, g.RowDigest} {
		if column != "" {
			d.columns = append(d.columns, quote(column))
		}
	}
	add := func(to []byte, column string, v tabular.Value) []byte {
		if column == "" {
			return to
		}
		return appendValue(to, &v, v.Kind)
	}
	for _, p := range parts {
		of := directPart{before: add(nil, g.FromFile, tabular.Value{Kind: tabular.Text, B: []byte(p.File)})}
		of.between = add(of.between, g.FromArrival, tabular.Value{Kind: tabular.Integer, I: p.Arrival})
		of.between = add(of.between, g.LoadedRun, tabular.Value{Kind: tabular.Integer, I: run})
		of.between = add(of.between, g.LoadedAt, tabular.Value{Kind: tabular.Instant, I: now.UnixMicro()})
		d.parts = append(d.parts, of)
	}
	return d
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
	if all := l.rows(); n+d.set+d.winners.never != all {
		return fmt.Errorf("copy rows: %d handed over, %d arrived, %d were set aside, %d lost", all, n, d.set,
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
	if l.several() {
		keys := strings.Join(l.keys(), ", ")
		if err := w.restageIf(ctx, "SELECT EXISTS (SELECT 1 FROM "+l.stage+" s GROUP BY "+keys+
			" HAVING min(s.place >> "+shift+") <> max(s.place >> "+shift+"))"); err != nil {
			return err
		}
	}
	return l.dropRepeats(ctx)
}

// restageIf returns ErrRestage where a query says that a key stands in two files.
func (w *directWay) restageIf(ctx context.Context, query string, args ...any) error {
	var crossed bool
	err := w.s.conn.QueryRow(ctx, query, args...).Scan(&crossed)
	if err != nil {
		return fmt.Errorf("look for keys that stand in two files: %w", err)
	}
	if crossed {
		return errCrossed
	}
	return nil
}

var errCrossed = fmt.Errorf("%w: a key stands in two files", ErrRestage)

// dropLost takes out of the target the rows that lost after they were sent.
func (w *directWay) dropLost(ctx context.Context) error {
	l, known := w.Load, w.form.winners
	for part := range l.counts {
		l.counts[part].Duplicate = w.form.parts[part].repeats
	}
	// Each statement goes through the whole table once. It is planned with its
	// lines at hand: then they are hashed, which takes a third of a join's time.
	line := "t." + quote(l.table.Lineage.FromLine)
	which := " t WHERE " + line + " = ANY($1::bigint[])"
	if l.several() {
		which = " t USING unnest($1::bigint[], $2::bigint[]) AS lost(line, arrival) WHERE " + line +
			" = lost.line AND t." + quote(l.table.Lineage.FromArrival) + " = lost.arrival"
	}
	for lines := range slices.Chunk(known.lost, 1<<20) {
		args := []any{pgx.QueryExecModeExec, lines}
		if l.several() {
			args = append(args, w.arrivalsOf(lines))
		}
		tag, err := l.s.conn.Exec(ctx, "DELETE FROM "+l.name()+which, args...)
		if err != nil {
			return fmt.Errorf("take out repeats: %w", err)
		}
		if n := int64(len(lines)); tag.RowsAffected() != n {
			return fmt.Errorf("take out repeats: %d rows lost, %d were found by their lines", n, tag.RowsAffected())
		}
	}
	return nil
}

// arrivalsOf makes lines of places, and returns the arrivals in which they are.
func (w *directWay) arrivalsOf(places []int64) []int64 {
	arrivals := make([]int64, len(places))
	part := 0
	for i, place := range places { // they came in the order of the parts
		for part < w.form.part && place > w.form.parts[part+1].first {
			part++
		}
		arrivals[i], places[i] = w.arrivals[part], place-w.form.parts[part].first
	}
	return arrivals
}

// merge compares what was set aside with the target, and builds the key's index.
func (w *directWay) merge(ctx context.Context, from origin, _ int) ([]balance.Balance, error) {
	l := w.Load
	if w.form.set > 0 {
		if err := w.mergeAside(ctx, from); err != nil {
			return nil, err
		}
	}
	err := l.exec(ctx, "ALTER TABLE "+l.name()+" ADD CONSTRAINT "+quote(l.table.lateIndex)+" "+l.table.lateDef+
		"; RELEASE SAVEPOINT direct")
	if err != nil {
		return nil, err
	}
	counts := make([]balance.Balance, len(l.staged))
	for part := range counts {
		counts[part].Inserted = l.staged[part] - l.counts[part].Duplicate
		l.grown[part] = counts[part].Inserted
	}
	return counts, nil
}

// mergeAside brings rows that were set aside together with those in the target
// that have their keys, and counts one of each two as a duplicate: all of the former are
// later in their file.
func (w *directWay) mergeAside(ctx context.Context, from origin) error {
	l := w.Load
	wins := "true"
	if l.table.Newest != "" {
		t, s := "t."+quote(l.table.Newest), l.column(l.table.Newest)
		wins = "NOT (" + t + " IS NOT NULL AND (" + s + " IS NULL OR " + s + " < " + t + "))"
	}
	if err := l.exec(ctx, "ANALYZE "+l.stage); err != nil {
		return err
	}
	tag, err := l.s.conn.Exec(ctx, "INSERT INTO pg_temp.mullein_plan SELECT s.ctid, CASE WHEN "+wins+
		" THEN 'u' ELSE 'o' END, t.ctid FROM "+l.stage+" s JOIN "+l.name()+" t ON "+l.sameKey())
	if err != nil {
		return err
	}
	repeats := tag.RowsAffected()
	if repeats >= l.many {
		if err := l.exec(ctx, "ANALYZE pg_temp.mullein_plan"); err != nil {
			return err
		}
	}
	if repeats > 0 && l.several() {
		if err := w.restageIf(ctx, "SELECT EXISTS (SELECT 1 FROM "+l.plannedRows()+" JOIN "+l.name()+
			" t ON t.ctid = p.tid WHERE t."+quote(l.table.Lineage.FromArrival)+" <> ($1::bigint[])[(s.place >> "+shift+
			") + 1])", w.arrivals); err != nil {
			return err
		}
	}
	if _, err := l.insert(ctx, from, l.stage+" s WHERE NOT EXISTS (SELECT 1 FROM pg_temp.mullein_plan p WHERE p.sid = "+
		"s.ctid)"); err != nil || repeats == 0 {
		return err
	}
	lost, err := l.byPart(ctx, "SELECT s.place >> "+shift+", count(*) FROM "+l.plannedRows()+" GROUP BY 1")
	if err != nil {
		return err
	}
	for part, n := range lost {
		l.counts[part].Duplicate += n
	}
	statement, args := l.updateSQL(from, l.plannedRows(), "p", "p.class = 'u'")
	_, err = l.s.conn.Exec(ctx, statement, unprepared(args...)...)
	return err
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
func (d *directForm) cut(place int64) bool {
	i, found := slices.BinarySearchFunc(d.recent, place, func(r recentRow, place int64) int {
		return cmp.Compare(r.place, place)
	})
	if found {
		d.recent[i].gone = true
	}
	return found
}

// flush has nothing to add: what was set aside is compared at the end. It ends the copying
// where a key stood in two files.
func (d *directForm) flush(*Batch, int, bool) (more bool, err error) {
	if d.winners.crossed {
		return false, errCrossed
	}
	return false, nil
}

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
			d.recent = append(d.recent, recentRow{place: r.place, at: len(next)})
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
	for d.part < b.part { // some may be without rows
		d.part++
		d.winners.before, d.parts[d.part].first = d.last, d.last
	}
	of := &d.parts[b.part]
	place := of.first + r.line
	d.last = max(d.last, place)
	hash := d.winners.hash(b.keyOf(r.values))
	if !d.winners.closed {
		repeats := d.winners.repeats()
		wins, ok := d.winners.enter(hash, r.values, place, r.element)
		of.repeats += d.winners.repeats() - repeats
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
	d.put(b, r, place)
}

// put writes a row in the form of the target.
func (d *directForm) put(b *Batch, r batchRow, place int64) {
	of := &d.parts[b.part]
	d.recent = append(d.recent, recentRow{place: place, at: len(b.buf)})
	be := binary.BigEndian
	b.buf = be.AppendUint16(b.buf, uint16(len(d.columns)))
	for i := range r.values {
		b.buf = appendValue(b.buf, &r.values[i], b.kinds[i])
	}
	b.buf = append(b.buf, of.before...)
	if d.line {
		b.buf = be.AppendUint32(b.buf, 8)
		b.buf = be.AppendUint64(b.buf, uint64(r.line))
	}
	b.buf = append(b.buf, of.between...)
	if d.digest {
		b.buf = be.AppendUint32(b.buf, uint32(len(r.digest)))
		b.buf = append(b.buf, r.digest...)
	}
}

// writeAside writes what was set aside to the file.
func (d *directForm) writeAside() {
	if d.err == nil && len(d.aside) > 0 {
		_, d.err = d.file.Write(d.aside)
	}
	d.aside = d.aside[:0]
}
