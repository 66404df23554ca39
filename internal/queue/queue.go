// Package queue reads queues of messages that say that something new may lie somewhere: nudges. A message that is lost, doubled
// or wrong changes nothing but the time.
//
// How brokers are reached is in package brokers, which the program alone links: its libraries are large. Start at [Queues.Run].
package queue

import (
	"context"
	"log/slog"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"mullein/internal/settings"
)

// Message is a message of a queue.
type Message struct {
	Body   []byte
	Header func(name string) string
	Done   func() // says to the broker that it was taken
	Again  func() // has the broker hand it out again
}

// Subscription is a queue that is read.
type Subscription interface {
	// Receive waits for a message. After an error the subscription is of no use.
	Receive(ctx context.Context) (Message, error)
	Close(ctx context.Context) error
}

// Dial connects to the broker of a queue.
type Dial func(ctx context.Context, q settings.Queue) (Subscription, error)

// Options are what queues need.
type Options struct {
	Dial Dial // nil where the program has none
	// Take takes what a message says, and returns how many nudges there were, and what is known of none of them. An error says
	// that it could not be taken now.
	Take func(ctx context.Context, body []byte, header func(name string) string) (taken int, unknown []string, err error)
	Log  *slog.Logger
}

// State is how a queue does.
type State struct {
	Name     string
	URL      string
	Messages int64 // that came since the service began
	Unknown  int64 // of them, those that are of nothing that is known
	LastAt   time.Time
	LastSaid string // of the last message of nothing that is known: why
	Problem  string // why it is not read now; "" where it is
}

// Queues are the queues that the settings name. They may be used by several goroutines.
type Queues struct {
	Options
	mu      sync.Mutex
	byName  map[string]*one
	changed chan struct{}
}

// one is a queue that is read.
type one struct {
	settings settings.Queue
	state    State
	stop     context.CancelFunc
}

// New makes the queues of none; [Queues.Set] names them.
func New(o Options) *Queues {
	return &Queues{Options: o, byName: map[string]*one{}, changed: make(chan struct{}, 1)}
}

// Set takes up what settings say. Queues that are as they were go on.
func (q *Queues) Set(named map[string]settings.Queue) {
	q.mu.Lock()
	defer q.mu.Unlock()
	for name, is := range q.byName {
		if to, there := named[name]; !there || to != is.settings {
			if is.stop != nil {
				is.stop()
			}
			delete(q.byName, name)
		}
	}
	for name, to := range named {
		if q.byName[name] == nil {
			q.byName[name] = &one{settings: to, state: State{Name: name, URL: to.URL}}
		}
	}
	select {
	case q.changed <- struct{}{}:
	default:
	}
}

// List returns how the queues do, by name.
func (q *Queues) List() (out []State) {
	q.mu.Lock()
	defer q.mu.Unlock()
	for _, name := range slices.Sorted(maps.Keys(q.byName)) {
		out = append(out, q.byName[name].state)
	}
	return out
}

// Run reads the queues until ctx ends.
func (q *Queues) Run(ctx context.Context) {
	var reading sync.WaitGroup
	defer reading.Wait()
	for {
		q.mu.Lock()
		for _, is := range q.byName {
			if is.stop == nil {
				its, stop := context.WithCancel(ctx)
				is.stop = stop
				reading.Go(func() { q.keepReading(its, is) })
			}
		}
		q.mu.Unlock()
		select {
		case <-ctx.Done():
			return
		case <-q.changed:
		}
	}
}

// Pauses before a broker is asked again that was away.
const (
	firstPause = time.Second
	lastPause  = time.Minute
)

// keepReading reads a queue until ctx ends, also when its broker was away.
func (q *Queues) keepReading(ctx context.Context, is *one) {
	pause := firstPause
	for ctx.Err() == nil {
		began := time.Now()
		err := q.read(ctx, is)
		if ctx.Err() != nil {
			return
		}
		if time.Since(began) > lastPause { // it was good for a while
			pause = firstPause
		}
		said := strings.Join(strings.Fields(err.Error()), " ")
		q.mu.Lock()
		again := is.state.Problem == said
		is.state.Problem = said
		q.mu.Unlock()
		if !again {
			q.Log.Warn("a queue is not read", "queue", is.state.Name, "error", said)
		}
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
		pause = min(2*pause, lastPause)
	}
}

// read reads a queue until something goes wrong.
func (q *Queues) read(ctx context.Context, is *one) error {
	s, err := q.Dial(ctx, is.settings)
	if err != nil {
		return err
	}
	defer func() {
		last, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		defer cancel()
		_ = s.Close(last) // the broker hands out again what was not taken
	}()
	q.mu.Lock()
	is.state.Problem = ""
	q.mu.Unlock()
	for {
		m, err := s.Receive(ctx)
		if err != nil {
			return err
		}
		taken, unknown, err := q.Take(ctx, m.Body, m.Header)
		if err != nil {
			m.Again()
			return err
		}
		m.Done()
		q.mu.Lock()
		is.state.Messages++
		is.state.LastAt = time.Now()
		if taken == 0 {
			is.state.Unknown++
			is.state.LastSaid = strings.Join(unknown, "; ")
		}
		q.mu.Unlock()
		if len(unknown) > 0 {
			q.Log.Debug("a message of a queue is of nothing that is known", "queue", is.state.Name, "of", unknown)
		}
	}
}
