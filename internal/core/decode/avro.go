package decode

import (
	"bytes"
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"hash/crc32"
	"io"
	"math"
	"math/big"
	"strconv"

	"github.com/klauspost/compress/flate"
	"github.com/klauspost/compress/snappy"
	"github.com/klauspost/compress/zstd"

	"mullein/internal/core/tabular"
)

// avroFile reads an Avro object container file (Apache Avro 1.11): its schema,
// then blocks of records, plain or packed by deflate, snappy or zstandard.
type avroFile struct {
	r      io.Reader
	schema *avroType
	codec  string
	sync   [16]byte
	block  []byte // what is left of the block at hand
	left   int64  // records in it
	count  int64
	// bytesRead is the size of all blocks up to now, as they are packed.
	bytesRead int64
	each      string

	nest  nest
	space []byte // of texts made for the record at hand
	rec   Record
	zstd  *zstd.Decoder
	steps int // within the record at hand
	depth int
}

// avroType is a type of an Avro schema.
type avroType struct {
	kind    string // of the specification: null, boolean, ..., record, enum, array, map, union, fixed
	logical string
	scale   int
	size    int
	symbols []string
	items   *avroType
	fields  []avroField
	union   []*avroType
}

type avroField struct {
	name string
	of   *avroType
}

const (
	maxAvroHeader = 16 << 20
	maxAvroBlock  = 64 << 20
	maxAvroSteps  = 10_000_000 // of one record: arrays of nulls take no bytes
)

func newAvro(r io.Reader, each string) (*avroFile, error) {
	a := &avroFile{r: r, each: each}
	var magic [4]byte
	if _, err := io.ReadFull(r, magic[:]); err != nil || string(magic[:]) != "Obj\x01" {
		return nil, a.readError(err, "this is no Avro file: it does not begin with Obj and 1")
	}
	meta := map[string][]byte{}
	for {
		n, err := a.streamLong()
		if err != nil {
			return nil, a.readError(err, "the header is cut short")
		}
		if n == 0 {
			break
		}
		if n < 0 {
			n = -n
			if _, err := a.streamLong(); err != nil {
				return nil, a.readError(err, "the header is cut short")
			}
		}
		for ; n > 0; n-- {
			key, err := a.streamBytes(1 << 10)
			if err != nil {
				return nil, err
			}
			if meta[string(key)], err = a.streamBytes(maxAvroHeader); err != nil {
				return nil, err
			}
			if len(meta) > 1000 {
				return nil, &FileError{Reason: "the header holds more than 1000 entries"}
			}
		}
	}
	if _, err := io.ReadFull(r, a.sync[:]); err != nil {
		return nil, a.readError(err, "the header is cut short")
	}
	a.codec = string(meta["avro.codec"])
	switch a.codec {
	case "", "null", "deflate", "snappy", "zstandard":
	default:
		return nil, &FileError{Reason: fmt.Sprintf("packed by %q; known are deflate, snappy and zstandard", a.codec)}
	}
	var doc any
	if err := json.Unmarshal(meta["avro.schema"], &doc); err != nil {
		return nil, &FileError{Reason: "its schema is not JSON: " + err.Error()}
	}
	p := avroParser{named: map[string]*avroType{}}
	t, err := p.parse(doc, "", 0)
	if err != nil {
		return nil, &FileError{Reason: "its schema: " + err.Error()}
	}
	if t.kind != "record" {
		return nil, &FileError{Reason: "its records are of type " + t.kind + ", not records with named fields"}
	}
	a.schema = t
	return a, nil
}

func (a *avroFile) readError(err error, reason string) error {
	if err == nil || err == io.EOF || err == io.ErrUnexpectedEOF {
		return &FileError{Reason: reason + "; it may be cut short"}
	}
	return err
}

type avroParser struct{ named map[string]*avroType }

func (p *avroParser) parse(doc any, space string, depth int) (*avroType, error) {
	if depth > maxDepth {
		return nil, fmt.Errorf("types stand more than %d deep in each other", maxDepth)
	}
	switch d := doc.(type) {
	case string:
		switch d {
		case "null", "boolean", "int", "long", "float", "double", "bytes", "string":
			return &avroType{kind: d}, nil
		}
		for _, name := range []string{d, space + "." + d} {
			if t := p.named[name]; t != nil {
				return t, nil
			}
		}
		return nil, fmt.Errorf("unknown type %q", d)
	case []any:
		t := &avroType{kind: "union"}
		for _, member := range d {
			m, err := p.parse(member, space, depth+1)
			if err != nil {
				return nil, err
			}
			t.union = append(t.union, m)
		}
		return t, nil
	case map[string]any:
		return p.complex(d, space, depth)
	}
	return nil, fmt.Errorf("%v is no type", doc)
}

func (p *avroParser) complex(d map[string]any, space string, depth int) (*avroType, error) {
	kind, ok := d["type"].(string)
	if !ok {
		return p.parse(d["type"], space, depth+1)
	}
	t := &avroType{kind: kind}
	t.logical, _ = d["logicalType"].(string)
	if scale, ok := d["scale"].(float64); ok && scale >= 0 && scale < 1000 {
		t.scale = int(scale)
	}
	if name, ok := d["name"].(string); ok && (kind == "record" || kind == "enum" || kind == "fixed") {
		if own, ok := d["namespace"].(string); ok {
			space = own
		}
		p.named[name], p.named[space+"."+name] = t, t
	}
	var err error
	switch kind {
	case "record":
		fields, _ := d["fields"].([]any)
		for _, f := range fields {
			field, _ := f.(map[string]any)
			name, _ := field["name"].(string)
			of, err := p.parse(field["type"], space, depth+1)
			if err != nil {
				return nil, fmt.Errorf("field %s: %w", name, err)
			}
			t.fields = append(t.fields, avroField{name, of})
		}
	case "enum":
		symbols, _ := d["symbols"].([]any)
		for _, s := range symbols {
			t.symbols = append(t.symbols, fmt.Sprint(s))
		}
	case "array":
		t.items, err = p.parse(d["items"], space, depth+1)
	case "map":
		t.items, err = p.parse(d["values"], space, depth+1)
	case "fixed":
		size, _ := d["size"].(float64)
		if size < 0 || size > maxAvroBlock {
			return nil, fmt.Errorf("a fixed of %v bytes", d["size"])
		}
		t.size = int(size)
	default:
		plain, err := p.parse(kind, space, depth+1)
		if err != nil {
			return nil, err
		}
		if t.logical == "" {
			return plain, nil
		}
		t.kind = plain.kind
	}
	return t, err
}

// Header names the fields.
func (a *avroFile) Header() ([]string, error) {
	var names []string
	for _, f := range a.schema.fields {
		names = append(names, f.name)
	}
	return names, nil
}

// Select says which parts of the records are wanted.
func (a *avroFile) Select(sources []string) (err error) {
	a.nest, err = newNest(sources, a.each)
	return err
}

// Kinds implements [Typed].
func (a *avroFile) Kinds(sources []string) ([]tabular.Kind, error) {
	root, err := tree(sources, a.each)
	if err != nil {
		return nil, err
	}
	out := make([]tabular.Kind, len(sources))
	a.schema.kinds(root, out, 0)
	return out, nil
}

// kinds finds the kinds of what is wanted at a type and below it.
func (t *avroType) kinds(b *branch, out []tabular.Kind, depth int) {
	if t = t.single(); t == nil || b.each || depth > maxDepth {
		return
	}
	for _, i := range b.wanted {
		out[i] = t.holds()
	}
	for i := range t.fields {
		if c := b.child(t.fields[i].name); c != nil {
			t.fields[i].of.kinds(c, out, depth+1)
		}
	}
}

// single is the one type of a union beside null; nil where there are several.
func (t *avroType) single() *avroType {
	if t.kind != "union" {
		return t
	}
	var out *avroType
	for _, member := range t.union {
		switch {
		case member.kind == "null":
		case out != nil:
			return nil
		default:
			out = member
		}
	}
	return out
}

// holds is the kind of the values of a type that is no union: see value.
func (t *avroType) holds() tabular.Kind {
	switch t.kind {
	case "record", "array", "map":
		return tabular.JSON
	case "boolean":
		return tabular.Boolean
	case "int", "long":
		v := t.integer(0)
		return v.Kind
	case "float", "double":
		return tabular.Float
	case "enum", "string":
		return tabular.Text
	case "bytes", "fixed":
		switch t.logical {
		case "":
			return tabular.Binary
		case "decimal":
			return tabular.Decimal
		}
	}
	return tabular.Null
}

// Next returns the next record, or the next element of the one at hand.
func (a *avroFile) Next() (*Record, error) {
	for {
		more, err := a.nest.next()
		if err != nil {
			return nil, &FileError{Reason: fmt.Sprintf("record %d: %v", a.count, err)}
		}
		if more {
			a.rec.Element = a.nest.element
			return &a.rec, nil
		}
		if a.left == 0 {
			if err := a.nextBlock(); err != nil {
				return nil, err
			}
			continue
		}
		a.left--
		a.count++
		if err := tooMany(a.count, a.bytesRead); err != nil {
			return nil, err
		}
		before := a.block
		a.nest.reset()
		a.space, a.steps, a.depth = a.space[:0], 0, 0
		a.rec = Record{Line: a.count, Values: a.nest.values}
		if err := a.record(a.schema, a.nest.root); err != nil {
			return nil, &FileError{Reason: fmt.Sprintf("record %d: %v", a.count, err)}
		}
		if len(a.nest.root.wanted) > 0 {
			whole := a.json(before)
			for _, i := range a.nest.root.wanted {
				a.nest.values[i] = tabular.Value{Kind: tabular.JSON, B: whole}
			}
		}
		if a.nest.oneRow() {
			return &a.rec, nil
		}
	}
}

// json returns the record at the beginning of a block as JSON.
func (a *avroFile) json(block []byte) []byte {
	again := avroFile{block: block}
	out, err := again.appendJSON(nil, a.schema)
	if err != nil {
		return nil
	}
	return out
}

func (a *avroFile) nextBlock() error {
	count, err := a.streamLong()
	if err == io.EOF {
		return io.EOF
	}
	if err != nil {
		return a.readError(err, "a block is cut short")
	}
	size, err := a.streamLong()
	if err != nil {
		return a.readError(err, "a block is cut short")
	}
	if count < 0 || size < 0 || size > maxAvroBlock {
		return &FileError{Reason: fmt.Sprintf("after record %d: a block of %d records and %d bytes; %d MiB are the "+
			"most", a.count, count, size, maxAvroBlock>>20)}
	}
	packed, err := readBounded(a.r, size)
	if err != nil {
		return a.readError(err, fmt.Sprintf("the file ends within the block after record %d", a.count))
	}
	var mark [16]byte
	if _, err := io.ReadFull(a.r, mark[:]); err != nil || mark != a.sync {
		return a.readError(err, fmt.Sprintf("the block after record %d is damaged: its mark is wrong", a.count))
	}
	if a.block, err = a.unpack(packed); err != nil {
		return &FileError{Reason: fmt.Sprintf("the block after record %d is damaged: %v", a.count, err)}
	}
	a.left = count
	a.bytesRead += size
	return nil
}

// readBounded reads n bytes without trusting n before they have come.
func readBounded(r io.Reader, n int64) ([]byte, error) {
	var out bytes.Buffer
	got, err := io.CopyN(&out, r, n)
	if err == nil && got < n {
		err = io.ErrUnexpectedEOF
	}
	return out.Bytes(), err
}

func (a *avroFile) unpack(packed []byte) ([]byte, error) {
	switch a.codec {
	case "deflate":
		return all(flate.NewReader(bytes.NewReader(packed)))
	case "snappy":
		if len(packed) < 4 {
			return nil, io.ErrUnexpectedEOF
		}
		body, sum := packed[:len(packed)-4], packed[len(packed)-4:]
		if n, err := snappy.DecodedLen(body); err != nil || n > maxAvroBlock {
			return nil, fmt.Errorf("unpacks to %d bytes; %d MiB are the most", n, maxAvroBlock>>20)
		}
		out, err := snappy.Decode(nil, body)
		if err == nil && crc32.ChecksumIEEE(out) != binary.BigEndian.Uint32(sum) {
			err = fmt.Errorf("its checksum is wrong")
		}
		return out, err
	case "zstandard":
		if a.zstd == nil {
			var err error
			if a.zstd, err = zstd.NewReader(nil, zstd.WithDecoderConcurrency(1),
				zstd.WithDecoderMaxMemory(maxAvroBlock)); err != nil {
				return nil, err
			}
		}
		return a.zstd.DecodeAll(packed, nil)
	}
	return packed, nil
}

func all(r io.Reader) ([]byte, error) {
	out, err := io.ReadAll(io.LimitReader(r, maxAvroBlock+1))
	if err == nil && len(out) > maxAvroBlock {
		err = fmt.Errorf("unpacks to more than %d MiB", maxAvroBlock>>20)
	}
	return out, err
}

func (a *avroFile) streamLong() (int64, error) {
	var n uint64
	var b [1]byte
	for shift := 0; shift < 64; shift += 7 {
		if _, err := io.ReadFull(a.r, b[:]); err != nil {
			if shift > 0 {
				err = io.ErrUnexpectedEOF
			}
			return 0, err
		}
		n |= uint64(b[0]&0x7f) << shift
		if b[0] < 0x80 {
			return int64(n>>1) ^ -int64(n&1), nil
		}
	}
	return 0, &FileError{Reason: "a number of more than 64 bits"}
}

func (a *avroFile) streamBytes(most int64) ([]byte, error) {
	n, err := a.streamLong()
	if err != nil {
		return nil, a.readError(err, "the header is cut short")
	}
	if n < 0 || n > most {
		return nil, &FileError{Reason: fmt.Sprintf("the header holds an entry of %d bytes", n)}
	}
	b, err := readBounded(a.r, n)
	if err != nil {
		return nil, a.readError(err, "the header is cut short")
	}
	return b, nil
}

// errShort says that a block ends within a record.
var errShort = fmt.Errorf("its block ends within it")

func (a *avroFile) long() (int64, error) {
	n, size := binary.Uvarint(a.block)
	if size <= 0 {
		return 0, errShort
	}
	a.block = a.block[size:]
	return int64(n>>1) ^ -int64(n&1), nil
}

func (a *avroFile) take(n int64) ([]byte, error) {
	if n < 0 || n > int64(len(a.block)) {
		return nil, errShort
	}
	b := a.block[:n:n]
	a.block = a.block[n:]
	return b, nil
}

func (a *avroFile) bytes() ([]byte, error) {
	n, err := a.long()
	if err != nil {
		return nil, err
	}
	return a.take(n)
}

// record takes what is wanted of a record's fields.
func (a *avroFile) record(t *avroType, b *branch) error {
	for i := range t.fields {
		f := &t.fields[i]
		if err := a.want(f.of, b.child(f.name)); err != nil {
			return err
		}
	}
	return nil
}

// want takes what is wanted of the value that stands next.
func (a *avroFile) want(t *avroType, b *branch) error {
	t, err := a.choose(t)
	if err != nil {
		return err
	}
	if b == nil {
		return a.skip(t)
	}
	if b.each {
		begin := len(a.space)
		if a.space, err = a.appendJSON(a.space, t); err != nil || t.kind == "null" {
			return err
		}
		if t.kind != "array" {
			return fmt.Errorf("%s is not an array", a.each)
		}
		a.nest.begin(bytes.Clone(a.space[begin:]))
		return nil
	}
	if t.kind == "record" && len(b.children) > 0 {
		before := a.block
		if err := a.record(t, b); err != nil || len(b.wanted) == 0 {
			return err
		}
		a.block = before
	}
	if len(b.wanted) == 0 {
		return a.skip(t)
	}
	v := &a.nest.values[b.wanted[0]]
	if err := a.value(t, v); err != nil {
		return err
	}
	for _, i := range b.wanted[1:] {
		a.nest.values[i] = *v
	}
	return nil
}

// deeper goes into a value. A schema may name itself, and so be as deep as the data
// say: see maxDepth.
func (a *avroFile) deeper() error {
	if a.depth++; a.depth > maxDepth {
		return fmt.Errorf("values stand more than %d deep in each other", maxDepth)
	}
	return nil
}

func (a *avroFile) higher() { a.depth-- }

// choose goes through a union to the type that stands here.
func (a *avroFile) choose(t *avroType) (*avroType, error) {
	if a.steps++; a.steps > maxAvroSteps {
		return nil, fmt.Errorf("more than %d values in one record", maxAvroSteps)
	}
	for t.kind == "union" {
		n, err := a.long()
		if err != nil {
			return nil, err
		}
		if n < 0 || n >= int64(len(t.union)) {
			return nil, fmt.Errorf("member %d of a union of %d", n, len(t.union))
		}
		t = t.union[n]
	}
	return t, nil
}

// value reads a value with the type that it has.
func (a *avroFile) value(t *avroType, v *tabular.Value) error {
	switch t.kind {
	case "record", "array", "map":
		from := len(a.space)
		var err error
		a.space, err = a.appendJSON(a.space, t)
		*v = tabular.Value{Kind: tabular.JSON, B: a.space[from:len(a.space):len(a.space)]}
		return err
	case "null":
		*v = tabular.Value{}
		return nil
	case "boolean":
		b, err := a.take(1)
		if err == nil {
			*v = tabular.Value{Kind: tabular.Boolean, I: int64(b[0] & 1)}
		}
		return err
	case "int", "long":
		n, err := a.long()
		*v = t.integer(n)
		return err
	case "float":
		b, err := a.take(4)
		if err != nil {
			return err
		}
		return floatValue(float64(math.Float32frombits(binary.LittleEndian.Uint32(b))), 32, v)
	case "double":
		b, err := a.take(8)
		if err == nil {
			*v = tabular.Value{Kind: tabular.Float, X: math.Float64frombits(binary.LittleEndian.Uint64(b))}
		}
		return err
	case "enum":
		n, err := a.long()
		if err == nil && (n < 0 || n >= int64(len(t.symbols))) {
			err = fmt.Errorf("symbol %d of %d", n, len(t.symbols))
		}
		if err == nil {
			*v = tabular.Value{Kind: tabular.Text, B: []byte(t.symbols[n])}
		}
		return err
	}
	b, err := a.raw(t)
	if err != nil {
		return err
	}
	switch {
	case t.logical == "decimal":
		return decimal(b, t.scale, v)
	case t.logical == "uuid" && t.kind == "fixed":
		*v = tabular.Value{Kind: tabular.UUID, B: b}
	case t.logical == "duration" && len(b) == 12:
		le := binary.LittleEndian
		*v = tabular.Value{Kind: tabular.Span, M: int32(le.Uint32(b)), D: int32(le.Uint32(b[4:])),
			I: int64(le.Uint32(b[8:])) * 1000}
	case t.kind == "string":
		*v = tabular.Value{Kind: tabular.Text, B: b}
	default:
		*v = tabular.Value{Kind: tabular.Binary, B: b}
	}
	return nil
}

func (a *avroFile) raw(t *avroType) ([]byte, error) {
	if t.kind == "fixed" {
		return a.take(int64(t.size))
	}
	return a.bytes()
}

// floatValue makes the shortest decimal of a number of 32 bits, so that 0.1
// does not become 0.10000000149.
func floatValue(x float64, bits int, v *tabular.Value) error {
	text := strconv.FormatFloat(x, 'g', -1, bits)
	if math.IsNaN(x) || math.IsInf(x, 0) {
		*v = tabular.Value{Kind: tabular.Float, X: x}
		return nil
	}
	return tabular.ParseNumber([]byte(text), v)
}

// decimal reads a big-endian two's complement number.
func decimal(b []byte, scale int, v *tabular.Value) error {
	n := new(big.Int).SetBytes(b)
	if len(b) > 0 && b[0]&0x80 != 0 {
		n.Sub(n, new(big.Int).Lsh(big.NewInt(1), uint(len(b)*8)))
	}
	if len(b) > 512 {
		return fmt.Errorf("a decimal of %d bytes", len(b))
	}
	*v = tabular.Value{Kind: tabular.Decimal, Scale: int32(scale)}
	if digits := n.String(); len(digits) > 18 {
		v.B = []byte(digits)
		return nil
	}
	v.I = n.Int64()
	return nil
}

func (t *avroType) integer(n int64) tabular.Value {
	switch t.logical {
	case "date":
		return tabular.Value{Kind: tabular.Day, I: n}
	case "time-millis":
		return tabular.Value{Kind: tabular.Clock, I: n * 1000}
	case "time-micros":
		return tabular.Value{Kind: tabular.Clock, I: n}
	case "timestamp-millis":
		return tabular.Value{Kind: tabular.Instant, I: n * 1000}
	case "timestamp-micros":
		return tabular.Value{Kind: tabular.Instant, I: n}
	case "timestamp-nanos":
		return ofNanoseconds(tabular.Instant, n)
	case "local-timestamp-nanos":
		return ofNanoseconds(tabular.Wall, n)
	case "local-timestamp-millis":
		return tabular.Value{Kind: tabular.Wall, I: n * 1000}
	case "local-timestamp-micros":
		return tabular.Value{Kind: tabular.Wall, I: n}
	}
	return tabular.Value{Kind: tabular.Integer, I: n}
}

// ofNanoseconds is a time in nanoseconds since 1970.
func ofNanoseconds(kind tabular.Kind, n int64) tabular.Value {
	micros, rest := n/1000, n%1000
	if rest < 0 {
		micros, rest = micros-1, rest+1000
	}
	return tabular.Value{Kind: kind, I: micros, D: int32(rest)}
}

func (a *avroFile) skip(t *avroType) error {
	t, err := a.choose(t)
	if err != nil {
		return err
	}
	if err := a.deeper(); err != nil {
		return err
	}
	defer a.higher()
	switch t.kind {
	case "record":
		for i := range t.fields {
			if err := a.skip(t.fields[i].of); err != nil {
				return err
			}
		}
	case "array", "map":
		return a.blocks(func() error {
			if t.kind == "map" {
				if _, err := a.bytes(); err != nil {
					return err
				}
			}
			return a.skip(t.items)
		})
	case "string", "bytes", "fixed":
		_, err = a.raw(t)
	default:
		var v tabular.Value
		err = a.value(t, &v)
	}
	return err
}

// blocks calls do at each item of an array or a map.
func (a *avroFile) blocks(do func() error) error {
	for {
		n, err := a.long()
		if err != nil || n == 0 {
			return err
		}
		if n < 0 {
			if n = -n; n < 0 {
				return errShort
			}
			if _, err := a.long(); err != nil {
				return err
			}
		}
		for ; n > 0; n-- {
			if err := do(); err != nil {
				return err
			}
		}
	}
}

// appendJSON writes a value as JSON: times as ISO 8601, bytes as base64.
func (a *avroFile) appendJSON(dst []byte, t *avroType) ([]byte, error) {
	t, err := a.choose(t)
	if err != nil {
		return dst, err
	}
	if err := a.deeper(); err != nil {
		return dst, err
	}
	defer a.higher()
	switch t.kind {
	case "record":
		dst = append(dst, '{')
		for i, f := range t.fields {
			if i > 0 {
				dst = append(dst, ',')
			}
			dst = append(appendText(dst, []byte(f.name)), ':')
			if dst, err = a.appendJSON(dst, f.of); err != nil {
				return dst, err
			}
		}
		return append(dst, '}'), nil
	case "array", "map":
		brackets, first := "[]", true
		if t.kind == "map" {
			brackets = "{}"
		}
		dst = append(dst, brackets[0])
		err = a.blocks(func() error {
			if !first {
				dst = append(dst, ',')
			}
			first = false
			if t.kind == "map" {
				key, err := a.bytes()
				if err != nil {
					return err
				}
				dst = append(appendText(dst, key), ':')
			}
			dst, err = a.appendJSON(dst, t.items)
			return err
		})
		return append(dst, brackets[1]), err
	}
	var v tabular.Value
	if err := a.value(t, &v); err != nil {
		return dst, err
	}
	return AppendJSON(dst, &v), nil
}

// AppendJSON adds one value as JSON.
func AppendJSON(dst []byte, v *tabular.Value) []byte {
	switch {
	case v.Kind == tabular.Null, v.Kind == tabular.Float && (math.IsNaN(v.X) || math.IsInf(v.X, 0)):
		return append(dst, "null"...)
	case v.Kind == tabular.JSON:
		return append(dst, v.B...)
	case v.Kind == tabular.Integer, v.Kind == tabular.Boolean, v.Kind == tabular.Float, v.Kind == tabular.Decimal &&
		v.Odd == tabular.Finite:
		return append(dst, v.String()...)
	case v.Kind == tabular.Binary:
		return append(base64.StdEncoding.AppendEncode(append(dst, '"'), v.B), '"')
	}
	return appendText(dst, []byte(v.String()))
}

func appendText(dst, text []byte) []byte {
	quoted, err := json.Marshal(string(text))
	if err != nil {
		return append(dst, `""`...)
	}
	return append(dst, quoted...)
}
