package decode

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	"github.com/parquet-go/parquet-go"
	"github.com/parquet-go/parquet-go/deprecated"
	"github.com/parquet-go/parquet-go/format"

	"mullein/internal/core/tabular"
)

// parquetFile reads Apache Parquet page by page of each column, and only the columns
// that are wanted. Lists and groups become JSON.
type parquetFile struct {
	file   *parquet.File
	at     io.ReaderAt
	root   *parquetNode
	leaves []*parquetNode
	each   string

	groups  []parquet.RowGroup // still to come
	left    int64              // rows of the group at hand
	count   int64
	columns []*parquetColumn // by leaf; nil where it is not wanted
	takes   []parquetTake
	flats   []parquetFlat // of takes, those that nothing else is read with
	nests   bool          // some of takes are lists or groups
	nest    nest
	space   []byte
	rec     Record

	batch  Batch
	next   int   // row of the batch
	most   int   // rows of a batch
	broken error // what follows the rows of the batch
	group  int   // the number of the row group at hand
}

// parquetNode is an element of the file's schema.
type parquetNode struct {
	name               string
	optional, repeated bool
	def, rep           int // the highest levels here
	leaf               int // index among the leaves; -1 for a group
	first              int // the first leaf below
	children           []*parquetNode
	kind               tabular.Kind // of a leaf's values
	read               readValue
	asIs               bool // its numbers or bytes are what they are in a kind
}

// parquetTake is what is wanted of a row.
type parquetTake struct {
	node *parquetNode
	to   []int
	each bool
	flat bool // one value a row, whose node is a leaf outside of lists
	// within says that the leaf belongs to a group that is wanted too, and is
	// read with it.
	within bool
}

// parquetColumn reads the values of a leaf.
type parquetColumn struct {
	pages  parquet.Pages
	page   parquet.Page
	values parquet.ValueReader
	buf    []parquet.Value
	at, n  int
	row    []parquet.Value // of the row at hand, where it may hold several
	next   int             // in row
	keeps  bool            // pages are let go of by forget
	passed []parquet.Page  // whose values are held still
}

const (
	maxParquetColumns = 10_000
	parquetAtOnce     = 512
)

func newParquet(at io.ReaderAt, size int64, each string) (_ *parquetFile, err error) {
	defer parquetFailure(&err)
	if err := checkFooter(at, size); err != nil {
		return nil, err
	}
	file, err := parquet.OpenFile(at, size, parquet.SkipPageIndex(true), parquet.SkipBloomFilters(true),
		parquet.ReadBufferSize(64<<10))
	if err != nil {
		return nil, &FileError{Reason: fmt.Sprintf("its footer cannot be read (%v); it may be cut short", err)}
	}
	p := &parquetFile{file: file, at: at, groups: file.RowGroups(), each: each}
	meta := file.Metadata()
	for _, group := range meta.RowGroups {
		for _, c := range group.Columns {
			m := c.MetaData
			if m.TotalCompressedSize < 0 || m.TotalCompressedSize > size || m.DataPageOffset < 0 ||
				m.DataPageOffset > size || m.NumValues < 0 {
				return nil, &FileError{Reason: fmt.Sprintf("its footer speaks of %d bytes at %d in a file of %d: it "+
					"is damaged", m.TotalCompressedSize, m.DataPageOffset, size)}
			}
		}
	}
	elements := meta.Schema
	if len(elements) > maxParquetColumns {
		return nil, &FileError{Reason: fmt.Sprintf("more than %d columns", maxParquetColumns)}
	}
	next := 0
	if p.root, err = p.grow(elements, &next, 0, 0, 0); err != nil {
		return nil, err
	}
	return p, nil
}

// parquetFailure makes a refusal of a panic: the library trusts the file in
// places where it should not.
func parquetFailure(err *error) {
	if r := recover(); r != nil {
		*err = &FileError{Reason: fmt.Sprintf("it is damaged: %v", r)}
	}
}

func (p *parquetFile) grow(elements []format.SchemaElement, at *int, def, rep, depth int) (*parquetNode, error) {
	if *at >= len(elements) || depth > maxDepth {
		return nil, &FileError{Reason: "its schema is damaged"}
	}
	e := &elements[*at]
	*at++
	n := &parquetNode{name: e.Name, leaf: -1, first: len(p.leaves)}
	if depth > 0 && e.RepetitionType.Valid {
		n.optional = e.RepetitionType.V == format.Optional
		n.repeated = e.RepetitionType.V == format.Repeated
	}
	if n.optional || n.repeated {
		def++
	}
	if n.repeated {
		rep++
	}
	n.def, n.rep = def, rep
	if !e.NumChildren.Valid {
		n.leaf = len(p.leaves)
		p.leaves = append(p.leaves, n)
		n.kind, n.read, n.asIs = parquetReader(e)
		return n, nil
	}
	for range e.NumChildren.V {
		child, err := p.grow(elements, at, def, rep, depth+1)
		if err != nil {
			return nil, err
		}
		n.children = append(n.children, child)
	}
	if len(n.children) == 0 {
		return nil, &FileError{Reason: fmt.Sprintf("its schema has a group %s without columns", e.Name)}
	}
	return n, nil
}

// Header names the columns at the top.
func (p *parquetFile) Header() ([]string, error) {
	var names []string
	for _, c := range p.root.children {
		names = append(names, c.name)
	}
	return names, nil
}

// Select says which parts of the rows are wanted.
func (p *parquetFile) Select(sources []string) (err error) {
	if p.nest, err = newNest(sources, p.each); err != nil {
		return err
	}
	p.columns = make([]*parquetColumn, len(p.leaves))
	p.want(p.root, p.nest.root)
	for i := range p.takes {
		for _, other := range p.takes {
			p.takes[i].within = p.takes[i].within || !other.flat && p.takes[i].flat &&
				other.node.holds(p.takes[i].node.leaf)
		}
		p.nests = p.nests || !p.takes[i].flat
		if t := p.takes[i]; t.flat && !t.within {
			p.flats = append(p.flats, newParquetFlat(t, p.columns[t.node.leaf], len(p.takes)))
		}
	}
	return nil
}

// Kinds implements [Typed].
func (p *parquetFile) Kinds(sources []string) ([]tabular.Kind, error) {
	root, err := tree(sources, p.each)
	if err != nil {
		return nil, err
	}
	out := make([]tabular.Kind, len(sources))
	p.root.kinds(root, out)
	return out, nil
}

// kinds finds the kinds of what is wanted at a node and below it.
func (n *parquetNode) kinds(b *branch, out []tabular.Kind) {
	if b.each {
		return
	}
	for _, i := range b.wanted {
		if out[i] = tabular.JSON; n.leaf >= 0 && n.rep == 0 {
			out[i] = n.kind
		}
	}
	for _, child := range n.children {
		if c := b.child(child.name); c != nil && !n.repeated {
			child.kinds(c, out)
		}
	}
}

// holds reports whether a leaf is below a node.
func (n *parquetNode) holds(leaf int) bool {
	if n.leaf >= 0 {
		return n.leaf == leaf
	}
	for _, c := range n.children {
		if c.holds(leaf) {
			return true
		}
	}
	return false
}

// want finds the nodes that sources name, and the leaves to read for them.
func (p *parquetFile) want(n *parquetNode, b *branch) {
	if b.each || len(b.wanted) > 0 {
		p.takes = append(p.takes, parquetTake{node: n, to: b.wanted, each: b.each, flat: n.leaf >= 0 && n.rep == 0})
		p.open(n)
	}
	if b.each || n.repeated {
		return // what is below is taken from the elements, or cannot be reached
	}
	for _, c := range b.children {
		for _, child := range n.children {
			if child.name == c.key {
				p.want(child, c)
			}
		}
	}
}

func (p *parquetFile) open(n *parquetNode) {
	if n.leaf >= 0 {
		p.columns[n.leaf] = &parquetColumn{}
		return
	}
	for _, c := range n.children {
		p.open(c)
	}
}

// Next returns the next row, or the next element of the one at hand.
func (p *parquetFile) Next() (rec *Record, err error) {
	if p.ByColumn() {
		return p.nextOfBatch()
	}
	defer parquetFailure(&err)
	for {
		more, err := p.nest.next()
		if err != nil {
			return nil, &FileError{Reason: fmt.Sprintf("row %d: %v", p.count, err)}
		}
		if more {
			p.rec.Element = p.nest.element
			return &p.rec, nil
		}
		if err := p.begin(1); err != nil {
			return nil, err
		}
		p.rec.Line, p.rec.Element, p.rec.Values = p.count, 0, p.nest.values
		if err := p.row(); err != nil {
			return nil, p.failed(err)
		}
		if p.nest.oneRow() {
			return &p.rec, nil
		}
	}
}

// begin makes ready for the next rows: so many, or as many as the row group at hand still has.
func (p *parquetFile) begin(rows int64) error {
	for p.left == 0 {
		if len(p.groups) == 0 {
			return io.EOF
		}
		if err := p.nextGroup(); err != nil {
			return err
		}
	}
	rows = min(rows, p.left)
	p.left -= rows
	p.count += rows
	if p.count > MaxLine {
		return &FileError{Reason: "more rows than can be counted"}
	}
	return tooMany(p.count, p.file.Size())
}

func (p *parquetFile) failed(err error) error {
	var file *FileError
	if errors.As(err, &file) {
		return err
	}
	return &FileError{Reason: fmt.Sprintf("row %d cannot be read (%v): it is damaged", p.count, err)}
}

func (p *parquetFile) nextGroup() error {
	group := p.groups[0]
	p.groups = p.groups[1:]
	p.left = group.NumRows()
	chunks := group.ColumnChunks()
	meta := &p.file.Metadata().RowGroups[len(p.file.RowGroups())-len(p.groups)-1]
	if len(chunks) != len(p.leaves) || len(meta.Columns) != len(p.leaves) {
		return &FileError{Reason: "a row group has not all columns: it is damaged"}
	}
	for i, c := range p.columns {
		if c == nil {
			continue
		}
		if err := checkPages(p.at, p.file.Size(), &meta.Columns[i].MetaData); err != nil {
			return err
		}
		c.close()
		*c = parquetColumn{buf: c.buf, row: c.row[:0], keeps: c.keeps, passed: c.passed, pages: chunks[i].Pages()}
	}
	p.group++
	for i := range p.flats {
		p.flats[i].end()
	}
	return nil
}

func (c *parquetColumn) close() {
	c.forget()
	if c.page != nil {
		parquet.Release(c.page)
	}
	if c.pages != nil {
		c.pages.Close()
	}
}

// value returns the next value without going past it.
func (c *parquetColumn) value() (*parquet.Value, error) {
	for c.at == c.n {
		if c.values == nil {
			if err := c.nextPage(); err != nil {
				return nil, err
			}
			c.values = c.page.Values()
		}
		if err := c.more(); err != nil {
			return nil, err
		}
	}
	return &c.buf[c.at], nil
}

// nextPage lets go of the page at hand and reads the next.
func (c *parquetColumn) nextPage() error {
	page, err := c.pages.ReadPage()
	if err == io.EOF {
		return io.ErrUnexpectedEOF
	}
	if err != nil {
		return err
	}
	if c.keeps && c.page != nil {
		c.passed = append(c.passed, c.page)
	} else if c.page != nil {
		parquet.Release(c.page)
	}
	c.page = page
	return nil
}

// forget lets go of the pages that were passed: none of their values is held any more.
func (c *parquetColumn) forget() {
	for i, page := range c.passed {
		parquet.Release(page)
		c.passed[i] = nil
	}
	c.passed = c.passed[:0]
}

// more reads on in the values of the page. At their end values is nil.
func (c *parquetColumn) more() error {
	if c.buf == nil {
		c.buf = make([]parquet.Value, parquetAtOnce)
	}
	n, err := c.values.ReadValues(c.buf)
	c.at, c.n = 0, n
	if err == io.EOF {
		c.values = nil
	} else if err != nil {
		return err
	} else if n == 0 {
		return io.ErrNoProgress
	}
	return nil
}

// rowValues collects the values of one row.
func (c *parquetColumn) rowValues() error {
	c.row, c.next = c.row[:0], 0
	size := 0
	for {
		v, err := c.value()
		if err == io.ErrUnexpectedEOF && len(c.row) > 0 {
			return nil
		}
		if err != nil {
			return err
		}
		if len(c.row) > 0 && v.RepetitionLevel() == 0 {
			return nil
		}
		c.row = append(c.row, v.Clone())
		c.at++
		if size += valueSize(v); size > 4*MaxRecord {
			return &FileError{Reason: fmt.Sprintf("a row with a list of more than %d MiB", 4*MaxRecord>>20)}
		}
	}
}

func valueSize(v *parquet.Value) int {
	if v.Kind() == parquet.ByteArray || v.Kind() == parquet.FixedLenByteArray {
		return 16 + len(v.ByteArray())
	}
	return 16
}

func (p *parquetFile) row() error {
	p.space = p.space[:0]
	if p.nests {
		if err := p.nested(); err != nil {
			return err
		}
	}
	for i := range p.flats {
		f := &p.flats[i]
		v, err := f.next()
		if err != nil {
			return err
		}
		for _, to := range f.to {
			p.nest.values[to] = *v
		}
	}
	return nil
}

// nested assembles lists and groups as JSON.
func (p *parquetFile) nested() error {
	read := map[int]bool{}
	for i := range p.takes {
		t := &p.takes[i]
		if t.flat {
			continue
		}
		if err := p.collect(t.node, read); err != nil {
			return err
		}
		from := len(p.space)
		var null bool
		p.space, null = p.assemble(p.space, t.node)
		text := p.space[from:len(p.space):len(p.space)]
		if t.each {
			if !null && (len(text) == 0 || text[0] != '[') {
				return &FileError{Reason: p.each + " is not a list"}
			}
			if !null {
				p.nest.begin(bytes.Clone(text))
			}
		}
		for _, to := range t.to {
			p.nest.values[to] = tabular.Value{}
			if !null {
				p.nest.values[to] = tabular.Value{Kind: tabular.JSON, B: text}
			}
		}
	}
	for i := range p.takes {
		if t := &p.takes[i]; t.within {
			if err := p.oneOf(t); err != nil {
				return err
			}
		}
	}
	return nil
}

// oneOf takes the one value of a leaf that was read with a group.
func (p *parquetFile) oneOf(t *parquetTake) error {
	row := p.columns[t.node.leaf].row
	if len(row) != 1 {
		return io.ErrUnexpectedEOF
	}
	var v tabular.Value
	if !row[0].IsNull() {
		if err := t.node.read(row[0], &v); err != nil {
			return err
		}
	}
	for _, to := range t.to {
		p.nest.values[to] = v
	}
	return nil
}

func (p *parquetFile) collect(n *parquetNode, read map[int]bool) error {
	if n.leaf >= 0 {
		if read[n.leaf] {
			p.columns[n.leaf].next = 0
			return nil
		}
		read[n.leaf] = true
		return p.columns[n.leaf].rowValues()
	}
	for _, c := range n.children {
		if err := p.collect(c, read); err != nil {
			return err
		}
	}
	return nil
}

// head is the next value of the first leaf below a node.
func (p *parquetFile) head(n *parquetNode) (parquet.Value, bool) {
	c := p.columns[n.first]
	if c.next >= len(c.row) {
		return parquet.Value{}, false
	}
	return c.row[c.next], true
}

// pass goes past one value of each leaf below a node.
func (p *parquetFile) pass(n *parquetNode) {
	if n.leaf >= 0 {
		p.columns[n.leaf].next++
		return
	}
	for _, c := range n.children {
		p.pass(c)
	}
}

// assemble writes a node as JSON and reports whether it is null.
func (p *parquetFile) assemble(dst []byte, n *parquetNode) ([]byte, bool) {
	head, some := p.head(n)
	if !n.repeated {
		if !some || head.DefinitionLevel() < n.def {
			p.pass(n)
			return append(dst, "null"...), true
		}
		return p.one(dst, n), false
	}
	open, end, item := byte('['), byte(']'), p.one
	if n.pairs() {
		open, end, item = '{', '}', p.pair
	}
	dst = append(dst, open)
	if !some || head.DefinitionLevel() < n.def {
		p.pass(n)
		return append(dst, end), false
	}
	for first := true; ; first = false {
		if !first {
			dst = append(dst, ',')
		}
		dst = item(dst, n)
		if head, some = p.head(n); !some || head.RepetitionLevel() != n.rep {
			return append(dst, end), false
		}
	}
}

// pair writes a member of a map.
func (p *parquetFile) pair(dst []byte, n *parquetNode) []byte {
	from := len(dst)
	dst, _ = p.assemble(dst, n.children[0])
	if key := dst[from:]; len(key) == 0 || key[0] != '"' { // keys need not be texts
		dst = appendText(dst[:from], bytes.Clone(key))
	}
	dst = append(dst, ':')
	dst, _ = p.assemble(dst, n.children[1])
	return dst
}

// one writes one item of a node that is there.
func (p *parquetFile) one(dst []byte, n *parquetNode) []byte {
	if n.leaf >= 0 {
		head, _ := p.head(n)
		p.pass(n)
		var v tabular.Value
		if head.IsNull() || n.read(head, &v) != nil {
			return append(dst, "null"...)
		}
		return AppendJSON(dst, &v)
	}
	if list := n.list(); list != nil {
		dst, _ = p.assemble(dst, list)
		return dst
	}
	if n.repeated && len(n.children) == 1 && (n.name == "list" || n.name == "bag" || n.name == "array") {
		dst, _ = p.assemble(dst, n.children[0])
		return dst
	}
	dst = append(dst, '{')
	for i, c := range n.children {
		if i > 0 {
			dst = append(dst, ',')
		}
		dst = append(appendText(dst, []byte(c.name)), ':')
		dst, _ = p.assemble(dst, c)
	}
	return append(dst, '}')
}

// pairs reports whether what repeats are the members of a map.
func (n *parquetNode) pairs() bool {
	return n.repeated && len(n.children) == 2 && n.children[0].name == "key" && n.children[0].leaf >= 0 &&
		!n.children[0].repeated && n.children[1].name == "value"
}

// list returns what repeats in a group that stands for a list or a map: a single
// repeated child.
func (n *parquetNode) list() *parquetNode {
	if len(n.children) == 1 && n.children[0].repeated {
		return n.children[0]
	}
	return nil
}

// readValue reads a value of a leaf that is not null.
type readValue = func(v parquet.Value, out *tabular.Value) error

// parquetReader makes the reader of a leaf's values by its type, and says of which
// kind they are, and whether their numbers or bytes are taken as they are. Where all are
// of one kind, only what that kind uses is set: rows are read into the same place again
// and again.
func parquetReader(e *format.SchemaElement) (kind tabular.Kind, read readValue, asIs bool) {
	switch t := e.LogicalType.Value.(type) {
	case *format.NullType: // nothing but nulls
		return tabular.Null, parquetPlain, false
	case *format.DateType:
		return parquetWhole(tabular.Day, 1, 1)
	case *format.TimeType:
		return parquetTime(tabular.Clock, t.Unit)
	case *format.TimestampType:
		if t.IsAdjustedToUTC {
			return parquetTime(tabular.Instant, t.Unit)
		}
		return parquetTime(tabular.Wall, t.Unit)
	case *format.DecimalType:
		return tabular.Decimal, parquetDecimal(int(t.Scale)), false
	case *format.UUIDType:
		return parquetBytes(tabular.UUID)
	case *format.JsonType:
		return parquetBytes(tabular.JSON)
	case *format.StringType, *format.EnumType:
		return parquetBytes(tabular.Text)
	case *format.IntType:
		if t.IsSigned {
			return parquetWhole(tabular.Integer, 1, 1)
		}
		return tabular.Integer, parquetUnsigned, false
	}
	if e.ConvertedType.Valid {
		return parquetConverted(e)
	}
	return parquetPlainly(e.Type.V)
}

// parquetConverted is parquetReader for files from before logical types.
func parquetConverted(e *format.SchemaElement) (tabular.Kind, readValue, bool) {
	switch e.ConvertedType.V {
	case deprecated.Date:
		return parquetWhole(tabular.Day, 1, 1)
	case deprecated.TimeMillis:
		return parquetWhole(tabular.Clock, 1000, 1)
	case deprecated.TimeMicros:
		return parquetWhole(tabular.Clock, 1, 1)
	case deprecated.TimestampMillis:
		return parquetWhole(tabular.Instant, 1000, 1)
	case deprecated.TimestampMicros:
		return parquetWhole(tabular.Instant, 1, 1)
	case deprecated.Decimal:
		return tabular.Decimal, parquetDecimal(int(e.Scale.V)), false
	case deprecated.UTF8, deprecated.Enum:
		return parquetBytes(tabular.Text)
	case deprecated.Json:
		return parquetBytes(tabular.JSON)
	case deprecated.Uint8, deprecated.Uint16, deprecated.Uint32, deprecated.Uint64:
		return tabular.Integer, parquetUnsigned, false
	}
	return parquetPlainly(e.Type.V)
}

// parquetWhole reads whole numbers as a kind, times a factor by a divisor.
func parquetWhole(kind tabular.Kind, factor, divisor int64) (tabular.Kind, readValue, bool) {
	return kind, func(v parquet.Value, out *tabular.Value) error {
		n := v.Int64()
		if v.Kind() == parquet.Int32 {
			n = int64(v.Int32())
		}
		out.Kind, out.I = kind, n
		if factor != divisor {
			out.I = n * factor / divisor
		}
		return nil
	}, factor == divisor
}

// parquetTime reads times in a unit.
func parquetTime(kind tabular.Kind, u format.TimeUnit) (tabular.Kind, readValue, bool) {
	switch u.Value.(type) {
	case *format.MilliSeconds:
		return parquetWhole(kind, 1000, 1)
	case *format.NanoSeconds:
		return kind, func(v parquet.Value, out *tabular.Value) error {
			*out = ofNanoseconds(kind, v.Int64())
			return nil
		}, false
	}
	return parquetWhole(kind, 1, 1)
}

func parquetUnsigned(v parquet.Value, out *tabular.Value) error {
	*out = tabular.Value{Kind: tabular.Integer}
	switch {
	case v.Kind() == parquet.Int32:
		out.I = int64(v.Uint32())
	case v.Int64() >= 0:
		out.I = v.Int64()
	default: // beyond 63 bits
		*out = tabular.Value{Kind: tabular.Decimal, B: fmt.Appendf(nil, "%d", v.Uint64())}
	}
	return nil
}

func parquetBytes(kind tabular.Kind) (tabular.Kind, readValue, bool) {
	return kind, func(v parquet.Value, out *tabular.Value) error {
		out.Kind, out.B = kind, v.ByteArray()
		return nil
	}, true
}

func parquetDecimal(scale int) readValue {
	return func(v parquet.Value, out *tabular.Value) error {
		switch v.Kind() {
		case parquet.Int32:
			*out = tabular.Value{Kind: tabular.Decimal, I: int64(v.Int32()), Scale: int32(scale)}
		case parquet.Int64:
			*out = tabular.Value{Kind: tabular.Decimal, I: v.Int64(), Scale: int32(scale)}
		default:
			return decimal(v.ByteArray(), scale, out)
		}
		if out.I >= 1e18 || out.I <= -1e18 {
			out.B, out.I = fmt.Appendf(nil, "%d", out.I), 0
		}
		return nil
	}
}

// parquetPlainly is parquetReader for leaves that say nothing of their meaning.
func parquetPlainly(t format.Type) (tabular.Kind, readValue, bool) {
	switch t {
	case format.Boolean:
		return tabular.Boolean, parquetPlain, false
	case format.Int32, format.Int64:
		return tabular.Integer, parquetPlain, true
	case format.Int96:
		return tabular.Instant, parquetPlain, false
	case format.Float:
		return tabular.Float, parquetPlain, false
	case format.Double:
		return tabular.Float, parquetPlain, true
	}
	return tabular.Binary, parquetPlain, true
}

// parquetPlain reads a leaf that says nothing of its meaning.
func parquetPlain(v parquet.Value, out *tabular.Value) error {
	switch v.Kind() {
	case parquet.Boolean:
		*out = tabular.Value{Kind: tabular.Boolean}
		if v.Boolean() {
			out.I = 1
		}
	case parquet.Int32:
		out.Kind, out.I = tabular.Integer, int64(v.Int32())
	case parquet.Int64:
		out.Kind, out.I = tabular.Integer, v.Int64()
	case parquet.Int96: // nanoseconds of the day, and the Julian day
		i := v.Int96()
		var b [8]byte
		binary.LittleEndian.PutUint32(b[:], i[0])
		binary.LittleEndian.PutUint32(b[4:], i[1])
		const epoch = 2440588
		ofDay := ofNanoseconds(tabular.Instant, int64(binary.LittleEndian.Uint64(b[:])))
		ofDay.I += (int64(i[2]) - epoch) * 86400 * 1_000_000
		*out = ofDay
	case parquet.Float:
		return floatValue(float64(v.Float()), 32, out)
	case parquet.Double:
		out.Kind, out.X = tabular.Float, v.Double()
	default:
		*out = tabular.Value{Kind: tabular.Binary, B: v.ByteArray()}
	}
	return nil
}
