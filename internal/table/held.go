package table

import (
	"bufio"
	"encoding/binary"
	"fmt"
	"io"
	"os"

	"mullein/internal/core/tabular"
)

// skippingForm is that of the staging table, without the rows that the target holds.
// Rows of which it is not known yet whether it does are set aside.
type skippingForm struct {
	known    *known
	held     *heldRows
	missed   int // rows in a row that were not near
	patience int // after how many of them all digests are asked
	tried    bool
	err      error
}

func newSkippingForm(k *known) (*skippingForm, error) {
	held, err := newHeldRows()
	return &skippingForm{known: k, held: held, patience: tryKnown}, err
}

func (f *skippingForm) add(b *Batch, r batchRow) {
	if f.known.over || len(r.digest) != tabular.DigestSize {
		b.buf = b.appendStaged(b.buf, r, b.suspect(r.values))
		return
	}
	d := halves(r.digest)
	holds, err := f.known.near(d)
	if f.err == nil {
		f.err = err
	}
	if holds {
		f.missed = 0
		return
	}
	f.missed++
	f.held.add(d, func(to []byte) []byte { return b.appendStaged(to, r, b.suspect(r.values)) })
	b.due = f.full()
}

// full reports whether it is time to look for the rows that were set aside: they are many, or so
// many in a row were not near the last one that the file seems to go on elsewhere.
func (f *skippingForm) full() bool {
	return f.held.n >= mostAtOnce || f.held.bytes >= heldMost || f.missed >= f.patience
}

// flush sends rows that were set aside and are not known, when all rows are there or it is full.
func (f *skippingForm) flush(b *Batch, size int, last bool) (more bool, err error) {
	h := f.held
	if f.err == nil {
		f.err = h.err
	}
	if f.err != nil {
		return false, f.err
	}
	if h.unsent == 0 && h.n > 0 && (last || f.full()) {
		if err := f.settle(); err != nil {
			return false, err
		}
		b.due = false
	}
	return h.send(b, size)
}

func (f *skippingForm) release(b *Batch, next []byte) (send []byte) {
	return stagedForm{}.release(b, next)
}

// settle finds out which of the rows set aside the target holds. When it is few, the rows
// to come are not even looked for.
func (f *skippingForm) settle() error {
	k := f.known
	k.window.waitAll()
	digests, err := f.held.digests()
	if err != nil {
		return err
	}
	f.held.known = make([]bool, len(digests))
	last := -1
	if err := k.all.match(digests, func(i, at int) {
		f.held.known[i] = true
		k.meet(at)
		if i == len(digests)-1 {
			last = at
		}
	}); err != nil {
		return err
	}
	if f.missed >= f.patience {
		f.patience *= 4
		if last >= 0 {
			k.window.move(last + 1)
		}
	}
	if !f.tried {
		f.tried, k.over = true, k.skipped < tryKnown/2
	}
	f.missed = 0
	return nil
}

// heldRows are rows that are set aside, ready to be sent, each after its digest and its
// length, in a temporary file without a name.
type heldRows struct {
	file   *os.File
	out    *bufio.Writer
	n      int
	bytes  int64
	row    []byte
	err    error
	known  []bool // of each row, once that is settled: it is not to be sent
	in     *bufio.Reader
	unsent int // rows that are to be gone through
}

const (
	heldBuffer = 256 << 10
	heldMost   = 4 << 30 // bytes on disk
	heldHead   = digestBytes + 4
)

func newHeldRows() (*heldRows, error) {
	file, err := nameless("mullein-held-")
	if err != nil {
		return nil, fmt.Errorf("set rows aside: %w", err)
	}
	return &heldRows{file: file, out: bufio.NewWriterSize(file, heldBuffer),
		in: bufio.NewReaderSize(nil, heldBuffer)}, nil
}

func (h *heldRows) close() { h.file.Close() }

// add sets a row aside.
func (h *heldRows) add(d [2]uint64, row func(to []byte) []byte) {
	h.row = binary.LittleEndian.AppendUint64(h.row[:0], d[0])
	h.row = binary.LittleEndian.AppendUint64(h.row, d[1])
	h.row = row(append(h.row, 0, 0, 0, 0))
	binary.LittleEndian.PutUint32(h.row[digestBytes:], uint32(len(h.row)-heldHead))
	if _, err := h.out.Write(h.row); err != nil && h.err == nil {
		h.err = fmt.Errorf("set rows aside: %w", err)
	}
	h.n++
	h.bytes += int64(len(h.row))
}

// digests returns the digests of all rows, which are then to be sent.
func (h *heldRows) digests() ([][2]uint64, error) {
	if err := h.out.Flush(); err != nil {
		return nil, fmt.Errorf("set rows aside: %w", err)
	}
	if err := h.rewind(); err != nil {
		return nil, err
	}
	out := make([][2]uint64, h.n)
	for i := range out {
		head, size, err := h.head()
		if err != nil {
			return nil, err
		}
		out[i] = head
		if _, err := h.in.Discard(size); err != nil {
			return nil, fmt.Errorf("read rows that were set aside: %w", err)
		}
	}
	h.unsent = h.n
	return out, h.rewind()
}

func (h *heldRows) rewind() error {
	if _, err := h.file.Seek(0, io.SeekStart); err != nil {
		return fmt.Errorf("read rows that were set aside: %w", err)
	}
	h.in.Reset(h.file)
	return nil
}

// head reads what stands before a row.
func (h *heldRows) head() (digest [2]uint64, size int, err error) {
	head, err := h.in.Peek(heldHead)
	if err != nil {
		return digest, 0, fmt.Errorf("read rows that were set aside: %w", err)
	}
	digest = [2]uint64{binary.LittleEndian.Uint64(head), binary.LittleEndian.Uint64(head[8:])}
	size = int(binary.LittleEndian.Uint32(head[digestBytes:]))
	_, err = h.in.Discard(heldHead)
	return digest, size, err
}

// send adds rows that are to be sent to the batch until it holds about size bytes, and
// reports whether there are more. When there are none, room is made for others.
func (h *heldRows) send(b *Batch, size int) (more bool, err error) {
	for ; h.unsent > 0; h.unsent-- {
		if len(b.buf) >= size {
			return true, nil
		}
		_, bytes, err := h.head()
		if err != nil {
			return false, err
		}
		if h.known[h.n-h.unsent] {
			if _, err := h.in.Discard(bytes); err != nil {
				return false, fmt.Errorf("read rows that were set aside: %w", err)
			}
			continue
		}
		at := len(b.buf)
		b.buf = append(b.buf, make([]byte, bytes)...)
		if _, err := io.ReadFull(h.in, b.buf[at:]); err != nil {
			return false, fmt.Errorf("read rows that were set aside: %w", err)
		}
	}
	if h.known == nil {
		return false, nil
	}
	h.known, h.n, h.bytes = nil, 0, 0
	if err := h.file.Truncate(0); err != nil {
		return false, fmt.Errorf("set rows aside: %w", err)
	}
	_, err = h.file.Seek(0, io.SeekStart)
	return false, err
}
