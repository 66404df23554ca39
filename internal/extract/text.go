package extract

import (
	"bytes"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"math"
	"strconv"
	"time"
	"unicode/utf8"

	"mullein/internal/core/tabular"
)

// encoder writes rows to a file of some format.
type encoder interface {
	// rows writes rows of a batch, from one, counted from 0, up to another.
	rows(b *Batch, from, to int) error
	// size returns about how large the file is, of which so many bytes are written.
	size(written int64) int64
	// close writes what is left; the file stays open.
	close() error
}

// appendText appends a value as text files have it: numbers as digits with a point, times by ISO 8601, bytes in base64, no
// value as nothing. What is no number or never ends is written as Table Schema and PostgreSQL have it: NaN, INF, infinity.
func appendText(out []byte, v *tabular.Value) []byte {
	switch v.Kind {
	case tabular.Null:
		return out
	case tabular.Text, tabular.JSON:
		return append(out, v.B...)
	case tabular.Integer:
		return strconv.AppendInt(out, v.I, 10)
	case tabular.Boolean:
		return strconv.AppendBool(out, v.I != 0)
	case tabular.Float:
		return appendFloat(out, v.X)
	case tabular.Decimal:
		return appendDecimal(out, v)
	case tabular.Binary:
		return base64.StdEncoding.AppendEncode(out, v.B)
	case tabular.UUID:
		return appendUUID(out, v.B)
	}
	switch v.Odd {
	case tabular.PlusInf:
		return append(out, "infinity"...)
	case tabular.MinusInf:
		return append(out, "-infinity"...)
	}
	switch v.Kind {
	case tabular.Instant:
		return append(appendTime(out, v.I), 'Z')
	case tabular.Wall:
		return appendTime(out, v.I)
	case tabular.Day:
		return appendDay(out, v.I)
	case tabular.Clock:
		return appendClock(out, v.I)
	}
	return append(out, v.String()...)
}

func appendFloat(out []byte, x float64) []byte {
	switch {
	case math.IsNaN(x):
		return append(out, "NaN"...)
	case math.IsInf(x, 1):
		return append(out, "INF"...)
	case math.IsInf(x, -1):
		return append(out, "-INF"...)
	}
	return strconv.AppendFloat(out, x, 'g', -1, 64)
}

func appendDecimal(out []byte, v *tabular.Value) []byte {
	if v.Odd != tabular.Finite {
		return append(out, v.String()...)
	}
	at := len(out)
	out = v.AppendDigits(out)
	if v.Scale == 0 {
		return out
	}
	if out[at] == '-' {
		at++
	}
	for scale := int(v.Scale); len(out)-at <= scale; { // a digit before the point
		out = append(out, 0)
		copy(out[at+1:], out[at:])
		out[at] = '0'
	}
	point := len(out) - int(v.Scale)
	out = append(out, 0)
	copy(out[point+1:], out[point:])
	out[point] = '.'
	return out
}

func appendUUID(out, b []byte) []byte {
	if len(b) != 16 {
		return hex.AppendEncode(out, b)
	}
	for i, part := range [][]byte{b[:4], b[4:6], b[6:8], b[8:10], b[10:]} {
		if i > 0 {
			out = append(out, '-')
		}
		out = hex.AppendEncode(out, part)
	}
	return out
}

const (
	microsOfSecond = int64(time.Second / time.Microsecond)
	microsOfDay    = 24 * 60 * 60 * microsOfSecond
)

// appendTime appends a time of microseconds since 1970 as 2026-03-01T12:00:00.5.
func appendTime(out []byte, micros int64) []byte {
	days := micros / microsOfDay
	if micros%microsOfDay < 0 {
		days--
	}
	return appendClock(append(appendDay(out, days), 'T'), micros-days*microsOfDay)
}

// appendDay appends a day, counted from 1970-01-01. The arithmetic is that of the proleptic Gregorian calendar, in eras of 400
// years that begin in March.
func appendDay(out []byte, days int64) []byte {
	const eraDays, toEra = 146097, 719468
	z := days + toEra
	era := z / eraDays
	if z%eraDays < 0 {
		era--
	}
	ofEra := z - era*eraDays
	yearOfEra := (ofEra - ofEra/1460 + ofEra/36524 - ofEra/(eraDays-1)) / 365
	ofYear := ofEra - (365*yearOfEra + yearOfEra/4 - yearOfEra/100)
	m := (5*ofYear + 2) / 153
	day, month, year := ofYear-(153*m+2)/5+1, m+3, yearOfEra+era*400
	if month > 12 {
		month, year = month-12, year+1
	}
	if year < 0 {
		out, year = append(out, '-'), -year
	}
	if year > 9999 {
		out = strconv.AppendInt(out, year/10000, 10)
		year %= 10000
	}
	out = append(out, byte('0'+year/1000), byte('0'+year/100%10), byte('0'+year/10%10), byte('0'+year%10), '-')
	return appendTwo(append(appendTwo(out, month), '-'), day)
}

func appendTwo(out []byte, n int64) []byte { return append(out, byte('0'+n/10), byte('0'+n%10)) }

// appendClock appends a time of the day, with as many digits of a second as it has.
func appendClock(out []byte, micros int64) []byte {
	seconds, rest := micros/microsOfSecond, micros%microsOfSecond
	out = append(appendTwo(out, seconds/3600), ':')
	out = append(appendTwo(out, seconds/60%60), ':')
	out = appendTwo(out, seconds%60)
	if rest == 0 {
		return out
	}
	out = append(out, '.')
	for unit := microsOfSecond / 10; rest > 0; unit /= 10 {
		out = append(out, byte('0'+rest/unit))
		rest %= unit
	}
	return out
}

// appendJSON appends a value as JSON.
func appendJSON(out []byte, v *tabular.Value) ([]byte, error) {
	switch v.Kind {
	case tabular.Null:
		return append(out, "null"...), nil
	case tabular.Integer, tabular.Boolean:
		return appendText(out, v), nil
	case tabular.Float:
		if !math.IsNaN(v.X) && !math.IsInf(v.X, 0) {
			return appendFloat(out, v.X), nil
		}
	case tabular.Decimal:
		if v.Odd == tabular.Finite {
			return appendDecimal(out, v), nil
		}
	case tabular.Text:
		return appendJSONText(out, v.B), nil
	case tabular.JSON:
		b := bytes.NewBuffer(out)
		if err := json.Compact(b, v.B); err != nil {
			return out, fmt.Errorf("it is no JSON: %w", err)
		}
		return b.Bytes(), nil
	}
	return append(appendText(append(out, '"'), v), '"'), nil // of letters and digits
}

// appendJSONText appends a text between quotes. What is no UTF-8 becomes the replacement character.
func appendJSONText(out, text []byte) []byte {
	out = append(out, '"')
	if !utf8.Valid(text) {
		text = bytes.ToValidUTF8(text, []byte("\uFFFD"))
	}
	done := 0
	for i, c := range text {
		if c >= 0x20 && c != '"' && c != '\\' {
			continue
		}
		out = append(out, text[done:i]...)
		done = i + 1
		switch c {
		case '"', '\\':
			out = append(out, '\\', c)
		case '\n':
			out = append(out, '\\', 'n')
		case '\t':
			out = append(out, '\\', 't')
		case '\r':
			out = append(out, '\\', 'r')
		default:
			out = fmt.Appendf(out, `\u%04x`, c)
		}
	}
	return append(append(out, text[done:]...), '"')
}
