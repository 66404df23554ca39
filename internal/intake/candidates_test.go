package intake

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"mullein/internal/landing"
)

// lookedAt takes all that are to be looked at now.
func lookedAt(w *candidates) (paths []string) {
	now := time.Now()
	for c := w.next(now); c != nil; c = w.next(now) {
		paths = append(paths, c.entry.Path)
	}
	return paths
}

func TestAnEventLooksAtTheFilesThatItIsAbout(t *testing.T) {
	w := newCandidates(time.Hour)
	var all []string
	for n := range 1000 {
		path := fmt.Sprintf("G_%03d.csv", n)
		all = append(all, path)
		w.add(&candidate{entry: landing.Entry{Path: path}, marker: path + ".done"})
	}
	settles := &candidate{entry: landing.Entry{Path: "list.txt"}}
	w.add(settles)
	assert.Equal(t, all, lookedAt(w), "each once when it comes: its marker may be there")
	assert.Empty(t, lookedAt(w))
	w.happened("G_500.csv.done")
	w.happened("G_500.csv.done")
	w.happened("other")
	assert.Equal(t, []string{"G_500.csv"}, lookedAt(w))
	w.moved(w.byPath["G_007.csv"], landing.Entry{Path: "G_007.csv", Size: 1})
	w.happened("G_008.csv.done")
	w.remove("G_008.csv")
	assert.Equal(t, []string{"G_007.csv"}, lookedAt(w), "one that is not waited for is not looked at")
	assert.Equal(t, 1, w.settling())
	w.askAll()
	assert.ElementsMatch(t, append(all[:8:8], all[9:]...), lookedAt(w), "after a listing, all: an event may be lost")
}

func TestOneThatSettlesIsLookedAtWhenItWasStillLongEnough(t *testing.T) {
	w := newCandidates(time.Hour)
	assert.True(t, w.due().IsZero())
	first, second := &candidate{entry: landing.Entry{Path: "a"}}, &candidate{entry: landing.Entry{Path: "b"}}
	w.add(first)
	w.add(second)
	assert.True(t, w.due().IsZero(), "their wait begins when all have been seen")
	began := time.Now()
	w.rest(began)
	assert.Equal(t, began.Add(time.Hour), w.due())
	assert.Equal(t, first.since, second.since, "seen in one look, whole at one time")
	w.moved(first, landing.Entry{Path: "a", Size: 1})
	w.moved(first, landing.Entry{Path: "a", Size: 2})
	w.rest(began.Add(time.Second))
	assert.Equal(t, second.since.Add(time.Hour), w.due(), "the other one has been still for longer")
	assert.Empty(t, lookedAt(w))
	w.remove("b")
	assert.Equal(t, began.Add(time.Second), first.since)
	assert.Equal(t, first.since.Add(time.Hour), w.due())
	w.settle = 0
	assert.False(t, w.hasNext(began))
	assert.True(t, w.hasNext(began.Add(time.Minute)))
	assert.Equal(t, "a", w.next(began.Add(time.Minute)).entry.Path)
	assert.True(t, w.due().IsZero())
}

// TestAPassEnds: a file that settles at once and cannot be looked at is not looked at
// again in the same pass.
func TestAPassEnds(t *testing.T) {
	w := newCandidates(0)
	w.add(&candidate{entry: landing.Entry{Path: "a"}})
	now, looks := time.Now(), 0
	w.rest(now)
	for c := w.next(now); c != nil && looks < 10; c = w.next(now) {
		looks++
		w.moved(c, c.entry)
		w.rest(time.Now())
	}
	assert.Equal(t, 1, looks)
}
