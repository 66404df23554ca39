package tabular

import (
	"errors"
	"fmt"
	"strings"
)

// Dialect is a Table Dialect: how a file is laid out. Row and line numbers
// count from 1.
type Dialect struct {
	Delimiter        string
	Header           bool   // false: columns are taken by position
	HeaderRows       []int  // the rows that make the header; nil for the first
	HeaderJoin       string // between the parts of a header of several rows
	CommentRows      []int  // rows to pass over
	CommentChar      byte   // lines that begin with it are passed over; 0: none
	LineTerminator   string // "" takes LF and CRLF, and CR where there is neither
	QuoteChar        byte   // 0: no quoting
	DoubleQuote      bool   // two quotes inside quotes stand for one
	EscapeChar       byte   // before a character that stands for itself; 0: none
	SkipInitialSpace bool   // spaces at the beginning of a cell are passed over

	Property    string   // of a JSON document: the path of its array of records
	ItemType    string   // of JSON: "array", "object", or "" for what stands there
	ItemKeys    []string // of JSON arrays: the names of their items
	SheetNumber int      // of a spreadsheet, from 1; 0 where SheetName says it
	SheetName   string
}

// DefaultDialect is what the standard says where nothing is given.
func DefaultDialect() Dialect {
	return Dialect{Delimiter: ",", Header: true, QuoteChar: '"', DoubleQuote: true, HeaderJoin: " "}
}

// Plain reports whether delimited text can be cut the short way: at single
// bytes, with no escapes.
func (d *Dialect) Plain() bool {
	usual := d.LineTerminator == "" || d.LineTerminator == "\n" || d.LineTerminator == "\r\n"
	return len(d.Delimiter) == 1 && usual && (d.DoubleQuote || d.QuoteChar == 0) && d.EscapeChar == 0 &&
		!d.SkipInitialSpace
}

// Check says what makes the dialect unusable.
func (d Dialect) Check() error {
	for _, c := range []struct {
		name string
		char byte
	}{{"quoteChar", d.QuoteChar}, {"commentChar", d.CommentChar}, {"escapeChar", d.EscapeChar}} {
		if c.char == '\n' || c.char == '\r' || c.char >= 0x80 {
			return fmt.Errorf("%s must be one ASCII character, and no line end", c.name)
		}
	}
	quote := string(d.QuoteChar)
	switch {
	case d.Delimiter == "":
		return errors.New("a delimiter is needed")
	case len(d.Delimiter) > 8 || strings.ContainsAny(d.Delimiter, "\r\n"):
		return errors.New("delimiter must have from 1 to 8 bytes, and no line end")
	case len(d.LineTerminator) > 8:
		return errors.New("lineTerminator must have up to 8 bytes")
	case d.Delimiter == quote:
		return fmt.Errorf("delimiter and quoteChar are both %q", d.Delimiter)
	case d.CommentChar != 0 && (d.CommentChar == d.QuoteChar || d.Delimiter == string(d.CommentChar)):
		return fmt.Errorf("commentChar %q already has another use", d.CommentChar)
	case d.EscapeChar != 0 && (d.EscapeChar == d.QuoteChar || d.Delimiter == string(d.EscapeChar)):
		return fmt.Errorf("escapeChar %q already has another use", d.EscapeChar)
	case !d.Header && d.HeaderRows != nil:
		return errors.New("headerRows are given, but header: false says that there is none")
	case d.SheetName != "" && d.SheetNumber != 0:
		return errors.New("sheetName and sheetNumber both say which sheet it is; one is enough")
	}
	for _, rows := range [][]int{d.HeaderRows, d.CommentRows} {
		for _, n := range rows {
			if n < 1 || n > 1000 {
				return fmt.Errorf("row %d: headerRows and commentRows count from 1 to 1000", n)
			}
		}
	}
	return nil
}
