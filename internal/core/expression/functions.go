package expression

import (
	"fmt"
	"sort"
	"strings"
	"sync"
	"time"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"
	"cel.dev/cel-go/ext"
	"github.com/cockroachdb/apd/v3"

	"mullein/internal/core/timeformat"
)

// Functions declares what expressions can call beside CEL's own functions: the library's of
// texts, numbers, lists, sets and encodings, and ours of times and missing values, which
// docs/expressions.md lists. Programs have to be made with [Exactly], which computes in
// decimals what the library would compute in floats.
func Functions() cel.EnvOption {
	return together(Mixed(), ext.Strings(), ext.Math(), ext.Lists(), ext.Sets(), ext.Encoders(ext.EncodersVersion(0)),
		coalesceFunction(), timeFunctions())
}

func together(options ...cel.EnvOption) cel.EnvOption {
	return func(env *cel.Env) (*cel.Env, error) {
		var err error
		for _, option := range options {
			if env, err = option(env); err != nil {
				return nil, err
			}
		}
		return env, nil
	}
}

// coalesceFunction declares coalesce, as in SQL: the first of its arguments that is not null.
func coalesceFunction() cel.EnvOption {
	const most = 4 // arguments
	var overloads []cel.FunctionOpt
	for name, t := range map[string]*cel.Type{"int": cel.IntType, "double": cel.DoubleType, "string": cel.StringType,
		"bool": cel.BoolType, "timestamp": cel.TimestampType, "duration": cel.DurationType} {
		for n := 2; n <= most; n++ {
			args := make([]*cel.Type, n)
			for i := range args {
				args[i] = cel.NullableType(t)
			}
			overloads = append(overloads, cel.Overload(fmt.Sprintf("coalesce_%s_%d", name, n), args, cel.NullableType(t)))
		}
	}
	mixed := []*cel.Type{cel.NullableType(cel.DoubleType), cel.NullableType(cel.IntType)}
	overloads = append(overloads, cel.Overload("coalesce_double_int", mixed, cel.NullableType(cel.DoubleType)),
		cel.Overload("coalesce_int_double", []*cel.Type{mixed[1], mixed[0]}, cel.NullableType(cel.DoubleType)),
		cel.SingletonFunctionBinding(coalesce))
	return cel.Function("coalesce", overloads...)
}

func coalesce(args ...ref.Val) ref.Val {
	for _, a := range args {
		if a != types.NullValue {
			return a
		}
	}
	return types.NullValue
}

// timeFunctions declares what makes times of their parts and of texts, and texts of times.
// Zones are names such as Atlantic/Azores; the default is UTC.
func timeFunctions() cel.EnvOption {
	ints := func(n int, more ...*cel.Type) (out []*cel.Type) {
		for range n {
			out = append(out, cel.IntType)
		}
		return append(out, more...)
	}
	t, s := cel.TimestampType, cel.StringType
	overload := func(id string, args []*cel.Type, result *cel.Type, do func(args ...ref.Val) ref.Val) cel.FunctionOpt {
		return cel.Overload(id, args, result, cel.FunctionBinding(do))
	}
	return together(
		cel.Function("date", overload("date_parts", ints(3), t, timeOfParts), overload("date_parts_zone", ints(3, s), t,
			timeOfParts)),
		cel.Function("datetime", overload("datetime_parts", ints(6), t, timeOfParts), overload("datetime_parts_zone",
			ints(6, s), t, timeOfParts)),
		cel.Function("strftime", overload("strftime_utc", []*cel.Type{t, s}, s, strftime),
			overload("strftime_zone", []*cel.Type{t, s, s}, s, strftime)),
		cel.Function("strptime", overload("strptime_utc", []*cel.Type{s, s}, t, strptime),
			overload("strptime_zone", []*cel.Type{s, s, s}, t, strptime)),
	)
}

// zoneOf reads the argument that names a zone, if there is one.
func zoneOf(args []ref.Val, at int) (*time.Location, ref.Val) {
	if at >= len(args) {
		return time.UTC, nil
	}
	name, ok := args[at].(types.String)
	if !ok {
		return nil, types.NoSuchOverloadErr()
	}
	zone, err := zones.get(string(name), time.LoadLocation)
	if err != nil {
		return nil, types.NewErr("unknown time zone %q", string(name))
	}
	return zone, nil
}

// memo remembers what was made of texts, of which there are usually few.
type memo[T any] struct {
	mu    sync.Mutex
	known map[string]T
}

const memoMost = 256 // then it forgets all: texts may come from rows

// get returns what make makes of a text.
func (m *memo[T]) get(text string, make func(text string) (T, error)) (T, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if v, known := m.known[text]; known {
		return v, nil
	}
	v, err := make(text)
	if err != nil {
		return v, err
	}
	if m.known == nil || len(m.known) >= memoMost {
		m.known = map[string]T{}
	}
	m.known[text] = v
	return v, nil
}

var (
	zones   memo[*time.Location] // reading one takes files
	layouts memo[*timeformat.Layout]
)

// timeOfParts is date(year, month, day) and datetime(..., hour, minute, second), with or
// without a zone. What is no time of a calendar is an error.
func timeOfParts(args ...ref.Val) ref.Val {
	parts := []int{0, 1, 1, 0, 0, 0}
	n := 0
	for ; n < len(args) && n < len(parts); n++ {
		x, ok := args[n].(types.Int)
		if !ok {
			break
		}
		parts[n] = int(x)
	}
	zone, failed := zoneOf(args, n)
	if failed != nil {
		return failed
	}
	at := time.Date(parts[0], time.Month(parts[1]), parts[2], parts[3], parts[4], parts[5], 0, zone)
	if at.Year() != parts[0] || int(at.Month()) != parts[1] || at.Day() != parts[2] || parts[3] > 23 || parts[3] < 0 ||
		at.Minute() != parts[4] || at.Second() != parts[5] || parts[0] < 1 || parts[0] > 9999 {
		return types.NewErr("there is no such time: %v", parts)
	}
	return types.Timestamp{Time: at.UTC()}
}

func layoutOf(v ref.Val) (*timeformat.Layout, ref.Val) {
	pattern, ok := v.(types.String)
	if !ok {
		return nil, types.NoSuchOverloadErr()
	}
	l, err := layouts.get(string(pattern), timeformat.Compile)
	if err != nil {
		return nil, types.WrapErr(err)
	}
	return l, nil
}

// layoutAndZone reads the arguments behind the first: a pattern, and a zone that may follow.
func layoutAndZone(args []ref.Val) (layout *timeformat.Layout, zone *time.Location, failed ref.Val) {
	if layout, failed = layoutOf(args[1]); failed != nil {
		return nil, nil, failed
	}
	zone, failed = zoneOf(args, 2)
	return layout, zone, failed
}

// strftime writes a time by a pattern of POSIX.
func strftime(args ...ref.Val) ref.Val {
	at, ok := args[0].(types.Timestamp)
	if !ok {
		return types.NoSuchOverloadErr()
	}
	layout, zone, failed := layoutAndZone(args)
	if failed != nil {
		return failed
	}
	return types.String(layout.Format(at.In(zone)))
}

// strptime reads a time by a pattern of POSIX.
func strptime(args ...ref.Val) ref.Val {
	text, ok := args[0].(types.String)
	if !ok {
		return types.NoSuchOverloadErr()
	}
	layout, zone, failed := layoutAndZone(args)
	if failed != nil {
		return failed
	}
	at, err := layout.Time([]byte(text), zone)
	if err != nil {
		return types.NewErr("strptime(): %q: %v", string(text), err)
	}
	return types.Timestamp{Time: at.UTC()}
}

// exactFunctions are the library's functions of numbers, in decimals.
func exactFunctions(name string) func(args ...ref.Val) ref.Val {
	switch name {
	case "math.@max":
		return extreme(1)
	case "math.@min":
		return extreme(-1)
	case "math.ceil":
		return rounded((*apd.Context).Ceil)
	case "math.floor":
		return rounded((*apd.Context).Floor)
	case "math.round":
		return rounded(halfAway)
	case "math.trunc":
		return rounded(func(_ *apd.Context, d, x *apd.Decimal) (apd.Condition, error) {
			var rest apd.Decimal
			x.Modf(d, &rest)
			return 0, nil
		})
	case "math.sqrt":
		return rootOf
	case "math.abs":
		return ofSign(func(n *number) ref.Val { out := &number{}; out.Abs(&n.Decimal); return out }, func(i types.Int) ref.Val {
			if i < 0 {
				return i.Negate()
			}
			return i
		})
	case "math.sign":
		return ofSign(func(n *number) ref.Val { out := &number{}; out.SetInt64(int64(n.Sign())); return out },
			func(i types.Int) ref.Val { return i.Compare(types.IntZero) })
	case "math.isNaN":
		return isForm(apd.NaN, apd.NaNSignaling)
	case "math.isInf":
		return isForm(apd.Infinite)
	case "math.isFinite":
		return isForm(apd.Finite)
	case "format":
		return format
	case "coalesce":
		return coalesce
	}
	return nil
}

// extreme is math.greatest (1) or math.least (-1), of its arguments or of a list.
func extreme(sign types.Int) func(args ...ref.Val) ref.Val {
	return func(args ...ref.Val) ref.Val {
		if list, ok := args[0].(traits.Lister); ok && len(args) == 1 {
			args = nil
			for it := list.Iterator(); it.HasNext() == types.True; {
				args = append(args, it.Next())
			}
		}
		if len(args) == 0 {
			return types.NewErr("the least or greatest of an empty list")
		}
		best := args[0]
		for _, x := range args[1:] {
			a, b := alike(x, best)
			comparer, ok := a.(traits.Comparer)
			if !ok {
				return types.NoSuchOverloadErr()
			}
			switch c := comparer.Compare(b).(type) {
			case types.Int:
				if c == sign {
					best = x
				}
			default:
				return c
			}
		}
		if asNumber(best) == nil {
			return types.NoSuchOverloadErr()
		}
		return best
	}
}

func rounded(do func(*apd.Context, *apd.Decimal, *apd.Decimal) (apd.Condition, error)) func(args ...ref.Val) ref.Val {
	return func(args ...ref.Val) ref.Val {
		n := asNumber(args[0])
		if n == nil {
			return types.NoSuchOverloadErr()
		}
		if n.Form != apd.Finite {
			return n
		}
		out := &number{}
		if _, err := do(&exactly, &out.Decimal, &n.Decimal); err != nil {
			return types.WrapErr(err)
		}
		return out
	}
}

// halfAway rounds to a whole number, half away from zero.
func halfAway(_ *apd.Context, d, x *apd.Decimal) (apd.Condition, error) {
	away := exactly
	away.Rounding, away.Traps = apd.RoundHalfUp, apd.DefaultTraps
	return away.Quantize(d, x, 0)
}

func rootOf(args ...ref.Val) ref.Val {
	n := asNumber(args[0])
	if n == nil {
		return types.NoSuchOverloadErr()
	}
	out := &number{}
	if n.Negative && n.Sign() != 0 {
		out.Form = apd.NaN
		return out
	}
	if _, err := quotients.Sqrt(&out.Decimal, &n.Decimal); err != nil {
		return types.WrapErr(err)
	}
	out.Reduce(&out.Decimal)
	return out
}

func ofSign(ofNumber func(*number) ref.Val, ofInt func(types.Int) ref.Val) func(args ...ref.Val) ref.Val {
	return func(args ...ref.Val) ref.Val {
		if i, ok := args[0].(types.Int); ok {
			return ofInt(i)
		}
		if n := asNumber(args[0]); n != nil {
			return ofNumber(n)
		}
		return types.NoSuchOverloadErr()
	}
}

func isForm(forms ...apd.Form) func(args ...ref.Val) ref.Val {
	return func(args ...ref.Val) ref.Val {
		n := asNumber(args[0])
		if n == nil {
			return types.NoSuchOverloadErr()
		}
		for _, f := range forms {
			if n.Form == f {
				return types.True
			}
		}
		return types.False
	}
}

// libraryFormat is the library's function that formats, which knows floats only.
var libraryFormat = sync.OnceValue(func() func(text, args ref.Val) ref.Val {
	env, err := cel.NewEnv(ext.Strings())
	if err != nil {
		return nil
	}
	overloads, err := env.Functions()["format"].Bindings()
	if err != nil {
		return nil
	}
	for _, o := range overloads {
		switch {
		case o.Binary != nil:
			return o.Binary
		case o.Function != nil:
			return func(text, args ref.Val) ref.Val { return o.Function(text, args) }
		}
	}
	return nil
})

// format hands numbers to the library as floats.
func format(args ...ref.Val) ref.Val {
	list, ok := args[1].(traits.Lister)
	do := libraryFormat()
	if !ok || do == nil {
		return types.NoSuchOverloadErr()
	}
	var plain []ref.Val
	for it := list.Iterator(); it.HasNext() == types.True; {
		v := it.Next()
		if n, is := v.(*number); is {
			x, err := n.Float64()
			if err != nil {
				return types.WrapErr(err)
			}
			v = types.Double(x)
		}
		plain = append(plain, v)
	}
	return do(args[0], types.NewRefValList(types.DefaultTypeAdapter, plain))
}

// meant are names that people try, and what they mean.
var meant = map[string]string{
	"run.user": "run.by", "run.who": "run.by", "run.owner": "run.by", "run.at": "run.started", "run.time": "run.started",
	"run.start": "run.started", "run.date": "run.started", "run.reason": "run.cause", "run.number": "run.id",
	"file.filename": "file.name", "file.mtime": "file.modified", "file.time": "file.modified",
	"file.date": "file.modified", "file.hash": "file.digest", "file.sha256": "file.digest", "file.length": "file.size",
	"file.bytes": "file.size", "file.folder": "file.path", "file.slot": "file.captures.slot", "feed.id": "feed.name",
	"feed.owner": "feed.name",
}

// functionNames are the names of the functions that there are, sorted.
func functionNames(env *cel.Env) (names []string) {
	for name := range env.Functions() {
		if !strings.ContainsAny(name, "@_") || strings.HasPrefix(name, "to_") {
			names = append(names, name)
		}
	}
	names = append(names, "math.least", "math.greatest", "has", "all", "exists", "exists_one", "filter", "map")
	sort.Strings(names)
	return names
}
