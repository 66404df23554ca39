package cli

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestHarmless(t *testing.T) {
	for text, want := range map[string]string{
		"GAUGE_K1 höhe 水位\u00a0(1).csv": "GAUGE_K1 höhe 水位\u00a0(1).csv",
		"a\nb\tc\r":                     `a\nb\tc\r`,
		"\x1b[2Jgone\x07":               `\x1b[2Jgone\x07`,
		"exe.\u202efdp":                 `exe.\u202efdp`,
		"\x9b31m \u0085":                `\x9b31m \u0085`,
		"line\u2028break":               `line\u2028break`,
	} {
		assert.Equal(t, want, harmless(text))
		assert.Equal(t, want, cellText(text), "in a table")
	}
}

func TestHarmlessLines(t *testing.T) {
	assert.Equal(t, "a\n  b\\x1b\n  c", harmlessLines("a\nb\x1b\nc", "  "))
}

func cellText(s string) string { return text(s).text }

func TestGuardedCells(t *testing.T) {
	for cell, want := range map[string]string{
		"": "", "SR0101;1,5": "SR0101;1,5", "=1+1": "'=1+1", "+1": "'+1", "-5": "'-5", "@SUM(A1)": "'@SUM(A1)",
		"\t=1": "'\t=1", "'quoted": "''quoted", "a=b": "a=b",
	} {
		assert.Equal(t, want, guarded(cell))
		assert.Equal(t, cell, unguarded(guarded(cell)), "as it was")
	}
	assert.Equal(t, "'tis", unguarded("''tis"))
	assert.Equal(t, "=1+2", unguarded("=1+2"), "whoever took the guard off meant it")
}
