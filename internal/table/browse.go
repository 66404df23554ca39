package table

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

// Rows is a page of a target table.
type Rows struct {
	Table   string
	Key     []string // the columns of its key
	Columns []string
	Rows    [][]any // each value as text, as PostgreSQL writes it, or null
	More    bool    // there are others after these
}

// Condition is what a column must be. The way is one of [Ways].
type Condition struct {
	Column string
	Way    string
	Value  string // as PostgreSQL reads it; none for "empty" and "filled"
}

// Ways are what a condition may ask of a column: a comparison by the column's type, a part of its text in any case of
// letters, or whether it has a value.
var Ways = []string{"=", "!=", "<", "<=", ">", ">=", "contains", "empty", "filled"}

// ParseCondition reads "COLUMN WAY VALUE", such as "level >= 3", of a table with some columns, whose names may have
// spaces.
func ParseCondition(text string, columns []string) (Condition, error) {
	for _, c := range columns {
		rest, ok := strings.CutPrefix(text, c+" ")
		if !ok {
			continue
		}
		way, value, _ := strings.Cut(rest, " ")
		if slices.Contains(Ways, way) {
			return Condition{Column: c, Way: way, Value: value}, nil
		}
	}
	return Condition{}, fmt.Errorf("%q is no condition: write COLUMN WAY VALUE, such as %q; the columns are %s, the ways %s", text,
		columns[0]+" = 5", strings.Join(columns, ", "), strings.Join(Ways, " "))
}

// sql returns the condition on a row t, whose column is of a type, with the value as the parameter n.
func (c Condition) sql(typ string, n int) string {
	column := "t." + quote(c.Column)
	value := fmt.Sprintf("CAST($%d::text AS %s)", n, typ)
	switch c.Way {
	case "contains":
		return fmt.Sprintf("strpos(lower(%s::text), lower($%d)) > 0", column, n)
	case "empty":
		return fmt.Sprintf("(%s IS NULL AND $%d = $%[2]d)", column, n)
	case "filled":
		return fmt.Sprintf("(%s IS NOT NULL AND $%d = $%[2]d)", column, n)
	case "!=":
		return column + " IS DISTINCT FROM " + value
	}
	return column + " " + c.Way + " " + value
}

// Wish says which rows of a table are wanted.
type Wish struct {
	Where     []Condition // all of them hold
	After     []string    // the key of the last row of the page before, column by column; nil for the first page
	Ascending bool        // the smallest keys first, and not the greatest
	Most      int
}

// lookTime bounds how long a page of a table is looked for.
const lookTime = 10 * time.Second

// BadWishError says why a page of rows cannot be asked for.
type BadWishError struct{ Reason string }

func (e *BadWishError) Error() string { return e.Reason }

// Page returns a page of the rows of a table that one wishes for, by their key. A [*BadWishError] says what is wrong
// with the wish, as a value that does not fit a column.
func (d *Database) Page(ctx context.Context, t *Table, w Wish) (*Rows, error) {
	out := &Rows{Table: t.String(), Key: append([]string{}, t.Key...), Columns: []string{}, Rows: [][]any{}}
	types, err := d.columnTypes(ctx, t)
	if err != nil || len(types) == 0 {
		return out, err
	}
	var texts []string
	for _, c := range t.Columns {
		if types[c.Name] != "" {
			out.Columns = append(out.Columns, c.Name)
			texts = append(texts, "t."+quote(c.Name)+"::text")
		}
	}
	where := []string{"true"}
	var args []any
	for _, c := range w.Where {
		if types[c.Column] == "" {
			return nil, &BadWishError{fmt.Sprintf("%s has no column %q; it has %s", t, c.Column, strings.Join(out.Columns, ", "))}
		}
		args = append(args, c.Value)
		where = append(where, c.sql(types[c.Column], len(args)))
	}
	direction, beyond := " DESC", " < "
	if w.Ascending {
		direction, beyond = "", " > "
	}
	if len(w.After) > 0 {
		if len(w.After) != len(t.Key) {
			return nil, &BadWishError{fmt.Sprintf("the key of %s has %d columns (%s); the row after which the page begins has %d", t, len(t.Key),
				strings.Join(t.Key, ", "), len(w.After))}
		}
		var columns, values []string
		for i, k := range t.Key {
			args = append(args, w.After[i])
			columns = append(columns, "t."+quote(k))
			values = append(values, fmt.Sprintf("CAST($%d::text AS %s)", len(args), types[k]))
		}
		where = append(where, "("+strings.Join(columns, ", ")+")"+beyond+"("+strings.Join(values, ", ")+")")
	}
	order := ""
	for i, k := range t.Key {
		order += map[bool]string{true: " ORDER BY ", false: ", "}[i == 0] + "t." + quote(k) + direction
	}
	statement := "SELECT " + strings.Join(texts, ", ") + " FROM " + quote(t.Schema, t.Name) + " t WHERE " + strings.Join(where, " AND ") +
		order + fmt.Sprintf(" LIMIT %d", w.Most+1)
	if err := d.look(ctx, statement, args, out); err != nil {
		return nil, fmt.Errorf("look into %s: %w", t, err)
	}
	if len(out.Rows) > w.Most {
		out.Rows, out.More = out.Rows[:w.Most], true
	}
	return out, nil
}

// columnTypes returns the types of the columns of a table, as PostgreSQL writes them; none where there is no table.
func (d *Database) columnTypes(ctx context.Context, t *Table) (map[string]string, error) {
	rows, err := d.pool.Query(ctx, `SELECT attname, format_type(atttypid, atttypmod) FROM pg_attribute
		WHERE attrelid = to_regclass($1) AND attnum > 0 AND NOT attisdropped`, quote(t.Schema, t.Name))
	if err != nil {
		return nil, fmt.Errorf("look at the columns of %s: %w", t, err)
	}
	types := map[string]string{}
	var name, typ string
	if _, err = pgx.ForEachRow(rows, []any{&name, &typ}, func() error { types[name] = typ; return nil }); err != nil {
		return nil, fmt.Errorf("look at the columns of %s: %w", t, err)
	}
	return types, nil
}

// look reads rows within [lookTime].
func (d *Database) look(ctx context.Context, statement string, args []any, out *Rows) error {
	err := pgx.BeginTxFunc(ctx, d.pool, pgx.TxOptions{AccessMode: pgx.ReadOnly}, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, fmt.Sprintf("SET LOCAL statement_timeout = %d", lookTime.Milliseconds())); err != nil {
			return err
		}
		rows, err := tx.Query(ctx, statement, unprepared(args...)...)
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() {
			values, err := rows.Values()
			if err != nil {
				return err
			}
			out.Rows = append(out.Rows, values)
		}
		return rows.Err()
	})
	var fault *pgconn.PgError
	switch {
	case !errors.As(err, &fault):
		return err
	case fault.Code == "57014":
		return &BadWishError{fmt.Sprintf("it takes longer than %s; ask for a column of the key, or of an index", lookTime)}
	case strings.HasPrefix(fault.Code, "22"), fault.Code == "42883": // a value that is none of the type, a type without that comparison
		return &BadWishError{fault.Message}
	}
	return err
}
