package check

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"mullein/internal/core/tabular"
)

// Rows holds a file's number of rows against bounds; to 0 is no bound.
func Rows(n, from, to int64) Result {
	r := Result{Name: "rows", Scope: OfFile, Else: Refuse, Held: n >= from && (to == 0 || n <= to)}
	x := float64(n)
	r.Value, r.Low = &x, floatOf(from)
	switch {
	case to == 0:
		r.Saw = fmt.Sprintf("%d rows; at least %d are expected", n, from)
	default:
		r.High = floatOf(to)
		r.Saw = fmt.Sprintf("%d rows; from %d to %d are expected", n, from, to)
	}
	return r
}

func floatOf(n int64) *float64 {
	x := float64(n)
	return &x
}

// Checksum holds a file's digest against the one that stands beside it.
func Checksum(m Marker, digest, at string) Result {
	r := Result{Name: "checksum", Scope: OfFile, Else: Refuse}
	switch {
	case m.Digest == "":
		r.Saw = at + " holds no checksum"
	case m.Digest != digest:
		r.Saw = fmt.Sprintf("%s gives the %s %s; the file's is %s", at, m.Algorithm, m.Digest, digest)
	default:
		r.Held, r.Saw = true, fmt.Sprintf("the %s of %s agrees", m.Algorithm, at)
	}
	return r
}

// Trailer finds the last line of a file that is no row, and holds what it says
// against what was read. Its zero value looks for none.
type Trailer struct {
	line   *regexp.Regexp
	prefix string
	groups []string
	said   map[string]tabular.Value
	at     int64 // the line; 0 while it was not seen
	sums   map[string]*sum
}

type sum struct{ total tabular.Value }

// NewTrailer looks for lines that match; nil for none.
func NewTrailer(line *regexp.Regexp) *Trailer {
	if line == nil {
		return nil
	}
	t := &Trailer{line: line, groups: line.SubexpNames(), sums: map[string]*sum{}}
	t.prefix, _ = regexp.MustCompile(strings.TrimPrefix(line.String(), "^")).LiteralPrefix()
	if !strings.HasPrefix(line.String(), "^") {
		t.prefix = ""
	}
	for _, g := range t.groups {
		if g != "" && g != "rows" {
			t.sums[g] = &sum{tabular.Value{Kind: tabular.Decimal}}
		}
	}
	return t
}

// Columns names the columns whose sums it holds.
func (t *Trailer) Columns() []string {
	var out []string
	for _, g := range t.groups {
		if g != "" && g != "rows" {
			out = append(out, g)
		}
	}
	return out
}

// Take reports whether a line is the trailer, and keeps what it says.
func (t *Trailer) Take(raw []byte, line int64) bool {
	if len(raw) < len(t.prefix) || string(raw[:len(t.prefix)]) != t.prefix {
		return false
	}
	match := t.line.FindSubmatch(raw)
	if match == nil {
		return false
	}
	if t.at = line; t.said == nil {
		t.said = map[string]tabular.Value{}
	}
	for i, g := range t.groups {
		var v tabular.Value
		if g != "" && match[i] != nil && tabular.ParseNumber([]byte(strings.Replace(string(match[i]), ",", ".", 1)), &v) == nil {
			t.said[g] = v
		}
	}
	return true
}

// Seen returns the line of the trailer, 0 while there was none. A row after it is
// one too many.
func (t *Trailer) Seen() int64 { return t.at }

// Add adds a row's value to the sum of a column.
func (t *Trailer) Add(column string, v *tabular.Value) {
	if s := t.sums[column]; s != nil && v.Kind != tabular.Null {
		tabular.AddTo(&s.total, v)
	}
}

// Judge holds what the trailer says against what was read.
func (t *Trailer) Judge(rows int64) Result {
	r := Result{Name: "trailer", Scope: OfFile, Else: Refuse}
	if t.at == 0 {
		r.Saw = fmt.Sprintf("no line fits %s; the file may be cut short", t.line)
		return r
	}
	r.Held = true
	var saw []string
	for _, g := range t.groups {
		said, ok := t.said[g]
		switch {
		case g == "":
			continue
		case !ok:
			r.Held = false
			saw = append(saw, fmt.Sprintf("the trailer's %s is no number", g))
			continue
		}
		found := tabular.Value{Kind: tabular.Decimal, I: rows}
		if g != "rows" {
			found = t.sums[g].total
		} else {
			x := float64(rows)
			r.Value = &x
		}
		if said.Kind == tabular.Integer {
			said = tabular.Value{Kind: tabular.Decimal, I: said.I}
		}
		if tabular.Compare(&said, &found) != 0 {
			r.Held = false
		}
		saw = append(saw, fmt.Sprintf("%s: the trailer says %s, the file has %s", g, said.String(), found.String()))
	}
	r.Saw = strings.Join(saw, "; ") + ", line " + strconv.FormatInt(t.at, 10)
	return r
}
