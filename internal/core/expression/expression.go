// Package expression compiles and evaluates the CEL expressions of a feed.
//
// Names such as row.level_m are declared with the types of the feed's own
// columns, so a misspelt column or a comparison of text with a number is found
// when the feed is checked, not when a file comes. Start at [NewScope].
package expression

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"sort"
	"strings"
	"time"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/cost"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/interpreter"

	"mullein/internal/core/spelling"
	"mullein/internal/core/tabular"
)

// Scope holds the names that expressions may use and their types.
type Scope struct {
	kinds map[string]tabular.Kind
	env   *cel.Env
}

// NewScope declares names such as "row.level_m". Those that begin with "row."
// may be null.
func NewScope(kinds map[string]tabular.Kind) (*Scope, error) {
	options := []cel.EnvOption{cel.CrossTypeNumericComparisons(true), Functions()}
	for name, kind := range kinds {
		t := celType(kind)
		if strings.HasPrefix(name, "row.") && (t == cel.StringType || t == cel.IntType || t == cel.DoubleType ||
			t == cel.BoolType || t == cel.TimestampType || t == cel.DurationType) {
			t = cel.NullableType(t)
		}
		options = append(options, cel.Variable(name, t))
	}
	env, err := cel.NewEnv(options...)
	if err != nil {
		return nil, fmt.Errorf("expression names: %w", err)
	}
	return &Scope{kinds: kinds, env: env}, nil
}

func celType(k tabular.Kind) *cel.Type {
	switch k {
	case tabular.Integer:
		return cel.IntType
	case tabular.Decimal, tabular.Float:
		return cel.DoubleType
	case tabular.Boolean:
		return cel.BoolType
	case tabular.Instant, tabular.Day:
		return cel.TimestampType
	case tabular.Clock:
		return cel.DurationType
	}
	return cel.StringType
}

// SyntaxError says what is wrong with an expression and where in it.
type SyntaxError struct {
	Line, Column int // from 1, within the expression
	Problem      string
}

func (e *SyntaxError) Error() string { return e.Problem }

// Program is a compiled expression. It keeps scratch space, so each reader
// needs its own.
type Program struct {
	Kind tabular.Kind // of its values that are not null
	Row  bool         // whether it reads any column; otherwise it is the same for a whole file
	// Reads are the names that it reads, such as "row.level_m", sorted.
	Reads []string

	source  string
	program cel.Program
	reads   []string // the row's columns that it reads
	names   activation

	quick step // nil where all is left to the interpreter
	asks  []string
	bound Values           // to which the following belong
	given []*tabular.Value // what bound gives for asks
}

// maxLength bounds an expression, in bytes.
const maxLength = 8 << 10

// Compile checks an expression and returns its program. Errors are of type
// [*SyntaxError].
func (s *Scope) Compile(source string) (*Program, error) {
	if len(source) > maxLength {
		return nil, &SyntaxError{1, 1, fmt.Sprintf("an expression of more than %d bytes", maxLength)}
	}
	ast, issues := Check(s.env, source)
	if err := issues.Err(); err != nil {
		first := issues.Errors()[0]
		return nil, &SyntaxError{first.Location.Line(), first.Location.Column() + 1, s.explain(first.Message, source)}
	}
	p := &Program{source: source}
	switch t := ast.OutputType(); {
	case isType(t, cel.BoolType):
		p.Kind = tabular.Boolean
	case isType(t, cel.IntType):
		p.Kind = tabular.Integer
	case isType(t, cel.DoubleType):
		p.Kind = tabular.Decimal
	case isType(t, cel.StringType):
		p.Kind = tabular.Text
	case isType(t, cel.TimestampType):
		p.Kind = tabular.Instant
	default:
		return nil, &SyntaxError{1, 1,
			fmt.Sprintf("gives %s; a column can hold bool, int, double, string or timestamp: convert it, as in "+
				"string(...)", t)}
	}
	p.Reads = s.names(ast)
	for _, name := range p.Reads {
		if column, isRow := strings.CutPrefix(name, "row."); isRow {
			p.reads = append(p.reads, column)
		}
	}
	p.Row = len(p.reads) > 0
	cost, err := s.env.EstimateCost(ast, sizes{}, partsOfTexts...)
	if err != nil || cost.Max > maxCost {
		return nil, &SyntaxError{1, 1, fmt.Sprintf("may take more than %d steps a row; make it simpler", maxCost)}
	}
	program, err := s.env.Program(ast, cel.EvalOptions(cel.OptOptimize), Exactly(ast))
	if err != nil {
		return nil, &SyntaxError{1, 1, err.Error()}
	}
	p.program = program
	p.quick, p.asks = quick(ast)
	return p, nil
}

// maxCost bounds what an expression may take for one row, in CEL's own steps.
const maxCost = 1_000_000

// What the estimate takes texts to be, in characters, and to be split into.
const (
	maxText  = 10_000
	maxItems = 50
)

// sizes says to the estimate how long texts are.
type sizes struct{}

var _ cost.Estimator = sizes{}

// EstimateSize returns the length of a text of a row, and how many items a text is split
// into.
func (sizes) EstimateSize(node cost.AstNode) *cost.SizeEstimate {
	if t := node.Type(); t != nil && t.Kind() == types.ListKind {
		return &cost.SizeEstimate{Max: maxItems}
	}
	return &cost.SizeEstimate{Max: maxText}
}

// EstimateCallCost leaves the cost of functions to the library.
func (sizes) EstimateCallCost(string, string, *cost.AstNode, []cost.AstNode) *cost.CallEstimate {
	return nil
}

// partsOfTexts are the costs of functions that cut a text and join it again: the library
// takes each part for as long as the whole.
var partsOfTexts = func() (out []cost.Option) {
	for items, overloads := range map[uint64][]string{maxText: {"list_join", "list_join_string"},
		maxItems: {"string_split_string", "string_split_string_int", "list_string_sort", "list_distinct"}} {
		for _, id := range overloads {
			out = append(out, cost.OverloadCostEstimate(id, func(cost.Estimator, *cost.AstNode,
				[]cost.AstNode) *cost.CallEstimate {
				return &cost.CallEstimate{CostEstimate: cost.Estimate{Max: maxText}, ResultSize: &cost.SizeEstimate{Max: items}}
			}))
		}
	}
	return out
}()

func isType(t, want *cel.Type) bool {
	return t.IsExactType(want) || t.IsExactType(cel.NullableType(want))
}

// names returns the declared names that a checked expression refers to, sorted.
func (s *Scope) names(ast *cel.Ast) []string {
	found := map[string]bool{}
	for _, reference := range ast.NativeRep().ReferenceMap() {
		if s.kinds[reference.Name] != tabular.Null {
			found[reference.Name] = true
		}
	}
	return slices.Sorted(maps.Keys(found))
}

func isNameByte(b byte) bool {
	return b == '_' || b >= '0' && b <= '9' || b >= 'a' && b <= 'z' || b >= 'A' && b <= 'Z'
}

// explain turns the library's words for an unknown name into ours.
func (s *Scope) explain(message, source string) string {
	root, unknown := strings.CutPrefix(message, "undeclared reference to '")
	if !unknown {
		return message
	}
	root, _, _ = strings.Cut(root, "'")
	root, _, _ = strings.Cut(root, ".")
	var names, full []string
	for name := range s.kinds {
		if strings.HasPrefix(name, root+".") {
			names = append(names, name)
		}
	}
	sort.Strings(names)
	for i := 0; i < len(source); i++ {
		if strings.HasPrefix(source[i:], root+".") && (i == 0 || !isNameByte(source[i-1])) {
			end := i + len(root)
			for end < len(source) && (isNameByte(source[end]) || source[end] == '.') {
				end++
			}
			if name := strings.TrimRight(source[i:end], "."); s.kinds[name] == tabular.Null {
				full = append(full, name)
			}
		}
	}
	if len(full) == 0 && strings.Contains(source, root+"(") {
		functions := functionNames(s.env)
		if near := spelling.Nearest(root, functions); near != "" {
			return fmt.Sprintf("unknown function %q; did you mean %q?", root, near)
		}
		return fmt.Sprintf("unknown function %q; known are %s", root, strings.Join(functions, ", "))
	}
	if len(full) == 0 || len(names) == 0 {
		return fmt.Sprintf("unknown name %q; known are row, file, run and feed with their parts, such as "+
			"row.<column>", root)
	}
	if is := meant[full[0]]; s.kinds[is] != tabular.Null {
		return fmt.Sprintf("unknown name %q; did you mean %q?", full[0], is)
	}
	if near := spelling.Nearest(full[0], names); near != "" {
		return fmt.Sprintf("unknown name %q; did you mean %q?", full[0], near)
	}
	return fmt.Sprintf("unknown name %q; known are %s", full[0], strings.Join(names, ", "))
}

// Values hands an expression what it reads. Name "row.level_m" asks for the
// column, and so on; values are tabular's.
type Values interface {
	// Lookup returns the value of a declared name, or nil where there is none. It
	// gives the same pointer each time: what it points to changes from row to
	// row.
	Lookup(name string) *tabular.Value
}

// ErrNull says that the expression could not be computed because a column that
// it reads is null.
var ErrNull = errors.New("a column that it reads is null")

// Eval computes the expression into v. v may point into the values it was
// given, which have to be a pointer. A failure over a null column is [ErrNull].
func (p *Program) Eval(values Values, v *tabular.Value) error {
	if p.quick != nil {
		if p.bound != values {
			p.bound, p.given = values, p.given[:0]
			for _, name := range p.asks {
				p.given = append(p.given, values.Lookup(name))
			}
		}
		if s, ok := p.quick(p.given); ok && s.into(v) {
			return nil
		}
	}
	return p.interpret(values, v)
}

func (p *Program) interpret(values Values, v *tabular.Value) error {
	p.names.values, p.names.known = values, p.names.known[:0]
	out, _, err := p.program.Eval(&p.names)
	if err == nil && types.IsError(out) {
		err = fmt.Errorf("%v", out)
	}
	if err != nil {
		for _, column := range p.reads {
			if in := values.Lookup("row." + column); in == nil || in.Kind == tabular.Null {
				return ErrNull
			}
		}
		return fmt.Errorf("%s: %w", p.source, err)
	}
	return fromCEL(out, v)
}

func fromCEL(out ref.Val, v *tabular.Value) error {
	*v = tabular.Value{}
	switch x := out.(type) {
	case types.Bool:
		v.Kind = tabular.Boolean
		if x {
			v.I = 1
		}
	case types.Int:
		v.Kind, v.I = tabular.Integer, int64(x)
	case *number:
		return x.into(v)
	case types.String:
		if strings.IndexByte(string(x), 0) >= 0 {
			return errors.New("gives a text with a NUL byte")
		}
		v.Kind, v.B = tabular.Text, []byte(x)
	case types.Timestamp:
		v.Kind, v.I = tabular.Instant, x.UnixMicro()
	case types.Null:
	default:
		return fmt.Errorf("gives a value of type %s", out.Type().TypeName())
	}
	return nil
}

// activation hands out values by name. What was asked for once for a row is
// kept for the next time.
type activation struct {
	values Values
	known  []resolved
}

type resolved struct {
	name  string
	value any
}

var _ interpreter.Activation = (*activation)(nil)

// Parent returns none: all names are declared.
func (a *activation) Parent() interpreter.Activation { return nil }

// ResolveName returns the value of a declared name.
func (a *activation) ResolveName(name string) (any, bool) {
	for i := range a.known {
		if a.known[i].name == name {
			return a.known[i].value, true
		}
	}
	value, ok := a.resolve(name)
	if ok {
		a.known = append(a.known, resolved{name, value})
	}
	return value, ok
}

func (a *activation) resolve(name string) (any, bool) {
	v := a.values.Lookup(name)
	if v == nil {
		return nil, false
	}
	switch v.Kind {
	case tabular.Null:
		return types.NullValue, true
	case tabular.Integer:
		return types.Int(v.I), true
	case tabular.Decimal, tabular.Float:
		return Number(v), true
	case tabular.Boolean:
		return types.Bool(v.I != 0), true
	case tabular.Instant:
		return types.Timestamp{Time: time.UnixMicro(v.I).UTC()}, true
	case tabular.Day:
		return types.Timestamp{Time: time.Unix(v.I*86400, 0).UTC()}, true
	case tabular.Clock:
		return types.Duration{Duration: time.Duration(v.I) * time.Microsecond}, true
	}
	return types.String(v.String()), true
}
