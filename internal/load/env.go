package load

import (
	"context"
	"fmt"
	"log/slog"
	"strings"

	"mullein/internal/core/feed"
	"mullein/internal/landing"
	"mullein/internal/ledger"
	"mullein/internal/table"
)

// Env is what loads work with: the records, the databases of the targets, the
// landing roots. It is made once for a service.
type Env struct {
	Ledger    *ledger.Ledger
	Databases *table.Connections // of targets; [feed.MainConnection] is among them
	Roots     []string           // landing roots
	Places    Places             // outside of this machine
	Guard     *landing.Guard     // keeps the service's own files out of landings
	Service   string             // this service's name, for people
	// AddedColumns is how many columns a file may add to its target.
	AddedColumns int
	Log          *slog.Logger
	OnStep       func(feed string, arrival int64, step Step) // may be nil; called in the middle of the work

	Progress *Progresses
}

// Database returns the database of a feed's target.
func (e *Env) Database(f *feed.Feed) (*table.Database, error) {
	if d, ok := e.Databases.Get(f.Target.Connection); ok {
		return d, nil
	}
	return nil, fmt.Errorf("the service knows no connection %q; name it under connections in its settings, or start it with "+
		"--connection %[1]s=postgres://..., or MULLEIN_CONNECTION_%s", f.Target.Connection,
		strings.ToUpper(strings.ReplaceAll(f.Target.Connection, "-", "_")))
}

// Places are the places outside of this machine that the service knows.
type Places interface {
	// Landing opens the landing of a feed, for as long as ctx lasts.
	Landing(ctx context.Context, f *feed.Feed) (landing.Landing, error)
	// Where returns the name of the place that a landing is at, and the folder below it.
	Where(l *feed.Landing) (name, folder string, err error)
}

// Landing opens the landing of a feed, for as long as ctx lasts where it is outside of this machine.
func (e *Env) Landing(ctx context.Context, f *feed.Feed) (landing.Landing, error) {
	if f.Landing.IsFar() {
		return e.Places.Landing(ctx, f)
	}
	folder, err := landing.Open(e.Roots, f.Landing.At)
	if err != nil {
		return nil, err
	}
	if err := e.Guard.Check(folder); err != nil {
		folder.Close()
		return nil, err
	}
	folder.Zips = f.Landing.InZip()
	return folder, nil
}
