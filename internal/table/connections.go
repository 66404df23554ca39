package table

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"maps"
	"sync"
)

// Connections are databases with targets, by name. They may change while they are used.
type Connections struct {
	mu     sync.RWMutex
	byName map[string]opened
}

type opened struct {
	database *Database
	url      string
	sessions int
}

// NewConnections returns connections to databases that are open.
func NewConnections(databases map[string]*Database) *Connections {
	c := &Connections{byName: map[string]opened{}}
	for name, d := range databases {
		c.byName[name] = opened{database: d}
	}
	return c
}

// OpenConnections opens databases by their URLs, with at most so many sessions each.
func OpenConnections(ctx context.Context, urls map[string]string, sessions int) (*Connections, error) {
	c := NewConnections(nil)
	_, err := c.Change(ctx, urls, sessions)
	if err != nil {
		c.Close()
	}
	return c, err
}

// Change makes the connections those of some URLs, and reports whether any is new, gone, or another than it
// was. What is in use of one that goes is ended when it is given back. Those whose URL cannot be read
// stay as they are, and are the error.
func (c *Connections) Change(ctx context.Context, urls map[string]string, sessions int) (changed bool, err error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for name, url := range urls {
		is, there := c.byName[name]
		if there && is.url == url && is.sessions == sessions {
			continue
		}
		d, failed := OpenWith(ctx, url, sessions)
		if failed != nil {
			err = errors.Join(err, fmt.Errorf("connection %s: %w", name, failed))
			continue
		}
		c.byName[name], changed = opened{d, url, sessions}, true
		if there {
			go is.database.Close()
		}
	}
	for name, is := range c.byName {
		if _, wanted := urls[name]; !wanted {
			delete(c.byName, name)
			changed = true
			go is.database.Close()
		}
	}
	return changed, err
}

// Get returns a database; ok is false where there is none of that name.
func (c *Connections) Get(name string) (d *Database, ok bool) {
	c.mu.RLock()
	defer c.mu.RUnlock()
	is, ok := c.byName[name]
	return is.database, ok
}

// All returns the databases by name, as they are now.
func (c *Connections) All() iter.Seq2[string, *Database] {
	c.mu.RLock()
	now := maps.Clone(c.byName)
	c.mu.RUnlock()
	return func(yield func(string, *Database) bool) {
		for name, is := range now {
			if !yield(name, is.database) {
				return
			}
		}
	}
}

// Close ends all connections.
func (c *Connections) Close() {
	for _, d := range c.All() {
		d.Close()
	}
}
