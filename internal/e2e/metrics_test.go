package e2e

import (
	"io"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/prometheus/common/expfmt"
	"github.com/prometheus/common/model"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/localpg/pgtest"
	"mullein/internal/settings"
)

// metrics asks for the metrics of a service, and returns their sums by name.
func (s *service) metrics(query string) map[string]float64 {
	s.t.Helper()
	answer := s.request("GET", "/metrics"+query, func(r *http.Request) { r.Header.Set("Authorization", "Bearer "+s.Token) })
	require.Equal(s.t, http.StatusOK, answer.StatusCode)
	assert.Contains(s.t, answer.Header.Get("Content-Type"), "text/plain; version=0.0.4")
	parser := expfmt.NewTextParser(model.UTF8Validation)
	families, err := parser.TextToMetricFamilies(answer.Body)
	require.NoError(s.t, err)
	out := map[string]float64{}
	for name, f := range families {
		for _, m := range f.Metric {
			out[name] += m.GetCounter().GetValue() + m.GetGauge().GetValue()
		}
		assert.NotEmpty(s.t, f.GetHelp(), name)
	}
	return out
}

func TestMetrics(t *testing.T) {
	t.Parallel()
	s := serve(t).example()
	assert.Equal(t, http.StatusUnauthorized, s.request("GET", "/metrics", nil).StatusCode)
	m := s.metrics("")
	assert.EqualValues(t, 1, m["mullein_build_info"])
	assert.Positive(t, m["mullein_rows_total"])
	assert.Positive(t, m["mullein_files_total"])
	assert.Positive(t, m["go_goroutines"])
	assert.NotContains(t, m, "mullein_feed_rows_total", "feeds are no label unless they are asked for")
	by := s.metrics("?by=feed")
	assert.Equal(t, m["mullein_rows_total"], by["mullein_feed_rows_total"])
	code, out, _ := s.mullein("volumes", "--by", "day", "-o", "csv")
	assert.Zero(t, code)
	assert.True(t, strings.HasPrefix(out, "at,feed,files,refused,bytes,"), out)
	code, out, _ = s.mullein("volumes", "--feeds")
	assert.Zero(t, code)
	assert.Contains(t, out, "gauge-readings")
	code, _, stderr := s.mullein("volumes", "--from", "yesterday-ish")
	assert.Equal(t, 2, code)
	assert.Contains(t, stderr, "write 2026-11-28")
	for path, want := range map[string]int{"/nothing": 404, "/metrics/x": 404, "/today": 200, "/feeds/x": 200, "/api/v1/nothing": 401, "/wp-admin": 404} {
		assert.Equal(t, want, s.request("GET", path, nil).StatusCode, path)
	}
}

var measured = regexp.MustCompile(`\b(mullein_[a-z_]+|process_[a-z_]+)\b`)

// TestTheAlertRulesAreTrue has every rule of the documentation name metrics that there are.
func TestTheAlertRulesAreTrue(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("../../docs/alerts.yaml")
	require.NoError(t, err)
	var rules struct {
		Groups []struct {
			Name  string
			Rules []struct {
				Alert       string
				Expr        string
				For         string
				Labels      map[string]string
				Annotations map[string]string
			}
		}
	}
	require.NoError(t, yaml.UnmarshalWithOptions(text, &rules, yaml.Strict()))
	s := serveFrom(t, settings.From{Home: filepath.Join(t.TempDir(), ".mullein"), Environ: []string{"MULLEIN_LISTEN=127.0.0.1:0",
		"MULLEIN_DATABASE=" + pgtest.Database(t), "MULLEIN_OUTLETS={x: {command: [/bin/true]}}"}}).example()
	answer := s.request("GET", "/metrics?by=feed", func(r *http.Request) { r.Header.Set("Authorization", "Bearer "+s.Token) })
	body, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	n := 0
	for _, g := range rules.Groups {
		for _, r := range g.Rules {
			n++
			assert.NotEmpty(t, r.Annotations["summary"], r.Alert)
			for _, name := range measured.FindAllString(r.Expr, -1) {
				assert.Contains(t, string(body), "# HELP "+name+" ", r.Alert)
			}
		}
	}
	assert.Greater(t, n, 4)
}
