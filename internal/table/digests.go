package table

import (
	"encoding/binary"
	"fmt"
	"os"
	"sync/atomic"
)

// digestFile is the digests of a target in a temporary file, in the order of its pages:
// 16 bytes each, without their version. One goroutine adds to it while another reads what
// is there. The file has no name, so that it goes with the process.
type digestFile struct {
	file    *os.File
	most    int
	there   atomic.Int64 // how many can be read
	waiting []byte       // to be written
	err     error        // of writing; what follows is not kept
}

const (
	digestBytes = 16
	pageDigests = 4096 // that are written and read at once
)

// newDigestFile makes a file for at most so many digests.
func newDigestFile(most int) (*digestFile, error) {
	file, err := nameless("mullein-digests-")
	if err != nil {
		return nil, fmt.Errorf("keep digests: %w", err)
	}
	return &digestFile{file: file, most: most}, nil
}

// nameless makes a temporary file that has no name any more.
func nameless(prefix string) (*os.File, error) {
	file, err := os.CreateTemp("", prefix)
	if err != nil {
		return nil, err
	}
	return file, os.Remove(file.Name())
}

// full reports whether there was no room for more.
func (f *digestFile) full() bool { return int(f.there.Load()) == f.most }

// add takes digests in, as far as there is room, and reports whether more can be read than
// before.
func (f *digestFile) add(some [][2]uint64) bool {
	some = some[:min(len(some), f.most-int(f.there.Load())-len(f.waiting)/digestBytes)]
	for _, d := range some {
		f.waiting = binary.LittleEndian.AppendUint64(f.waiting, d[0])
		f.waiting = binary.LittleEndian.AppendUint64(f.waiting, d[1])
	}
	if len(f.waiting) < pageDigests*digestBytes {
		return false
	}
	f.flush()
	return true
}

// flush writes what waits.
func (f *digestFile) flush() {
	if f.err != nil || len(f.waiting) == 0 {
		return
	}
	if _, f.err = f.file.WriteAt(f.waiting, f.there.Load()*digestBytes); f.err == nil {
		f.there.Add(int64(len(f.waiting) / digestBytes))
		f.waiting = f.waiting[:0]
	}
}

// read reads digests from a place on, as many as are there and fit.
func (f *digestFile) read(at int, into [][2]uint64, buf []byte) ([][2]uint64, error) {
	into = into[:min(cap(into), int(f.there.Load())-at)]
	buf = buf[:len(into)*digestBytes]
	if _, err := f.file.ReadAt(buf, int64(at)*digestBytes); err != nil {
		return nil, fmt.Errorf("read digests: %w", err)
	}
	for i := range into {
		into[i][0] = binary.LittleEndian.Uint64(buf[i*digestBytes:])
		into[i][1] = binary.LittleEndian.Uint64(buf[i*digestBytes+8:])
	}
	return into, nil
}

// each goes through all digests that are there, piece by piece.
func (f *digestFile) each(take func(at int, some [][2]uint64) error) error {
	page, buf := make([][2]uint64, 0, pageDigests), make([]byte, pageDigests*digestBytes)
	for at := 0; at < int(f.there.Load()); {
		some, err := f.read(at, page, buf)
		if err != nil {
			return err
		}
		if err := take(at, some); err != nil {
			return err
		}
		at += len(some)
	}
	return nil
}

// match looks for some digests among all, and hands on which was found at which place.
// Digests that are the same are each found.
func (f *digestFile) match(asked [][2]uint64, found func(i, at int)) error {
	if len(asked) == 0 {
		return nil
	}
	size := 1 << 10
	for size < 2*len(asked) {
		size *= 2
	}
	index, mask := make([]uint32, size), uint64(size-1) // open addressing: a place in asked, from 1
	for n, d := range asked {
		i := d[0] & mask
		for index[i] != 0 {
			i = (i + 1) & mask
		}
		index[i] = uint32(n + 1)
	}
	return f.each(func(at int, some [][2]uint64) error {
		for n, d := range some {
			for i := d[0] & mask; index[i] != 0; i = (i + 1) & mask {
				if asked[index[i]-1] == d {
					found(int(index[i]-1), at+n)
				}
			}
		}
		return nil
	})
}

// window is a view on digests near the place where the last one was found. Memory that is
// near the processor is read many times as fast as an index of all digests would be.
type window struct {
	all    *digestFile
	coming *coming // nil once it is known that all are there
	next   int     // where the next digest is likely to be
	to     int     // the window has the digests before it
	ring   [][2]uint64
	place  []uint32 // of digests by their hash; where two meet, the later
	page   [][2]uint64
	buf    []byte
}

const (
	windowSize  = 1 << 16 // digests: 1 MiB
	windowAhead = windowSize / 2
)

func newWindow(all *digestFile, c *coming) *window {
	return &window{all: all, coming: c, ring: make([][2]uint64, windowSize), place: make([]uint32, 4*windowSize),
		page: make([][2]uint64, 0, pageDigests), buf: make([]byte, pageDigests*digestBytes)}
}

// find returns the place of a digest that is near. It waits for digests that would be.
func (w *window) find(d [2]uint64) (at int, ok bool, err error) {
	if w.next < w.to && w.ring[w.next%windowSize] == d {
		w.next++
		return w.next - 1, true, nil
	}
	if err := w.fill(w.next + windowAhead); err != nil {
		return 0, false, err
	}
	at = int(w.place[d[0]%uint64(len(w.place))])
	if at >= w.to || at < w.to-windowSize || w.ring[at%windowSize] != d {
		return 0, false, nil
	}
	w.next = at + 1
	return at, true, nil
}

// fill has the window reach up to a place, or the end.
func (w *window) fill(to int) error {
	if w.coming != nil && int(w.all.there.Load()) < to {
		w.wait(to)
	}
	for w.to < min(to, int(w.all.there.Load())) {
		some, err := w.all.read(w.to, w.page, w.buf)
		if err != nil {
			return err
		}
		for _, d := range some {
			w.ring[w.to%windowSize] = d
			w.place[d[0]%uint64(len(w.place))] = uint32(w.to)
			w.to++
		}
	}
	return nil
}

// wait waits until the digests before a place are there, or all.
func (w *window) wait(to int) {
	for w.coming != nil && int(w.all.there.Load()) < to {
		select {
		case <-w.coming.more:
		case <-w.coming.done:
			w.coming = nil
		}
	}
}

// waitAll waits until all digests are there.
func (w *window) waitAll() {
	if w.coming != nil {
		<-w.coming.done
		w.coming = nil
	}
}

// move has the window begin at a place.
func (w *window) move(to int) { w.next, w.to = to, to }
