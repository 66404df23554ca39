package reading

import (
	"strings"

	"mullein/internal/core/decode"
	"mullein/internal/core/feed"
)

// MendedHow says how mended rows are read: as the feed's files are, but always
// UTF-8, with a header of one row, JSON as JSON Lines, and formats that are no
// text as JSON Lines of what rejects show of them, under [mendedKey].
func MendedHow(f *feed.Feed) decode.How {
	how := f.How()
	how.Charset = ""
	how.Dialect.HeaderRows, how.Dialect.CommentRows, how.Dialect.CommentChar, how.Dialect.Property = nil, nil, 0, ""
	switch f.Format {
	case decode.JSON:
		how.Format = decode.Lines
	case decode.Parquet, decode.Avro, decode.XLSX:
		how.Format, how.Each = decode.Lines, ""
	case decode.Fixed:
		how.Dialect.Header = false
	}
	return how
}

// mendedKey is where a mended row of a format that is no text has the value of a
// source: under the source as a whole, whatever path it is.
func mendedKey(source string) string {
	return "/" + strings.NewReplacer("~", "~0", "/", "~1").Replace(source)
}
