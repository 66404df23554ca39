package client

import (
	"context"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/api"
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
	page, err := c.Arrivals(context.Background(), ArrivalQuery{Feed: "gauge-readings", State: api.ArrivalLoaded,
		Text: "K1 & K2", Before: 9, Most: 1})
	require.NoError(t, err)
	assert.EqualValues(t, 5, page.Next)
	assert.Equal(t, api.ArrivalLoaded, page.Items[0].State)
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

// TestWatchHandsOverEvents reads a stream of events with other things between
// them, goes on after one that was seen, and ends as it is told.
func TestWatchHandsOverEvents(t *testing.T) {
	const stream = "event: hello\ndata: {\"at\": \"2026-07-01T12:00:00Z\"}\n\nid: 7\nevent: change\ndata: {\"id\": 7, " +
		"\"kind\": \"arrival\", \"feed\": \"gauge-readings\", \"state\": \"loaded\"}\n\n" +
		"event: progress\ndata: {\"loads\": []}\n\nid: 9\nevent: change\ndata: {\"id\": 9, \"kind\": \"run\", " +
		"\"state\": \"done\"}\n\n"
	c, asked := answering(t, http.StatusOK, stream)
	var got []int64
	err := c.Watch(context.Background(), 5, time.Time{}, func(e api.Event) error {
		got = append(got, e.ID)
		return nil
	}, nil)
	assert.ErrorIs(t, err, ErrEnded)
	assert.Equal(t, []int64{7, 9}, got)
	assert.Equal(t, "5", asked.Header.Get("Last-Event-ID"))
	assert.Equal(t, "Bearer mu_secret", asked.Header.Get("Authorization"))
	enough := errors.New("enough")
	assert.ErrorIs(t, c.Watch(context.Background(), FromNow, time.Time{}, func(api.Event) error { return enough }, nil), enough)
	assert.Empty(t, asked.Header.Get("Last-Event-ID"), "from now on")

	c, _ = answering(t, http.StatusUnauthorized, `{}`)
	var refusal *Error
	require.ErrorAs(t, c.Watch(context.Background(), 0, time.Time{}, nil, nil), &refusal)
	assert.Equal(t, http.StatusUnauthorized, refusal.Status)
	c, _ = answering(t, http.StatusOK, "event: change\ndata: {broken\n\n")
	assert.ErrorContains(t, c.Watch(context.Background(), 0, time.Time{}, nil, nil), "an event is not understood")
	assert.ErrorContains(t, New("http://127.0.0.1:1", "x").Watch(context.Background(), 0, time.Time{}, nil, nil), "no service answers")
	ended, cancel := context.WithCancel(context.Background())
	cancel()
	assert.ErrorIs(t, c.Watch(ended, 0, time.Time{}, nil, nil), context.Canceled)
}
