package landing

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestReadingLists(t *testing.T) {
	sum := strings.Repeat("a", 64)
	for text, want := range map[string][]Listed{
		"a.csv":                              {{"d/a.csv", -1, "", nil}},
		"\ufeff# files\r\n\r\na.csv\t12\r\n": {{"d/a.csv", 12, "", nil}},
		"a b.csv; 12 ;" + sum:                {{"d/a b.csv", 12, sum, nil}},
		"x/../a.csv," + strings.ToUpper(sum): {{"d/a.csv", -1, sum, nil}},
		"a.csv;12\nb.csv\na.csv;;" + sum:     {{"d/a.csv", 12, sum, []int{3}}, {"d/b.csv", -1, "", nil}},
		"../a.csv\nsub/b.csv":                {{"a.csv", -1, "", nil}, {"d/sub/b.csv", -1, "", nil}},
	} {
		got, err := ReadList("d/LIST.lst", text, 10_000)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for text, want := range map[string]string{
		"": "it names no files", "# nothing\n": "it names no files", "../../x": "line 1: \"../../x\" lies outside",
		"a\n/etc/passwd": "line 2: \"/etc/passwd\" lies outside",
		"a.csv;twelve":   "neither a size nor a SHA-256", "a.csv\n;,;": "line 2 names no file",
		"a.csv\n, ;": "line 2 names no file", manyNames(10_001): "it names 10001 files; 10000 are the most",
		"a;1\na;2": "line 2 names d/a again, with another size or SHA-256",
	} {
		_, err := ReadList("d/LIST.lst", text, 10_000)
		assert.ErrorContains(t, err, want)
	}
}

func manyNames(n int) string {
	var b strings.Builder
	for i := range n {
		fmt.Fprintln(&b, i)
	}
	return b.String()
}

func FuzzReadList(f *testing.F) {
	f.Add("d/x.lst", "a.csv;12;"+strings.Repeat("a", 64))
	f.Add("x.lst", "../../../etc/passwd")
	f.Fuzz(func(t *testing.T, at, text string) {
		if strings.HasPrefix(at, "/") || strings.HasPrefix(at, ".") {
			return
		}
		list, err := ReadList(at, text, 10_000)
		if err != nil {
			return
		}
		require.NotEmpty(t, list)
		for _, l := range list {
			require.False(t, strings.HasPrefix(l.Path, "../"), l.Path)
		}
	})
}
