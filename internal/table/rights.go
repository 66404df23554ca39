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

// rollupRole is the role that what people write into rollups works as, where Mullein may
// take it on, or is a superuser and makes it: it sees the tables that a rollup names, and
// nothing else. Elsewhere rollups have the rights of Mullein's own role, as whoever set
// that up chose them.
const rollupRole = "mullein_rollup"

// rollupLimit bounds a computation.
const rollupLimit = time.Hour

// rollupsApart reports whether rollups are computed as a role of their own.
func rollupsApart(ctx context.Context, tx pgx.Tx) (is bool, err error) {
	err = tx.QueryRow(ctx, `SELECT current_setting('is_superuser') = 'on' OR CASE WHEN to_regrole($1) IS NULL THEN false
		ELSE pg_has_role($1, 'MEMBER') END`, rollupRole).Scan(&is)
	if err != nil {
		return false, fmt.Errorf("look at rights: %w", err)
	}
	return is, nil
}

// makeRole makes the role of rollups, and lets it see the tables that one reads. Two who
// do so at once would fail; and as others wait for what was granted, it is best done in a
// short transaction.
func makeRole(ctx context.Context, tx pgx.Tx, r *rollup.Rollup) error {
	statements := []string{
		fmt.Sprintf("SELECT pg_advisory_xact_lock(%d, 0)", rollupSpace), // no rollup has the number 0
		"DO $$ BEGIN IF to_regrole('" + rollupRole + "') IS NULL THEN CREATE ROLE " + rollupRole + ` NOLOGIN; END IF;
			EXCEPTION WHEN duplicate_object OR unique_violation THEN NULL; END $$`,
		"GRANT USAGE, CREATE ON SCHEMA mullein TO " + rollupRole, // it owns the functions that note touched keys
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
	apart, err := rollupsApart(ctx, tx)
	if err != nil {
		return err
	}
	if !apart {
		return compute()
	}
	var given bool
	err = tx.QueryRow(ctx, "SELECT CASE WHEN to_regrole($1) IS NULL THEN false ELSE has_table_privilege($1, $2, "+
		"'INSERT') END", rollupRole,
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
