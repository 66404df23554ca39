package decode

import (
	"bytes"
	"compress/gzip"
	"encoding/base64"
	"encoding/csv"
	"errors"
	"io"
	"math/rand/v2"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/tabular"
)

type row struct {
	line    int64
	cells   []string
	problem string
}

func readAll(t testing.TB, r io.Reader, d tabular.Dialect) ([]row, error) {
	t.Helper()
	c := NewCSV(r, d)
	var rows []row
	for {
		rec, err := c.Next()
		if err == io.EOF {
			return rows, nil
		}
		if err != nil {
			return rows, err
		}
		out := row{line: rec.Line, problem: rec.Problem}
		for _, cell := range rec.Cells {
			out.cells = append(out.cells, string(cell))
		}
		rows = append(rows, out)
	}
}

func TestRecords(t *testing.T) {
	semicolon := tabular.Dialect{Delimiter: ";", DoubleQuote: true, QuoteChar: '"', CommentChar: '#'}
	for name, c := range map[string]struct {
		text string
		want []row
	}{
		"plain":               {"a;b\n1;2\n", []row{{1, []string{"a", "b"}, ""}, {2, []string{"1", "2"}, ""}}},
		"no last line end":    {"1;2", []row{{1, []string{"1", "2"}, ""}}},
		"crlf":                {"1;\"2\"\r\n3;4\r\n", []row{{1, []string{"1", "2"}, ""}, {2, []string{"3", "4"}, ""}}},
		"crlf after unquoted": {"\"1\";2\r\n3;4\r\n", []row{{1, []string{"1", "2"}, ""}, {2, []string{"3", "4"}, ""}}},
		"comments and blanks": {"# \"x\n\n1;2\n", []row{{3, []string{"1", "2"}, ""}}},
		"quotes":              {"\"a;\"\"b\"\"\";c\n", []row{{1, []string{`a;"b"`, "c"}, ""}}},
		"line end in quotes": {"\"a\nb\";c\nd;e\n",
			[]row{{1, []string{"a\nb", "c"}, ""}, {3, []string{"d", "e"}, ""}}},
		"empty cells": {";;\"\"\n", []row{{1, []string{"", "", ""}, ""}}},
		"text after a quote": {"\"a\"b;c\nd;e\n", []row{{1, []string{"ab", "c"}, "text after a closing quote"},
			{2, []string{"d", "e"}, ""}}},
		"quote in a cell": {"a\"b;c\nd;e\n",
			[]row{{1, []string{`a"b`, "c"}, "a quote inside a cell that does not begin with one"},
				{2, []string{"d", "e"}, ""}}},
		"nothing": {"", nil},
	} {
		// Readers of one byte at a time cross every boundary inside a record.
		for _, r := range []io.Reader{strings.NewReader(c.text), &oneByte{s: c.text}} {
			got, err := readAll(t, r, semicolon)
			require.NoError(t, err, name)
			assert.Equal(t, c.want, got, name)
		}
	}
}

type oneByte struct{ s string }

func (o *oneByte) Read(p []byte) (int, error) {
	if o.s == "" {
		return 0, io.EOF
	}
	n := copy(p[:1], o.s)
	o.s = o.s[n:]
	return n, nil
}

func TestAnUnclosedQuoteMakesTheFileUnreadable(t *testing.T) {
	for _, tail := range []string{"x;y\n", strings.Repeat("x;y\n", 2<<20)} {
		rows, err := readAll(t, strings.NewReader("a;b\n\"1;2\n"+tail),
			tabular.Dialect{Delimiter: ";", DoubleQuote: true, QuoteChar: '"'})
		var fileError *FileError
		require.ErrorAs(t, err, &fileError)
		assert.Equal(t, int64(2), fileError.Line)
		assert.Contains(t, fileError.Reason, "never closed")
		assert.Len(t, rows, 1)
	}
}

func TestARecordTooLongIsPassedOverInBoundedMemory(t *testing.T) {
	huge := strings.Repeat("x", 50<<20)
	for _, cell := range []string{huge, `"` + huge + "\n" + `"`} {
		c := NewCSV(strings.NewReader("1,2\n"+cell+",3\n4,5\n"), tabular.DefaultDialect())
		var problems []string
		for {
			rec, err := c.Next()
			if err == io.EOF {
				break
			}
			require.NoError(t, err)
			problems = append(problems, rec.Problem)
		}
		assert.Equal(t, []string{"", "longer than 4 MiB", ""}, problems)
		assert.LessOrEqual(t, cap(c.buf), 4*MaxRecord)
	}
}

func pack(t testing.TB, plain []byte) []byte {
	t.Helper()
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	_, err := z.Write(plain)
	require.NoError(t, err)
	require.NoError(t, z.Close())
	return b.Bytes()
}

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

func TestUnpack(t *testing.T) {
	packed := pack(t, []byte("a,b\n1,2\n"))
	for name, c := range map[string]struct {
		file    string
		bytes   []byte
		want    string
		err     string
		charset string
	}{
		"plain":             {"x.csv", []byte("a,b\n"), "a,b\n", "", ""},
		"byte order mark":   {"x.csv", []byte("\xEF\xBB\xBFa,b\n"), "a,b\n", "", ""},
		"gzip":              {"x.csv.gz", packed, "a,b\n1,2\n", "", ""},
		"gzip by its bytes": {"x.csv", packed, "a,b\n1,2\n", "", ""},
		"gzip cut short":    {"x.csv.gz", packed[:len(packed)-6], "", "cut short", ""},
		"gzip cut at once":  {"x.csv.gz", packed[:4], "", "cut short", ""},
		"gzip damaged": {"x.csv.gz", append(packed[:len(packed)-8:len(packed)-8], 1, 2, 3, 4, 5, 6, 7, 8), "",
			"damaged", ""},
		"not gzip": {"x.csv.gz", []byte("a,b\n"), "", "not gzip", ""},
		"utf-16":   {"x.csv", []byte("\xFF\xFEa\x00"), "", "UTF-16", ""},
		"bomb":     {"x.gz", pack(t, make([]byte, 40<<20)), "", "gzip bomb", ""},
		"empty":    {"x.csv", nil, "", "", ""},
		"bzip2": {"x.csv.bz2",
			must(base64.StdEncoding.DecodeString("QlpoOTFBWSZTWb+HQH8AAANZAAAQAAQwADAAIAAwwAhpsogjJ4u5IpwoSF/DoD+A")),
			"a,b\n1,2\n", "", ""},
		"zstd": {"x.csv.zst", must(zstd.NewWriter(nil)).EncodeAll([]byte("a,b\n1,2\n"), nil),
			"a,b\n1,2\n", "", ""},
		"zstd cut short": {"x.csv.zst", must(zstd.NewWriter(nil)).EncodeAll(bytes.Repeat([]byte("abc\n"), 9000),
			nil)[:20], "", "cut short", ""},
		"not zstd": {"x.csv.zst", []byte("a,b"), "", "not zstd", ""},
		"zstd bomb": {"x.csv.zst", must(zstd.NewWriter(nil)).EncodeAll(make([]byte, 40<<20), nil), "",
			"zstd bomb", ""},
		"latin-1":        {"x.csv", []byte("caf\xe9"), "café", "", "latin-1"},
		"windows-1252":   {"x.csv", []byte("\x80\x81"), "€\uFFFD", "", "windows-1252"},
		"utf-16 le":      {"x.csv", []byte("\xFF\xFEa\x00;\x00"), "a;", "", "utf-16"},
		"utf-16 be":      {"x.csv", []byte("\xFE\xFF\x00a\x00;"), "a;", "", "utf-16"},
		"mark disagrees": {"x.csv", []byte("\xEF\xBB\xBFa"), "", "by its byte order mark", "iso-8859-1"},
	} {
		r, err := Unpack(c.file, bytes.NewReader(c.bytes), DefaultLimits)
		var got []byte
		if err == nil {
			var text io.Reader
			if text, err = toUTF8(r, c.charset, 100); err == nil {
				got, err = io.ReadAll(text)
			}
		}
		if c.err == "" {
			require.NoError(t, err, name)
			assert.Equal(t, c.want, string(got), name)
			continue
		}
		var fileError *FileError
		require.ErrorAs(t, err, &fileError, name)
		assert.Contains(t, fileError.Reason, c.err, name)
	}
}

// FuzzCSV holds our records against encoding/csv wherever that one is content.
func FuzzCSV(f *testing.F) {
	f.Add("a,b\n\"1\",\"2\"\"\"\n")
	f.Add("\"a\r\nb\",c\r\n")
	f.Fuzz(func(t *testing.T, text string) {
		got, err := readAll(t, strings.NewReader(text), tabular.DefaultDialect())
		again, errAgain := readAll(t, &oneByte{s: text}, tabular.DefaultDialect())
		assert.Equal(t, err, errAgain)
		assert.Equal(t, got, again)
		std := csv.NewReader(strings.NewReader(text))
		std.FieldsPerRecord = -1
		want, stdErr := std.ReadAll()
		if stdErr != nil || strings.Contains(text, "\r") { // encoding/csv rewrites CRLF inside quotes
			return
		}
		require.NoError(t, err)
		require.Len(t, got, len(want))
		for i := range want {
			assert.Equal(t, want[i], got[i].cells)
		}
	})
}

func FuzzUnpack(f *testing.F) {
	f.Add("x.gz", pack(f, []byte("a,b\n1,2\n")))
	f.Fuzz(func(t *testing.T, name string, b []byte) {
		r, err := Unpack(name, bytes.NewReader(b), DefaultLimits)
		if err == nil {
			_, err = io.Copy(io.Discard, r)
		}
		var fileError *FileError
		if err != nil && !errors.As(err, &fileError) {
			t.Fatalf("an error without a reason for people: %v", err)
		}
	})
}

func BenchmarkCSV(b *testing.B) {
	text := strings.Repeat("SR0001;01.07.2026 12:00;2,451;103,2;G;\n", 100_000)
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		c := NewCSV(strings.NewReader(text), tabular.Dialect{Delimiter: ";", DoubleQuote: true, QuoteChar: '"'})
		for {
			if _, err := c.Next(); err != nil {
				break
			}
		}
	}
}

// TestRecordsThatGoOn holds records of all sizes, with everything in them that needs a
// closer look, against encoding/csv: many end in another window than they begin in. An
// unusual dialect with the same cells gives the same.
func TestRecordsThatGoOn(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 8))
	words := []string{"a", ",", "\"", "\n", " ", "\\", "näher", strings.Repeat("long ", 900), ""}
	var want [][]string
	for range 300 {
		cells := make([]string, 1+random.IntN(4))
		for i := range cells {
			for range random.IntN(12) {
				cells[i] += words[random.IntN(len(words))]
			}
		}
		want = append(want, append(cells, "end"))
	}
	var plain, odd strings.Builder
	w := csv.NewWriter(&plain)
	require.NoError(t, w.WriteAll(want))
	escape := strings.NewReplacer("\\", "\\\\", "\"", "\\\"")
	for _, cells := range want {
		for i, cell := range cells {
			if i > 0 {
				odd.WriteString("<> ")
			}
			odd.WriteString("\"" + escape.Replace(cell) + "\"")
		}
		odd.WriteString("|\n")
	}
	for name, c := range map[string]struct {
		text    string
		dialect tabular.Dialect
	}{
		"plain": {plain.String(), tabular.DefaultDialect()},
		"unusual": {odd.String(), tabular.Dialect{Delimiter: "<>", LineTerminator: "|\n", QuoteChar: '"',
			EscapeChar: '\\', SkipInitialSpace: true}},
	} {
		got, err := readAll(t, strings.NewReader(c.text), c.dialect)
		require.NoError(t, err, name)
		require.Len(t, got, len(want), name)
		for i := range want {
			require.Equal(t, want[i], got[i].cells, "%s: record %d", name, i)
		}
	}
}

// TestLongRecordsAreReadOnce reads quoted records of some megabytes from a reader
// that gives few bytes at a time, as one of another charset does: what was looked at
// must not be looked at again for each of them.
func TestLongRecordsAreReadOnce(t *testing.T) {
	long := strings.Repeat("näher, weiter\n", 200_000)
	text := "id,note\n1,\"" + long + "\"\n2,x\n"
	c := NewCSV(iotest.OneByteReader(strings.NewReader(text)), tabular.DefaultDialect())
	names, err := c.Header()
	require.NoError(t, err)
	require.Equal(t, []string{"id", "note"}, names)
	rec, err := c.Next()
	require.NoError(t, err)
	assert.Equal(t, long, string(rec.Cells[1]))
	rec, err = c.Next()
	require.NoError(t, err)
	assert.Equal(t, "2,x", string(rec.Raw))
}
