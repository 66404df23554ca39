package engine

import (
	"context"
	"runtime"
	"sync"
	"time"

	"golang.org/x/sync/semaphore"
)

// turns lets feeds have their turns, in the order in which they ask, a bounded number
// at a time. A feed has one turn at a time.
type turns struct {
	take   func(*leased) // takes a turn
	places *semaphore.Weighted
	wake   chan struct{}

	mu    sync.Mutex
	queue []*leased
	now   int  // how many feeds have their turn
	spent bool // feeds have had turns since the last rest
}

// turnsAtOnce is how many feeds have their turn at a time. Those that wait for
// something that takes long leave their place to others: see [turns.aside].
var turnsAtOnce = int64(max(4, 2*runtime.NumCPU()))

func newTurns(take func(*leased)) *turns {
	return &turns{take: take, places: semaphore.NewWeighted(turnsAtOnce), wake: make(chan struct{}, 1)}
}

// standing is where a feed stands: it has a turn, waits for one, or neither.
type standing int

const (
	idle standing = iota
	queued
	busy
	busyAgain // it has a turn, and is to have another after it
)

// ask asks for a turn.
func (t *turns) ask(w *leased) {
	t.mu.Lock()
	defer t.mu.Unlock()
	switch w.standing {
	case idle:
		w.standing = queued
		t.queue = append(t.queue, w)
		poke(t.wake)
	case busy:
		w.standing = busyAgain
	}
}

// idle reports whether a feed neither has nor waits for a turn.
func (t *turns) idle(w *leased) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	return w.standing == idle
}

// rest reports whether all turns are over that were taken since the last rest.
func (t *turns) rest() bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.now > 0 || len(t.queue) > 0 || !t.spent {
		return false
	}
	t.spent = false
	return true
}

// run gives turns until ctx ends, and waits for those that are under way.
func (t *turns) run(ctx context.Context) {
	var wg sync.WaitGroup
	defer wg.Wait()
	for {
		if err := t.places.Acquire(ctx, 1); err != nil {
			return
		}
		w := t.next(ctx)
		if w == nil {
			return
		}
		wg.Go(func() {
			defer t.places.Release(1)
			t.take(w)
			t.done(w)
		})
	}
}

// next waits for a feed that asks for a turn; nil when ctx ends.
func (t *turns) next(ctx context.Context) *leased {
	for {
		t.mu.Lock()
		if len(t.queue) > 0 {
			w := t.queue[0]
			t.queue[0] = nil
			t.queue = t.queue[1:]
			w.standing = busy
			t.now++
			t.mu.Unlock()
			return w
		}
		t.mu.Unlock()
		select {
		case <-ctx.Done():
			return nil
		case <-t.wake:
		}
	}
}

func (t *turns) done(w *leased) {
	t.mu.Lock()
	again := w.standing == busyAgain
	w.standing = idle
	t.now--
	t.spent = true
	t.mu.Unlock()
	if w.ctx.Err() != nil {
		w.finish()
	} else if again {
		t.ask(w)
	}
}

// aside does something that waits, while others take the place.
func (t *turns) aside(ctx context.Context, do func() error) error {
	t.places.Release(1)
	err := do()
	if placeErr := t.places.Acquire(context.WithoutCancel(ctx), 1); err == nil {
		err = placeErr
	}
	return err
}

// later asks for a turn at a time.
func (t *turns) later(w *leased, at time.Time) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if w.timer != nil {
		if !at.Before(w.timerAt) && w.timerAt.After(time.Now()) {
			return // an earlier one stands
		}
		w.timer.Stop()
	}
	w.timerAt = at
	w.timer = time.AfterFunc(time.Until(at), func() { t.ask(w) })
}
