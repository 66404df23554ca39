package draft

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"mullein/internal/core/decode"
	"mullein/internal/core/tabular"
)

func TestWhatAColumnIs(t *testing.T) {
	for texts, want := range map[string]string{
		"1|2|-3":                               "integer",
		"1|2.5|3e5":                            "number",
		"1,5|2":                                `number decimalChar: ","`,
		"1,000|500|12,000":                     `integer groupChar: ","`,
		"1,000|2,500":                          `number decimalChar: ","`,
		"1,000,000|1,000":                      `integer groupChar: ","`,
		"1.234,5|12,5|n/a":                     `number groupChar: "." decimalChar: "," missing "n/a"`,
		"1 234|99":                             `integer groupChar: " "`,
		"1.234|5":                              "number",
		"PT5M|P1DT2H":                          "duration",
		"P|PT":                                 "string",
		"[1, 2]|[]":                            "array",
		"{}|{\"a\": 1}":                        "object",
		"0c3f1c1e-8a59-4a0c-9f0e-0a5f8b3e6d11": "string format: uuid",
		"007|012":                              "string",
		"0|7":                                  "integer",
		"0.5|0.7":                              "number",
		"12345678901234567890":                 "number",
		"true|false|true":                      `boolean trueValues: ["true"] falseValues: ["false"]`,
		"ja|nein":                              `boolean trueValues: ["ja"] falseValues: ["nein"]`,
		"0|1|0":                                "integer",
		"2026-07-01|2026-07-02":                "date",
		"01.07.2026|13.07.2026":                `date format: "%d.%m.%Y"`,
		"13/07/2026|01/08/2026":                `date format: "%d/%m/%Y"`,
		"07/13/2026|08/01/2026":                `date format: "%m/%d/%Y"`,
		"20260701|20260702":                    `date format: "%Y%m%d"`,
		"99999999|20260702":                    "integer",
		"12:30|23:59":                          `time format: "%H:%M"`,
		"2026-07-01T12:00:00Z|2026-07-01T13:00:00Z": "datetime",
		"2026-07-01 12:00|2026-07-01 13:30":         `datetime format: "%Y-%m-%d %H:%M"`,
		"01.07.2026 12:00:30":                       `datetime format: "%d.%m.%Y %H:%M:%S"`,
		"1|2|x":                                     "string",
		"1|-|n/a|2":                                 `integer missing "-" missing "n/a"`,
		"10|12|11|-999":                             `integer missing "-999"`,
		"1,5|2,5|-999":                              `number decimalChar: "," missing "-999"`,
		"-999|-998|-997":                            "integer",
		"10|12|-95":                                 "integer",
		"":                                          "string",
		"NULL|None":                                 `string missing "NULL" missing "None"`,
		"SR0100|SR0200":                             "string",
		"2026-07-01|n/a|2026-07-05":                 `date missing "n/a"`,
		"2026-07-01T12:00:00+01:00|2026-07-01 12:00": "string",
	} {
		c := newColumn("x")
		for _, text := range strings.Split(texts, "|") {
			c.text(text)
		}
		f := c.judge()
		got := append([]string{f.kind}, f.options...)
		for _, m := range f.missing {
			got = append(got, "missing "+`"`+m+`"`)
		}
		assert.Equal(t, want, strings.Join(got, " "), texts)
	}
}

func TestWhatAColumnOfTypedValuesIs(t *testing.T) {
	for want, values := range map[string][]tabular.Value{
		"integer":  {{Kind: tabular.Integer, I: 1}, {}},
		"number":   {{Kind: tabular.Integer, I: 1}, {Kind: tabular.Float, X: 1.5}},
		"boolean":  {{Kind: tabular.Boolean}},
		"datetime": {{Kind: tabular.Instant}, {Kind: tabular.Wall}},
		"date":     {{Kind: tabular.Day}},
		"time":     {{Kind: tabular.Clock}},
		"object":   {{Kind: tabular.JSON, B: []byte("{}")}},
		"array":    {{Kind: tabular.JSON, B: []byte("[1]")}},
		"string":   {{Kind: tabular.Text, B: []byte("x")}, {Kind: tabular.Integer, I: 5}},
		"duration": {{Kind: tabular.Span, M: 1}},
	} {
		c := newColumn("x")
		for i := range values {
			c.value(&values[i])
		}
		assert.Equal(t, want, c.judge().kind)
	}
}

func TestNamesOfFeedsAndColumns(t *testing.T) {
	for _, c := range []struct {
		format        decode.Format
		each          string
		sources, want []string
	}{
		{decode.CSV, "", []string{"Station no", "Pegel (m)", "Straße", "2m temp", "???", "水位", "Temp. (C)",
			"Flow m3/s"}, []string{"station_no", "pegel_m", "strasse", "c_2m_temp", "c", "c_2", "temp_c", "flow_m3_s"}},
		{decode.JSON, "results", []string{"sample.site.id", "/a~1b/c d", "results.id", "results.unit.id", "code"},
			[]string{"sample_site_id", "c_d", "id", "unit_id", "code"}},
	} {
		k := kind{shape: shape{format: c.format, each: c.each}, table: &table{}}
		for _, s := range c.sources {
			k.table.columns = append(k.table.columns, newColumn(s))
		}
		assert.Equal(t, c.want, k.columnNames())
	}
	for _, c := range []struct {
		paths   []string
		feed    string
		pattern string
	}{
		{[]string{"GAUGE_20260701.csv"}, "gauge", "GAUGE_{slot:%Y%m%d}.csv"},
		{[]string{"GAUGE_20260701T1200.csv.gz", "GAUGE_20260701T1215.csv"}, "gauge",
			"GAUGE_{slot:%Y%m%dT%H%M}.(csv|csv.gz)"},
		{[]string{"in/lab_2026-07-01_1.json", "in/lab_2026-07-02_2.json"}, "lab", "**/lab_{slot:%Y-%m-%d}_{part}.json"},
		{[]string{"K1_rain_01.07.2026.txt", "K2_rain_02.07.2026.txt"}, "rain", "{part}_rain_{slot:%d.%m.%Y}.txt"},
		{[]string{"a 2026-07.xlsx", "b c 2026-08.xlsx"}, "files", "*{slot:%Y-%m}*.xlsx"},
		{[]string{"registry.csv"}, "registry", "registry.csv"},
		{[]string{"snow_20260701.zip/north/a.csv", "snow_20260702.zip/b.csv"}, "snow",
			"snow_{slot:%Y%m%d}.zip/**/{part}.csv"},
		{[]string{"in/day.zip/x_20260702.csv"}, "day-x", "**/day.zip/x_{slot:%Y%m%d}.csv"},
	} {
		k := kind{paths: c.paths}
		pattern, _ := k.pattern()
		assert.Equal(t, c.pattern, pattern, c.paths)
		assert.Equal(t, c.feed, feedName(c.paths), c.paths)
	}
}

func TestKeysThatTellRowsApart(t *testing.T) {
	of := func(header string, rows ...string) (key []string, note string) {
		tb := table{}
		for _, name := range strings.Split(header, ",") {
			tb.columns = append(tb.columns, newColumn(name))
		}
		for _, r := range rows {
			tb.rows++
			for i, cell := range strings.Split(r, ",") {
				tb.columns[i].text(cell)
			}
			tb.note()
		}
		types := make([]found, len(tb.columns))
		for i, c := range tb.columns {
			types[i] = c.judge()
		}
		columns, note := tb.key(types, strings.Split(header, ","))
		for _, c := range columns {
			key = append(key, tb.columns[c].source)
		}
		return key, note
	}
	key, note := of("id,name", "1,a", "2,a")
	assert.Equal(t, []string{"id"}, key)
	assert.Contains(t, note, "only few rows")
	key, _ = of("station,hour,level", "a,1,5", "a,2,5", "b,1,5", "b,2,6")
	assert.Equal(t, []string{"station", "hour"}, key)
	key, note = of("level,id", "1.5,a", "2.5,b", "3.5,c")
	assert.Equal(t, []string{"id"}, key, "a measurement is no key")
	assert.NotContains(t, note, "level")
	key, note = of("a,b", "x,y", "x,y")
	assert.Equal(t, []string{"a", "b"}, key)
	assert.Contains(t, note, "no few columns")
	key, note = of("id,code,revised_at", "1,a,2026-07-01", "1,a,2026-07-02", "1,b,2026-07-01", "2,a,2026-07-01")
	assert.Equal(t, []string{"id", "code"}, key)
	assert.Contains(t, note, "the newest is kept")
	key, note = of("gate,day,height", "a,2026-07-01,1.5", "b,2026-07-01,2.5")
	assert.Equal(t, []string{"gate", "day"}, key)
	assert.Contains(t, note, "taken for its time")
}
