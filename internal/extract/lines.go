package extract

import (
	"bytes"
	"fmt"
	"io"

	"mullein/internal/core/feed"
	"mullein/internal/core/tabular"
)

// textBuffer is how many bytes of text are gathered before they are written.
const textBuffer = 256 << 10

// textFile gathers text.
type textFile struct {
	to      io.Writer
	text    []byte
	columns []Column
}

func (f *textFile) size(written int64) int64 { return written + int64(len(f.text)) }

func (f *textFile) close() error {
	_, err := f.to.Write(f.text)
	f.text = f.text[:0]
	return err
}

func (f *textFile) full() error {
	if len(f.text) < textBuffer {
		return nil
	}
	return f.close()
}

// csvFile writes CSV as RFC 4180 has it, with the delimiter and the null sequence of a Table Dialect.
type csvFile struct {
	textFile
	files  *feed.ExtractFiles
	quoted [256]bool // bytes for which a cell is quoted
}

func newCSV(to io.Writer, files *feed.ExtractFiles, columns []Column) *csvFile {
	f := &csvFile{textFile: textFile{to: to, columns: columns}, files: files}
	for _, c := range []byte("\"\r\n" + files.Delimiter) {
		f.quoted[c] = true
	}
	if files.Header {
		for i := range columns {
			f.text = f.cell(f.between(i), []byte(columns[i].Name))
		}
		f.text = append(f.text, '\n')
	}
	return f
}

func (f *csvFile) between(column int) []byte {
	if column > 0 {
		return append(f.text, f.files.Delimiter...)
	}
	return f.text
}

// cell appends a text, quoted where it has to be.
func (f *csvFile) cell(out, text []byte) []byte {
	plain := true
	for _, c := range text {
		plain = plain && !f.quoted[c]
	}
	if plain {
		return append(out, text...)
	}
	out = append(out, '"')
	for {
		before, after, more := bytes.Cut(text, []byte{'"'})
		if out = append(out, before...); !more {
			return append(out, '"')
		}
		out, text = append(out, '"', '"'), after
	}
}

func (f *csvFile) rows(b *Batch, from, to int) error {
	columns := len(f.columns)
	for row := from; row < to; row++ {
		at := len(f.text)
		for i := range columns {
			v := &b.Values[row*columns+i]
			f.text = f.between(i)
			begin := len(f.text)
			switch v.Kind {
			case tabular.Null:
				f.text = append(f.text, f.files.Null...)
				continue
			case tabular.Text, tabular.JSON:
				f.text = f.cell(f.text, v.B)
			default: // no delimiter and no quote is in it
				f.text = appendText(f.text, v)
			}
			if f.files.Null != "" && string(f.text[begin:]) == f.files.Null {
				return fmt.Errorf("column %s: a value is %s, which stands for no value; choose another nullSequence", f.columns[i].Name, f.files.Null)
			}
		}
		if len(f.text) == at { // an empty line is no row
			f.text = append(f.text, '"', '"')
		}
		f.text = append(f.text, '\n')
		if err := f.full(); err != nil {
			return err
		}
	}
	return nil
}

// jsonFile writes JSON Lines: an object a line.
type jsonFile struct {
	textFile
	names [][]byte // "name": of each column, with what stands before it
}

func newJSON(to io.Writer, columns []Column) *jsonFile {
	f := &jsonFile{textFile: textFile{to: to, columns: columns}}
	for i := range columns {
		before := []byte{','}
		if i == 0 {
			before = []byte{'{'}
		}
		f.names = append(f.names, append(appendJSONText(before, []byte(columns[i].Name)), ':'))
	}
	return f
}

func (f *jsonFile) rows(b *Batch, from, to int) (err error) {
	columns := len(f.columns)
	for row := from; row < to; row++ {
		for i := range columns {
			f.text = append(f.text, f.names[i]...)
			if f.text, err = appendJSON(f.text, &b.Values[row*columns+i]); err != nil {
				return fmt.Errorf("column %s: %w", f.columns[i].Name, err)
			}
		}
		f.text = append(f.text, '}', '\n')
		if err := f.full(); err != nil {
			return err
		}
	}
	return nil
}
