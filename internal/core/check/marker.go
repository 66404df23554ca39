package check

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
)

// Marker is what a marker file says of the file beside it. Its zero value says nothing.
type Marker struct {
	Digest    string // hexadecimal; "" when it says none
	Algorithm string // of the digest: md5, sha1, sha256 or sha512
	HasRows   bool   // it says how many rows there are
	Rows      int64
}

// algorithms by the length of their digests in hexadecimal.
var algorithms = map[int]string{32: "md5", 40: "sha1", 64: "sha256", 128: "sha512"}

var words = regexp.MustCompile(`[0-9A-Za-z]+`)

// ReadMarker reads a marker: a checksum, alone or as the usual tools write it
// with the name after it, or a number of rows. Any other text says nothing.
func ReadMarker(text string) (m Marker) {
	line, _, _ := strings.Cut(strings.TrimSpace(strings.TrimPrefix(text, "\ufeff")), "\n")
	for _, word := range words.FindAllString(line, -1) {
		if algorithm := algorithms[len(word)]; algorithm != "" &&
			strings.Trim(strings.ToLower(word), "0123456789abcdef") == "" {
			m.Digest, m.Algorithm = strings.ToLower(word), algorithm
			return m
		}
	}
	if n, err := strconv.ParseInt(strings.TrimSpace(line), 10, 64); err == nil && n >= 0 {
		m.HasRows, m.Rows = true, n
	}
	return m
}

// Refuse returns the reason to refuse a file that is not what its marker says, or "".
func (m Marker) Refuse(digest string, rows int64) string {
	switch {
	case m.Digest != "" && m.Digest != digest:
		return fmt.Sprintf("its marker gives the %s %s; the file's is %s", m.Algorithm, m.Digest, digest)
	case m.HasRows && m.Rows != rows:
		return fmt.Sprintf("its marker says %d rows; the file has %d", m.Rows, rows)
	}
	return ""
}
