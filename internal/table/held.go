package table

import "mullein/internal/core/tabular"

// held is encoded rows of which it is not known yet whether the target holds
// them.
type held struct {
	bytes   []byte
	ends    []int // in bytes
	digests [][2]uint64
}

// holds reports whether the target holds a row, or will be asked when all its
// digests are there: such a row is not to be sent now. It returns up asking when few
// rows are known.
func (b *Batch) holds(values []tabular.Value, place uint64, digest []byte) bool {
	k := b.known
	if k.over || len(digest) != tabular.DigestSize {
		return false
	}
	if k.asked++; k.asked == tryKnown && k.skipped < tryKnown/2 {
		b.settle()
		if k.over = k.skipped < tryKnown/2; k.over {
			return false
		}
	}
	switch d := halves(digest); k.ask(d) {
	case isKnown:
		return true
	case askLater:
		suspect := b.suspect(values)
		if suspect {
			b.marked++
		}
		h := &b.held
		h.bytes = b.appendRow(h.bytes, values, place, digest, suspect)
		h.ends, h.digests = append(h.ends, len(h.bytes)), append(h.digests, d)
		if len(h.bytes) > heldMost {
			b.settle()
		}
		return true
	}
	return false
}

// settle waits until all digests are there, and lets the rows go that were held
// back and are not known.
func (b *Batch) settle() {
	b.known.wait()
	from := 0
	for i, d := range b.held.digests {
		to := b.held.ends[i]
		if b.known.ask(d) == isNew {
			b.buf = append(b.buf, b.held.bytes[from:to]...)
		}
		from = to
	}
	b.held = held{}
}
