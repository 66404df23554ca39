package check

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestMarkers(t *testing.T) {
	sum := strings.Repeat("ab", 32)
	for text, want := range map[string]Marker{
		"":                              {},
		"done\n":                        {},
		"12\n":                          {HasRows: true, Rows: 12},
		"\ufeff 12 ":                    {HasRows: true, Rows: 12},
		"-3":                            {},
		sum + "  gauge.csv\n":           {Digest: sum, Algorithm: "sha256"},
		"SHA256 (gauge.csv) = " + sum:   {Digest: sum, Algorithm: "sha256"},
		strings.ToUpper(sum):            {Digest: sum, Algorithm: "sha256"},
		strings.Repeat("0", 32):         {Digest: strings.Repeat("0", 32), Algorithm: "md5"},
		strings.Repeat("1", 40) + " *x": {Digest: strings.Repeat("1", 40), Algorithm: "sha1"},
		strings.Repeat("f", 128):        {Digest: strings.Repeat("f", 128), Algorithm: "sha512"},
		strings.Repeat("g", 64):         {},
		"first line\n" + sum:            {},
		strings.Repeat("9", 30):         {},
	} {
		assert.Equal(t, want, ReadMarker(text), text)
	}
	assert.Empty(t, Marker{}.Refuse("x", 3), "a marker that says nothing refuses nothing")
	assert.Empty(t, Marker{Digest: "x", Algorithm: "md5"}.Refuse("x", 3))
	assert.Equal(t, "its marker gives the md5 x; the file's is y", Marker{Digest: "x", Algorithm: "md5"}.Refuse("y", 3))
	assert.Equal(t, "its marker says 4 rows; the file has 3", Marker{HasRows: true, Rows: 4}.Refuse("", 3))
}

func FuzzReadMarker(f *testing.F) {
	f.Add("12")
	f.Add(strings.Repeat("ab", 32) + "  x")
	f.Fuzz(func(t *testing.T, text string) {
		m := ReadMarker(text)
		assert.True(t, m.Rows == 0 || m.HasRows && m.Rows > 0)
		assert.Equal(t, m.Digest == "", m.Algorithm == "")
	})
}
