package load

import (
	"context"

	"mullein/internal/core/feed"
	"mullein/internal/core/history"
	"mullein/internal/ledger"
)

// identify finds out which arrivals are copies or reissues of what is loaded, ends
// those that are not to be loaded, and returns the others. What they are, and what
// becomes of them, is [history.Judge]'s to say.
func (l *Attempt) identify(ctx context.Context, parts []*part) ([]*part, error) {
	var paths, digests []string
	for _, p := range parts {
		paths = append(paths, p.arrival.Path)
		if p.digest != "" {
			digests = append(digests, p.digest)
		}
	}
	earlier, err := l.env.Ledger.Earlier(ctx, l.recipe.Feed.Name, paths, digests)
	if err != nil {
		return nil, err
	}
	var out []*part
	var endings []ledger.Ending
	var read []ledger.Reading
	first := map[string]*part{} // of this attempt, by digest
	for _, p := range parts {
		ending, err := l.identifyOne(ctx, p, earlier)
		if err != nil {
			return nil, err
		}
		if ending == nil && l.copiesPart(p, first[p.digest]) {
			p.original = first[p.digest]
			l.copies = append(l.copies, p)
			continue
		}
		if ending == nil {
			out = append(out, p)
			first[p.digest] = p
			continue
		}
		p.ended = true
		endings = append(endings, *ending)
		read = append(read, ledger.Reading{ID: p.arrival.ID, SHA256: p.digest})
	}
	if len(endings) == 0 {
		return out, nil
	}
	if err := l.env.Ledger.Staged(ctx, read); err != nil {
		return nil, err
	}
	if err := l.env.Ledger.Finish(ctx, endings...); err != nil {
		return nil, err
	}
	for _, p := range parts {
		for _, e := range endings {
			if e.ID == p.arrival.ID && e.State == ledger.Held {
				l.env.NeedsPerson(p.arrival, e.State, e.Reason)
			}
		}
	}
	return out, nil
}

// identifyOne returns how a part ends that is not to be loaded, and notes what one
// that is to be loaded replaces.
func (l *Attempt) identifyOne(ctx context.Context, p *part, earlier ledger.Earlier) (*ledger.Ending, error) {
	a := p.arrival
	if p.generation = a.Generation; p.generation == 0 && p.digest != "" {
		p.generation = 1 + earlier.Generations[ledger.GenerationKey(a.Path, p.digest)]
	}
	if p.again {
		p.replaces = []int64{a.ID}
	}
	known, err := l.knownOf(ctx, p, earlier)
	if err != nil {
		return nil, err
	}
	v := history.Judge(p.identity(), known, l.rules())
	switch v.Action {
	case history.Replace:
		versions, err := l.env.Ledger.LoadedVersions(ctx, a.Feed, a.Path)
		p.replaces = append(p.replaces, versions...)
		return nil, err
	case history.Hold:
		return &ledger.Ending{ID: a.ID, State: ledger.Held, Reason: v.Reason}, nil
	case history.Skip:
		ending := ledger.Ending{ID: a.ID, State: ledger.Skipped, Reason: v.Reason}
		if v.Kind != history.Reissue { // its bytes are loaded
			ending.CopyOf, ending.Away = &v.Of, AwayOf(l.recipe.Feed, ledger.Skipped)
		}
		return &ending, nil
	}
	return nil, nil
}

func (l *Attempt) rules() history.Rules {
	land := &l.recipe.Feed.Landing
	_, adds := l.recipe.Feed.Target.Adds()
	return history.Rules{Reissue: land.Reissue, LoadCopies: land.LoadCopies, Adds: adds}
}

func (p *part) identity() history.File {
	return history.File{ID: p.arrival.ID, Path: p.arrival.Path, Digest: p.digest, Captures: p.arrival.Captures,
		Forced: p.arrival.Forced}
}

func loadedFile(a *ledger.Arrival) history.Loaded {
	return history.Loaded{ID: a.ID, Path: a.Path, Digest: a.SHA256, Captures: a.Captures}
}

// knownOf gathers what the ledger knows of a part. Whether an original is still
// what is loaded is asked only where the part may be a copy of it.
func (l *Attempt) knownOf(ctx context.Context, p *part, earlier ledger.Earlier) (history.Known, error) {
	var known history.Known
	a := p.arrival
	if last, ok := earlier.ByPath[a.Path]; ok {
		of := loadedFile(&last)
		known.Path = &of
		if last.ID != a.ID {
			return known, nil
		}
	}
	for i := range earlier.ByDigest {
		of := loadedFile(&earlier.ByDigest[i])
		if !history.MayBeCopy(p.identity(), of) {
			continue
		}
		still, err := l.env.Ledger.LoadedLast(ctx, &ledger.Arrival{ID: a.ID, Feed: a.Feed, Path: of.Path,
			Captures: a.Captures, Slot: a.Slot})
		if err != nil {
			return known, err
		}
		of.Current = still != nil && still.SHA256 == p.digest
		if of.Current {
			if of.Current, err = l.rowsStand(ctx, &earlier.ByDigest[i], a); err != nil {
				return known, err
			}
		}
		if known.Bytes = append(known.Bytes, of); of.Current {
			break
		}
	}
	return known, nil
}

// rowsStand reports whether what an arrival wrote is as it would be if its copy were
// loaded now: nothing came in between that could have changed its rows, or all of them
// still bear it. Where loading adds, it is not asked: then nothing is loaded twice.
func (l *Attempt) rowsStand(ctx context.Context, of, again *ledger.Arrival) (bool, error) {
	f := l.recipe.Feed
	if _, adds := f.Target.Adds(); adds {
		return true, nil
	}
	since, err := l.env.Ledger.LoadedBetween(ctx, of, again, f.Target.Order == feed.OrderSlot && f.Target.Newest == "")
	if err != nil || !since {
		return err == nil, err
	}
	b := of.Balance
	if f.Target.Mode.Replaces() || f.Target.Absent != feed.AbsentKeep ||
		b.Unchanged+b.Outdated+b.Kept+b.Deleted > 0 {
		return false, nil
	}
	return l.session.conn.RowsStand(ctx, l.recipe.Table, of.ID, b.Inserted+b.Updated)
}

// copiesPart reports whether a part is to be skipped as a copy of another of the
// same attempt, once that is loaded.
func (l *Attempt) copiesPart(p, first *part) bool {
	if first == nil {
		return false
	}
	of := loadedFile(first.arrival)
	of.Digest, of.Current = first.digest, true
	return history.Judge(p.identity(), history.Known{Bytes: []history.Loaded{of}}, l.rules()).Action == history.Skip
}

// skipCopy is how an arrival ends that is a copy of another.
func (l *Attempt) skipCopy(a, of *ledger.Arrival) ledger.Ending {
	return ledger.Ending{ID: a.ID, State: ledger.Skipped, Reason: history.CopyReason(of.ID, of.Path), CopyOf: &of.ID,
		Away: AwayOf(l.recipe.Feed, ledger.Skipped)}
}
