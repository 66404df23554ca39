package decode

import (
	"errors"

	"github.com/parquet-go/parquet-go"
	"github.com/parquet-go/parquet-go/encoding"

	"mullein/internal/core/tabular"
)

// parquetFlat reads a leaf that has one value a row out of the column's pages, where their
// values lie side by side: many at once, without a value each that says of which type it is.
type parquetFlat struct {
	node   *parquetNode
	column *parquetColumn
	to     []int
	one    BatchColumn // room for a row

	at, rows int // of the page at hand; of column.buf where form is oneByOne
	levels   []byte
	values   int // how many of them came before; nulls are not among them
	form     parquetForm
	int32s   []int32
	int64s   []int64
	doubles  []float64
	texts    []byte
	ends     []uint32 // of texts, beginning with 0
	codes    []int32
	read     func(i int, out *tabular.Value) error

	dictionary parquet.Dictionary
	distinct   []tabular.Value // of the dictionary; nil where it is large
	most       int             // of distinct
}

// parquetForm is how the values of a page are had.
type parquetForm int

const (
	oneByOne parquetForm = iota // from the library
	byIndex                     // by read
	asInt32
	asInt64
	asDouble
	asText
	asCode // of distinct
)

// Bounds of the values of dictionaries that are made at once: of a column, and of all.
const (
	distinctMost = 4096
	distinctAll  = 256 << 10
)

var errNoSuchValue = errors.New("the dictionary has no such value")

func newParquetFlat(t parquetTake, column *parquetColumn, of int) parquetFlat {
	return parquetFlat{node: t.node, column: column, to: t.to, most: min(distinctMost, distinctAll/of),
		one: BatchColumn{Values: make([]tabular.Value, 1), Codes: make([]int32, 1)}}
}

// end makes ready for the next row group.
func (f *parquetFlat) end() {
	*f = parquetFlat{node: f.node, column: f.column, to: f.to, one: f.one, most: f.most}
}

// ByColumn implements [Columnar].
func (p *parquetFile) ByColumn() bool { return !p.nests && p.nest.oneRow() }

// batchValues is about how many values a batch has: they are to stay near the processor.
const batchValues = 512

// Batch implements [Columnar].
func (p *parquetFile) Batch() (b *Batch, err error) {
	defer parquetFailure(&err)
	if p.broken != nil {
		return nil, p.broken
	}
	b = &p.batch
	if b.Columns == nil {
		p.makeBatch()
	}
	before := p.count
	if err := p.begin(int64(p.most)); err != nil {
		return nil, err
	}
	b.First, b.Rows, b.Codebook = before+1, int(p.count-before), p.group
	for i := range p.flats {
		f := &p.flats[i]
		f.column.forget()
		column := &b.Columns[f.to[0]]
		n, err := f.fill(column, b.Rows)
		if err != nil {
			b.Rows, p.count = n, before+int64(n)+1
			p.broken = p.failed(err)
		}
		for _, to := range f.to {
			b.Columns[to] = *column
		}
	}
	if b.Rows == 0 {
		return nil, p.broken
	}
	return b, nil
}

// nextOfBatch takes the next row out of a batch.
func (p *parquetFile) nextOfBatch() (*Record, error) {
	if p.next >= p.batch.Rows {
		if _, err := p.Batch(); err != nil {
			return nil, err
		}
		p.next = 0
	}
	for i := range p.batch.Columns {
		p.nest.values[i] = *p.batch.Columns[i].At(p.next)
	}
	p.rec.Line, p.rec.Values = p.batch.First+int64(p.next), p.nest.values
	p.next++
	return &p.rec, nil
}

// makeBatch makes room for batches.
func (p *parquetFile) makeBatch() {
	columns := len(p.nest.values)
	p.most = min(max(batchValues/max(columns, 1), 32), 256, int(max(p.file.NumRows(), 1)))
	p.batch.Columns = make([]BatchColumn, columns)
	for i := range p.batch.Columns {
		p.batch.Columns[i] = BatchColumn{Values: make([]tabular.Value, p.most), Codes: make([]int32, p.most)}
		for row := range p.most {
			p.batch.Columns[i].Codes[row] = -1
		}
	}
	for _, f := range p.flats {
		f.column.keeps = true
	}
}

// next reads the next row's value.
func (f *parquetFlat) next() (*tabular.Value, error) {
	_, err := f.fill(&f.one, 1)
	return f.one.At(0), err
}

// fill reads the next values, and returns how many it read.
func (f *parquetFlat) fill(to *BatchColumn, rows int) (n int, err error) {
	for n < rows && err == nil {
		if f.at == f.rows {
			err = f.more()
			continue
		}
		var read int
		read, err = f.run(to, n, min(rows-n, f.rows-f.at))
		n += read
	}
	return n, err
}

// run reads values of the page at hand, and returns how many it read.
func (f *parquetFlat) run(to *BatchColumn, from, n int) (int, error) {
	to.Distinct = f.distinct
	values, codes := to.Values[from:from+n], to.Codes[from:from+n]
	kind := f.node.kind
	for i := range values {
		at := f.at
		f.at++
		out := &values[i]
		codes[i] = -1
		if f.form == oneByOne {
			if v := &f.column.buf[at]; v.IsNull() {
				*out = tabular.Value{}
			} else if err := f.node.read(*v, out); err != nil {
				return i, err
			}
			continue
		}
		if f.levels != nil {
			if int(f.levels[at]) < f.node.def {
				*out = tabular.Value{}
				continue
			}
			at = f.values
			f.values++
		}
		switch f.form {
		case asInt32:
			out.Kind, out.I = kind, int64(f.int32s[at])
		case asInt64:
			out.Kind, out.I = kind, f.int64s[at]
		case asDouble:
			out.Kind, out.X = kind, f.doubles[at]
		case asText:
			out.Kind, out.B = kind, f.texts[f.ends[at]:f.ends[at+1]]
		case asCode:
			if codes[i] = f.codes[at]; uint(codes[i]) >= uint(len(f.distinct)) {
				codes[i] = -1
				return i, errNoSuchValue
			}
		default:
			if err := f.read(at, out); err != nil {
				return i, err
			}
		}
	}
	return n, nil
}

// more goes on to the next page, or to the next values of one that the library reads.
func (f *parquetFlat) more() error {
	c := f.column
	if c.values == nil {
		if err := c.nextPage(); err != nil {
			return err
		}
		f.at, f.values, f.levels, f.codes = 0, 0, nil, nil
		if f.lie(c.page) {
			return nil
		}
		f.form, c.values = oneByOne, c.page.Values()
	}
	err := c.more()
	f.at, f.rows = 0, c.n
	return err
}

// lie takes the values of a page as they lie there. It reports whether it can.
func (f *parquetFlat) lie(page parquet.Page) bool {
	data, levels := page.Data(), page.DefinitionLevels()
	if f.node.def > 0 && len(levels) == 0 {
		return false
	}
	switch dictionary := page.Dictionary(); {
	case dictionary != nil:
		if data.Kind() != encoding.Int32 || !f.look(dictionary) {
			return false
		}
		f.codes = data.Int32()
		f.rows = len(f.codes)
	case f.node.asIs && f.direct(data):
	default:
		if f.read, f.rows = f.node.reader(data); f.read == nil {
			return false
		}
		f.form = byIndex
	}
	if f.node.def > 0 {
		f.levels, f.rows = levels, len(levels)
	}
	return true
}

// look makes ready for the values of a dictionary. It reports whether it can.
func (f *parquetFlat) look(dictionary parquet.Dictionary) bool {
	if f.form = asCode; f.dictionary == dictionary {
		return true
	}
	read, n := f.node.reader(dictionary.Page().Data())
	if read == nil {
		return false
	}
	if n > f.most {
		f.form, f.read = byIndex, func(i int, out *tabular.Value) error {
			if code := f.codes[i]; uint(code) < uint(n) {
				return read(int(code), out)
			}
			return errNoSuchValue
		}
		return true
	}
	distinct := make([]tabular.Value, n)
	for i := range distinct {
		if err := read(i, &distinct[i]); err != nil {
			return false // it may be one that no row has
		}
	}
	f.dictionary, f.distinct = dictionary, distinct
	return true
}

// direct takes values that are in the page what they are in a kind. It reports whether it can.
func (f *parquetFlat) direct(data encoding.Values) bool {
	whole := f.node.kind != tabular.Float && !f.node.bytes()
	switch data.Kind() {
	case encoding.Int32:
		f.form, f.int32s = asInt32, data.Int32()
		f.rows = len(f.int32s)
		return whole
	case encoding.Int64:
		f.form, f.int64s = asInt64, data.Int64()
		f.rows = len(f.int64s)
		return whole
	case encoding.Double:
		f.form, f.doubles = asDouble, data.Double()
		f.rows = len(f.doubles)
		return f.node.kind == tabular.Float
	case encoding.ByteArray:
		f.form = asText
		f.texts, f.ends = data.ByteArray()
		f.rows = max(0, len(f.ends)-1)
		return f.node.bytes()
	}
	return false
}

// bytes reports whether a leaf's values are bytes.
func (n *parquetNode) bytes() bool {
	return n.kind == tabular.Text || n.kind == tabular.JSON || n.kind == tabular.UUID || n.kind == tabular.Binary
}

// reader returns what reads the i-th of values that lie side by side, and how many they are. It is
// nil for types that do not lie so.
func (n *parquetNode) reader(data encoding.Values) (func(i int, out *tabular.Value) error, int) {
	switch data.Kind() {
	case encoding.Int32:
		all := data.Int32()
		return func(i int, out *tabular.Value) error { return n.read(parquet.Int32Value(all[i]), out) }, len(all)
	case encoding.Int64:
		all := data.Int64()
		return func(i int, out *tabular.Value) error { return n.read(parquet.Int64Value(all[i]), out) }, len(all)
	case encoding.Float:
		all := data.Float()
		return func(i int, out *tabular.Value) error { return n.read(parquet.FloatValue(all[i]), out) }, len(all)
	case encoding.Double:
		all := data.Double()
		return func(i int, out *tabular.Value) error { return n.read(parquet.DoubleValue(all[i]), out) }, len(all)
	case encoding.ByteArray:
		all, ends := data.ByteArray()
		return func(i int, out *tabular.Value) error {
			return n.read(parquet.ByteArrayValue(all[ends[i]:ends[i+1]]), out)
		}, max(0, len(ends)-1)
	case encoding.FixedLenByteArray:
		all, size := data.FixedLenByteArray()
		if size <= 0 {
			return nil, 0
		}
		return func(i int, out *tabular.Value) error {
			return n.read(parquet.FixedLenByteArrayValue(all[i*size:(i+1)*size]), out)
		}, len(all) / size
	}
	return nil, 0
}
