package tabular

import (
	"bytes"
	"encoding/json"
	"math"
	"math/big"
	"strconv"
	"time"
)

const dayMicros = 86400 * 1_000_000

// Take converts a value that the file holds with a type of its own, as JSON,
// Parquet, Avro and spreadsheets do. Texts are read like cells, and so are
// numbers and truth values in columns of other types: 20260701 is a date where
// the format says so. Nothing that would lose something is taken: no time of
// day becomes a date. Errors are of type [*CellError].
func (c *Column) Take(in *Value, v *Value) error {
	switch in.Kind {
	case Null:
		return c.Absent(v)
	case Text:
		return c.Convert(in.B, v)
	case Integer, Decimal, Float:
		if len(c.blanks) > 0 && c.isBlank(in) {
			return c.Absent(v)
		}
		if in.Kind == Float && c.Kind == Decimal {
			if err := ParseFloat(in.X, v); err != nil {
				return err
			}
			return c.check(v)
		}
	}
	*v = Value{Kind: c.Kind}
	if err := c.adopt(in, v); err != nil {
		return err
	}
	if err := c.toMicroseconds(v); err != nil {
		return err
	}
	return c.check(v)
}

// Accepts reports whether any value of a kind can become one of the column's.
// Null, for a kind that is not known, can.
func (c *Column) Accepts(kind Kind) bool {
	switch kind {
	case Null, Text, c.Kind:
		return true
	case JSON:
		return c.Kind == Text || c.Kind == Point
	case Boolean:
		return c.Kind == Text || c.Kind == Binary || c.Field.Type == "list"
	case Integer, Decimal, Float: // dates may be written as numbers
		return c.Kind != JSON && c.Kind != UUID || c.Field.Type == "list"
	case Instant, Wall, Day:
		return c.Kind == Text || c.Kind == Day || c.Kind == Instant
	}
	return c.Kind == Text
}

// isBlank reports whether a number is one of the missing values.
func (c *Column) isBlank(in *Value) bool {
	for i := range c.blanks {
		n := *in
		if n.Kind == Integer {
			n = Value{Kind: Decimal, I: in.I}
		}
		if n.Kind == Decimal && compareDecimals(&n, &c.blanks[i]) == 0 || n.Kind == Float &&
			n.X == c.blanks[i].Float64() {
			return true
		}
	}
	return false
}

func (c *Column) adopt(in, v *Value) error {
	if in.Kind == c.Kind && c.Kind != JSON {
		*v = *in
		if c.Field.Type == "year" && (v.I < -9999 || v.I > 9999) {
			return reject("not a year")
		}
		return nil
	}
	switch c.Kind {
	case Integer:
		if whole(in, v) {
			return nil
		}
	case Decimal:
		if in.Kind == Integer {
			v.I = in.I
			return nil
		}
	case Instant:
		switch in.Kind {
		case Wall:
			v.D = in.D
			return c.fromWall(in.I, v)
		case Day:
			return c.fromWall(in.I*dayMicros, v)
		}
	case Day:
		if in.Kind == Instant || in.Kind == Wall {
			if in.I%dayMicros != 0 || in.D != 0 {
				return reject("a date was expected; this has a time of day")
			}
			v.I = floorDiv(in.I, dayMicros)
			return nil
		}
	case Text:
		*v = Value{Kind: Text, B: []byte(in.String())}
		return nil
	case Point, JSON:
		if in.Kind == JSON {
			return c.adoptJSON(in.B, v)
		}
		if c.Kind == JSON && c.Field.Type != "list" {
			return reject("%s where %s is expected", in.Kind, c.Field.Type)
		}
	}
	switch in.Kind {
	case Integer, Decimal, Boolean:
		return c.read([]byte(in.String()), v)
	case Float:
		return c.read(strconv.AppendFloat(nil, in.X, 'g', -1, 64), v)
	}
	return reject("%s where %s is expected", in.Kind, c.Field.Type)
}

// adoptJSON takes an object or an array.
func (c *Column) adoptJSON(b []byte, v *Value) error {
	if c.Field.Type != "list" {
		return c.read(b, v)
	}
	if len(b) == 0 || b[0] != '[' {
		return reject("not an array")
	}
	var out bytes.Buffer
	if err := json.Compact(&out, b); err != nil {
		return reject("not an array")
	}
	v.B = out.Bytes()
	return nil
}

// whole takes a number without a fraction.
func whole(in, v *Value) bool {
	switch in.Kind {
	case Decimal:
		n, scale := in.I, in.Scale
		for ; scale > 0 && n%10 == 0; scale-- {
			n /= 10
		}
		v.I = n
		return in.B == nil && in.Odd == Finite && scale == 0
	case Float:
		v.I = int64(in.X)
		return math.Trunc(in.X) == in.X && math.Abs(in.X) < 1<<53
	}
	return false
}

// fromWall reads a clock in the column's zone.
func (c *Column) fromWall(micros int64, v *Value) error {
	wall := time.UnixMicro(micros).UTC()
	t := time.Date(wall.Year(), wall.Month(), wall.Day(), wall.Hour(), wall.Minute(), wall.Second(),
		wall.Nanosecond(), c.zone)
	if t.Hour() != wall.Hour() || t.Minute() != wall.Minute() {
		return reject("no such time in zone %s: the clocks skip it", c.zone)
	}
	v.I = t.UnixMicro()
	return nil
}

// ParseNumber reads a number as JSON writes it: an Integer where it is one of
// 64 bits, else a Decimal.
func ParseNumber(text []byte, v *Value) error {
	if !bytes.ContainsAny(text, ".eE") {
		if n, err := parseInt(text); err == nil {
			*v = Value{Kind: Integer, I: n}
			return nil
		}
	}
	*v = Value{Kind: Decimal}
	return parseDecimal(text, '.', v)
}

// ParseFloat makes a Decimal of a floating-point number: the shortest that
// reads back as the same number.
func ParseFloat(x float64, v *Value) error {
	*v = Value{Kind: Decimal}
	switch {
	case math.IsNaN(x):
		v.Odd = NaN
	case math.IsInf(x, 1):
		v.Odd = PlusInf
	case math.IsInf(x, -1):
		v.Odd = MinusInf
	default:
		// Most numbers have few digits after the point: the least scale whose
		// whole number reads back as x is the shortest decimal.
		for scale := range int32(8) {
			if y := x * powers[scale]; math.Abs(y) < 1<<53 && y == math.Trunc(y) && y/powers[scale] == x {
				v.I, v.Scale = int64(y), scale
				return nil
			}
		}
		var space [32]byte
		return parseDecimal(strconv.AppendFloat(space[:0], x, 'g', -1, 64), '.', v)
	}
	return nil
}

// AddTo adds an Integer or a finite Decimal to a Decimal, exactly.
func AddTo(total, v *Value) {
	if v.Kind != Integer && (v.Kind != Decimal || v.Odd != Finite) {
		return
	}
	scale := max(total.Scale, v.Scale)
	a, okA := rescale(total.I, scale-total.Scale)
	b, okB := rescale(v.I, scale-v.Scale)
	if total.B == nil && v.B == nil && okA && okB {
		if n := a + b; (n > a) == (b > 0) && n > -1e18 && n < 1e18 {
			total.I, total.Scale = n, scale
			return
		}
	}
	x, y, ten := total.BigInt(), v.BigInt(), big.NewInt(10)
	x.Mul(x, new(big.Int).Exp(ten, big.NewInt(int64(scale-total.Scale)), nil))
	y.Mul(y, new(big.Int).Exp(ten, big.NewInt(int64(scale-v.Scale)), nil))
	*total = Value{Kind: Decimal, Scale: scale, B: []byte(x.Add(x, y).String())}
}
