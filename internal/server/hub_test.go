package server

import (
	"context"
	"fmt"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestTheHubKnowsTheNewestEvents(t *testing.T) {
	h := hub{}
	_, _, ok := h.after(0, func(string) bool { return true })
	assert.False(t, ok, "nothing is known yet")
	h.known, h.from = true, 10
	add := func(from, to int64) {
		var events []sentEvent
		for id := from; id <= to; id += 2 { // numbers may lack
			events = append(events, sentEvent{id: id, text: fmt.Append(nil, id)})
		}
		h.add(events)
	}
	add(12, 16)
	_, _, ok = h.after(9, func(string) bool { return true })
	assert.False(t, ok, "what is older than the hub is read from the ledger")
	texts, last, ok := h.after(10, func(string) bool { return true })
	assert.True(t, ok)
	assert.Equal(t, []string{"12", "14", "16"}, []string{string(texts[0]), string(texts[1]), string(texts[2])})
	assert.EqualValues(t, 16, last)
	texts, last, ok = h.after(20, func(string) bool { return true })
	assert.True(t, ok)
	assert.Empty(t, texts)
	assert.EqualValues(t, 20, last, "a stream may be ahead of the hub")
	add(18, 18+2*hubKept)
	assert.Len(t, h.sent, hubKept)
	_, _, ok = h.after(16, func(string) bool { return true })
	assert.False(t, ok, "what is kept is bounded")
	texts, _, ok = h.after(h.from, func(string) bool { return true })
	assert.True(t, ok)
	assert.Len(t, texts, hubKept)
}

func TestAnAnswerIsNeverOlderThanItsQuestion(t *testing.T) {
	var s shared[int64]
	var now, found atomic.Int64
	var all sync.WaitGroup
	crowd := make(chan struct{})
	for range 200 {
		all.Go(func() {
			asked := now.Add(1)
			if asked == 200 {
				close(crowd)
			}
			got, err := s.get(context.Background(), func(context.Context) (int64, error) {
				found.Add(1)
				if found.Load() == 1 {
					<-crowd // until all have asked
				}
				return now.Load(), nil
			})
			assert.NoError(t, err)
			assert.GreaterOrEqual(t, got, asked)
		})
	}
	all.Wait()
	assert.Less(t, found.Load(), int64(20), "many are answered at once")
	ended, cancel := context.WithCancel(context.Background())
	cancel()
	wait := make(chan struct{})
	_, err := s.get(ended, func(context.Context) (int64, error) { <-wait; return 0, nil })
	assert.ErrorIs(t, err, context.Canceled)
	close(wait)
	assert.Eventually(t, func() bool {
		s.mu.Lock()
		defer s.mu.Unlock()
		return s.running == nil
	}, time.Minute, time.Millisecond)
}
