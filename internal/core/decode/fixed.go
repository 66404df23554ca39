package decode

import (
	"bytes"
	"fmt"
	"io"
	"strconv"
	"strings"
	"unicode/utf8"
)

// Width is where a column stands in the lines of a fixed-width file: from its
// first to its last character, from 1.
type Width struct{ From, To int }

// maxWidth bounds the length of a fixed-width line, in characters.
const maxWidth = 1 << 20

// ParseWidth reads the characters of a column, such as 1-8, or 5 for one.
func ParseWidth(text string) (Width, error) {
	first, last, two := strings.Cut(text, "-")
	if !two {
		last = first
	}
	from, err1 := strconv.Atoi(strings.TrimSpace(first))
	to, err2 := strconv.Atoi(strings.TrimSpace(last))
	if err1 != nil || err2 != nil || from < 1 || to < from || to > maxWidth {
		return Width{}, fmt.Errorf("%q: the source of a fixed-width column is its first and last character, such as "+
			"1-8", text)
	}
	return Width{from, to}, nil
}

// fixed reads lines whose cells stand at fixed places. Spaces around them are
// no part of them. A line that ends before a cell has no value there, since
// many programs trim the spaces at the end of a line.
type fixed struct {
	lines  *Delimited
	widths []Width
	cells  [][]byte
	starts []int // of the characters of a line that is not ASCII
}

func newFixed(r io.Reader, how How) *fixed {
	d := how.Dialect
	d.QuoteChar, d.EscapeChar, d.SkipInitialSpace = 0, 0, false
	lines := NewCSV(r, d)
	lines.charset, lines.whole = notUTF8(how.Charset), true
	return &fixed{lines: lines, widths: how.Widths}
}

// Header passes over the header; columns are taken by their place.
func (f *fixed) Header() ([]string, error) {
	_, err := f.lines.Header()
	return nil, err
}

func (f *fixed) Next() (*Record, error) {
	rec, err := f.lines.Next()
	if err != nil {
		return nil, err
	}
	line := rec.Raw
	f.cells = f.cells[:0]
	ascii := f.index(line)
	for _, w := range f.widths {
		from, to := w.From-1, w.To
		if !ascii {
			from, to = f.at(from), f.at(to)
		}
		cell := line[min(from, len(line)):min(to, len(line))]
		f.cells = append(f.cells, bytes.Trim(cell, " "))
	}
	rec.Cells = f.cells
	return rec, nil
}

// index finds where the characters of a line begin, and reports whether each is
// one byte.
func (f *fixed) index(line []byte) bool {
	if utf8.RuneCount(line) == len(line) {
		return true
	}
	f.starts = f.starts[:0]
	for i := range string(line) {
		f.starts = append(f.starts, i)
	}
	f.starts = append(f.starts, len(line))
	return false
}

func (f *fixed) at(n int) int { return f.starts[min(n, len(f.starts)-1)] }

func notUTF8(charset string) string {
	if e, err := Charset(charset); err == nil && e != nil {
		return charset
	}
	return ""
}
