package shapes

import (
	"crypto/md5"
	"encoding/hex"
	"fmt"
	"strconv"
	"strings"
)

// Shape is that of a table, and of what is loaded into it.
type Shape struct {
	Before  int    // rows of the table; 0 for a new one
	Key     string // what the key is made of: a name of keys
	Order   string // which row of a key wins: arrival, slot, or a column
	Columns string // what columns there are beside the key: a name of columns
	Format  string // csv, jsonl or parquet
	Files   int    // that come at once
	Rows    int    // of each file
	Change  string // which rows are changed: a name of changes
	Rounds  int    // how often it is measured at the most
	Alone   bool   // the script is not: it would take hours
}

// Names of what shapes are made of.
const (
	TextAndInteger = "text and integer"
	BigInteger     = "bigint"
	UUID           = "uuid"

	ByArrival = "arrival"
	BySlot    = "slot"
	ByColumn  = "column"

	Six           = "6"
	MostlyText    = "100, mostly text"
	MostlyNumbers = "100, mostly numbers"
	MostlyTimes   = "100, mostly times"

	AllNew        = "all new"
	ChangedRandom = "all changed, keys at random"
	ChangedSorted = "all changed, keys in order"
	ChangedTenth  = "10 % changed"
	NoneChanged   = "none changed"
)

// String names a shape, for choosing it.
func (s Shape) String() string {
	return fmt.Sprintf("%d/%s/%s/%s/%s/%dx%d/%s", s.Before, s.Key, s.Order, s.Columns, s.Format, s.Files, s.Rows, s.Change)
}

// table names what shapes have in common that are measured with one table.
func (s Shape) table() string {
	return fmt.Sprint(s.Before, s.Key, s.Order, s.Columns, s.Before > 0, s.Alone)
}

// Matrix returns the shapes that are measured for tables of up to so many rows: each of what
// a shape is made of is varied beside an ordinary one.
func Matrix(most int) (out []Shape) {
	ordinary := Shape{Key: TextAndInteger, Order: ByArrival, Columns: Six, Format: "csv", Files: 1, Rounds: 3}
	add := func(s Shape) {
		if s.Before <= most && s.Files*s.Rows <= max(most, 2_000_000) {
			out = append(out, s)
		}
	}
	all := []string{AllNew, ChangedRandom, ChangedSorted, ChangedTenth, NoneChanged}
	for _, before := range []int{2_000_000, 6_000_000, 20_000_000} {
		for _, rows := range []int{1000, 20_000, 600_000} {
			for _, change := range all {
				s := ordinary
				s.Before, s.Rows, s.Change = before, rows, change
				if rows == 600_000 || before > 2_000_000 {
					s.Rounds = 1
				}
				add(s)
			}
		}
		for _, change := range []string{ChangedRandom, ChangedTenth, NoneChanged} {
			s := ordinary
			s.Before, s.Rows, s.Change, s.Rounds = before, before, change, 1
			s.Alone = before > 6_000_000
			if before == 2_000_000 || change == NoneChanged {
				add(s)
			}
		}
	}
	for _, of := range []struct {
		rows   int
		change string
	}{{20_000, AllNew}, {20_000, ChangedRandom}, {50_000_000, NoneChanged}} {
		s := ordinary
		s.Before, s.Rows, s.Change, s.Alone = 50_000_000, of.rows, of.change, true
		if of.rows > 20_000 {
			s.Rounds = 1
		}
		add(s)
	}
	vary := func(by func(*Shape)) {
		for _, rows := range []int{20_000, 600_000} {
			for _, change := range []string{AllNew, ChangedRandom, NoneChanged} {
				s := ordinary
				s.Before, s.Rows, s.Change, s.Rounds = 2_000_000, rows, change, 1
				by(&s)
				add(s)
			}
		}
	}
	vary(func(s *Shape) { s.Key = BigInteger })
	vary(func(s *Shape) { s.Key = UUID })
	vary(func(s *Shape) { s.Order = BySlot })
	vary(func(s *Shape) { s.Order = ByColumn })
	for _, columns := range []string{MostlyText, MostlyNumbers, MostlyTimes} {
		s := ordinary
		s.Columns, s.Rows, s.Change, s.Rounds = columns, 300_000, AllNew, 1
		add(s)
	}
	for _, format := range []string{"csv", "jsonl", "parquet"} {
		for _, files := range []struct{ n, rows int }{{1, 2_000_000}, {8, 250_000}, {150, 13_000}, {10_000, 100}} {
			s := ordinary
			s.Format, s.Files, s.Rows, s.Change, s.Rounds = format, files.n, files.rows, AllNew, 1
			add(s)
		}
	}
	large := ordinary
	large.Files, large.Rows, large.Change, large.Rounds = 8, 1_250_000, AllNew, 1
	add(large)
	return out
}

// kind is that of a column.
type kind byte

const (
	text kind = iota
	integer
	number
	instant
)

// fieldTypes are the types of a feed's fields, columnTypes those of a script's table.
var (
	fieldTypes  = [...]string{"string", "integer", "number", "datetime"}
	columnTypes = [...]string{"text", "bigint", "numeric", "timestamptz"}
)

// column is one of a file.
type column struct {
	name string
	kind kind
}

// key is what a key is made of.
type key struct {
	columns []column
	uuid    bool
	of      func(to [][]byte, k int) // the texts of the k-th key, into cells that may be used again
}

var keys = map[string]key{
	TextAndInteger: {columns: []column{{"site", text}, {"n", integer}}, of: func(to [][]byte, k int) {
		to[0] = appendPadded(append(to[0], 'S', 'R'), k%1000, 4)
		to[1] = strconv.AppendInt(to[1], int64(k/1000), 10)
	}},
	BigInteger: {columns: []column{{"id", integer}}, of: func(to [][]byte, k int) {
		to[0] = strconv.AppendInt(to[0], int64(k)*7, 10)
	}},
	UUID: {columns: []column{{"id", text}}, uuid: true, of: func(to [][]byte, k int) {
		sum := md5.Sum(strconv.AppendInt(nil, int64(k), 10))
		for i, part := range [][]byte{sum[:4], sum[4:6], sum[6:8], sum[8:10], sum[10:]} {
			if i > 0 {
				to[0] = append(to[0], '-')
			}
			to[0] = hex.AppendEncode(to[0], part)
		}
	}},
}

// columnsOf returns the columns of a shape: the key's first, then the one that changes.
func columnsOf(s Shape) []column {
	out := append([]column{}, keys[s.Key].columns...)
	out = append(out, column{"level", number})
	if s.Order == ByColumn {
		out = append(out, column{"revision", integer})
	}
	if s.Columns == Six {
		return append(out, column{"flow", number}, column{"quality", text}, column{"at", instant})
	}
	most := map[string]kind{MostlyText: text, MostlyNumbers: number, MostlyTimes: instant}[s.Columns]
	for i := len(out); i < 100; i++ {
		k := most
		if i%10 == 9 {
			k = kind(i / 10 % 4)
		}
		out = append(out, column{fmt.Sprintf("c%02d", i), k})
	}
	return out
}

// keyNames returns the names of a key's columns.
func keyNames(s Shape) (out []string) {
	for _, c := range keys[s.Key].columns {
		out = append(out, c.name)
	}
	return out
}

// appendPadded appends a number with leading zeros.
func appendPadded(to []byte, n, digits int) []byte {
	text := strconv.Itoa(n)
	for range digits - len(text) {
		to = append(to, '0')
	}
	return append(to, text...)
}

// appendCell appends the text of the i-th column that is not of the key, in the version of a row.
func appendCell(to []byte, c column, i, k, version int) []byte {
	switch c.kind {
	case text:
		return append(append(to, "grade "...), 'A'+byte((k+i)%5))
	case integer:
		return strconv.AppendInt(to, int64(version), 10)
	case number:
		to = strconv.AppendInt(to, int64((k+i*37)%4000), 10)
		if i == 0 { // the one that changes
			return appendPadded(append(to, '.'), version%100, 2)
		}
		return append(to, ".25"...)
	}
	second := (k + i*1000) % 500_000
	to = append(to, "2020-01-"...)
	to = appendPadded(to, 1+second/86_400, 2)
	to = appendPadded(append(to, 'T'), second/3600%24, 2)
	to = appendPadded(append(to, ':'), second/60%60, 2)
	return append(appendPadded(append(to, ':'), second%60, 2), 'Z')
}

// change says which keys the rows of a file have, and which of them are changed.
type change struct {
	key func(i, rows, before, round int) int // nil for keys that are not there yet
	is  func(i int) bool
}

var changes = map[string]change{
	AllNew: {nil, func(int) bool { return true }},
	ChangedRandom: {func(i, _, before, round int) int {
		const far = 7_368_787 // rows that follow each other lie so far apart
		return int((int64(i)*far + int64(round)*31) % int64(before))
	}, func(int) bool { return true }},
	ChangedSorted: {inOrder, func(int) bool { return true }},
	ChangedTenth:  {inOrder, func(i int) bool { return i%10 == 3 }},
	NoneChanged:   {inOrder, func(int) bool { return false }},
}

func inOrder(i, rows, before, round int) int { return (round*rows + i) % before }

// definition is the feed of a shape.
func definition(s Shape, name, table string) string {
	k := keys[s.Key]
	var fields, key strings.Builder
	for i, c := range columnsOf(s) {
		format := ""
		if k.uuid && i == 0 {
			format = ", format: uuid"
		}
		fmt.Fprintf(&fields, "    - {name: %s, type: %s%s}\n", c.name, fieldTypes[c.kind], format)
	}
	for _, c := range k.columns {
		fmt.Fprintf(&key, ", %s", c.name)
	}
	newest := map[string]string{ByArrival: "arrival", BySlot: "slot", ByColumn: "revision"}[s.Order]
	return fmt.Sprintf(`feed: %s
landing: {at: in/%[1]s, files: "{slot:%%Y%%m%%dT%%H%%M%%S}.%s", settle: 1s}
format: %[2]s
schema:
  fields:
%s  primaryKey: [%s]
target: {table: mullein_shapes.%s, newest: %s}
`, name, s.Format, fields.String(), strings.TrimPrefix(key.String(), ", "), table, newest)
}
