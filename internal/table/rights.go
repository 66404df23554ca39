package table

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"mullein/internal/core/rollup"
)

// rollupRole is the role that what people write into rollups works as, where Mullein
// itself is a superuser: it sees the tables that a rollup names, and no file or program
// of the server. Elsewhere it has the rights of Mullein's own role, as whoever set that
// up chose them.
const rollupRole = "mullein_rollup"

// rollupLimit bounds a computation.
const rollupLimit = time.Hour

func isSuperuser(ctx context.Context, tx pgx.Tx) (is bool, err error) {
	if err = tx.QueryRow(ctx, "SELECT current_setting('is_superuser') = 'on'").Scan(&is); err != nil {
		return false, fmt.Errorf("look at rights: %w", err)
	}
	return is, nil
}

// makeRole makes the role of rollups, and lets it see the tables that one reads.
func makeRole(ctx context.Context, tx pgx.Tx, r *rollup.Rollup) error {
	statements := []string{
		"DO $$ BEGIN CREATE ROLE " + rollupRole + " NOLOGIN; EXCEPTION WHEN duplicate_object OR unique_violation THEN NULL; END $$",
		"GRANT USAGE ON SCHEMA mullein TO " + rollupRole,
		"GRANT SELECT, INSERT, DELETE ON mullein.touched TO " + rollupRole,
	}
	for _, source := range slices.Sorted(maps.Keys(r.From)) {
		schema, _, _ := strings.Cut(source, ".")
		statements = append(statements, "GRANT USAGE ON SCHEMA "+quote(schema)+" TO "+rollupRole,
			"GRANT SELECT ON "+tableOf(source)+" TO "+rollupRole)
	}
	for _, statement := range statements {
		if _, err := tx.Exec(ctx, statement); err != nil {
			return fmt.Errorf("give rights to rollups: %w", err)
		}
	}
	return nil
}

// giveRights lets the role of rollups keep the table of one.
func (s *RollupState) giveRights(ctx context.Context, tx pgx.Tx) error {
	if err := makeRole(ctx, tx, &s.Rollup); err != nil {
		return err
	}
	schema, _, _ := strings.Cut(s.Table, ".")
	for _, statement := range []string{
		"GRANT USAGE ON SCHEMA " + quote(schema) + " TO " + rollupRole,
		"GRANT SELECT, INSERT, UPDATE, DELETE ON " + tableOf(s.Table) + " TO " + rollupRole,
	} {
		if _, err := tx.Exec(ctx, statement); err != nil {
			return fmt.Errorf("give rights to rollups: %w", err)
		}
	}
	return nil
}

// withLittleRight computes something with as little right as can be.
func (s *RollupState) withLittleRight(ctx context.Context, tx pgx.Tx, compute func() error) error {
	if _, err := tx.Exec(ctx, fmt.Sprintf("SET LOCAL statement_timeout = %d", rollupLimit.Milliseconds())); err != nil {
		return err
	}
	super, err := isSuperuser(ctx, tx)
	if err != nil {
		return err
	}
	if !super {
		return compute()
	}
	var given bool
	err = tx.QueryRow(ctx, "SELECT CASE WHEN to_regrole($1) IS NULL THEN false ELSE has_table_privilege($1, $2, 'INSERT') END", rollupRole,
		tableOf(s.Table)).Scan(&given)
	if err == nil && !given {
		err = s.giveRights(ctx, tx)
	}
	if err != nil {
		return err
	}
	if _, err := tx.Exec(ctx, "SET LOCAL ROLE "+rollupRole); err != nil {
		return err
	}
	if err := compute(); err != nil {
		return err
	}
	_, err = tx.Exec(ctx, "RESET ROLE")
	return err
}
