package draft

import (
	"bytes"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"github.com/zeebo/xxh3"

	"mullein/internal/core/decode"
	"mullein/internal/core/filename"
	"mullein/internal/core/tabular"
)

// table is what the columns of a kind hold, in the files of it that were read.
type table struct {
	columns []*column
	rows    int
	files   []readFile
	partly  bool // rows were left unread
	headers int  // rows that say the header again
	hollow  int  // rows with nothing but delimiters
	each    bool // a file is a record, and its rows are elements of a list in it
}

// readFile is a file that was read.
type readFile struct {
	path     string
	captures filename.Captures
	from, to int      // its rows
	footer   []string // lines at its end that are no rows, in order
	first    []string // some of its rows as they stand
	sums     []float64
	short    bool // it was not read to its end
}

const (
	filesRead = 24      // of a kind
	rowsRead  = 300_000 // of a kind
	cellsRead = 8 << 20 // of a kind

	mostLeftOut = 40 // columns of which rows without values are left out
)

// read adds the rows of a sample, at most so many.
func (t *table) read(s Sample, sh *shape, most int) error {
	source, done, err := s.Open()
	if err != nil {
		return err
	}
	defer done()
	rows, err := decode.Open(source, sh.how())
	if err != nil {
		return err
	}
	header, err := rows.Header()
	if err != nil {
		return err
	}
	selector, tree := rows.(decode.Selector)
	if tree {
		header = sh.header
		if err := selector.Select(header); err != nil {
			return err
		}
	} else if header == nil {
		header = sh.header
	}
	for i := len(t.columns); i < len(header); i++ {
		t.columns = append(t.columns, newColumn(header[i], t.rows))
	}
	at, err := t.places(header)
	if err != nil {
		return err
	}
	for _, c := range t.columns {
		c.most = min(textsKept, max(textsKept/10, textsKeptAll/len(t.columns)))
	}
	file := readFile{path: s.Path, from: t.rows, sums: make([]float64, len(t.columns))}
	err = t.readRows(rows, &file, header, at, most, sh)
	file.to = t.rows
	t.files = append(t.files, file)
	return err
}

// places returns where the columns stand in a file with this header; -1 where it has one
// not.
func (t *table) places(header []string) ([]int, error) {
	index := map[string]int{}
	for i, name := range header {
		if _, twice := index[name]; twice {
			return nil, &decode.FileError{Reason: fmt.Sprintf("the header names column %q twice", name)}
		}
		index[name] = i
	}
	for _, name := range header {
		if !slices.ContainsFunc(t.columns, func(c *column) bool { return c.source == name }) {
			t.columns = append(t.columns, newColumn(name, t.rows))
		}
	}
	out := make([]int, len(t.columns))
	for i, c := range t.columns {
		at, ok := index[c.source]
		if out[i] = at; !ok {
			out[i] = -1
		}
	}
	return out, nil
}

// heldRow is one of the last rows of a file, which may be none.
type heldRow struct {
	cells [][]byte
	raw   string
}

func (t *table) readRows(rows decode.Rows, file *readFile, header []string, at []int, most int, sh *shape) error {
	const held = 4
	var last []heldRow
	for n := 0; ; n++ {
		if n == most {
			file.short, t.partly = true, true
			break
		}
		rec, err := rows.Next()
		if err == io.EOF {
			last = file.cutFooter(t, last, at, sh)
			break
		}
		if err != nil {
			return err
		}
		if rec.Problem != "" {
			continue
		}
		if rec.Values != nil {
			t.addValues(rec.Values, at)
			continue
		}
		if t.passOver(rec.Cells, header, sh) {
			continue
		}
		if len(last) == held {
			t.addCells(last[0], at, file)
			last = append(last[:0], last[1:]...)
		}
		k := heldRow{raw: string(rec.Raw)}
		for _, c := range rec.Cells {
			k.cells = append(k.cells, bytes.Clone(c))
		}
		last = append(last, k)
	}
	for _, k := range last {
		t.addCells(k, at, file)
	}
	return nil
}

// passOver counts the rows that are to be left out, and reports whether these cells are one.
func (t *table) passOver(cells [][]byte, header []string, sh *shape) bool {
	if len(cells) < 2 || len(cells) != len(header) || len(cells) > mostLeftOut || sh.widths != nil {
		return false
	}
	again, hollow := sh.dialect.Header, true
	for i, c := range cells {
		again = again && string(c) == header[i]
		hollow = hollow && len(c) == 0
	}
	if again {
		t.headers++
	}
	if hollow {
		t.hollow++
	}
	return again || hollow
}

// addCells adds a row of texts.
func (t *table) addCells(row heldRow, at []int, file *readFile) {
	if len(file.first) < 20 {
		file.first = append(file.first, row.raw)
	}
	for i, c := range t.columns {
		if at[i] < 0 || at[i] >= len(row.cells) {
			c.blank("", at[i] < 0)
			continue
		}
		text := row.cells[at[i]]
		c.text(string(text))
		if i < len(file.sums) && len(text) > 0 && text[0] <= '9' {
			if x, ok := number(string(text)); ok {
				file.sums[i] += x
			}
		}
	}
	t.rows++
}

// number reads a number with either decimal mark.
func number(text string) (float64, bool) {
	if strings.Count(text, ",") == 1 && !strings.Contains(text, ".") {
		text = strings.Replace(text, ",", ".", 1)
	}
	x, err := strconv.ParseFloat(strings.ReplaceAll(text, ",", ""), 64)
	return x, err == nil
}

// addValues adds a row of values.
func (t *table) addValues(values []tabular.Value, at []int) {
	for i, c := range t.columns {
		if at[i] < 0 {
			c.blank("", true)
			continue
		}
		c.value(&values[at[i]])
	}
	t.rows++
}

// hashOf is what a value is told apart by; 0 for none.
func hashOf(s string) uint64 { return xxh3.HashString(s) | 1 }
