package engine

import (
	"context"
	"errors"
	"fmt"

	"mullein/internal/landing"
	"mullein/internal/table"
)

// obstacle is what keeps a feed from working, where it can be seen when it is gone:
// a table that does not fit, a disk that is too full, or a landing that is away.
type obstacle struct {
	database *table.Database // nil where it is not the table
	table    string          // schema.table
	shape    string          // how the table was, as [table.Database.Shapes] says
	room     uint64          // bytes that are to be free; 0 where it is not the disk
	landing  bool            // the landing is away
}

// noRoomError says that a load waits for room on the disk.
type noRoomError struct {
	free, need uint64 // bytes
	where      string // whose disk it is
	size       int64  // bytes of the load
}

func (e *noRoomError) Error() string {
	return fmt.Sprintf("only %d MiB are free on the disk of %s; the next load of %d MiB waits for %d", e.free>>20,
		e.where, e.size>>20, e.need>>20)
}

// obstacleOf says what is to be gone before an error can be; nil where that cannot be
// seen.
func (w *leased) obstacleOf(ctx context.Context, err error) *obstacle {
	var full *noRoomError
	if errors.As(err, &full) {
		return &obstacle{room: full.need}
	}
	var away *landing.AwayError
	if errors.As(err, &away) {
		return &obstacle{landing: true}
	}
	var misfit *table.MisfitError
	if !errors.As(err, &misfit) {
		return nil
	}
	database, err := w.e.Database(w.feed)
	if err != nil {
		return nil
	}
	shapes, err := database.Shapes(ctx, []string{misfit.Table})
	if err != nil {
		return nil
	}
	return &obstacle{database: database, table: misfit.Table, shape: shapes[misfit.Table]}
}

// lookAtObstacles has feeds work whose obstacles are gone. The tables of all feeds are
// looked at in one statement a database.
func (e *Engine) lookAtObstacles(ctx context.Context) error {
	tables := map[*table.Database][]string{}
	for _, w := range e.leased() {
		o := w.obstacle.Load()
		switch {
		case o == nil:
		case o.database != nil:
			tables[o.database] = append(tables[o.database], o.table)
		case o.room > 0 && e.options.Disk != nil:
			if free, _ := e.options.Disk(); free >= o.room {
				e.tryAtOnce(w)
			}
		}
	}
	for database, names := range tables {
		shapes, err := database.Shapes(ctx, names)
		if err != nil {
			return err
		}
		for _, w := range e.leased() {
			if o := w.obstacle.Load(); o != nil && o.database == database && shapes[o.table] != o.shape {
				e.tryAtOnce(w)
			}
		}
	}
	return nil
}

// landingIsBack has a feed work that waits for its landing.
func (e *Engine) landingIsBack(name string) {
	e.mu.Lock()
	w := e.feeds[name]
	e.mu.Unlock()
	if w == nil {
		return
	}
	if o := w.obstacle.Load(); o != nil && o.landing {
		e.tryAtOnce(w)
	}
}

// tryAtOnce has a feed tried at once that waits after a problem.
func (e *Engine) tryAtOnce(w *leased) {
	w.woken.Store(true)
	e.turns.ask(w)
}
