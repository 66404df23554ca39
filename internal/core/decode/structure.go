package decode

import "mullein/internal/core/tabular"

// Node is a column, or a part of one, of a file that says how its rows are made.
type Node struct {
	Name string
	Kind tabular.Kind // JSON for a list, a map, a record, and what may be of several types
	List bool
	// Parts are the fields of a record; nil for anything else.
	Parts []Node
}

// Structure implements [Typed].
func (p *parquetFile) Structure() []Node { return p.root.parts() }

func (n *parquetNode) parts() []Node {
	out := make([]Node, 0, len(n.children))
	for _, c := range n.children {
		out = append(out, c.node())
	}
	return out
}

// node returns what a column is. A list or a map is a group around a repeated one.
func (n *parquetNode) node() Node {
	out := Node{Name: n.name, Kind: tabular.JSON}
	whole := n.repeated
	pairs := false
	for _, c := range n.children {
		whole = whole || c.repeated
		pairs = pairs || c.pairs()
	}
	switch {
	case whole:
		out.List = !pairs
	case n.leaf >= 0:
		out.Kind = n.kind
	default:
		out.Parts = n.parts()
	}
	return out
}

// Structure implements [Typed].
func (a *avroFile) Structure() []Node { return a.schema.parts(0) }

func (t *avroType) parts(depth int) []Node {
	out := make([]Node, 0, len(t.fields))
	for _, f := range t.fields {
		n := Node{Name: f.name, Kind: tabular.JSON}
		if of := f.of.single(); of != nil {
			n.Kind, n.List = of.holds(), of.kind == "array"
			if of.kind == "record" && depth < maxDepth {
				n.Parts = of.parts(depth + 1)
			}
		}
		out = append(out, n)
	}
	return out
}
