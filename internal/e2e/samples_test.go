package e2e

import (
	"bytes"
	"encoding/json"
	"io"
	"mime/multipart"
	"net/http"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/api"
)

// part is one of a body: a field with the name and the bytes of a file.
type part struct{ field, file, content string }

// send sends parts, and reads the answer into out where it is good.
func (s *service) send(path string, out any, parts ...part) int {
	s.t.Helper()
	var body bytes.Buffer
	w := multipart.NewWriter(&body)
	for _, p := range parts {
		file, err := w.CreateFormFile(p.field, p.file)
		require.NoError(s.t, err)
		_, err = file.Write([]byte(p.content))
		require.NoError(s.t, err)
	}
	require.NoError(s.t, w.Close())
	r := s.request(http.MethodPost, path, func(r *http.Request) {
		r.Body, r.ContentLength = io.NopCloser(&body), int64(body.Len())
		r.Header.Set("Content-Type", w.FormDataContentType())
		r.Header.Set("Authorization", "Bearer "+s.Token)
	})
	defer r.Body.Close()
	if r.StatusCode == http.StatusOK {
		require.NoError(s.t, json.NewDecoder(r.Body).Decode(out))
	}
	return r.StatusCode
}

const temperatures = `feed: temp
landing: {at: in, files: "T_{slot:%Y%m%d}.csv"}
schema:
  fields: [{name: station}, {name: celsius, type: number}, {name: note}]
  primaryKey: [station]
derive: {warm: row.celsius > 20}
leave_out: row.station == "TEST"
private: [note]
target: {table: river.temp}
`

// TestSamples reads the beginning of files by feed files that are not put.
func TestSamples(t *testing.T) {
	t.Parallel()
	s := serve(t)
	definition := part{"definition", "feed.yaml", temperatures}
	sample := func(status int, query string, parts ...part) (out api.Sample) {
		t.Helper()
		require.Equal(t, status, s.send("/api/v1/samples"+query, &out, parts...))
		return out
	}
	got := sample(200, "", definition, part{"file", "T_20260701.csv",
		"station,celsius,note\nA,21.5,x\nB,cold,secret\nTEST,1,\nC,,\n"})
	assert.Empty(t, got.Wrong)
	assert.Empty(t, got.Refused)
	assert.Empty(t, got.Unnamed)
	assert.Equal(t, "2026-07-01T00:00:00Z", got.Captures["slot"])
	assert.Equal(t, []string{"station", "celsius", "note"}, got.Header)
	require.Len(t, got.Columns, 4)
	assert.Equal(t, api.SampleColumn{Name: "station", Type: "string", Key: true}, got.Columns[0])
	assert.Equal(t, api.SampleColumn{Name: "warm", Derived: true}, got.Columns[3])
	require.Len(t, got.Rows, 2)
	assert.EqualValues(t, 2, got.Rows[0].Line)
	assert.Equal(t, "21.5", *got.Rows[0].Values[1])
	assert.Equal(t, "true", *got.Rows[0].Values[3])
	assert.Nil(t, got.Rows[1].Values[1])
	require.Len(t, got.Rejects, 1)
	assert.Equal(t, "celsius", got.Rejects[0].ColumnName)
	assert.NotContains(t, got.Rejects[0].Original, "secret", "it is private")
	assert.Equal(t, []int64{4, 1, 1}, []int64{got.Read, got.Rejected, got.LeftOut})
	assert.True(t, got.Whole)

	got = sample(200, "?most=2", definition, part{"file", "other.csv", "station,celsius,note\nA,1,\nB,2,\nC,3,\nD,4,\n"})
	assert.Len(t, got.Rows, 2)
	assert.False(t, got.Whole)
	assert.NotEmpty(t, got.Unnamed)
	got = sample(200, "", definition, part{"file", "T_20260701.csv", "station,kelvin\nA,1\n"})
	assert.Contains(t, got.Refused, "kelvin")
	header := got.Header
	got = sample(200, "", definition)
	assert.Len(t, got.Columns, 4, "without a file, it is said what rows have")
	got = sample(200, "", part{"definition", "feed.yaml", temperatures + "zzz: 1\n"})
	require.Len(t, got.Wrong, 1)
	assert.Equal(t, 10, got.Wrong[0].Line)
	assert.Contains(t, got.Wrong[0].Message, `unknown key "zzz"`)
	assert.Equal(t, []string{"station", "kelvin"}, header, "the columns are known of a file that does not fit")
	sample(409, "")
	sample(404, "?feed=nobody")

	// A file that lies at the landing, of which the feed file is the first word.
	require.NoError(t, os.MkdirAll(filepath.Join(s.Root, "in"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(s.Root, "in", "T_20260702.csv"), []byte("station,celsius,note\nA,2,\n"), 0o644))
	got = sample(200, "?path=T_20260702.csv", definition)
	require.Len(t, got.Rows, 1)
	assert.Equal(t, "2026-07-02T00:00:00Z", got.Captures["slot"])
	sample(409, "?path=T_20260703.csv", definition)
	sample(409, "?path=..%2F..%2Fowner.token", definition)

	var drafts api.Drafts
	require.Equal(t, 200, s.send("/api/v1/drafts/files?at=water", &drafts,
		part{"file", "T_20260701.csv", "station,celsius\nA,1.5\nB,2.5\n"}, part{"file", "T_20260702.csv", "station,celsius\nA,1.5\nC,2\n"},
		part{"file", "picture.png", "\x89PNG\r\n\x1a\n"}))
	require.Len(t, drafts.Feeds, 1)
	assert.Contains(t, drafts.Feeds[0].Definition, "at: water")
	assert.Equal(t, []string{"T_20260701.csv", "T_20260702.csv"}, drafts.Feeds[0].Files)
	require.Len(t, drafts.LeftOut, 1)
	assert.Equal(t, 409, s.send("/api/v1/drafts/files", &drafts))
}
