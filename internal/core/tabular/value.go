package tabular

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"fmt"
	"math/big"
	"strconv"
	"strings"
	"time"

	"github.com/zeebo/xxh3"
)

// Kind is the form in which a value is held between the file and the target.
type Kind uint8

// The kinds. Their names are what people are shown.
const (
	Null    Kind = iota
	Text         // B, UTF-8 without NUL
	Integer      // I
	Decimal      // I / 10^Scale, or the digits in B when they do not fit I; exact
	Float        // X; of files that hold such numbers themselves
	Boolean      // I is 0 or 1
	Instant      // I, microseconds since 1970-01-01 UTC
	Day          // I, days since 1970-01-01
	Clock        // I, microseconds since midnight
	Span         // M months, D days, I microseconds
	Point        // X longitude, Y latitude
	JSON         // B, compact JSON text
	Binary       // B
	UUID         // B, 16 bytes
	Wall         // I, microseconds since 1970-01-01 on a clock whose zone is not known; no column has it
)

var kindNames = [...]string{"null", "text", "integer", "number", "float", "boolean", "datetime", "date", "time",
	"duration", "geopoint", "json", "binary", "uuid", "local datetime"}

func (k Kind) String() string { return kindNames[k] }

// Value is one cell after conversion. B may point into a buffer that is used
// again for the next row.
type Value struct {
	Kind  Kind
	Odd   Special // Decimal only
	Scale int32   // Decimal: digits after the point, 0 to 16383
	M     int32
	D     int32 // Span: days; Instant, Wall and Clock of a file: nanoseconds beyond I, 0 to 999
	I     int64
	X, Y  float64
	B     []byte // Decimal too large for I: sign and digits without a point
}

// Special marks the decimals that are no numbers, which Table Schema allows.
type Special uint8

// NaN and the infinities of a Decimal.
const (
	Finite Special = iota
	NaN
	PlusInf
	MinusInf
)

// BigInt returns a finite Decimal's unscaled value.
func (v *Value) BigInt() *big.Int {
	if v.B == nil {
		return big.NewInt(v.I)
	}
	n, _ := new(big.Int).SetString(string(v.B), 10)
	return n
}

// Float64 returns the nearest floating-point number of an Integer, Decimal or Float.
func (v *Value) Float64() float64 {
	switch {
	case v.Kind == Integer:
		return float64(v.I)
	case v.Kind == Float:
		return v.X
	case v.Odd == Finite && v.B == nil && v.Scale < int32(len(powers)) && v.I > -1<<53 && v.I < 1<<53:
		return float64(v.I) / powers[v.Scale]
	}
	f, _ := strconv.ParseFloat(v.String(), 64)
	return f
}

var powers = [...]float64{1, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14, 1e15}
var intPowers = [...]int64{1, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14, 1e15, 1e16,
	1e17, 1e18}

// String returns the value as people and messages show it.
func (v *Value) String() string {
	switch v.Kind {
	case Null:
		return ""
	case Integer:
		return strconv.FormatInt(v.I, 10)
	case Decimal:
		return v.decimalText()
	case Float:
		return strconv.FormatFloat(v.X, 'g', -1, 64)
	case Boolean:
		return strconv.FormatBool(v.I != 0)
	case Instant:
		return v.time().Format("2006-01-02T15:04:05.999999999Z07:00")
	case Wall:
		return v.time().Format("2006-01-02T15:04:05.999999999")
	case Day:
		return time.Unix(v.I*86400, 0).UTC().Format("2006-01-02")
	case Clock:
		return v.time().Format("15:04:05.999999999")
	case Span:
		return fmt.Sprintf("P%dM%dDT%sS", v.M, v.D, strconv.FormatFloat(float64(v.I)/1e6, 'f', -1, 64))
	case Point:
		return strconv.FormatFloat(v.X, 'f', -1, 64) + ", " + strconv.FormatFloat(v.Y, 'f', -1, 64)
	case Binary, UUID:
		return fmt.Sprintf("%x", v.B)
	}
	return string(v.B)
}

func (v *Value) time() time.Time { return time.UnixMicro(v.I).Add(time.Duration(v.D)).UTC() }

func (v *Value) decimalText() string {
	switch v.Odd {
	case NaN:
		return "NaN"
	case PlusInf:
		return "INF"
	case MinusInf:
		return "-INF"
	}
	digits := string(v.AppendDigits(nil))
	if v.Scale == 0 {
		return digits
	}
	sign := ""
	if digits[0] == '-' {
		sign, digits = "-", digits[1:]
	}
	if pad := int(v.Scale) + 1 - len(digits); pad > 0 {
		digits = strings.Repeat("0", pad) + digits
	}
	point := len(digits) - int(v.Scale)
	return sign + digits[:point] + "." + digits[point:]
}

// AppendDigits adds the sign and digits of a finite Decimal's or Integer's
// unscaled value.
func (v *Value) AppendDigits(dst []byte) []byte {
	if v.B != nil {
		return append(dst, v.B...)
	}
	return strconv.AppendInt(dst, v.I, 10)
}

// Compare orders two values of the same kind: -1, 0 or 1. Null is least, NaN
// and plus infinity are greatest.
func Compare(a, b *Value) int {
	if a.Kind == Null || b.Kind == Null {
		return cmp.Compare(min(a.Kind, 1), min(b.Kind, 1))
	}
	switch a.Kind {
	case Decimal:
		return compareDecimals(a, b)
	case Float:
		return cmp.Compare(a.X, b.X)
	case Text, JSON, Binary, UUID:
		return bytes.Compare(a.B, b.B)
	case Span:
		const day = 86400 * 1_000_000
		return cmp.Compare((int64(a.M)*30+int64(a.D))*day+a.I, (int64(b.M)*30+int64(b.D))*day+b.I)
	case Point:
		return cmp.Or(cmp.Compare(a.X, b.X), cmp.Compare(a.Y, b.Y))
	}
	return cmp.Compare(a.I, b.I)
}

// Range is the least and the greatest of some values, as text. Texts stand in the order of their bytes in
// UTF-8.
type Range struct {
	From string `json:"from"`
	To   string `json:"to"`
}

func compareDecimals(a, b *Value) int {
	if a.Odd != Finite || b.Odd != Finite {
		rank := func(v *Value) int { return [...]int{0, 2, 1, -1}[v.Odd] }
		return cmp.Compare(rank(a), rank(b))
	}
	if a.B == nil && b.B == nil {
		if a.Scale == b.Scale {
			return cmp.Compare(a.I, b.I)
		}
		x, okX := rescale(a.I, b.Scale-a.Scale)
		y, okY := rescale(b.I, a.Scale-b.Scale)
		if okX && okY {
			return cmp.Compare(x, y)
		}
	}
	x, y := a.BigInt(), b.BigInt()
	ten := big.NewInt(10)
	if d := int64(b.Scale - a.Scale); d > 0 {
		x.Mul(x, new(big.Int).Exp(ten, big.NewInt(d), nil))
	} else if d < 0 {
		y.Mul(y, new(big.Int).Exp(ten, big.NewInt(-d), nil))
	}
	return x.Cmp(y)
}

// rescale multiplies by a power of ten; by <= 0 leaves the number as it is.
func rescale(n int64, by int32) (int64, bool) {
	if by <= 0 {
		return n, true
	}
	if int(by) >= len(intPowers) {
		return 0, n == 0
	}
	r := n * intPowers[by]
	return r, r/intPowers[by] == n
}

// DigestVersion is the first byte of every digest. It changes when
// [AppendCanonical] or the hash does, so that digests of two ways of
// computing are never taken for each other.
const DigestVersion = 1

// DigestSize is the length of a digest in bytes: the version, and XXH3-128.
const DigestSize = 17

// Deletes, in place of a digest, marks a row that says that its key is to be
// deleted. No row has such a digest.
var Deletes = []byte{0}

// AppendDigest adds the digest of canonical bytes to dst.
func AppendDigest(dst, canonical []byte) []byte {
	h := xxh3.Hash128(canonical)
	dst = append(dst, DigestVersion)
	dst = binary.BigEndian.AppendUint64(dst, h.Hi)
	return binary.BigEndian.AppendUint64(dst, h.Lo)
}

// AppendCanonical adds a form of the value in which equal values, and only
// they, have equal bytes: 2.50 is written like 2.5, and a text cannot run over
// into its neighbour.
func (v *Value) AppendCanonical(dst []byte) []byte {
	dst = append(dst, byte(v.Kind))
	switch v.Kind {
	case Null:
		return dst
	case Decimal:
		return v.appendCanonicalDecimal(dst)
	case JSON:
		return appendCanonicalJSON(dst, v.B)
	case Text, Binary, UUID:
		dst = binary.BigEndian.AppendUint32(dst, uint32(len(v.B)))
		return append(dst, v.B...)
	case Span:
		dst = binary.BigEndian.AppendUint32(dst, uint32(v.M))
		dst = binary.BigEndian.AppendUint32(dst, uint32(v.D))
	case Float:
		return strconv.AppendFloat(dst, v.X, 'g', -1, 64)
	case Point:
		dst = strconv.AppendFloat(dst, v.X, 'g', -1, 64)
		return strconv.AppendFloat(append(dst, ' '), v.Y, 'g', -1, 64)
	}
	return binary.BigEndian.AppendUint64(dst, uint64(v.I))
}

// pairs is the numbers from 00 to 99.
const pairs = "00010203040506070809" + "10111213141516171819" + "20212223242526272829" + "30313233343536373839" +
	"40414243444546474849" +
	"50515253545556575859" + "60616263646566676869" + "70717273747576777879" + "80818283848586878889" +
	"90919293949596979899"

// appendInteger is strconv.AppendInt to the base of 10, in half the time: digests
// of tables with many numbers are mostly this.
func appendInteger(dst []byte, n int64) []byte {
	u := uint64(n)
	if n < 0 {
		dst, u = append(dst, '-'), -u
	}
	var b [20]byte
	i := len(b)
	for u >= 100 {
		q := u / 100
		at := (u - q*100) * 2
		i -= 2
		b[i], b[i+1] = pairs[at], pairs[at+1]
		u = q
	}
	if u >= 10 {
		i -= 2
		b[i], b[i+1] = pairs[u*2], pairs[u*2+1]
	} else {
		i--
		b[i] = byte('0' + u)
	}
	return append(dst, b[i:]...)
}

func (v *Value) appendCanonicalDecimal(dst []byte) []byte {
	dst = append(dst, byte(v.Odd))
	if v.Odd != Finite {
		return dst
	}
	n, scale := v.I, v.Scale
	if v.B == nil {
		for scale > 0 && n%10 == 0 {
			n /= 10
			scale--
		}
		return appendInteger(append(dst, byte(scale>>8), byte(scale)), n)
	}
	digits := v.B
	for scale > 0 && digits[len(digits)-1] == '0' {
		digits = digits[:len(digits)-1]
		scale--
	}
	dst = append(dst, byte(scale>>8), byte(scale))
	return append(dst, digits...)
}
