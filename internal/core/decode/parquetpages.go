package decode

import (
	"bufio"
	"encoding/binary"
	"fmt"
	"io"

	"github.com/parquet-go/parquet-go/encoding/thrift"
	"github.com/parquet-go/parquet-go/format"
)

const (
	maxFooter    = 64 << 20
	maxPage      = 512 << 20
	maxPageRatio = 1000 // unpacked bytes for each packed one, looked at from ratioFrom on
)

// checkFooter looks at the end of a file before its footer is read: the library
// makes as much room as it says. The last eight bytes are the footer's length
// and PAR1.
func checkFooter(at io.ReaderAt, size int64) error {
	var end [8]byte
	if _, err := at.ReadAt(end[:], max(0, size-int64(len(end)))); err != nil && err != io.EOF {
		return err
	}
	length := int64(binary.LittleEndian.Uint32(end[:]))
	switch {
	case size < 12 || string(end[4:]) != "PAR1":
		return &FileError{Reason: "it does not end as a Parquet file does, with PAR1; it may be cut short"}
	case length > size-12:
		return &FileError{Reason: fmt.Sprintf("its footer is said to have %d bytes, in a file of %d: it is damaged",
			length, size)}
	case length > maxFooter:
		return &FileError{Reason: fmt.Sprintf("its footer has %d bytes, and %d MiB are the most", length,
			maxFooter>>20)}
	}
	return nil
}

// checkPages walks over the headers of a column's pages before they are read:
// the library makes as much room as they say.
func checkPages(at io.ReaderAt, size int64, m *format.ColumnMetaData) error {
	damaged := func(what string, args ...any) error {
		return &FileError{Reason: "a page of its is damaged: " + fmt.Sprintf(what, args...)}
	}
	from := m.DataPageOffset
	if m.DictionaryPageOffset > 0 && m.DictionaryPageOffset < from {
		from = m.DictionaryPageOffset
	}
	end := from + m.TotalCompressedSize
	if from < 4 || end > size {
		return damaged("it lies at %d to %d in a file of %d bytes", from, end, size)
	}
	if err := tooMany(m.NumValues, size); err != nil {
		return err
	}
	for from < end {
		section := &countingReader{r: io.NewSectionReader(at, from, end-from)}
		buffered := bufio.NewReaderSize(section, 1<<10)
		var compact thrift.CompactProtocol
		var h format.PageHeader
		if err := thrift.NewDecoder(compact.NewReader(buffered)).Decode(&h); err != nil {
			return damaged("its header: %v", err)
		}
		packed, plain := int64(h.CompressedPageSize), int64(h.UncompressedPageSize)
		head := section.n - int64(buffered.Buffered())
		switch {
		case packed < 0 || from+head+packed > end:
			return damaged("it holds %d bytes, and the column %d more", packed, end-from-head)
		case plain < 0 || plain > maxPage || plain > ratioFrom && plain > maxPageRatio*packed:
			return damaged("it unpacks to %d bytes out of %d: taken for a bomb", plain, packed)
		}
		for _, n := range []int32{h.DataPageHeader.V.NumValues, h.DataPageHeaderV2.V.NumValues,
			h.DictionaryPageHeader.V.NumValues} {
			if n < 0 || int64(n) > m.NumValues && n != h.DictionaryPageHeader.V.NumValues || int64(n) > plain*8+
				m.NumValues {
				return damaged("it speaks of %d values of %d", n, m.NumValues)
			}
		}
		for _, n := range []int32{h.DataPageHeaderV2.V.DefinitionLevelsByteLength,
			h.DataPageHeaderV2.V.RepetitionLevelsByteLength} {
			if n < 0 || int64(n) > plain {
				return damaged("its levels hold %d bytes of %d", n, plain)
			}
		}
		from += head + packed
	}
	return nil
}
