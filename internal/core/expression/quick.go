package expression

import (
	"bytes"
	"cmp"
	"math"
	"regexp"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/overloads"
	"cel.dev/cel-go/common/types"

	"mullein/internal/core/tabular"
)

// Most expressions of a feed compare columns with each other and with constants.
// Those are carried out here, on the values as they are, which takes a tenth of
// the interpreter's time. What it computes, a step computes just as the
// interpreter would; whenever it is not sure of that (a null in an order, a
// number that may overflow, a type that it does not know), it says so, and the
// interpreter is asked for the whole expression.

// scalar is a value on its way through an expression.
type scalar struct {
	what  what
	scale int32 // decimal: digits after the point, at most maxQuickScale
	i     int64 // truth (0 or 1), whole, moment; decimal without its point
	b     []byte
}

type what uint8

const (
	nothing what = iota // null
	truth
	whole
	decimal
	text
	moment // microseconds since 1970
)

const maxQuickScale = 18

var powers = [maxQuickScale + 1]int64{1, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14,
	1e15, 1e16,
	1e17, 1e18}

// step computes a part of an expression. ok is false when it is not sure.
type step func(names []*tabular.Value) (s scalar, ok bool)

// quick makes the step of a checked expression and lists the names that it
// reads. The step is nil where the expression has parts that are left to the
// interpreter.
func quick(checked *cel.Ast) (step, []string) {
	q := &quickener{checked: checked.NativeRep(), literals: literalsOf(checked), numbers: map[string]int{}}
	return q.step(q.checked.Expr()), q.names
}

type quickener struct {
	checked  *ast.AST
	literals map[int64]*number
	names    []string
	numbers  map[string]int
}

func (q *quickener) step(e ast.Expr) step {
	if reference := q.checked.ReferenceMap()[e.ID()]; reference != nil && reference.Name != "" {
		return q.read(reference.Name)
	}
	switch e.Kind() {
	case ast.LiteralKind:
		return q.constant(e)
	case ast.CallKind:
		call := e.AsCall()
		if call.IsMemberFunction() {
			return q.ofText(call)
		}
		return q.call(call)
	}
	return nil
}

func (q *quickener) read(name string) step {
	n, known := q.numbers[name]
	if !known {
		n = len(q.names)
		q.names, q.numbers[name] = append(q.names, name), n
	}
	return func(names []*tabular.Value) (scalar, bool) {
		v := names[n]
		if v == nil {
			return scalar{}, false
		}
		switch v.Kind {
		case tabular.Null:
			return scalar{}, true
		case tabular.Decimal:
			if v.B != nil || v.Odd != tabular.Finite || v.Scale > maxQuickScale {
				return scalar{}, false
			}
			return scalar{what: decimal, scale: v.Scale, i: v.I}, true
		case tabular.Text:
			return scalar{what: text, b: v.B}, true
		case tabular.Integer:
			return scalar{what: whole, i: v.I}, true
		case tabular.Boolean:
			return scalar{what: truth, i: v.I}, true
		case tabular.Instant:
			return scalar{what: moment, i: v.I}, true
		case tabular.Day:
			return scalar{what: moment, i: v.I * 86400_000_000}, true
		}
		return scalar{}, false
	}
}

func (q *quickener) constant(e ast.Expr) step {
	var s scalar
	switch v := e.AsLiteral().(type) {
	case types.Null:
	case types.Bool:
		s = ofTruth(bool(v))
	case types.Int:
		s = scalar{what: whole, i: int64(v)}
	case types.Double:
		var n tabular.Value
		if err := q.literals[e.ID()].into(&n); err != nil || n.B != nil || n.Odd != tabular.Finite ||
			n.Scale > maxQuickScale {
			return nil
		}
		s = scalar{what: decimal, scale: n.Scale, i: n.I}
	case types.String:
		s = scalar{what: text, b: []byte(v)}
	default:
		return nil
	}
	return func([]*tabular.Value) (scalar, bool) { return s, true }
}

func ofTruth(yes bool) scalar {
	if yes {
		return scalar{what: truth, i: 1}
	}
	return scalar{what: truth}
}

func (q *quickener) call(call ast.CallExpr) step {
	if call.FunctionName() == operators.In {
		return q.in(call.Args())
	}
	var args []step
	for _, a := range call.Args() {
		arg := q.step(a)
		if arg == nil {
			return nil
		}
		args = append(args, arg)
	}
	switch name := call.FunctionName(); name {
	case overloads.TypeConvertDyn:
		return args[0]
	case overloads.TypeConvertDouble:
		return func(names []*tabular.Value) (scalar, bool) {
			s, ok := args[0](names)
			sure := ok && (isNumber(s) || s.what == nothing)
			if s.what == whole {
				s.what = decimal
			}
			return s, sure
		}
	case operators.LogicalAnd:
		return decides(args[0], args[1], 0)
	case operators.LogicalOr:
		return decides(args[0], args[1], 1)
	case operators.LogicalNot:
		return func(names []*tabular.Value) (scalar, bool) {
			s, ok := args[0](names)
			return ofTruth(s.i == 0), ok && s.what == truth
		}
	case operators.Conditional:
		return func(names []*tabular.Value) (scalar, bool) {
			s, ok := args[0](names)
			if !ok || s.what != truth {
				return scalar{}, false
			}
			return args[2-s.i](names)
		}
	case operators.Equals, operators.NotEquals:
		return func(names []*tabular.Value) (scalar, bool) {
			a, aOK := args[0](names)
			b, bOK := args[1](names)
			same, ok := equal(a, b)
			return ofTruth(same == (name == operators.Equals)), ok && aOK && bOK
		}
	case operators.Less:
		return ordered(args, func(c int) bool { return c < 0 })
	case operators.LessEquals:
		return ordered(args, func(c int) bool { return c <= 0 })
	case operators.Greater:
		return ordered(args, func(c int) bool { return c > 0 })
	case operators.GreaterEquals:
		return ordered(args, func(c int) bool { return c >= 0 })
	case operators.Add:
		return computed(args, func(a, b scalar) (scalar, bool) { return sum(a, b, b.i) })
	case operators.Subtract:
		return computed(args, func(a, b scalar) (scalar, bool) { return sum(a, b, -b.i) })
	case operators.Multiply:
		return computed(args, product)
	}
	return nil
}

// decides is && (by 0) or || (by 1): the first side that is so decides.
func decides(left, right step, by int64) step {
	return func(names []*tabular.Value) (scalar, bool) {
		a, ok := left(names)
		if !ok || a.what != truth || a.i == by {
			return a, ok && a.what == truth
		}
		b, ok := right(names)
		return b, ok && b.what == truth
	}
}

func ordered(args []step, is func(int) bool) step {
	left, right := args[0], args[1]
	return func(names []*tabular.Value) (scalar, bool) {
		a, aOK := left(names)
		b, bOK := right(names)
		c, ok := order(a, b)
		return ofTruth(is(c)), ok && aOK && bOK
	}
}

// computed is arithmetic of two numbers of which one is a decimal. Two whole ones mean
// something else, texts and times may be added too: those are left to the interpreter.
func computed(args []step, do func(a, b scalar) (scalar, bool)) step {
	left, right := args[0], args[1]
	return func(names []*tabular.Value) (scalar, bool) {
		a, aOK := left(names)
		b, bOK := right(names)
		if !aOK || !bOK || !isNumber(a) || !isNumber(b) || a.what == whole && b.what == whole {
			return scalar{}, false
		}
		return do(a, b)
	}
}

func isNumber(s scalar) bool { return s.what == whole || s.what == decimal }

// sum adds term, which is b's number or its opposite, to a; ok is false where the sum
// may be too large.
func sum(a, b scalar, term int64) (result scalar, ok bool) {
	scale := max(a.scale, b.scale)
	x, xOK := scaled(a.i, scale-a.scale)
	y, yOK := scaled(term, scale-b.scale)
	const most = math.MaxInt64 / 2
	if !xOK || !yOK || x <= -most || x >= most || y <= -most || y >= most {
		return scalar{}, false
	}
	return scalar{what: decimal, scale: scale, i: x + y}, true
}

func product(a, b scalar) (result scalar, ok bool) {
	const most = math.MaxInt32 // whose square is no overflow
	if a.scale+b.scale > maxQuickScale || a.i <= -most || a.i >= most || b.i <= -most || b.i >= most {
		return scalar{}, false
	}
	return scalar{what: decimal, scale: a.scale + b.scale, i: a.i * b.i}, true
}

// scaled returns i with so many zeros behind it; ok is false when it would be too large.
func scaled(i int64, zeros int32) (result int64, ok bool) {
	most := math.MaxInt64 / powers[zeros]
	return i * powers[zeros], i >= -most && i <= most
}

// order compares two values of a kind; ok is false where they have no order.
func order(a, b scalar) (c int, ok bool) {
	switch {
	case isNumber(a) && isNumber(b):
		return compareNumbers(a, b), true
	case a.what != b.what:
		return 0, false
	case a.what == moment:
		return cmp.Compare(a.i, b.i), true
	case a.what == text:
		return bytes.Compare(a.b, b.b), true
	}
	return 0, false
}

func compareNumbers(a, b scalar) int {
	if a.scale > b.scale {
		return -compareNumbers(b, a)
	}
	if x, ok := scaled(a.i, b.scale-a.scale); ok {
		return cmp.Compare(x, b.i)
	}
	return cmp.Compare(a.i, 0) // it is further from zero than any number of the other scale
}

func equal(a, b scalar) (same, ok bool) {
	switch {
	case a.what == nothing || b.what == nothing:
		return a.what == b.what, true
	case a.what == truth && b.what == truth:
		return a.i == b.i, true
	}
	c, ok := order(a, b)
	return c == 0, ok
}

// in looks for a value in a list of constants.
func (q *quickener) in(args []ast.Expr) step {
	if args[1].Kind() != ast.ListKind {
		return nil
	}
	var list []scalar
	for _, e := range args[1].AsList().Elements() {
		if e.Kind() != ast.LiteralKind {
			return nil
		}
		element := q.constant(e)
		if element == nil {
			return nil
		}
		s, _ := element(nil)
		list = append(list, s)
	}
	value := q.step(args[0])
	if value == nil {
		return nil
	}
	return func(names []*tabular.Value) (scalar, bool) {
		s, ok := value(names)
		for _, one := range list {
			same, sure := equal(s, one)
			if !ok || !sure {
				return scalar{}, false
			}
			if same {
				return ofTruth(true), true
			}
		}
		return ofTruth(false), ok
	}
}

// ofText is a question to a text that a constant answers.
func (q *quickener) ofText(call ast.CallExpr) step {
	of := q.step(call.Target())
	if of == nil || len(call.Args()) != 1 || call.Args()[0].Kind() != ast.LiteralKind {
		return nil
	}
	literal, ok := call.Args()[0].AsLiteral().(types.String)
	if !ok {
		return nil
	}
	want := []byte(literal)
	var is func(b []byte) bool
	switch call.FunctionName() {
	case overloads.StartsWith:
		is = func(b []byte) bool { return bytes.HasPrefix(b, want) }
	case overloads.EndsWith:
		is = func(b []byte) bool { return bytes.HasSuffix(b, want) }
	case overloads.Contains:
		is = func(b []byte) bool { return bytes.Contains(b, want) }
	case overloads.Matches:
		pattern, err := regexp.Compile(string(want))
		if err != nil {
			return nil
		}
		is = pattern.Match
	default:
		return nil
	}
	return func(names []*tabular.Value) (scalar, bool) {
		s, ok := of(names)
		return ofTruth(is(s.b)), ok && s.what == text
	}
}

// into returns a scalar as the value of a program.
func (s scalar) into(v *tabular.Value) bool {
	*v = tabular.Value{}
	switch s.what {
	case nothing:
	case truth:
		v.Kind, v.I = tabular.Boolean, s.i
	case whole:
		v.Kind, v.I = tabular.Integer, s.i
	case decimal:
		v.Kind, v.I, v.Scale = tabular.Decimal, s.i, s.scale
	case moment:
		v.Kind, v.I = tabular.Instant, s.i
	case text:
		v.Kind, v.B = tabular.Text, s.b
		return bytes.IndexByte(s.b, 0) < 0
	}
	return true
}
