package decode

import (
	"fmt"

	"mullein/internal/core/tabular"
)

// nest takes what is wanted out of records that hold records, and makes a row of each
// element of an array in them, where the feed says so. JSON is taken apart here; other
// formats fill the values themselves and hand in their elements as JSON.
type nest struct {
	root   *branch
	values []tabular.Value // of the row at hand

	path     string   // of the elements; "" where a record is one row
	of       *branch  // their node; nil where a record is one row
	ofEach   []int    // the values of elements
	elements jsonText // of the record at hand
	element  int      // the number of the one at hand, from 0
	open     bool     // there may be more of them
}

// newNest wants the values of sources, of each element at a path.
func newNest(sources []string, each string) (nest, error) {
	root, err := tree(sources, each)
	if err != nil {
		return nest{}, err
	}
	n := nest{root: root, path: each, of: root.elements(), values: make([]tabular.Value, len(sources))}
	if n.of != nil {
		n.ofEach = n.of.all()
	}
	return n, nil
}

// reset makes ready for the next record.
func (n *nest) reset() {
	clear(n.values)
	n.elements, n.element, n.open = jsonText{}, -1, false
}

// begin takes the elements of the record, an array.
func (n *nest) begin(array []byte) {
	n.elements.begin(array)
	n.elements.open = '['
	n.element, n.open = -1, true
}

// oneRow reports whether a record is one row.
func (n *nest) oneRow() bool { return n.of == nil }

// object takes what is wanted of the members of an object.
func (n *nest) object(t *jsonText, b *branch) error {
	b.next = 0
	return t.members(func(key []byte) error { return n.take(t, b.find(key)) })
}

// take takes what is wanted of the value that stands next.
func (n *nest) take(t *jsonText, b *branch) error {
	if b == nil {
		return t.skip()
	}
	t.space()
	begin := t.at
	first := t.peek()
	if b.each {
		if err := t.skip(); err != nil {
			return err
		}
		switch first {
		case '[':
			n.begin(t.b[begin:t.at])
		case 'n':
		default:
			return fmt.Errorf("%s is not an array", n.path)
		}
		return nil
	}
	if len(b.children) > 0 && first == '{' {
		if err := n.object(t, b); err != nil {
			return err
		}
		for _, i := range b.wanted {
			n.values[i] = tabular.Value{Kind: tabular.JSON, B: t.b[begin:t.at]}
		}
		return nil
	}
	if len(b.wanted) == 0 {
		return t.skip()
	}
	v := &n.values[b.wanted[0]]
	if v.Kind != tabular.Null {
		return fmt.Errorf("%q stands twice in the record", b.key)
	}
	if err := t.value(v); err != nil {
		return err
	}
	for _, i := range b.wanted[1:] {
		n.values[i] = *v
	}
	return nil
}

// next makes a row of the next element of the record at hand; more is false where
// there is none.
func (n *nest) next() (more bool, err error) {
	if !n.open {
		return false, nil
	}
	more, err = n.one()
	n.open = more && err == nil
	return more, err
}

func (n *nest) one() (bool, error) {
	t := &n.elements
	more, err := t.more(']')
	if err != nil || !more {
		return false, err
	}
	if n.element++; n.element > MaxElement {
		return false, fmt.Errorf("more than %d elements in one record", MaxElement+1)
	}
	for _, i := range n.ofEach {
		n.values[i] = tabular.Value{}
	}
	t.space()
	if t.peek() == '{' && len(n.of.children) > 0 {
		begin := t.at
		if err := n.object(t, n.of); err != nil {
			return false, err
		}
		for _, i := range n.of.wanted {
			n.values[i] = tabular.Value{Kind: tabular.JSON, B: t.b[begin:t.at]}
		}
		return true, nil
	}
	if len(n.of.wanted) == 0 {
		return true, t.skip()
	}
	var v tabular.Value
	if err := t.value(&v); err != nil {
		return false, err
	}
	for _, i := range n.of.wanted {
		n.values[i] = v
	}
	return true, nil
}

// branch is a node of the tree of paths that are wanted of a record.
type branch struct {
	key      string
	wanted   []int // indexes of the values to fill with what stands here
	each     bool  // its elements are rows
	children []*branch
	next     int // the child that is likely to come next
}

// tree makes one of sources. The node of `each` is reached like any other;
// paths that begin with it go on from each of its elements.
func tree(sources []string, each string) (*branch, error) {
	root := &branch{}
	if each != "" {
		b, err := root.grow(each)
		if err != nil {
			return nil, fmt.Errorf("each: %w", err)
		}
		b.each = true
	}
	for i, s := range sources {
		if s == "*" {
			root.wanted = append(root.wanted, i)
			continue
		}
		b, err := root.grow(s)
		if err != nil {
			return nil, fmt.Errorf("source %q: %w", s, err)
		}
		b.wanted = append(b.wanted, i)
	}
	return root, nil
}

func (b *branch) grow(source string) (*branch, error) {
	keys, err := keysOf(source)
	if err != nil {
		return nil, err
	}
	for _, k := range keys {
		child := b.child(k)
		if child == nil {
			child = &branch{key: k}
			b.children = append(b.children, child)
		}
		b = child
	}
	return b, nil
}

func (b *branch) child(key string) *branch {
	for _, c := range b.children {
		if c.key == key {
			return c
		}
	}
	return nil
}

// find is child for the hot path: keys mostly come in the order of last time.
func (b *branch) find(key []byte) *branch {
	n := len(b.children)
	for i := range n {
		at := b.next + i
		if at >= n {
			at -= n
		}
		if c := b.children[at]; c.key == string(key) {
			if b.next = at + 1; b.next == n {
				b.next = 0
			}
			return c
		}
	}
	return nil
}

// all returns the indexes of the values that are wanted of b and what is below it.
func (b *branch) all() []int {
	out := append([]int(nil), b.wanted...)
	for _, c := range b.children {
		out = append(out, c.all()...)
	}
	return out
}

// elements finds the node whose elements are rows; nil for none.
func (b *branch) elements() *branch {
	if b.each {
		return b
	}
	for _, c := range b.children {
		if e := c.elements(); e != nil {
			return e
		}
	}
	return nil
}
