package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/api"
	"mullein/internal/client"
)

// problem waits for the problem of a kind that lasts, until it is as it should be.
func (s *service) problem(kind string, is func(p api.Problem) bool) (out api.Problem) {
	s.t.Helper()
	require.Eventually(s.t, func() bool {
		list, err := s.client.Problems(s.t.Context(), false, 0, 100)
		require.NoError(s.t, err)
		for _, p := range list.Items {
			if p.Kind == kind && is(p) {
				out = p
				return true
			}
		}
		return false
	}, time.Minute, 20*time.Millisecond, "a problem %s", kind)
	return out
}

// over waits until no problem of a kind lasts.
func (s *service) over(kind string) {
	s.t.Helper()
	require.Eventually(s.t, func() bool {
		list, err := s.client.Problems(s.t.Context(), false, 0, 100)
		require.NoError(s.t, err)
		for _, p := range list.Items {
			if p.Kind == kind {
				return false
			}
		}
		return true
	}, time.Minute, 20*time.Millisecond, "no problem %s", kind)
}

func (s *service) cure(p api.Problem, verb, because string) (int, map[string]any) {
	s.t.Helper()
	return s.ask("POST", fmt.Sprintf("/problems/%d/cure", p.ID), fmt.Sprintf(`{"verb": %q, "because": %q}`, verb, because))
}

func curesOf(p api.Problem) map[string]int64 {
	out := map[string]int64{}
	for _, c := range p.Cures {
		out[c.Verb] = c.Of
	}
	return out
}

// curesAtOnce takes all files for their slots whose names came close, and excuses the other slots of the supplier, each
// with one call.
func (s *service) curesAtOnce() {
	t := s.t
	t.Helper()
	before := time.Now().Add(-time.Second)
	p := s.problem("missing", func(p api.Problem) bool {
		near := 0
		for _, part := range p.Parts {
			if part.Due != nil && len(part.Due.Near) > 0 {
				near++
			}
		}
		return p.Cause == "supplier Upper Catchment Office" && p.Lasting >= 2 && near >= 1 && curesOf(p)["accept"] >= 1
	})
	assert.EqualValues(t, 1, p.Feeds)
	assert.Equal(t, "Atlantic/Azores", p.Parts[0].Due.Zone)
	cures := curesOf(p)
	assert.GreaterOrEqual(t, cures["excuse"], cures["accept"])
	status, done := s.cure(p, "accept", "the supplier knows")
	require.Equal(t, http.StatusOK, status, done)
	assert.EqualValues(t, cures["accept"], done["done"].(float64)+float64(len(done["left"].([]any))), "%v", done["left"])
	assert.Positive(t, done["done"])
	s.takenForTheirTimes()

	s.problem("missing", func(now api.Problem) bool { return now.Lasting <= p.Lasting-int64(done["done"].(float64)) })
	status, done = s.cure(p, "excuse", "the gauge is in the workshop")
	require.Equal(t, http.StatusOK, status, done)
	assert.Positive(t, done["done"])
	require.Eventually(t, func() bool {
		list, err := s.client.Problems(t.Context(), false, 0, 100)
		require.NoError(t, err)
		for _, now := range list.Items {
			if now.ID == p.ID {
				return false
			}
		}
		return true
	}, time.Minute, 20*time.Millisecond, "the problem is over")
	status, done = s.cure(p, "excuse", "once more")
	require.Equal(t, http.StatusOK, status)
	assert.Zero(t, done["done"], "it is done once")

	_, decided := s.ask("GET", "/decisions?since="+url.QueryEscape(before.Format(time.RFC3339)), "")
	what := map[string]int{}
	for _, d := range decided["items"].([]any) {
		what[d.(map[string]any)["what"].(string)+" by "+d.(map[string]any)["by"].(string)]++
	}
	assert.Positive(t, what["accept by owner"])
	assert.Positive(t, what["excuse by owner"])
	status, _ = s.cure(p, "mend", "x")
	assert.Equal(t, http.StatusUnprocessableEntity, status)
	p.ID = 1 << 40
	status, _ = s.cure(p, "excuse", "x")
	assert.Equal(t, http.StatusNotFound, status)
}

// takenForTheirTimes demands that files which were taken for slots are of these slots, as far as their names tell the time.
func (s *service) takenForTheirTimes() {
	s.t.Helper()
	list, err := s.client.Arrivals(s.t.Context(), client.ArrivalQuery{Feed: "gauge-readings", Text: "gauge_k", Most: 1000})
	require.NoError(s.t, err)
	for _, a := range list.Items {
		at, clock, _ := strings.Cut(strings.ToUpper(a.Path), "T")
		slot, of := a.Captures["slot"].(string)
		if !of || !strings.HasPrefix(at, "GAUGE_K") {
			continue
		}
		due, err := time.Parse(time.RFC3339, slot)
		require.NoError(s.t, err)
		azores, err := time.LoadLocation("Atlantic/Azores")
		require.NoError(s.t, err)
		assert.True(s.t, strings.HasPrefix(clock, due.In(azores).Format("1504")), "%s was taken for %s", a.Path, slot)
	}
}

// TestRefusedFilesAreCuredAtOnce lets files in that were refused for their rejects, and skips one that cannot be
// read. Who may not act on the feed cannot.
func TestRefusedFilesAreCuredAtOnce(t *testing.T) {
	t.Parallel()
	s := serve(t)
	in := filepath.Join(s.Root, "in")
	require.NoError(t, os.MkdirAll(in, 0o755))
	_, err := s.client.PutFeed(t.Context(), "levels", "levels.yaml", `feed: levels
owner: owner@sorrel.example
landing: {at: in, files: "L_*.csv", settle: 50ms}
schema: {fields: [{name: station}, {name: level, type: integer}], primaryKey: [station]}
target: {table: river.level}
`)
	require.NoError(t, err)
	for n := range 4 {
		text := fmt.Sprintf("station,level\na%d,1\nb%d,x\n", n, n)
		if n == 3 {
			text = "nothing\n1\n"
		}
		require.NoError(t, os.WriteFile(filepath.Join(in, fmt.Sprintf("L_%d.csv", n)), []byte(text), 0o644))
	}
	p := s.problem("refused", func(p api.Problem) bool { return p.Lasting == 4 })
	assert.Equal(t, "feed levels", p.Cause)
	assert.Equal(t, map[string]int64{"release": 3, "redo": 4, "skip": 4}, curesOf(p))
	assert.Equal(t, "refused", p.Parts[0].State)
	_, mine := s.ask("GET", "/problems?mine=true", "")
	assert.Len(t, mine["items"], 1, "the owner of the feed is owner@")
	_, day := s.ask("GET", "/day?mine=true", "")
	assert.Len(t, day["feeds"], 1)

	token, err := s.client.NewToken(t.Context(), api.TokenWanted{Name: "elsewhere", Role: "operate", Feeds: []string{"other-*"}})
	require.NoError(t, err)
	owner := s.Token
	s.Token = token.Secret
	status, said := s.cure(p, "release", "x")
	assert.Equal(t, http.StatusForbidden, status, said)
	status, said = s.ask("GET", "/targets/river.level/rows", "")
	assert.Equal(t, http.StatusForbidden, status)
	assert.Contains(t, said["detail"], "for some feeds only")
	_, mine = s.ask("GET", "/problems?mine=true", "")
	assert.Empty(t, mine["items"])
	s.Token = owner

	status, done := s.cure(p, "release", "the column is of no use")
	require.Equal(t, http.StatusOK, status, done)
	assert.EqualValues(t, 3, done["done"])
	p = s.problem("refused", func(p api.Problem) bool { return p.Lasting == 1 })
	status, done = s.cure(p, "skip", "it is none of ours")
	require.Equal(t, http.StatusOK, status, done)
	assert.EqualValues(t, 1, done["done"])
	s.over("refused")
	loaded, err := s.client.Arrivals(t.Context(), client.ArrivalQuery{State: "loaded", Most: 10})
	require.NoError(t, err)
	assert.Len(t, loaded.Items, 3)
}

// TestTablesAndTheirChains asks what comes after what, and for rows.
func TestTablesAndTheirChains(t *testing.T) {
	t.Parallel()
	s := serve(t).example()
	s.looksForRows()
	_, err := s.client.PutFeed(t.Context(), "after-gauges", "after-gauges.yaml", `feed: after-gauges
landing: {at: landing/after, files: "A_*.csv"}
schema: {fields: [{name: a}], primaryKey: [a]}
target: {table: river.after}
when: {arrival: false, after: {all: [gauge-readings]}}
`)
	require.NoError(t, err)
	of := func(query string) (api.Chains, map[string]api.ChainNode) {
		var out api.Chains
		status, text := s.ask("GET", "/chains"+query, "")
		require.Equal(t, http.StatusOK, status, text)
		raw, err := json.Marshal(text)
		require.NoError(t, err)
		require.NoError(t, json.Unmarshal(raw, &out))
		nodes := map[string]api.ChainNode{}
		for _, n := range out.Nodes {
			nodes[n.ID] = n
		}
		return out, nodes
	}
	s.eventually(func() bool { // how feeds stand is remembered a moment
		_, nodes := of("")
		return nodes["feed gauge-readings"].State == "good" && nodes["feed after-gauges"].State == "failed"
	})
	all, nodes := of("")
	assert.Contains(t, all.Links, api.ChainLink{From: "feed gauge-readings", To: "table river.gauge_reading", Why: "fills"})
	assert.Contains(t, all.Links, api.ChainLink{From: "feed gauge-readings", To: "feed after-gauges", Why: "after"})
	assert.Contains(t, all.Links, api.ChainLink{From: "table river.gauge_reading", To: "table river.daily_peak", Why: "read"})
	assert.Equal(t, "rollup", nodes["table river.daily_peak"].Kind)
	assert.NotNil(t, nodes["feed gauge-readings"].LoadedAt)
	assert.Equal(t, nodes["feed gauge-readings"].Chain, nodes["table river.daily_peak"].Chain)
	assert.NotEqual(t, nodes["feed gauge-readings"].Chain, nodes["feed lab-samples"].Chain)

	_, around := of("?of=river.gauge_reading")
	assert.Contains(t, around, "feed gauge-readings")
	assert.Contains(t, around, "table river.daily_peak")
	assert.NotContains(t, around, "feed after-gauges", "it comes after the feed, and not after the table")
	assert.NotContains(t, around, "feed lab-samples")
	status, _ := s.ask("GET", "/chains?of=nothing", "")
	assert.Equal(t, http.StatusNotFound, status)
}

// looksForRows goes through a table page by page, and asks for rows by what is in them.
func (s *service) looksForRows() {
	t := s.t
	t.Helper()
	var seen [][]any
	after := ""
	for {
		status, page := s.ask("GET", "/targets/river.gauge_reading/rows?limit=7"+after, "")
		require.Equal(t, http.StatusOK, status, page)
		for _, r := range page["rows"].([]any) {
			seen = append(seen, r.([]any))
		}
		if page["more"] != true {
			break
		}
		after = ""
		for _, k := range page["key"].([]any) {
			for i, c := range page["columns"].([]any) {
				if c == k {
					after += "&after=" + url.QueryEscape(seen[len(seen)-1][i].(string))
				}
			}
		}
	}
	target, err := s.client.Target(t.Context(), "river.gauge_reading")
	require.NoError(t, err)
	assert.EqualValues(t, target.Rows, len(seen))
	keys := map[string]bool{}
	for _, r := range seen {
		keys[fmt.Sprint(r[0], r[1])] = true
	}
	assert.Len(t, keys, len(seen), "no row twice")

	for where, want := range map[string]int{
		"station_id = SR0100": http.StatusOK, "level_m >= 2": http.StatusOK, "station_id contains sr01": http.StatusOK, "flow_m3s empty": http.StatusOK,
		"level_m >= high": http.StatusUnprocessableEntity, "nothing = 1": http.StatusUnprocessableEntity, "level_m ~ 1": http.StatusUnprocessableEntity,
		"level_m = 1; DROP TABLE river.gauge_reading": http.StatusUnprocessableEntity,
	} {
		status, page := s.ask("GET", "/targets/river.gauge_reading/rows?where="+url.QueryEscape(where), "")
		assert.Equal(t, want, status, "%s: %v", where, page)
		if status != http.StatusOK {
			assert.NotEmpty(t, page["detail"], where)
		}
	}
	_, page := s.ask("GET", "/targets/river.gauge_reading/rows?where="+url.QueryEscape("station_id = SR0100")+"&ascending=true", "")
	require.NotEmpty(t, page["rows"])
	for _, r := range page["rows"].([]any) {
		assert.Equal(t, "SR0100", r.([]any)[0])
	}
	status, _ := s.ask("GET", "/targets/river.gauge_reading/rows?after=SR0100", "")
	assert.Equal(t, http.StatusUnprocessableEntity, status, "the key has two columns")
}
