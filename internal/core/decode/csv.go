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
	scan    scan
	row     int    // of the record at hand, counting empty ones and comments
	newline []byte // what ends lines; nil for LF and CRLF
	looked  bool   // for what ends lines
	simple  bool   // lines without quotes are cut at a single byte
	whole   bool   // a line is one cell
	charset string // that the text was in, if it was not UTF-8
}

// A reader begins with a small buffer, since many files are small, and has the
// large one after a few reads.
const (
	firstBuffer = 16 << 10
	fullBuffer  = 256 << 10
)

// wider returns a buffer with more room: few are let go of on the way to the large one.
func wider(buf []byte) []byte {
	more := len(buf)
	if more < fullBuffer {
		more *= 3
	}
	return append(buf, make([]byte, more)...)
}

// NewCSV reads from r, which must hold UTF-8 without a byte order mark.
func NewCSV(r io.Reader, dialect tabular.Dialect) *Delimited {
	c := &Delimited{r: r, dialect: dialect, buf: make([]byte, firstBuffer), line: 1, simple: dialect.Plain()}
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
			return nil, &FileError{Line: rec.Line,
				Reason: fmt.Sprintf("dialect.headerRows names row %d, which holds nothing", slices.Max(rows))}
		}
		if rec.Problem != "" {
			return nil, &FileError{Line: rec.Line, Reason: "the header cannot be read: " + rec.Problem}
		}
		for i, cell := range rec.Cells {
			if !utf8.Valid(cell) {
				return nil, &FileError{Line: rec.Line,
					Reason: fmt.Sprintf("the header's column %d is not valid UTF-8; is the feed's encoding right?",
						i+1)}
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
		n, whole := c.record(window)
		if !whole {
			if c.eof {
				return nil, &FileError{Line: c.line, Reason: "the quote opened here is never closed; the file may be " +
					"cut short"}
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
		if err := c.pass(n); err != nil {
			return nil, err
		}
		c.row++
		if c.charset != "" && c.rec.Problem == "" && bytes.Contains(c.rec.Raw, replacement) {
			c.rec.Problem = "holds bytes that are no characters of " + c.charset
		}
		if c.dialect.CommentRows != nil && slices.Contains(c.dialect.CommentRows, c.row) {
			continue
		}
		if len(c.rec.Raw) == 0 || c.isComment(c.rec.Raw) {
			continue
		}
		return &c.rec, nil
	}
}

func (c *Delimited) isComment(line []byte) bool {
	return c.dialect.CommentChar != 0 && len(line) > 0 && line[0] == c.dialect.CommentChar
}

// pass goes over bytes and counts their lines.
func (c *Delimited) pass(n int) error {
	c.line += int64(bytes.Count(c.buf[c.start:c.start+n], c.lineEnd()))
	c.start += n
	if c.line > MaxLine {
		return &FileError{Line: c.line, Reason: "more lines than can be counted"}
	}
	return nil
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
// with the line end. When the window does not hold all of it, it is false, and is
// called again with a longer window.
func (c *Delimited) record(window []byte) (n int, whole bool) {
	if !c.looked {
		c.look(window)
	}
	if c.scan.n == 0 {
		end := c.endOfLine(window)
		n = end + len(c.lineEnd())
		if end < 0 {
			if end, n = len(window), len(window); !c.eof {
				return 0, false
			}
		}
		line := window[:end]
		if c.newline == nil {
			line = trimCR(line)
		}
		if c.isComment(line) || c.simple && (c.dialect.QuoteChar == 0 ||
			bytes.IndexByte(line, c.dialect.QuoteChar) < 0) {
			c.split(line)
			return n, true
		}
	}
	end, whole := c.scanOn(window)
	if !whole {
		return 0, false
	}
	n = c.scan.n
	c.rec.Raw, c.rec.Problem = window[:end], c.scan.problem
	c.rec.Cells = c.scan.cells(c.rec.Cells[:0])
	c.scan.reset()
	return n, true
}

// look finds out what ends lines, once there is enough to tell.
func (c *Delimited) look(window []byte) {
	if !c.eof && len(window) < firstBuffer-1 && bytes.IndexByte(window, '\n') < 0 {
		return
	}
	c.looked = true
	if c.dialect.LineTerminator == "" && bytes.IndexByte(window, '\n') < 0 && bytes.IndexByte(window, '\r') >= 0 {
		c.newline, c.simple = []byte{'\r'}, false
	}
	c.scan.stops = stopsOf(&c.dialect, c.newline)
}

// endOfLine returns where the first line ends in a text, -1 where it does not.
func (c *Delimited) endOfLine(text []byte) int {
	if c.newline == nil {
		return bytes.IndexByte(text, '\n')
	}
	return bytes.Index(text, c.newline)
}

func trimCR(line []byte) []byte {
	if len(line) > 0 && line[len(line)-1] == '\r' {
		return line[:len(line)-1]
	}
	return line
}

// split cuts a line in which nothing is quoted.
func (c *Delimited) split(line []byte) {
	c.rec.Raw, c.rec.Problem = line, ""
	cells, delimiter := c.rec.Cells[:0], c.dialect.Delimiter[0]
	for {
		i := bytes.IndexByte(line, delimiter)
		if i < 0 || c.whole {
			break
		}
		cells = append(cells, line[:i])
		line = line[i+1:]
	}
	c.rec.Cells = append(cells, line)
}

// state is where a scan through a record stands.
type state uint8

const (
	cellStart state = iota
	unquoted
	inQuotes
	afterQuote // behind the quote that ends a cell
)

// scan is where the parsing of a record stands that is quoted, or of a dialect with a
// delimiter or a line end of several bytes, with escapes, or with spaces before its
// cells. It goes on where it was when more of the record has been read.
type scan struct {
	state   state
	n       int    // bytes of the record that were gone through
	text    []byte // of its cells, without quotes and escapes
	ends    []int  // of its cells, in text; but for the last
	problem string
	drop    bool      // the text is not kept
	stops   [256]bool // bytes that may be more than text, outside of quotes
}

func stopsOf(d *tabular.Dialect, newline []byte) (stops [256]bool) {
	for _, b := range [...]byte{d.Delimiter[0], d.QuoteChar, d.EscapeChar} {
		stops[b] = true
	}
	if newline != nil {
		stops[newline[0]] = true
	} else {
		stops['\n'], stops['\r'] = true, true
	}
	return stops
}

func (s *scan) reset() {
	s.state, s.n, s.problem, s.drop = cellStart, 0, "", false
	s.text, s.ends = s.text[:0], s.ends[:0]
}

// cells appends the cells of a record that was gone through.
func (s *scan) cells(to [][]byte) [][]byte {
	from := 0
	for _, end := range append(s.ends, len(s.text)) {
		to = append(to, s.text[from:end:end])
		from = end
	}
	return to
}

// keep takes so many bytes as text of the cell at hand.
func (s *scan) keep(text []byte) {
	if !s.drop {
		s.text = append(s.text, text...)
	}
	s.n += len(text)
}

// scanOn goes on through a record, which begins the window, up to its end. It returns
// where the record ends without its line end, or false when more is needed.
func (c *Delimited) scanOn(window []byte) (end int, whole bool) {
	s := &c.scan
	for {
		rest := window[s.n:]
		if s.state == inQuotes {
			if !c.scanQuoted(rest) {
				return 0, false
			}
			continue
		}
		if s.state == unquoted {
			i := 0
			for i < len(rest) && !s.stops[rest[i]] {
				i++
			}
			s.keep(rest[:i])
			rest = rest[i:]
		}
		if len(rest) < maxSequence && !c.eof {
			return 0, false
		}
		end = s.n
		if len(rest) == 0 {
			return end, true
		}
		if n := c.newlineAt(rest); n > 0 {
			s.n += n
			return end, true
		}
		c.scanOne(rest)
	}
}

// scanQuoted goes on within quotes, up to what ends them or stands for something
// else. It is false when more is needed.
func (c *Delimited) scanQuoted(rest []byte) bool {
	s, d := &c.scan, &c.dialect
	i := bytes.IndexByte(rest, d.QuoteChar)
	if d.EscapeChar != 0 {
		i = bytes.IndexAny(rest, string([]byte{d.QuoteChar, d.EscapeChar}))
	}
	if i < 0 {
		s.keep(rest)
		return false
	}
	s.keep(rest[:i])
	rest = rest[i:]
	if len(rest) < 2 && !c.eof {
		return false
	}
	switch {
	case d.EscapeChar != 0 && rest[0] == d.EscapeChar && len(rest) > 1,
		rest[0] == d.QuoteChar && d.DoubleQuote && len(rest) > 1 && rest[1] == d.QuoteChar:
		s.n++
		s.keep(rest[1:2])
	case rest[0] == d.QuoteChar:
		s.state = afterQuote
		s.n++
	default:
		s.keep(rest[:1])
	}
	return true
}

// scanOne goes over what stands at the beginning of rest, outside of quotes.
func (c *Delimited) scanOne(rest []byte) {
	s, d := &c.scan, &c.dialect
	isQuote := d.QuoteChar != 0 && rest[0] == d.QuoteChar
	switch {
	case bytes.HasPrefix(rest, []byte(d.Delimiter)):
		s.ends = append(s.ends, len(s.text))
		s.state = cellStart
		s.n += len(d.Delimiter)
	case s.state != unquoted && d.SkipInitialSpace && rest[0] == ' ':
		s.n++
	case s.state == cellStart && isQuote:
		s.state = inQuotes
		s.n++
	case s.state == afterQuote && rest[0] == '\r' && c.newline == nil:
		s.n++
	case d.EscapeChar != 0 && rest[0] == d.EscapeChar && len(rest) > 1:
		s.state = unquoted
		s.n++
		s.keep(rest[1:2])
	default:
		switch {
		case isQuote:
			s.problem = "a quote inside a cell that does not begin with one"
		case s.state == afterQuote:
			s.problem = "text after a closing quote"
		}
		s.state = unquoted
		s.keep(rest[:1])
	}
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
	case rest[0] == '\r' && len(rest) == 1: // the file ends here
		return 1
	case rest[0] == '\r' && rest[1] == '\n':
		return 2
	}
	return 0
}

// fill makes room and reads until there is none left: a line end that is not in what
// was read is looked for again from the beginning, which must not happen for each few
// bytes that a reader gives.
func (c *Delimited) fill() error {
	if c.start > 0 {
		copy(c.buf, c.buf[c.start:c.end])
		c.end -= c.start
		c.start = 0
	}
	if c.end == len(c.buf) || len(c.buf) < fullBuffer {
		c.buf = wider(c.buf)
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
	raw := bytes.Clone(c.buf[c.start:min(c.start+rawKept, c.end)])
	for s := &c.scan; ; {
		s.drop, s.text = true, s.text[:0]
		_, whole := c.scanOn(c.buf[c.start:c.end])
		if err := c.pass(s.n); err != nil {
			return nil, err
		}
		s.n, s.ends = 0, s.ends[:0]
		if whole {
			break
		}
		if c.eof {
			return nil, &FileError{Line: first, Reason: "the quote opened here is never closed; the file may be cut " +
				"short"}
		}
		if err := c.fill(); err != nil {
			return nil, err
		}
	}
	c.scan.reset()
	c.row++
	c.rec = Record{Line: first, Cells: c.rec.Cells[:0], Raw: raw,
		Problem: fmt.Sprintf("longer than %d MiB", MaxRecord>>20)}
	return &c.rec, nil
}

// Row is the number of the row that Next gave last, counting empty ones and
// comments, from 1.
func (c *Delimited) Row() int { return c.row }
