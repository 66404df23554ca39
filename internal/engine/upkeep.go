package engine

import (
	"context"
	"errors"
	"time"

	"mullein/internal/ledger"
	"mullein/internal/table"
)

const (
	// restBetween is how long the keeper of anything rests when there is no more to
	// drop.
	restBetween = 10 * time.Minute
	dropAtOnce  = 1000
)

// dropRecords drops records that are older than they are kept, in small steps.
func (e *Engine) dropRecords(ctx context.Context) {
	for ctx.Err() == nil {
		n, err := e.Ledger.Drop(ctx, e.options.Keep, time.Now(), dropAtOnce)
		if err == nil && n >= dropAtOnce {
			continue
		}
		if err == nil {
			err = errors.Join(e.dropVersions(ctx), e.dropMarkers(ctx))
		}
		if err != nil && ctx.Err() == nil {
			e.Log.Warn("old records could not be dropped; trying again later", "error", err)
		}
		wait(ctx, restBetween)
	}
}

// dropVersions goes once through all arrivals that ended long ago.
func (e *Engine) dropVersions(ctx context.Context) error {
	if e.options.Keep.Arrivals <= 0 {
		return nil
	}
	before := time.Now().Add(-e.options.Keep.Arrivals)
	for after := int64(0); ctx.Err() == nil; {
		upTo, dropped, err := e.Ledger.DropVersions(ctx, before, after, dropAtOnce)
		if err == nil {
			err = e.removeMended(ctx, dropped)
		}
		if err != nil || upTo == 0 {
			return err
		}
		after = upTo
	}
	return ctx.Err()
}

// removeMended removes the files of mended rejects whose records were dropped.
func (e *Engine) removeMended(ctx context.Context, dropped []ledger.Dropped) error {
	var whole error
	for _, d := range dropped {
		w := e.held(d.Feed)
		if d.Mended == "" || w == nil || w.feed == nil {
			continue
		}
		folder, err := e.Landing(ctx, w.feed)
		if err == nil {
			err = folder.RemoveNote(d.Mended)
			folder.Close()
		}
		whole = errors.Join(whole, err)
	}
	return whole
}

// dropMarkers drops markers of loads that are not in force and whose records are
// dropped too by now.
func (e *Engine) dropMarkers(ctx context.Context) error {
	if e.options.Keep.Arrivals <= 0 {
		return nil
	}
	before := time.Now().Add(-e.options.Keep.Arrivals)
	var whole error
	for _, d := range e.Databases.All() {
		if d.Prepare(ctx) != nil {
			continue // no load there is possible either, and is said so
		}
		for n := int64(dropAtOnce); n == dropAtOnce && ctx.Err() == nil; {
			var err error
			n, err = d.DropMarkers(ctx, before, dropAtOnce)
			whole = errors.Join(whole, err)
		}
	}
	return whole
}

// sumTallies sums up, now and then, what changes of arrivals left behind.
func (e *Engine) sumTallies(ctx context.Context) {
	const every, feeds, daysAtOnce = time.Minute, 5000, 20
	for ctx.Err() == nil {
		wait(ctx, every)
		_, err := e.Ledger.SumVolumes(ctx, time.Now(), daysAtOnce, 10*feeds)
		if err = errors.Join(err, e.Ledger.SumTallies(ctx, feeds)); err != nil && ctx.Err() == nil {
			e.Log.Warn("tallies could not be summed up; trying again later", "error", err)
		}
	}
}

// rollupsAtLeast is how often rollups are looked at without being told of a load:
// others may write to the tables that they read.
const rollupsAtLeast = 2 * time.Second

// keepRollups brings rollups in step with what was loaded.
func (e *Engine) keepRollups(ctx context.Context) {
	said, away := "", map[string]bool{}
	for ctx.Err() == nil {
		var whole error
		for name, d := range e.Databases.All() {
			if err := d.Prepare(ctx); err != nil {
				away[name] = true // no load there is possible either, and is said so
				continue
			}
			if away[name] {
				delete(away, name)
				e.wakeAll()
			}
			whole = errors.Join(whole, d.KeepRollups(ctx, func(rollup string, keys int64) error {
				return e.Ledger.RollupComputed(ctx, rollup, keys)
			}))
		}
		if whole != nil && ctx.Err() == nil && whole.Error() != said {
			said = whole.Error()
			e.Log.Warn("rollups could not be kept; trying on", "error", whole)
		}
		select {
		case <-ctx.Done():
		case <-e.touched:
		case <-time.After(rollupsAtLeast):
		}
	}
}

// pruneJournals drops what feeds keep of their loads for too long, in small steps.
func (e *Engine) pruneJournals(ctx context.Context) {
	for ctx.Err() == nil {
		for d, keep := range e.keptSince(func(recall time.Duration) time.Duration { return recall }) {
			e.prune(ctx, "old journals", keep, d.Prune)
		}
		if e.options.Keep.Order > 0 {
			longer := func(recall time.Duration) time.Duration { return max(recall, e.options.Keep.Order) }
			for d, keep := range e.keptSince(longer) {
				e.prune(ctx, "the order of old rows", keep, d.Forget)
			}
		}
		wait(ctx, restBetween)
	}
}

// prune drops in small steps what feeds keep for too long.
func (e *Engine) prune(ctx context.Context, what string, keep map[string]time.Time,
	drop func(context.Context, map[string]time.Time, int) (int64, error)) {
	for n := int64(dropAtOnce); n >= dropAtOnce && ctx.Err() == nil; {
		var err error
		if n, err = drop(ctx, keep, dropAtOnce); err != nil {
			if ctx.Err() == nil {
				e.Log.Warn(what+" could not be dropped; trying again later", "error", err)
			}
			return
		}
	}
}

// keptSince says, of each database, since when something is kept of each feed that this
// service holds, by how long its journal is.
func (e *Engine) keptSince(howLong func(recall time.Duration) time.Duration) map[*table.Database]map[string]time.Time {
	out := map[*table.Database]map[string]time.Time{}
	now := time.Now()
	for _, w := range e.leased() {
		if w.feed == nil {
			continue
		}
		d, err := e.Database(w.feed)
		if err != nil {
			continue // it is said as the feed's problem
		}
		if out[d] == nil {
			out[d] = map[string]time.Time{}
		}
		out[d][w.name] = now.Add(-howLong(w.feed.Target.Recall))
	}
	return out
}
