package table

import (
	"bytes"
	"encoding/json"
	"fmt"
	"time"

	"mullein/internal/core/tabular"
)

// digestOf computes the digest of a row as the journal has it, of some own columns in
// their order. ok is false where it cannot be told: the row was merged of several, or has
// types that the target keeps otherwise than they were read.
func (f *Fitted) digestOf(row json.RawMessage, columns []string) (digest string, ok bool) {
	if len(f.Merge) > 0 || !f.exact() {
		return "", false
	}
	decoder := json.NewDecoder(bytes.NewReader(row))
	decoder.UseNumber()
	var values map[string]any
	if decoder.Decode(&values) != nil {
		return "", false
	}
	var canonical []byte
	for _, name := range columns {
		at := f.index(name)
		if at < 0 {
			return "", false
		}
		v, ok := valueOf(values[name], f.Own[at].Kind)
		if !ok {
			return "", false
		}
		canonical = v.AppendCanonical(canonical)
	}
	return fmt.Sprintf(`\x%x`, tabular.AppendDigest(nil, canonical)), true
}

// valueOf reads what row_to_json wrote of a value.
func valueOf(in any, kind tabular.Kind) (v tabular.Value, ok bool) {
	switch in := in.(type) {
	case nil:
		return v, true
	case bool:
		v.Kind = tabular.Boolean
		if in {
			v.I = 1
		}
		return v, kind == tabular.Boolean
	case json.Number:
		if tabular.ParseNumber([]byte(in), &v) != nil || kind != tabular.Integer && kind != tabular.Decimal {
			return v, false
		}
		whole := v.Kind == tabular.Integer
		v.Kind = kind
		return v, whole || kind == tabular.Decimal
	case string:
		v.Kind = kind
		switch kind {
		case tabular.Text:
			v.B = []byte(in)
			return v, true
		case tabular.Instant:
			t, err := time.Parse(time.RFC3339Nano, in)
			v.I = t.UnixMicro()
			return v, err == nil
		case tabular.Day:
			t, err := time.Parse(time.DateOnly, in)
			v.I = t.Unix() / 86400
			return v, err == nil && v.I >= 0
		}
	}
	return v, false
}

// Hands tells the changes by hand that nobody noted, because a load came after them: what
// stands before the next step is not what the load had written. columns are those of the
// digest, in its order; of reports whether a load wrote by them.
func (h *History) Hands(f *Fitted, columns []string, of func(*LoadEntry) bool) {
	if f.Lineage.RowDigest == "" {
		return
	}
	var out []Step
	for _, s := range h.Steps {
		if s.Load == nil || s.After == nil || s.What != "inserted" && s.What != "updated" || !of(s.Load) {
			out = append(out, s)
			continue
		}
		var bears map[string]any
		now, ok := f.digestOf(s.After, columns)
		if !ok || json.Unmarshal(s.After, &bears) != nil || bears[f.Lineage.RowDigest] == now {
			out = append(out, s)
			continue
		}
		by := Step{What: stepWords["h"], After: s.After}
		s.After = nil
		if out = append(out, s); len(h.Steps) > 0 && h.Steps[len(h.Steps)-1].What == by.What &&
			string(h.Steps[len(h.Steps)-1].After) == string(by.After) {
			continue // it is told already
		}
		out = append(out, by)
	}
	h.Steps = out
}
