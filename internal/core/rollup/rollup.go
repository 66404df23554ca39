// Package rollup says what a derived table is: the file that describes one, and
// its errors.
//
// How a rollup is kept is in package table. Start at [Parse].
package rollup

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"maps"
	"regexp"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
)

// Rollup is a derived table: what a select gives, kept as a table, and recomputed
// for the keys that loads touched.
type Rollup struct {
	Name   string   `yaml:"rollup"`
	About  string   `yaml:"about"`
	Table  string   `yaml:"table"` // schema.table
	Key    []string `yaml:"key"`   // columns of the select that tell its rows apart
	Select string   `yaml:"select"`
	// From says, for each table that the select reads, which keys a row of it touches.
	From map[string]Source `yaml:"from"`
}

// Source says which keys the rows of a table touch: by Keys where the row alone tells
// them, else by Select.
type Source struct {
	Keys   map[string]string // for each column of the key, an SQL expression over the row
	Select string            // gives the columns of the key, for the rows of the relation touched
}

// UnmarshalYAML reads Keys from a mapping, and Select from a text.
func (s *Source) UnmarshalYAML(unmarshal func(any) error) error {
	if unmarshal(&s.Select) == nil {
		return nil
	}
	s.Select = ""
	return unmarshal(&s.Keys)
}

// MaxFile bounds a rollup's file, in bytes.
const MaxFile = 64 << 10

var (
	rollupName = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?$`)
	tableName  = regexp.MustCompile(`^[^."\x00]{1,63}\.[^."\x00]{1,63}$`)
)

// decode reads YAML. The library panics on some tags that nobody knows.
func decode(text []byte, r *Rollup) (err error) {
	defer func() {
		if recover() != nil {
			err = errors.New("it cannot be read as YAML; are there tags (!...) in it?")
		}
	}()
	return yaml.NewDecoder(bytes.NewReader(text), yaml.Strict()).Decode(r)
}

// Parse reads a rollup's file. Its errors name the file, and the line and column
// where they are known.
func Parse(file string, text []byte) (*Rollup, error) {
	if len(text) > MaxFile {
		return nil, fmt.Errorf("%s: a rollup's file of more than %d KiB", file, MaxFile>>10)
	}
	r := &Rollup{}
	if err := decode(text, r); err != nil {
		if errors.Is(err, io.EOF) {
			return nil, fmt.Errorf("%s:1:1: an empty file; a rollup has rollup, table, key, select and from", file)
		}
		return nil, fmt.Errorf("%s:%s", file, place(err))
	}
	var wrong []string
	say := func(format string, args ...any) { wrong = append(wrong, file+": "+fmt.Sprintf(format, args...)) }
	if !rollupName.MatchString(r.Name) {
		say("rollup: %q cannot be a rollup's name; use a-z, 0-9 and -, up to 63 characters", r.Name)
	}
	if !tableName.MatchString(r.Table) {
		say("table %q: write it as schema.table", r.Table)
	}
	if own(r.Table) || strings.HasPrefix(r.Table, "pg_") {
		say("table %q: its schema is not for data; choose another", r.Table)
	}
	if len(r.Key) == 0 {
		say("key is missing: the columns of the select that tell its rows apart")
	}
	if strings.TrimSpace(r.Select) == "" {
		say("select is missing: what the table holds")
	}
	if len(r.From) == 0 {
		say("from is missing: the tables that the select reads, and which keys a row of them touches")
	}
	for _, source := range slices.Sorted(maps.Keys(r.From)) {
		if !tableName.MatchString(source) {
			say("from.%s: write it as schema.table", source)
		}
		if own(source) {
			say("from.%s: what Mullein keeps for itself is not for rollups", source)
		}
		if source == r.Table {
			say("from.%s: a rollup cannot read itself", source)
		}
		if strings.TrimSpace(r.From[source].Select) != "" {
			continue
		}
		of := r.From[source].Keys
		for _, k := range r.Key {
			if strings.TrimSpace(of[k]) == "" {
				say("from.%s.%s is missing: an SQL expression over a row of %s that gives the %s that it touches; or "+
					"write a select over touched in place of from.%[1]s",
					source, k, source, k)
			}
		}
		for _, k := range slices.Sorted(maps.Keys(of)) {
			if !slices.Contains(r.Key, k) {
				say("from.%s.%s: the key (%s) has no such column", source, k, strings.Join(r.Key, ", "))
			}
		}
	}
	if len(wrong) > 0 {
		return nil, errors.New(strings.Join(wrong, "\n"))
	}
	return r, nil
}

// own reports whether a table is one of Mullein's records.
func own(table string) bool {
	return strings.HasPrefix(table, "mullein.") || strings.HasPrefix(table, "mullein_records.")
}

var placed = regexp.MustCompile(`^\[(\d+):(\d+)\] ([^\n]*)`)

// place turns the decoder's [line:column] into ours.
func place(err error) string {
	if m := placed.FindStringSubmatch(err.Error()); m != nil {
		return m[1] + ":" + m[2] + ": " + m[3]
	}
	first, _, _ := strings.Cut(err.Error(), "\n")
	return "1:1: " + first
}
