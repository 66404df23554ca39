package decode

import (
	"bytes"
	"fmt"
	"io"

	"mullein/internal/core/tabular"
)

// Record is one row of delimited text. Its slices are overwritten by the next
// call of [CSV.Next].
type Record struct {
	Line    int64    // of its first byte, from 1
	Cells   [][]byte // unquoted
	Raw     []byte   // as it stands in the file, without the line end
	Problem string   // why its cells cannot be trusted; "" when they can
}

// MaxRecord is the length in bytes from which a record is not kept. It is then
// passed over up to its end and handed out with a Problem and its beginning.
const MaxRecord = 4 << 20

const rawKept = 4 << 10

// CSV reads delimited text by RFC 4180 and a Table Dialect:
//
//   - a record ends at LF or CRLF outside of quotes; the last needs no line end;
//   - a cell that begins with the quote character ends at the next single one;
//     doubled, it stands for itself;
//   - empty lines and lines that begin with commentChar are no records;
//   - a quote that is open at the end of the file makes the file unreadable.
type CSV struct {
	r       io.Reader
	dialect tabular.Dialect
	buf     []byte
	start   int // of the record at hand
	end     int // of what was read
	eof     bool
	line    int64 // of start
	rec     Record
	unquote []byte
}

// A reader begins with a small buffer, since many files are small, and has the
// large one after a few reads.
const (
	firstBuffer = 16 << 10
	fullBuffer  = 256 << 10
)

// NewCSV reads from r, which must hold UTF-8 without a byte order mark.
func NewCSV(r io.Reader, dialect tabular.Dialect) *CSV {
	return &CSV{r: r, dialect: dialect, buf: make([]byte, firstBuffer), line: 1}
}

// Next gives the next record, or io.EOF after the last. Other errors are
// [*FileError], or what the reader returned.
func (c *CSV) Next() (*Record, error) {
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
		c.line += int64(bytes.Count(window[:n], lf))
		c.start += n
		if len(c.rec.Raw) == 0 || (c.dialect.CommentChar != 0 && c.rec.Raw[0] == c.dialect.CommentChar) {
			continue
		}
		return &c.rec, nil
	}
}

var lf = []byte{'\n'}

// record parses one record at the beginning of window and returns its length
// with the line end; 0 means that the window does not hold all of it.
func (c *CSV) record(window []byte) (int, error) {
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

func (c *CSV) split(line []byte) {
	c.rec.Raw, c.rec.Problem = line, ""
	cells := c.rec.Cells[:0]
	for {
		i := bytes.IndexByte(line, c.dialect.Delimiter)
		if i < 0 {
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
func (c *CSV) step(s state, b byte) state {
	switch {
	case s == inQuotes:
		if b == c.dialect.QuoteChar {
			return afterQuote
		}
		return inQuotes
	case b == '\n':
		return recordEnd
	case b == c.dialect.Delimiter:
		return cellStart
	case b == c.dialect.QuoteChar && (s == cellStart || s == afterQuote):
		return inQuotes
	case s == afterQuote && b == '\r':
		return afterQuote
	}
	return unquoted
}

// quoted parses a record that has quotes in it.
func (c *CSV) quoted(window []byte) int {
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

// fill makes room and reads more.
func (c *CSV) fill() error {
	if c.start > 0 {
		copy(c.buf, c.buf[c.start:c.end])
		c.end -= c.start
		c.start = 0
	}
	if c.end == len(c.buf) || len(c.buf) < fullBuffer {
		c.buf = append(c.buf, make([]byte, len(c.buf))...)
	}
	return c.read()
}

func (c *CSV) read() error {
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
func (c *CSV) skip() (*Record, error) {
	first := c.line
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
