package server

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"mullein/internal/api"
	"mullein/internal/core/feed"
	"mullein/internal/core/rollup"
	"mullein/internal/ledger"
	"mullein/internal/table"
)

// RollupPath names a rollup in a path.
type RollupPath struct {
	Rollup string `path:"rollup" maxLength:"63"`
}

func rollupError(err error) error {
	var cannot *table.CannotError
	switch {
	case errors.Is(err, table.ErrNoRollup):
		return fmt.Errorf("%w: %w", err, ledger.ErrNotFound)
	case errors.As(err, &cannot):
		return &ledger.ConflictError{Reason: cannot.Reason}
	}
	return err
}

func (s *Server) rollups(ctx context.Context, _ *struct{}) (*body[api.RollupList], error) {
	list, err := s.target.Rollups(ctx)
	return give(api.RollupList{Items: each(list, rollupStateOf)}, err)
}

// following is which rollups follow which tables, as it was a moment ago.
type following struct {
	mu sync.Mutex
	at time.Time
	of map[string][]string
}

// followingKept is how long it is remembered which rollups follow which tables.
const followingKept = 5 * time.Second

// get returns rollups by the tables that they follow.
func (f *following) get(ctx context.Context, database *table.Database) (map[string][]string, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.of != nil && time.Since(f.at) < followingKept {
		return f.of, nil
	}
	list, err := database.Rollups(ctx)
	if err != nil {
		return nil, err
	}
	f.of, f.at = bySource(list), time.Now()
	return f.of, nil
}

// bySource returns the names of rollups by the tables that they follow.
func bySource(list []table.RollupState) map[string][]string {
	of := map[string][]string{}
	for _, r := range list {
		for _, source := range r.Sources {
			of[source] = append(of[source], r.Name)
		}
	}
	return of
}

// tablesOf returns where the rows of rollups are, by the rollup's name.
func tablesOf(list []table.RollupState) map[string]string {
	of := map[string]string{}
	for _, r := range list {
		of[r.Name] = r.Table
	}
	return of
}

// tablesOfRollups returns where the rows of rollups are, by the rollup's name.
func (s *Server) tablesOfRollups(ctx context.Context) (map[string]string, error) {
	list, err := s.target.Rollups(ctx)
	return tablesOf(list), err
}

func (s *Server) putRollup(ctx context.Context, in *struct {
	RollupPath
	Body api.RollupPut
}) (*body[api.RollupChecked], error) {
	r, err := rollup.Parse(in.Body.File, []byte(in.Body.Definition))
	if err != nil {
		return nil, answer(&ledger.ConflictError{Reason: err.Error()})
	}
	if r.Name != in.Rollup {
		return nil, answer(&ledger.ConflictError{Reason: fmt.Sprintf("the file is of the rollup %q, not of %q",
			r.Name, in.Rollup)})
	}
	if err := s.target.CheckRollup(ctx, r); err != nil {
		return nil, answer(rollupError(err))
	}
	if err := s.hasItsOwnTable(ctx, r); err != nil {
		return nil, answer(err)
	}
	defer s.engine.Touched()
	return give(api.RollupChecked{Rollup: r.Name, Table: r.Table},
		s.target.PutRollup(ctx, r, in.Body.Definition, callerOf(ctx)))
}

// hasItsOwnTable refuses a rollup whose table is that of a feed, or of another rollup.
func (s *Server) hasItsOwnTable(ctx context.Context, r *rollup.Rollup) error {
	feeds, err := s.ledger.FeedsOfTable(ctx, r.Table)
	if err != nil {
		return err
	}
	for _, record := range feeds {
		if f, err := s.definition(ctx, record); err == nil && f.Target.Connection == feed.MainConnection &&
			f.Target.Schema+"."+f.Target.Table == r.Table {
			return &ledger.ConflictError{Reason: fmt.Sprintf("feed %s loads into %s; a rollup needs a table of its "+
				"own", f.Name, r.Table)}
		}
	}
	rollups, err := s.target.Rollups(ctx)
	if err != nil {
		return err
	}
	for _, o := range rollups {
		if o.Table == r.Table && o.Name != r.Name {
			return &ledger.ConflictError{Reason: fmt.Sprintf("rollup %s keeps its rows in %s already", o.Name, r.Table)}
		}
	}
	return nil
}

func (s *Server) removeRollup(ctx context.Context, in *RollupPath) (*struct{}, error) {
	return nil, answer(rollupError(s.target.RemoveRollup(ctx, in.Rollup)))
}

func (s *Server) rebuildRollup(ctx context.Context, in *RollupPath) (*body[api.RollupRebuilt], error) {
	n, err := s.target.RebuildRollup(ctx, in.Rollup)
	if err == nil {
		err = s.ledger.RollupComputed(ctx, in.Rollup, n)
	}
	return give(api.RollupRebuilt{Rows: n}, rollupError(err))
}

func (s *Server) verifyRollup(ctx context.Context, in *RollupPath) (*body[api.RollupVerified], error) {
	v, err := s.target.VerifyRollup(ctx, in.Rollup)
	return giveAs(rollupVerifiedOf)(v, rollupError(err))
}
