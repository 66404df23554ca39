package tabular

import (
	"bytes"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"net/mail"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"mullein/internal/core/timeformat"
)

// Column converts the cells of one field. It keeps scratch space, so each
// reader needs its own.
type Column struct {
	Field Field
	Kind  Kind // of every value that is not null

	zone     *time.Location
	missing  []string
	blanks   []Value // the missing values that are numbers
	read     func(cell []byte, v *Value) error
	required bool
	min, max bound
	minLen   int
	maxLen   int
	pattern  *regexp.Regexp
	enum     []Value
	enumText map[string]bool

	jsonSchema *jsonschema.Schema

	// Files repeat themselves: the same time in row after row, the same few
	// stations all along. What was read and checked once is remembered.
	lastCell  []byte
	lastValue Value // of lastCell; only for kinds without B
	matching  map[string]bool

	checked bool // something is to be checked
	ready   ready
}

// matchingKept bounds the texts that are remembered to match the pattern.
const matchingKept = 4096

type bound struct {
	set, exclusive bool
	v              Value
	text           string
}

// CellError says why a cell could not be taken: "31.02.2026 is no such date".
type CellError struct {
	Reason string
	Rule   string // what it broke: type, required, minimum, maximum, minLength, maxLength, pattern or enum
}

func (e *CellError) Error() string { return e.Reason }

func reject(format string, args ...any) error {
	return &CellError{fmt.Sprintf(format, args...), "type"}
}

// breaks is reject for the constraints of a field.
func breaks(rule, format string, args ...any) error {
	return &CellError{fmt.Sprintf(format, args...), rule}
}

// CompileField makes the converter of the field at index i.
func (s *Schema) CompileField(i int, zone *time.Location) (*Column, error) {
	f := s.Fields[i]
	c := &Column{Field: f, missing: s.MissingValues}
	if f.MissingValues != nil {
		c.missing = f.MissingValues
	} else if c.missing == nil {
		c.missing = []string{""}
	}
	if err := c.setReader(zone); err != nil {
		return nil, err
	}
	c.zone = zone
	for _, text := range c.missing {
		var v Value
		if parseDecimal([]byte(text), '.', &v) == nil {
			v.Kind = Decimal
			c.blanks = append(c.blanks, v)
		}
	}
	k := f.Constraints
	c.required = k.Required || slices.Contains(s.PrimaryKey, f.Name)
	c.minLen, c.maxLen = k.MinLength, k.MaxLength
	if k.Pattern != "" {
		re, err := regexp.Compile("^(?:" + k.Pattern + ")$")
		if err != nil {
			return nil, fmt.Errorf("constraint pattern: %w", err)
		}
		c.pattern, c.matching = re, map[string]bool{}
	}
	if k.JSONSchema != "" {
		var err error
		if c.jsonSchema, err = compileJSONSchema(k.JSONSchema); err != nil {
			return nil, fmt.Errorf("constraint jsonSchema: %w", err)
		}
	}
	for _, b := range []struct {
		text      string
		exclusive bool
		to        *bound
	}{{k.Minimum, false, &c.min}, {k.ExclusiveMinimum, true, &c.min}, {k.Maximum, false, &c.max},
		{k.ExclusiveMaximum, true, &c.max}} {
		if b.text == "" {
			continue
		}
		v, err := c.literal(b.text)
		if err != nil {
			return nil, fmt.Errorf("bound %q: %w", b.text, err)
		}
		*b.to = bound{set: true, exclusive: b.exclusive, v: v, text: b.text}
	}
	for _, text := range k.Enum {
		v, err := c.literal(text)
		if err != nil {
			return nil, fmt.Errorf("enum value %q: %w", text, err)
		}
		c.enum = append(c.enum, v)
	}
	if c.Kind == Text && len(k.Enum) > 0 {
		c.enumText = map[string]bool{}
		for _, text := range k.Enum {
			c.enumText[text] = true
		}
	}
	c.prepare()
	return c, nil
}

// literal reads a bound or an enum value. Numbers are written with a point
// there, whatever the file's own decimalChar is.
func (c *Column) literal(text string) (Value, error) {
	var v Value
	read := c.read
	if c.Field.Type == "number" || c.Field.Type == "integer" {
		plain := Column{Field: Field{Type: c.Field.Type}}
		if err := plain.setReader(time.UTC); err != nil {
			return v, err
		}
		read = plain.read
	}
	if err := read([]byte(text), &v); err != nil {
		return v, err
	}
	v.B = bytes.Clone(v.B)
	return v, nil
}

// Convert reads one cell into v. The value may point into cell. Errors are of
// type [*CellError].
func (c *Column) Convert(cell []byte, v *Value) error {
	for _, m := range c.missing {
		if string(cell) == m {
			return c.Absent(v)
		}
	}
	if c.lastValue.Kind != Null && bytes.Equal(cell, c.lastCell) {
		*v = c.lastValue
		return nil
	}
	*v = Value{Kind: c.Kind}
	if err := c.read(cell, v); err != nil {
		return err
	}
	if err := c.toMicroseconds(v); err != nil {
		return err
	}
	if err := c.check(v); err != nil {
		return err
	}
	if c.Kind == Instant || c.Kind == Day || c.Kind == Clock {
		c.lastCell, c.lastValue = append(c.lastCell[:0], cell...), *v
	}
	return nil
}

// toMicroseconds cuts a time, or says that it is finer than the target keeps.
func (c *Column) toMicroseconds(v *Value) error {
	if v.D == 0 || v.Kind == Span {
		return nil
	}
	if !c.Field.CutNanoseconds {
		return reject("%d nanoseconds more than the microseconds that the target keeps; nanoseconds: cut  in the "+
			"field cuts them", v.D)
	}
	v.D = 0
	return nil
}

// Absent makes v null, or says that a value is required.
func (c *Column) Absent(v *Value) error {
	*v = Value{}
	if c.required {
		return breaks("required", "a value is required here")
	}
	return nil
}

func (c *Column) check(v *Value) error {
	if !c.checked || c.within(v) {
		return nil
	}
	if c.min.set {
		if n := Compare(v, &c.min.v); n < 0 || (n == 0 && c.min.exclusive) || v.Odd == NaN {
			return breaks("minimum", "less than the minimum %s", c.min.text)
		}
	}
	if c.max.set {
		if n := Compare(v, &c.max.v); n > 0 || (n == 0 && c.max.exclusive) {
			return breaks("maximum", "more than the maximum %s", c.max.text)
		}
	}
	if c.minLen > 0 || c.maxLen > 0 {
		n := utf8.RuneCount(v.B)
		if n < c.minLen {
			return breaks("minLength", "shorter than %d characters", c.minLen)
		}
		if c.maxLen > 0 && n > c.maxLen {
			return breaks("maxLength", "longer than %d characters", c.maxLen)
		}
	}
	if c.pattern != nil && !c.matching[string(v.B)] {
		if !c.pattern.Match(v.B) {
			return breaks("pattern", "does not match the pattern %s", c.Field.Constraints.Pattern)
		}
		if len(c.matching) < matchingKept && len(v.B) < 256 {
			c.matching[string(v.B)] = true
		}
	}
	if c.enumText != nil {
		if !c.isOneOf(v.B) {
			return breaks("enum", "not one of %s", strings.Join(c.Field.Constraints.Enum, ", "))
		}
	} else if c.enum != nil {
		if !slices.ContainsFunc(c.enum, func(e Value) bool { return Compare(&e, v) == 0 }) {
			return breaks("enum", "not one of %s", strings.Join(c.Field.Constraints.Enum, ", "))
		}
	}
	if c.jsonSchema != nil {
		return c.fits(v.B)
	}
	return nil
}

// scales are those of decimals whose bounds are kept ready.
const scales = 8

// ready holds the bounds of numbers as whole numbers of each scale.
type ready struct {
	from, to [scales]int64
	upTo     int32 // scales below this are ready
}

// prepare makes the bounds ready where they are all that is to be checked.
func (c *Column) prepare() {
	c.checked = c.min.set || c.max.set || c.minLen > 0 || c.maxLen > 0 || c.pattern != nil || c.enum != nil ||
		c.jsonSchema != nil
	if (c.Kind != Integer && c.Kind != Decimal) || c.minLen > 0 || c.maxLen > 0 || c.pattern != nil ||
		c.enum != nil || !c.checked {
		return
	}
	for scale := range int32(scales) {
		from, to := int64(math.MinInt64), int64(math.MaxInt64)
		for _, b := range []*bound{&c.min, &c.max} {
			if !b.set {
				continue
			}
			n, ok := rescale(b.v.I, scale-b.v.Scale)
			if b.v.B != nil || b.v.Odd != Finite || !ok || b.v.Scale > 0 {
				return
			}
			switch {
			case b == &c.min && b.exclusive:
				from = n + 1
			case b == &c.min:
				from = n
			case b.exclusive:
				to = n - 1
			default:
				to = n
			}
		}
		c.ready.from[scale], c.ready.to[scale], c.ready.upTo = from, to, scale+1
	}
}

// within reports quickly whether a number is within its bounds. false may mean
// that it takes a longer look.
func (c *Column) within(v *Value) bool {
	if v.Scale >= c.ready.upTo || v.B != nil || v.Odd != Finite {
		return false
	}
	return v.I >= c.ready.from[v.Scale] && v.I <= c.ready.to[v.Scale]
}

// isOneOf reports whether a text is allowed. A short list is gone through.
func (c *Column) isOneOf(text []byte) bool {
	const short = 8
	if len(c.Field.Constraints.Enum) > short {
		return c.enumText[string(text)]
	}
	for _, e := range c.Field.Constraints.Enum {
		if e == string(text) {
			return true
		}
	}
	return false
}

func (c *Column) setReader(zone *time.Location) error {
	f := &c.Field
	var err error
	switch f.Type {
	case "string", "any", "":
		err = c.setText()
	case "integer":
		c.Kind, c.read = Integer, c.integer()
	case "number":
		c.Kind, c.read = Decimal, c.number()
	case "boolean":
		c.Kind, c.read = Boolean, c.boolean()
	case "datetime":
		c.Kind = Instant
		c.read, err = c.datetime(zone)
	case "date":
		c.Kind = Day
		c.read, err = c.date("%Y-%m-%d")
	case "time":
		c.Kind = Clock
		c.read, err = c.clock()
	case "year":
		c.Kind, c.read = Integer, readYear
	case "yearmonth":
		c.Kind = Day
		c.read, err = c.date("%Y-%m")
	case "duration":
		c.Kind, c.read = Span, readDuration
	case "geopoint":
		c.Kind = Point
		c.read, err = geopoint(f.Format)
	case "object", "geojson":
		c.Kind, c.read = JSON, jsonOf('{', "a JSON object")
	case "array":
		c.Kind, c.read = JSON, jsonOf('[', "a JSON array")
	case "list":
		c.Kind = JSON
		c.read, err = c.list(zone)
	default:
		err = fmt.Errorf("unknown type %q", f.Type)
	}
	return err
}

func plainText(cell []byte, v *Value) error {
	if !utf8.Valid(cell) {
		return reject("not valid UTF-8")
	}
	if bytes.IndexByte(cell, 0) >= 0 {
		return reject("holds a NUL byte, which no text column can keep")
	}
	v.Kind, v.B = Text, cell
	return nil
}

func (c *Column) setText() error {
	c.Kind, c.read = Text, plainText
	switch c.Field.Format {
	case "", "default":
	case "email":
		c.read = checkedText("an e-mail address", func(s string) bool {
			a, err := mail.ParseAddress(s)
			return err == nil && a.Address == s
		})
	case "uri":
		c.read = checkedText("a URI", func(s string) bool {
			u, err := url.Parse(s)
			return err == nil && u.Scheme != ""
		})
	case "binary":
		c.Kind, c.read = Binary, func(cell []byte, v *Value) error {
			b, err := base64.StdEncoding.AppendDecode(nil, cell)
			if err != nil {
				return reject("not base64")
			}
			v.Kind, v.B = Binary, b
			return nil
		}
	case "uuid":
		c.Kind, c.read = UUID, readUUID
	default:
		return fmt.Errorf("unknown string format %q", c.Field.Format)
	}
	return nil
}

func checkedText(what string, ok func(string) bool) func([]byte, *Value) error {
	return func(cell []byte, v *Value) error {
		if err := plainText(cell, v); err != nil {
			return err
		}
		if !ok(string(cell)) {
			return reject("not %s", what)
		}
		return nil
	}
}

func readUUID(cell []byte, v *Value) error {
	if len(cell) != 36 || cell[8] != '-' || cell[13] != '-' || cell[18] != '-' || cell[23] != '-' {
		return reject("not a UUID")
	}
	b, err := hex.DecodeString(strings.ReplaceAll(string(cell), "-", ""))
	if err != nil {
		return reject("not a UUID")
	}
	v.Kind, v.B = UUID, b
	return nil
}

func (c *Column) bare(cell []byte) []byte {
	if c.Field.SoleNumber || c.Field.Type == "" {
		return cell
	}
	return bytes.TrimFunc(cell, func(r rune) bool { return (r < '0' || r > '9') && r != '-' && r != '+' })
}

func (c *Column) integer() func([]byte, *Value) error {
	group := c.Field.GroupChar
	trim := !c.Field.SoleNumber
	return func(cell []byte, v *Value) error {
		if trim {
			cell = c.bare(cell)
		}
		cell, err := ungroup(cell, group, 0)
		if err != nil {
			return err
		}
		n, err := parseInt(cell)
		if err != nil {
			return err
		}
		v.Kind, v.I = Integer, n
		return nil
	}
}

func parseInt(cell []byte) (int64, error) {
	s := cell
	negative := false
	if len(s) > 0 && (s[0] == '-' || s[0] == '+') {
		negative = s[0] == '-'
		s = s[1:]
	}
	if len(s) == 0 {
		return 0, reject("not a whole number")
	}
	var n uint64
	for _, ch := range s {
		if ch < '0' || ch > '9' {
			return 0, reject("not a whole number")
		}
		if n > (math.MaxUint64-9)/10 {
			return 0, reject("too large for a whole number of 64 bits")
		}
		n = n*10 + uint64(ch-'0')
	}
	if negative && n <= 1<<63 {
		return -int64(n), nil
	}
	if n > math.MaxInt64 {
		return 0, reject("too large for a whole number of 64 bits")
	}
	return int64(n), nil
}

// maxDigits bounds a number; PostgreSQL's numeric holds far more.
const maxDigits = 1000

func (c *Column) number() func([]byte, *Value) error {
	group, point := c.Field.GroupChar, byte('.')
	if c.Field.DecimalChar != "" {
		point = c.Field.DecimalChar[0]
	}
	trim := !c.Field.SoleNumber
	return func(cell []byte, v *Value) error {
		v.Kind = Decimal
		switch string(cell) {
		case "NaN":
			v.Odd = NaN
			return nil
		case "INF", "+INF":
			v.Odd = PlusInf
			return nil
		case "-INF":
			v.Odd = MinusInf
			return nil
		}
		if trim {
			cell = c.bare(cell)
		}
		cell, err := ungroup(cell, group, point)
		if err != nil {
			return err
		}
		return parseDecimal(cell, point, v)
	}
}

// ungroup takes out what stands between groups of digits: groups of three, before the
// decimal point. Elsewhere it is not what the field's groupChar is for: 1.50 with a
// groupChar of "." is not 150.
func ungroup(cell []byte, group string, point byte) ([]byte, error) {
	if group == "" || !bytes.Contains(cell, []byte(group)) {
		return cell, nil
	}
	end := bytes.IndexFunc(cell, func(r rune) bool { return point != 0 && r == rune(point) || r == 'e' || r == 'E' })
	if end < 0 {
		end = len(cell)
	}
	out := make([]byte, 0, len(cell))
	for i, digits := range bytes.Split(cell[:end], []byte(group)) {
		n := len(digits)
		if i == 0 {
			n = len(bytes.TrimLeft(digits, "+-"))
		}
		if i == 0 && (n < 1 || n > 3) || i > 0 && n != 3 {
			return nil, reject("its digits are not in groups of three")
		}
		out = append(out, digits...)
	}
	if bytes.Contains(cell[end:], []byte(group)) {
		return nil, reject("its digits are grouped behind the decimal point")
	}
	return append(out, cell[end:]...), nil
}

// parseDecimal reads digits with an optional sign, point and exponent. It
// allocates only for more than 18 digits.
func parseDecimal(cell []byte, point byte, v *Value) error {
	s := cell
	negative := false
	if len(s) > 0 && (s[0] == '-' || s[0] == '+') {
		negative = s[0] == '-'
		s = s[1:]
	}
	var n int64
	digits, scale, significant := 0, 0, 0
	seenPoint := false
	i := 0
loop:
	for ; i < len(s); i++ {
		switch ch := s[i]; {
		case ch >= '0' && ch <= '9':
			digits++
			if significant > 0 || ch != '0' {
				significant++
			}
			if significant <= 18 {
				n = n*10 + int64(ch-'0')
			}
			if seenPoint {
				scale++
			}
		case ch == point && !seenPoint:
			seenPoint = true
		case ch == 'e' || ch == 'E':
			break loop
		default:
			return reject("not a number")
		}
	}
	if digits == 0 {
		return reject("not a number")
	}
	exponent := int64(0)
	if i < len(s) {
		e, err := parseInt(s[i+1:])
		if err != nil || e > maxDigits || e < -maxDigits {
			return reject("not a number, or its exponent is beyond %d", maxDigits)
		}
		exponent = e
	}
	if digits > maxDigits {
		return reject("a number of more than %d digits", maxDigits)
	}
	scale64 := int64(scale) - exponent
	if written := max(int64(significant)-min(0, scale64), scale64+1); written > maxDigits {
		return reject("a number of more than %d digits, written out", maxDigits)
	}
	if significant <= 18 && scale64 >= 0 {
		if negative {
			n = -n
		}
		v.I, v.Scale = n, int32(scale64)
		return nil
	}
	writtenOut(s[:i], scale64, negative, v)
	return nil
}

// writtenOut makes the value of a number of many digits, or with zeros at its end that
// are not written.
func writtenOut(digits []byte, scale64 int64, negative bool, v *Value) {
	text := make([]byte, 0, len(digits)+int(max(0, -scale64))+1)
	for _, ch := range digits {
		if ch >= '0' && ch <= '9' && (len(text) > 0 || ch != '0') {
			text = append(text, ch)
		}
	}
	if len(text) == 0 {
		v.I, v.Scale = 0, int32(max(0, scale64))
		return
	}
	for ; scale64 < 0; scale64++ {
		text = append(text, '0')
	}
	v.Scale = int32(scale64)
	if negative {
		text = slices.Insert(text, 0, '-')
	}
	if len(text) <= 18 {
		v.I, _ = strconv.ParseInt(string(text), 10, 64)
		return
	}
	v.B = text
}

func (c *Column) boolean() func([]byte, *Value) error {
	yes, no := c.Field.TrueValues, c.Field.FalseValues
	if yes == nil {
		yes = []string{"true", "True", "TRUE", "1"}
	}
	if no == nil {
		no = []string{"false", "False", "FALSE", "0"}
	}
	return func(cell []byte, v *Value) error {
		v.Kind = Boolean
		for _, t := range yes {
			if string(cell) == t {
				v.I = 1
				return nil
			}
		}
		for _, t := range no {
			if string(cell) == t {
				v.I = 0
				return nil
			}
		}
		return reject("neither yes (%s) nor no (%s)", strings.Join(yes, ", "), strings.Join(no, ", "))
	}
}

func timeReason(err error, what, format string) error {
	if errors.Is(err, timeformat.ErrNoSuchTime) {
		return reject("no such %s", what)
	}
	return reject("not a %s of the form %s", what, format)
}

// dateTime returns the reader of a field's texts for times, and the form that it reads.
func (c *Column) dateTime() (parse func([]byte) (timeformat.Fields, error), form string, err error) {
	switch c.Field.Format {
	case "", "default":
		return timeformat.ISO, "2026-01-31T14:30:00Z", nil
	case "any":
		return nil, "", errors.New("format any would have to guess; give the format, such as \"%d.%m.%Y %H:%M\"")
	}
	l, err := timeformat.Compile(c.Field.Format)
	if err != nil {
		return nil, "", err
	}
	return l.Parse, c.Field.Format, nil
}

func (c *Column) datetime(zone *time.Location) (func([]byte, *Value) error, error) {
	parse, form, err := c.dateTime()
	if err != nil {
		return nil, err
	}
	return func(cell []byte, v *Value) error {
		fields, err := parse(cell)
		if err != nil {
			return timeReason(err, "date and time", form)
		}
		t := fields.In(zone)
		if !fields.HasOffset && t.Location() == zone && (t.Hour() != fields.Hour || t.Minute() != fields.Minute) {
			return reject("no such time in zone %s: the clocks skip it", zone)
		}
		v.Kind, v.I, v.D = Instant, t.UnixMicro(), int32(t.Nanosecond()%1000)
		return nil
	}, nil
}

func (c *Column) date(standard string) (func([]byte, *Value) error, error) {
	if c.Field.Format == "any" {
		return nil, errors.New("format any would have to guess; give the format, such as \"%d.%m.%Y\"")
	}
	layout, format, err := c.layoutOr(standard)
	if err != nil {
		return nil, err
	}
	return func(cell []byte, v *Value) error {
		fields, err := layout.Parse(cell)
		if err != nil {
			return timeReason(err, "date", format)
		}
		v.Kind, v.I = Day, fields.Days()
		return nil
	}, nil
}

// layoutOr is the layout of the field's format; by default, that of the standard, which
// is read just as it is written.
func (c *Column) layoutOr(standard string) (layout *timeformat.Layout, format string, err error) {
	if format = c.Field.Format; format == "" || format == "default" {
		if layout, err = timeformat.Compile(standard); err == nil {
			layout = layout.Exact()
		}
		return layout, standard, err
	}
	layout, err = timeformat.Compile(format)
	return layout, format, err
}

func (c *Column) clock() (func([]byte, *Value) error, error) {
	layout, format, err := c.layoutOr("%H:%M:%S")
	if err != nil {
		return nil, err
	}
	return func(cell []byte, v *Value) error {
		f, err := layout.Parse(cell)
		if err != nil {
			return timeReason(err, "time of day", format)
		}
		v.Kind = Clock
		v.I, v.D = int64(f.Hour*3600+f.Minute*60+f.Second)*1_000_000+int64(f.Nanosecond/1000), int32(f.Nanosecond%1000)
		return nil
	}, nil
}

func floorDiv(a, b int64) int64 {
	q := a / b
	if a%b < 0 {
		q--
	}
	return q
}

func readYear(cell []byte, v *Value) error {
	n, err := parseInt(cell)
	if err != nil || n < -9999 || n > 9999 || len(cell) < 4 {
		return reject("not a year")
	}
	v.Kind, v.I = Integer, n
	return nil
}

var durationForm = regexp.MustCompile(`^(-)?P(?:(\d{1,6})Y)?(?:(\d{1,6})M)?(?:(\d{1,6})W)?(?:(\d{1,8})D)?(?:T(?:(\d{1,8})H)?(?:(\d{1,8})M)?(?:(\d{1,9})(?:\.(\d{1,6}))?S)?)?$`)

// readDuration reads ISO 8601, such as P1DT12H.
func readDuration(cell []byte, v *Value) error {
	m := durationForm.FindSubmatch(cell)
	if m == nil || len(cell) < 3 || cell[len(cell)-1] == 'T' {
		return reject("not a duration such as P1DT12H")
	}
	n := func(i int) int64 { x, _ := strconv.ParseInt(string(m[i]), 10, 64); return x }
	micros := int64(0)
	if len(m[9]) > 0 {
		micros, _ = strconv.ParseInt(string(append(bytes.Clone(m[9]), "000000"[len(m[9]):]...)), 10, 64)
	}
	sign := int64(1)
	if len(m[1]) > 0 {
		sign = -1
	}
	v.Kind = Span
	v.M = int32(sign * (n(2)*12 + n(3)))
	v.D = int32(sign * (n(4)*7 + n(5)))
	v.I = sign * ((n(6)*3600+n(7)*60+n(8))*1_000_000 + micros)
	return nil
}

func geopoint(format string) (func([]byte, *Value) error, error) {
	var pair func(cell []byte) (x, y float64, err error)
	number := func(b []byte) (float64, error) { return strconv.ParseFloat(string(bytes.TrimSpace(b)), 64) }
	switch format {
	case "", "default":
		pair = func(cell []byte) (float64, float64, error) {
			a, b, found := bytes.Cut(cell, []byte(","))
			if !found {
				return 0, 0, errors.New("no comma")
			}
			x, errX := number(a)
			y, errY := number(b)
			return x, y, errors.Join(errX, errY)
		}
	case "array":
		pair = func(cell []byte) (float64, float64, error) {
			var a []float64
			if err := json.Unmarshal(cell, &a); err != nil || len(a) != 2 {
				return 0, 0, errors.New("not two numbers")
			}
			return a[0], a[1], nil
		}
	case "object":
		pair = func(cell []byte) (float64, float64, error) {
			var o struct{ Lon, Lat *float64 }
			if err := json.Unmarshal(cell, &o); err != nil || o.Lon == nil || o.Lat == nil {
				return 0, 0, errors.New("no lon and lat")
			}
			return *o.Lon, *o.Lat, nil
		}
	default:
		return nil, fmt.Errorf("unknown geopoint format %q", format)
	}
	return func(cell []byte, v *Value) error {
		x, y, err := pair(cell)
		if err != nil || math.Abs(x) > 180 || math.Abs(y) > 90 || math.IsNaN(x+y) {
			return reject("not a longitude and latitude")
		}
		v.Kind, v.X, v.Y = Point, x, y
		return nil
	}, nil
}

func jsonOf(first byte, what string) func([]byte, *Value) error {
	return func(cell []byte, v *Value) error {
		trimmed := bytes.TrimSpace(cell)
		if len(trimmed) == 0 || trimmed[0] != first || !json.Valid(trimmed) || !utf8.Valid(trimmed) {
			return reject("not %s", what)
		}
		var out bytes.Buffer
		if err := json.Compact(&out, trimmed); err != nil {
			return reject("not %s", what)
		}
		if hasNUL(out.Bytes()) {
			return reject("holds a NUL character, which PostgreSQL cannot keep")
		}
		v.Kind, v.B = JSON, out.Bytes()
		return nil
	}
}

// list reads items between delimiters into a JSON array.
func (c *Column) list(zone *time.Location) (func([]byte, *Value) error, error) {
	delimiter := c.Field.Delimiter
	if delimiter == "" {
		delimiter = ","
	}
	itemType := c.Field.ItemType
	if itemType == "" {
		itemType = "string"
	}
	if !slices.Contains([]string{"string", "integer", "boolean", "number", "datetime", "date", "time"}, itemType) {
		return nil, fmt.Errorf("unknown itemType %q", itemType)
	}
	item := Column{Field: Field{Type: itemType, SoleNumber: true}}
	if err := item.setReader(zone); err != nil {
		return nil, err
	}
	return func(cell []byte, v *Value) error {
		out := []byte{'['}
		for i, part := range bytes.Split(cell, []byte(delimiter)) {
			var iv Value
			if err := item.read(part, &iv); err != nil {
				return reject("item %d: %s", i+1, err.Error())
			}
			if i > 0 {
				out = append(out, ',')
			}
			switch iv.Kind {
			case Integer, Decimal, Boolean:
				if iv.Odd != Finite {
					return reject("item %d: not a finite number", i+1)
				}
				out = append(out, iv.String()...)
			default:
				quoted, err := json.Marshal(iv.String())
				if err != nil {
					return reject("item %d: %s", i+1, err.Error())
				}
				out = append(out, quoted...)
			}
		}
		v.Kind, v.B = JSON, append(out, ']')
		return nil
	}, nil
}

// hasNUL reports whether a JSON text has the character U+0000 in it, which PostgreSQL
// cannot keep. A backslash that is escaped begins nothing.
func hasNUL(text []byte) bool {
	const escaped = `\u0000`
	for at := 0; ; at += len(escaped) {
		i := bytes.Index(text[at:], []byte(escaped))
		if i < 0 {
			return false
		}
		at += i
		before := 0
		for before < at && text[at-1-before] == '\\' {
			before++
		}
		if before%2 == 0 {
			return true
		}
	}
}
