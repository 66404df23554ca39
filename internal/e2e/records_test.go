package e2e

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/client"
	"mullein/internal/localpg/pgtest"
	"mullein/internal/settings"
)

// TestRowsWithoutFiles posts rows, which are gathered into files and loaded as any file is.
func TestRowsWithoutFiles(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	home := filepath.Join(t.TempDir(), ".mullein")
	require.NoError(t, os.MkdirAll(home, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(home, settings.FileName), []byte("records: {after: 1s, rows: 4}\n"), 0o600))
	s := serveFrom(t, settings.From{Home: home, Environ: []string{"MULLEIN_LISTEN=127.0.0.1:0", "MULLEIN_DATABASE=" + pgtest.Database(t)}})
	put := func(name, files, format string) {
		_, err := s.client.PutFeed(ctx, name, name+".yaml", fmt.Sprintf(`feed: %s
landing: {at: %[1]s, settle: 50ms, files: %q}
format: %s
schema: {fields: [{name: buoy}, {name: level, type: number}], primaryKey: [buoy]}
target: {table: "river.%[1]s"}
`, name, files, format))
		require.NoError(t, err)
	}
	post := func(feed, text string) (int, string) {
		answer := s.request("POST", "/api/v1/feeds/"+feed+"/records", func(r *http.Request) {
			r.Header.Set("Authorization", "Bearer "+s.Token)
			r.Header.Set("Content-Type", "application/x-ndjson")
			r.Body, r.ContentLength = io.NopCloser(strings.NewReader(text)), int64(len(text))
		})
		said, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		return answer.StatusCode, string(said)
	}
	put("buoys", "rows_{slot:%Y%m%d}_*.jsonl", "jsonl")
	put("tables", "rows_*.csv", "csv")
	put("counted", "[a-z].jsonl", "jsonl")
	require.NoError(t, os.MkdirAll(filepath.Join(s.Root, "buoys"), 0o755))
	code, said := post("buoys", "{\"buoy\": \"a\", \"level\": 1}\n\n{\"buoy\": \"b\", \"level\": 2}")
	assert.Equal(t, http.StatusOK, code, said)
	assert.JSONEq(t, `{"feed": "buoys", "taken": 2}`, said)
	code, said = post("buoys", "{\"buoy\": \"c\", \"level\": 1}\n{\"buoy\": \"d\", \"level\": 2}\n")
	assert.Equal(t, http.StatusOK, code, said)
	for _, c := range []struct {
		feed, text string
		code       int
		want       string
	}{
		{"buoys", "{\"buoy\": \"e\"}\nbuoy", http.StatusUnprocessableEntity, "line 2 is no JSON object; nothing was taken"},
		{"buoys", "\n", http.StatusUnprocessableEntity, "no rows"},
		{"tables", "{}", http.StatusConflict, "feeds with format: jsonl"},
		{"counted", "{}", http.StatusConflict, "no name can be made from files [a-z].jsonl"},
		{"nothing", "{}", http.StatusNotFound, "nothing"},
	} {
		code, said := post(c.feed, c.text)
		assert.Equal(t, c.code, code, said)
		assert.Contains(t, said, c.want)
	}
	s.eventually(func() bool {
		rows, err := s.client.Rows(ctx, "buoys", "", 0, 10)
		return err == nil && len(rows.Rows) == 4
	})
	list, err := s.client.Arrivals(ctx, client.ArrivalQuery{Feed: "buoys", Most: 10})
	require.NoError(t, err)
	require.Len(t, list.Items, 1, "four rows were enough for a file")
	assert.NotNil(t, list.Items[0].Slot)
	_, out, _ := s.mullein("acts", "--feed", "buoys")
	assert.NotContains(t, out, "records", "rows are no acts")
}
