package tabular

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestEqualJSONHasEqualDigests is about texts that jsonb takes for equal, and those that
// it does not.
func TestEqualJSONHasEqualDigests(t *testing.T) {
	canonical := func(text string) string {
		v := Value{Kind: JSON, B: []byte(text)}
		return string(v.AppendCanonical(nil))
	}
	for _, c := range []struct {
		a, b  string
		equal bool
	}{
		{`{"a": 1, "b": [2, 3]}`, `{"b":[2,3],"a":1}`, true},
		{`{"a": 7}`, `{"a": 7.0}`, true}, {`[70, 0.5, -0, 1200]`, `[7e1, 5e-1, 0.0, 1.2E+3]`, true},
		{`"h\u00f6he\/"`, `"höhe/"`, true}, {`{"a": 1, "a": 2}`, `{"a": 2}`, true},
		{`12345678901234567890.10`, `12345678901234567890.1`, true},
		{`[1, 2]`, `[2, 1]`, false}, {`{"a": 1}`, `{"a": "1"}`, false}, {`[1]`, `[[1]]`, false}, {`[]`, `{}`, false},
		{`null`, `"null"`, false},
		{`["ab", "c"]`, `["a", "bc"]`, false}, {`7`, `-7`, false},
		{`12345678901234567890.1`, `12345678901234567890.2`, false}, {`{"a": null}`, `{}`, false},
		{`10`, `1`, false}, {`0.1`, `0.01`, false}, {`true`, `false`, false},
	} {
		assert.Equal(t, c.equal, canonical(c.a) == canonical(c.b), "%s and %s", c.a, c.b)
	}
}
