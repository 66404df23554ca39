package load

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"mullein/internal/core/balance"
	"mullein/internal/core/feed"
	"mullein/internal/ledger"
	"mullein/internal/reading"
	"mullein/internal/table"
)

// told is what reading the file told.
func (p *part) told() ledger.Reading {
	return ledger.Reading{ID: p.arrival.ID, SHA256: p.digest, Columns: p.reading.Header(),
		Rejects: Rejects(p.reading.Rejects()), More: moreRejects(p.reading.More()), Checks: p.results}
}

func moreRejects(of map[reading.Unkept]int64) []ledger.MoreRejects {
	var out []ledger.MoreRejects
	for what, n := range of {
		out = append(out, ledger.MoreRejects{Rule: what.Rule, Column: what.Column, Count: n})
	}
	return out
}

// Complete adds to the balance of the merged rows what reading had counted.
func Complete(b balance.Balance, c reading.Counts) balance.Balance {
	b.Read, b.Rejected, b.LeftOut = c.Read, c.Rejected, c.LeftOut
	return b
}

// Rejects makes records of rejects.
func Rejects(of []reading.Reject) []ledger.Reject {
	out := make([]ledger.Reject, len(of))
	for i, r := range of {
		out[i] = ledger.Reject{Line: r.Line, ColumnName: r.Column, Reason: r.Reason, Value: r.Value,
			Original: r.Original, Rule: r.Rule, MarkFrom: r.MarkFrom, MarkTo: r.MarkTo, Masked: r.Masked}
	}
	return out
}

// from is the file that rows came from. Mended rows came from the file that
// they were rejected of.
func (p *part) from() string {
	if p.arrival.Mends != nil {
		path, _, _ := strings.Cut(p.arrival.Path, MendedMark)
		return path
	}
	return p.arrival.Path
}

// commit is the second half of a load, under the target's lock.
func (l *Attempt) commit(ctx context.Context, load *table.Load, parts []*part) error {
	if err := l.generations(ctx, parts); err != nil {
		return err
	}
	readings := make([]ledger.Reading, len(parts))
	for i, p := range parts {
		readings[i] = p.told()
		readings[i].Generation = p.generation
	}
	// What a group's files told is on record when they end; before that, the
	// markers know it. Only rejects and checks could not be told again.
	if l.streamed(parts) || slices.ContainsFunc(readings,
		func(r ledger.Reading) bool { return len(r.Rejects) > 0 || len(r.Checks) > 0 }) {
		if err := l.env.Ledger.Staged(ctx, readings); err != nil {
			return err
		}
	}
	l.step(parts, StepStaged)
	defer l.tellHolders(ctx, parts)()
	if err := load.Lock(ctx, l.recipe.Feed.Name, l.session.fence); err != nil {
		return err
	}
	l.step(parts, StepLocked)
	files := make([]table.Part, l.n)
	for _, p := range parts {
		files[p.n] = p.into()
	}
	counts, err := load.Merge(ctx, l.run.ID, files)
	if err != nil {
		return l.blame(parts, err)
	}
	l.step(parts, StepMerged)
	markers := make([]table.Marker, len(parts))
	for i, p := range parts {
		p.balance = Complete(counts[p.n], p.reading.Counts())
		if err := p.balance.Err(); err != nil {
			return err
		}
		markers[i] = table.Marker{Feed: l.recipe.Feed.Name, Part: p.n,
			Delivery: table.DeliveryName(p.arrival.Path, p.digest), Generation: p.generation,
			Arrival: p.arrival.ID, Fence: l.session.fence, SHA256: p.digest, Balance: p.balance}
	}
	if err := load.Mark(ctx, markers); err != nil {
		return err
	}
	l.step(parts, StepMarked)
	for _, p := range parts {
		if p.file != nil && !p.file.Unchanged() {
			return &culpritError{p, ErrChanged}
		}
	}
	if err := load.Commit(ctx); err != nil {
		return err
	}
	l.step(parts, StepCommitted)
	return nil
}

// generations counts how often the files whose digests are known only now were loaded.
func (l *Attempt) generations(ctx context.Context, parts []*part) error {
	var open []*part
	var paths []string
	for _, p := range parts {
		if p.generation == 0 {
			open, paths = append(open, p), append(paths, p.arrival.Path)
		}
	}
	if len(open) == 0 {
		return nil
	}
	earlier, err := l.env.Ledger.Earlier(ctx, l.recipe.Feed.Name, paths, nil)
	if err != nil {
		return err
	}
	for _, p := range open {
		p.generation = 1 + earlier.Generations[ledger.GenerationKey(p.arrival.Path, p.digest)]
	}
	return nil
}

// holdersAfter is how long a load takes in the target before it is asked, again
// and again, whether it waits for somebody.
const holdersAfter = time.Second

// tellHolders records whom the load waits for, until it is stopped: in the progress, in
// the ledger, and in the log.
func (l *Attempt) tellHolders(ctx context.Context, parts []*part) (stop func()) {
	ctx, cancel := context.WithCancel(ctx)
	session := l.session.conn
	var told sync.WaitGroup
	told.Go(func() {
		told := ""
		tell := func(ctx context.Context, who string) {
			if who == "" {
				l.progress.waits.Store(nil)
			} else {
				l.progress.waits.Store(&who)
			}
			if who == told {
				return
			}
			told = who
			l.sayWaits(ctx, parts, who)
		}
		defer func() { tell(context.WithoutCancel(ctx), "") }()
		for {
			select {
			case <-ctx.Done():
				return
			case <-time.After(holdersAfter):
			}
			who, err := session.Holders(ctx)
			if err != nil && ctx.Err() == nil {
				l.env.Log.Warn("who holds the target is not known", "feed", l.recipe.Feed.Name, "error", err)
			}
			tell(ctx, who)
		}
	})
	return func() {
		cancel()
		told.Wait()
	}
}

// sayWaits says in the ledger and in the log whom parts wait for; "" for nobody any more.
func (l *Attempt) sayWaits(ctx context.Context, parts []*part, who string) {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	reason, first := "", parts[0].arrival
	table := l.recipe.Table.String()
	if who != "" {
		reason = fmt.Sprintf("waits for %s, who holds %s", who, table)
		l.env.Log.Warn("a load waits", "feed", first.Feed, "arrival", first.ID, "path", first.Path, "table", table,
			"for", who)
	} else {
		l.env.Log.Info("a load waits no more", "feed", first.Feed, "arrival", first.ID, "path", first.Path, "table",
			table)
	}
	arrivals := make([]*ledger.Arrival, len(parts))
	for i, p := range parts {
		arrivals[i] = p.arrival
	}
	if err := l.env.Ledger.Waits(ctx, arrivals, reason); err != nil && ctx.Err() == nil {
		l.env.Log.Warn("what a load waits for is not on record", "feed", first.Feed, "error", err)
	}
}

// streamed reports whether parts are read while they are staged, as larger files
// are.
func (l *Attempt) streamed(parts []*part) bool { return parts[0].content == nil }

// finish records in the ledger what is committed.
func (l *Attempt) finish(ctx context.Context, parts []*part) error {
	endings := make([]ledger.Ending, len(parts))
	for i, p := range parts {
		p.ended, p.committed = true, true
		endings[i] = loadedEnding(l.recipe.Feed, p.arrival, p.balance)
		endings[i].KeyRange = p.reading.KeyRange()
		if p.content != nil {
			endings[i].SHA256, endings[i].Generation = p.digest, p.generation
		}
	}
	after, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	return l.env.Ledger.Finish(after, endings...)
}

// loadedEnding is how an arrival ends that was loaded.
func loadedEnding(f *feed.Feed, a *ledger.Arrival, b balance.Balance) ledger.Ending {
	return ledger.Ending{ID: a.ID, State: ledger.Loaded, Balance: b, Away: away(f, a, ledger.Loaded),
		Replaces: f.Landing.Reissue == feed.ReissueReplace}
}
