package tabular

import (
	"fmt"
	"math"
	"unicode/utf8"
)

// Limit is what a column of a table that others made cannot take although the schema
// allows it. Its zero value limits nothing.
type Limit struct {
	Type      string // as the database writes it
	NotNull   bool
	MaxLength int // of texts, in characters; 0 for none
	Bits      int // of integers: 16 or 32; 0 for none
	// Of decimals: how many digits, and how many of them after the point. No Digits, no
	// limit. Numbers that are computed are rounded, as the column's type has it.
	Digits, Scale int
	Computed      bool
}

// Any reports whether anything is limited.
func (l *Limit) Any() bool { return l.NotNull || l.MaxLength > 0 || l.Bits > 0 || l.Digits > 0 }

// Check returns a [*CellError] for what the column cannot take.
func (l *Limit) Check(v *Value) error {
	switch {
	case v.Kind == Null:
		if l.NotNull {
			return breaks("required", "empty, and the table's column is NOT NULL")
		}
	case l.MaxLength > 0 && v.Kind == Text && len(v.B) > l.MaxLength:
		if n := utf8.RuneCount(v.B); n > l.MaxLength {
			return breaks("maxLength", "%d characters; the table's column is %s", n, l.Type)
		}
	case l.Bits > 0 && v.Kind == Integer:
		if most := int64(1) << (l.Bits - 1); v.I >= most || v.I < -most {
			return breaks("maximum", "the table's column is %s, from %d to %d", l.Type, -most, most-1)
		}
	case l.Digits > 0 && (v.Kind == Integer || v.Kind == Decimal):
		return l.checkDigits(v)
	}
	return nil
}

func (l *Limit) checkDigits(v *Value) error {
	switch {
	case v.Odd == NaN:
		return nil
	case v.Odd != Finite:
		return breaks("maximum", "the table's column is %s, which holds no infinity", l.Type)
	}
	digits, scale := significant(v)
	if scale > l.Scale && !l.Computed {
		return breaks("type", "%d digits after the point; the table's column is %s", scale, l.Type)
	}
	if digits-scale > l.Digits-l.Scale {
		return breaks("maximum", "too large: the table's column is %s", l.Type)
	}
	return nil
}

// significant counts the digits of a number without zeros at either end, and how many of
// them stand after the point; before the point, zeros at the end count as digits.
func significant(v *Value) (digits, scale int) {
	scale = int(v.Scale)
	if v.B == nil {
		i := v.I
		for scale > 0 && i%10 == 0 {
			i, scale = i/10, scale-1
			if i == 0 {
				return 0, 0
			}
		}
		for ; i != 0; i /= 10 {
			digits++
		}
		return digits, scale
	}
	text := v.B
	if text[0] == '-' {
		text = text[1:]
	}
	for scale > 0 && len(text) > 0 && text[len(text)-1] == '0' {
		text, scale = text[:len(text)-1], scale-1
	}
	return len(text), scale
}

// Says says what a column takes that the schema, as far as c is its field, does not know
// of, a line each.
func (l *Limit) Says(column string, c *Column) (out []string) {
	say := func(format string, args ...any) {
		out = append(out, fmt.Sprintf("column %s is %s; ", column, l.Type)+fmt.Sprintf(format, args...))
	}
	const rejects = ", and their rows will be rejects"
	switch {
	case l.MaxLength > 0 && (c == nil || c.maxLen == 0 || c.maxLen > l.MaxLength):
		say("the schema allows longer texts" + rejects)
	case l.Bits > 0 && !c.between(-math.Exp2(float64(l.Bits-1)), math.Exp2(float64(l.Bits-1))-1):
		say("the schema allows larger numbers" + rejects)
	case l.Digits > 0 && l.Computed:
		say("what is computed is rounded to %d digits after the point, and rows whose number is too large will be "+
			"rejects", l.Scale)
	case l.Digits > 0:
		say("the schema allows other numbers" + rejects)
	}
	if l.NotNull && (c == nil || !c.Field.Constraints.Required) {
		say("it is NOT NULL, and the schema allows empty values" + rejects)
	}
	return out
}

// between reports whether the column's constraints keep its numbers within two bounds.
func (c *Column) between(from, to float64) bool {
	return c != nil && c.min.set && c.max.set && c.min.v.Float64() >= from && c.max.v.Float64() <= to
}
