package decode

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf16"
	"unicode/utf8"

	"mullein/internal/core/tabular"
)

// documents reads JSON (RFC 8259):
//
//   - an array of records, at the top or under the dialect's property;
//   - records one after another, with anything or nothing white between them;
//   - JSON Lines: a record a line. There, a broken line is one reject; in the
//     other forms nobody knows where the next record begins, so that the file
//     is refused.
//
// A record is an object, or an array whose items are named by the dialect's
// itemKeys or by the first of the arrays.
type documents struct {
	in      window
	lines   bool
	inArray bool
	began   bool
	ended   bool
	closers int // of what the array stands in: brackets that must follow it
	how     How
	count   int64

	peeked []peeked
	arrays bool
	names  []string // of the items of arrays

	nest   nest
	rec    Record
	parser jsonText
}

type peeked struct {
	raw     []byte
	line    int64
	problem string
}

func newJSON(r io.Reader, how How) *documents {
	return &documents{in: newWindow(r), lines: how.Format == Lines, how: how}
}

// Header returns the keys of the first hundred records.
func (d *documents) Header() ([]string, error) {
	const records, size = 100, 1 << 20
	held := 0
	for len(d.peeked) < records && held < size {
		raw, problem, line, err := d.record()
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, err
		}
		d.peeked = append(d.peeked, peeked{bytes.Clone(raw), line, problem})
		held += len(raw)
	}
	if len(d.peeked) == 0 {
		return nil, &FileError{Reason: "the file holds no records"}
	}
	if first := bytes.TrimLeft(d.peeked[0].raw, " \t\r\n"); len(first) > 0 && first[0] == '[' {
		return d.arrayHeader()
	}
	var names []string
	known := map[string]bool{}
	for _, p := range d.peeked {
		if p.problem != "" {
			continue
		}
		t := jsonText{b: p.raw}
		_ = t.keys(func(key []byte) {
			if !known[string(key)] {
				known[string(key)] = true
				names = append(names, string(key))
			}
		})
	}
	return names, nil
}

// arrayHeader takes the names of items from the dialect, or the first record.
func (d *documents) arrayHeader() ([]string, error) {
	d.arrays = true
	if d.how.Dialect.ItemKeys != nil {
		d.names = d.how.Dialect.ItemKeys
		return d.names, nil
	}
	if !d.how.Dialect.Header {
		return nil, &FileError{Reason: "the records are arrays and have no names; name their items with the dialect's " +
			"itemKeys"}
	}
	first := d.peeked[0]
	d.peeked = d.peeked[1:]
	t := jsonText{b: first.raw}
	err := t.items(func() error {
		var v tabular.Value
		if err := t.value(&v); err != nil {
			return err
		}
		d.names = append(d.names, v.String())
		return nil
	})
	if err != nil {
		return nil, &FileError{Line: first.line, Reason: "the header cannot be read: " + err.Error()}
	}
	return d.names, nil
}

// Select says which parts of the records are wanted.
func (d *documents) Select(sources []string) (err error) {
	d.nest, err = newNest(sources, d.how.Each)
	return err
}

// Next returns the next record, or the next element of the one at hand.
func (d *documents) Next() (*Record, error) {
	for {
		more, err := d.nest.next()
		if err != nil {
			d.rec.Problem = err.Error()
			return &d.rec, nil
		}
		if more {
			d.rec.Problem, d.rec.Element = "", d.nest.element
			return &d.rec, nil
		}
		p, err := d.nextRecord()
		if err != nil {
			return nil, err
		}
		d.count++
		d.rec = Record{Line: p.line, Raw: p.raw, Values: d.nest.values, Problem: p.problem}
		if !d.lines {
			d.rec.Line = d.count
		}
		if p.problem != "" {
			return &d.rec, nil
		}
		d.nest.reset()
		d.parser.begin(p.raw)
		if err := d.extract(); err != nil {
			d.nest.open = false
			if !d.lines {
				return nil, &FileError{Line: p.line, Reason: err.Error()}
			}
			d.rec.Problem = err.Error()
			return &d.rec, nil
		}
		if d.nest.oneRow() {
			return &d.rec, nil
		}
	}
}

// nextRecord returns the next record as it stands in the file.
func (d *documents) nextRecord() (p peeked, err error) {
	if len(d.peeked) > 0 {
		p = d.peeked[0]
		d.peeked = d.peeked[1:]
		return p, nil
	}
	p.raw, p.problem, p.line, err = d.record()
	return p, err
}

// extract fills the values from the record.
func (d *documents) extract() error {
	t := &d.parser
	if d.arrays {
		i := 0
		err := t.items(func() error {
			if i >= len(d.names) {
				return fmt.Errorf("%d items where %d are expected", i+1, len(d.names))
			}
			child := d.nest.root.child(d.names[i])
			i++
			return d.nest.take(t, child)
		})
		if err == nil && i < len(d.names) {
			err = fmt.Errorf("%d items where %d are expected", i, len(d.names))
		}
		return errors.Join(err, t.end())
	}
	for _, i := range d.nest.root.wanted {
		d.nest.values[i] = tabular.Value{Kind: tabular.JSON, B: t.b}
	}
	if err := d.nest.object(t, d.nest.root); err != nil {
		return err
	}
	return t.end()
}

// record returns the bytes of the next record and the line it begins in.
func (d *documents) record() (raw []byte, problem string, line int64, err error) {
	if d.lines {
		return d.in.line()
	}
	if !d.began {
		d.began = true
		if err := d.descend(); err != nil {
			return nil, "", 0, err
		}
	}
	if d.ended {
		return nil, "", 0, io.EOF
	}
	c, err := d.in.skipSpace()
	if err == io.EOF {
		if d.inArray {
			return nil, "", 0, &FileError{Line: d.in.at(),
				Reason: "the file ends inside of its array of records; it may be cut short"}
		}
		return nil, "", 0, io.EOF
	}
	if err != nil {
		return nil, "", 0, err
	}
	if d.inArray && c == ']' && d.count == 0 && len(d.peeked) == 0 {
		return nil, "", 0, d.close()
	}
	line = d.in.at()
	raw, err = d.in.value()
	if err != nil {
		return nil, "", 0, err
	}
	if c != '{' && c != '[' {
		return nil, "", 0, &FileError{Line: line, Reason: fmt.Sprintf("%s where a record was expected", short(raw))}
	}
	if !d.inArray {
		return raw, "", line, nil
	}
	return d.afterItem(raw, line)
}

// afterItem passes over the comma or the bracket after an item of the array.
func (d *documents) afterItem(raw []byte, line int64) ([]byte, string, int64, error) {
	raw = d.in.hold(raw)
	c, err := d.in.skipSpace()
	switch {
	case err == io.EOF:
		return nil, "", 0, &FileError{Line: d.in.at(), Reason: "the file ends inside of its array of records; it may " +
			"be cut short"}
	case err != nil:
		return nil, "", 0, err
	case c == ',':
		d.in.pass(1)
	case c == ']':
		if err := d.close(); err != io.EOF {
			return nil, "", 0, err
		}
	default:
		return nil, "", 0, &FileError{Line: d.in.at(),
			Reason: fmt.Sprintf("%q where a comma or the end of the array was expected", c)}
	}
	return raw, "", line, nil
}

// close ends the array; what it stands in must end too. It returns io.EOF.
func (d *documents) close() error {
	d.ended = true
	d.in.pass(1)
	for d.closers > 0 {
		c, err := d.in.skipSpace()
		if err != nil {
			break
		}
		switch c {
		case '}':
			d.closers--
			d.in.pass(1)
			continue
		case ',':
			d.in.pass(1)
			if _, err := d.in.skipSpace(); err != nil {
				break
			}
			if err := d.in.skipValue(); err != nil {
				return err
			}
			if c, err := d.in.skipSpace(); err != nil || c != ':' {
				break
			}
			d.in.pass(1)
			if _, err := d.in.skipSpace(); err != nil {
				break
			}
			if err := d.in.skipValue(); err != nil {
				return err
			}
			continue
		}
		break
	}
	if d.closers > 0 {
		return &FileError{Line: d.in.at(), Reason: "the file ends before its outermost bracket is closed; it may be " +
			"cut short"}
	}
	if c, err := d.in.skipSpace(); err != io.EOF {
		return orElse(err, &FileError{Line: d.in.at(), Reason: fmt.Sprintf("%q after the end of the array", c)})
	}
	return io.EOF
}

func orElse(err, otherwise error) error {
	if err != nil {
		return err
	}
	return otherwise
}

// descend goes to the first record: into an array, under the property if the
// dialect names one.
func (d *documents) descend() error {
	c, err := d.in.skipSpace()
	if err != nil {
		return err
	}
	if property := d.how.Dialect.Property; property != "" {
		keys, err := keysOf(property)
		if err != nil {
			return &FileError{Reason: "dialect.property: " + err.Error()}
		}
		for _, key := range keys {
			if c != '{' {
				return &FileError{Line: d.in.at(), Reason: fmt.Sprintf("no object where %s was looked for", property)}
			}
			if err := d.into(key, property); err != nil {
				return err
			}
			d.closers++
			if c, err = d.in.skipSpace(); err != nil {
				return cut(err)
			}
		}
		if c != '[' {
			return &FileError{Line: d.in.at(), Reason: property + " is not an array"}
		}
	}
	if c == '[' && d.how.Dialect.ItemType != "array" || c == '[' && d.closers > 0 || c == '[' && d.nested() {
		d.in.pass(1)
		d.inArray = true
	}
	return nil
}

// nested reports whether an array of arrays begins here.
func (d *documents) nested() bool {
	rest := bytes.TrimLeft(d.in.buf[d.in.start+1:d.in.end], " \t\r\n")
	return len(rest) > 0 && rest[0] == '['
}

func cut(err error) error {
	if err == io.EOF {
		return &FileError{Reason: "the file ends too early; it may be cut short"}
	}
	return err
}

// into goes to the value of a key of the object that begins here.
func (d *documents) into(key, property string) error {
	d.in.pass(1)
	for {
		c, err := d.in.skipSpace()
		if err != nil {
			return cut(err)
		}
		if c == ',' {
			d.in.pass(1)
			continue
		}
		if c != '"' {
			return &FileError{Line: d.in.at(), Reason: fmt.Sprintf("there is no %s in the file", property)}
		}
		raw, err := d.in.value()
		if err != nil {
			return err
		}
		var name tabular.Value
		t := jsonText{b: raw}
		if err := t.value(&name); err != nil {
			return &FileError{Line: d.in.at(), Reason: err.Error()}
		}
		found := string(name.B) == key
		if c, err := d.in.skipSpace(); err != nil || c != ':' {
			return orElse(err, &FileError{Line: d.in.at(), Reason: fmt.Sprintf("%q where a colon was expected", c)})
		}
		d.in.pass(1)
		if found {
			return nil
		}
		if _, err := d.in.skipSpace(); err != nil {
			return cut(err)
		}
		if err := d.in.skipValue(); err != nil {
			return err
		}
	}
}

func short(raw []byte) string {
	const most = 40
	if len(raw) > most {
		return string(raw[:most]) + "..."
	}
	return string(raw)
}

// jsonText reads JSON from bytes that hold all of it. Texts without escapes
// are given as they stand; others are unescaped into scratch, which lives as
// long as the bytes.
type jsonText struct {
	b       []byte
	at      int
	open    byte // '[' before the first element of an array is asked for, ',' after
	scratch []byte
	depth   int
}

// maxDepth bounds how deep arrays and objects may stand in each other.
const maxDepth = 100

func (t *jsonText) begin(b []byte) {
	*t = jsonText{b: b, scratch: t.scratch[:0]}
}

func (t *jsonText) space() {
	for t.at < len(t.b) {
		switch t.b[t.at] {
		case ' ', '\t', '\r', '\n':
			t.at++
		default:
			return
		}
	}
}

func (t *jsonText) peek() byte {
	if t.at < len(t.b) {
		return t.b[t.at]
	}
	return 0
}

func (t *jsonText) wrong(wanted string) error {
	if t.at >= len(t.b) {
		return fmt.Errorf("the record ends where %s was expected", wanted)
	}
	r, _ := utf8.DecodeRune(t.b[t.at:])
	return fmt.Errorf("%q at character %d of the record where %s was expected", r, utf8.RuneCount(t.b[:t.at])+1, wanted)
}

func (t *jsonText) end() error {
	t.space()
	if t.at < len(t.b) {
		return t.wrong("its end")
	}
	return nil
}

// members calls do at the value of each member of an object.
func (t *jsonText) members(do func(key []byte) error) error {
	t.space()
	if t.peek() != '{' {
		return t.wrong("an object")
	}
	if t.depth++; t.depth > maxDepth {
		return fmt.Errorf("arrays and objects stand more than %d deep in each other", maxDepth)
	}
	t.at++
	for first := true; ; first = false {
		t.space()
		switch c := t.peek(); {
		case c == '}':
			if !first && t.afterComma() {
				return t.wrong("a key")
			}
			t.at++
			t.depth--
			return nil
		case c == '"':
		default:
			return t.wrong("a key")
		}
		key, err := t.text()
		if err != nil {
			return err
		}
		t.space()
		if t.peek() != ':' {
			return t.wrong("a colon")
		}
		t.at++
		if err := do(key); err != nil {
			return err
		}
		t.space()
		switch t.peek() {
		case ',':
			t.at++
		case '}':
		default:
			return t.wrong("a comma or }")
		}
	}
}

func (t *jsonText) afterComma() bool {
	for i := t.at - 1; i >= 0; i-- {
		switch t.b[i] {
		case ' ', '\t', '\r', '\n':
		default:
			return t.b[i] == ','
		}
	}
	return false
}

// keys calls do with each key of an object.
func (t *jsonText) keys(do func(key []byte)) error {
	return t.members(func(key []byte) error {
		do(key)
		return t.skip()
	})
}

// items calls do at each item of an array.
func (t *jsonText) items(do func() error) error {
	t.space()
	if t.peek() != '[' {
		return t.wrong("an array")
	}
	if t.depth++; t.depth > maxDepth {
		return fmt.Errorf("arrays and objects stand more than %d deep in each other", maxDepth)
	}
	outer := t.open
	t.open = '['
	for {
		more, err := t.more(']')
		if err != nil {
			return err
		}
		if !more {
			t.open = outer
			t.depth--
			return nil
		}
		was := t.open
		if err := do(); err != nil {
			return err
		}
		t.open = was
	}
}

// more goes to the next item of the array at hand.
func (t *jsonText) more(end byte) (bool, error) {
	t.space()
	c := t.peek()
	if t.open == '[' {
		t.at++ // the bracket
		t.space()
		if t.peek() == end {
			t.at++
			return false, nil
		}
		t.open = ','
		return true, nil
	}
	if c == end {
		t.at++
		return false, nil
	}
	if c != ',' {
		return false, t.wrong("a comma or ]")
	}
	t.at++
	return true, nil
}

// skip passes over a value and holds it against the grammar.
func (t *jsonText) skip() error {
	t.space()
	switch c := t.peek(); {
	case c == '{':
		return t.members(func([]byte) error { return t.skip() })
	case c == '[':
		return t.items(t.skip)
	case c == '"':
		_, err := t.text()
		return err
	case c == '-' || c >= '0' && c <= '9':
		_, err := t.number()
		return err
	}
	return t.word(nil)
}

// value reads a value: texts as Text, numbers as Integer or Decimal, objects
// and arrays as JSON.
func (t *jsonText) value(v *tabular.Value) error {
	t.space()
	begin := t.at
	switch c := t.peek(); {
	case c == '{' || c == '[':
		if err := t.skip(); err != nil {
			return err
		}
		*v = tabular.Value{Kind: tabular.JSON, B: t.b[begin:t.at]}
		return nil
	case c == '"':
		b, err := t.text()
		*v = tabular.Value{Kind: tabular.Text, B: b}
		return err
	case c == '-' || c >= '0' && c <= '9':
		digits, err := t.number()
		if err != nil {
			return err
		}
		return tabular.ParseNumber(digits, v)
	}
	return t.word(v)
}

func (t *jsonText) word(v *tabular.Value) error {
	for _, w := range []struct {
		text string
		v    tabular.Value
	}{{"null", tabular.Value{}}, {"true", tabular.Value{Kind: tabular.Boolean, I: 1}},
		{"false", tabular.Value{Kind: tabular.Boolean}}} {
		if bytes.HasPrefix(t.b[t.at:], []byte(w.text)) {
			t.at += len(w.text)
			if v != nil {
				*v = w.v
			}
			return nil
		}
	}
	return t.wrong("a value")
}

func (t *jsonText) number() ([]byte, error) {
	begin := t.at
	digits := func() int {
		n := 0
		for t.at < len(t.b) && t.b[t.at] >= '0' && t.b[t.at] <= '9' {
			t.at++
			n++
		}
		return n
	}
	if t.peek() == '-' {
		t.at++
	}
	zero := t.peek() == '0'
	if n := digits(); n == 0 || zero && n > 1 {
		return nil, t.wrong("a number")
	}
	if t.peek() == '.' {
		t.at++
		if digits() == 0 {
			return nil, t.wrong("a digit")
		}
	}
	if c := t.peek(); c == 'e' || c == 'E' {
		t.at++
		if c := t.peek(); c == '+' || c == '-' {
			t.at++
		}
		if digits() == 0 {
			return nil, t.wrong("a digit")
		}
	}
	return t.b[begin:t.at], nil
}

// text reads a string. Its bytes are as they stand where it has no escapes.
func (t *jsonText) text() ([]byte, error) {
	begin := t.at + 1
	for i := begin; i < len(t.b); i++ {
		switch c := t.b[i]; {
		case c == '"':
			t.at = i + 1
			return t.b[begin:i:i], nil
		case c == '\\':
			return t.escaped(begin, i)
		case c < ' ':
			t.at = i
			return nil, t.wrong("the end of a text")
		}
	}
	t.at = len(t.b)
	return nil, t.wrong("the end of a text")
}

var escapes = [256]byte{'"': '"', '\\': '\\', '/': '/', 'b': '\b', 'f': '\f', 'n': '\n', 'r': '\r', 't': '\t'}

func (t *jsonText) escaped(begin, i int) ([]byte, error) {
	from := len(t.scratch)
	t.scratch = append(t.scratch, t.b[begin:i]...)
	for i < len(t.b) {
		c := t.b[i]
		switch {
		case c == '"':
			t.at = i + 1
			return t.scratch[from:len(t.scratch):len(t.scratch)], nil
		case c < ' ':
			t.at = i
			return nil, t.wrong("the end of a text")
		case c != '\\':
			t.scratch = append(t.scratch, c)
			i++
			continue
		}
		if i+1 < len(t.b) && escapes[t.b[i+1]] != 0 {
			t.scratch = append(t.scratch, escapes[t.b[i+1]])
			i += 2
			continue
		}
		r, ok := hex4(t.b, i)
		if !ok {
			t.at = i
			return nil, t.wrong("an escape such as \\n or \\u00e9")
		}
		i += 6
		if utf16.IsSurrogate(r) {
			low, ok := hex4(t.b, i)
			if r = utf16.DecodeRune(r, low); !ok || r == utf8.RuneError {
				t.at = i
				return nil, t.wrong("the second half of a surrogate pair")
			}
			i += 6
		}
		t.scratch = utf8.AppendRune(t.scratch, r)
	}
	t.at = len(t.b)
	return nil, t.wrong("the end of a text")
}

// hex4 reads \uXXXX.
func hex4(b []byte, i int) (rune, bool) {
	if i+6 > len(b) || b[i] != '\\' || b[i+1] != 'u' {
		return 0, false
	}
	var r rune
	for _, c := range b[i+2 : i+6] {
		d := strings.IndexByte("0123456789abcdef", c|0x20)
		if c >= '0' && c <= '9' {
			d = int(c - '0')
		}
		if d < 0 || c < '0' {
			return 0, false
		}
		r = r<<4 | rune(d)
	}
	return r, true
}

// window is a growing view of a stream of JSON.
type window struct {
	r          io.Reader
	buf        []byte
	start, end int
	eof        bool
	number     int64 // of start
	held       []byte
}

func newWindow(r io.Reader) window {
	return window{r: r, buf: make([]byte, firstBuffer), number: 1}
}

func (w *window) at() int64 { return w.number }

// pass goes on by n bytes of the window.
func (w *window) pass(n int) {
	w.number += int64(bytes.Count(w.buf[w.start:w.start+n], lf))
	w.start += n
}

func (w *window) fill() error {
	if w.start > 0 {
		copy(w.buf, w.buf[w.start:w.end])
		w.end -= w.start
		w.start = 0
	}
	if w.end == len(w.buf) || len(w.buf) < fullBuffer {
		w.buf = wider(w.buf)
	}
	for range 100 {
		n, err := w.r.Read(w.buf[w.end:])
		w.end += n
		if err == io.EOF {
			w.eof = true
			return nil
		}
		if n > 0 || err != nil {
			return err
		}
	}
	return io.ErrNoProgress
}

// hold keeps bytes of the window over the next filling.
func (w *window) hold(b []byte) []byte {
	w.held = append(w.held[:0], b...)
	return w.held
}

// skipSpace goes to the next byte that is not white, and returns it.
func (w *window) skipSpace() (byte, error) {
	for {
		for i, c := range w.buf[w.start:w.end] {
			if c != ' ' && c != '\t' && c != '\r' && c != '\n' {
				w.pass(i)
				return c, nil
			}
		}
		w.pass(w.end - w.start)
		if w.eof {
			return 0, io.EOF
		}
		if err := w.fill(); err != nil {
			return 0, err
		}
	}
}

// extent finds the end of a value: where its brackets close.
type extent struct {
	depth           int
	inText, escaped bool
	ended, in       bool // in: inside of a bare word or number
}

// scan goes over bytes and returns how many belong to the value.
func (e *extent) scan(b []byte) int {
	for i := 0; i < len(b); i++ {
		c := b[i]
		switch {
		case e.escaped:
			e.escaped = false
		case e.inText:
			if c == '\\' {
				e.escaped = true
			} else if c == '"' {
				e.inText = false
				if e.depth == 0 {
					e.ended = true
					return i + 1
				}
			}
		case e.in:
			if c == ',' || c == ']' || c == '}' || c == ' ' || c == '\n' || c == '\r' || c == '\t' || c == ':' {
				e.ended = true
				return i
			}
		case c == '"':
			e.inText = true
		case c == '{' || c == '[':
			e.depth++
		case c == '}' || c == ']':
			if e.depth--; e.depth <= 0 {
				e.ended = true
				return i + 1
			}
		default:
			e.in = e.depth == 0
		}
	}
	return len(b)
}

// value returns the bytes of the value that begins here. They live until the
// window is filled again.
func (w *window) value() ([]byte, error) {
	line := w.number
	var e extent
	n := 0
	for {
		n += e.scan(w.buf[w.start+n : w.end])
		if e.ended || w.eof && e.in {
			raw := w.buf[w.start : w.start+n]
			w.pass(n)
			return raw, nil
		}
		if w.eof {
			return nil, &FileError{Line: line, Reason: "the record that begins here never ends; the file may be cut " +
				"short"}
		}
		if n > MaxRecord {
			return nil, &FileError{Line: line,
				Reason: fmt.Sprintf("a record of more than %d MiB; is it the array of records, and dialect.property "+
					"should name it?", MaxRecord>>20)}
		}
		if err := w.fill(); err != nil {
			return nil, err
		}
	}
}

// skipValue passes over a value of any size in bounded memory.
func (w *window) skipValue() error {
	var e extent
	for {
		w.pass(e.scan(w.buf[w.start:w.end]))
		if e.ended || w.eof && e.in {
			return nil
		}
		if w.eof {
			return cut(io.EOF)
		}
		if err := w.fill(); err != nil {
			return err
		}
	}
}

// line returns the next line that is not blank.
func (w *window) line() (raw []byte, problem string, at int64, err error) {
	for {
		rest := w.buf[w.start:w.end]
		i := bytes.IndexByte(rest, '\n')
		switch {
		case i < 0 && w.eof && len(rest) == 0:
			return nil, "", 0, io.EOF
		case i < 0 && w.eof:
			i = len(rest)
		case i < 0 && len(rest) > MaxRecord:
			return w.longLine()
		case i < 0:
			if err := w.fill(); err != nil {
				return nil, "", 0, err
			}
			continue
		}
		line := bytes.TrimRight(rest[:i], " \t\r")
		at = w.number
		w.start += min(i+1, len(rest))
		w.number++
		if len(bytes.TrimLeft(line, " \t")) > 0 {
			return line, "", at, nil
		}
	}
}

func (w *window) longLine() ([]byte, string, int64, error) {
	raw := slices.Clone(w.buf[w.start : w.start+rawKept])
	at := w.number
	for {
		if i := bytes.IndexByte(w.buf[w.start:w.end], '\n'); i >= 0 {
			w.pass(i + 1)
			break
		}
		w.start, w.end = 0, 0
		if w.eof {
			break
		}
		if err := w.fill(); err != nil {
			return nil, "", 0, err
		}
	}
	return raw, fmt.Sprintf("longer than %d MiB", MaxRecord>>20), at, nil
}
