package landing

import (
	"errors"
	"fmt"
	"path"
	"strconv"
	"strings"
)

// Listed is one line of a list of a delivery.
type Listed struct {
	Path   string
	Size   int64 // -1 where the list does not say
	SHA256 string
}

// MaxList bounds a list of a delivery, in bytes.
const MaxList = 8 << 20

// ReadList reads a list of up to most files: a path a line, below the list's folder, then, if they
// are known, its size and its SHA-256, with tabs, commas or semicolons between.
func ReadList(at, text string, most int) ([]Listed, error) {
	var out []Listed
	for i, line := range strings.Split(strings.TrimPrefix(text, "\ufeff"), "\n") {
		line = strings.TrimSpace(line)
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		cells := strings.FieldsFunc(line, func(r rune) bool { return r == '\t' || r == ',' || r == ';' })
		if len(cells) == 0 || strings.TrimSpace(cells[0]) == "" {
			return nil, fmt.Errorf("line %d names no file", i+1)
		}
		l := Listed{Path: path.Join(path.Dir(at), strings.TrimSpace(cells[0])), Size: -1}
		if l.Path == ".." || strings.HasPrefix(l.Path, "../") || strings.HasPrefix(strings.TrimSpace(cells[0]), "/") {
			return nil, fmt.Errorf("line %d: %q lies outside of the landing", i+1, cells[0])
		}
		for _, cell := range cells[1:] {
			cell = strings.ToLower(strings.TrimSpace(cell))
			switch size, err := strconv.ParseInt(cell, 10, 64); {
			case err == nil && size >= 0 && len(cell) < 20:
				l.Size = size
			case len(cell) == 64 && strings.Trim(cell, "0123456789abcdef") == "":
				l.SHA256 = cell
			case cell != "":
				return nil, fmt.Errorf("line %d: %q is neither a size nor a SHA-256", i+1, cell)
			}
		}
		out = append(out, l)
	}
	switch {
	case len(out) == 0:
		return nil, errors.New("it names no files")
	case len(out) > most:
		return nil, fmt.Errorf("it names %d files; %d are the most", len(out), most)
	}
	return out, nil
}
