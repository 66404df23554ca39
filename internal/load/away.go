package load

import (
	"context"
	"errors"
	"fmt"
	"path"
	"strings"
	"time"

	"mullein/internal/core/feed"
	"mullein/internal/core/filename"
	"mullein/internal/landing"
	"mullein/internal/ledger"
)

// away reports whether an arrival's file is to be put away. Mended rows lie apart
// already.
func away(f *feed.Feed, a *ledger.Arrival, s ledger.State) ledger.Away {
	if a.Mends != nil {
		return ledger.AwayNot
	}
	return AwayOf(f, s)
}

// AwayOf reports whether a file of a feed is to be put away when its arrival ends so.
func AwayOf(f *feed.Feed, s ledger.State) ledger.Away {
	land := &f.Landing
	switch {
	case s == ledger.Refused && land.Quarantine != nil,
		(s == ledger.Loaded || s == ledger.Skipped) && (land.Delete || land.PutAway != nil):
		return ledger.AwayWanted
	}
	return ledger.AwayNot
}

// PutsAway reports whether a feed puts any files away.
func PutsAway(f *feed.Feed) bool {
	return AwayOf(f, ledger.Loaded) == ledger.AwayWanted || AwayOf(f, ledger.Refused) == ledger.AwayWanted
}

// putAwayAtOnce is how many files are put away between two runs.
const putAwayAtOnce = 1000

// PutAway moves the files of loaded arrivals, copies and refused ones out of
// the landing, if the feed says so: only after the commit, and again after a
// crash. Where the landing is away the error is a [*landing.AwayError]; they wait.
func (e *Env) PutAway(ctx context.Context, f *feed.Feed) error {
	if !PutsAway(f) {
		return nil
	}
	waiting, err := e.Ledger.ToPutAway(ctx, f.Name, putAwayAtOnce)
	if err != nil || len(waiting) == 0 {
		return err
	}
	folder, err := e.Landing(ctx, f)
	if errors.As(err, new(*landing.OwnError)) {
		return nil // the feed says so
	}
	if err != nil {
		return err
	}
	defer folder.Close()
	for i := range waiting {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err := e.putAwayOne(ctx, f, folder, &waiting[i]); err != nil {
			return err
		}
	}
	return nil
}

func (e *Env) putAwayOne(ctx context.Context, f *feed.Feed, folder landing.Landing, a *ledger.Arrival) error {
	file := landing.Entry{Path: a.Path, Size: a.Size, Modified: a.Modified.UTC(), Inode: uint64(a.Inode)}
	place, err := folder.PutAway(file, a.ID, placeFor(f, a))
	if errors.Is(err, landing.ErrReplaced) {
		return e.Ledger.PutAway(ctx, a, "", "")
	}
	if err == nil && a.State == ledger.Refused && place != "" {
		err = folder.Note(place+".why.txt", fmt.Sprintf("%s\nfeed %s, arrival %d, refused on %s\n\n%s\n", a.Path,
			a.Feed, a.ID, a.FinishedAt.UTC().Format(time.RFC3339), a.Reason))
	}
	if errors.As(err, new(*landing.AwayError)) {
		return err
	}
	if err != nil {
		e.Log.Warn("a file could not be put away", "feed", f.Name, "arrival", a.ID, "error", err)
		return e.Ledger.PutAway(ctx, a, "", strings.TrimPrefix(a.Reason+"; ", "; ")+"it could not be put away: "+
			err.Error())
	}
	return e.Ledger.PutAway(ctx, a, place, "")
}

// placeFor is where an arrival's file is put, below the landing's root; "" to
// delete it.
func placeFor(f *feed.Feed, a *ledger.Arrival) string {
	land := &f.Landing
	template := land.PutAway
	if a.State == ledger.Refused {
		template = land.Quarantine
	}
	if template == nil {
		return ""
	}
	return PlaceOf(f, template, a.Path, land.Files.Read(a.Captures))
}

// PlaceOf is where a template puts a file of a feed, below the landing's root.
func PlaceOf(f *feed.Feed, template *filename.Template, file string, captures filename.Captures) string {
	to := template.Expand(file, captures, f.Landing.Zone)
	if strings.Contains(template.String(), "{name}") || strings.Contains(template.String(), "{path}") {
		return to
	}
	return path.Join(to, path.Base(file))
}
