package shapes

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
)

// byHand loads rows as a good engineer writes it by hand: COPY into a temporary table, then one
// INSERT ... ON CONFLICT. It does not read a supplier's file, checks nothing, keeps no journal,
// and writes every row, changed or not. It returns how long it took.
func (m *machine) byHand(ctx context.Context, s Shape, table, path string) (time.Duration, error) {
	key := keyNames(s)
	var sets []string
	for _, c := range columnsOf(s)[len(key):] {
		sets = append(sets, c.name+" = excluded."+c.name)
	}
	for _, c := range []string{"from_file", "from_line", "from_arrival", "loaded_run", "loaded_at", "row_digest"} {
		sets = append(sets, c+" = excluded."+c)
	}
	keys := strings.Join(key, ", ")
	newest := "from_line DESC"
	if s.Order == ByColumn {
		newest = "revision DESC, " + newest
	}
	begin := time.Now()
	tx, err := m.db.Begin(ctx)
	if err != nil {
		return 0, err
	}
	defer func() { _ = tx.Rollback(context.WithoutCancel(ctx)) }() // unless it is committed
	if _, err := tx.Exec(ctx, "CREATE TEMP TABLE incoming (LIKE "+qualified(table)+") ON COMMIT DROP"); err != nil {
		return 0, err
	}
	if err := copyIn(ctx, tx, path); err != nil {
		return 0, err
	}
	where := ""
	if s.Order == ByColumn {
		where = " WHERE t.revision IS NULL OR t.revision <= excluded.revision"
	}
	if _, err := tx.Exec(ctx, "INSERT INTO "+qualified(table)+" AS t SELECT DISTINCT ON ("+keys+") * FROM incoming ORDER BY "+
		keys+", "+newest+" ON CONFLICT ("+keys+") DO UPDATE SET "+strings.Join(sets, ", ")+where); err != nil {
		return 0, fmt.Errorf("load by hand: %w", err)
	}
	if err := tx.Commit(ctx); err != nil {
		return 0, err
	}
	return time.Since(begin), nil
}

func copyIn(ctx context.Context, tx pgx.Tx, path string) error {
	file, err := os.Open(path)
	if err != nil {
		return err
	}
	defer file.Close()
	if _, err = tx.Conn().PgConn().CopyFrom(ctx, bufio.NewReaderSize(file, 1<<20), "COPY incoming FROM STDIN"); err != nil {
		return fmt.Errorf("copy by hand: %w", err)
	}
	return nil
}
