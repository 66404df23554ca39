package decode

import (
	"bufio"
	"bytes"
	"compress/bzip2"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strings"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/ianaindex"
	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"
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

// Unpack returns the plain bytes of a file: gzip (RFC 1952), zstd (RFC 8878) and
// bzip2 are known by their first bytes. A name that ends in .gz, .zst or .bz2
// must hold what it says. What is returned has little room, so that many files can be open at a
// time: large pieces that are read go past it.
func Unpack(name string, r io.Reader, limits Limits) (*bufio.Reader, error) {
	packed := &countingReader{r: r}
	in := bufio.NewReaderSize(packed, min(limits.buffer(), firstBuffer))
	magic, err := in.Peek(4)
	if err != nil && err != io.EOF {
		return nil, err
	}
	for _, p := range packings {
		if bytes.HasPrefix(magic, p.magic) {
			z, err := p.open(bufio.NewReaderSize(in, limits.buffer()))
			if err != nil {
				return nil, p.damaged(err, 0)
			}
			return bufio.NewReaderSize(&unpacking{z: z, by: p, packed: packed, limits: limits}, 256<<10), nil
		}
		if strings.HasSuffix(strings.ToLower(name), p.end) && len(magic) > 0 {
			return nil, &FileError{Reason: fmt.Sprintf("named %s, but what it holds is not %s", p.end, p.name)}
		}
	}
	return in, nil
}

// packing is a way to pack a file.
type packing struct {
	name, end string
	magic     []byte
	open      func(io.Reader) (io.Reader, error)
}

var packings = []packing{
	{"gzip", ".gz", []byte{0x1f, 0x8b}, func(r io.Reader) (io.Reader, error) { return gzip.NewReader(r) }},
	{"zstd", ".zst", []byte{0x28, 0xb5, 0x2f, 0xfd}, openZstd},
	{"bzip2", ".bz2", []byte("BZh"), func(r io.Reader) (io.Reader, error) { return bzip2.NewReader(r), nil }},
}

// maxZstdWindow bounds what a zstd frame may ask for.
const maxZstdWindow = 64 << 20

func openZstd(r io.Reader) (io.Reader, error) {
	return zstd.NewReader(r, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(maxZstdWindow),
		zstd.WithDecoderMaxMemory(maxZstdWindow))
}

// toUTF8 brings text to UTF-8 without a byte order mark. charset is an IANA
// name; a mark at the beginning must agree with it. Bytes that the charset does
// not have become U+FFFD. It reads buffer bytes at once.
func toUTF8(in *bufio.Reader, charset string, buffer int) (io.Reader, error) {
	head, err := in.Peek(3)
	if err != nil && err != io.EOF {
		return nil, err
	}
	utf16Mark := bytes.HasPrefix(head, []byte{0xFF, 0xFE}) || bytes.HasPrefix(head, []byte{0xFE, 0xFF})
	e, err := Charset(charset)
	if err != nil {
		return nil, err
	}
	switch {
	case bytes.Equal(head, []byte{0xEF, 0xBB, 0xBF}):
		if e != nil {
			return nil, &FileError{Reason: fmt.Sprintf("this is UTF-8, by its byte order mark; the feed reads %s",
				charset)}
		}
		_, err := in.Discard(3)
		return in, err
	case e == nil && utf16Mark:
		return nil, &FileError{Reason: "this is UTF-16, by its byte order mark; the feed reads UTF-8: write encoding: " +
			"utf-16"}
	case e == nil:
		return in, nil
	}
	return transform.NewReader(bufio.NewReaderSize(in, buffer), e.NewDecoder()), nil
}

// Charset finds a charset by its IANA name; UTF-8 is nil.
func Charset(name string) (encoding.Encoding, error) {
	switch strings.ToLower(name) {
	case "", "utf-8", "utf8":
		return nil, nil
	case "utf-16", "utf16":
		return unicode.UTF16(unicode.LittleEndian, unicode.UseBOM), nil
	case "latin-1":
		name = "ISO-8859-1"
	}
	e, err := ianaindex.IANA.Encoding(name)
	if err != nil || e == nil {
		return nil, fmt.Errorf("unknown charset %q; use an IANA name such as utf-8, utf-16, iso-8859-1, windows-1252 "+
			"or shift_jis", name)
	}
	return e, nil
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
	z      io.Reader
	by     packing
	packed *countingReader
	limits Limits
	n      int64
}

func (u *unpacking) Read(p []byte) (int, error) {
	n, err := u.z.Read(p)
	u.n += int64(n)
	if u.n > u.limits.Unpacked || (u.n > ratioFrom && u.n > u.limits.Ratio*u.packed.n) {
		return 0, &FileError{Reason: fmt.Sprintf("unpacks to more than %d times its size (%d bytes so far out of %d): "+
			"taken for a %s bomb", u.limits.Ratio, u.n, u.packed.n, u.by.name)}
	}
	if err != nil && err != io.EOF {
		err = u.by.damaged(err, u.n)
	}
	return n, err
}

// damaged says what is wrong with packed bytes. Other errors, of reading them,
// pass through.
func (p packing) damaged(err error, at int64) error {
	var bz bzip2.StructuralError
	switch {
	case errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, io.EOF):
		return &FileError{Reason: fmt.Sprintf("the %s is cut short after %d unpacked bytes; have it sent again",
			p.name, at)}
	case errors.Is(err, zstd.ErrWindowSizeExceeded), errors.Is(err, zstd.ErrDecoderSizeExceeded):
		return &FileError{Reason: fmt.Sprintf("the zstd asks for more than %d MiB of memory to unpack",
			maxZstdWindow>>20)}
	case errors.Is(err, gzip.ErrChecksum), errors.Is(err, gzip.ErrHeader), strings.Contains(err.Error(), "flate:"),
		errors.As(err, &bz), p.name == "zstd" && !errors.As(err, new(*fs.PathError)):
		return &FileError{Reason: fmt.Sprintf("the %s is damaged after %d unpacked bytes (%v); have it sent again",
			p.name, at, err)}
	}
	return err
}
