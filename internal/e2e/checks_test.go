package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/parquet-go/parquet-go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/api"
	"mullein/internal/client"
)

// TestRejectsArePutRight exports rejects, mends them in an editor, and hands
// them in; rehearses; asks what checks saw.
func TestRejectsArePutRight(t *testing.T) {
	t.Parallel()
	s := serve(t).feeds().example()
	ctx := context.Background()
	folder := t.TempDir()
	file := filepath.Join(folder, "rejects.csv")
	code, _, errOut := s.mullein("rejects", "export", "gauge-readings", "--to", file)
	require.Equal(t, 0, code, errOut)
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Contains(t, string(text),
		"arrival,number,path,line,column,value,reason,original\n2,1,GAUGE_K1_20260701T1200.csv,5,level_m,\"2,4x\",not "+
			"a number,")
	code, out, _ := s.mullein("rejects", "hand-in", file, "--because", "x")
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "Nothing was changed")
	mended := strings.Replace(string(text), ";2,4x;", ";2,4;", 1)
	require.NoError(t, os.WriteFile(file, []byte(mended), 0o644))
	code, _, _ = s.mullein("rejects", "hand-in", file)
	assert.Equal(t, 2, code, "a reason is needed")
	code, out, errOut = s.mullein("rejects", "hand-in", file, "--because", "an x slipped in")
	require.Equal(t, 0, code, errOut)
	assert.Contains(t, out, "1 rows of arrival 2 are handed in as arrival ")
	s.eventually(func() bool {
		list, err := s.client.Arrivals(ctx, client.ArrivalQuery{Text: "(mended", Most: 1})
		require.NoError(t, err)
		return len(list.Items) == 1 && list.Items[0].State == api.ArrivalLoaded
	})
	code, out, _ = s.mullein("rejects", "gauge-readings")
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "mended in arrival")

	code, out, _ = s.mullein("checks", "lab-samples")
	assert.Equal(t, 0, code)
	for _, want := range []string{"ph_in_range", "distinct_count('code') = 4", "holds"} {
		assert.Contains(t, out, want)
	}
	code, out, _ = s.mullein("checks", "lab-samples", "ph_in_range")
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "1 of 25 rows break row.code != 'PH'")
	code, out, _ = s.mullein("rehearse", "lab-samples", "--file", "LAB_2026-07-01_1.jsonl")
	assert.Equal(t, 0, code)
	for _, want := range []string{"nothing was loaded", "25 read = ", "outdated", "rejected", "ph_in_range"} {
		assert.Contains(t, out, want)
	}
	code, out, _ = s.mullein("rehearse", "buoy-profiles", "--deep")
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "Traces: rolled back")
}

// TestADraftForATableThatIsThere makes a table by psql, has a feed drafted for it and tried,
// loads a file, and looks at the rows.
func TestADraftForATableThatIsThere(t *testing.T) {
	t.Parallel()
	s := serve(t)
	code, _, errOut := s.mullein("sql", "--", "-qc", "CREATE SCHEMA river; CREATE TABLE river.observer (observer_id integer "+
		"PRIMARY KEY, full_name varchar(20) NOT NULL, joined date)")
	require.Equal(t, 0, code, errOut)
	code, out, _ := s.mullein("sql", "--url")
	assert.Equal(t, 0, code)
	assert.Equal(t, s.database, strings.TrimSpace(out))
	folder := t.TempDir()
	for day, rows := range map[string]string{"20": "17;Ada;2020-02-03\n18;Ben;2021-04-05\n", "21": "18;Benno;2021-04-05\n19;Cleo;\n"} {
		require.NoError(t, os.WriteFile(filepath.Join(folder, "OBSERVERS_2026-11-"+day+".csv"),
			[]byte("ObsID;FullNm;Joined\n"+rows), 0o644))
	}
	require.NoError(t, os.WriteFile(filepath.Join(folder, "README.txt"), []byte("who observes"), 0o644))
	code, out, errOut = s.mullein("feed", "draft", folder, "--into", "river.observer", "--at", "landing/observers", "--to",
		filepath.Join(folder, "feeds"), "--try")
	require.Equal(t, 0, code, errOut+out)
	assert.Contains(t, errOut, "README.txt is left out: a text for people")
	for _, want := range []string{"# Sure: 2 files, all 4 rows read as csv; the key [observer_id] loses none of them", "# Not sure: ",
		"# Next: mullein rehearse", "2 read = 2 inserted"} {
		assert.Contains(t, out, want)
	}
	code, out, _ = s.mullein("feed", "put", filepath.Join(folder, "feeds", "observers.yaml"))
	require.Equal(t, 0, code, out)
	assert.Contains(t, out, "landing/observers is away: no such folder")
	require.NoError(t, os.MkdirAll(filepath.Join(s.Root, "landing", "observers"), 0o755))
	for _, day := range []string{"20", "21"} {
		code, _, errOut = s.mullein("deliver", "observers", filepath.Join(folder, "OBSERVERS_2026-11-"+day+".csv"))
		require.Equal(t, 0, code, errOut)
	}
	code, out, errOut = s.mullein("run", "observers", "--wait")
	require.Equal(t, 0, code, errOut+out)
	code, out, _ = s.mullein("target", "river.observer", "--rows")
	assert.Equal(t, 0, code)
	for _, want := range []string{"Ada", "Benno", "Cleo"} {
		assert.Contains(t, out, want)
	}
	code, out, errOut = s.mullein("feed", "draft", filepath.Join(folder, "OBSERVERS_2026-11-20.csv"), "-o", "json")
	require.Equal(t, 0, code, errOut)
	assert.Contains(t, out, `"feed": "observers-2"`, "the name of a feed that is there is not taken")
	code, _, errOut = s.mullein("sql", "--", "-qc", "CREATE TABLE river.tag (tag text NOT NULL, buoy text, UNIQUE (tag))")
	require.Equal(t, 0, code, errOut)
	tags := filepath.Join(folder, "tags.csv")
	require.NoError(t, os.WriteFile(tags, []byte("Tag,Buoy\nx,B1\ny,B1\n"), 0o644))
	code, out, errOut = s.mullein("feed", "draft", tags, "--into", "river.tag")
	require.Equal(t, 0, code, errOut)
	assert.Contains(t, out, "primaryKey: [tag]  # a unique index of river.tag")
	code, _, errOut = s.mullein("feed", "draft", folder, "--into", "river.nothing")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "river.nothing: not found")
}

// TestARehearsalWarnsOfRepeatedKeys rehearses a file most of whose rows would be duplicates.
func TestARehearsalWarnsOfRepeatedKeys(t *testing.T) {
	t.Parallel()
	s := serve(t)
	folder := t.TempDir()
	file, sample := filepath.Join(folder, "dull.yaml"), filepath.Join(folder, "d.csv")
	require.NoError(t, os.WriteFile(file, []byte("feed: dull\nlanding: {at: landing, files: \"*.csv\"}\nschema: {fields: [{name: "+
		"kind}, {name: n, type: integer}], primaryKey: [kind]}\ntarget: {table: river.dull}\n"), 0o644))
	require.NoError(t, os.WriteFile(sample, []byte("kind,n\na,1\na,2\na,3\nb,4\n"), 0o644))
	code, out, errOut := s.mullein("rehearse", file, "--send", sample)
	require.Equal(t, 0, code, errOut)
	assert.Contains(t, out, "Look at this: 2 of 4 rows (50 %) have the key [kind] of another row of the file")
}

// TestAFeedFromASample drafts a feed from a file, rehearses it with that file
// before it is put, and lets it load.
func TestAFeedFromASample(t *testing.T) {
	t.Parallel()
	s := serve(t)
	folder := t.TempDir()
	sample := filepath.Join(folder, "TIDES_2026-07-01.csv")
	require.NoError(t, os.WriteFile(sample,
		[]byte("gate;at;height\nT1;01.07.2026 12:00;2,5\nT1;01.07.2026 12:30;-\nT2;13.07.2026 12:00;3\n"), 0o644))
	code, out, errOut := s.mullein("feed", "draft", sample, "--at", "landing/tides", "--to", folder)
	require.Equal(t, 0, code, errOut)
	draft := filepath.Join(folder, "tides.yaml")
	assert.Contains(t, out, draft)
	code, _, errOut = s.mullein("feed", "draft", sample, "--to", folder)
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "writes over nothing")
	require.NoError(t, os.MkdirAll(filepath.Join(s.Root, "landing", "tides"), 0o755))
	code, out, errOut = s.mullein("rehearse", draft, "--send", sample)
	require.Equal(t, 0, code, errOut+out)
	for _, want := range []string{"CREATE TABLE", "3 read = 3 inserted", "2.5"} {
		assert.Contains(t, out, want)
	}
	list, err := s.client.AllFeeds(context.Background(), client.FeedQuery{})
	require.NoError(t, err)
	assert.Empty(t, list, "rehearsed, not put")
	code, _, errOut = s.mullein("feed", "put", draft)
	require.Equal(t, 0, code, errOut)
	code, _, errOut = s.mullein("deliver", "tides", sample)
	require.Equal(t, 0, code, errOut)
	s.eventually(func() bool {
		list, err := s.client.Arrivals(context.Background(), client.ArrivalQuery{Feed: "tides", Most: 1})
		require.NoError(t, err)
		return len(list.Items) == 1 && list.Items[0].State == api.ArrivalLoaded
	})
	code, out, _ = s.mullein("feed", "show", "tides", "--schema")
	require.Equal(t, 0, code)
	var schema struct{ Fields []map[string]any }
	require.NoError(t, json.Unmarshal([]byte(out), &schema))
	assert.Len(t, schema.Fields, 3)
	code, out, _ = s.mullein("feed", "show", "tides", "--schema=avro")
	require.Equal(t, 0, code)
	assert.Contains(t, out, `"type": "record"`)
	_, err = s.client.Rehearse(context.Background(), client.Rehearsed{Definition: "feed: x\nlanding: {}", Path: "y"})
	assert.ErrorContains(t, err, `key "at" is missing`)
	_, err = s.client.Mend(context.Background(), 1,
		api.Mend{Because: "none", Rows: []api.MendedRow{{Number: 9, Text: "x"}}})
	assert.ErrorContains(t, err, "reject 9 of arrival 1")
}

func TestTheConsoleOfRejectsAndChecks(t *testing.T) {
	t.Parallel()
	s := serve(t).feeds().example()
	b := browse(t)
	b.do(chromedp.Navigate(s.SignIn))
	b.sees("Today")
	b.do(chromedp.Navigate(s.URL + "/rejects?feed=gauge-readings"))
	b.sees("type", "level_m", "not a number", "Click a row to mend it.", "SR0102")
	assert.Equal(t, "2,4x", b.marked())
	b.do(chromedp.Evaluate[chromedp.Void](`document.querySelector('button.mend').click()`))
	require.Eventually(t, func() bool {
		there, err := chromedp.Run(b.ctx, chromedp.Evaluate[bool](`document.querySelector('textarea') !== null`))
		return err == nil && there
	}, browserPatience, looksEvery)
	b.do(
		chromedp.Evaluate[chromedp.Void](`{
			const t = document.querySelector('textarea')
			t.value = t.value.replace('2,4x', '2,4')
			t.dispatchEvent(new Event('input', { bubbles: true }))
		}`),
	)
	b.sees("1 mended", "Hand in 1")
	b.do(chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll('button')].find((b) => b.innerText.trim() === 'Hand in 1').click()`))
	b.sees("keep the file and the line that they came from")
	b.because("an x slipped in")
	b.sees("mended in arrival")
	b.do(chromedp.Navigate(s.URL + "/feeds/lab-samples?show=checks"))
	b.sees("ph_in_range", "several_substances", "distinct_count('code') = 4")
	b.do(chromedp.Navigate(s.URL + "/feeds/lab-samples/checks/ph_in_range"))
	b.sees("What it saw", "1 of 25 rows break", "broken", "holds")
	b.do(chromedp.Navigate(s.URL + "/feeds/lab-samples/rehearsal?path=LAB_2026-07-01_1.jsonl"))
	b.sees("It would be loaded", "read =", "Rows that would be rejected", "What the checks saw", "outdated")
	b.do(chromedp.Navigate(s.URL + "/arrivals/8"))
	b.sees("What the checks saw", "known_stations")
	b.mu.Lock()
	defer b.mu.Unlock()
	assert.Empty(t, b.complaints)
}

// marked returns what is marked in the first reject that the page shows.
func (b *browser) marked() string {
	b.t.Helper()
	text, err := chromedp.Run(b.ctx, chromedp.Evaluate[string](`document.querySelector('mark')?.innerText ?? ''`))
	require.NoError(b.t, err)
	return text
}

// TestARowWithoutTextIsMendedInTheConsole mends a row of a Parquet file, which is
// shown as JSON with the cell at fault marked, and not another that looks like it.
func TestARowWithoutTextIsMendedInTheConsole(t *testing.T) {
	t.Parallel()
	s := serve(t)
	ctx := context.Background()
	var columns bytes.Buffer
	require.NoError(t, parquet.Write(&columns, []struct {
		Probe string  `parquet:"probe"`
		Depth float64 `parquet:"depth_m"`
		Oxy   float64 `parquet:"oxygen"`
	}{{"P99", 1.5, 8.1}, {"P99", 2, 99}}))
	require.NoError(t, os.MkdirAll(filepath.Join(s.Root, "landing"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(s.Root, "landing", "probes.parquet"), columns.Bytes(), 0o644))
	_, err := s.client.PutFeed(ctx, "probes", "probes.yaml", `feed: probes
landing: {at: landing, files: "probes*", settle: 50ms}
format: parquet
schema:
  fields:
    - {name: probe}
    - {name: depth_m, type: number}
    - {name: oxygen_mg_l, type: number, source: oxygen, constraints: {maximum: 20}}
  primaryKey: [probe, depth_m]
tolerate: {rejects: 50%}
target: {table: river.probe}
`)
	require.NoError(t, err)
	s.eventually(func() bool {
		list, err := s.client.Arrivals(ctx, client.ArrivalQuery{Feed: "probes", State: api.ArrivalLoaded, Most: 1})
		require.NoError(t, err)
		return len(list.Items) == 1
	})
	b := browse(t)
	b.do(chromedp.Navigate(s.SignIn))
	b.sees("Today")
	b.do(chromedp.Navigate(s.URL + "/rejects?feed=probes"))
	b.sees("more than the maximum 20", `{"probe":"P99","depth_m":2,"oxygen":99}`)
	assert.Equal(t, "99", b.marked())
	original, err := chromedp.Run(b.ctx,
		chromedp.Evaluate[string](`document.querySelector('mark').previousSibling.textContent`))
	require.NoError(t, err)
	assert.Equal(t, `{"probe":"P99","depth_m":2,"oxygen":`, original)
	b.do(chromedp.Evaluate[chromedp.Void](`document.querySelector('button.mend').click()`))
	require.Eventually(t, func() bool {
		there, err := chromedp.Run(b.ctx, chromedp.Evaluate[bool](`document.querySelector('textarea') !== null`))
		return err == nil && there
	}, browserPatience, looksEvery)
	b.do(chromedp.Evaluate[chromedp.Void](`{
		const t = document.querySelector('textarea')
		t.value = t.value.replace(':99}', ':9.9}')
		t.dispatchEvent(new Event('input', { bubbles: true }))
	}`))
	b.sees("1 mended", "Hand in 1")
	b.do(chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll('button')].find((b) => b.innerText.trim() === 'Hand in 1').click()`))
	b.sees("keep the file and the line that they came from")
	b.because("a point slipped")
	b.sees("mended in arrival")
	s.eventually(func() bool {
		_, out, _ := s.mullein("rows", "probes")
		return strings.Contains(out, "9.9")
	})
	b.mu.Lock()
	defer b.mu.Unlock()
	assert.Empty(t, b.complaints)
}

// TestChecksAndRejectsThroughTheAPI asks for what is there, and for what is not.
func TestChecksAndRejectsThroughTheAPI(t *testing.T) {
	t.Parallel()
	s := serve(t).feeds().example()
	for _, c := range []struct {
		method, path, body string
		status             int
		says               string
	}{
		{"GET", "/feeds/nothing/checks", "", 404, `feed "nothing"`},
		{"GET", "/feeds/nothing/checks/x", "", 404, `feed "nothing"`},
		{"GET", "/arrivals/999/checks", "", 404, "arrival 999"},
		{"GET", "/reject-groups?days=0", "", 422, "validation failed"},
		{"POST", "/rehearsals", "", 409, "name a feed"},
		{"POST", "/rehearsals?feed=nothing", "", 404, `feed "nothing"`},
		{"POST", "/rehearsals?feed=gauge-readings&path=../../etc/passwd", "", 422,
			"not a plain path below the landing"},
		{"POST", "/arrivals/999/mend", `{"rows": [{"number": 1, "text": "x"}], "because": "x"}`, 404, "arrival 999"},
		{"POST", "/arrivals/6/mend", `{"rows": [{"number": 1, "text": "x"}], "because": "x"}`, 409,
			"rejects are mended when the rest is loaded"},
		{"POST", "/arrivals/2/mend", `{"rows": [], "because": "x"}`, 422, "validation failed"},
		{"POST", "/arrivals/2/mend", `{"rows": [{"number": 1, "text": "x"}], "because": ""}`, 422, "validation failed"},
		{"POST", "/arrivals/2/mend",
			`{"rows": [{"number": 1, "text": "x"}, {"number": 1, "text": "y"}], "because": "x"}`, 409, "stands twice"},
		{"POST", "/decisions", `{"verb": "release", "arrivals": [6], "because": "let it in"}`, 409,
			"cannot be released"},
	} {
		status, answer := s.ask(c.method, c.path, c.body)
		assert.Equal(t, c.status, status, "%s %s: %v", c.method, c.path, answer)
		assert.Contains(t, answer["detail"], c.says, c.path)
	}
	_, groups := s.ask("GET", "/reject-groups", "")
	assert.Len(t, groups["items"], 3, "gauges, the laboratory, a volunteer")
	_, one := s.ask("GET", "/reject-groups?arrival=2", "")
	assert.Len(t, one["items"], 1)
	_, none := s.ask("GET", "/feeds/gauge-readings/rejects?rule=maximum&column=level_m", "")
	assert.Empty(t, none["items"])
	_, page := s.ask("GET", "/feeds/gauge-readings/checks/usual_size?limit=1", "")
	require.Len(t, page["items"], 1)
	_, next := s.ask("GET", fmt.Sprintf("/feeds/gauge-readings/checks/usual_size?limit=100&before=%d",
		int64(page["next"].(float64))), "")
	assert.Len(t, next["items"], 3)
	private := named(t, groups["items"], "feed", "rain-observers")
	assert.Equal(t, "Spuren", private["example"], "rain is not private; the remark is")
	_, rejects := s.ask("GET", "/feeds/rain-observers/rejects", "")
	assert.Contains(t, fmt.Sprint(rejects["items"]), "•••")
	assert.NotContains(t, fmt.Sprint(rejects["items"]), "Gewitter")
	_, day := s.ask("GET", "/day?hours=1", "")
	assert.Len(t, day["feeds"], 6)

	folder := t.TempDir()
	wrong := filepath.Join(folder, "wrong.csv")
	require.NoError(t, os.WriteFile(wrong, []byte("a,b\n1,2\n"), 0o644))
	code, _, errOut := s.mullein("rejects", "hand-in", wrong, "--because", "x")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "as rejects export writes it")
	require.NoError(t, os.WriteFile(wrong,
		[]byte("arrival,number,path,line,column,value,reason,original\nx,1,p,5,c,v,r,o\n"), 0o644))
	_, _, errOut = s.mullein("rejects", "hand-in", wrong, "--because", "x")
	assert.Contains(t, errOut, "wrong.csv:2: arrival and number must stay")
	code, _, errOut = s.mullein("feed", "draft", filepath.Join(folder, "nothing.csv"))
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "no such file")
	code, _, errOut = s.mullein("feed", "draft", "/dev/null")
	assert.Equal(t, 3, code)
	assert.Contains(t, errOut, "the file is empty")
	code, _, errOut = s.mullein("feed", "show", "gauge-readings", "--schema=xml")
	assert.Equal(t, 2, code)
	assert.Contains(t, errOut, "table or avro")
}

// TestAFeedFileIsRehearsedAndPutInTheConsole picks a feed file that is wrong, then
// one that is right, sees what a load of its first file would do, and puts it.
func TestAFeedFileIsRehearsedAndPutInTheConsole(t *testing.T) {
	t.Parallel()
	s := serve(t)
	require.NoError(t, os.MkdirAll(filepath.Join(s.Root, "landing/water"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(s.Root, "landing/water/TEMP_20260701.csv"),
		[]byte("station_id,celsius\nSR0101,14.2\nSR0102,99\n"), 0o644))
	const definition = `feed: water-temperature
landing: {at: landing/water, files: "TEMP_{slot:%Y%m%d}.csv", settle: 50ms}
schema:
  fields: [{name: station_id}, {name: celsius, type: number, constraints: {maximum: 40}}]
  primaryKey: station_id
tolerate: {rejects: 50%}
target: {table: river.water_temperature}
`
	folder := t.TempDir()
	good, wrong := filepath.Join(folder, "water.yaml"), filepath.Join(folder, "wrong.yaml")
	require.NoError(t, os.WriteFile(good, []byte(definition), 0o644))
	require.NoError(t, os.WriteFile(wrong, []byte(strings.Replace(definition, "type: number", "type: numbr", 1)),
		0o644))
	b := browse(t)
	b.do(chromedp.Navigate(s.SignIn))
	b.sees("Today")
	b.do(chromedp.Navigate(s.URL + "/feeds"))
	b.sees("No feeds yet", "Rehearse a feed file")
	b.do(chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll('a')].find((a) => a.innerText === 'Rehearse a feed file').click()`))
	b.sees("Rehearsal of a feed file that is not put yet")
	press := func(name string) {
		t.Helper()
		b.do(chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll('button')].find((b) => b.innerText.trim() === '` + name + `').click()`))
	}
	b.do(chromedp.SetUploadFiles(`input[name=definition]`, []string{wrong}))
	press("Rehearse")
	b.sees("the feed file is wrong", `wrong.yaml:4:`, `unknown type "numbr"; did you mean "number"?`)
	b.mu.Lock()
	b.complaints = nil // the browser's own word about the answer 422
	b.mu.Unlock()
	b.do(chromedp.SetUploadFiles(`input[name=definition]`, []string{good}))
	press("Rehearse")
	b.sees("It would be loaded", "TEMP_20260701.csv", "What would be made or changed first",
		`CREATE TABLE IF NOT EXISTS "river"."water_temperature"`, "14.2", "Rows that would be rejected",
		"more than the maximum 40")
	code, out, _ := s.mullein("feed", "list")
	assert.Equal(t, 0, code)
	assert.NotContains(t, out, "water-temperature", "nothing was put")
	press("Put this feed")
	b.sees("water-temperature", "river.water_temperature", "The last loads", "TEMP_20260701.csv")
	s.eventually(func() bool {
		_, out, _ = s.mullein("rows", "water-temperature")
		return strings.Contains(out, "14.2")
	})
	b.mu.Lock()
	defer b.mu.Unlock()
	assert.Empty(t, b.complaints)
}
