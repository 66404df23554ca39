package engine

import (
	"strings"

	"mullein/internal/core/feed"
	"mullein/internal/ledger"
)

// hearNudges has the landings looked at that nudges are about, of feeds that this service holds.
func (e *Engine) hearNudges(list []ledger.Nudged) {
	for _, w := range e.leased() {
		f := w.feed
		if f == nil {
			continue
		}
		place, folder := "", f.Landing.At
		if f.Landing.IsFar() {
			var err error
			if place, folder, err = e.Places.Where(&f.Landing); err != nil {
				continue // the feed says so
			}
		}
		for i := range list {
			if path, is := nudgedPath(&list[i], f, place, folder); is {
				e.intake.Nudge(f.Name, path)
			}
		}
	}
}

// nudgedPath returns the path below the landing of a feed that a nudge is about. The landing is a folder of a place; of a
// landing root where there is no place.
func nudgedPath(n *ledger.Nudged, f *feed.Feed, place, folder string) (string, bool) {
	switch {
	case n.Feed != "":
		return n.Path, n.Feed == f.Name
	case n.Place != place:
		return "", false
	case folder == ".":
		return n.Path, true
	}
	return strings.CutPrefix(n.Path, folder+"/")
}
