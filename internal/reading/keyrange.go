package reading

import (
	"slices"

	"mullein/internal/core/tabular"
)

// maxRangeText bounds the texts of a range, in bytes. A column with a longer one has none.
const maxRangeText = 200

// keyColumn is a column of the key, and the least and the greatest of its values so far.
type keyColumn struct {
	name     string
	at       int // in values
	from, to tabular.Value
}

// keyColumns returns the columns of the key that have an order which people know, and whose values may be
// told.
func (p *Plan) keyColumns() []keyColumn {
	names := p.Feed.OwnColumns()
	var out []keyColumn
	for _, key := range p.Feed.Schema.PrimaryKey {
		if at := slices.Index(names, key); at >= 0 && !slices.Contains(p.Feed.Private, key) {
			out = append(out, keyColumn{name: key, at: p.own[at]})
		}
	}
	return out
}

// add takes a value in. Those that have no order are passed over.
func (c *keyColumn) add(v *tabular.Value) {
	switch v.Kind {
	case tabular.Null, tabular.Boolean, tabular.JSON, tabular.Binary, tabular.Span, tabular.Point:
		return
	}
	if c.from.Kind == tabular.Null || tabular.Compare(v, &c.from) < 0 {
		keep(&c.from, v)
	}
	if c.to.Kind == tabular.Null || tabular.Compare(v, &c.to) > 0 {
		keep(&c.to, v)
	}
}

// keep copies a value that is good for a moment only.
func keep(to, v *tabular.Value) {
	room := to.B[:0]
	*to = *v
	if v.B != nil {
		to.B = append(room, v.B...)
	}
}

// KeyRange returns the range of each column of the key over the good rows that were read, those that
// delete their key too. Columns that are private, have no order or hold long texts are left out.
func (r *File) KeyRange() map[string]tabular.Range {
	out := map[string]tabular.Range{}
	for i := range r.keys {
		c := &r.keys[i]
		from, to := c.from.String(), c.to.String()
		if c.from.Kind != tabular.Null && len(from) <= maxRangeText && len(to) <= maxRangeText {
			out[c.name] = tabular.Range{From: from, To: to}
		}
	}
	return out
}
