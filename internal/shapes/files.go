package shapes

import (
	"bufio"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"github.com/parquet-go/parquet-go"
)

// rowWriter writes rows, given as the texts of their cells, in a format.
type rowWriter interface {
	row(cells [][]byte) error
	end() error
}

func newRowWriter(format string, w *bufio.Writer, columns []column) (rowWriter, error) {
	switch format {
	case "csv":
		for i, c := range columns {
			if i > 0 {
				w.WriteByte(',')
			}
			w.WriteString(c.name)
		}
		return &lines{w: w, between: ','}, w.WriteByte('\n')
	case "jsonl":
		return &objects{w, columns}, nil
	}
	return newRowGroups(w, columns), nil
}

// lines writes CSV, and what a script is given to COPY. No cell needs quotes.
type lines struct {
	w       *bufio.Writer
	between byte
}

func (l *lines) row(cells [][]byte) error {
	for i, cell := range cells {
		if i > 0 {
			l.w.WriteByte(l.between)
		}
		l.w.Write(cell)
	}
	return l.w.WriteByte('\n') // a bufio.Writer keeps its first error
}

func (l *lines) end() error { return nil }

type objects struct {
	w       *bufio.Writer
	columns []column
}

func (o *objects) row(cells [][]byte) error {
	for i, c := range o.columns {
		before, quote := `,"`, ""
		if i == 0 {
			before = `{"`
		}
		if c.kind == text || c.kind == instant {
			quote = `"`
		}
		o.w.WriteString(before + c.name + `":` + quote)
		o.w.Write(cells[i])
		o.w.WriteString(quote)
	}
	_, err := o.w.WriteString("}\n")
	return err
}

func (o *objects) end() error { return nil }

// rowGroups writes Parquet.
type rowGroups struct {
	w       *parquet.GenericWriter[any]
	columns []column
	at      []int // where each column stands in the schema, which is in the order of names
	row1    []parquet.Row
}

func newRowGroups(w io.Writer, columns []column) *rowGroups {
	group := parquet.Group{}
	for _, c := range columns {
		node := parquet.Encoded(parquet.String(), &parquet.RLEDictionary)
		switch c.kind {
		case integer:
			node = parquet.Int(64)
		case number:
			node = parquet.Leaf(parquet.DoubleType)
		case instant:
			node = parquet.Timestamp(parquet.Microsecond)
		}
		group[c.name] = parquet.Compressed(parquet.Optional(node), &parquet.Snappy)
	}
	schema := parquet.NewSchema("rows", group)
	out := &rowGroups{w: parquet.NewGenericWriter[any](w, schema, parquet.MaxRowsPerRowGroup(500_000)), columns: columns,
		row1: []parquet.Row{make(parquet.Row, len(columns))}}
	for _, c := range columns {
		leaf, _ := schema.Lookup(c.name)
		out.at = append(out.at, leaf.ColumnIndex)
	}
	return out
}

func (g *rowGroups) row(cells [][]byte) error {
	for i, c := range g.columns {
		var v parquet.Value
		switch c.kind {
		case text:
			v = parquet.ByteArrayValue(cells[i])
		case integer:
			n, err := strconv.ParseInt(string(cells[i]), 10, 64)
			if err != nil {
				return err
			}
			v = parquet.Int64Value(n)
		case number:
			x, err := strconv.ParseFloat(string(cells[i]), 64)
			if err != nil {
				return err
			}
			v = parquet.DoubleValue(x)
		case instant:
			at, err := time.Parse(time.RFC3339, string(cells[i]))
			if err != nil {
				return err
			}
			v = parquet.Int64Value(at.UnixMicro())
		}
		g.row1[0][g.at[i]] = v.Level(0, 1, g.at[i])
	}
	_, err := g.w.WriteRows(g.row1)
	return err
}

func (g *rowGroups) end() error { return g.w.Close() }

// written is what was made of a shape: the files for Mullein, in a folder, and the same rows as
// a script is given them, a file for each.
type written struct {
	folder string
	ready  []string
}

// write makes the files of a shape. key tells which key a row has; version has the version of
// each key that there is, and grows.
func write(s Shape, dir string, first time.Time, key func(i int) int, changed func(i int) bool, version *[]byte) (out written,
	err error) {
	out.folder = filepath.Join(dir, "files")
	if err := os.MkdirAll(out.folder, 0o755); err != nil {
		return out, err
	}
	columns, keyOf := columnsOf(s), keys[s.Key]
	cells := make([][]byte, len(columns))
	withLineage := make([][]byte, len(columns)+6)
	i := 0
	for n := range s.Files {
		name := first.Add(time.Duration(n)*time.Second).Format("20060102T150405") + "." + s.Format
		ready := filepath.Join(dir, fmt.Sprintf("ready-%d.tsv", n))
		err := writeBoth(filepath.Join(out.folder, name), ready, func(file, tsv *bufio.Writer) error {
			w, err := newRowWriter(s.Format, file, columns)
			if err != nil {
				return err
			}
			script := &lines{w: tsv, between: '\t'}
			for line := range s.Rows {
				k := key(i)
				if k == len(*version) {
					*version = append(*version, 0)
				}
				if changed(i) {
					(*version)[k]++
				}
				for c := range cells {
					cells[c] = cells[c][:0]
				}
				keyOf.of(cells, k)
				for c := len(keyOf.columns); c < len(columns); c++ {
					cells[c] = appendCell(cells[c], columns[c], c-len(keyOf.columns), k, int((*version)[k]))
				}
				if err := w.row(cells); err != nil {
					return err
				}
				copy(withLineage, cells)
				for l, cell := range []string{"in/" + name, strconv.Itoa(line + 2), "1", "1", "2026-01-01T00:00:00Z",
					fmt.Sprintf(`\\x01%032x`, k*256+int((*version)[k]))} {
					withLineage[len(cells)+l] = []byte(cell)
				}
				if err := script.row(withLineage); err != nil {
					return err
				}
				i++
			}
			return w.end()
		})
		if err != nil {
			return out, fmt.Errorf("write the files of %s: %w", s, err)
		}
		out.ready = append(out.ready, ready)
	}
	return out, nil
}

// writeBoth makes two files.
func writeBoth(a, b string, do func(a, b *bufio.Writer) error) (err error) {
	var files [2]*os.File
	var w [2]*bufio.Writer
	for i, path := range []string{a, b} {
		if files[i], err = os.Create(path); err != nil {
			return err
		}
		defer files[i].Close()
		w[i] = bufio.NewWriterSize(files[i], 1<<20)
	}
	if err := do(w[0], w[1]); err != nil {
		return err
	}
	for i := range files {
		if err := w[i].Flush(); err != nil {
			return err
		}
	}
	return nil
}
