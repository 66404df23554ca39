package draft

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"mullein/internal/core/decode"
	"mullein/internal/core/tabular"
)

// shape is how a file is written.
type shape struct {
	format  decode.Format
	charset string
	dialect tabular.Dialect
	header  []string // the names of the columns; made up where the file has none
	widths  []decode.Width
	each    string
	notes   []string // what is uncertain
	ascii   bool     // no character beyond ASCII was seen
	// document says that a JSON file begins with an object, not with a list of them.
	document bool
}

func (s *shape) how() decode.How {
	return decode.How{Format: s.format, Charset: s.charset, Dialect: s.dialect, Widths: s.widths, Each: s.each,
		Limits: decode.DefaultLimits}
}

// linesNamed are names that say that there is a record a line.
var linesNamed = regexp.MustCompile(`(?i)\.(jsonl|ndjson|jl)(\.(gz|zst|bz2))?$`)

const headLooked = 64 << 10

// look finds out how a file is written.
func look(s Sample) (shape, error) {
	out := shape{dialect: tabular.DefaultDialect()}
	source, done, err := s.Open()
	if err != nil {
		return out, err
	}
	defer done()
	plain, err := decode.Unpack(s.Path, source.Bytes, decode.DefaultLimits)
	if err != nil {
		return out, err
	}
	head, err := io.ReadAll(io.LimitReader(plain, headLooked))
	if err != nil {
		return out, err
	}
	switch {
	case len(head) == 0:
		return out, &decode.FileError{Reason: "the file is empty"}
	case bytes.HasPrefix(head, []byte("PAR1")):
		out.format = decode.Parquet
	case bytes.HasPrefix(head, []byte("Obj\x01")):
		out.format = decode.Avro
	case bytes.HasPrefix(head, []byte("PK\x03\x04")):
		out.format = decode.XLSX
		return out, errors.Join(out.sheet(s), out.readHeader(s))
	case bytes.IndexByte(head, 0) >= 0 && !utf16Mark(head):
		return out, &decode.FileError{Reason: "neither text nor a format that is known"}
	default:
		out.ascii = !slices.ContainsFunc(head, func(c byte) bool { return c >= utf8.RuneSelf })
		if err := out.text(head); err != nil {
			return out, err
		}
		if out.format == decode.Lines && !linesNamed.MatchString(s.Path) && len(head) < headLooked &&
			!bytes.Contains(bytes.TrimSpace(head), []byte("\n")) {
			out.format = decode.JSON // one record is a document rather than a line
		}
	}
	return out, out.readHeader(s)
}

// sheet looks for titles above the header of a spreadsheet.
func (s *shape) sheet(sample Sample) error {
	source, done, err := sample.Open()
	if err != nil {
		return err
	}
	defer done()
	how := s.how()
	how.Dialect.Header = false
	rows, err := decode.Open(source, how)
	if err != nil {
		return err
	}
	var widths, numbers []int
	const most = 100
	for len(widths) < most {
		rec, err := rows.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return err
		}
		filled := 0
		for i := range rec.Values {
			if rec.Values[i].Kind != tabular.Null {
				filled++
			}
		}
		widths, numbers = append(widths, filled), append(numbers, int(rec.Line))
	}
	usual, _ := mode(widths)
	if first := slices.Index(widths, usual); first > 0 || first == 0 && numbers[0] > 1 {
		s.dialect.HeaderRows = []int{numbers[first]}
		s.notes = append(s.notes, fmt.Sprintf("what stands above row %d is taken for titles", numbers[first]))
	}
	return nil
}

func utf16Mark(head []byte) bool {
	return bytes.HasPrefix(head, []byte{0xFF, 0xFE}) || bytes.HasPrefix(head, []byte{0xFE, 0xFF})
}

func (s *shape) readHeader(sample Sample) error {
	source, done, err := sample.Open()
	if err != nil {
		return err
	}
	defer done()
	if s.format == decode.Fixed || s.format == decode.CSV && !s.dialect.Header {
		return nil
	}
	rows, err := decode.Open(source, s.how())
	if err != nil {
		return err
	}
	s.header, err = rows.Header()
	return err
}

// text finds the charset, the format and the dialect of a text.
func (s *shape) text(head []byte) error {
	switch {
	case utf16Mark(head):
		s.charset = "utf-16"
		if e, err := decode.Charset("utf-16"); err == nil {
			head, _ = e.NewDecoder().Bytes(head)
		}
	case !utf8.Valid(whole(head)):
		s.charset = "windows-1252"
		s.notes = append(s.notes, "uncertain: it is no UTF-8; windows-1252 has a character for nearly every byte, so "+
			"look at the texts")
		if e, err := decode.Charset(s.charset); err == nil {
			head, _ = e.NewDecoder().Bytes(head)
		}
	}
	head = bytes.TrimPrefix(head, []byte("\uFEFF"))
	trimmed := bytes.TrimLeft(head, " \t\r\n")
	if len(trimmed) > 0 && (trimmed[0] == '{' || trimmed[0] == '[') {
		s.format, s.document = decode.JSON, trimmed[0] == '{'
		line, _, more := bytes.Cut(trimmed, []byte("\n"))
		if trimmed[0] == '{' && json.Valid(line) && (more || len(head) < headLooked) {
			s.format = decode.Lines
		}
		return nil
	}
	s.format = decode.CSV
	if i := bytes.LastIndexByte(head, '\n'); i > 0 && len(head) >= headLooked-4 {
		head = head[:i+1]
	}
	cut := s.delimited(head)
	if cut {
		_, share := mode(s.cellCounts(head, s.dialect.Delimiter))
		cut = share >= leastEven || !isProse(head)
	} else {
		s.fixed(head)
	}
	if !cut && s.format == decode.CSV && isProse(head) {
		return &decode.FileError{Reason: "it reads like a text for people, not like a table"}
	}
	return nil
}

const (
	fewLines   = 10
	leastShare = 40 // percent of the lines that have as many cells, where there is a delimiter
	leastEven  = 80 // percent of them, where lines read like sentences
	proseWords = 5  // of a line
)

// isProse reports whether lines are sentences rather than values.
func isProse(head []byte) bool {
	lines, words := 0, 0
	for line := range bytes.Lines(head) {
		if n := len(bytes.Fields(line)); n > 0 {
			lines++
			words += n
		}
	}
	return lines > 2 && words >= proseWords*lines
}

// whole leaves out a character that is cut at the end.
func whole(head []byte) []byte {
	for i := 0; i < utf8.UTFMax && len(head) > 0; i++ {
		if r, _ := utf8.DecodeLastRune(head); r != utf8.RuneError {
			break
		}
		head = head[:len(head)-1]
	}
	return head
}

// fixed looks for columns in lines that no delimiter cuts: where all lines have
// blanks, one ends.
func (s *shape) fixed(head []byte) {
	var lines [][]rune
	for line := range strings.Lines(string(head)) {
		line = strings.TrimRight(line, "\r\n")
		if line != "" && (s.dialect.CommentChar == 0 || line[0] != s.dialect.CommentChar) {
			lines = append(lines, []rune(line))
		}
	}
	const least, most = 3, 4096 // lines to judge by; characters of one
	if len(lines) < least || slices.ContainsFunc(lines, func(l []rune) bool { return len(l) > most }) {
		return
	}
	var widths []decode.Width
	for at, before := 0, false; ; at++ {
		inside, filled := false, false
		for _, l := range lines {
			inside = inside || at < len(l)
			filled = filled || at < len(l) && l[at] != ' ' && l[at] != '\t'
		}
		switch {
		case filled && before:
			widths[len(widths)-1].To++
		case filled:
			widths = append(widths, decode.Width{From: at + 1, To: at + 1})
		}
		if before = filled; !inside {
			break
		}
	}
	if len(widths) < 2 {
		return
	}
	// The blanks between two columns belong to the one whose longer values would
	// stand there: the right one if its values end alike, else the left one.
	for i := 1; i < len(widths); i++ {
		left, right := &widths[i-1], &widths[i]
		beginsAlike := !slices.ContainsFunc(lines, func(l []rune) bool {
			return right.From <= len(l) &&
				l[right.From-1] == ' '
		})
		if beginsAlike {
			left.To = right.From - 1
		} else {
			right.From = left.To + 1
		}
	}
	cut := func(l []rune) (out []string) {
		for _, w := range widths {
			out = append(out, strings.TrimSpace(string(l[min(w.From-1, len(l)):min(w.To, len(l))])))
		}
		return out
	}
	var below []row
	for _, l := range lines[1:] {
		below = append(below, row{cells: cut(l)})
	}
	s.format, s.widths = decode.Fixed, widths
	s.dialect.Header, s.dialect.HeaderRows = false, nil
	s.notes = []string{"uncertain: no delimiter was found, so the columns are taken to stand at fixed places, and cut " +
		"where all lines have blanks"}
	if s.header = cut(lines[0]); isHeader(s.header, below) &&
		slices.ContainsFunc(below, func(r row) bool {
			return strings.ContainsAny(strings.Join(r.cells, ""),
				"0123456789")
		}) {
		s.dialect.Header = true
		return
	}
	s.header = byPosition(len(widths))
}

// byPosition names columns by their position.
func byPosition(n int) []string {
	out := make([]string, n)
	for i := range out {
		out[i] = fmt.Sprintf("column_%d", i+1)
	}
	return out
}

// delimited finds the delimiter, comments, titles above the header, and whether
// there is a header. It reports whether there is a delimiter.
func (s *shape) delimited(head []byte) bool {
	s.comments(head)
	best := 0
	for _, delimiter := range []string{";", "\t", "|", ",", "||", "::", "^", "~"} {
		counts := s.cellCounts(head, delimiter)
		usual, share := mode(counts)
		if len(counts) > fewLines && share < leastShare {
			continue
		}
		if usual > 1 && share*10+usual > best {
			best = share*10 + usual
			s.dialect.Delimiter = delimiter
		}
	}
	rows := s.rows(head)
	if len(rows) == 0 {
		return false
	}
	if isPadded(rows) {
		s.dialect.SkipInitialSpace = true
		rows = s.rows(head)
	}
	usual, _ := mode(s.cellCounts(head, s.dialect.Delimiter))
	first := slices.IndexFunc(rows, func(r row) bool { return len(r.cells) == usual })
	if first > 0 {
		s.dialect.HeaderRows = []int{rows[first].number}
		s.notes = append(s.notes, fmt.Sprintf("the %d rows above row %d are taken for titles", first,
			rows[first].number))
	}
	s.nameColumns(rows[max(first, 0):])
	return best > 0
}

// isPadded reports whether nearly all cells of a column begin with a space.
func isPadded(rows []row) bool {
	spaces := map[int]int{}
	for _, r := range rows {
		for i, c := range r.cells {
			if strings.HasPrefix(c, " ") {
				spaces[i]++
			}
		}
	}
	for _, n := range spaces {
		if n > 1 && n*10 > len(rows)*8 {
			return true
		}
	}
	return false
}

// comments finds lines that begin with a mark. The last of them at the top, with as many cells
// as the line below it, is a header.
func (s *shape) comments(head []byte) {
	lines := bytes.SplitN(head, []byte("\n"), 20)
	marked := 0
	for _, line := range lines {
		if bytes.HasPrefix(line, []byte("#")) {
			marked++
		}
	}
	if marked == 0 {
		return
	}
	s.dialect.CommentChar = '#'
	last := 0
	for last < len(lines) && bytes.HasPrefix(lines[last], []byte("#")) {
		last++
	}
	if last < marked || last == len(lines) {
		return
	}
	for _, d := range []string{";", "\t", "|", ","} {
		if n := bytes.Count(lines[last-1], []byte(d)); n > 0 && n == bytes.Count(lines[last], []byte(d)) {
			s.dialect.CommentChar = 0
			return
		}
	}
}

type row struct {
	number int
	cells  []string
}

// rows cuts the head of a file.
func (s *shape) rows(head []byte) []row {
	d := s.dialect
	d.HeaderRows = nil
	r := decode.NewCSV(bytes.NewReader(head), d)
	var out []row
	const most = 200
	for len(out) < most {
		rec, err := r.Next()
		if err != nil {
			break
		}
		if rec.Problem != "" {
			continue
		}
		k := row{number: r.Row()}
		for _, c := range rec.Cells {
			k.cells = append(k.cells, string(c))
		}
		out = append(out, k)
	}
	return out
}

func (s *shape) cellCounts(head []byte, delimiter string) []int {
	with := *s
	with.dialect.Delimiter = delimiter
	var out []int
	for _, r := range with.rows(head) {
		out = append(out, len(r.cells))
	}
	return out
}

// mode returns the most frequent number, and its share in percent.
func mode(numbers []int) (usual, share int) {
	counts := map[int]int{}
	for _, n := range numbers {
		if counts[n]++; counts[n] > counts[usual] || counts[n] == counts[usual] && n > usual {
			usual = n
		}
	}
	if len(numbers) == 0 {
		return 0, 0
	}
	return usual, 100 * counts[usual] / len(numbers)
}

// nameColumns finds the header of a text, if it has one. rows begin with it.
func (s *shape) nameColumns(rows []row) {
	top, below := rows[0], rows[1:]
	if len(below) > 1 && standsAboveValues(below[0].cells, below[1:]) && len(top.cells) == len(below[0].cells) {
		if joined := joinHeader(top.cells, below[0].cells); isHeader(joined, below[1:]) {
			s.dialect.HeaderRows = []int{top.number, below[0].number}
			s.notes = append(s.notes, fmt.Sprintf("rows %d and %d are taken for the header, joined", top.number,
				below[0].number))
			return
		}
	}
	if isHeader(top.cells, below) {
		return
	}
	s.dialect.Header, s.dialect.HeaderRows = false, nil
	if named := distinctNames(top.cells); isHeader(named, below) && filled(top.cells)*2 > len(named) {
		for n := 1; n <= top.number; n++ {
			s.dialect.CommentRows = append(s.dialect.CommentRows, n)
		}
		s.header = named
		s.notes = append(s.notes, fmt.Sprintf("row %d names some columns twice, or not at all: they are taken by "+
			"position, and the row is passed over", top.number))
		return
	}
	s.header = byPosition(len(top.cells))
	s.notes = append(s.notes, "uncertain: the first row looks like the others, so the columns are taken by "+
		"position; give them their names")
}

func filled(cells []string) (n int) {
	for _, c := range cells {
		if c != "" {
			n++
		}
	}
	return n
}

// distinctNames makes names of cells that are empty, or come twice.
func distinctNames(cells []string) []string {
	out, taken := make([]string, len(cells)), map[string]bool{}
	for i, c := range cells {
		if out[i] = c; c == "" {
			out[i] = fmt.Sprintf("column_%d", i+1)
		}
		for n := 2; taken[out[i]]; n++ {
			out[i] = fmt.Sprintf("%s_%d", c, n)
		}
		taken[out[i]] = true
	}
	return out
}

// joinHeader joins the rows of a header, as the dialect does.
func joinHeader(top, below []string) []string {
	out := make([]string, len(top))
	for i := range top {
		out[i] = strings.TrimSpace(top[i] + " " + below[i])
	}
	return out
}

// standsAboveValues reports whether a row is of a header: it has no numbers or times where the
// rows below it have nothing else.
func standsAboveValues(cells []string, below []row) bool {
	isText := func(c string) bool {
		c = strings.TrimSpace(c)
		f, _ := times([]string{c})
		return c != "" && !pointNumber.MatchString(c) && !commaNumber.MatchString(c) && f == "" && !slices.Contains(marks, c)
	}
	const enough = 20 // rows to judge by
	typed := 0
	for i, c := range cells {
		values, texts := 0, 0
		for _, r := range below[:min(enough, len(below))] {
			if i < len(r.cells) && r.cells[i] != "" {
				if values++; isText(r.cells[i]) {
					texts++
				}
			}
		}
		if values < 2 || texts*5 > values {
			continue
		}
		if typed++; c != "" && !isText(c) {
			return false
		}
	}
	return typed > 0 && filled(cells)*2 >= len(cells)
}

// isHeader reports whether a row names the columns of those below it: its cells
// are names, none twice, and some column is not made of such.
func isHeader(names []string, below []row) bool {
	seen := map[string]bool{}
	for i, n := range names {
		if i > 0 && isYearAfter(names, i) {
			seen[n] = true
			continue
		}
		if n == "" || seen[n] || !strings.ContainsFunc(n, unicode.IsLetter) || pointNumber.MatchString(n) || commaNumber.MatchString(n) {
			return false
		}
		if f, _ := times([]string{n}); f != "" {
			return false
		}
		seen[n] = true
	}
	for i, n := range names {
		again, values := 0, 0
		for _, r := range below {
			if i < len(r.cells) && !slices.Equal(r.cells, names) {
				values++
				if r.cells[i] == n {
					again++
				}
			}
		}
		// A mark that ends each line stands in the header too.
		if again > 0 && (again < values || !standsAboveValues(names, below)) {
			return false
		}
	}
	return true
}

// isYearAfter reports whether a name is a year beside that before or after it, as columns of
// years are called.
func isYearAfter(names []string, at int) bool {
	year := func(i int) int {
		if i >= len(names) || len(names[i]) != 4 {
			return 0
		}
		n, err := strconv.Atoi(names[i])
		if err != nil || n < 1700 || n > 2200 {
			return 0
		}
		return n
	}
	n := year(at)
	return n > 0 && (year(at-1) == n-1 || year(at+1) == n+1)
}
