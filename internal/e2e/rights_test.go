package e2e

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/api"
	"mullein/internal/client"
)

// TestWhoMay holds what each kind of token lets its holder do against what it says.
func TestWhoMay(t *testing.T) {
	t.Parallel()
	s := serve(t).example()
	ctx := context.Background()
	as := func(of api.TokenWanted) *client.Client {
		made, err := s.client.NewToken(ctx, of)
		require.NoError(t, err)
		return client.New(s.URL, made.Secret)
	}
	look, operate := as(api.TokenWanted{Name: "looker", Role: "look"}), as(api.TokenWanted{Name: "operator", Role: "operate"})
	blind := as(api.TokenWanted{Name: "blind", Role: "own", Blind: true})
	gauges := as(api.TokenWanted{Name: "gauges", Role: "own", Feeds: []string{"gauge-*"}})
	list, err := s.client.Arrivals(ctx, client.ArrivalQuery{Feed: "station-registry", Most: 1})
	require.NoError(t, err)
	stations := list.Items[0].ID
	acts := map[string]func(c *client.Client) error{
		"see":         func(c *client.Client) error { _, err := c.Status(ctx); return err },
		"see data":    func(c *client.Client) error { _, err := c.Rows(ctx, "gauge-readings", "", 0, 1); return err },
		"other data":  func(c *client.Client) error { _, err := c.Rows(ctx, "station-registry", "", 0, 1); return err },
		"pause":       func(c *client.Client) error { return c.Pause(ctx, "gauge-readings") },
		"pause other": func(c *client.Client) error { return c.Pause(ctx, "station-registry") },
		"decide other": func(c *client.Client) error {
			_, err := c.Decide(ctx, api.Verdict{Verb: "redo", Because: "to see", Arrivals: []int64{stations}})
			return err
		},
		"remove":           func(c *client.Client) error { return c.RemoveFeed(ctx, "gauge-nothing") },
		"token":            func(c *client.Client) error { _, err := c.NewToken(ctx, api.TokenWanted{Name: "x"}); return err },
		"put extract":      func(c *client.Client) error { _, err := c.PutExtract(ctx, "x", "x.yaml", "extract: y"); return err },
		"run extract":      func(c *client.Client) error { return c.RunExtract(ctx, "x") },
		"rehearse extract": func(c *client.Client) error { _, err := c.RehearseExtract(ctx, "x"); return err },
		"settings":         func(c *client.Client) error { _, err := c.Settings(ctx); return err },
		"acts":             func(c *client.Client) error { _, err := c.Acts(ctx, "", "", "", 0, 10); return err },
	}
	for who, of := range map[string]struct {
		client *client.Client
		may    string
	}{
		"look":    {look, "see, see data, other data, rehearse extract"},
		"operate": {operate, "see, see data, other data, pause, pause other, decide other, run extract, rehearse extract"},
		"blind":   {blind, "see, pause, pause other, decide other, remove, token, settings, acts, put extract, run extract, rehearse extract"},
		"gauges":  {gauges, "see, see data, pause, remove"},
	} {
		may := strings.Split(of.may, ", ")
		for name, act := range acts {
			var refused *client.Error
			err := act(of.client)
			forbidden := errors.As(err, &refused) && refused.Status == http.StatusForbidden
			assert.Equal(t, !slices.Contains(may, name), forbidden, "%s: %s: %v", who, name, err)
		}
	}
	// What a path is about counts, whatever else is asked.
	made, err := s.client.NewToken(ctx, api.TokenWanted{Name: "sly", Feeds: []string{"gauge-*"}})
	require.NoError(t, err)
	for _, path := range []string{"/rows?feed=gauge-readings", "/rejects?feed=gauge-readings", "/original?line=2&feed=gauge-readings",
		"/verification?feed=gauge-readings"} {
		answer := s.request("GET", fmt.Sprintf("/api/v1/arrivals/%d%s", stations, path), func(r *http.Request) {
			r.Header.Set("Authorization", "Bearer "+made.Secret)
		})
		assert.Equal(t, http.StatusForbidden, answer.StatusCode, path)
	}
	// What was loaded is told to all, and the range of its keys to those who may see the data.
	keys := func(token string) string {
		ctx, cancel := context.WithTimeout(ctx, time.Minute)
		defer cancel()
		request, err := http.NewRequestWithContext(ctx, "GET", s.URL+"/api/v1/events", nil)
		require.NoError(t, err)
		request.Header.Set("Authorization", "Bearer "+token)
		request.Header.Set("Last-Event-ID", "0")
		answer, err := http.DefaultClient.Do(request)
		require.NoError(t, err)
		defer answer.Body.Close()
		lines := bufio.NewScanner(answer.Body)
		for lines.Scan() {
			if strings.Contains(lines.Text(), `"mullein.load"`) && strings.Contains(lines.Text(), "station-registry") {
				return lines.Text()
			}
		}
		return ""
	}
	blindMade, err := s.client.NewToken(ctx, api.TokenWanted{Name: "blind-stream", Blind: true})
	require.NoError(t, err)
	seeing, err := s.client.NewToken(ctx, api.TokenWanted{Name: "stream"})
	require.NoError(t, err)
	for token, sees := range map[string]bool{blindMade.Secret: false, made.Secret: false, seeing.Secret: true} {
		told := keys(token)
		assert.Contains(t, told, `"sha256"`)
		assert.Equal(t, sees, strings.Contains(told, `"key_range":{"station_id":{"from":"SR`), told)
	}
	// A token ends at its time, with what was begun with it.
	until := time.Now().Add(2 * time.Second)
	short := as(api.TokenWanted{Name: "short", Until: &until})
	_, err = short.Status(ctx)
	require.NoError(t, err)
	s.eventually(func() bool {
		var refused *client.Error
		_, err := short.Status(ctx)
		return errors.As(err, &refused) && refused.Status == http.StatusUnauthorized
	})
	code, out, _ := s.mullein("token", "list")
	assert.Zero(t, code)
	assert.Contains(t, out, "gauge-*")
	assert.NotContains(t, out, "short")
	code, out, _ = s.mullein("acts", "--feed", "gauge-readings", "--by", "operator")
	assert.Zero(t, code)
	assert.Contains(t, out, "pause-feed")
	assert.Contains(t, out, "version 1, paused")
	code, out, _ = s.mullein("acts", "--by", "looker", "-o", "csv")
	assert.Zero(t, code)
	assert.Contains(t, out, ",403", "what was refused is kept too")
	assert.NotContains(t, out, "mu_", "secrets are not")
}
