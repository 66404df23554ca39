package queue

import (
	"context"
	"errors"
	"log/slog"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/settings"
)

// broker hands out messages, and those again that were given back.
type broker struct {
	messages chan string
	away     chan error // what the next calls of Dial fail with
	mu       sync.Mutex
	done     []string
	closed   int
}

func newBroker() *broker {
	return &broker{messages: make(chan string, 10), away: make(chan error, 10)}
}

func (b *broker) dial(context.Context, settings.Queue) (Subscription, error) {
	select {
	case err := <-b.away:
		return nil, err
	default:
		return b, nil
	}
}

func (b *broker) Receive(ctx context.Context) (Message, error) {
	select {
	case <-ctx.Done():
		return Message{}, ctx.Err()
	case text := <-b.messages:
		return Message{Body: []byte(text), Header: func(string) string { return "" }, Again: func() { b.messages <- text }, Done: func() {
			b.mu.Lock()
			defer b.mu.Unlock()
			b.done = append(b.done, text)
		}}, nil
	}
}

func (b *broker) Close(context.Context) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.closed++
	return nil
}

func (b *broker) taken() []string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return append([]string{}, b.done...)
}

// TestMessagesAreTaken reads a queue through a broker that is away at first, and a message that cannot be taken at once.
func TestMessagesAreTaken(t *testing.T) {
	t.Parallel()
	b := newBroker()
	b.away <- errors.New("nobody\nlistens")
	fails := make(chan error, 1)
	fails <- errors.New("the database is away")
	q := New(Options{Dial: b.dial, Log: slog.New(slog.DiscardHandler), Take: func(_ context.Context, text []byte, _ func(string) string) (int, []string, error) {
		select {
		case err := <-fails:
			return 0, nil, err
		default:
		}
		if string(text) == "what" {
			return 0, []string{"it is no message"}, nil
		}
		return 1, nil, nil
	}})
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan struct{})
	go func() { q.Run(ctx); close(ended) }()
	q.Set(map[string]settings.Queue{"lab": {URL: "rabbit://lab"}})
	require.Eventually(t, func() bool { return q.List()[0].Problem == "nobody listens" }, 10*time.Second, time.Millisecond)
	b.messages <- "one"
	b.messages <- "what"
	require.Eventually(t, func() bool { return len(b.taken()) == 2 }, 10*time.Second, time.Millisecond)
	require.Eventually(t, func() bool { return q.List()[0].Messages == 2 }, 10*time.Second, time.Millisecond)
	s := q.List()[0]
	assert.Equal(t, "lab", s.Name)
	assert.Empty(t, s.Problem)
	assert.EqualValues(t, 1, s.Unknown)
	assert.Equal(t, "it is no message", s.LastSaid)
	assert.ElementsMatch(t, []string{"one", "what"}, b.taken(), "the one that failed was handed out again")

	// A queue that is not named any more is not read.
	b.mu.Lock()
	before := b.closed
	b.mu.Unlock()
	q.Set(nil)
	assert.Empty(t, q.List())
	require.Eventually(t, func() bool {
		b.mu.Lock()
		defer b.mu.Unlock()
		return b.closed > before
	}, 10*time.Second, time.Millisecond)
	cancel()
	<-ended
}
