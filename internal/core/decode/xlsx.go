package decode

import (
	"archive/zip"
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"math"
	"path"
	"strconv"
	"strings"
	"time"

	"mullein/internal/core/spelling"
	"mullein/internal/core/tabular"
)

// sheet reads one sheet of a spreadsheet (Office Open XML, ISO/IEC 29500) row by
// row. The shared texts of the workbook lie in memory, up to maxShared; the
// sheet itself does not.
type sheet struct {
	rows    *xml.Decoder
	close   func() error
	shared  [][]byte
	dates   []dateStyle // by cell style
	epoch   time.Time
	dialect tabular.Dialect
	row     int
	cells   []tabular.Value
	width   int
	used    bool
	raw     []byte
	rec     Record
}

type dateStyle uint8

const (
	noDate dateStyle = iota
	dateOnly
	timeOnly
	dateAndTime
)

const (
	maxShared     = 128 << 20
	maxSheet      = 4 << 30
	maxColumns    = 16384 // of the format
	maxWorkbook   = 16 << 20
	significant15 = 15 // digits that spreadsheets show
)

func newSheet(at io.ReaderAt, size int64, how How) (*sheet, error) {
	z, err := zip.NewReader(at, size)
	if err != nil {
		return nil, &FileError{Reason: fmt.Sprintf("this is no xlsx file, or it is cut short (%v)", err)}
	}
	book := workbook{files: map[string]*zip.File{}}
	for _, f := range z.File {
		book.files[strings.TrimPrefix(f.Name, "/")] = f
	}
	if err := book.read(); err != nil {
		return nil, err
	}
	s := &sheet{dialect: how.Dialect, epoch: time.Date(1899, 12, 30, 0, 0, 0, 0, time.UTC)}
	if book.date1904 {
		s.epoch = time.Date(1904, 1, 1, 0, 0, 0, 0, time.UTC)
	}
	if s.shared, err = book.sharedTexts(); err != nil {
		return nil, err
	}
	if s.dates, err = book.styles(); err != nil {
		return nil, err
	}
	name, err := book.choose(how.Dialect)
	if err != nil {
		return nil, err
	}
	f := book.files[name]
	if f == nil {
		return nil, &FileError{Reason: "the workbook has no part " + name}
	}
	in, err := book.open(f, maxSheet)
	if err != nil {
		return nil, err
	}
	s.rows, s.close = xml.NewDecoder(in), in.Close
	return s, nil
}

// workbook is the directory of an xlsx file.
type workbook struct {
	files    map[string]*zip.File
	sheets   []struct{ name, id string }
	parts    map[string]string // by relation
	date1904 bool
}

// bounded stops at a number of bytes, with a refusal.
type bounded struct {
	io.ReadCloser
	left int64
	what string
}

func (b *bounded) Read(p []byte) (int, error) {
	n, err := b.ReadCloser.Read(p)
	if b.left -= int64(n); b.left < 0 {
		return 0, &FileError{Reason: b.what}
	}
	return n, err
}

// open unpacks a part, within bounds.
func (b *workbook) open(f *zip.File, most int64) (io.ReadCloser, error) {
	r, err := f.Open()
	if err != nil {
		return nil, &FileError{Reason: fmt.Sprintf("%s cannot be unpacked: %v", f.Name, err)}
	}
	if packed := int64(f.CompressedSize64); packed > 0 {
		most = min(most, max(ratioFrom, DefaultLimits.Ratio*packed))
	}
	return &bounded{r, most, fmt.Sprintf("%s unpacks to more than %d bytes: taken for a zip bomb", f.Name, most)}, nil
}

func (b *workbook) decode(name string, most int64, into any) error {
	f := b.files[name]
	if f == nil {
		return nil
	}
	r, err := b.open(f, most)
	if err != nil {
		return err
	}
	defer r.Close()
	return partError(name, xml.NewDecoder(r).Decode(into))
}

func partError(name string, err error) error {
	var file *FileError
	if err == nil || errors.As(err, &file) {
		return err
	}
	return &FileError{Reason: fmt.Sprintf("%s cannot be read: %v", name, err)}
}

func (b *workbook) read() error {
	var book struct {
		Properties struct {
			Date1904 string `xml:"date1904,attr"`
		} `xml:"workbookPr"`
		Sheets []struct {
			Name string `xml:"name,attr"`
			ID   string `xml:"http://schemas.openxmlformats.org/officeDocument/2006/relationships id,attr"`
		} `xml:"sheets>sheet"`
	}
	var relations struct {
		All []struct {
			ID     string `xml:"Id,attr"`
			Target string `xml:"Target,attr"`
		} `xml:"Relationship"`
	}
	if b.files["xl/workbook.xml"] == nil {
		return &FileError{Reason: "this is no xlsx file: it has no xl/workbook.xml"}
	}
	if err := b.decode("xl/workbook.xml", maxWorkbook, &book); err != nil {
		return err
	}
	if err := b.decode("xl/_rels/workbook.xml.rels", maxWorkbook, &relations); err != nil {
		return err
	}
	b.parts = map[string]string{}
	for _, r := range relations.All {
		target := path.Join("xl", r.Target)
		if strings.HasPrefix(r.Target, "/") {
			target = strings.TrimPrefix(r.Target, "/")
		}
		b.parts[r.ID] = target
	}
	for _, s := range book.Sheets {
		b.sheets = append(b.sheets, struct{ name, id string }{s.Name, s.ID})
	}
	b.date1904 = book.Properties.Date1904 == "1" || book.Properties.Date1904 == "true"
	return nil
}

// choose finds the part of the sheet that the dialect names.
func (b *workbook) choose(d tabular.Dialect) (string, error) {
	var names []string
	for i, s := range b.sheets {
		names = append(names, s.name)
		if d.SheetName == s.name || d.SheetName == "" && i+1 == max(1, d.SheetNumber) {
			return b.parts[s.id], nil
		}
	}
	wanted := fmt.Sprintf("sheet %d", max(1, d.SheetNumber))
	if d.SheetName != "" {
		wanted = fmt.Sprintf("sheet %q", d.SheetName)
		if near := spelling.Nearest(d.SheetName, names); near != "" {
			wanted += fmt.Sprintf("; %q looks like it", near)
		}
	}
	return "", &FileError{Reason: fmt.Sprintf("there is no %s; the workbook has %s", wanted, strings.Join(names, ", "))}
}

func (b *workbook) sharedTexts() ([][]byte, error) {
	const name = "xl/sharedStrings.xml"
	f := b.files[name]
	if f == nil {
		return nil, nil
	}
	r, err := b.open(f, maxShared)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	d := xml.NewDecoder(r)
	var out [][]byte
	for {
		token, err := d.RawToken()
		if err == io.EOF {
			return out, nil
		}
		if err != nil {
			return nil, partError(name, err)
		}
		if start, ok := token.(xml.StartElement); ok && start.Name.Local == "si" {
			text, err := innerText(d, "si")
			if err != nil {
				return nil, partError(name, err)
			}
			out = append(out, text)
		}
	}
}

// innerText collects the text of the t elements up to the end of an element;
// phonetic hints are no part of it.
func innerText(d *xml.Decoder, end string) ([]byte, error) {
	var out []byte
	in, hint := false, 0
	for {
		token, err := d.RawToken()
		if err != nil {
			return nil, unexpected(err)
		}
		switch t := token.(type) {
		case xml.StartElement:
			if t.Name.Local == "rPh" {
				hint++
			}
			in = t.Name.Local == "t" && hint == 0
		case xml.EndElement:
			switch t.Name.Local {
			case end:
				return out, nil
			case "rPh":
				hint--
			}
			in = false
		case xml.CharData:
			if in {
				out = append(out, t...)
			}
		}
	}
}

func unexpected(err error) error {
	if err == io.EOF {
		return io.ErrUnexpectedEOF
	}
	return err
}

// styles returns which cell styles show a number as a date.
func (b *workbook) styles() ([]dateStyle, error) {
	var sheet struct {
		Formats []struct {
			ID   int    `xml:"numFmtId,attr"`
			Code string `xml:"formatCode,attr"`
		} `xml:"numFmts>numFmt"`
		Cells []struct {
			Format int `xml:"numFmtId,attr"`
		} `xml:"cellXfs>xf"`
	}
	if err := b.decode("xl/styles.xml", maxWorkbook, &sheet); err != nil {
		return nil, err
	}
	codes := map[int]string{}
	for _, f := range sheet.Formats {
		codes[f.ID] = f.Code
	}
	var out []dateStyle
	for _, c := range sheet.Cells {
		code, own := codes[c.Format]
		switch id := c.Format; {
		case own:
			out = append(out, dateCode(code))
		case id >= 14 && id <= 17:
			out = append(out, dateOnly)
		case id >= 18 && id <= 21, id >= 45 && id <= 47:
			out = append(out, timeOnly)
		case id == 22:
			out = append(out, dateAndTime)
		default:
			out = append(out, noDate)
		}
	}
	return out, nil
}

// dateCode looks for the letters of dates and times in a format, outside of
// quotes, brackets and escapes.
func dateCode(code string) dateStyle {
	code, _, _ = strings.Cut(strings.ToLower(code), ";")
	day, clock := false, false
	for i := 0; i < len(code); i++ {
		switch code[i] {
		case '\\', '_', '*':
			i++
		case '"':
			if end := strings.IndexByte(code[i+1:], '"'); end >= 0 {
				i += end + 1
			}
		case '[':
			if end := strings.IndexByte(code[i:], ']'); end >= 0 {
				clock = clock || strings.Trim(code[i+1:i+end], "hms") == ""
				i += end
			}
		case 'y', 'd':
			day = true
		case 'h', 's':
			clock = true
		}
	}
	switch {
	case day && clock:
		return dateAndTime
	case day:
		return dateOnly
	case clock:
		return timeOnly
	}
	return noDate
}

// Header returns the texts of the header row.
func (s *sheet) Header() ([]string, error) {
	if !s.dialect.Header {
		return nil, nil
	}
	wanted := map[int]bool{}
	last := 0
	for _, n := range s.dialect.HeaderRows {
		wanted[n], last = true, max(last, n)
	}
	var names []string
	for {
		rec, err := s.Next()
		if err == io.EOF {
			return nil, &FileError{Reason: "the sheet has no header and no rows"}
		}
		if err != nil {
			return nil, err
		}
		if last > 0 && !wanted[s.row] {
			if s.row > last {
				return nil, &FileError{Line: int64(s.row),
					Reason: fmt.Sprintf("dialect.headerRows names row %d, which is empty", last)}
			}
			continue
		}
		for i := range rec.Values {
			for len(names) <= i {
				names = append(names, "")
			}
			text := rec.Values[i].String()
			if names[i] != "" && text != "" {
				names[i] += s.dialect.HeaderJoin
			}
			names[i] += text
		}
		if s.row >= last {
			for len(names) > 0 && names[len(names)-1] == "" {
				names = names[:len(names)-1]
			}
			s.width = len(names)
			return names, nil
		}
	}
}

// Next returns the next row that is not empty. It has as many cells as the header.
func (s *sheet) Next() (*Record, error) {
	for {
		token, err := s.rows.RawToken()
		if err == io.EOF {
			return nil, s.end()
		}
		if err != nil {
			return nil, partError("the sheet", err)
		}
		start, ok := token.(xml.StartElement)
		if !ok || start.Name.Local != "row" {
			if end, ok := token.(xml.EndElement); ok && end.Name.Local == "sheetData" {
				return nil, s.end()
			}
			continue
		}
		s.row++
		if r := attribute(start, "r"); r != "" {
			if s.row, err = strconv.Atoi(r); err != nil || s.row < 1 || s.row > 1<<21 {
				return nil, &FileError{Reason: fmt.Sprintf("row %q is no row number", r)}
			}
		}
		s.rec = Record{Line: int64(s.row)}
		if err := s.readRow(); err != nil {
			return nil, partError(fmt.Sprintf("row %d", s.row), err)
		}
		if !s.used || s.passedOver() {
			continue
		}
		if s.width > 0 {
			for i := s.width; i < len(s.cells); i++ {
				if s.cells[i].Kind != tabular.Null && s.rec.Problem == "" {
					s.rec.Problem = fmt.Sprintf("a value in column %s, beyond the header", columnName(i))
				}
			}
			for len(s.cells) < s.width {
				s.cells = append(s.cells, tabular.Value{})
			}
			s.cells = s.cells[:s.width]
		}
		s.rec.Values, s.rec.Raw = s.cells, s.original()
		return &s.rec, nil
	}
}

func (s *sheet) end() error {
	if err := s.close(); err != nil {
		return &FileError{Reason: "the sheet is damaged: " + err.Error()}
	}
	return io.EOF
}

func (s *sheet) passedOver() bool {
	for _, n := range s.dialect.CommentRows {
		if n == s.row {
			return true
		}
	}
	first := s.cells[0]
	return s.dialect.CommentChar != 0 && first.Kind == tabular.Text && len(first.B) > 0 &&
		first.B[0] == s.dialect.CommentChar
}

// original returns a row for people, with tabs between its cells.
func (s *sheet) original() []byte {
	s.raw = s.raw[:0]
	for i := range s.cells {
		if i > 0 {
			s.raw = append(s.raw, '\t')
		}
		if len(s.raw) < rawKept {
			s.raw = append(s.raw, s.cells[i].String()...)
		}
	}
	return s.raw
}

func attribute(e xml.StartElement, name string) string {
	for _, a := range e.Attr {
		if a.Name.Local == name && a.Name.Space == "" {
			return a.Value
		}
	}
	return ""
}

func (s *sheet) readRow() error {
	s.cells, s.used = s.cells[:0], false
	for {
		token, err := s.rows.RawToken()
		if err != nil {
			return unexpected(err)
		}
		switch t := token.(type) {
		case xml.EndElement:
			if t.Name.Local == "row" {
				return nil
			}
		case xml.StartElement:
			if t.Name.Local != "c" {
				continue
			}
			at := len(s.cells)
			if ref := attribute(t, "r"); ref != "" {
				if at, err = columnOf(ref); err != nil {
					return err
				}
			}
			if at >= maxColumns {
				return fmt.Errorf("more than %d columns", maxColumns)
			}
			for len(s.cells) <= at {
				s.cells = append(s.cells, tabular.Value{})
			}
			if err := s.cell(t, &s.cells[at]); err != nil {
				return fmt.Errorf("cell %s: %w", attribute(t, "r"), err)
			}
			s.used = s.used || s.cells[at].Kind != tabular.Null
		}
	}
}

// columnOf reads the column of a reference such as AB12.
func columnOf(ref string) (int, error) {
	n := 0
	for i := 0; i < len(ref) && ref[i] >= 'A' && ref[i] <= 'Z'; i++ {
		if n = n*26 + int(ref[i]-'A') + 1; n > maxColumns {
			break
		}
	}
	if n == 0 || n > maxColumns {
		return 0, fmt.Errorf("%q is no cell", ref)
	}
	return n - 1, nil
}

func columnName(i int) string {
	name := ""
	for i++; i > 0; i = (i - 1) / 26 {
		name = string(rune('A'+(i-1)%26)) + name
	}
	return name
}

// cell reads one cell by its type.
func (s *sheet) cell(start xml.StartElement, v *tabular.Value) error {
	kind := attribute(start, "t")
	style, _ := strconv.Atoi(attribute(start, "s"))
	text, err := s.cellText()
	if err != nil || len(text) == 0 {
		return err
	}
	switch kind {
	case "s":
		n, err := strconv.Atoi(string(text))
		if err != nil || n < 0 || n >= len(s.shared) {
			return fmt.Errorf("shared text %q of %d", text, len(s.shared))
		}
		text, kind = s.shared[n], "str"
	case "b":
		*v = tabular.Value{Kind: tabular.Boolean, I: int64(text[0] - '0')}
		return nil
	case "e":
		if s.rec.Problem == "" {
			s.rec.Problem = fmt.Sprintf("cell %s holds the error %s", attribute(start, "r"), text)
		}
		kind = "str"
	case "d":
		kind = "str"
	}
	if kind == "str" || kind == "inlineStr" {
		if len(text) > 0 {
			*v = tabular.Value{Kind: tabular.Text, B: text}
		}
		return nil
	}
	x, err := strconv.ParseFloat(string(text), 64)
	if err != nil || math.IsInf(x, 0) || math.IsNaN(x) {
		return fmt.Errorf("%q is no number", text)
	}
	if style >= 0 && style < len(s.dates) && s.dates[style] != noDate && x >= 0 && x < 2958466 {
		*v = s.date(x, s.dates[style])
		return nil
	}
	return tabular.ParseNumber(rounded(text, x), v)
}

// rounded takes away the digits that only come from how a spreadsheet keeps
// numbers: 0.30000000000000004 is shown, and meant, as 0.3.
func rounded(text []byte, x float64) []byte {
	digits := 0
	for _, c := range text {
		if c >= '0' && c <= '9' {
			digits++
		}
	}
	if digits <= significant15 {
		return text
	}
	return strconv.AppendFloat(nil, x, 'g', significant15, 64)
}

// date reads days since the workbook's epoch. Clocks are exact to the
// millisecond there.
func (s *sheet) date(x float64, style dateStyle) tabular.Value {
	const dayMicros = 86400 * 1_000_000
	days := math.Floor(x)
	if s.epoch.Year() == 1899 && days < 61 {
		days++ // that calendar has a 29 February 1900
	}
	clock := int64(math.Round((x-math.Floor(x))*86400*1000)) * 1000
	day := s.epoch.Unix()/86400 + int64(days)
	switch {
	case style == timeOnly && x < 1:
		return tabular.Value{Kind: tabular.Clock, I: clock}
	case style == dateOnly && clock == 0:
		return tabular.Value{Kind: tabular.Day, I: day}
	}
	return tabular.Value{Kind: tabular.Wall, I: day*dayMicros + clock}
}

// cellText returns what stands in a cell's v, or in its texts.
func (s *sheet) cellText() ([]byte, error) {
	var out bytes.Buffer
	in := false
	for {
		token, err := s.rows.RawToken()
		if err != nil {
			return nil, unexpected(err)
		}
		switch t := token.(type) {
		case xml.StartElement:
			in = t.Name.Local == "v" || t.Name.Local == "t"
		case xml.EndElement:
			if t.Name.Local == "c" {
				return out.Bytes(), nil
			}
			in = false
		case xml.CharData:
			if in {
				out.Write(t)
			}
			if out.Len() > MaxRecord {
				return nil, fmt.Errorf("more than %d MiB", MaxRecord>>20)
			}
		}
	}
}
