package feed

import (
	"slices"
	"strconv"
	"strings"

	"mullein/internal/core/spelling"
)

// walk checks a node against a key of the grammar and says all that is wrong.
func (r *reader) walk(n *node, k *key, path string) {
	if n.shape == absent {
		r.failAt(n, "%s has no value; it takes %s, or leave the key out", path, k.words())
		return
	}
	if k.or != nil && !k.fits(n) && k.or.fits(n) {
		k = k.or
	}
	if !k.fits(n) {
		r.failAt(n, "%s takes %s, not %s", path, k.words(), n.shape)
		return
	}
	switch k.kind {
	case kMap:
		r.walkMap(n, k, path)
	case kFree:
		for _, f := range n.fields {
			if k.item != nil {
				r.walk(f.value, k.item, path+"."+f.name)
			}
		}
	case kList:
		for i, item := range n.items {
			r.walk(item, k.item, path+"["+strconv.Itoa(i)+"]")
		}
	default:
		r.walkScalar(n, k, path)
	}
}

func (k *key) fits(n *node) bool {
	switch k.kind {
	case kMap, kFree:
		return n.shape == mapping
	case kList:
		return n.shape == sequence
	}
	return n.shape == scalar
}

func (k *key) words() string {
	w := kindWords[k.kind]
	if k.kind == kChoice {
		w = "one of " + strings.Join(k.values, ", ")
	}
	if k.or != nil {
		w += " or " + k.or.words()
	}
	return w
}

func (r *reader) walkMap(n *node, k *key, path string) {
	names := make([]string, len(k.keys))
	for i, child := range k.keys {
		names[i] = child.name
	}
	for _, f := range n.fields {
		at := strings.TrimPrefix(path+"."+f.name, ".")
		i := slices.Index(names, f.name)
		if i < 0 {
			r.fail(f.line, f.column, "unknown key %q%s%s", f.name, within(path), suggestion(f.name, names))
			continue
		}
		child := k.keys[i]
		r.walk(f.value, child, at)
	}
	for _, child := range k.keys {
		if child.required && n.get(child.name) == nil {
			eg := ""
			if child.example != "" {
				eg = ", as in `" + child.name + ": " + child.example + "`"
			}
			r.failAt(n, "key %q is missing%s%s", child.name, within(path), eg)
		}
	}
}

func within(path string) string {
	if path == "" {
		return ""
	}
	return " in " + path
}

func suggestion(word string, names []string) string {
	if near := spelling.Nearest(word, names); near != "" {
		return `; did you mean "` + near + `"?`
	}
	if len(names) > 12 {
		return ""
	}
	return "; known are " + strings.Join(names, ", ")
}

func (r *reader) walkScalar(n *node, k *key, path string) {
	switch k.kind {
	case kFlag:
		if n.text != "true" && n.text != "false" || n.quoted {
			r.failAt(n, "%s takes true or false, not %q", path, n.text)
		}
	case kCount:
		if v, err := strconv.ParseInt(n.text, 10, 32); err != nil || v < 0 {
			r.failAt(n, "%s takes a whole number, not %q", path, n.text)
		}
	case kSize:
		if _, err := ParseSize(n.text); err != nil {
			r.failAt(n, "%s: %v", path, err)
		}
	case kDuration:
		if _, err := ParseSpan(n.text); err != nil {
			r.failAt(n, "%s: %v", path, err)
		}
	case kShare:
		if _, err := parseShare(n.text); err != nil {
			r.failAt(n, "%s: %v", path, err)
		}
	case kChar:
		if len(n.text) > 1 {
			r.failAt(n, "%s takes one ASCII character, not %q", path, n.text)
		}
	case kChoice:
		r.walkChoice(n, k, path)
	}
}

func (r *reader) walkChoice(n *node, k *key, path string) {
	if slices.Contains(k.values, n.text) {
		return
	}
	what := "value"
	if strings.HasSuffix(path, ".type") {
		what = "type"
	}
	hint := "; known are " + strings.Join(k.values, ", ")
	if near := spelling.Nearest(n.text, k.values); near != "" {
		hint = `; did you mean "` + near + `"?`
	}
	r.failAt(n, "unknown %s %q%s", what, n.text, hint)
}
