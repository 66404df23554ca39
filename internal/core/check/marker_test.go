package check

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestMarkers(t *testing.T) {
	sum := strings.Repeat("ab", 32)
	for text, want := range map[string]Marker{
		"":                              {Rows: -1},
		"done\n":                        {Rows: -1},
		"12\n":                          {Rows: 12},
		"\ufeff 12 ":                    {Rows: 12},
		"-3":                            {Rows: -1},
		sum + "  gauge.csv\n":           {sum, "sha256", -1},
		"SHA256 (gauge.csv) = " + sum:   {sum, "sha256", -1},
		strings.ToUpper(sum):            {sum, "sha256", -1},
		strings.Repeat("0", 32):         {strings.Repeat("0", 32), "md5", -1},
		strings.Repeat("1", 40) + " *x": {strings.Repeat("1", 40), "sha1", -1},
		strings.Repeat("f", 128):        {strings.Repeat("f", 128), "sha512", -1},
		strings.Repeat("g", 64):         {Rows: -1},
		"first line\n" + sum:            {Rows: -1},
		strings.Repeat("9", 30):         {Rows: -1},
	} {
		assert.Equal(t, want, ReadMarker(text), text)
	}
	assert.Empty(t, Marker{Rows: -1}.Refuse("x", 3), "a marker that says nothing refuses nothing")
	assert.Empty(t, Marker{Digest: "x", Algorithm: "md5", Rows: -1}.Refuse("x", 3))
	assert.Equal(t, "its marker gives the md5 x; the file's is y", Marker{Digest: "x", Algorithm: "md5", Rows: -1}.Refuse("y", 3))
	assert.Equal(t, "its marker says 4 rows; the file has 3", Marker{Rows: 4}.Refuse("", 3))
}

func FuzzReadMarker(f *testing.F) {
	f.Add("12")
	f.Add(strings.Repeat("ab", 32) + "  x")
	f.Fuzz(func(t *testing.T, text string) {
		m := ReadMarker(text)
		assert.True(t, m.Rows >= -1)
		assert.Equal(t, m.Digest == "", m.Algorithm == "")
	})
}
