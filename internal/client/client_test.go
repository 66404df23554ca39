package client

import (
	"context"
	"io"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/ledger"
)

// answering is a client of a service that gives one answer, and what it was asked.
func answering(t *testing.T, status int, body string) (*Client, *http.Request) {
	t.Helper()
	asked := new(http.Request)
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		*asked = *r
		w.WriteHeader(status)
		_, _ = io.WriteString(w, body)
	}))
	t.Cleanup(s.Close)
	return New(s.URL+"/", "mu_secret"), asked
}

func TestCallsCarryTokenAndQuery(t *testing.T) {
	c, asked := answering(t, http.StatusOK, `{"items": [{"id": 5, "state": "loaded"}], "next": 5}`)
	page, err := c.Arrivals(context.Background(), ledger.Filter{Feed: "gauge-readings", State: ledger.Loaded, Text: "K1 & K2", Before: 9, Most: 1})
	require.NoError(t, err)
	assert.EqualValues(t, 5, page.Next)
	assert.Equal(t, ledger.Loaded, page.Items[0].State)
	assert.Equal(t, "Bearer mu_secret", asked.Header.Get("Authorization"))
	assert.Equal(t, "/api/v1/arrivals", asked.URL.Path)
	assert.Equal(t, "before=9&feed=gauge-readings&limit=1&state=loaded&text=K1+%26+K2", asked.URL.RawQuery)
	_, err = c.Feed(context.Background(), "a/b")
	require.NoError(t, err)
	assert.Equal(t, "/api/v1/feeds/a%2Fb", asked.URL.EscapedPath(), "a name cannot leave its place in the path")
}

func TestRefusalsAreReadable(t *testing.T) {
	for _, c := range []struct {
		status     int
		body, want string
	}{
		{422, `{"status": 422, "detail": "the feed file is wrong", "errors": [{"message": "unknown key", "location": "x.yaml:2:1"}, {"message": "no place"}]}`, "x.yaml:2:1: unknown key\nno place"},
		{404, `{"status": 404, "title": "Not Found", "detail": "feed \"x\": not found"}`, `feed "x": not found`},
		{502, `<html>`, "502 Bad Gateway"},
	} {
		client, _ := answering(t, c.status, c.body)
		_, err := client.Run(context.Background(), 1)
		var refusal *Error
		require.ErrorAs(t, err, &refusal)
		assert.Equal(t, c.status, refusal.Status)
		assert.Equal(t, c.want, err.Error())
	}
	client, _ := answering(t, http.StatusOK, `no JSON`)
	_, err := client.Status(context.Background())
	assert.ErrorContains(t, err, "the answer is not understood")
	_, err = New("http://127.0.0.1:1", "mu_secret").Status(context.Background())
	assert.ErrorContains(t, err, "no service answers at http://127.0.0.1:1")
	assert.NotContains(t, err.Error(), "mu_secret")
}
