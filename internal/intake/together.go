package intake

import (
	"context"
	"sync"
)

// together makes one call of many that come at a time: while one is under way,
// others gather for the next. Its zero value, with do set, is ready for use.
type together[Q, A any] struct {
	most int // questions of one call
	do   func(ctx context.Context, questions []Q) ([]A, error)

	mu      sync.Mutex
	waiting []*asked[Q, A]
	busy    bool
}

// asked is one caller's questions.
type asked[Q, A any] struct {
	ctx       context.Context
	questions []Q
	answers   []A
	err       error
	done      chan struct{}
}

// ask asks questions and returns an answer for each, in their order.
func (t *together[Q, A]) ask(ctx context.Context, questions ...Q) ([]A, error) {
	if len(questions) == 0 {
		return nil, nil
	}
	one := &asked[Q, A]{ctx: ctx, questions: questions, done: make(chan struct{})}
	t.mu.Lock()
	t.waiting = append(t.waiting, one)
	lead := !t.busy
	t.busy = true
	t.mu.Unlock()
	if lead {
		go t.work()
	}
	<-one.done
	return one.answers, one.err
}

// work calls until nobody waits.
func (t *together[Q, A]) work() {
	for {
		t.mu.Lock()
		if len(t.waiting) == 0 {
			t.busy = false
			t.mu.Unlock()
			return
		}
		n, size := 0, 0
		for n < len(t.waiting) && (n == 0 || size+len(t.waiting[n].questions) <= t.most) {
			size += len(t.waiting[n].questions)
			n++
		}
		batch := t.waiting[:n]
		t.waiting = t.waiting[n:]
		t.mu.Unlock()
		t.call(batch)
	}
}

func (t *together[Q, A]) call(batch []*asked[Q, A]) {
	var questions []Q
	for _, one := range batch {
		questions = append(questions, one.questions...)
	}
	// The call goes on as long as anybody of those waits: it ends when all do.
	ctx, cancel := context.WithCancel(context.WithoutCancel(batch[0].ctx))
	defer cancel()
	left := len(batch)
	var mu sync.Mutex
	for _, one := range batch {
		stop := context.AfterFunc(one.ctx, func() {
			mu.Lock()
			defer mu.Unlock()
			if left--; left == 0 {
				cancel()
			}
		})
		defer stop()
	}
	answers, err := t.do(ctx, questions)
	for _, one := range batch {
		if one.err = err; err == nil {
			one.answers, answers = answers[:len(one.questions)], answers[len(one.questions):]
		}
		close(one.done)
	}
}
