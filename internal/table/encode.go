package table

import (
	"encoding/binary"
	"math"

	"github.com/zeebo/xxh3"

	"mullein/internal/core/tabular"
)

// copyHeader begins PostgreSQL's binary COPY format: signature, flags, no
// extension. copyEnd ends it.
var (
	copyHeader = []byte("PGCOPY\n\xff\r\n\x00\x00\x00\x00\x00\x00\x00\x00\x00")
	copyEnd    = []byte{0xff, 0xff}
)

const (
	microsTo2000 = 946_684_800 * 1_000_000
	daysTo2000   = 10957
)

// Batch collects rows in the form in which they are staged.
type Batch struct {
	buf    []byte
	key    []int // indexes of the key's columns
	seen   *filter
	all    bool // every row is a suspect, because equal keys may have unequal bytes
	kinds  []tabular.Kind
	keyBuf []byte
	part   int      // the file that rows are of now
	rows   []int64  // of each part
	marked int64    // suspects among them
	hashes []uint64 // of the keys of the part at hand, if kept
	keep   bool
	form   form
	due    bool  // the form has to flush what it kept back, before more is added
	expect int64 // about how many rows will come
}

// Rows of several files may be staged together, and one record may hold several
// rows, so a staged row's place is the number of its file in the load, then its
// line in the file, then its number within the line.
const (
	elementBits = 17
	lineBits    = 32
	lineShift   = elementBits
	placeShift  = lineBits + elementBits
	lineMask    = 1<<lineBits - 1
)

// lineOf is the SQL of the line of a staged row.
const lineOf = "((s.place >> 17) & 4294967295)"

// isGone holds for staged rows (s) that delete their key: see [tabular.Deletes].
const isGone = `s.digest = '\x00'::bytea`

// Piece is the rows of one file, ready to be staged, and the hashes of their
// keys.
type Piece struct {
	Hashes []uint64
	part   int
	bytes  []byte
	rows   int64
	marked int64
}

// Begin says that the rows to come are of a part of the load, from 0.
func (b *Batch) Begin(part int) {
	b.part = part
	for len(b.rows) <= part {
		b.rows = append(b.rows, 0)
	}
}

// TakePiece returns the rows that were added since the last piece was taken. It
// is for batches that [NewPieces] made.
func (b *Batch) TakePiece() Piece {
	p := Piece{Hashes: b.hashes, part: b.part, bytes: b.buf, rows: b.rows[b.part], marked: b.marked}
	b.hashes, b.buf, b.marked = make([]uint64, 0, len(p.Hashes)), make([]byte, 0, len(p.bytes)+len(p.bytes)/8), 0
	return p
}

// NewPieces makes a batch that collects the rows of small files piece by piece.
func NewPieces(t *Table, expected int64, bytewise bool) *Batch {
	b := NewBatch(t, expected, bytewise)
	b.keep = true
	return b
}

// NewBatch makes a batch of rows of a table. expected is about how many rows
// will come; bytewise says that equal keys have equal bytes.
func NewBatch(t *Table, expected int64, bytewise bool) *Batch {
	b := &Batch{form: stagedForm{}, seen: newFilter(expected), expect: expected, all: !bytewise, rows: []int64{0}}
	for _, c := range t.Own {
		b.kinds = append(b.kinds, c.Kind)
	}
	for _, k := range t.Key {
		b.key = append(b.key, t.index(k))
	}
	return b
}

// Reset forgets the bytes collected, but not the keys that were seen.
func (b *Batch) Reset() { b.buf = b.buf[:0] }

// release returns the rows that are to be sent, and goes on in next; nil when none
// are to come.
func (b *Batch) release(next []byte) (send []byte) { return b.form.release(b, next) }

// Len is the number of bytes collected since the last chunk was taken; more than any number when
// no more rows are to be added before that.
func (b *Batch) Len() int {
	if b.due {
		return math.MaxInt
	}
	return len(b.buf)
}

// Add puts a row at the end. values stand in the order of [Table.Own]; line
// and element say where in the file the row is; digest is its digest, or
// [tabular.Deletes].
func (b *Batch) Add(values []tabular.Value, line int64, element int, digest []byte) {
	b.rows[b.part]++
	b.form.add(b, batchRow{values, line, element, digest})
}

// batchRow is a row on its way.
type batchRow struct {
	values  []tabular.Value
	line    int64
	element int // within the line
	digest  []byte
}

// form is the form in which rows are sent, and which of them need not be.
type form interface {
	add(b *Batch, r batchRow)
	// flush adds rows that were kept back, until the batch holds about size bytes, and
	// reports whether there are more that are to be sent now; last says that no rows are to
	// be added.
	flush(b *Batch, size int, last bool) (more bool, err error)
	release(b *Batch, next []byte) (send []byte)
}

// stagedForm is that of the staging table.
type stagedForm struct{}

func (stagedForm) add(b *Batch, r batchRow) { b.buf = b.appendStaged(b.buf, r, b.suspect(r.values)) }

func (stagedForm) flush(*Batch, int, bool) (more bool, err error) { return false, nil }

func (stagedForm) release(b *Batch, next []byte) (send []byte) {
	send, b.buf = b.buf, next
	return send
}

// keyOf returns the key of a row as bytes.
func (b *Batch) keyOf(values []tabular.Value) []byte {
	b.keyBuf = b.keyBuf[:0]
	for _, i := range b.key {
		b.keyBuf = values[i].AppendCanonical(b.keyBuf)
	}
	return b.keyBuf
}

// suspect reports whether a row's key may have come before, and counts it if so.
func (b *Batch) suspect(values []tabular.Value) bool {
	suspect := len(b.key) > 0
	if suspect && !b.all {
		h := xxh3.Hash(b.keyOf(values))
		if b.keep {
			b.hashes = append(b.hashes, h)
		}
		suspect = b.seen.mark(h)
	}
	if suspect {
		b.marked++
	}
	return suspect
}

// appendStaged writes a row in the form of the staging table.
func (b *Batch) appendStaged(to []byte, r batchRow, suspect bool) []byte {
	be := binary.BigEndian
	to = be.AppendUint16(to, uint16(len(r.values)+3))
	for i := range r.values {
		to = appendValue(to, &r.values[i], b.kinds[i])
	}
	to = be.AppendUint32(to, 8)
	to = be.AppendUint64(to, uint64(b.part)<<placeShift|uint64(r.line)<<lineShift|uint64(r.element))
	to = be.AppendUint32(to, uint32(len(r.digest)))
	to = append(to, r.digest...)
	if suspect {
		return append(to, 0, 0, 0, 1, 1)
	}
	return append(to, 0, 0, 0, 1, 0)
}

func appendValue(dst []byte, v *tabular.Value, want tabular.Kind) []byte {
	if v.Kind == tabular.Null {
		return append(dst, 0xff, 0xff, 0xff, 0xff)
	}
	be := binary.BigEndian
	at := len(dst)
	dst = append(dst, 0, 0, 0, 0)
	switch want {
	case tabular.Integer, tabular.Clock:
		dst = be.AppendUint64(dst, uint64(v.I))
	case tabular.Decimal:
		dst = appendNumeric(dst, v)
	case tabular.Float:
		dst = be.AppendUint64(dst, math.Float64bits(v.X))
	case tabular.Boolean:
		dst = append(dst, byte(v.I))
	case tabular.Instant:
		dst = be.AppendUint64(dst, uint64(v.I-microsTo2000))
	case tabular.Day:
		dst = be.AppendUint32(dst, uint32(int32(v.I-daysTo2000)))
	case tabular.Span:
		dst = be.AppendUint64(dst, uint64(v.I))
		dst = be.AppendUint32(dst, uint32(v.D))
		dst = be.AppendUint32(dst, uint32(v.M))
	case tabular.Point:
		dst = be.AppendUint64(dst, math.Float64bits(v.X))
		dst = be.AppendUint64(dst, math.Float64bits(v.Y))
	case tabular.JSON:
		dst = append(append(dst, 1), v.B...) // version of jsonb's binary form
	default:
		dst = append(dst, v.B...)
	}
	be.PutUint32(dst[at:], uint32(len(dst)-at-4))
	return dst
}

// appendNumeric writes PostgreSQL's numeric: digits to the base of 10,000, the
// weight of the first, the sign, and the digits after the point to show.
func appendNumeric(dst []byte, v *tabular.Value) []byte {
	be := binary.BigEndian
	if v.Odd != tabular.Finite {
		sign := map[tabular.Special]uint16{tabular.NaN: 0xC000, tabular.PlusInf: 0xD000,
			tabular.MinusInf: 0xF000}[v.Odd]
		dst = append(dst, 0, 0, 0, 0)
		dst = be.AppendUint16(dst, sign)
		return append(dst, 0, 0)
	}
	pad := (4 - int(v.Scale)%4) % 4
	if n := uint64(v.I) * tens[pad]; v.B == nil && v.I > 0 && v.I < 1e5 && n < 1e8 {
		return appendShort(dst, n, v.Scale, int(v.Scale)+pad)
	}
	var space [8]uint16
	groups := space[:0] // least significant first
	negative := v.I < 0
	n := uint64(v.I)
	if negative {
		n = -n
	}
	if v.B == nil && n < 1e15 {
		for i := 0; i < pad; i++ {
			n *= 10
		}
		for ; n > 0; n /= 10000 {
			groups = append(groups, uint16(n%10000))
		}
	} else {
		text := v.AppendDigits(nil)
		if negative = text[0] == '-'; negative {
			text = text[1:]
		}
		padded := append(text, "000"[:pad]...)
		for end := len(padded); end > 0; end -= 4 {
			g := uint16(0)
			for _, d := range padded[max(0, end-4):end] {
				g = g*10 + uint16(d-'0')
			}
			groups = append(groups, g)
		}
	}
	weight := len(groups) - 1 - (int(v.Scale)+pad)/4
	low := 0
	for low < len(groups) && groups[low] == 0 {
		low++
	}
	groups = groups[low:]
	if len(groups) == 0 {
		weight, negative = 0, false
	}
	dst = be.AppendUint16(dst, uint16(len(groups)))
	dst = be.AppendUint16(dst, uint16(int16(weight)))
	if negative {
		dst = be.AppendUint16(dst, 0x4000)
	} else {
		dst = be.AppendUint16(dst, 0)
	}
	dst = be.AppendUint16(dst, uint16(v.Scale))
	for i := len(groups) - 1; i >= 0; i-- {
		dst = be.AppendUint16(dst, groups[i])
	}
	return dst
}

var tens = [4]uint64{1, 10, 100, 1000}

// appendShort is appendNumeric for a positive number of at most two digits to the
// base of 10,000, as most measurements are; after is how many decimal digits of it
// stand after the point.
func appendShort(dst []byte, n uint64, scale int32, after int) []byte {
	high, low := n/10000, n%10000
	weight := uint64(uint16(1 - after/4))
	if high == 0 {
		weight, high, low = uint64(uint16(-after/4)), low, 0
	}
	if low == 0 {
		dst = binary.BigEndian.AppendUint64(dst, 1<<48|weight<<32|uint64(uint16(scale)))
		return binary.BigEndian.AppendUint16(dst, uint16(high))
	}
	dst = binary.BigEndian.AppendUint64(dst, 2<<48|weight<<32|uint64(uint16(scale)))
	return binary.BigEndian.AppendUint32(dst, uint32(high<<16|low))
}

// filter reports whether a key may have been seen before: a Bloom filter in
// blocks of one cache line. It never misses a repeat; what it suspects without
// cause costs time only. Its size is bounded, whatever the file's is.
type filter struct {
	blocks [][8]uint64
}

const (
	minFilter = 1 << 10 // blocks of 64 bytes
	maxFilter = 1 << 20 // 64 MiB: one suspect in a million among 20 million keys
)

// newFilter makes a filter for about so many keys.
func newFilter(keys int64) *filter {
	n := int64(minFilter)
	for n < maxFilter && n*16 < keys {
		n *= 2
	}
	return &filter{make([][8]uint64, n)}
}

// mark puts a hash in and reports whether it may have been there before.
func (f *filter) mark(h uint64) bool {
	block := &f.blocks[h&uint64(len(f.blocks)-1)]
	bits := h >> 20
	known := true
	for range 4 {
		word, bit := (bits>>6)&7, uint64(1)<<(bits&63)
		known = known && block[word]&bit != 0
		block[word] |= bit
		bits = bits*0x9E3779B97F4A7C15 + 0x632BE59BD9B4E019
		bits ^= bits >> 29
	}
	return known
}
