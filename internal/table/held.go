package table

import "mullein/internal/core/tabular"

// skippingForm is that of the staging table, without the rows that the target holds.
// Of some it is not known yet whether it does: they are held back.
type skippingForm struct {
	known *known
	held  heldRows
}

// heldRows are rows, ready to be sent, of which it is not known yet whether the
// target holds them.
type heldRows struct {
	bytes   []byte
	ends    []int // in bytes
	digests [][2]uint64
}

func (f *skippingForm) add(b *Batch, r batchRow) {
	if !f.holds(b, r) {
		b.buf = b.appendStaged(b.buf, r, b.suspect(r.values))
	}
}

func (f *skippingForm) release(b *Batch, next []byte) (send []byte) {
	if next == nil || f.known.arrived() {
		f.settle(b)
	}
	return stagedForm{}.release(b, next)
}

// holds reports whether the target holds a row, or will be asked when all its
// digests are there: such a row is not to be sent now. It gives up asking when few
// rows are known.
func (f *skippingForm) holds(b *Batch, r batchRow) bool {
	k := f.known
	if k.over || len(r.digest) != tabular.DigestSize {
		return false
	}
	if k.asked++; k.asked == tryKnown && k.skipped < tryKnown/2 {
		f.settle(b)
		if k.over = k.skipped < tryKnown/2; k.over {
			return false
		}
	}
	switch d := halves(r.digest); k.ask(d) {
	case isKnown:
		return true
	case askLater:
		h := &f.held
		h.bytes = b.appendStaged(h.bytes, r, b.suspect(r.values))
		h.ends, h.digests = append(h.ends, len(h.bytes)), append(h.digests, d)
		if len(h.bytes) > heldMost {
			f.settle(b)
		}
		return true
	}
	return false
}

// settle waits until all digests are there, and lets the rows go that were held
// back and are not known.
func (f *skippingForm) settle(b *Batch) {
	f.known.wait()
	from := 0
	for i, d := range f.held.digests {
		to := f.held.ends[i]
		if f.known.ask(d) == isNew {
			b.buf = append(b.buf, f.held.bytes[from:to]...)
		}
		from = to
	}
	f.held = heldRows{}
}
