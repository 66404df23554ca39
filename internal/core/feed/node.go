package feed

import (
	"encoding/json"
	"fmt"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
)

// shape is what a node looks like.
type shape uint8

const (
	scalar shape = iota
	mapping
	sequence
	absent // nothing, ~ or null
)

func (s shape) String() string {
	return [...]string{"a single value", "a mapping", "a list", "nothing"}[s]
}

// node is a piece of the YAML, with its place.
type node struct {
	shape        shape
	line, column int
	text         string // scalar: as written, unquoted
	quoted       bool   // scalar: quoted, or a block
	fields       []field
	items        []*node
}

type field struct {
	name         string
	line, column int
	value        *node
}

func (n *node) get(name string) *node {
	if n == nil {
		return nil
	}
	for i := range n.fields {
		if n.fields[i].name == name {
			return n.fields[i].value
		}
	}
	return nil
}

const (
	maxFeedFile = 1 << 20
	maxDepth    = 20
	maxNodes    = 20_000
	maxBrackets = 500 // in each other before the parser is asked, those in texts and comments too
)

// reader collects problems on the way.
type reader struct {
	file     string
	problems Problems
	nodes    int
	// nullSequence is the dialect's; it belongs to the missing values.
	nullSequence string
}

func (r *reader) fail(line, column int, what string, args ...any) {
	r.problems = append(r.problems, Problem{r.file, line, column, fmt.Sprintf(what, args...)})
}

func (r *reader) failAt(n *node, what string, args ...any) { r.fail(n.line, n.column, what, args...) }

// yaml reads the text into nodes; nil when it is not YAML at all.
func (r *reader) yaml(text []byte) *node {
	if len(text) > maxFeedFile {
		r.fail(1, 1, "a feed file of more than %d KiB", maxFeedFile>>10)
		return nil
	}
	if depth := nesting(text); depth > maxBrackets {
		r.fail(1, 1, "brackets nested %d deep; %d is the most", depth, maxBrackets)
		return nil
	}
	parsed, err := parser.ParseBytes(text, 0)
	if err != nil {
		line, column, message := 1, 1, err.Error()
		if syntax, ok := err.(yaml.Error); ok {
			message = syntax.GetMessage()
			if t := syntax.GetToken(); t != nil {
				line, column = t.Position.Line, t.Position.Column
			}
		}
		r.fail(line, column, "not YAML: %s", strings.TrimSpace(message))
		return nil
	}
	var docs []ast.Node
	for _, d := range parsed.Docs {
		if d.Body != nil {
			docs = append(docs, d.Body)
		}
	}
	if len(docs) == 0 {
		r.fail(1, 1, "an empty feed file; it begins with `feed: <name>`")
		return nil
	}
	if len(docs) > 1 {
		p := docs[1].GetToken().Position
		r.fail(p.Line, p.Column, "a second document; one file holds one feed")
		return nil
	}
	return r.convert(docs[0], 0)
}

// nesting is how deep flow brackets go, looked at before the parser sees them.
func nesting(text []byte) int {
	depth, deepest := 0, 0
	for _, b := range text {
		switch b {
		case '[', '{':
			depth++
			deepest = max(deepest, depth)
		case ']', '}':
			depth--
		case '\n':
			if depth < 0 {
				depth = 0
			}
		}
	}
	return deepest
}

func (r *reader) convert(in ast.Node, depth int) *node {
	token := in.GetToken()
	n := &node{line: token.Position.Line, column: token.Position.Column, text: token.Value}
	r.nodes++
	if r.nodes > maxNodes || depth > maxDepth {
		if r.nodes == maxNodes+1 || depth == maxDepth+1 {
			r.failAt(n, "too large or too deep for a feed file")
		}
		return n
	}
	switch x := in.(type) {
	case *ast.MappingNode:
		n.shape = mapping
		for _, v := range x.Values {
			r.addField(n, v, depth)
		}
	case *ast.MappingValueNode:
		n.shape = mapping
		r.addField(n, x, depth)
	case *ast.SequenceNode:
		n.shape = sequence
		for _, v := range x.Values {
			n.items = append(n.items, r.convert(v, depth+1))
		}
	case *ast.LiteralNode:
		n.quoted, n.text = true, x.Value.Value
	case *ast.StringNode:
		n.text = x.Value
		n.quoted = strings.HasPrefix(strings.TrimSpace(token.Origin), `"`) ||
			strings.HasPrefix(strings.TrimSpace(token.Origin), `'`)
	case *ast.NullNode:
		n.shape = absent
	case *ast.AnchorNode, *ast.AliasNode, *ast.TagNode, *ast.MergeKeyNode:
		r.failAt(n, "anchors, aliases and tags are not part of feed files; write the value out")
		n.shape = absent
	}
	return n
}

func (r *reader) addField(n *node, v *ast.MappingValueNode, depth int) {
	key := v.Key.GetToken()
	if len(n.fields) == 0 {
		n.line, n.column = key.Position.Line, key.Position.Column
	}
	if _, merge := v.Key.(*ast.MergeKeyNode); merge {
		r.fail(key.Position.Line, key.Position.Column, "anchors, aliases and tags are not part of feed files; write "+
			"the value out")
		return
	}
	n.fields = append(n.fields, field{key.Value, key.Position.Line, key.Position.Column, r.convert(v.Value, depth+1)})
}

// json returns a tree as JSON, "" for none. Texts that are not quoted are numbers
// and truth values where they can be.
func (n *node) json() string {
	if n == nil {
		return ""
	}
	out, err := json.Marshal(n.plain())
	if err != nil {
		return ""
	}
	return string(out)
}

func (n *node) plain() any {
	switch n.shape {
	case mapping:
		out := map[string]any{}
		for _, f := range n.fields {
			out[f.name] = f.value.plain()
		}
		return out
	case sequence:
		out := []any{}
		for _, item := range n.items {
			out = append(out, item.plain())
		}
		return out
	case absent:
		return nil
	}
	if !n.quoted && json.Valid([]byte(n.text)) { // a number, or a truth value
		return json.RawMessage(n.text)
	}
	return n.text
}
