package table

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	"github.com/jackc/pgx/v5/pgconn"

	"mullein/internal/core/balance"
	"mullein/internal/core/feed"
	"mullein/internal/core/tabular"
)

// known is the digests that the target holds. A row with one of them is
// unchanged, so it need not even be staged: of a file that is mostly the same
// again, that is most of the work. What is skipped so is counted as unchanged
// only if no other load came in between, and if no other row of the file has the
// key of one that was skipped; else the file is read once more and staged whole.
//
// A file that comes again has its rows mostly in the order in which they lie in
// the target, so a digest is looked for near the last one, in a window on the
// digests, while they are on their way. Rows that are not found there are set aside, and
// looked for among all digests when those are there. So memory does not grow with the
// target: see [digestFile].
type known struct {
	all     *digestFile
	reading *coming
	window  *window
	met     []uint64 // a bit for each digest: a row with it was skipped
	nth     int64    // of the last load or recall when they were read
	rows    int64    // of the target then
	own     bool     // the digests are of the rows of the arrival that is loaded again
	same    bool     // and have to be those of its file: what else there is was not asked for
	skipped int64
	repeats int64 // rows that are the same as one that was skipped
	over    bool  // few rows are known; it is not worth asking
}

// coming is digests on their way.
type coming struct {
	more chan struct{} // some came
	done chan struct{} // closed when all have
	err  error         // of reading them, once done is closed
	stop context.CancelFunc
}

// ErrRestage says that a file has to be staged whole, since rows of it were
// skipped that may count after all, or the target refuses one that was not staged.
var ErrRestage = errors.New("the file has to be read again and staged whole")

const (
	mostKnown  = 200_000_000 // digests: 3.2 GB on disk, and 25 MB of bits
	tryKnown   = 50_000      // rows after which it shows whether most are known
	mostAtOnce = 2 << 20     // rows that are looked for among all digests at once: 50 MiB
)

// SkipUnchanged reads the digests that the target holds, where that promises to
// pay: the load is of one part, of about as many rows as the target has; or it is made
// again, and then the digests are those of its own rows. [Load.Replacing] was called before.
// same says that the file is expected to have just the rows that are there of it, or will have
// to be staged, so that [Load.Reread] is not called for.
func (l *Load) SkipUnchanged(ctx context.Context, part Part, expected int64) (same bool, err error) {
	t := l.table
	if t.Mode != feed.Upsert || !t.keyed() || t.Lineage.RowDigest == "" || len(t.Merge) > 0 ||
		t.Absent != feed.AbsentKeep && t.Absent != "" || !t.bytewise ||
		l.several() || expected < l.many {
		return false, nil
	}
	var rows, nth int64
	err = l.s.conn.QueryRow(ctx, "SELECT rows, "+lastPlace+" FROM mullein.target t WHERE id = $1", t.id).Scan(&rows,
		&nth)
	if err != nil {
		return false, fmt.Errorf("look at the target: %w", err)
	}
	pays, which := rows <= 2*expected, ""
	if len(part.Replaces) > 0 {
		if pays, err = l.ownRowsStay(ctx, part); err != nil {
			return false, err
		}
		which = " WHERE " + quote(t.Lineage.FromArrival) + " = " + fmt.Sprint(part.Arrival)
	}
	if !pays || rows < l.many || rows > mostKnown {
		return false, nil
	}
	k, err := newKnown(int(rows) + int(rows)/50 + 1) // a few more than were counted, where others write to it too
	if err != nil {
		return false, err
	}
	k.nth, k.rows, k.own = nth, rows, which != ""
	k.same = k.own && l.rereads
	// A bare table is copied faster than a query, but must not have partitions.
	digests := l.name() + " (" + quote(t.Lineage.RowDigest) + ")"
	if t.ranges != "" || t.lateIndex == "" || k.own {
		digests = "(SELECT " + quote(t.Lineage.RowDigest) + " FROM " + l.name() + which + ")"
	}
	reading, stop := context.WithCancel(ctx)
	k.reading.stop = stop
	go l.s.db.send(reading, digests, k)
	l.way = &skippingWay{stagedWay: stagedWay{l}, known: k}
	return k.same, nil
}

// ownRowsStay reports whether rows of an arrival that is loaded again stay as they are when
// its file still has them. Where its loads have overwritten rows, or others have overwritten
// theirs, more has to be looked at.
func (l *Load) ownRowsStay(ctx context.Context, part Part) (stay bool, err error) {
	if len(part.Replaces) > 1 || part.Replaces[0] != part.Arrival || !l.table.Journal {
		return false, nil
	}
	off, err := l.loadsOf(ctx, part.Replaces)
	if err != nil || len(off) == 0 {
		return false, err
	}
	err = l.s.conn.QueryRow(ctx, "SELECT NOT EXISTS (SELECT 1 FROM mullein.change WHERE load = ANY($1)) AND NOT EXISTS ("+
		l.oddEntries(off)+")", off, part.Replaces).Scan(&stay)
	if err != nil {
		return false, fmt.Errorf("look at what is loaded again: %w", err)
	}
	return stay, nil
}

// newKnown makes room for so many digests.
func newKnown(most int) (*known, error) {
	all, err := newDigestFile(most)
	if err != nil {
		return nil, err
	}
	k := &known{all: all, met: make([]uint64, most/64+1),
		reading: &coming{more: make(chan struct{}, 1), done: make(chan struct{}), stop: func() {}}}
	k.window = newWindow(all, k.reading)
	return k, nil
}

// skippingWay is the way of loads that skip rows which the target holds.
type skippingWay struct {
	stagedWay
	known *known
}

func (w *skippingWay) copyIn(ctx context.Context, src Source, expected int64) error {
	b := NewBatch(w.table.Table, expected, w.table.bytewise)
	form, err := newSkippingForm(w.known)
	if err != nil {
		return err
	}
	defer form.held.close()
	b.form = form
	n, err := w.copyFrom(ctx, src, b, w.stage)
	if err != nil {
		return err
	}
	if <-w.known.reading.done; w.known.reading.err != nil {
		return w.known.reading.err
	}
	copy(w.staged, b.rows)
	w.counts[0].Duplicate += w.known.repeats
	return w.received(ctx, n, b.marked)
}

// lock demands that nothing came in between.
func (w *skippingWay) lock(ctx context.Context, demand fence) error {
	if err := w.lockTarget(ctx, demand); err != nil {
		return err
	}
	if w.known.same && !w.nothingChanges() {
		return ErrRestage
	}
	if w.known.skipped > 0 {
		var nth int64
		if err := w.s.conn.QueryRow(ctx, "SELECT "+lastPlace+" FROM mullein.target t WHERE id = $1",
			w.table.id).Scan(&nth); err != nil {
			return fmt.Errorf("look at the target: %w", err)
		}
		if nth != w.known.nth {
			return ErrRestage
		}
	}
	return w.takePlaces(ctx)
}

// nothingChanges reports whether an arrival that is loaded again has just its own rows.
func (w *skippingWay) nothingChanges() bool {
	all := w.known.all
	return w.known.own && w.rows() == 0 && w.known.skipped == all.there.Load() && !all.full()
}

func (w *skippingWay) merge(ctx context.Context, from origin, try int) ([]balance.Balance, error) {
	if w.nothingChanges() {
		var err error
		replaced, _ := from.replaced()
		if w.turnedOff, err = w.loadsOf(ctx, replaced); err != nil {
			return nil, err
		}
		return w.allUnchanged(), w.switchLoads(ctx, w.turnedOff, nil)
	}
	counts, err := w.stagedWay.merge(ctx, from, try)
	if err == nil {
		err = w.noneSkipped(ctx)
	}
	return counts, err
}

// replacedRows leaves out the rows that were skipped.
func (w *skippingWay) replacedRows(ctx context.Context) (string, error) {
	if w.known.all.full() {
		return "", ErrRestage
	}
	return " AND t." + quote(w.table.Lineage.RowDigest) + listed, w.listDigests(ctx, false)
}

// digestTable belongs to sessions that need it.
const digestTable = "CREATE TEMPORARY TABLE IF NOT EXISTS mullein_digest (digest bytea NOT NULL) ON COMMIT DELETE ROWS; " +
	"ALTER TABLE pg_temp.mullein_digest ALTER digest SET STATISTICS 10"

func (w *skippingWay) unchangedKeys(ctx context.Context) (string, error) {
	keys, err := w.stagedWay.unchangedKeys(ctx)
	if err != nil || w.known.own {
		return keys, err
	}
	return keys + " UNION ALL SELECT " + fmt.Sprint(w.nth[0]) + ", " + w.table.keyHash("t") + " FROM " + w.name() +
		" t WHERE t." + quote(w.table.Lineage.RowDigest) + listed, w.listDigests(ctx, true)
}

func (w *skippingWay) confirmOthers(ctx context.Context, insert string) error {
	k := w.known
	digest := "t." + quote(w.table.Lineage.RowDigest)
	which, met := digest+listed, false
	if k.all.full() { // there may be more than were read
		which, met = "NOT "+digest+listed+" AND NOT EXISTS (SELECT 1 FROM "+w.stage+" s WHERE "+w.sameKey()+")", true
	}
	if err := w.listDigests(ctx, met); err != nil {
		return err
	}
	_, err := w.s.conn.Exec(ctx, insert+w.others(which))
	return err
}

const listed = " IN (SELECT digest FROM pg_temp.mullein_digest)"

// listDigests lists in the session's table the digests that skipped rows had, or the others.
func (w *skippingWay) listDigests(ctx context.Context, met bool) error {
	if err := w.exec(ctx, digestTable+"; DELETE FROM pg_temp.mullein_digest; SET LOCAL work_mem = '128MB'"); err != nil {
		return err
	}
	r, out := io.Pipe()
	go func() { out.CloseWithError(w.known.list(out, met)) }()
	_, err := w.s.conn.PgConn().CopyFrom(ctx, r, "COPY pg_temp.mullein_digest FROM STDIN BINARY")
	r.CloseWithError(err)
	if err != nil {
		return fmt.Errorf("copy digests: %w", err)
	}
	return w.exec(ctx, "ANALYZE pg_temp.mullein_digest")
}

// list writes the digests that rows which were skipped had, or the others, in
// PostgreSQL's binary COPY format.
func (k *known) list(to io.Writer, met bool) error {
	if _, err := to.Write(copyHeader); err != nil {
		return err
	}
	var buf []byte
	err := k.all.each(func(at int, some [][2]uint64) error {
		buf = buf[:0]
		for i, d := range some {
			if k.wasMet(at+i) == met {
				buf = append(buf, 0, 1, 0, 0, 0, tabular.DigestSize, tabular.DigestVersion)
				buf = binary.LittleEndian.AppendUint64(buf, d[0])
				buf = binary.LittleEndian.AppendUint64(buf, d[1])
			}
		}
		_, err := to.Write(buf)
		return err
	})
	if err == nil {
		_, err = to.Write(copyEnd)
	}
	return err
}

func (w *skippingWay) skipped() int64 { return w.known.skipped }

func (w *skippingWay) mostDiffer() bool { return true }

// sparse says that the pages of what was staged are needed anyway, and are few.
func (w *skippingWay) sparse() bool { return 4*w.rows() < w.known.rows }

// close ends the reading of digests.
func (w *skippingWay) close() error {
	w.known.reading.stop()
	<-w.known.reading.done
	return w.known.all.file.Close()
}

// send reads a column of digests over a connection of its own.
func (d *Database) send(ctx context.Context, of string, k *known) {
	c := k.reading
	defer close(c.done)
	conn, err := d.pool.Acquire(ctx)
	if err != nil {
		c.err = fmt.Errorf("read digests: %w", err)
		return
	}
	defer conn.Release()
	c.err = digests(ctx, conn.Conn().PgConn(), of, func(some [][2]uint64) error {
		if k.all.add(some) {
			select {
			case c.more <- struct{}{}:
			default:
			}
		}
		return k.all.err
	})
	if k.all.flush(); c.err == nil {
		c.err = k.all.err
	}
}

// lastPlace is the SQL of the place of the last load into, or recall of, a target
// t.
const lastPlace = "greatest((SELECT coalesce(max(nth), 0) FROM mullein.load l WHERE l.target = t.id), (SELECT " +
	"coalesce(max(nth), 0) FROM mullein.recall r WHERE r.target = t.id))"

// parts of a digest, without its version.
func halves(digest []byte) (d [2]uint64) {
	d[0], d[1] = binary.LittleEndian.Uint64(digest[1:]), binary.LittleEndian.Uint64(digest[9:])
	return d
}

// near reports whether the target holds a digest, as far as its place is near that of the
// last one. A row that it holds is counted.
func (k *known) near(d [2]uint64) (holds bool, err error) {
	at, ok, err := k.window.find(d)
	if ok {
		k.meet(at)
	}
	return ok, err
}

// meet counts a row with the digest at a place.
func (k *known) meet(at int) {
	if k.wasMet(at) { // a digest covers the key: this row is that one again
		k.repeats++
		return
	}
	k.met[at/64] |= 1 << (at % 64)
	k.skipped++
}

func (k *known) wasMet(at int) bool { return k.met[at/64]&(1<<(at%64)) != 0 }

// noneSkipped demands that no planned row is to change one that was skipped: the
// two have the same key, and only together could they tell which of them counts.
func (w *skippingWay) noneSkipped(ctx context.Context) error {
	if w.known.skipped == 0 {
		return nil
	}
	again := false
	var planned [][2]uint64
	look := func() error {
		err := w.known.all.match(planned, func(_, at int) { again = again || w.known.wasMet(at) })
		planned = planned[:0]
		return err
	}
	err := digests(ctx, w.s.conn.PgConn(), "pg_temp.mullein_plan (digest)", func(some [][2]uint64) error {
		if planned = append(planned, some...); len(planned) < mostAtOnce {
			return nil
		}
		return look()
	})
	if err == nil {
		err = look()
	}
	if err == nil && again {
		return ErrRestage
	}
	return err
}

// digests reads a column of digests, piece by piece. Nulls, and digests of
// another version, are passed over.
func digests(ctx context.Context, conn *pgconn.PgConn, of string, take func([][2]uint64) error) error {
	r := &digestReader{take: take, header: len(copyHeader), some: make([][2]uint64, 0, digestsAtOnce)}
	if _, err := conn.CopyTo(ctx, r, "COPY "+of+" TO STDOUT BINARY"); err != nil {
		return fmt.Errorf("read digests: %w", err)
	}
	return take(r.some)
}

const digestsAtOnce = 256

// digestReader takes digests from PostgreSQL's binary COPY format.
type digestReader struct {
	take   func([][2]uint64) error
	some   [][2]uint64
	header int // bytes of it that are still to come
	rest   []byte
}

// lengthEnd is where the value of a tuple of one field begins, behind the number
// of fields and the length.
const lengthEnd = 2 + 4

// Write implements io.Writer.
func (r *digestReader) Write(p []byte) (int, error) {
	n := len(p)
	if skip := min(r.header, len(p)); skip > 0 {
		r.header, p = r.header-skip, p[skip:]
	}
	if len(r.rest) > 0 {
		r.rest = append(r.rest, p...)
		p = r.rest
	}
	for len(p) >= lengthEnd {
		size := max(0, int(int32(binary.BigEndian.Uint32(p[2:]))))
		if len(p) < lengthEnd+size {
			break
		}
		if size == tabular.DigestSize {
			if r.some = append(r.some, halves(p[lengthEnd:lengthEnd+size])); len(r.some) == digestsAtOnce {
				if err := r.take(r.some); err != nil {
					return 0, err
				}
				r.some = r.some[:0]
			}
		}
		p = p[lengthEnd+size:]
	}
	r.rest = append(r.rest[:0], p...)
	return n, nil
}
