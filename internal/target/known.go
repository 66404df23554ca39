package target

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"

	"github.com/jackc/pgx/v5"

	"mullein/internal/core/feed"
	"mullein/internal/core/tabular"
)

// known is the digests that the target holds. A row with one of them is
// unchanged, so it need not even be staged: of a file that is mostly the same
// again, that is most of the work. What is skipped so is counted as unchanged
// only if no other load came in between, and if no key repeats in the file;
// else the file is read once more and staged whole.
type known struct {
	slots   [][2]uint64 // open addressing; a digest of zeros does not occur
	met     []uint64    // a bit for each slot: a row with its digest was skipped
	nth     int64       // of the last load or recall when they were read
	skipped int64
	asked   int64
	over    bool // few rows are known; it is not worth asking
}

// ErrRestage says that a file has to be staged whole, since rows of it were
// skipped that may count after all.
var ErrRestage = errors.New("the file has to be read again and staged whole")

const (
	mostKnown    = 3 << 20 // digests: 64 MiB of slots
	tryKnown     = 50_000  // rows after which it shows whether most are known
	knownPerSlot = 4       // quarters of the slots that are used, at the most: three
)

// SkipUnchanged reads the digests that the target holds, where that promises to
// pay: the load is of one part, of about as many rows as the target has.
func (l *Load) SkipUnchanged(ctx context.Context, part Part, expected int64) error {
	t := l.table
	if t.Mode != feed.Upsert || !t.keyed() || t.Lineage.RowDigest == "" || len(t.Merge) > 0 || t.Absent != feed.AbsentKeep && t.Absent != "" || !t.bytewise ||
		l.several() || l.direct != nil || len(part.Replaces) > 0 || expected < manyRows {
		return nil
	}
	k := &known{}
	var rows int64
	err := l.s.conn.QueryRow(ctx, "SELECT rows, "+lastPlace+" FROM mullein.target t WHERE id = $1", t.id).Scan(&rows, &k.nth)
	if err != nil {
		return fmt.Errorf("look at the target: %w", err)
	}
	if rows < manyRows || rows > mostKnown || rows > 2*expected {
		return nil
	}
	size := 1 << 16
	for int64(size)*(knownPerSlot-1)/knownPerSlot < rows {
		size *= 2
	}
	k.slots, k.met = make([][2]uint64, size), make([]uint64, size/64)
	// A bare table is copied faster than a query, but must not have partitions.
	digests := l.name() + " (" + quote(t.Lineage.RowDigest) + ")"
	if t.ranges != "" || t.lateIndex == "" {
		digests = "(SELECT " + quote(t.Lineage.RowDigest) + " FROM " + l.name() + ")"
	}
	reader := &digestReader{known: k, most: size * (knownPerSlot - 1) / knownPerSlot, header: len(copyHeader)}
	if _, err := l.s.conn.PgConn().CopyTo(ctx, reader, "COPY "+digests+" TO STDOUT BINARY"); err != nil {
		return fmt.Errorf("read digests: %w", err)
	}
	if !reader.full {
		l.known = k
	}
	return nil
}

// lastPlace is the SQL of the place of the last load into, or recall of, a target
// t.
const lastPlace = "greatest((SELECT coalesce(max(nth), 0) FROM mullein.load l WHERE l.target = t.id), (SELECT coalesce(max(nth), 0) FROM mullein.recall r WHERE r.target = t.id))"

// stillKnown demands that nothing came in between.
func (l *Load) stillKnown(ctx context.Context) error {
	if l.skipped() == 0 {
		return nil
	}
	var nth int64
	if err := l.s.conn.QueryRow(ctx, "SELECT "+lastPlace+" FROM mullein.target t WHERE id = $1", l.table.id).Scan(&nth); err != nil {
		return fmt.Errorf("look at the target: %w", err)
	}
	if nth != l.known.nth {
		return ErrRestage
	}
	return nil
}

// skipped is how many rows were not staged, because the target holds them.
func (l *Load) skipped() int64 {
	if l.known == nil {
		return 0
	}
	return l.known.skipped
}

// parts of a digest, without its version.
func halves(digest []byte) (d [2]uint64) {
	d[0], d[1] = binary.LittleEndian.Uint64(digest[1:]), binary.LittleEndian.Uint64(digest[9:])
	return d
}

func (k *known) add(d [2]uint64) {
	mask := uint64(len(k.slots) - 1)
	for i := d[0] & mask; ; i = (i + 1) & mask {
		if k.slots[i] == [2]uint64{} || k.slots[i] == d {
			k.slots[i] = d
			return
		}
	}
}

// has tells whether the target holds a digest, and gives up asking when few are
// known.
func (k *known) has(digest []byte) bool {
	if len(digest) != tabular.DigestSize {
		return false
	}
	if k.asked++; k.over || k.asked == tryKnown && k.skipped < tryKnown/2 {
		k.over = true
		return false
	}
	d := halves(digest)
	mask := uint64(len(k.slots) - 1)
	for i := d[0] & mask; k.slots[i] != [2]uint64{}; i = (i + 1) & mask {
		if k.slots[i] == d {
			k.met[i/64] |= 1 << (i % 64)
			k.skipped++
			return true
		}
	}
	return false
}

// repeatsSkipped demands that no key of a suspect is that of a row that was
// skipped: only together could they tell which of them counts.
func (l *Load) repeatsSkipped(ctx context.Context) error {
	rows, err := l.s.conn.Query(ctx, "SELECT t."+quote(l.table.Lineage.RowDigest)+" FROM "+l.stage+" s JOIN "+l.name()+" t ON "+l.sameKey()+" WHERE s.suspect")
	if err != nil {
		return fmt.Errorf("look for repeats: %w", err)
	}
	var digest []byte
	_, err = pgx.ForEachRow(rows, []any{&digest}, func() error {
		if len(digest) == tabular.DigestSize && l.known.wasSkipped(halves(digest)) {
			return ErrRestage
		}
		return nil
	})
	return err
}

func (k *known) wasSkipped(d [2]uint64) bool {
	mask := uint64(len(k.slots) - 1)
	for i := d[0] & mask; k.slots[i] != [2]uint64{}; i = (i + 1) & mask {
		if k.slots[i] == d {
			return k.met[i/64]&(1<<(i%64)) != 0
		}
	}
	return false
}

// digestReader takes digests from PostgreSQL's binary COPY format.
type digestReader struct {
	known  *known
	most   int
	n      int
	full   bool
	header int // bytes of it that are still to come
	rest   []byte
}

// lengthEnd is where the value of a tuple of one field begins, behind the number
// of fields and the length.
const lengthEnd = 2 + 4

// Write implements io.Writer. Digests of another version, and nulls, are passed
// over.
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
			if r.n++; r.n > r.most {
				r.full = true
				return n, nil
			}
			r.known.add(halves(p[lengthEnd : lengthEnd+size]))
		}
		p = p[lengthEnd+size:]
	}
	r.rest = append(r.rest[:0], p...)
	return n, nil
}
