package load

import (
	"context"
	"errors"

	"mullein/internal/table"
)

// errApart says that files have to be loaded each by itself.
var errApart = errors.New("the files have to be loaded each by itself")

// firstFiles loads the first files of a feed, each a delivery of its own, in one transaction:
// then the index of their target is built once. Where that is not possible, and where
// anything is wrong with one of them, all are given back, and are to be loaded each by itself.
func (l *Attempt) firstFiles(ctx context.Context, parts []*part) error {
	l.apart = true
	parts, err := l.ready(ctx, parts)
	if err != nil || len(parts) == 0 {
		return err
	}
	for i, p := range parts {
		p.n = i
	}
	l.n = len(parts)
	err = l.tryStream(ctx, parts, func(ctx context.Context, load *table.Load, parts []*part, expected int64) (bool, error) {
		direct, err := l.direct(ctx, load, parts, expected)
		if err == nil && !direct {
			err = errApart
		}
		return false, err
	})
	if err == nil { // copies are looked at again when the originals have ended
		return errors.Join(l.finish(ctx, parts), l.giveBack(ctx, l.copies, nil))
	}
	if ctx.Err() != nil || errors.Is(err, table.ErrFenced) {
		return l.failed(ctx, parts, err)
	}
	l.env.Log.Info("the first files are loaded each by itself", "feed", l.recipe.Feed.Name, "files", len(parts), "why", err)
	return l.giveBack(ctx, append(parts, l.copies...), nil)
}

// copyAmong reports whether one of the parts is a copy of another, or may be: then it depends
// on what becomes of that.
func (l *Attempt) copyAmong(parts []*part) bool {
	first := map[string]*part{}
	for _, p := range parts {
		if l.copiesPart(p, first[p.digest]) {
			return true
		}
		first[p.digest] = p
	}
	return false
}
