package draft

import (
	"fmt"
	"maps"
	"math"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"

	"mullein/internal/core/tabular"
	"mullein/internal/core/timeformat"
)

// column is what a column holds, as far as it was looked at.
type column struct {
	source string
	seen   int
	blanks map[string]int // texts that are likely marks of missing values
	texts  map[string]int // others, up to a bound
	more   bool           // there are others
	kinds  map[tabular.Kind]int
	hashes []uint64        // of the rows; 0 for a blank
	absent int             // rows of files or records that do not have the column
	long   int             // bytes of all texts
	most   int             // texts that are kept before only those are that do not fit
	fits   *tabular.Column // what the first texts were taken for
	node   *node           // where it stands in records; nil for none
}

const (
	textsKept    = 5000    // of a column
	textsKeptAll = 1 << 20 // of all columns of a table
)

// newColumn returns a column that so many rows did not have.
func newColumn(source string, rows int) *column {
	c := &column{source: source, most: textsKept, blanks: map[string]int{}, texts: map[string]int{}, kinds: map[tabular.Kind]int{}}
	for range rows {
		c.blank("", true)
	}
	return c
}

// marks are texts that often stand for no value.
var marks = []string{"", "NA", "N/A", "n/a", "na", "null", "NULL", "None", "nan", "NaN", "-", "--", "?", "\\N"}

// blank adds a row without a value; absent where the file, or the record, does not even have
// the column.
func (c *column) blank(mark string, absent bool) {
	c.seen++
	if absent {
		c.absent++
	}
	c.blanks[mark]++
	c.hashes = append(c.hashes, 0)
}

func (c *column) text(s string) {
	if slices.Contains(marks, s) {
		c.blank(s, false)
		return
	}
	c.seen++
	c.kinds[tabular.Text]++
	c.keep(s)
}

func (c *column) keep(s string) {
	c.hashes = append(c.hashes, hashOf(s))
	c.long += len(s)
	if _, known := c.texts[s]; !known && len(c.texts) >= c.most {
		c.more = true
		if len(c.texts) >= 2*c.most || c.reads(s) {
			return
		}
	}
	c.texts[s]++
}

// reads reports whether a text can be read as what the first ones were taken for.
func (c *column) reads(s string) bool {
	if c.native() != "" {
		return true
	}
	if c.fits == nil {
		f := c.judge()
		c.fits = f.column()
	}
	var v tabular.Value
	return c.fits == nil || c.fits.Convert([]byte(s), &v) == nil
}

func (c *column) value(v *tabular.Value) {
	switch v.Kind {
	case tabular.Null:
		c.blank("", false)
	case tabular.Text:
		c.text(string(v.B))
	default:
		c.seen++
		c.kinds[v.Kind]++
		c.keep(v.String())
	}
}

// found is what a column most likely is.
type found struct {
	kind     string        // of Table Schema
	spec     tabular.Field // how it is written; the other members say the rest
	missing  []string
	required bool
	around   bool // a unit or a currency stands around numbers
	// constraints are those of a schema that lies beside the files.
	constraints map[string]any
	note        string // what was seen, and what is uncertain
}

// column compiles what was found; nil where that cannot be.
func (f *found) column() *tabular.Column {
	field := f.spec
	field.Name, field.Type, field.MissingValues, field.SoleNumber = "x", f.kind, f.missing, !f.around
	schema := tabular.Schema{Fields: []tabular.Field{field}}
	columns, err := schema.Compile(time.UTC)
	if err != nil {
		return nil
	}
	return columns[0]
}

// options writes how a column is written, as a feed file does.
func (f *found) options() (out []string) {
	add := func(name, value string) {
		if value != "" {
			out = append(out, name+": "+strconv.Quote(value))
		}
	}
	if f.spec.Format == "uuid" {
		out = append(out, "format: uuid")
	} else {
		add("format", f.spec.Format)
	}
	add("groupChar", f.spec.GroupChar)
	add("decimalChar", f.spec.DecimalChar)
	if f.around {
		out = append(out, "bareNumber: false")
	}
	if f.spec.TrueValues != nil {
		out = append(out, fmt.Sprintf("trueValues: [%s]", quoteAll(f.spec.TrueValues)),
			fmt.Sprintf("falseValues: [%s]", quoteAll(f.spec.FalseValues)))
	}
	if f.spec.CutNanoseconds {
		out = append(out, "nanoseconds: cut")
	}
	if len(f.missing) > 0 {
		out = append(out, fmt.Sprintf("missingValues: [\"\", %s]", quoteAll(f.missing)))
	}
	return out
}

// mayBeValues are marks that a column of texts may have for a value, such as a country's
// code; in columns of numbers or times nothing else can be meant.
var mayBeValues = []string{"NA", "na", "None", "nan", "NaN", "-", "--", "?"}

// marked says which marks of a column of texts are taken for no value.
func (f *found) marked() {
	var values []string
	f.missing = slices.DeleteFunc(f.missing, func(m string) bool {
		if !slices.Contains(mayBeValues, m) {
			return false
		}
		values = append(values, m)
		return true
	})
	if len(values) > 0 {
		f.say(fmt.Sprintf("uncertain: %s may stand for no value, and is kept as a text", quoteAll(values)))
	}
	if len(f.missing) > 0 {
		f.say(fmt.Sprintf("uncertain: %s is taken for no value", quoteAll(f.missing)))
	}
}

// nearly says that most texts are numbers, and some are not.
func (f *found) nearly(values []string) {
	const most, shown = 3, 3 // of four; examples
	var others []string
	for _, v := range values {
		if leadingZero.MatchString(v) || !pointNumber.MatchString(v) && !commaNumber.MatchString(v) {
			others = append(others, v)
		}
	}
	if n := len(values) - len(others); len(others) > 0 && n > 1 && n*4 >= len(values)*most {
		f.say(fmt.Sprintf("uncertain: %d of %d values are numbers, others are not: %s", n, len(values),
			quoteAll(others[:min(shown, len(others))])))
	}
}

// say adds to the note.
func (f *found) say(text string) { f.note = strings.TrimPrefix(f.note+"; "+text, "; ") }

// judge finds the narrowest type that fits everything that was seen.
func (c *column) judge() found {
	f := found{kind: "string"}
	values := make([]string, 0, len(c.texts))
	for s := range c.texts {
		values = append(values, s)
	}
	sort.Strings(values)
	for _, m := range slices.Sorted(maps.Keys(c.blanks)) {
		if m != "" {
			f.missing = append(f.missing, m)
		}
	}
	f.required = len(c.blanks) == 0 && len(values) > 0
	if declared := c.declared(); declared != "" && len(values) == 0 {
		f.kind, f.note = declared, "its type is that of the file; no value was seen"
		return f
	}
	if len(values) == 0 {
		f.note = "nothing but blanks was seen; its type is a guess"
		return f
	}
	if native := c.native(); native != "" {
		f.kind = native
	} else {
		values = c.fromTexts(values, &f)
	}
	if f.kind == "string" {
		f.marked()
		f.nearly(values)
	}
	if (f.kind == "datetime" || f.kind == "time") && slices.ContainsFunc(values, finer.MatchString) {
		f.spec.CutNanoseconds = true
		f.say("its times are finer than the microseconds that the target keeps, and are cut")
	}
	sort.Strings(f.missing)
	f.say(c.saw(values))
	return f
}

var nativeTypes = map[tabular.Kind]string{tabular.Text: "string", tabular.Integer: "integer", tabular.Decimal: "number",
	tabular.Float: "number", tabular.Boolean: "boolean", tabular.Instant: "datetime", tabular.Wall: "datetime",
	tabular.Day: "date", tabular.Clock: "time", tabular.Span: "duration", tabular.Binary: "string", tabular.UUID: "string"}

// declared returns the type that the file's own schema gives; "" for none.
func (c *column) declared() string {
	switch {
	case c.node == nil || c.node.kind == tabular.Null:
		return ""
	case c.node.kind == tabular.JSON && c.node.lists > 0:
		return "array"
	case c.node.kind == tabular.JSON:
		return "object"
	}
	return nativeTypes[c.node.kind]
}

// native returns the type where the file itself has one.
func (c *column) native() string {
	if c.kinds[tabular.Text] > 0 || len(c.kinds) == 0 {
		return ""
	}
	var types []string
	for k := range c.kinds {
		switch {
		case k == tabular.JSON:
			types = append(types, c.json())
		case k == tabular.Integer || k == tabular.Decimal || k == tabular.Float:
			types = append(types, "number")
		default:
			types = append(types, nativeTypes[k])
		}
	}
	sort.Strings(types)
	types = slices.Compact(types)
	switch {
	case len(types) > 1:
		return ""
	case types[0] == "number" && c.kinds[tabular.Decimal]+c.kinds[tabular.Float] == 0:
		return "integer"
	}
	return types[0]
}

func (c *column) json() string {
	for s := range c.texts {
		if strings.HasPrefix(s, "[") {
			return "array"
		}
	}
	return "object"
}

var (
	wholeNumber = regexp.MustCompile(`^[+-]?(0|[1-9][0-9]{0,18})$`)
	pointNumber = regexp.MustCompile(`^[+-]?([0-9]+(\.[0-9]*)?|\.[0-9]+)([eE][+-]?[0-9]{1,3})?$`)
	commaNumber = regexp.MustCompile(`^[+-]?([0-9]+(,[0-9]+)?|,[0-9]+)$`)
	leadingZero = regexp.MustCompile(`^0[0-9]+$`)
	finer       = regexp.MustCompile(`[0-9]\.[0-9]{6}[0-9]*[1-9]`)
	withUnit    = regexp.MustCompile(`^([$€£¥] ?)?[+-]?([0-9]+|[0-9]{1,3}(,[0-9]{3})+)(\.[0-9]+)?( ?(%|€|[a-zA-Zµ°]{1,3}))?$`)
	duration    = regexp.MustCompile(`^-?P[0-9T][0-9YMWDTHS.]*$`)
	uuid        = regexp.MustCompile(`^[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}$`)

	// Numbers with groups of three digits, by the group and decimal characters.
	grouped = []struct {
		whole, any     *regexp.Regexp
		group, decimal string
	}{
		{regexp.MustCompile(`^[+-]?[1-9][0-9]{0,2}(,[0-9]{3})+$`),
			regexp.MustCompile(`^[+-]?[0-9]{1,3}(,[0-9]{3})*(\.[0-9]+)?$`), ",", "."},
		{regexp.MustCompile(`^[+-]?[1-9][0-9]{0,2}(\.[0-9]{3})+$`),
			regexp.MustCompile(`^[+-]?[0-9]{1,3}(\.[0-9]{3})*(,[0-9]+)?$`), ".", ","},
		{regexp.MustCompile(`^[+-]?[1-9][0-9]{0,2}( [0-9]{3})+$`),
			regexp.MustCompile(`^[+-]?[0-9]{1,3}( [0-9]{3})*(,[0-9]+)?$`), " ", ","},
		{regexp.MustCompile(`^[+-]?[1-9][0-9]{0,2}('[0-9]{3})+$`),
			regexp.MustCompile(`^[+-]?[0-9]{1,3}('[0-9]{3})*(\.[0-9]+)?$`), "'", "."},
	}
)

// all reports whether something holds of every text.
func all(of []string, ok func(string) bool) bool {
	return !slices.ContainsFunc(of, func(s string) bool { return !ok(s) })
}

// readsAs reports whether every text can be read as a type.
func readsAs(values []string, kind string) bool {
	f := found{kind: kind}
	return f.readsAll(values)
}

// sameUnit reports whether one unit, or none, stands around all numbers, and around some.
func sameUnit(values []string) bool {
	seen := map[string]bool{}
	for _, v := range values {
		seen[strings.TrimSpace(strings.Trim(v, "0123456789.,+- "))] = true
	}
	delete(seen, "")
	return len(seen) == 1
}

// readsAll reports whether every text can be read as what was found.
func (f *found) readsAll(values []string) bool {
	c := f.column()
	var v tabular.Value
	return c != nil && all(values, func(s string) bool { return c.Convert([]byte(s), &v) == nil })
}

// inGroups finds numbers whose thousands are set apart, by the characters and what
// is uncertain of them. One mark before three digits may also be a decimal one: it
// is not, if numbers below a thousand stand without decimals beside it.
func inGroups(values []string) (options tabular.Field, integer bool, note string) {
	for _, g := range grouped {
		if !all(values, g.any.MatchString) || !slices.ContainsFunc(values,
			func(v string) bool { return strings.Contains(v, g.group) }) {
			continue
		}
		whole := func(v string) bool { return !strings.Contains(v, g.decimal) }
		integer = all(values, whole)
		sure := slices.ContainsFunc(values, func(v string) bool {
			return strings.Count(v, g.group) > 1 || strings.Contains(v, g.group) && strings.Contains(v, g.decimal)
		}) || g.group == " " || g.group == "'"
		if !sure {
			if g.group == "." || !all(values, func(v string) bool {
				return !strings.Contains(v, g.group) ||
					g.whole.MatchString(v)
			}) || !slices.ContainsFunc(values, func(v string) bool {
				return !strings.Contains(v, g.group) &&
					v != "0"
			}) {
				continue
			}
			note = fmt.Sprintf("uncertain: %q is taken for what sets thousands apart, and may be the decimal mark",
				g.group)
		}
		options.GroupChar = g.group
		if !integer && g.decimal != "." {
			options.DecimalChar = g.decimal
		}
		return options, integer, note
	}
	return options, false, ""
}

// fromTexts finds a type that all texts fit. Numbers that only mark missing
// values are taken out.
func (c *column) fromTexts(values []string, f *found) []string {
	if yes, no := truth(values); yes != nil {
		f.kind = "boolean"
		f.spec.TrueValues, f.spec.FalseValues = yes, no
		return values
	}
	if form, other := times(values); form != "" {
		f.kind = form.kind()
		if form != "default" && form != "%Y-%m-%d" {
			f.spec.Format = string(form)
		}
		if other != "" {
			f.note = fmt.Sprintf("uncertain: %s would fit as well", other)
		}
		return values
	}
	if slices.ContainsFunc(values, func(v string) bool {
		return leadingZero.MatchString(v) &&
			!strings.ContainsAny(v, ".,")
	}) {
		if all(values, func(v string) bool { return pointNumber.MatchString(v) }) {
			f.note = "digits with leading zeros, which a number would lose"
		}
		return values
	}
	if f.padded(values) {
		return values
	}
	options, integer, note := inGroups(values)
	switch {
	case all(values, isWhole):
		f.kind = "integer"
	case options.GroupChar != "":
		f.kind, f.note = map[bool]string{true: "integer", false: "number"}[integer], note
		f.spec.GroupChar, f.spec.DecimalChar = options.GroupChar, options.DecimalChar
		return values
	case all(values, pointNumber.MatchString):
		f.kind = "number"
		if slices.ContainsFunc(values, wholeNumber.MatchString) &&
			all(values, func(v string) bool { return !strings.Contains(v, ".") || grouped[1].whole.MatchString(v) }) {
			f.note = "uncertain: the point is taken for the decimal mark, and may set thousands apart"
		}
	case all(values, commaNumber.MatchString):
		f.kind, f.spec.DecimalChar = "number", ","
		if all(values, func(v string) bool { return !strings.Contains(v, ",") || grouped[0].whole.MatchString(v) }) {
			f.note = "uncertain: the comma is taken for the decimal mark, and may set thousands apart"
		}
	case all(values, withUnit.MatchString) && sameUnit(values):
		f.kind, f.around = "number", true
		if slices.ContainsFunc(values, func(v string) bool { return strings.Contains(v, ",") }) {
			f.spec.GroupChar = ","
		}
		if !f.readsAll(values) {
			f.kind, f.around, f.spec.GroupChar = "string", false, ""
		}
		return values
	case all(values, duration.MatchString) && readsAs(values, "duration"):
		f.kind = "duration"
		return values
	case all(values, uuid.MatchString):
		f.spec.Format = "uuid"
		return values
	case readsAs(values, "object"):
		f.kind = "object"
		return values
	case readsAs(values, "array"):
		f.kind = "array"
		return values
	default:
		return values
	}
	rest, mark := withoutMark(values)
	if mark != "" {
		f.missing = append(f.missing, mark)
		f.required = false
		f.say(fmt.Sprintf("uncertain: %s is far below all others, and taken for no value", mark))
	}
	return rest
}

// isWhole reports whether a text is a whole number of at most 64 bits.
func isWhole(text string) bool {
	_, err := strconv.ParseInt(text, 10, 64)
	return err == nil && wholeNumber.MatchString(text)
}

// padded finds numbers that blanks follow.
func (f *found) padded(values []string) bool {
	trimmed, blanks := make([]string, len(values)), false
	for i, v := range values {
		trimmed[i] = strings.TrimRight(v, " ")
		blanks = blanks || trimmed[i] != v
	}
	if !blanks {
		return false
	}
	with := *f
	switch with.around = true; {
	case all(trimmed, isWhole):
		with.kind = "integer"
	case all(trimmed, pointNumber.MatchString):
		with.kind = "number"
	case all(trimmed, commaNumber.MatchString):
		with.kind, with.spec.DecimalChar = "number", ","
	}
	if with.kind == f.kind || !with.readsAll(values) {
		return false
	}
	*f = with
	f.say("blanks follow its numbers")
	return true
}

// withoutMark takes out a number such as -999 that stands far below all others.
func withoutMark(values []string) (rest []string, mark string) {
	var least, second = math.Inf(1), math.Inf(1)
	for _, v := range values {
		x, err := strconv.ParseFloat(strings.Replace(v, ",", ".", 1), 64)
		if err != nil {
			return values, ""
		}
		if x < least {
			least, second, mark = x, least, v
		} else if x < second {
			second = x
		}
	}
	digits := strings.Trim(strings.TrimLeft(mark, "-"), "9.,0")
	if least > -90 || second-least < 50 || second < -90 || digits != "" || len(values) < 2 {
		return values, ""
	}
	return slices.DeleteFunc(slices.Clone(values), func(v string) bool { return v == mark }), mark
}

func truth(values []string) (yes, no []string) {
	if len(values) > 2 {
		return nil, nil
	}
	for _, pair := range [][2]string{{"true", "false"}, {"True", "False"}, {"TRUE", "FALSE"}, {"yes", "no"},
		{"Yes", "No"}, {"Y", "N"}, {"ja", "nein"}} {
		fits := true
		for _, v := range values {
			fits = fits && (v == pair[0] || v == pair[1])
		}
		if fits {
			return []string{pair[0]}, []string{pair[1]}
		}
	}
	return nil, nil
}

// form is how times are written: a strftime pattern, or "default".
type form string

func (f form) kind() string {
	switch {
	case f == "default" || strings.Contains(string(f), "%M") && strings.Contains(string(f), "%d"):
		return "datetime"
	case strings.Contains(string(f), "%M"):
		return "time"
	}
	return "date"
}

var forms = func() []form {
	var out []form
	for _, day := range []string{"%Y-%m-%d", "%d.%m.%Y", "%d/%m/%Y", "%m/%d/%Y", "%d-%m-%Y", "%m-%d-%Y", "%Y/%m/%d",
		"%Y.%m.%d", "%d.%m.%y", "%d/%m/%y", "%m/%d/%y", "%d %b %Y", "%d-%b-%Y", "%b %d %Y", "%b %d, %Y", "%d %B %Y",
		"%B %d, %Y", "%B %d %Y", "%d-%b-%y"} {
		out = append(out, form(day))
		for _, clock := range []string{" %H:%M", " %H:%M:%S", "T%H:%M", " %H:%M:%S.%f", " %I:%M:%S %p", " %I:%M %p"} {
			out = append(out, form(day+clock))
		}
	}
	return append(out, "%H:%M:%S", "%H:%M", "%Y%m%d", "%Y%m%dT%H%M", "%Y%m%d%H%M", "%Y%m%d%H%M%S",
		"%Y-%m-%dT%H:%M:%S", "%Y-%m-%dT%H:%M:%S%z", "%Y-%m-%dT%H:%M:%S.%f%z")
}()

// layouts are those of forms, which all can be compiled.
var layouts = func() (out []*timeformat.Layout) {
	for _, f := range forms {
		layout, err := timeformat.Compile(string(f))
		if err != nil {
			panic(err)
		}
		out = append(out, layout)
	}
	return out
}()

// times finds how all texts are written as times, and another way that would
// fit too.
func times(values []string) (fits, other form) {
	for i, f := range forms {
		all := true
		for _, v := range values {
			fields, err := layouts[i].Parse([]byte(v))
			if err != nil || strings.Contains(string(f), "%Y") && (fields.Year < 1850 || fields.Year > 2150) {
				all = false
				break
			}
		}
		switch {
		case !all:
		case fits == "":
			fits = f
		default:
			return fits, f
		}
	}
	if strings.HasPrefix(string(fits), "%Y-%m-%dT%H:%M:%S") || fits == "" && len(values) > 0 && all(values, isISO) {
		return "default", ""
	}
	return fits, other
}

// isoLayouts are the ways to write a time by ISO 8601 that may stand beside each other in a column: whole seconds have no fraction.
var isoLayouts = func() (out []*timeformat.Layout) {
	for i, f := range forms {
		if strings.HasPrefix(string(f), "%Y-%m-%dT%H:%M:%S") && strings.HasSuffix(string(f), "%z") {
			out = append(out, layouts[i])
		}
	}
	return out
}()

func isISO(text string) bool {
	return slices.ContainsFunc(isoLayouts, func(l *timeformat.Layout) bool {
		fields, err := l.Parse([]byte(text))
		return err == nil && fields.Year >= 1850 && fields.Year <= 2150
	})
}

// saw says what was seen, for a comment.
func (c *column) saw(values []string) string {
	const shown = 3
	var examples []string
	for _, v := range values[:min(shown, len(values))] {
		if len(v) > 24 {
			v = v[:24] + "..."
		}
		examples = append(examples, strconv.Quote(v))
	}
	n := fmt.Sprint(len(values))
	if c.more {
		n = "more than " + n
	}
	out := fmt.Sprintf("%s values such as %s", n, strings.Join(examples, ", "))
	blanks := 0
	for _, k := range c.blanks {
		blanks += k
	}
	if blanks > 0 {
		out += fmt.Sprintf("; blank in %d of %d rows", blanks, c.seen)
	}
	return out
}

func quoteAll(texts []string) string {
	out := make([]string, len(texts))
	for i, t := range texts {
		out[i] = strconv.Quote(t)
	}
	return strings.Join(out, ", ")
}
