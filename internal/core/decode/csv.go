package decode

import (
	"bytes"
	"fmt"
	"io"
	"slices"
	"unicode/utf8"

	"mullein/internal/core/tabular"
)

// Delimited reads delimited text by RFC 4180 and a Table Dialect:
//
//   - a record ends at LF or CRLF outside of quotes; the last needs no line end;
//   - a cell that begins with the quote character ends at the next single one;
//     doubled, it stands for itself;
//   - empty lines and lines that begin with commentChar are no records;
//   - a file without a single LF has CR as its line end;
//   - a quote that is open at the end of the file makes the file unreadable.
type Delimited struct {
	r       io.Reader
	dialect tabular.Dialect
	buf     []byte
	start   int // of the record at hand
	end     int // of what was read
	eof     bool
	line    int64 // of start
	rec     Record
	unquote []byte
	row     int    // of the record at hand, counting empty ones and comments
	odd     bool   // the dialect needs more than single bytes
	delim   byte   // otherwise
	newline []byte // of an odd dialect; nil for LF and CRLF
	charset string // that the text was in, if it was not UTF-8
	looked  bool   // for what ends its lines
	whole   bool   // a line is one cell
}

// A reader begins with a small buffer, since many files are small, and has the
// large one after a few reads.
const (
	firstBuffer = 16 << 10
	fullBuffer  = 256 << 10
)

// NewCSV reads from r, which must hold UTF-8 without a byte order mark.
func NewCSV(r io.Reader, dialect tabular.Dialect) *Delimited {
	c := &Delimited{r: r, dialect: dialect, buf: make([]byte, firstBuffer), line: 1, odd: !dialect.Plain(), delim: dialect.Delimiter[0]}
	if t := dialect.LineTerminator; t != "" && t != "\n" && t != "\r\n" {
		c.newline = []byte(t)
	}
	return c
}

// Header returns the names of the columns; nil where the dialect has none.
func (c *Delimited) Header() ([]string, error) {
	if !c.dialect.Header {
		return nil, nil
	}
	rows := c.dialect.HeaderRows
	var names []string
	for {
		rec, err := c.Next()
		if err == io.EOF && names == nil {
			return nil, &FileError{Reason: "the file has no header and no rows"}
		}
		if err == io.EOF {
			return names, nil
		}
		if err != nil {
			return nil, err
		}
		if rows != nil && !slices.Contains(rows, c.row) {
			if c.row < slices.Max(rows) {
				continue // a title above the header
			}
			return nil, &FileError{Line: rec.Line, Reason: fmt.Sprintf("dialect.headerRows names row %d, which holds nothing", slices.Max(rows))}
		}
		if rec.Problem != "" {
			return nil, &FileError{Line: rec.Line, Reason: "the header cannot be read: " + rec.Problem}
		}
		for i, cell := range rec.Cells {
			if !utf8.Valid(cell) {
				return nil, &FileError{Line: rec.Line, Reason: fmt.Sprintf("the header's column %d is not valid UTF-8; is the feed's encoding right?", i+1)}
			}
			if i >= len(names) {
				names = append(names, "")
			}
			if names[i] != "" && len(cell) > 0 {
				names[i] += c.dialect.HeaderJoin
			}
			names[i] += string(cell)
		}
		if rows == nil || c.row >= slices.Max(rows) {
			return names, nil
		}
	}
}

// Next returns the next record, or io.EOF after the last. Other errors are
// [*FileError], or what the reader returned.
func (c *Delimited) Next() (*Record, error) {
	for {
		window := c.buf[c.start:c.end]
		if len(window) == 0 && c.eof {
			return nil, io.EOF
		}
		n, err := c.record(window)
		if err != nil {
			return nil, err
		}
		if n == 0 { // more bytes are needed
			if c.eof {
				return nil, &FileError{Line: c.line, Reason: "the quote opened here is never closed; the file may be cut short"}
			}
			if len(window) >= MaxRecord {
				return c.skip()
			}
			if err := c.fill(); err != nil {
				return nil, err
			}
			continue
		}
		c.rec.Line = c.line
		c.line += int64(bytes.Count(window[:n], c.lineEnd()))
		if c.line > MaxLine {
			return nil, &FileError{Line: c.line, Reason: "more lines than can be counted"}
		}
		c.start += n
		c.row++
		if c.charset != "" && c.rec.Problem == "" && bytes.Contains(c.rec.Raw, replacement) {
			c.rec.Problem = "holds bytes that are no characters of " + c.charset
		}
		if c.dialect.CommentRows != nil && slices.Contains(c.dialect.CommentRows, c.row) {
			continue
		}
		if len(c.rec.Raw) == 0 || (c.dialect.CommentChar != 0 && c.rec.Raw[0] == c.dialect.CommentChar) {
			continue
		}
		return &c.rec, nil
	}
}

var (
	lf          = []byte{'\n'}
	replacement = []byte("\uFFFD") // what stands for bytes that a charset does not have
)

func (c *Delimited) lineEnd() []byte {
	if c.newline != nil {
		return c.newline
	}
	return lf
}

// record parses one record at the beginning of window and returns its length
// with the line end; 0 means that the window does not hold all of it.
func (c *Delimited) record(window []byte) (int, error) {
	if !c.looked && (c.eof || len(window) >= firstBuffer-1 || bytes.IndexByte(window, '\n') >= 0) {
		c.looked = true
		if c.dialect.LineTerminator == "" && bytes.IndexByte(window, '\n') < 0 && bytes.IndexByte(window, '\r') >= 0 {
			c.newline, c.odd = []byte{'\r'}, true
		}
	}
	if c.odd {
		return c.oddRecord(window), nil
	}
	lineEnd := bytes.IndexByte(window, '\n')
	n := lineEnd + 1
	if lineEnd < 0 {
		if !c.eof {
			return 0, nil
		}
		lineEnd, n = len(window), len(window)
	}
	line := window[:lineEnd]
	comment := c.dialect.CommentChar != 0 && len(line) > 0 && line[0] == c.dialect.CommentChar
	if comment || c.dialect.QuoteChar == 0 || bytes.IndexByte(line, c.dialect.QuoteChar) < 0 {
		c.split(trimCR(line))
		return n, nil
	}
	return c.quoted(window), nil
}

func trimCR(line []byte) []byte {
	if len(line) > 0 && line[len(line)-1] == '\r' {
		return line[:len(line)-1]
	}
	return line
}

func (c *Delimited) split(line []byte) {
	c.rec.Raw, c.rec.Problem = line, ""
	cells := c.rec.Cells[:0]
	for {
		i := bytes.IndexByte(line, c.delim)
		if i < 0 || c.whole {
			break
		}
		cells = append(cells, line[:i])
		line = line[i+1:]
	}
	c.rec.Cells = append(cells, line)
}

// state is where a scan through delimited text stands.
type state uint8

const (
	cellStart state = iota
	unquoted
	inQuotes
	afterQuote // a quote inside quotes was seen: the end of the cell, or half of a doubled one
	recordEnd
)

// step moves a scan over one byte. A quote inside an unquoted cell, and text
// after a closing quote, stay in unquoted; the caller looks out for them.
func (c *Delimited) step(s state, b byte) state {
	switch {
	case s == inQuotes:
		if b == c.dialect.QuoteChar {
			return afterQuote
		}
		return inQuotes
	case b == '\n':
		return recordEnd
	case b == c.delim:
		return cellStart
	case b == c.dialect.QuoteChar && (s == cellStart || s == afterQuote):
		return inQuotes
	case s == afterQuote && b == '\r':
		return afterQuote
	}
	return unquoted
}

// quoted parses a record that has quotes in it.
func (c *Delimited) quoted(window []byte) int {
	c.unquote = c.unquote[:0]
	c.rec.Problem = ""
	cells := c.rec.Cells[:0]
	s := cellStart
	from := 0 // of the cell in c.unquote
	n := 0
	cell := func() {
		cells = append(cells, c.unquote[from:len(c.unquote):len(c.unquote)])
		from = len(c.unquote)
	}
	for ; n < len(window) && s != recordEnd; n++ {
		b := window[n]
		next := c.step(s, b)
		switch {
		case next == inQuotes && s == cellStart: // opening quote
		case next == afterQuote: // perhaps the closing quote
		case next == recordEnd || (next == cellStart && s != inQuotes):
			if next == recordEnd {
				break
			}
			cell()
		default:
			if s == afterQuote && next == unquoted {
				c.rec.Problem = "text after a closing quote"
			}
			if s == unquoted && b == c.dialect.QuoteChar {
				c.rec.Problem = "a quote inside a cell that does not begin with one"
			}
			c.unquote = append(c.unquote, b)
		}
		s = next
	}
	if s != recordEnd && (!c.eof || s == inQuotes) {
		return 0
	}
	raw := trimCR(bytes.TrimSuffix(window[:n], lf))
	if k := len(c.unquote); k > from && c.unquote[k-1] == '\r' {
		c.unquote = c.unquote[:k-1] // of a CRLF after an unquoted cell
	}
	cell()
	c.rec.Cells, c.rec.Raw = cells, raw
	return n
}

// oddRecord parses one record of a dialect with a delimiter or a line end of
// several bytes, with escapes, without doubled quotes, or with spaces before
// its cells.
func (c *Delimited) oddRecord(window []byte) int {
	d := &c.dialect
	c.unquote, c.rec.Problem = c.unquote[:0], ""
	cells := c.rec.Cells[:0]
	from, n := 0, 0
	cell := func() {
		cells = append(cells, c.unquote[from:len(c.unquote):len(c.unquote)])
		from = len(c.unquote)
	}
	comment := d.CommentChar != 0 && len(window) > 0 && window[0] == d.CommentChar
	s := cellStart
	end := -1 // of the record without its line end
	for end < 0 {
		rest := window[n:]
		if len(rest) < maxSequence && !c.eof {
			return 0
		}
		if len(rest) == 0 {
			if s == inQuotes {
				return 0
			}
			end = n
			break
		}
		length := c.newlineAt(rest)
		switch {
		case s == inQuotes && d.EscapeChar != 0 && rest[0] == d.EscapeChar && len(rest) > 1:
			c.unquote = append(c.unquote, rest[1])
			n += 2
		case s == inQuotes && rest[0] == d.QuoteChar && d.DoubleQuote && len(rest) > 1 && rest[1] == d.QuoteChar:
			c.unquote = append(c.unquote, d.QuoteChar)
			n += 2
		case s == inQuotes && rest[0] == d.QuoteChar:
			s = afterQuote
			n++
		case s == inQuotes:
			c.unquote = append(c.unquote, rest[0])
			n++
		case length > 0:
			end = n
			n += length
		case comment:
			n++
		case bytes.HasPrefix(rest, []byte(d.Delimiter)):
			cell()
			s = cellStart
			n += len(d.Delimiter)
		case s == cellStart && d.SkipInitialSpace && rest[0] == ' ':
			n++
		case s == cellStart && d.QuoteChar != 0 && rest[0] == d.QuoteChar:
			s = inQuotes
			n++
		case d.EscapeChar != 0 && rest[0] == d.EscapeChar && len(rest) > 1:
			c.unquote = append(c.unquote, rest[1])
			s = unquoted
			n += 2
		case s == afterQuote && rest[0] == ' ' && d.SkipInitialSpace:
			n++
		default:
			if s == afterQuote {
				c.rec.Problem = "text after a closing quote"
			}
			if d.QuoteChar != 0 && rest[0] == d.QuoteChar {
				c.rec.Problem = "a quote inside a cell that does not begin with one"
			}
			c.unquote = append(c.unquote, rest[0])
			s = unquoted
			n++
		}
	}
	cell()
	c.rec.Cells, c.rec.Raw = cells, window[:end]
	return n
}

// maxSequence is more than the length of any delimiter or line end.
const maxSequence = 10

// newlineAt returns the length of the line end that stands at the beginning.
func (c *Delimited) newlineAt(rest []byte) int {
	switch {
	case c.newline != nil && bytes.HasPrefix(rest, c.newline):
		return len(c.newline)
	case c.newline != nil:
		return 0
	case rest[0] == '\n':
		return 1
	case rest[0] == '\r' && len(rest) > 1 && rest[1] == '\n':
		return 2
	}
	return 0
}

// fill makes room and reads until there is none left: a record that does not end in
// what was read is looked at again from its beginning, which must not happen for
// each few bytes that a reader gives.
func (c *Delimited) fill() error {
	if c.start > 0 {
		copy(c.buf, c.buf[c.start:c.end])
		c.end -= c.start
		c.start = 0
	}
	if c.end == len(c.buf) || len(c.buf) < fullBuffer {
		c.buf = append(c.buf, make([]byte, len(c.buf))...)
	}
	for c.end < len(c.buf) && !c.eof {
		if err := c.read(); err != nil {
			return err
		}
	}
	return nil
}

func (c *Delimited) read() error {
	for tries := 0; tries < 100; tries++ {
		n, err := c.r.Read(c.buf[c.end:])
		c.end += n
		if err == io.EOF {
			c.eof = true
			return nil
		}
		if n > 0 || err != nil {
			return err
		}
	}
	return io.ErrNoProgress
}

// skip passes over a record that is longer than MaxRecord, in bounded memory.
func (c *Delimited) skip() (*Record, error) {
	first := c.line
	if c.odd {
		return nil, &FileError{Line: first, Reason: fmt.Sprintf("a record longer than %d MiB", MaxRecord>>20)}
	}
	raw := bytes.Clone(c.buf[c.start:min(c.start+rawKept, c.end)])
	s := cellStart
	for s != recordEnd {
		for s != recordEnd && c.start < c.end {
			b := c.buf[c.start]
			if b == '\n' {
				c.line++
			}
			s = c.step(s, b)
			c.start++
		}
		if s == recordEnd {
			break
		}
		c.start, c.end = 0, 0
		if c.eof {
			break
		}
		if err := c.read(); err != nil {
			return nil, err
		}
	}
	if s == inQuotes {
		return nil, &FileError{Line: first, Reason: "the quote opened here is never closed; the file may be cut short"}
	}
	c.rec = Record{Line: first, Cells: c.rec.Cells[:0], Raw: raw, Problem: fmt.Sprintf("longer than %d MiB", MaxRecord>>20)}
	return &c.rec, nil
}

// Row is the number of the row that Next gave last, counting empty ones and
// comments, from 1.
func (c *Delimited) Row() int { return c.row }
