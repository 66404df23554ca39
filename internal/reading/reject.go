package reading

import (
	"slices"
	"strings"
	"unicode/utf8"

	"mullein/internal/core/decode"
	"mullein/internal/core/tabular"
)

// Reject is a row that was left out, with why, and what is kept of it.
type Reject struct {
	Line     int64  // in the unpacked file, from 1
	Column   string // "" when the row as a whole is at fault
	Rule     string // what it broke: reading, cells, type, a constraint such as maximum, derive, or the name of a check
	Reason   string
	Value    string // the cell, shortened
	Original string // the row as it stands in the file, shortened
	MarkFrom int    // the first character of the cell at fault in the original, from 0
	MarkTo   int    // the character after its last; 0 where it is not known
	Masked   bool   // its private values are not kept
}

// MaxRejects is how many rejects of a file are kept. The balance counts all.
const MaxRejects = 1000

// OriginalKept is how many bytes of a rejected row are kept.
const OriginalKept = originalKept

// Unkept is what rejects broke that are counted only.
type Unkept struct{ Rule, Column string }

func (r *File) count(of Unkept, n int64) {
	if r.more == nil {
		r.more = map[Unkept]int64{}
	}
	r.more[of] += n
}

// mark says which bytes of a row are the cell at fault, where they are among the
// first of them, which are kept.
func (r *Reject) mark(row []byte, from, to, kept int) {
	if to > min(kept, len(row)) {
		return
	}
	characters := func(b []byte) int { return utf8.RuneCountInString(strings.ToValidUTF8(string(b), "\uFFFD")) }
	r.MarkFrom = characters(row[:from])
	r.MarkTo = r.MarkFrom + characters(row[from:to])
}

const (
	valueKept    = 200
	originalKept = 2000
)

// reject counts a row that is left out for what is wrong with it. rule is what
// it broke, by which rejects are grouped.
func (r *File) reject(rec *decode.Record, column, rule, reason string, value []byte) bool {
	r.rejected++
	if len(r.rejects) >= MaxRejects {
		r.count(Unkept{rule, column}, 1)
		return false
	}
	out := Reject{Line: rec.Line, Column: column, Rule: rule, Reason: reason, Value: printable(value, valueKept)}
	if r.plan.isPrivate(column) {
		out.Value = hidden
	}
	r.show(rec, &out)
	r.keep(out)
	return false
}

// show returns a reject the row as people see it, and where in it the cell at
// fault stands.
func (r *File) show(rec *decode.Record, out *Reject) {
	switch at := r.index(out.Column); {
	case len(r.plan.Feed.Private) > 0:
		out.Original, out.Masked = r.masked(rec), true
	case r.native():
		if r.byColumn != nil {
			r.byColumn.complete(rec)
		}
		text, from, to := r.asJSON(rec, at)
		out.Original = printable(text, originalKept)
		out.mark(text, from, to, originalKept)
	default:
		out.Original = printable(rec.Raw, originalKept)
		if at < 0 || r.position[at] < 0 {
			return
		}
		from, to, ok := 0, 0, false
		if rec.Cells != nil {
			d := r.plan.Feed.Dialect
			if r.plan.Feed.Format == decode.Fixed {
				d.Delimiter = ""
			}
			from, to, ok = rec.CellSpan(r.position[at], d)
		} else {
			from, to, ok = rec.MemberSpan(r.columns[at].Field.SourceName(), out.Value)
		}
		if ok {
			out.mark(rec.Raw, from, to, originalKept)
		}
	}
}

// hidden stands where a private value stood.
const hidden = "\u2022\u2022\u2022"

// index finds a column; -1 for none.
func (r *File) index(column string) int {
	return slices.IndexFunc(r.columns, func(c *tabular.Column) bool { return c.Field.Name == column })
}

// asJSON writes what is read of a row whose format is no text, and says where
// in it the value of a column stands.
func (r *File) asJSON(rec *decode.Record, column int) (text []byte, from, to int) {
	text = append(text, '{')
	for i, c := range r.columns {
		at := r.position[i]
		if at < 0 || at >= len(rec.Values) {
			continue
		}
		if len(text) > 1 {
			text = append(text, ',')
		}
		v := rec.Values[at]
		if v.Kind == tabular.Float { // JSON has no NaN; a decimal's is a text
			_ = tabular.ParseFloat(v.X, &v)
		}
		text = append(decode.AppendJSON(text, &tabular.Value{Kind: tabular.Text, B: []byte(c.Field.SourceName())}), ':')
		begin := len(text)
		if text = decode.AppendJSON(text, &v); i == column {
			from, to = begin, len(text)
		}
	}
	return append(text, '}'), from, to
}

// masked returns a row for people without its private values.
func (r *File) masked(rec *decode.Record) string {
	if rec.Cells == nil || rec.Problem != "" {
		return hidden
	}
	cells := make([]string, len(rec.Cells))
	for i, cell := range rec.Cells {
		cells[i] = printable(cell, valueKept)
	}
	for i, c := range r.columns {
		if at := r.position[i]; at >= 0 && at < len(cells) && r.plan.isPrivate(c.Field.Name) {
			cells[at] = hidden
		}
	}
	return printable([]byte(strings.Join(cells, r.plan.Feed.Dialect.Delimiter)), originalKept)
}

// Found adds rejects that the database found among the rows: n in all, of which
// the first are given.
func (r *File) Found(n int64, fields []string, rule, reason string, first []Reject) {
	r.rejected += n
	before := len(r.rejects)
	private := slices.ContainsFunc(fields, r.plan.isPrivate)
	for _, f := range first {
		f.Column, f.Rule, f.Reason = strings.Join(fields, ", "), rule, reason
		if private {
			f.Value = hidden
		}
		r.keep(f)
	}
	if unkept := n - int64(len(r.rejects)-before); unkept > 0 {
		r.count(Unkept{rule, strings.Join(fields, ", ")}, unkept)
	}
}

func (r *File) keep(reject Reject) {
	if len(r.rejects) < MaxRejects {
		r.rejects = append(r.rejects, reject)
	}
}

// printable shortens bytes to a text that PostgreSQL and people can take.
func printable(b []byte, most int) string {
	more := ""
	if len(b) > most {
		b, more = b[:most], "..."
	}
	return strings.ReplaceAll(strings.ToValidUTF8(string(b), "\uFFFD"), "\x00", "\u2400") + more
}

// Originals looks up the original lines of rejects that the database found,
// in a second pass over the file, and sorts all rejects by line.
func (r *File) Originals() error {
	wanted := map[int64]*Reject{}
	for i := range r.rejects {
		if r.rejects[i].Original == "" {
			wanted[r.rejects[i].Line] = &r.rejects[i]
		}
	}
	if len(wanted) > 0 {
		if err := r.lookUp(wanted); err != nil {
			return err
		}
	}
	slices.SortStableFunc(r.rejects, func(a, b Reject) int { return int(a.Line - b.Line) })
	return nil
}

// lookUp goes through the file once more for the rows of rejects, by line.
func (r *File) lookUp(wanted map[int64]*Reject) error {
	file, err := r.again()
	if err != nil {
		return err
	}
	again := &File{plan: r.plan, subject: r.subject, columns: r.columns, inOrder: r.inOrder,
		bytes: NewHasher(file, r.Digest())}
	if again.rows, err = again.open(file); err != nil {
		return err
	}
	if err := again.match(); err != nil {
		return err
	}
	for len(wanted) > 0 {
		rec, err := again.next()
		if err != nil {
			return nil // the file changed meanwhile; that is found out before the commit
		}
		if reject := wanted[rec.Line]; reject != nil {
			again.show(rec, reject)
			delete(wanted, rec.Line)
		}
	}
	return nil
}
