package table

import (
	"math"
	"math/rand/v2"

	"github.com/zeebo/xxh3"

	"mullein/internal/core/tabular"
)

// winners knows which row counts of each key of a file, up to now, for files
// whose keys fit into memory. A row that loses to an earlier one need not be
// sent; one that was sent and loses to a later one is noted by its line, and
// taken out of the target when all are there. Keys are told apart by 96 bits of a
// hash with a secret of its own; that two of ten million share them comes to
// pass once in 10^15 files.
//
// When there are too many keys, or lines do not tell rows apart, it closes: what
// it knows stays, and the rows to come are held against a filter.
type winners struct {
	slots  []winner // open addressing; a power of two
	newest []int64  // of each slot; nil where the later row wins always
	column int      // of newest, among the values
	used   int
	secret uint64
	lost   []int64 // lines of rows that were sent
	never  int64   // rows that were not even sent
	closed bool
	cut    func(line int64) bool // takes back a row that was not sent yet; false where it was

	// Lines of several files are counted on, from one file to the next.
	before  int64 // the lines of the files before the one at hand
	crossed bool  // a key stood in two files
}

// winner is the row that counts of a key.
type winner struct {
	hash uint64
	more uint32 // of the hash
	line uint32 // 0 in a free slot
}

const (
	fewSlots  = 1 << 16
	mostSlots = 1 << 22 // 64 MiB, and 32 MiB for newest
	mostLost  = 1 << 22 // 32 MiB
)

// newWinners makes a register for the rows of a table, of which at most expected
// will come, and often a quarter. It is closed from the first where they would be too
// many, where newest is not of a kind that is compared as a whole number, or where
// rows bear no line.
func newWinners(t *Table, expected int64) *winners {
	slots := fewSlots
	for slots <= mostSlots && int64(used(slots)) < expected/4 {
		slots *= 2
	}
	w := &winners{secret: rand.Uint64(), column: -1, cut: func(int64) bool { return false }}
	if w.closed = slots > mostSlots || t.Lineage.FromLine == ""; w.closed {
		return w
	}
	w.slots = make([]winner, slots)
	if t.Newest != "" {
		switch w.column = t.index(t.Newest); t.Own[w.column].Kind {
		case tabular.Integer, tabular.Instant, tabular.Day:
			w.newest = make([]int64, slots)
		default:
			w.closed = true
		}
	}
	return w
}

// used is how many of so many slots are used at the most.
func used(slots int) int { return slots / 8 * 7 }

func (w *winners) hash(key []byte) xxh3.Uint128 { return xxh3.Hash128Seed(key, w.secret) }

// enter reports whether a row wins over those that came before it with its key. ok
// is false when the register is closed, and the row is not in it.
func (w *winners) enter(h xxh3.Uint128, values []tabular.Value, line int64, element int) (wins, ok bool) {
	if element > 0 || line <= 0 || line > math.MaxUint32 || len(w.lost) == mostLost || !w.room() {
		w.closed = true
		return false, false
	}
	newest := int64(0)
	if w.newest != nil {
		newest = math.MinInt64 // null is the oldest
		if v := &values[w.column]; v.Kind != tabular.Null {
			newest = max(v.I, math.MinInt64+1)
		}
	}
	i := w.find(h.Hi, uint32(h.Lo))
	slot := &w.slots[i]
	switch {
	case slot.line == 0:
		w.used++
	case int64(slot.line) <= w.before:
		w.crossed = true
		return false, true
	case w.newest != nil && newest < w.newest[i]:
		w.never++
		return false, true
	case w.cut(int64(slot.line)):
		w.never++
	default:
		w.lost = append(w.lost, int64(slot.line))
	}
	*slot = winner{h.Hi, uint32(h.Lo), uint32(line)}
	if w.newest != nil {
		w.newest[i] = newest
	}
	return true, true
}

// repeats is how many rows have lost up to now.
func (w *winners) repeats() int64 { return w.never + int64(len(w.lost)) }

// find returns the slot of a key, or the free one that is its place.
func (w *winners) find(hash uint64, more uint32) uint64 {
	mask := uint64(len(w.slots) - 1)
	i := hash & mask
	for s := &w.slots[i]; s.line != 0 && (s.hash != hash || s.more != more); s = &w.slots[i] {
		i = (i + 1) & mask
	}
	return i
}

// room makes sure that there is a free slot, unless there are too many.
func (w *winners) room() bool {
	if w.used < used(len(w.slots)) {
		return true
	}
	if len(w.slots) == mostSlots {
		return false
	}
	slots, newest := w.slots, w.newest
	w.slots = make([]winner, 2*len(slots))
	if newest != nil {
		w.newest = make([]int64, 2*len(slots))
	}
	for old, s := range slots {
		if s.line == 0 {
			continue
		}
		i := w.find(s.hash, s.more)
		w.slots[i] = s
		if newest != nil {
			w.newest[i] = newest[old]
		}
	}
	return true
}

// filter returns a filter for so many rows that knows all keys up to now.
func (w *winners) filter(expected int64) *filter {
	f := newFilter(expected)
	for _, s := range w.slots {
		if s.line != 0 {
			f.mark(s.hash)
		}
	}
	w.slots, w.newest = nil, nil
	return f
}
