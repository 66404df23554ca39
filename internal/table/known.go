package table

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"sync/atomic"

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
// the target, so each digest is first looked for where the last one was found:
// memory that is read in order takes a tenth of the time. And so the file can be
// read while the digests are on their way: what is not found in order is held back
// until all are there.
type known struct {
	digests [][2]uint64  // in the order of the target's pages
	there   atomic.Int64 // how many of them have come
	coming  *coming      // nil once it is known that all are there
	reading *coming      // the same, for its end
	index   []uint32     // open addressing: a place in digests, from 1; 0 is free. Asked only when all are there
	met     []uint64     // a bit for each digest: a row with it was skipped
	next    [2]int       // where the next digest is likely to be: after the last, and where the order was left
	nth     int64        // of the last load or recall when they were read
	skipped int64
	repeats int64 // rows that are the same as one that was skipped
	asked   int64
	over    bool   // few rows are known; it is not worth asking
	touched uint32 // keeps what is read ahead from being optimized away
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
	mostKnown = 3 << 20  // digests: 48 MiB, and 16 MiB of index
	tryKnown  = 50_000   // rows after which it shows whether most are known
	lookAhead = 4        // digests that a row's is held against before the index is asked
	heldMost  = 24 << 20 // bytes of rows that are held back
)

// SkipUnchanged reads the digests that the target holds, where that promises to
// pay: the load is of one part, of about as many rows as the target has.
func (l *Load) SkipUnchanged(ctx context.Context, part Part, expected int64) error {
	t := l.table
	if t.Mode != feed.Upsert || !t.keyed() || t.Lineage.RowDigest == "" || len(t.Merge) > 0 ||
		t.Absent != feed.AbsentKeep && t.Absent != "" || !t.bytewise ||
		l.several() || len(part.Replaces) > 0 || expected < manyRows {
		return nil
	}
	k := &known{}
	var rows int64
	err := l.s.conn.QueryRow(ctx, "SELECT rows, "+lastPlace+" FROM mullein.target t WHERE id = $1", t.id).Scan(&rows,
		&k.nth)
	if err != nil {
		return fmt.Errorf("look at the target: %w", err)
	}
	if rows < manyRows || rows > mostKnown || rows > 2*expected {
		return nil
	}
	k.begin(int(rows) + int(rows)/50) // a few more than were counted, where others write to it too
	// A bare table is copied faster than a query, but must not have partitions.
	digests := l.name() + " (" + quote(t.Lineage.RowDigest) + ")"
	if t.ranges != "" || t.lateIndex == "" {
		digests = "(SELECT " + quote(t.Lineage.RowDigest) + " FROM " + l.name() + ")"
	}
	reading, stop := context.WithCancel(ctx)
	k.coming = &coming{more: make(chan struct{}, 1), done: make(chan struct{}), stop: stop}
	k.reading = k.coming
	go l.s.db.send(reading, digests, k, k.reading)
	l.way = &skippingWay{stagedWay: stagedWay{l}, known: k}
	return nil
}

// skippingWay is the way of loads that skip rows which the target holds.
type skippingWay struct {
	stagedWay
	known *known
}

func (w *skippingWay) copyIn(ctx context.Context, src Source, expected int64) error {
	b := NewBatch(w.table.Table, expected, w.table.bytewise)
	b.form = &skippingForm{known: w.known}
	n, err := w.copyFrom(ctx, src, b, w.stage)
	if err == nil {
		err = w.close()
	}
	if err != nil {
		return err
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

func (w *skippingWay) merge(ctx context.Context, from origin, try int) ([]balance.Balance, error) {
	counts, err := w.stagedWay.merge(ctx, from, try)
	if err == nil {
		err = w.noneSkipped(ctx)
	}
	return counts, err
}

func (w *skippingWay) confirmOthers(ctx context.Context, insert string) error {
	k, digest := w.known, "t."+quote(w.table.Lineage.RowDigest)
	which, met := digest+" = ANY($1)", false
	if n := int(k.there.Load()); n == len(k.digests) { // there may be more than were read
		which, met = "NOT "+digest+" = ANY($1) AND NOT EXISTS (SELECT 1 FROM "+w.stage+" s WHERE "+w.sameKey()+")", true
	}
	_, err := w.s.conn.Exec(ctx, insert+w.others(which), k.list(met))
	return err
}

// list lists the digests that rows which were skipped had, or the others.
func (k *known) list(met bool) [][]byte {
	var out [][]byte
	for at := range int(k.there.Load()) {
		if k.wasMet(at) == met {
			d := append(make([]byte, 0, tabular.DigestSize), tabular.DigestVersion)
			d = binary.LittleEndian.AppendUint64(d, k.digests[at][0])
			out = append(out, binary.LittleEndian.AppendUint64(d, k.digests[at][1]))
		}
	}
	return out
}

func (w *skippingWay) skipped() int64 { return w.known.skipped }

// mostDiffer says that the pages of what was staged are needed anyway.
func (w *skippingWay) mostDiffer() bool { return true }

// close ends the reading of digests, and returns the error that it had.
func (w *skippingWay) close() error {
	w.known.reading.stop()
	<-w.known.reading.done
	return w.known.reading.err
}

// send reads a column of digests over a connection of its own.
func (d *Database) send(ctx context.Context, of string, k *known, c *coming) {
	defer close(c.done)
	conn, err := d.pool.Acquire(ctx)
	if err != nil {
		c.err = fmt.Errorf("read digests: %w", err)
		return
	}
	defer conn.Release()
	c.err = digests(ctx, conn.Conn().PgConn(), of, func(some [][2]uint64) {
		k.add(some)
		select {
		case c.more <- struct{}{}:
		default:
		}
	})
}

// wait waits until all digests are there.
func (k *known) wait() {
	if k.coming != nil {
		<-k.coming.done
		k.coming = nil
	}
}

// arrived reports whether all digests are there.
func (k *known) arrived() bool {
	if k.coming == nil {
		return true
	}
	select {
	case <-k.coming.done:
		return true
	default:
		return false
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

// begin makes room for so many digests.
func (k *known) begin(most int) {
	size := 1 << 16
	for size/4*3 < most {
		size *= 2
	}
	k.digests, k.met, k.index = make([][2]uint64, most), make([]uint64, most/64+1), make([]uint32, size)
}

// add takes digests in, as far as there is room: rows with others are staged.
// Their places in the index are read beforehand, all at
// once: they lie scattered over more memory than is near the processor, and
// waiting for one after the other takes several times as long.
func (k *known) add(some [][2]uint64) {
	mask := uint64(len(k.index) - 1)
	n := int(k.there.Load())
	some = some[:min(len(some), len(k.digests)-n)]
	for _, d := range some {
		k.touched += k.index[d[0]&mask]
	}
	for _, d := range some {
		i := d[0] & mask
		for k.index[i] != 0 {
			i = (i + 1) & mask
		}
		k.digests[n] = d
		n++
		k.index[i] = uint32(n)
	}
	k.there.Store(int64(n))
}

// inOrder returns the place of a digest that is where it is likely to be. It waits
// for digests that would come there.
func (k *known) inOrder(d [2]uint64) (at int, ok bool) {
	there := int(k.there.Load())
	for k.coming != nil && there < k.next[0]+lookAhead {
		select {
		case <-k.coming.more:
		case <-k.coming.done:
			k.coming = nil
		}
		there = int(k.there.Load())
	}
	for i, next := range k.next {
		for at := next; at < min(next+lookAhead, there); at++ {
			if k.digests[at] == d {
				k.next[i] = at + 1
				return at, true
			}
		}
	}
	return 0, false
}

// find returns the place of a digest, when all are there; ok is false where the
// target does not hold it.
func (k *known) find(d [2]uint64) (at int, ok bool) {
	if at, ok = k.inOrder(d); ok {
		return at, true
	}
	mask := uint64(len(k.index) - 1)
	for i := d[0] & mask; k.index[i] != 0; i = (i + 1) & mask {
		if at = int(k.index[i]) - 1; k.digests[at] == d {
			k.next[1] = at + 1
			return at, true
		}
	}
	return 0, false
}

// answer reports whether the target holds a row.
type answer int

const (
	isNew answer = iota
	isKnown
	askLater // when all digests are there
)

// ask reports whether the target holds a digest. A row that it holds is counted.
func (k *known) ask(d [2]uint64) answer {
	at, ok := k.inOrder(d)
	if !ok && !k.arrived() {
		return askLater
	}
	if !ok {
		k.wait()
		at, ok = k.find(d)
	}
	switch {
	case !ok:
		return isNew
	case k.wasMet(at): // a digest covers the key: this row is that one again
		k.repeats++
	default:
		k.met[at/64] |= 1 << (at % 64)
		k.skipped++
	}
	return isKnown
}

func (k *known) wasMet(at int) bool { return k.met[at/64]&(1<<(at%64)) != 0 }

// noneSkipped demands that no planned row is to change one that was skipped: the
// two have the same key, and only together could they tell which of them counts.
func (w *skippingWay) noneSkipped(ctx context.Context) error {
	if w.known.skipped == 0 {
		return nil
	}
	again := false
	err := digests(ctx, w.s.conn.PgConn(), "pg_temp.mullein_plan (digest)", func(some [][2]uint64) {
		for _, d := range some {
			at, ok := w.known.find(d)
			again = again || ok && w.known.wasMet(at)
		}
	})
	if err == nil && again {
		return ErrRestage
	}
	return err
}

// digests reads a column of digests, piece by piece. Nulls, and digests of
// another version, are passed over.
func digests(ctx context.Context, conn *pgconn.PgConn, of string, take func([][2]uint64)) error {
	r := &digestReader{take: take, header: len(copyHeader), some: make([][2]uint64, 0, digestsAtOnce)}
	if _, err := conn.CopyTo(ctx, r, "COPY "+of+" TO STDOUT BINARY"); err != nil {
		return fmt.Errorf("read digests: %w", err)
	}
	take(r.some)
	return nil
}

const digestsAtOnce = 256

// digestReader takes digests from PostgreSQL's binary COPY format.
type digestReader struct {
	take   func([][2]uint64)
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
				r.take(r.some)
				r.some = r.some[:0]
			}
		}
		p = p[lengthEnd+size:]
	}
	r.rest = append(r.rest[:0], p...)
	return n, nil
}
