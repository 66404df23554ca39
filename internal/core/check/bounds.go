package check

import (
	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/overloads"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/parser"

	"mullein/internal/core/expression"
)

// bound is an expression that the value of a check is compared with: the value must be at least it, at most it,
// or, with both, equal to it.
type bound struct {
	program   cel.Program
	low, high bool
}

// boundsOf returns what an expression compares an answer with, where it is one comparison with it, or several that must all hold.
func boundsOf(env *cel.Env, checked *cel.Ast, of Question) (out []bound) {
	var walk func(e ast.Expr)
	walk = func(e ast.Expr) {
		if e.Kind() != ast.CallKind {
			return
		}
		call := e.AsCall()
		name, args := call.FunctionName(), call.Args()
		if name == operators.LogicalAnd {
			walk(args[0])
			walk(args[1])
			return
		}
		var b bound
		switch name {
		case operators.Less, operators.LessEquals:
			b.high = true
		case operators.Greater, operators.GreaterEquals:
			b.low = true
		case operators.Equals:
			b.low, b.high = true, true
		default:
			return
		}
		other := args[1]
		switch of.String() {
		case asked(args[0]):
		case asked(args[1]):
			other, b.low, b.high = args[0], b.high, b.low
		default:
			return
		}
		// A part of an expression has no program of its own: it is written out, and read again.
		source, err := parser.Unparse(other, checked.NativeRep().SourceInfo())
		if err != nil {
			return
		}
		part, issues := expression.Check(env, source)
		if issues.Err() != nil {
			return
		}
		if b.program, err = env.Program(part, expression.Exactly(part)); err == nil {
			out = append(out, b)
		}
	}
	walk(checked.NativeRep().Expr())
	return out
}

// asked returns the question that a part of an expression asks and does nothing else, as a feed file writes it; "" for any other.
func asked(e ast.Expr) string {
	switch e.Kind() {
	case ast.IdentKind:
		return e.AsIdent()
	case ast.CallKind:
		call := e.AsCall()
		switch name := call.FunctionName(); {
		case name == overloads.TypeConvertDyn: // which the mixing of numbers puts around it
			return asked(call.Args()[0])
		case name == operators.Index && call.Args()[1].Kind() == ast.LiteralKind:
			if s, ok := call.Args()[1].AsLiteral().(types.String); ok {
				return string(s)
			}
		}
	}
	return ""
}

// between notes what the value has to lie between, of several bounds the narrowest.
func (r *Result) between(bounds []bound, vars map[string]any) {
	for _, b := range bounds {
		v, _, err := b.program.Eval(vars)
		if err != nil {
			continue // the check itself says what is wrong
		}
		x, ok := expression.Float(v)
		if !ok {
			continue
		}
		if b.low && (r.Low == nil || *r.Low < x) {
			r.Low = &x
		}
		if b.high && (r.High == nil || *r.High > x) {
			r.High = &x
		}
	}
}
