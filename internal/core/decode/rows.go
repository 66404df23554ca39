package decode

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"

	"mullein/internal/core/tabular"
)

// Record is one row of a file. Its slices are overwritten by the next call of
// [Rows.Next].
type Record struct {
	Line    int64           // of its first byte, from 1; where a format has no lines, the number of the row or record
	Element int             // which of the elements that one record holds, from 0
	Cells   [][]byte        // as text, by position; nil where the format has types of its own
	Values  []tabular.Value // with the types of the format: see [Rows]
	Raw     []byte          // as it stands in the file, without the line end
	Problem string          // why its cells cannot be trusted; "" when they can
}

// CellSpan finds where a cell stands in Raw, as offsets of bytes. ok is false
// where it cannot be told.
func (r *Record) CellSpan(cell int, d tabular.Dialect) (from, to int, ok bool) {
	at := 0
	for i := 0; i <= cell && i < len(r.Cells); i++ {
		text := r.Cells[i]
		begin := bytes.Index(r.Raw[at:], text)
		if begin < 0 && d.QuoteChar != 0 { // a quote in a cell is written twice
			quote := []byte(string(d.QuoteChar))
			text = bytes.ReplaceAll(text, quote, append(quote, quote...))
			begin = bytes.Index(r.Raw[at:], text)
		}
		if begin < 0 || len(bytes.Trim(r.Raw[at:at+begin], " \t"+string(d.QuoteChar))) > 0 {
			return 0, 0, false
		}
		from, to = at+begin, at+begin+len(text)
		at = to
		if next := bytes.Index(r.Raw[at:], []byte(d.Delimiter)); i < cell {
			if next < 0 {
				return 0, 0, false
			}
			at += next + len(d.Delimiter)
		}
	}
	return from, to, cell < len(r.Cells)
}

// MemberSpan finds where in the JSON text of Raw a value stands under the last
// key of a source, as offsets of bytes. ok is false where it cannot be told.
func (r *Record) MemberSpan(source, value string) (from, to int, ok bool) {
	keys, err := keysOf(source)
	if err != nil || value == "" {
		return 0, 0, false
	}
	key := appendText(nil, []byte(keys[len(keys)-1]))
	for at := 0; ; {
		found := bytes.Index(r.Raw[at:], key)
		if found < 0 {
			return 0, 0, false
		}
		at += found + len(key)
		rest := bytes.TrimLeft(r.Raw[at:], " \t\r\n:\"")
		if bytes.HasPrefix(rest, []byte(value)) {
			from = len(r.Raw) - len(rest)
			return from, from + len(value), true
		}
	}
}

// MaxRecord is the length in bytes from which a record is not kept. It is then
// passed over up to its end and handed out with a Problem and its beginning.
const MaxRecord = 4 << 20

const rawKept = 4 << 10

// MaxLine and MaxElement bound what [Record.Line] and [Record.Element] can be.
const (
	MaxLine    = 1<<32 - 1
	MaxElement = 1<<17 - 1
)

// Rows reads the rows of a file, whatever its format.
//
// A record has Cells, or Values, in the order of the columns that Header gave.
// Formats whose rows are trees are a [Selector] too.
type Rows interface {
	// Header returns the names of the columns in order; nil where the file names
	// none. It comes before the first call of Next, once.
	Header() ([]string, error)
	// Next returns the next record, or io.EOF after the last. Other errors are
	// [*FileError], or what the reader returned.
	Next() (*Record, error)
}

// Selector is for formats whose rows are trees. Its header names the keys at
// the top; the records' Values are what was selected.
type Selector interface {
	Rows
	// Select says which parts of a record are wanted, in this order. It comes
	// before the first call of Next, once.
	Select(sources []string) error
}

// Typed is for formats whose files say of which types their columns are.
type Typed interface {
	Selector
	// Kinds returns the kind of the values under each source: Null where they may
	// be of several, and where it is not known.
	Kinds(sources []string) ([]tabular.Kind, error)
	// Structure returns the columns, each with its parts.
	Structure() []Node
}

// Columnar is for formats whose files hold their values by column.
type Columnar interface {
	Typed
	// ByColumn reports, after Select, whether rows can be had by Batch instead of by Next.
	ByColumn() bool
	// Batch returns the next rows, or io.EOF after the last. What it returns is good until
	// its next call.
	Batch() (*Batch, error)
}

// Batch is some rows of a file, by column.
type Batch struct {
	First   int64 // the number of the first row, from 1
	Rows    int
	Columns []BatchColumn // as they were selected
	// Codebook tells batches apart whose columns have other distinct values.
	Codebook int
}

// BatchColumn is the values of a column, with the types of the format. The value of a
// row is Distinct[Codes[row]], or Values[row] where its code is -1.
type BatchColumn struct {
	Values   []tabular.Value
	Codes    []int32
	Distinct []tabular.Value
}

// At returns the value of a row.
func (c *BatchColumn) At(row int) *tabular.Value {
	if code := c.Codes[row]; code >= 0 {
		return &c.Distinct[code]
	}
	return &c.Values[row]
}

// Format is how a file is written.
type Format string

// The formats.
const (
	CSV     Format = "csv"
	JSON    Format = "json"
	Lines   Format = "jsonl"
	Parquet Format = "parquet"
	Avro    Format = "avro"
	XLSX    Format = "xlsx"
	Fixed   Format = "fixed"
)

// Formats lists them.
func Formats() []string {
	return []string{string(CSV), string(JSON), string(Lines), string(Parquet), string(Avro), string(XLSX),
		string(Fixed)}
}

// Texts reports whether a format is text in some charset, laid out in lines.
func (f Format) Texts() bool { return f == CSV || f == Fixed }

// Trees reports whether the rows of a format are trees: see [Selector].
func (f Format) Trees() bool { return f == JSON || f == Lines || f == Parquet || f == Avro }

// Native reports whether the values of a format have types of its own, and its
// rows no text by which people know them.
func (f Format) Native() bool { return f == Parquet || f == Avro || f == XLSX }

// tooMany refuses files that speak of far more rows than their bytes can hold:
// rows of nothing take no bytes.
func tooMany(rows, bytes int64) error {
	const free, each = 100_000, 2000
	if rows > free && rows > each*bytes {
		return &FileError{Reason: fmt.Sprintf("%d rows in %d bytes: taken for a bomb", rows, bytes)}
	}
	return nil
}

// Source is the bytes of a file.
type Source struct {
	Name  string
	Bytes io.Reader
	// File is the same bytes for formats that are read from their end. It is
	// nil where they can be had only in order.
	File io.ReaderAt
	Size int64 // of the file, 0 where it is not known
}

// How says how to read a file.
type How struct {
	Format  Format
	Charset string // an IANA name; "" is UTF-8
	Dialect tabular.Dialect
	Each    string // the path of the elements that are rows; "" for none
	Widths  []Width
	Limits  Limits
}

// Open begins to read a file: it is unpacked, brought to UTF-8, and cut into
// rows. Errors are [*FileError], or what the reader returned.
func Open(s Source, how How) (Rows, error) {
	how.Limits.Size = s.Size
	if how.Format == Parquet || how.Format == XLSX {
		return openWhole(s, how)
	}
	plain, err := Unpack(s.Name, s.Bytes, how.Limits)
	if err != nil {
		return nil, err
	}
	if how.Format == Avro {
		return newAvro(bufio.NewReaderSize(plain, how.Limits.buffer()), how.Each)
	}
	text, err := toUTF8(plain, how.Charset, how.Limits.buffer())
	if err != nil {
		return nil, err
	}
	switch how.Format {
	case JSON, Lines:
		return newJSON(text, how), nil
	case Fixed:
		return newFixed(text, how), nil
	}
	c := NewCSV(text, how.Dialect)
	c.charset = notUTF8(how.Charset)
	return c, nil
}

// maxWhole bounds the formats that are read from their end where the file is
// packed, or comes from where it cannot be read so, and thus lies in memory.
const maxWhole = 256 << 20

// Held returns how many bytes of a file lie in memory at most while its rows are read,
// beside buffers. seekable reports whether the file can be read from anywhere.
func Held(format Format, name string, size int64, seekable bool) int64 {
	switch {
	case format != Parquet && format != XLSX:
		return 0
	case isPacked(name):
		return min(maxWhole, DefaultLimits.Ratio*size)
	case seekable:
		return 0
	}
	return min(maxWhole, size)
}

func isPacked(name string) bool {
	switch strings.ToLower(path.Ext(name)) {
	case ".gz", ".zst", ".bz2":
		return true
	}
	return false
}

// openWhole opens formats whose directory stands at the end of the file.
func openWhole(s Source, how How) (Rows, error) {
	at, size := s.File, s.Size
	if at == nil || isPacked(s.Name) {
		plain, err := Unpack(s.Name, s.Bytes, how.Limits)
		if err != nil {
			return nil, err
		}
		whole, err := io.ReadAll(io.LimitReader(plain, maxWhole+1))
		if err != nil {
			return nil, err
		}
		if len(whole) > maxWhole {
			return nil, &FileError{Reason: fmt.Sprintf("unpacked it is larger than %d MiB, the most for a packed %s "+
				"file; have it sent unpacked", maxWhole>>20, how.Format)}
		}
		at, size = bytes.NewReader(whole), int64(len(whole))
	}
	if how.Format == XLSX {
		return newSheet(at, size, how)
	}
	return newParquet(at, size, how.Each)
}

// errWanted says that a source cannot be a path.
var errWanted = errors.New("a path is made of names with dots between, or begins with / as a JSON Pointer (RFC 6901)")

// keysOf splits a source into the keys from the top of a record: names with dots
// between, or a JSON Pointer.
func keysOf(source string) ([]string, error) {
	if source == "" {
		return nil, errWanted
	}
	if rest, pointer := strings.CutPrefix(source, "/"); pointer {
		keys := strings.Split(rest, "/")
		for i := range keys {
			keys[i] = strings.NewReplacer("~1", "/", "~0", "~").Replace(keys[i])
		}
		return keys, nil
	}
	keys := strings.Split(source, ".")
	for _, k := range keys {
		if k == "" {
			return nil, fmt.Errorf("%q: %w", source, errWanted)
		}
	}
	return keys, nil
}

// CheckSource says what is wrong with the source of a field of a tree.
func CheckSource(source string) error {
	if source == "*" {
		return nil
	}
	_, err := keysOf(source)
	return err
}

// Top returns the key at the top of a record that a source reaches into. It is
// "" for the whole record.
func Top(source string) string {
	if source == "*" {
		return ""
	}
	keys, err := keysOf(source)
	if err != nil {
		return source
	}
	return keys[0]
}
