package decode

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/klauspost/compress/gzip"
)

// FileError says that a file as a whole cannot be read. Trying again with the
// same bytes gives the same error.
type FileError struct {
	Line   int64 // from 1; 0 when the error belongs to no line
	Reason string
}

func (e *FileError) Error() string {
	if e.Line > 0 {
		return fmt.Sprintf("line %d: %s", e.Line, e.Reason)
	}
	return e.Reason
}

// Limits bound what a packed file may grow to.
type Limits struct {
	Unpacked int64 // bytes
	Ratio    int64 // unpacked bytes for each packed byte, looked at from RatioFrom on
	Size     int64 // of the packed file, 0 if not known; it only sizes buffers
}

// DefaultLimits let ordinary text through, which rarely packs better than 1 to 100.
var DefaultLimits = Limits{Unpacked: 256 << 30, Ratio: 250}

// buffer is as large as the file, within bounds.
func (l Limits) buffer() int {
	const least, most = 4 << 10, 256 << 10
	if l.Size <= 0 {
		return most
	}
	return int(min(max(l.Size+1, least), most))
}

const ratioFrom = 32 << 20

// Unpack gives the plain bytes of a file: gunzipped where it is gzip (RFC
// 1952) by its first bytes, without the UTF-8 byte order mark. A name that
// ends in .gz must hold gzip.
func Unpack(name string, r io.Reader, limits Limits) (io.Reader, error) {
	packed := &countingReader{r: r}
	in := bufio.NewReaderSize(packed, limits.buffer())
	magic, err := in.Peek(2)
	if err != nil && err != io.EOF {
		return nil, err
	}
	plain := in
	switch {
	case bytes.Equal(magic, []byte{0x1f, 0x8b}):
		z, err := gzip.NewReader(in)
		if err != nil {
			return nil, gzipError(err, 0)
		}
		plain = bufio.NewReaderSize(&unpacking{z: z, packed: packed, limits: limits}, 256<<10)
	case strings.HasSuffix(strings.ToLower(name), ".gz") && len(magic) > 0:
		return nil, &FileError{Reason: "named .gz, but what it holds is not gzip"}
	}
	return plain, skipMark(plain)
}

func skipMark(in *bufio.Reader) error {
	head, err := in.Peek(3)
	if err != nil && err != io.EOF {
		return err
	}
	switch {
	case bytes.Equal(head, []byte{0xEF, 0xBB, 0xBF}):
		_, err := in.Discard(3)
		return err
	case bytes.HasPrefix(head, []byte{0xFF, 0xFE}), bytes.HasPrefix(head, []byte{0xFE, 0xFF}):
		return &FileError{Reason: "this is UTF-16, by its byte order mark; the feed reads UTF-8"}
	}
	return nil
}

type countingReader struct {
	r io.Reader
	n int64
}

func (c *countingReader) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.n += int64(n)
	return n, err
}

type unpacking struct {
	z      *gzip.Reader
	packed *countingReader
	limits Limits
	n      int64
}

func (u *unpacking) Read(p []byte) (int, error) {
	n, err := u.z.Read(p)
	u.n += int64(n)
	if u.n > u.limits.Unpacked || (u.n > ratioFrom && u.n > u.limits.Ratio*u.packed.n) {
		return 0, &FileError{Reason: fmt.Sprintf("unpacks to more than %d times its size (%d bytes so far out of %d): taken for a gzip bomb", u.limits.Ratio, u.n, u.packed.n)}
	}
	if err != nil && err != io.EOF {
		err = gzipError(err, u.n)
	}
	return n, err
}

func gzipError(err error, at int64) error {
	switch {
	case errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, io.EOF):
		return &FileError{Reason: fmt.Sprintf("the gzip is cut short after %d unpacked bytes; have it sent again", at)}
	case errors.Is(err, gzip.ErrChecksum), errors.Is(err, gzip.ErrHeader), strings.Contains(err.Error(), "flate:"):
		return &FileError{Reason: fmt.Sprintf("the gzip is damaged after %d unpacked bytes (%v); have it sent again", at, err)}
	}
	return err
}
