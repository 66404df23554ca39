package landing

import (
	"cmp"
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
	Again  []int // the further lines that name it
}

// MaxList bounds a list of a delivery, in bytes.
const MaxList = 8 << 20

// ReadList reads a list of up to most files: a path a line, below the list's folder, then, if they
// are known, its size and its SHA-256, with tabs, commas or semicolons between. A file
// that it names twice is one file.
func ReadList(at, text string, most int) ([]Listed, error) {
	var out []Listed
	place := map[string]int{}
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
		first, twice := place[l.Path]
		if !twice {
			place[l.Path] = len(out)
			out = append(out, l)
			continue
		}
		f := &out[first]
		if f.Size >= 0 && l.Size >= 0 && f.Size != l.Size || f.SHA256 != "" && l.SHA256 != "" && f.SHA256 != l.SHA256 {
			return nil, fmt.Errorf("line %d names %s again, with another size or SHA-256", i+1, l.Path)
		}
		f.Size, f.SHA256, f.Again = max(f.Size, l.Size), cmp.Or(f.SHA256, l.SHA256), append(f.Again, i+1)
	}
	switch {
	case len(out) == 0:
		return nil, errors.New("it names no files")
	case len(out) > most:
		return nil, fmt.Errorf("it names %d files; %d are the most", len(out), most)
	}
	return out, nil
}
