package bench

import (
	"bufio"
	"crypto/md5"
	"encoding/hex"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// shapesBefore is how many rows tables have before, MULLEIN_SHAPES or 2 and 6 million.
var shapesBefore = func() (out []int) {
	for _, text := range strings.Split(os.Getenv("MULLEIN_SHAPES"), ",") {
		if n, err := strconv.Atoi(text); err == nil {
			out = append(out, n)
		}
	}
	if out == nil {
		return []int{2_000_000, 6_000_000}
	}
	return out
}()

// keyKind is what the key of a table is made of.
type keyKind struct {
	name    string
	fields  string // of the feed's schema
	columns string
	of      func(k int) string // the cells of a key, by tabs
}

var keyKinds = []keyKind{
	{"text and integer", "{name: site}, {name: n, type: integer}", "site, n",
		func(k int) string { return fmt.Sprintf("SR%04d\t%d", k%1000, k/1000) }},
	{"bigint", "{name: id, type: integer}", "id", func(k int) string { return strconv.Itoa(k * 7) }},
	{"uuid", "{name: id, type: string, format: uuid}", "id", func(k int) string {
		s := md5.Sum([]byte(strconv.Itoa(k)))
		h := hex.EncodeToString(s[:])
		return h[:8] + "-" + h[8:12] + "-" + h[12:16] + "-" + h[16:20] + "-" + h[20:]
	}},
}

// change says which keys the rows of a file have, and which of them are changed.
type change struct {
	name string
	keys func(i, rows, before, round int) int // nil for keys that are not there yet
	is   func(i int) bool
}

var changes = []change{
	{"all new", nil, func(int) bool { return true }},
	{"all changed, keys at random", func(i, _, before, round int) int {
		const far = 7_368_787 // rows that follow each other lie so far apart
		return int((int64(i)*far + int64(round)*31) % int64(before))
	}, func(int) bool { return true }},
	{"all changed, keys in order", func(i, rows, before, round int) int { return (round*rows + i) % before },
		func(int) bool { return true }},
	{"10 % changed", func(i, rows, before, round int) int { return (round*rows + i) % before },
		func(i int) bool { return i%10 == 3 }},
	{"none changed", func(i, rows, before, round int) int { return (round*rows + i) % before },
		func(int) bool { return false }},
}

// shaped is a table beside one that a script keeps, with the version that each key has.
type shaped struct {
	*bench
	kind    keyKind
	feed    string
	table   string
	version []byte // of each key that is there
	slots   int
}

// write makes a file for Mullein, and the same rows as the script is given them.
func (s *shaped) write(rows int, key func(i int) int, changed func(i int) bool) (csv, ready string) {
	csv, ready = filepath.Join(s.dir, "shape.csv"), filepath.Join(s.dir, "shape.tsv")
	_ = os.Remove(csv) // files at the landing are links to it
	var out [2]*bufio.Writer
	for i, path := range []string{csv, ready} {
		file, err := os.Create(path)
		require.NoError(s.b, err)
		defer file.Close()
		out[i] = bufio.NewWriterSize(file, 1<<20)
	}
	fmt.Fprintf(out[0], "%s,level,flow,quality,at\n", strings.ReplaceAll(s.kind.columns, " ", ""))
	for i := range rows {
		k := key(i)
		if k == len(s.version) {
			s.version = append(s.version, 0)
		}
		if changed(i) {
			s.version[k]++
		}
		v := int(s.version[k])
		at := time.Date(2020, 1, 1, 0, 0, k%500_000, 0, time.UTC).Format("2006-01-02T15:04:05Z")
		cells := fmt.Sprintf("%s\t%d.%02d\t%d.5\t%c\t%s", s.kind.of(k), k%4000, v%100, (k+v)%900, 'A'+k%5, at)
		fmt.Fprintln(out[0], strings.ReplaceAll(cells, "\t", ","))
		fmt.Fprintf(out[1], "%s\tshape.csv\t%d\t1\t1\t2026-01-01T00:00:00Z\t\\\\x01%032x\n", cells, i+2, k)
	}
	require.NoError(s.b, out[0].Flush())
	require.NoError(s.b, out[1].Flush())
	return csv, ready
}

// loaded hands a file to Mullein.
func (s *shaped) loaded(csv string) time.Duration {
	s.slots++
	took, _ := s.load(s.feed, csv, time.Date(2026, 1, 1, 0, s.slots, 0, 0, time.UTC).Format("20060102T1504"))
	return took
}

// shape makes a table of so many rows, by Mullein, and the script's like it.
func (h *bench) shape(kind keyKind, before int) *shaped {
	s := &shaped{bench: h, kind: kind}
	s.feed = fmt.Sprintf("shape-%s-%d", strings.ReplaceAll(kind.name, " ", "-"), before)
	s.table = strings.ReplaceAll(s.feed, "-", "_")
	_, err := h.client.PutFeed(h.ctx, s.feed, s.feed+".yaml", fmt.Sprintf(`feed: %s
landing: {at: in, files: "%[1]s_K1_{slot:%%Y%%m%%dT%%H%%M}.csv", settle: 1s}
schema:
  fields: [%s, {name: level, type: number}, {name: flow, type: number}, {name: quality}, {name: at, type: datetime}]
  primaryKey: [%s]
target: {table: river.%s}
`, s.feed, kind.fields, kind.columns, s.table))
	require.NoError(h.b, err)
	csv, _ := s.write(before, func(i int) int { return i }, func(int) bool { return true })
	s.loaded(csv)
	h.exec("CREATE TABLE river." + s.script() + " (LIKE river." + s.table + " INCLUDING ALL)")
	h.exec("INSERT INTO river." + s.script() + " SELECT * FROM river." + s.table)
	return s
}

func (s *shaped) script() string { return s.table + "_script" }

// BenchmarkShapes prints a table of how Mullein fares beside the script for files and tables
// of many shapes, with the journal kept. A cell is a benchmark of its own:
// -bench 'Shapes/6000000/uuid/20000/none' runs some.
func BenchmarkShapes(b *testing.B) {
	var cells []string
	for _, before := range shapesBefore {
		for _, kind := range keyKinds {
			b.Run(fmt.Sprintf("%d/%s", before, kind.name), func(b *testing.B) {
				s := start(b).shape(kind, before)
				for _, rows := range []int{1000, 20_000, 600_000, before} {
					for _, c := range changes {
						if rows > before || rows == before && c.name == "all new" {
							continue
						}
						b.Run(fmt.Sprintf("%d/%s", rows, c.name), func(b *testing.B) {
							cell := s.measure(before, rows, c)
							b.Log(cell)
							cells = append(cells, cell)
						})
					}
				}
			})
		}
	}
	fmt.Println("| rows before | key | rows of the file | of these | Mullein, s | script, s | times as fast |")
	fmt.Println("|---|---|---|---|---|---|---|")
	fmt.Println(strings.Join(cells, "\n"))
}

// measure returns a cell: interleaved rounds of both.
func (s *shaped) measure(before, rows int, c change) string {
	var f figures
	first := rand.IntN(1000)
	for round := range rounds {
		there := len(s.version)
		csv, ready := s.write(rows, func(i int) int {
			if c.keys == nil {
				return there + i
			}
			return c.keys(i, rows, before, first+round)
		}, c.is)
		s.exec("ANALYZE river." + s.table)
		s.exec("ANALYZE river." + s.script())
		s.quiet()
		f.mine = append(f.mine, s.loaded(csv))
		s.quiet()
		f.base = append(f.base, s.byHand(ready, s.script(), s.kind.columns))
	}
	mine, base := median(f.mine).Seconds(), median(f.base).Seconds()
	return fmt.Sprintf("| %d | %s | %d | %s | %.2f | %.2f | %.2f |", before, s.kind.name, rows, c.name, mine, base,
		base/mine)
}
