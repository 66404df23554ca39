package check

import (
	"fmt"
	"regexp"
	"slices"
	"sort"
	"strings"
	"time"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"

	"mullein/internal/core/expression"
	"mullein/internal/core/spelling"
	"mullein/internal/core/tabular"
)

// Check is a statement that must hold, in CEL.
type Check struct {
	Name string
	Must string
	Else Else
}

// Else says what becomes of a row or a delivery that breaks a check.
type Else string

// What may become of it.
const (
	Reject Else = "reject"
	Refuse Else = "refuse"
	Warn   Else = "warn"
)

// Scope says what a check is about.
type Scope string

// What it may be about.
const (
	OfFile     Scope = "file"
	OfRow      Scope = "row"
	OfDelivery Scope = "delivery"
)

// Result is what a check saw.
type Result struct {
	Name   string   `json:"check"`
	Scope  Scope    `json:"scope"`
	Else   Else     `json:"else"`
	Held   bool     `json:"held"`
	Saw    string   `json:"saw"`    // what it looked at and found
	Value  *float64 `json:"value"`  // the number behind it, for its history; null where there is none
	Failed int64    `json:"failed"` // rows that broke it
	// What the value must lie between; null where that is not one number.
	Low  *float64 `json:"low,omitempty"`
	High *float64 `json:"high,omitempty"`
}

// Question is something that a check of a delivery has to be told: this package
// looks at no table and no past.
type Question struct {
	Ask    string // "rows", "last_rows", "usual_rows", "last", or the name of a function over a column
	Column string // or the name of a check, for "last"
	Table  string // of all_in, as schema.table
	Other  string // the column of that table
}

// String names the question as the feed file writes it.
func (q Question) String() string {
	switch {
	case q.Table != "":
		return fmt.Sprintf("%s('%s', '%s', '%s')", q.Ask, q.Column, q.Table, q.Other)
	case q.Column != "":
		return fmt.Sprintf("%s('%s')", q.Ask, q.Column)
	}
	return q.Ask
}

// Answer is what a question is answered with: a Float, a Text, an Instant or a
// Boolean; Null where nobody can know it, as in the first load.
type Answer struct {
	Value tabular.Value
	Note  string // more for people, such as the values that are missing
}

// functions are those over a column, with the kind of what they give: Null
// stands for the kind of the column itself.
var functions = map[string]tabular.Kind{
	"blank_share": tabular.Float, "distinct_count": tabular.Float, "sum": tabular.Float,
	"smallest": tabular.Null, "greatest": tabular.Null, "newest_age": tabular.Clock,
}

// answersOf names the variable that holds answers of a kind.
func answersOf(k tabular.Kind) string {
	switch k {
	case tabular.Integer, tabular.Decimal, tabular.Float:
		return "_numbers"
	case tabular.Instant, tabular.Day:
		return "_times"
	case tabular.Clock:
		return "_spans"
	case tabular.Boolean:
		return "_flags"
	}
	return "_texts"
}

// Program is a compiled check of a delivery.
type Program struct {
	Check     Check
	Questions []Question
	program   cel.Program
	bounds    []bound // of the first answer
}

// compiler collects the questions of one expression.
type compiler struct {
	columns   map[string]tabular.Kind
	checks    []string
	questions []Question
}

var tableName = regexp.MustCompile(`^[^.]+\.[^.]+$`)

// maxLength bounds an expression, in bytes.
const maxLength = 8 << 10

// Compile checks a check of a delivery. columns are those of the staged rows;
// checks are the names of all, which last() may ask for. Errors are of type
// [*expression.SyntaxError].
func Compile(c Check, columns map[string]tabular.Kind, checks []string) (*Program, error) {
	if len(c.Must) > maxLength {
		return nil, &expression.SyntaxError{Line: 1, Column: 1,
			Problem: fmt.Sprintf("an expression of more than %d bytes", maxLength)}
	}
	k := &compiler{columns: columns, checks: checks}
	options := []cel.EnvOption{
		cel.CrossTypeNumericComparisons(true), expression.Functions(),
		cel.Variable("_numbers", cel.MapType(cel.StringType, cel.DoubleType)),
		cel.Variable("_times", cel.MapType(cel.StringType, cel.TimestampType)),
		cel.Variable("_spans", cel.MapType(cel.StringType, cel.DurationType)),
		cel.Variable("_flags", cel.MapType(cel.StringType, cel.BoolType)),
		cel.Variable("_texts", cel.MapType(cel.StringType, cel.StringType)),
		cel.Variable("rows", cel.DoubleType), cel.Variable("last_rows", cel.DoubleType),
		cel.Variable("usual_rows", cel.DoubleType),
		cel.Macros(cel.GlobalMacro("all_in", 3, k.allIn), cel.GlobalMacro("last", 1, k.last)),
	}
	for name := range functions {
		options = append(options, cel.Macros(cel.GlobalMacro(name, 1, k.function(name))))
	}
	env, err := cel.NewEnv(options...)
	if err != nil {
		return nil, fmt.Errorf("check %s: %w", c.Name, err)
	}
	compiled, issues := expression.Check(env, c.Must)
	if err := issues.Err(); err != nil {
		first := issues.Errors()[0]
		return nil, &expression.SyntaxError{Line: max(1, first.Location.Line()), Column: first.Location.Column() + 1,
			Problem: explain(first.Message)}
	}
	if !compiled.OutputType().IsExactType(cel.BoolType) {
		return nil, &expression.SyntaxError{Line: 1, Column: 1,
			Problem: fmt.Sprintf("gives %s; a check must be true or false", compiled.OutputType())}
	}
	for _, name := range []string{"rows", "last_rows", "usual_rows"} {
		if mentions(compiled, name) {
			k.questions = append(k.questions, Question{Ask: name})
		}
	}
	slices.SortStableFunc(k.questions, func(a, b Question) int {
		return strings.Index(c.Must,
			a.Ask) - strings.Index(c.Must, b.Ask)
	})
	program, err := env.Program(compiled, cel.EvalOptions(cel.OptOptimize), expression.Exactly(compiled))
	if err != nil {
		return nil, &expression.SyntaxError{Line: 1, Column: 1, Problem: err.Error()}
	}
	out := &Program{Check: c, Questions: k.questions, program: program}
	if len(k.questions) > 0 {
		out.bounds = boundsOf(env, compiled, k.questions[0])
	}
	return out, nil
}

func mentions(compiled *cel.Ast, name string) bool {
	found := ast.MatchDescendants(ast.NavigateAST(compiled.NativeRep()), func(e ast.NavigableExpr) bool {
		return e.Kind() == ast.IdentKind && e.AsIdent() == name
	})
	return len(found) > 0
}

func explain(message string) string {
	if name, unknown := strings.CutPrefix(message, "undeclared reference to '"); unknown {
		name, _, _ = strings.Cut(name, "'")
		known := []string{"rows", "last_rows", "usual_rows", "all_in", "last"}
		for f := range functions {
			known = append(known, f)
		}
		sort.Strings(known)
		if near := spelling.Nearest(name, known); near != "" {
			return fmt.Sprintf("unknown name %q; did you mean %q?", name, near)
		}
		return fmt.Sprintf("unknown name %q; known are %s", name, strings.Join(known, ", "))
	}
	return message
}

// ask makes a call a look into the answers.
func (k *compiler) ask(f cel.MacroExprFactory, q Question, kind tabular.Kind) ast.Expr {
	if !slices.Contains(k.questions, q) {
		k.questions = append(k.questions, q)
	}
	return f.NewCall(operators.Index, f.NewIdent(answersOf(kind)), f.NewLiteral(types.String(q.String())))
}

// column reads the name of a column.
func (k *compiler) column(f cel.MacroExprFactory, arg ast.Expr) (string, tabular.Kind, *cel.Error) {
	name, err := literal(f, arg)
	if err != nil {
		return "", 0, err
	}
	kind, ok := k.columns[name]
	if !ok {
		var names []string
		for n := range k.columns {
			names = append(names, n)
		}
		sort.Strings(names)
		hint := "; known are " + strings.Join(names, ", ")
		if near := spelling.Nearest(name, names); near != "" {
			hint = fmt.Sprintf("; did you mean %q?", near)
		}
		return "", 0, f.NewError(arg.ID(), fmt.Sprintf("no column %q%s", name, hint))
	}
	return name, kind, nil
}

func literal(f cel.MacroExprFactory, arg ast.Expr) (string, *cel.Error) {
	if arg.Kind() == ast.LiteralKind {
		if s, ok := arg.AsLiteral().(types.String); ok {
			return string(s), nil
		}
	}
	return "", f.NewError(arg.ID(), "a name in quotes is needed here")
}

func (k *compiler) function(ask string) cel.MacroFactory {
	return func(f cel.MacroExprFactory, _ ast.Expr, args []ast.Expr) (ast.Expr, *cel.Error) {
		column, kind, err := k.column(f, args[0])
		if err != nil {
			return nil, err
		}
		numeric := kind == tabular.Integer || kind == tabular.Decimal || kind == tabular.Float
		timed := kind == tabular.Instant || kind == tabular.Day
		switch {
		case ask == "sum" && !numeric:
			return nil, f.NewError(args[0].ID(), fmt.Sprintf("sum is for numbers; %s holds %s", column, kind))
		case ask == "newest_age" && !timed:
			return nil, f.NewError(args[0].ID(), fmt.Sprintf("newest_age is for dates and times; %s holds %s", column,
				kind))
		case functions[ask] == tabular.Null && !numeric && !timed && kind != tabular.Text:
			return nil, f.NewError(args[0].ID(), fmt.Sprintf("%s is for numbers, texts, dates and times; %s holds %s",
				ask, column, kind))
		}
		if gives := functions[ask]; gives != tabular.Null {
			kind = gives
		}
		return k.ask(f, Question{Ask: ask, Column: column}, kind), nil
	}
}

func (k *compiler) allIn(f cel.MacroExprFactory, _ ast.Expr, args []ast.Expr) (ast.Expr, *cel.Error) {
	column, _, err := k.column(f, args[0])
	if err != nil {
		return nil, err
	}
	table, err := literal(f, args[1])
	if err != nil {
		return nil, err
	}
	other, err := literal(f, args[2])
	if err != nil {
		return nil, err
	}
	if !tableName.MatchString(table) || other == "" {
		return nil, f.NewError(args[1].ID(), "all_in takes a column, a table as schema.table, and the column of that "+
			"table")
	}
	return k.ask(f, Question{Ask: "all_in", Column: column, Table: table, Other: other}, tabular.Boolean), nil
}

func (k *compiler) last(f cel.MacroExprFactory, _ ast.Expr, args []ast.Expr) (ast.Expr, *cel.Error) {
	name, err := literal(f, args[0])
	if err != nil {
		return nil, err
	}
	if !slices.Contains(k.checks, name) {
		return nil, f.NewError(args[0].ID(),
			fmt.Sprintf("last asks for the value that a check saw in the load before; there is no check %q", name))
	}
	return k.ask(f, Question{Ask: "last", Column: name}, tabular.Float), nil
}

// Judge answers the check. Where an answer is not to be had, as in the first
// load, the check holds and says so. now is the time for ages.
func (p *Program) Judge(answers map[Question]Answer, now time.Time) (Result, error) {
	out := Result{Name: p.Check.Name, Scope: OfDelivery, Else: p.Check.Else}
	vars := map[string]any{}
	maps := map[string]map[string]any{"_numbers": {}, "_times": {}, "_spans": {}, "_flags": {}, "_texts": {}}
	var saw, unknown []string
	for _, q := range p.Questions {
		a := answers[q]
		v := a.Value
		if v.Kind == tabular.Null {
			unknown = append(unknown, q.String())
			continue
		}
		native, kind := nativeOf(&v), v.Kind
		if q.Ask == "newest_age" {
			age := now.Sub(native.(time.Time)).Round(time.Second)
			native, kind = age, tabular.Clock
			v = tabular.Value{Kind: tabular.Float, X: age.Seconds()}
			saw = append(saw, fmt.Sprintf("%s = %s", q, age))
		} else {
			saw = append(saw, fmt.Sprintf("%s = %s", q, shown(&v)))
		}
		if out.Value == nil {
			if f, ok := number(&v); ok {
				out.Value = &f
			}
		}
		if a.Note != "" {
			saw[len(saw)-1] += " (" + a.Note + ")"
		}
		if q.Column == "" {
			vars[q.Ask] = native
		} else {
			maps[answersOf(kind)][q.String()] = native
		}
	}
	out.Saw = strings.Join(saw, "; ")
	if len(unknown) > 0 {
		out.Held = true
		out.Saw = strings.TrimPrefix(out.Saw+"; "+strings.Join(unknown, ", ")+" not known yet", "; ")
		return out, nil
	}
	for name, m := range maps {
		vars[name] = m
	}
	out.between(p.bounds, vars)
	v, _, err := p.program.Eval(vars)
	if err != nil {
		return out, fmt.Errorf("check %s: %w", p.Check.Name, err)
	}
	out.Held = v == types.True
	if !out.Held {
		out.Failed = 1
	}
	return out, nil
}

// nativeOf is an answer as expressions take it.
func nativeOf(v *tabular.Value) any {
	switch v.Kind {
	case tabular.Integer, tabular.Decimal, tabular.Float:
		return expression.Number(v)
	case tabular.Boolean:
		return v.I != 0
	case tabular.Instant:
		return time.UnixMicro(v.I).UTC()
	case tabular.Day:
		return time.Unix(v.I*86400, 0).UTC()
	}
	return v.String()
}

func shown(v *tabular.Value) string {
	if v.Kind == tabular.Float {
		return strings.TrimSuffix(strings.TrimRight(fmt.Sprintf("%.4f", v.X), "0"), ".")
	}
	return v.String()
}

func number(v *tabular.Value) (float64, bool) {
	switch v.Kind {
	case tabular.Integer, tabular.Decimal, tabular.Float:
		return v.Float64(), true
	case tabular.Boolean:
		return float64(v.I), true
	}
	return 0, false
}
