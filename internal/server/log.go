package server

import (
	"context"
	"fmt"
	"log/slog"
	"sync"
	"time"
)

// CountRepeats returns a handler that hands on the first of warnings and errors that
// say the same, and then counts them: each minute one line says how often. Of which
// feed they speak makes no difference, since what stands in the way of one feed often
// stands in the way of all.
func CountRepeats(next slog.Handler) slog.Handler {
	return &counting{next: next, repeats: &repeats{now: time.Now, seen: map[string]*repeat{}}}
}

const (
	// countEvery is how often it is said how often a line came again.
	countEvery = time.Minute
	// linesKnown bounds how many lines are told apart.
	linesKnown = 1000
)

// counting is a [slog.Handler].
type counting struct {
	next    slog.Handler
	repeats *repeats
}

// repeats is what was said lately.
type repeats struct {
	now  func() time.Time
	mu   sync.Mutex
	seen map[string]*repeat
}

// repeat is a line that was said.
type repeat struct {
	since time.Time // when it was handed on last
	more  int       // how often it came again since
}

// Enabled reports whether the handler below takes a level.
func (c *counting) Enabled(ctx context.Context, level slog.Level) bool {
	return c.next.Enabled(ctx, level)
}

// WithAttrs adds attributes.
func (c *counting) WithAttrs(attrs []slog.Attr) slog.Handler {
	return &counting{c.next.WithAttrs(attrs), c.repeats}
}

// WithGroup opens a group.
func (c *counting) WithGroup(name string) slog.Handler {
	return &counting{c.next.WithGroup(name), c.repeats}
}

// Handle hands a line on, or counts it.
func (c *counting) Handle(ctx context.Context, r slog.Record) error {
	if r.Level < slog.LevelWarn {
		return c.next.Handle(ctx, r)
	}
	more, now := c.repeats.count(same(r))
	if !now {
		return nil
	}
	if more > 0 {
		r = r.Clone()
		r.AddAttrs(slog.String("repeated", fmt.Sprintf("the same %d times since it was said last", more)))
	}
	return c.next.Handle(ctx, r)
}

// same is what lines have in common that say the same.
func same(r slog.Record) string {
	key := r.Level.String() + r.Message
	r.Attrs(func(a slog.Attr) bool {
		if a.Key == "error" || a.Key == "problem" {
			key += "\x00" + a.Value.String()
		}
		return true
	})
	return key
}

// count reports whether a line is to be handed on now, and how often it came since it
// was handed on last.
func (r *repeats) count(key string) (more int, handOn bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	now := r.now()
	one := r.seen[key]
	if one == nil {
		if len(r.seen) >= linesKnown {
			for k, old := range r.seen {
				if now.Sub(old.since) >= countEvery {
					delete(r.seen, k)
				}
			}
		}
		if len(r.seen) < linesKnown {
			r.seen[key] = &repeat{since: now}
		}
		return 0, true
	}
	if now.Sub(one.since) < countEvery {
		one.more++
		return 0, false
	}
	more = one.more
	one.since, one.more = now, 0
	return more, true
}
