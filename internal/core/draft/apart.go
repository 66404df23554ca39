package draft

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"
)

var textCapture = regexp.MustCompile(`\{[a-z_0-9]+\}`)

// tellApart has the patterns of kinds take their own files only: by what varies in the
// names, where each kind has few values of its own, else by the columns.
func tellApart(kinds []*kind) {
	for _, k := range kinds {
		var others []string
		var rivals []*kind
		for _, other := range kinds {
			if other == k {
				continue
			}
			taken := false
			for _, p := range spread(other.paths, filesLooked) {
				if _, fits := k.naming.pattern.Match(p, time.UTC); fits {
					others, taken = append(others, p), true
				}
			}
			if taken {
				rivals = append(rivals, other)
			}
		}
		if len(others) > 0 && !k.byName(others) {
			k.byColumns(rivals)
		}
	}
}

// byName names the values of one capture in the pattern, if that keeps others out.
func (k *kind) byName(others []string) bool {
	const most = 8
	text := k.naming.pattern.String()
	for _, at := range textCapture.FindAllStringIndex(text, -1) {
		name := text[at[0]+1 : at[1]-1]
		var values []string
		for _, p := range k.paths {
			captures, ok := k.naming.pattern.Match(p, time.UTC)
			if value, isText := captures[name].(string); ok && isText && !slices.Contains(values, literal(value)) {
				values = append(values, literal(value))
			}
			if len(values) > most {
				break
			}
		}
		if len(values) == 0 || len(values) > most {
			continue
		}
		slices.Sort(values)
		with := values[0]
		if len(values) > 1 {
			with = "(" + strings.Join(values, "|") + ")"
		}
		pattern, err := k.naming.compile(text[:at[0]] + with + text[at[1]:])
		if err != nil || slices.ContainsFunc(others, func(p string) bool {
			_, fits := pattern.Match(p, time.UTC)
			return fits
		}) {
			continue
		}
		k.naming.pattern = pattern
		k.naming.captures = slices.DeleteFunc(k.naming.captures, func(c string) bool { return c == name })
		k.naming.notes = append(k.naming.notes, "the names of files of another kind differ in nothing else")
		if len(values) == 1 {
			k.naming.words = append(k.naming.words, values[0])
		}
		return true
	}
	return false
}

// byColumns has the feed look at the columns of a file.
func (k *kind) byColumns(rivals []*kind) {
	var own []string
	for _, h := range k.shape.header {
		if !slices.ContainsFunc(rivals, func(r *kind) bool { return slices.Contains(r.shape.header, h) }) {
			own = append(own, h)
		}
	}
	const few = 3
	switch {
	case len(own) > 0 && (k.shape.dialect.Header || k.shape.format.Trees()):
		for i, name := range own {
			own[i] = quoted(name)
		}
		k.withColumns = "[" + strings.Join(own[:min(len(own), few)], ", ") + "]"
	default:
		k.withColumns = fmt.Sprint(len(k.shape.header))
	}
}
