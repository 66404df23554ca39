package table

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"

	"mullein/internal/core/check"
	"mullein/internal/core/tabular"
)

// Answers are the answers to questions about the rows of each part.
type Answers map[int]map[check.Question]check.Answer

// Answer answers questions about the staged rows of each part. Rows that delete their
// key do not count.
func (l *Load) Answer(ctx context.Context, questions []check.Question) (Answers, error) {
	return l.answer(ctx, questions, "s.place >> "+shift)
}

// AnswerTogether answers questions about the staged rows of all parts, as those of
// part 0.
func (l *Load) AnswerTogether(ctx context.Context, questions []check.Question) (Answers, error) {
	return l.answer(ctx, questions, "0")
}

// answer answers questions about the staged rows (s) of which an SQL expression gives
// the same part.
func (l *Load) answer(ctx context.Context, questions []check.Question, part string) (Answers, error) {
	out := Answers{}
	set := func(n int, q check.Question, a check.Answer) {
		if out[n] == nil {
			out[n] = map[check.Question]check.Answer{}
		}
		out[n][q] = a
	}
	var columns []string
	var asked []check.Question
	for _, q := range questions {
		if q.Ask == "all_in" {
			if err := l.allIn(ctx, q, part, set); err != nil {
				return nil, fmt.Errorf("%s: %w", q, err)
			}
			continue
		}
		asked = append(asked, q)
		columns = append(columns, "("+l.aggregate(q)+")::text")
	}
	if len(asked) == 0 {
		return out, nil
	}
	rows, err := l.s.conn.Query(ctx, "SELECT "+part+", ARRAY["+strings.Join(columns, ", ")+"] FROM "+l.stage+
		" s WHERE "+l.notGone()+" GROUP BY 1")
	if err != nil {
		return nil, fmt.Errorf("answer the checks: %w", err)
	}
	var n int
	var texts []*string
	_, err = pgx.ForEachRow(rows, []any{&n, &texts}, func() error {
		for i, q := range asked {
			a := check.Answer{}
			if texts[i] != nil {
				a.Value = l.answered(q, *texts[i])
			}
			set(n, q, a)
		}
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("answer the checks: %w", err)
	}
	return out, nil
}

func (l *Load) notGone() string {
	if l.table.Deletes {
		return "NOT " + isGone
	}
	return "true"
}

// aggregate is the SQL of a question about a column.
func (l *Load) aggregate(q check.Question) string {
	c := l.column(q.Column)
	switch q.Ask {
	case "blank_share":
		return "(count(*) FILTER (WHERE " + c + " IS NULL))::float8 / count(*)"
	case "distinct_count":
		return "count(DISTINCT " + c + ")"
	case "sum":
		return "coalesce(sum(" + c + "), 0)"
	case "smallest":
		return l.ordered("min", q.Column)
	}
	return l.ordered("max", q.Column)
}

func (l *Load) ordered(function, column string) string {
	of := function + "(" + l.column(column) + ")"
	switch l.table.Own[l.table.index(column)].Kind {
	case tabular.Instant:
		return "extract(epoch FROM " + of + ") * 1000000"
	case tabular.Day:
		return of + " - date '1970-01-01'"
	}
	return of
}

// answered reads the text of an answer.
func (l *Load) answered(q check.Question, text string) tabular.Value {
	kind := tabular.Float
	if q.Ask == "sum" {
		kind = tabular.Decimal
	}
	if q.Ask == "smallest" || q.Ask == "greatest" || q.Ask == "newest_age" {
		kind = l.table.Own[l.table.index(q.Column)].Kind
	}
	if kind == tabular.Text {
		return tabular.Value{Kind: tabular.Text, B: []byte(text)}
	}
	var exact tabular.Value
	if kind == tabular.Decimal && tabular.ParseNumber([]byte(text), &exact) == nil {
		return exact
	}
	x, err := strconv.ParseFloat(text, 64)
	if err != nil {
		return tabular.Value{}
	}
	if kind == tabular.Instant || kind == tabular.Day {
		return tabular.Value{Kind: kind, I: int64(x)}
	}
	return tabular.Value{Kind: tabular.Float, X: x}
}

// missingShown is how many values that are not in the other table are named.
const missingShown = 5

// allIn looks for values of a column that another table does not have.
func (l *Load) allIn(ctx context.Context, q check.Question, part string,
	set func(int, check.Question, check.Answer)) error {
	schema, table, _ := strings.Cut(q.Table, ".")
	c := l.column(q.Column)
	rows, err := l.s.conn.Query(ctx, `SELECT p.part, count(DISTINCT m.value),
		coalesce(array_agg(DISTINCT m.value) FILTER (WHERE m.value IS NOT NULL), '{}')
		FROM (SELECT DISTINCT `+part+` AS part FROM `+l.stage+` s) p
		LEFT JOIN (SELECT DISTINCT `+part+` AS part, `+c+`::text AS value FROM `+l.stage+` s WHERE `+l.notGone()+`
		AND `+c+` IS NOT NULL
			AND NOT EXISTS (SELECT 1 FROM `+quote(schema)+"."+quote(table)+` o
			WHERE o.`+quote(q.Other)+` = `+c+`)) m USING (part) GROUP BY 1`)
	if err != nil {
		return err
	}
	var n int
	var missing int64
	var values []string
	_, err = pgx.ForEachRow(rows, []any{&n, &missing, &values}, func() error {
		a := check.Answer{Value: tabular.Value{Kind: tabular.Boolean, I: 1}}
		if missing > 0 {
			a.Value.I = 0
			named := values[:min(len(values), missingShown)]
			a.Note = fmt.Sprintf("%d not in %s: %s", missing, q.Table, strings.Join(named, ", "))
			if len(values) > len(named) {
				a.Note += ", ..."
			}
		}
		set(n, q, a)
		return nil
	})
	return err
}
