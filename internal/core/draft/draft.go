package draft

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"mullein/internal/core/decode"
	"mullein/internal/core/tabular"
)

// Sample is a file to propose a feed from.
type Sample struct {
	Path string // below the landing; of a file in a zip, the zip's path stands before it
	// Open returns the file from its beginning, and how to close it. It may be
	// called several times.
	Open func() (source decode.Source, done func(), err error)
}

// Feed is a proposal.
type Feed struct {
	Name  string
	Text  string   // of the feed file
	Files []string // the samples that it was made from
}

const (
	rowsLooked  = 5000 // of a sample
	filesLooked = 8    // of a kind
	// MaxSamples bounds how many files are looked at.
	MaxSamples = 2000
)

// kind is samples of one structure.
type kind struct {
	shape shape
	paths []string
	table *table
}

// Propose makes a feed for each kind of file among the samples, by name and
// structure. at is the landing folder that the proposals name. Files that
// cannot be read are given with their reason.
func Propose(samples []Sample, at string) (feeds []Feed, unread map[string]error, err error) {
	unread = map[string]error{}
	samples = unzipped(samples, unread)
	if len(samples) > MaxSamples {
		return nil, nil, fmt.Errorf("%d files; %d are the most to draft from at once", len(samples), MaxSamples)
	}
	slices.SortFunc(samples, func(a, b Sample) int { return strings.Compare(a.Path, b.Path) })
	kinds := map[string]*kind{}
	var order []string
	for _, s := range samples {
		sh, err := look(s)
		if err != nil {
			unread[s.Path] = err
			continue
		}
		_, form := dated(tail(s.Path))
		key := sh.key() + "\x00" + form
		k := kinds[key]
		if k == nil {
			k = &kind{shape: sh, table: &table{}}
			kinds[key] = k
			order = append(order, key)
		}
		k.paths = append(k.paths, s.Path)
		if len(k.paths) > filesLooked {
			continue
		}
		if err := k.table.read(s, &k.shape); err != nil {
			unread[s.Path] = err
			k.paths = k.paths[:len(k.paths)-1]
		}
	}
	taken := map[string]bool{}
	for _, key := range order {
		k := kinds[key]
		if len(k.paths) == 0 {
			continue
		}
		if len(k.table.columns) == 0 {
			unread[k.paths[0]] = errors.New("no columns were found in it")
			continue
		}
		name := feedName(k.paths)
		for n := 2; taken[name]; n++ {
			name = fmt.Sprintf("%s-%d", strings.TrimRight(name, "-0123456789"), n)
		}
		taken[name] = true
		feeds = append(feeds, Feed{Name: name, Text: k.write(name, at), Files: k.paths})
	}
	if len(feeds) == 0 && len(unread) == 0 {
		return nil, nil, errors.New("no files to draft a feed from")
	}
	return feeds, unread, nil
}

// table collects what the columns of a kind hold.
type table struct {
	columns []*column
	rows    int
	each    string // the array of records that becomes rows; "" for none
	keys    []keyTry
}

// read adds the rows of a sample.
func (t *table) read(s Sample, sh *shape) error {
	source, done, err := s.Open()
	if err != nil {
		return err
	}
	defer done()
	rows, err := decode.Open(source, sh.how())
	if err != nil {
		return err
	}
	header, err := rows.Header()
	if err != nil {
		return err
	}
	if selector, ok := rows.(decode.Selector); ok {
		return t.readTrees(selector, header, sh)
	}
	if header == nil {
		header = sh.header
	}
	for i := len(t.columns); i < len(header); i++ {
		t.columns = append(t.columns, newColumn(header[i]))
	}
	for n := 0; n < rowsLooked; n++ {
		rec, err := rows.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return err
		}
		if rec.Problem != "" {
			continue
		}
		t.rows++
		for i, c := range t.columns {
			switch {
			case i < len(rec.Cells):
				c.text(string(rec.Cells[i]))
			case i < len(rec.Values):
				c.value(&rec.Values[i])
			default:
				c.blank("")
			}
		}
		t.note()
	}
	return nil
}

// readTrees adds records, each flattened into columns with paths.
func (t *table) readTrees(rows decode.Selector, header []string, sh *shape) error {
	sources := make([]string, len(header))
	for i, name := range header {
		sources[i] = pathOf([]string{name})
	}
	if err := rows.Select(sources); err != nil {
		return err
	}
	for n := 0; n < rowsLooked; n++ {
		rec, err := rows.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		if rec.Problem != "" {
			continue
		}
		flat, repeats := flatten(header, rec.Values)
		if t.each == "" && t.rows == 0 {
			t.each = repeats.path
			sh.each = t.each
		}
		if t.each == "" || repeats.path != t.each {
			t.add(flat)
			continue
		}
		for _, element := range repeats.elements {
			t.add(append(slices.Clone(flat), element...))
		}
	}
	return nil
}

// add adds a flattened row.
func (t *table) add(row []cell) {
	t.rows++
	for _, c := range row {
		at := slices.IndexFunc(t.columns, func(k *column) bool { return k.source == c.path })
		if at < 0 {
			at = len(t.columns)
			t.columns = append(t.columns, newColumn(c.path))
		}
		t.columns[at].value(&c.value)
	}
	for _, c := range t.columns {
		if c.seen < t.rows {
			for c.seen < t.rows {
				c.blank("")
			}
		}
	}
	t.note()
}

// cell is a value of a flattened record.
type cell struct {
	path  string
	value tabular.Value
}
