package draft

import (
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// footerWord begins lines at the end of files that are no rows.
var footerWord = regexp.MustCompile(`(?i)^["' ]*(grand )?(totals?|sums?|summe|gesamt|end|eof|trailer|trl|footer|rows?|records?|` +
	`count|anzahl|source|quelle|notes?)\b`)

// cutFooter takes the lines off the last rows of a file that are no rows.
func (f *readFile) cutFooter(t *table, last []heldRow, at []int, sh *shape) []heldRow {
	for len(last) > 0 {
		row := last[len(last)-1]
		if !f.isFooter(t, row, last[:len(last)-1], at, sh) {
			break
		}
		f.footer = append([]string{row.raw}, f.footer...)
		last = last[:len(last)-1]
	}
	return last
}

func (f *readFile) isFooter(t *table, row heldRow, before []heldRow, at []int, sh *shape) bool {
	texts := make([]string, len(row.cells))
	for i, c := range row.cells {
		texts[i] = strings.TrimSpace(string(c))
	}
	if len(texts) == 0 || t.rows-f.from+len(before) < 2 {
		return false
	}
	full, cells := filled(texts), len(t.columns)
	word := footerWord.MatchString(row.raw)
	usual := cells
	if len(f.first) > 0 {
		usual = filled(strings.Split(f.first[len(f.first)-1], sh.dialect.Delimiter))
	}
	switch {
	case sh.widths != nil:
		return word
	case len(texts) < cells && full*2 <= usual && cells > 1:
		return true
	case word && full < usual:
		return true
	}
	return (word || texts[0] == "" && len(t.columns) > 0 && t.columns[0].blanks[""] == 0) && f.sumsUp(texts, before, at)
}

// sumsUp reports whether a cell is the sum of its column.
func (f *readFile) sumsUp(texts []string, before []heldRow, at []int) bool {
	for i, sum := range f.allSums(before, at) {
		if at[i] < 0 || at[i] >= len(texts) {
			continue
		}
		if x, ok := number(texts[at[i]]); ok && x != 0 && near(x, sum) {
			return true
		}
	}
	return false
}

// allSums returns the sums of the columns, with those of rows that were not added yet.
func (f *readFile) allSums(before []heldRow, at []int) []float64 {
	sums := slices.Clone(f.sums)
	for _, row := range before {
		for i := range sums {
			if at[i] >= 0 && at[i] < len(row.cells) {
				if x, ok := number(string(row.cells[at[i]])); ok {
					sums[i] += x
				}
			}
		}
	}
	return sums
}

func near(a, b float64) bool { return a-b < 1e-6*max(1, a, -a) && b-a < 1e-6*max(1, a, -a) }

var numberInText = regexp.MustCompile(`[+-]?[0-9]+(?:[.,][0-9]+)*`)

// trailer writes the check of the last line of all files, as a regular expression; "" where
// they have none, or not all.
func (t *table) trailer(types []found, names []string) (line, note string) {
	var found string
	for i := range t.files {
		f := &t.files[i]
		if f.short {
			continue
		}
		if len(f.footer) == 0 {
			if found != "" {
				return "", "uncertain: some files end in a line that is no row, and others do not"
			}
			continue
		}
		used := map[string]bool{}
		var lines []string
		for _, raw := range f.footer {
			lines = append(lines, f.footerPattern(raw, t, types, names, used))
		}
		one := "^" + strings.Join(slices.Compact(lines), "|") + "$"
		if len(lines) > 1 {
			one = "^(?:" + strings.Join(slices.Compact(lines), "|") + ")$"
		}
		if found != "" && found != one {
			return found, "uncertain: the last lines of files differ"
		}
		found = one
	}
	if found == "" {
		return "", ""
	}
	re, err := regexp.Compile(found)
	for i := range t.files {
		if err != nil || slices.ContainsFunc(t.files[i].first, re.MatchString) {
			return "", "uncertain: files end in a line that is no row, and looks like one"
		}
		if f := &t.files[i]; !f.short && len(f.footer) == 0 {
			return "", "uncertain: some files end in a line that is no row, and others do not"
		}
	}
	return found, "a last line that is no row"
}

// footerPattern makes an expression of a line: its numbers become the number of rows, or
// the sum of a column, where that is what they are. used are the groups that other lines have.
func (f *readFile) footerPattern(raw string, t *table, types []found, names []string,
	used map[string]bool) string {
	var b strings.Builder
	from := 0
	for _, at := range numberInText.FindAllStringIndex(raw, -1) {
		b.WriteString(regexp.QuoteMeta(raw[from:at[0]]))
		text := raw[at[0]:at[1]]
		from = at[1]
		group := ""
		if n, err := strconv.Atoi(text); err == nil && n == f.to-f.from {
			group = "rows"
		} else if x, ok := number(text); ok && x != 0 {
			for i, sum := range f.sums {
				if (types[i].kind == "integer" || types[i].kind == "number") && near(x, sum) {
					group = names[i]
					break
				}
			}
		}
		switch {
		case group == "" || used[group]:
			b.WriteString(`[-+0-9.,]+`)
		case group == "rows":
			b.WriteString(`(?P<rows>[0-9]+)`)
		default:
			b.WriteString(`(?P<` + group + `>[-+0-9.,]+)`)
		}
		used[group] = true
	}
	b.WriteString(regexp.QuoteMeta(raw[from:]))
	return b.String()
}
