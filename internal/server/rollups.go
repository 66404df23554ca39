package server

import (
	"context"
	"errors"
	"fmt"

	"mullein/internal/api"
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
	defer s.engine.Touched()
	return give(api.RollupChecked{Rollup: r.Name, Table: r.Table},
		s.target.PutRollup(ctx, r, in.Body.Definition, callerOf(ctx)))
}

func (s *Server) removeRollup(ctx context.Context, in *RollupPath) (*struct{}, error) {
	return nil, answer(rollupError(s.target.RemoveRollup(ctx, in.Rollup)))
}

func (s *Server) rebuildRollup(ctx context.Context, in *RollupPath) (*body[api.RollupRebuilt], error) {
	n, err := s.target.RebuildRollup(ctx, in.Rollup)
	return give(api.RollupRebuilt{Rows: n}, rollupError(err))
}

func (s *Server) verifyRollup(ctx context.Context, in *RollupPath) (*body[api.RollupVerified], error) {
	v, err := s.target.VerifyRollup(ctx, in.Rollup)
	return giveAs(rollupVerifiedOf)(v, rollupError(err))
}
