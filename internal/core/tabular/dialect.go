package tabular

import (
	"errors"
	"fmt"
)

// Dialect is a Table Dialect: how delimited text is laid out.
type Dialect struct {
	Delimiter   byte
	Header      bool // false: columns are taken by position
	QuoteChar   byte // 0: no quoting
	CommentChar byte // 0: no comments
}

// DefaultDialect is what the standard says where nothing is given.
func DefaultDialect() Dialect { return Dialect{Delimiter: ',', Header: true, QuoteChar: '"'} }

// Check says what makes the dialect unusable.
func (d Dialect) Check() error {
	for _, c := range []struct {
		name string
		char byte
	}{{"delimiter", d.Delimiter}, {"quoteChar", d.QuoteChar}, {"commentChar", d.CommentChar}} {
		if c.char == '\n' || c.char == '\r' || c.char >= 0x80 {
			return fmt.Errorf("%s must be one ASCII character, and no line end", c.name)
		}
	}
	switch {
	case d.Delimiter == 0:
		return errors.New("a delimiter is needed")
	case d.Delimiter == d.QuoteChar:
		return fmt.Errorf("delimiter and quoteChar are both %q", d.Delimiter)
	case d.CommentChar != 0 && (d.CommentChar == d.QuoteChar || d.CommentChar == d.Delimiter):
		return fmt.Errorf("commentChar %q already has another use", d.CommentChar)
	}
	return nil
}
