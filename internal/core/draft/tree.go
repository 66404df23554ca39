package draft

import (
	"bytes"
	"encoding/json"
	"io"
	"regexp"
	"slices"
	"strings"

	"mullein/internal/core/decode"
	"mullein/internal/core/tabular"
)

// node is a place in records: what stood there, and below it.
type node struct {
	keys    []string // from the top
	scalars int
	lists   int
	records int // lists of records among lists
	objects int
	nulls   int
	seen    int // records that have it
	parts   []*node
	index   map[string]*node
	items   *node        // of a list of records
	rare    bool         // some records lack the key at the top that it is below
	whole   bool         // it is a map, or of several types by its schema
	kind    tabular.Kind // by the schema of the file; Null where it has none
}

// last is the name of a place.
func (n *node) last() string {
	if len(n.keys) == 0 {
		return ""
	}
	return n.keys[len(n.keys)-1]
}

func (n *node) part(key string) *node {
	if p := n.index[key]; p != nil {
		return p
	}
	if len(n.parts) >= maxParts {
		n.whole = true
		return nil
	}
	p := &node{keys: append(slices.Clone(n.keys), key)}
	if n.index == nil {
		n.index = map[string]*node{}
	}
	n.index[key] = p
	n.parts = append(n.parts, p)
	return p
}

const (
	maxParts      = 5000 // of a record
	maxLevels     = 16
	recordsWalked = 20_000   // of a file, whose structure is looked at
	bytesWalked   = 16 << 20 // of a file
	maxFlat       = 4        // levels of records that become columns
)

// walk looks at the structure of the records of a file, and returns how many there are.
func (n *node) walk(s Sample, sh *shape) (records int, err error) {
	source, done, err := s.Open()
	if err != nil {
		return 0, err
	}
	defer done()
	rows, err := decode.Open(source, sh.how())
	if err != nil {
		return 0, err
	}
	if _, err := rows.Header(); err != nil {
		return 0, err
	}
	if typed, ok := rows.(decode.Typed); ok {
		n.take(typed.Structure())
		return 0, nil
	}
	selector, ok := rows.(decode.Selector)
	if !ok {
		return 0, nil
	}
	if err := selector.Select([]string{"*"}); err != nil {
		return 0, err
	}
	size := 0
	for records < recordsWalked && size < bytesWalked {
		rec, err := rows.Next()
		if err == io.EOF {
			return records, nil
		}
		if err != nil {
			return records, err
		}
		if rec.Problem != "" {
			continue
		}
		records++
		size += len(rec.Values[0].B)
		n.value(rec.Values[0].B, 0)
	}
	return records, nil
}

// take takes the structure that a file itself has.
func (n *node) take(nodes []decode.Node) {
	n.objects++
	for _, d := range nodes {
		p := n.part(d.Name)
		if p == nil {
			return
		}
		p.seen++
		switch {
		case d.Parts != nil:
			p.take(d.Parts)
		case d.Kind == tabular.JSON:
			if p.whole = true; d.List {
				p.lists++
			}
		default:
			p.scalars++
		}
		p.kind = d.Kind
	}
}

// value takes a value as it stands in JSON.
func (n *node) value(text []byte, level int) {
	text = bytes.TrimSpace(text)
	n.seen++
	switch {
	case len(text) == 0 || text[0] == 'n':
		n.nulls++
	case text[0] == '{' && level < maxLevels:
		n.objects++
		n.members(text, level)
	case text[0] == '{':
		n.whole = true
	case text[0] == '[':
		n.list(text, level)
	default:
		n.scalars++
	}
}

func (n *node) members(text []byte, level int) {
	d := json.NewDecoder(bytes.NewReader(text))
	if _, err := d.Token(); err != nil {
		return
	}
	for d.More() {
		key, err := d.Token()
		if err != nil {
			return
		}
		var value json.RawMessage
		if d.Decode(&value) != nil {
			return
		}
		name, _ := key.(string)
		if p := n.part(name); p != nil {
			p.value(value, level+1)
		}
	}
}

func (n *node) list(text []byte, level int) {
	n.lists++
	d := json.NewDecoder(bytes.NewReader(text))
	if _, err := d.Token(); err != nil {
		return
	}
	for first := true; d.More(); first = false {
		var item json.RawMessage
		if d.Decode(&item) != nil {
			return
		}
		item = bytes.TrimSpace(item)
		if len(item) == 0 || item[0] != '{' || level >= maxLevels {
			return
		}
		if first {
			n.records++
		}
		if n.items == nil {
			n.items = &node{keys: slices.Clone(n.keys)}
		}
		n.items.value(item, level+1)
	}
}

// isData are keys that are rather data than names.
var isData = regexp.MustCompile(`^[0-9][0-9.:_/-]*$|^[0-9a-fA-F-]{16,}$|^(19|20)\d\d-\d\d`)

// isMap reports whether the keys of objects are data: a map, which stays whole.
func (n *node) isMap() bool {
	if n.whole {
		return true
	}
	const many = 40
	data, filled := 0, 0
	for _, p := range n.parts {
		if isData.MatchString(p.last()) {
			data++
		}
		filled += p.seen
	}
	return data*3 > len(n.parts)*2 || len(n.parts) > many && filled*4 < len(n.parts)*n.objects
}

// scalar reports whether all below is single values, at most so many levels deep.
func (n *node) scalar(levels int) bool {
	if n.lists > 0 || n.whole {
		return false
	}
	if n.objects == 0 {
		return true
	}
	if n.scalars > 0 || levels == 0 || n.isMap() || len(n.parts) == 0 {
		return false
	}
	return !slices.ContainsFunc(n.parts, func(p *node) bool { return !p.scalar(levels - 1) })
}

// leaves adds the columns that a record becomes: its single values, what is below records of
// nothing else, and everything else as it is.
func (n *node) leaves(out []*node) []*node {
	for _, p := range n.parts {
		if p.objects > 0 && p.scalar(maxFlat) {
			out = p.leaves(out)
			continue
		}
		out = append(out, p)
	}
	return out
}

// body finds the one list of records that is evidently what a document is about, beside a
// few single values; nil where there is none.
func (n *node) body() *node {
	if n.objects != 1 && n.whole || n.isMap() {
		return nil
	}
	const few = 15
	var found *node
	beside := 0
	ok := true
	var look func(n *node, level int)
	look = func(n *node, level int) {
		for _, p := range n.parts {
			switch {
			case p.records > 0 && p.records == p.lists && p.scalars == 0 && p.objects == 0:
				ok = ok && found == nil
				found = p
			case p.lists > 0 && p.records == 0:
				beside++ // a short list of single values, such as a box
			case p.lists > 0 || p.isMap() && len(p.parts) > 0:
				ok = false
			case p.objects > 0 && level > 0:
				look(p, level-1)
			case p.objects > 0:
				ok = false
			default:
				beside++
			}
		}
	}
	look(n, 2)
	if !ok || found == nil || beside > few {
		return nil
	}
	return found
}

// pathOf writes keys as a source: with dots between, or as a JSON Pointer where a
// key could not stand so.
func pathOf(keys []string) string {
	pointer := ""
	plain := true
	for _, k := range keys {
		plain = plain && k != "" && k != "*" && !strings.ContainsAny(k, "./")
		pointer += "/" + strings.NewReplacer("~", "~0", "/", "~1").Replace(k)
	}
	if plain {
		return strings.Join(keys, ".")
	}
	return pointer
}
