package intake

import (
	"time"

	"mullein/internal/landing"
)

// candidate is an arrival that is not ready yet.
type candidate struct {
	id     int64
	entry  landing.Entry
	since  time.Time // still since; by the monotonic clock
	marker string    // the path that says that it is whole; "" where it settles
	asked  bool      // it is to be looked at, whatever time it is
	met    time.Time // when the last listing that saw it began
	named  bool      // somebody said that it is there: it is looked at by itself, wherever it lies
	listed time.Time // when a listing that saw it as it is began; only of landings that are not looked at one by one
}

// candidates are the files that are about to become whole. An event costs a look at
// those that it is about, however many others wait.
type candidates struct {
	settle   time.Duration
	byPath   map[string]*candidate
	byMarker map[string]map[*candidate]struct{}
	restless []*candidate // seen anew, or moved; they rest from the next [candidates.rest]
	resting  []rest       // the longest still first; those that moved since are passed over
	ask      []*candidate // to be looked at in any case
	unlisted []*candidate // may be whole, if the next listing sees them as they are
}

// rest is a time since which a candidate was still.
type rest struct {
	*candidate
	began time.Time
}

func newCandidates(settle time.Duration) *candidates {
	return &candidates{settle: settle, byPath: map[string]*candidate{}, byMarker: map[string]map[*candidate]struct{}{}}
}

// add begins to wait for a file to become whole.
func (w *candidates) add(c *candidate) {
	w.byPath[c.entry.Path] = c
	if c.marker != "" {
		if w.byMarker[c.marker] == nil {
			w.byMarker[c.marker] = map[*candidate]struct{}{}
		}
		w.byMarker[c.marker][c] = struct{}{}
	}
	w.moved(c, c.entry)
}

// moved notes that a candidate changed; its wait begins anew.
func (w *candidates) moved(c *candidate, e landing.Entry) {
	c.entry, c.since = e, time.Time{}
	if c.marker == "" {
		w.restless = append(w.restless, c)
	} else {
		w.askFor(c)
	}
}

// rest begins the wait of those that came or moved. Files that were seen in one look
// rest from the same moment, so that they become whole together and load in order.
func (w *candidates) rest(now time.Time) {
	for _, c := range w.restless {
		if c.since.IsZero() {
			c.since = now
			w.resting = append(w.resting, rest{c, now})
		}
	}
	w.restless = nil
}

// askFor has a candidate looked at next.
func (w *candidates) askFor(c *candidate) {
	if !c.asked {
		c.asked = true
		w.ask = append(w.ask, c)
	}
}

// happened has those looked at that a path is the marker of.
func (w *candidates) happened(path string) {
	for c := range w.byMarker[path] {
		w.askFor(c)
	}
}

// askAll has all looked at that wait for a marker: an event may have been lost.
func (w *candidates) askAll() {
	for _, of := range w.byMarker {
		for c := range of {
			w.askFor(c)
		}
	}
}

// listedAnew has those looked at that waited for a listing.
func (w *candidates) listedAnew() {
	for _, c := range w.unlisted {
		w.askFor(c)
	}
	w.unlisted = nil
}

// next takes a candidate that is to be looked at by now; nil for none. One that moves
// later is not among them, so that a pass over all ends, whatever the settling time.
func (w *candidates) next(now time.Time) *candidate {
	for len(w.ask) > 0 {
		c := w.ask[0]
		w.ask = w.ask[1:]
		c.asked = false
		if w.byPath[c.entry.Path] == c {
			return c
		}
	}
	if w.hasNext(now) {
		c := w.resting[0].candidate
		w.resting = w.resting[1:]
		return c
	}
	return nil
}

// hasNext reports whether there is one that is to be looked at by now.
func (w *candidates) hasNext(now time.Time) bool {
	at := w.due()
	return len(w.ask) > 0 || !at.IsZero() && !at.After(now)
}

// due returns when the next one that settles may be whole; zero for none.
func (w *candidates) due() time.Time {
	for ; len(w.resting) > 0; w.resting = w.resting[1:] {
		if r := w.resting[0]; r.since.Equal(r.began) && w.byPath[r.entry.Path] == r.candidate {
			return r.began.Add(w.settle)
		}
	}
	return time.Time{}
}

// remove ends the wait for a file.
func (w *candidates) remove(path string) {
	c := w.byPath[path]
	if c == nil {
		return
	}
	delete(w.byPath, path)
	if delete(w.byMarker[c.marker], c); len(w.byMarker[c.marker]) == 0 {
		delete(w.byMarker, c.marker)
	}
}

// settling counts those that become whole by themselves; those that wait for a marker
// may do so for ever.
func (w *candidates) settling() int {
	n := len(w.byPath)
	for _, of := range w.byMarker {
		n -= len(of)
	}
	return n
}
