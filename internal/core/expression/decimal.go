package expression

import (
	"fmt"
	"math"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/overloads"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"
	"cel.dev/cel-go/interpreter"
	"github.com/cockroachdb/apd/v3"

	"mullein/internal/core/tabular"
)

// What CEL calls double is a decimal number here, so that 3 * 0.1 is 0.3. Sums,
// differences and products are exact; a quotient has [quotientDigits] significant
// digits, as decimal128 of IEEE 754 has, and half is rounded to even. Whole numbers
// mix with decimals. The checker sees doubles; [Exactly] makes the interpreter
// compute with number instead.

const (
	quotientDigits = 34
	// maxDigits bounds what sums and products may become.
	maxDigits = 1000
	// maxScale is how many digits after the point PostgreSQL's numeric has at most.
	maxScale = 16383
)

var (
	exactly = apd.Context{Precision: maxDigits, MaxExponent: maxScale, MinExponent: -maxScale,
		Rounding: apd.RoundHalfEven,
		Traps:    apd.DefaultTraps | apd.Inexact}
	quotients = apd.Context{Precision: quotientDigits, MaxExponent: maxScale, MinExponent: -maxScale,
		Rounding: apd.RoundHalfEven, Traps: apd.DefaultTraps}
)

// number is a decimal number in an expression. To the checker it is a double.
type number struct{ apd.Decimal }

var (
	_ ref.Val           = (*number)(nil)
	_ traits.Adder      = (*number)(nil)
	_ traits.Subtractor = (*number)(nil)
	_ traits.Multiplier = (*number)(nil)
	_ traits.Divider    = (*number)(nil)
	_ traits.Negater    = (*number)(nil)
	_ traits.Comparer   = (*number)(nil)
)

// Mixed declares the arithmetic of whole numbers with decimals.
func Mixed() cel.EnvOption {
	var options []cel.EnvOption
	for _, o := range []struct{ operator, name string }{
		{operators.Add, "add"}, {operators.Subtract, "subtract"}, {operators.Multiply, "multiply"},
		{operators.Divide, "divide"},
	} {
		options = append(options, cel.Function(o.operator,
			cel.Overload(o.name+"_int64_double", []*cel.Type{cel.IntType, cel.DoubleType}, cel.DoubleType),
			cel.Overload(o.name+"_double_int64", []*cel.Type{cel.DoubleType, cel.IntType}, cel.DoubleType)))
	}
	return together(options...)
}

// Check parses and checks an expression. Where whole numbers meet decimals in an equality,
// in a list, or as the two ends of a condition, it makes them of one type.
func Check(env *cel.Env, source string) (*cel.Ast, *cel.Issues) {
	parsed, issues := env.Parse(source)
	if issues.Err() != nil {
		return nil, issues
	}
	for {
		checked, issues := env.Check(parsed)
		if issues.Err() == nil && mixLists(parsed.NativeRep(), checked) {
			continue
		}
		if issues.Err() == nil || !mix(parsed.NativeRep(), issues) {
			return checked, issues
		}
	}
}

// mixLists makes the numbers of a list decimals of which the least or the greatest is asked,
// where whole numbers and decimals are among them. It reports whether there was one.
func mixLists(parsed *ast.AST, checked *cel.Ast) (mended bool) {
	factory, last := ast.NewExprFactory(), ast.MaxID(parsed)
	ast.PostOrderVisit(parsed.Expr(), ast.NewExprVisitor(func(e ast.Expr) {
		if e.Kind() != ast.CallKind || !slices.Contains([]string{"math.@min", "math.@max"}, e.AsCall().FunctionName()) ||
			len(e.AsCall().Args()) != 1 || e.AsCall().Args()[0].Kind() != ast.ListKind {
			return
		}
		list := e.AsCall().Args()[0]
		t := checked.NativeRep().GetType(list.ID())
		if len(t.Parameters()) != 1 || t.Parameters()[0].Kind() != types.DynKind {
			return
		}
		var items []ast.Expr
		for _, item := range list.AsList().Elements() {
			if item.Kind() != ast.CallKind || item.AsCall().FunctionName() != overloads.TypeConvertDouble {
				last++
				mended = true
				item = factory.NewCall(last, overloads.TypeConvertDouble, item)
			}
			items = append(items, item)
		}
		list.SetKindCase(factory.NewList(list.ID(), items, nil))
	}))
	return mended
}

var mixed = regexp.MustCompile(`^found no matching overload for '(_==_|_!=_|@in|_\?_:_)' applied to '\((.*)\)'`)

// mix mends the calls that issues are about because they mix whole numbers with
// decimals, and reports whether there were any.
func mix(parsed *ast.AST, issues *cel.Issues) (mended bool) {
	faulty := map[int64]bool{}
	for _, e := range issues.Errors() {
		found := mixed.FindStringSubmatch(e.Message)
		if found != nil && strings.Contains(found[2], "int") && strings.Contains(found[2], "double") {
			faulty[e.ExprID] = true
		}
	}
	factory, last := ast.NewExprFactory(), ast.MaxID(parsed)
	convert := func(e ast.Expr, function string) ast.Expr {
		last++
		mended = true
		return factory.NewCall(last, function, e)
	}
	var calls []ast.Expr
	ast.PostOrderVisit(parsed.Expr(), ast.NewExprVisitor(func(e ast.Expr) {
		if e.Kind() == ast.CallKind && faulty[e.ID()] {
			calls = append(calls, e)
		}
	}))
	for _, e := range calls {
		args := slices.Clone(e.AsCall().Args())
		if e.AsCall().FunctionName() != operators.Conditional {
			args[0] = convert(args[0], overloads.TypeConvertDyn)
		} else {
			for i, arg := range args[1:] {
				if arg.Kind() != ast.CallKind || arg.AsCall().FunctionName() != overloads.TypeConvertDouble {
					args[1+i] = convert(arg, overloads.TypeConvertDouble)
				}
			}
		}
		e.SetKindCase(factory.NewCall(e.ID(), e.AsCall().FunctionName(), args...))
	}
	return mended
}

// Exactly makes a program compute in decimals. Its variables of type double have to be
// given as [Number].
func Exactly(checked *cel.Ast) cel.ProgramOption {
	literals := literalsOf(checked)
	return cel.CustomDecoratorV2(func(i interpreter.InterpretableV2) (interpreter.InterpretableV2, error) {
		switch i := i.(type) {
		case interpreter.InterpretableConst:
			if d, ok := i.Value().(types.Double); ok {
				if n := literals[i.ID()]; n != nil {
					return interpreter.NewConstValue(i.ID(), n), nil
				}
				return interpreter.NewConstValue(i.ID(), ofFloat(float64(d))), nil
			}
		case interpreter.InterpretableCall:
			if do := functionOf(i.Function()); do != nil {
				return interpreter.NewCall(i.ID(), i.Function(), "", i.Args(), do), nil
			}
		}
		return i, nil
	})
}

// literalsOf returns the decimal literals of an expression by their nodes, with all the
// digits that were written, which a float may not hold.
func literalsOf(checked *cel.Ast) map[int64]*number {
	source, info := []rune(checked.Source().Content()), checked.NativeRep().SourceInfo()
	literals := map[int64]*number{}
	ast.PostOrderVisit(checked.NativeRep().Expr(), ast.NewExprVisitor(func(e ast.Expr) {
		if e.Kind() != ast.LiteralKind {
			return
		}
		d, ok := e.AsLiteral().(types.Double)
		if !ok {
			return
		}
		n := ofFloat(float64(d))
		if place, ok := info.GetOffsetRange(e.ID()); ok && place.Start >= 0 && int(place.Start) < len(source) {
			if written := writtenAt(source[place.Start:]); written != nil {
				if x, err := written.Float64(); err == nil && x == float64(d) {
					n = written
				}
			}
		}
		literals[e.ID()] = n
	}))
	return literals
}

// writtenAt returns the number that a text begins with; nil for none.
func writtenAt(text []rune) *number {
	end := 0
	for end < len(text) && (strings.ContainsRune("0123456789.eE", text[end]) ||
		strings.ContainsRune("+-", text[end]) && (end == 0 || text[end-1] == 'e' || text[end-1] == 'E')) {
		end++
	}
	n := &number{}
	if _, _, err := n.SetString(string(text[:end])); err != nil {
		return nil
	}
	return n
}

// Number returns a number of ours as expressions have it.
func Number(v *tabular.Value) ref.Val {
	if v.Kind == tabular.Float {
		return ofFloat(v.X)
	}
	return ofDecimal(v)
}

// Float returns a number of an expression, or the seconds of a duration, as a float; ok is false for anything else.
func Float(v ref.Val) (x float64, ok bool) {
	switch v := v.(type) {
	case *number:
		x, err := v.Float64()
		return x, err == nil
	case types.Double:
		return float64(v), true
	case types.Int:
		return float64(v), true
	case types.Uint:
		return float64(v), true
	case types.Duration:
		return v.Seconds(), true
	}
	return 0, false
}

// ofFloat takes the shortest decimal that stands for x.
func ofFloat(x float64) *number {
	n := &number{}
	switch {
	case math.IsNaN(x):
		n.Form = apd.NaN
	case math.IsInf(x, 0):
		n.Form, n.Negative = apd.Infinite, x < 0
	default:
		_, _, _ = n.SetString(strconv.FormatFloat(x, 'g', -1, 64)) // which is a number
	}
	return n
}

func ofDecimal(v *tabular.Value) *number {
	n := &number{}
	switch v.Odd {
	case tabular.NaN:
		n.Form = apd.NaN
		return n
	case tabular.PlusInf, tabular.MinusInf:
		n.Form, n.Negative = apd.Infinite, v.Odd == tabular.MinusInf
		return n
	}
	if v.B == nil {
		n.SetFinite(v.I, -v.Scale)
		return n
	}
	n.Coeff.SetString(string(v.B), 10)
	n.Negative = n.Coeff.Sign() < 0
	n.Coeff.Abs(&n.Coeff)
	n.Exponent = -v.Scale
	return n
}

// into returns a number as a value of ours.
func (n *number) into(v *tabular.Value) error {
	*v = tabular.Value{Kind: tabular.Decimal}
	switch {
	case n.Form == apd.NaN || n.Form == apd.NaNSignaling:
		v.Odd = tabular.NaN
		return nil
	case n.Form == apd.Infinite && n.Negative:
		v.Odd = tabular.MinusInf
		return nil
	case n.Form == apd.Infinite:
		v.Odd = tabular.PlusInf
		return nil
	}
	if n.Exponent > maxDigits || n.Exponent < -maxScale {
		return fmt.Errorf("gives a number of more than %d digits", maxDigits)
	}
	whole := n.Coeff
	if n.Exponent > 0 {
		var ten apd.BigInt
		ten.Exp(apd.NewBigInt(10), apd.NewBigInt(int64(n.Exponent)), nil)
		whole.Mul(&n.Coeff, &ten)
	} else {
		v.Scale = -n.Exponent
	}
	if n.Negative {
		whole.Neg(&whole)
	}
	if whole.IsInt64() {
		v.I = whole.Int64()
	} else {
		v.B = whole.Append(nil, 10)
	}
	return nil
}

// asNumber returns any number as a decimal; nil for other values.
func asNumber(v ref.Val) *number {
	switch v := v.(type) {
	case *number:
		return v
	case types.Double:
		return ofFloat(float64(v))
	case types.Int:
		n := &number{}
		n.SetInt64(int64(v))
		return n
	case types.Uint:
		n := &number{}
		n.Coeff.SetUint64(uint64(v))
		return n
	}
	return nil
}

// functionOf returns what an operator or a conversion does; nil for those that the
// library carries out.
func functionOf(name string) func(args ...ref.Val) ref.Val {
	switch name {
	case operators.Add:
		return arithmetic(traits.Adder.Add)
	case operators.Subtract:
		return arithmetic(traits.Subtractor.Subtract)
	case operators.Multiply:
		return arithmetic(traits.Multiplier.Multiply)
	case operators.Divide:
		return arithmetic(traits.Divider.Divide)
	case operators.Less:
		return comparison(func(c types.Int) bool { return c < 0 })
	case operators.LessEquals:
		return comparison(func(c types.Int) bool { return c <= 0 })
	case operators.Greater:
		return comparison(func(c types.Int) bool { return c > 0 })
	case operators.GreaterEquals:
		return comparison(func(c types.Int) bool { return c >= 0 })
	case operators.Equals:
		return func(args ...ref.Val) ref.Val { return equals(args[0], args[1]) }
	case operators.NotEquals:
		return func(args ...ref.Val) ref.Val { return !equals(args[0], args[1]) }
	case operators.In:
		return isIn
	case overloads.TypeConvertDouble:
		return func(args ...ref.Val) ref.Val { return toDecimal(args[0]) }
	}
	return exactFunctions(name)
}

// alike makes two numbers decimals if one of them is one.
func alike(a, b ref.Val) (ref.Val, ref.Val) {
	_, aIs := a.(*number)
	_, bIs := b.(*number)
	if aIs == bIs {
		return a, b
	}
	if x, y := asNumber(a), asNumber(b); x != nil && y != nil {
		return x, y
	}
	return a, b
}

func arithmetic[T any](do func(T, ref.Val) ref.Val) func(args ...ref.Val) ref.Val {
	return func(args ...ref.Val) ref.Val {
		a, b := alike(args[0], args[1])
		if a, can := a.(T); can {
			return do(a, b)
		}
		return types.NoSuchOverloadErr()
	}
}

func comparison(is func(types.Int) bool) func(args ...ref.Val) ref.Val {
	compare := arithmetic(traits.Comparer.Compare)
	return func(args ...ref.Val) ref.Val {
		result := compare(args...)
		if c, ok := result.(types.Int); ok {
			return types.Bool(is(c))
		}
		return result
	}
}

func equals(a, b ref.Val) types.Bool {
	a, b = alike(a, b)
	return types.Equal(a, b) == types.True
}

// isIn looks for a value in a list, which may have whole numbers and decimals, or among
// the keys of a map.
func isIn(args ...ref.Val) ref.Val {
	list, ok := args[1].(traits.Lister)
	if !ok {
		if container, ok := args[1].(traits.Container); ok {
			return container.Contains(args[0])
		}
		return types.NoSuchOverloadErr()
	}
	for it := list.Iterator(); it.HasNext() == types.True; {
		if equals(args[0], it.Next()) {
			return types.True
		}
	}
	return types.False
}

// toDecimal is double(...) of a number or a text; null stays null.
func toDecimal(v ref.Val) ref.Val {
	if v == types.NullValue {
		return v
	}
	if n := asNumber(v); n != nil {
		return n
	}
	text, ok := v.(types.String)
	if !ok {
		return types.NoSuchOverloadErr()
	}
	n := &number{}
	if len(text) > maxDigits {
		return types.NewErr("double(): a text of more than %d bytes", maxDigits)
	}
	if _, _, err := n.SetString(string(text)); err != nil {
		return types.NewErr("double(): %q is not a number", string(text))
	}
	return n
}

// compute carries out an operation on n and another number.
func (n *number) compute(other ref.Val, of *apd.Context,
	do func(*apd.Context, *apd.Decimal, *apd.Decimal, *apd.Decimal) (apd.Condition, error)) ref.Val {
	b := asNumber(other)
	if b == nil {
		return types.MaybeNoSuchOverloadErr(other)
	}
	result := &number{}
	switch condition, err := do(of, &result.Decimal, &n.Decimal, &b.Decimal); {
	case condition.DivisionByZero(), condition.DivisionUndefined():
		return types.NewErr("division by zero")
	case condition.Inexact() && err != nil, condition.Overflow(), condition.Underflow():
		return types.NewErr("gives a number of more than %d digits", maxDigits)
	case condition.InvalidOperation(): // as the difference of infinities
		result.Form = apd.NaN
	case err != nil:
		return types.WrapErr(err)
	}
	return result
}

// Add returns the sum.
func (n *number) Add(other ref.Val) ref.Val { return n.compute(other, &exactly, (*apd.Context).Add) }

// Subtract returns the difference.
func (n *number) Subtract(other ref.Val) ref.Val {
	return n.compute(other, &exactly, (*apd.Context).Sub)
}

// Multiply returns the product.
func (n *number) Multiply(other ref.Val) ref.Val {
	return n.compute(other, &exactly, (*apd.Context).Mul)
}

// Divide returns the quotient, without zeros at its end.
func (n *number) Divide(other ref.Val) ref.Val {
	result := n.compute(other, &quotients, (*apd.Context).Quo)
	if quotient, ok := result.(*number); ok && quotient.Form == apd.Finite {
		quotient.Reduce(&quotient.Decimal)
	}
	return result
}

// Negate returns n with the other sign.
func (n *number) Negate() ref.Val {
	result := &number{}
	result.Neg(&n.Decimal)
	return result
}

// Compare returns -1, 0 or 1.
func (n *number) Compare(other ref.Val) ref.Val {
	b := asNumber(other)
	if b == nil {
		return types.MaybeNoSuchOverloadErr(other)
	}
	if n.Form >= apd.NaNSignaling || b.Form >= apd.NaNSignaling {
		return types.NewErr("NaN values cannot be ordered")
	}
	return types.Int(n.Cmp(&b.Decimal))
}

// Equal reports whether both are the same number.
func (n *number) Equal(other ref.Val) ref.Val {
	b := asNumber(other)
	return types.Bool(b != nil && n.Form < apd.NaNSignaling && b.Form < apd.NaNSignaling && n.Cmp(&b.Decimal) == 0)
}

// Type returns the type that the checker knows.
func (n *number) Type() ref.Type { return types.DoubleType }

// Value returns the number as text.
func (n *number) Value() any { return n.text() }

func (n *number) text() string {
	var v tabular.Value
	if err := n.into(&v); err != nil {
		return n.Decimal.String()
	}
	return v.String()
}

// ConvertToNative returns the number as Go's types have it.
func (n *number) ConvertToNative(to reflect.Type) (any, error) {
	x, err := n.Float64()
	if err != nil {
		return nil, err
	}
	return types.Double(x).ConvertToNative(to)
}

// ConvertToType converts as CEL does: int(...) cuts towards zero.
func (n *number) ConvertToType(to ref.Type) ref.Val {
	switch to {
	case types.DoubleType:
		return n
	case types.StringType:
		return types.String(n.text())
	case types.TypeType:
		return types.DoubleType
	case types.IntType, types.UintType:
		if n.Form != apd.Finite {
			return types.NewErr("integer overflow")
		}
		var whole, rest apd.Decimal
		n.Modf(&whole, &rest)
		var v tabular.Value
		if err := (&number{whole}).into(&v); err != nil || v.B != nil {
			return types.NewErr("integer overflow")
		}
		if to == types.IntType {
			return types.Int(v.I)
		}
		return types.Int(v.I).ConvertToType(types.UintType)
	}
	return types.NewErr("a number cannot become %s", to.TypeName())
}
