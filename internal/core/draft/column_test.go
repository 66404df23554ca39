package draft

import (
	"fmt"
	"mullein/internal/core/filename"
	"strings"
	"testing"
	"time"

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
		"12.5%|3%":                                  "number bareNumber: false",
		"$1,200.50|$3":                              `number groupChar: "," bareNumber: false`,
		"12 m|3 km":                                 "string",
		"A1|B2":                                     "string",
		"":                                          "string",
		"NULL|None":                                 `string missing "NULL" missing "None"`,
		"SR0100|SR0200":                             "string",
		"2026-07-01|n/a|2026-07-05":                 `date missing "n/a"`,
		"2026-07-01T12:00:00+01:00|2026-07-01 12:00": "string",
	} {
		c := newColumn("x", 0)
		for _, text := range strings.Split(texts, "|") {
			c.text(text)
		}
		f := c.judge()
		missing := f.missing
		f.missing = nil
		got := append([]string{f.kind}, f.options()...)
		for _, m := range missing {
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
		c := newColumn("x", 0)
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
			k.table.columns = append(k.table.columns, newColumn(s, 0))
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
		{[]string{"in/lab_2026-07-01_1.json", "in/lab_2026-07-02_2.json"}, "lab", "**/lab_{slot:%Y-%m-%d}_{number:#}.json"},
		{[]string{"K1_rain_01.07.2026.txt", "K2_rain_02.07.2026.txt"}, "rain", "{part}_rain_{slot:%d.%m.%Y}.txt"},
		{[]string{"a 2026-07.xlsx", "b c 2026-08.xlsx"}, "landing", "{part} {slot:%Y-%m}.xlsx"},
		{[]string{"registry.csv"}, "registry", "registry.csv"},
		{[]string{"snow_20260701.zip/north/a.csv", "snow_20260702.zip/b.csv"}, "snow",
			"snow_{slot:%Y%m%d}.zip/**/{part}.csv"},
		{[]string{"in/day.zip/x_20260702.csv"}, "x", "**/day.zip/x_{slot:%Y%m%d}.csv"},
		{[]string{"Zaehler_20-11-2026.csv", "Zaehler_21-11-2026.csv"}, "zaehler", "Zaehler_{slot:%d-%m-%Y}.csv"},
		{[]string{"x_05-11-2026.csv", "x_05-21-2026.csv"}, "x", "x_{slot:%m-%d-%Y}.csv"},
		{[]string{"yob1880.txt", "yob1881.txt"}, "yob", "yob{slot:%Y}.txt"},
		{[]string{"person_2017.csv"}, "person", "person_{slot:%Y}.csv"},
		{[]string{"2026/11/20/flow.csv", "2026/11/21/flow.csv"}, "flow", "{slot:%Y/%m/%d}/flow.csv"},
		{[]string{"year=2026/month=10/a-1.csv", "year=2026/month=11/a-2.csv"}, "a",
			"{slot:year=%Y/month=%m}/a-{number:#}.csv"},
		{[]string{"year=2026/month=1/x.csv", "year=2026/month=2/x.csv"}, "x", "year={slot:%Y}/month={month:#}/x.csv"},
		{[]string{"region=n/x.csv", "region=s/x.csv"}, "region-x", "region={region}/x.csv"},
		{[]string{"flow_2026-Q1.csv", "flow_2026-Q3.csv"}, "flow", "flow_{slot:%Y}-Q{quarter:#}.csv"},
		{[]string{"flow_Jan2026.csv", "flow_Feb2026.csv"}, "flow", "flow_{slot:%b%Y}.csv"},
		{[]string{"flow_202611.CSV", "flow_202612.csv"}, "flow", "flow_{slot:%Y%m}.csv"},
		{[]string{"Flow_202611.csv", "FLOW_202612.csv"}, "flow", "Flow_{slot:%Y%m}.csv"},
		{[]string{"flow_20261101-20261130.csv", "flow_20261201-20261231.csv"}, "flow",
			"flow_{slot:%Y%m%d}-{until:%Y%m%d}.csv"},
		{[]string{"flow_20261120_01.csv", "flow_20261120_02.csv"}, "flow", "flow_{slot:%Y%m%d}_{number:#}.csv"},
		{[]string{"flow_20261120_00.csv", "flow_20261120_01.csv"}, "flow", "flow_{slot:%Y%m%d_%H}.csv"},
		{[]string{"flow_2026112007.csv", "flow_2026112013.csv"}, "flow", "flow_{slot:%Y%m%d%H}.csv"},
		{[]string{"flow_2026-11-20_07-15-00.csv"}, "flow", "flow_{slot:%Y-%m-%d_%H-%M-%S}.csv"},
		{[]string{"part-00000-9f1c2b3a4d5e.parquet", "part-00001-0a1b2c3d4e5f.parquet"}, "landing",
			"part-{part:#}-*.parquet"},
		{[]string{"part-00000-9f1c2b3a-4d5e-4f6a-8b7c-0a1b2c3d4e5f-c000.snappy.parquet",
			"part-00001-9f1c2b3a-4d5e-4f6a-8b7c-0a1b2c3d4e5f-c000.snappy.parquet"}, "landing",
			"part-{part:#}-*-c000.snappy.parquet"},
		{[]string{"orders_17.csv"}, "orders", "orders_{number:#}.csv"},
		{[]string{"flow_upper_north_20261120.csv", "flow_south_20261120.csv"}, "flow", "flow_{part}_{slot:%Y%m%d}.csv"},
	} {
		k := kind{paths: c.paths, samples: []Sample{{Folder: "landing"}}, naming: nameOf(c.paths)}
		assert.Equal(t, c.pattern, k.naming.pattern.String(), c.paths)
		assert.Equal(t, c.feed, k.name(), c.paths)
		for _, p := range c.paths {
			_, fits := k.naming.pattern.Match(p, time.UTC)
			assert.True(t, fits, "%s is not of %s", p, k.naming.pattern)
		}
	}
}

// TestKeysLoseNoRow proposes keys that all rows have, none twice, or none.
func TestKeysLoseNoRow(t *testing.T) {
	of := func(header string, files ...string) (key []string, out keyChoice) {
		tb := table{}
		for _, name := range strings.Split(header, ",") {
			tb.columns = append(tb.columns, newColumn(name, 0))
		}
		n := naming{slot: "%Y", captures: []string{"part"}}
		for i, file := range files {
			f := readFile{from: tb.rows, captures: filename.Captures{"part": "K1",
				"slot": time.Date(2020+i, 1, 1, 0, 0, 0, 0, time.UTC)}}
			for _, r := range strings.Split(file, "|") {
				tb.rows++
				for i, cell := range strings.Split(r, ",") {
					tb.columns[i].text(cell)
				}
			}
			f.to = tb.rows
			tb.files = append(tb.files, f)
		}
		types := make([]found, len(tb.columns))
		for i, c := range tb.columns {
			types[i] = c.judge()
		}
		out = tb.chooseKey(types, strings.Split(header, ","), &n)
		for _, c := range out.columns {
			key = append(key, tb.columns[c].source)
		}
		return append(key, out.captures...), out
	}
	names := func(year int) string {
		var rows []string
		for i := range 60 {
			rows = append(rows, fmt.Sprintf("%c%d,%s,%d", 'A'+i/20, (i/2+year)%25, []string{"m", "f"}[i%2], i*7%50+year))
		}
		return strings.Join(rows, "|")
	}
	for _, c := range []struct {
		header string
		files  []string
		key    string
		note   string
	}{
		{"id,name", []string{"1,a|2,a"}, "id", "only 2 rows"},
		{"station,hour,level", []string{"a,1,5|a,2,5|b,1,5|b,2,6"}, "station hour slot", "the time in its name is taken"},
		{"level,id", []string{"1.5,a|2.5,b|3.5,c"}, "id", ""},
		{"a,b", []string{"x,y|x,y"}, "", ""},
		{"id,revised_at", []string{"1,2026-07-01|1,2026-07-02|2,2026-07-01"}, "id revised_at", ""},
		{"gate,day,height", []string{"a,2026-07-01,1.5|b,2026-07-01,2.5"}, "gate day", "taken for its time"},
		{"name,sex,births", []string{names(0), names(1), names(2)}, "name sex slot", "part of the key"},
		{"client_id,born,visits", []string{"1,1990-01-01,5|2,1991-02-03,6|3,1970-03-04,7",
			"1,1990-01-01,6|2,1991-02-03,8|3,1970-03-04,9"}, "client_id", ""},
	} {
		key, out := of(c.header, c.files...)
		assert.Equal(t, c.key, strings.Join(key, " "), "%s %v", c.header, out)
		assert.Contains(t, strings.Join(out.notes, "; "), c.note, c.header)
	}
	_, out := of("client_id,born", "1,1990-01-01|2,1991-02-03", "1,1990-01-01|2,1991-02-03")
	assert.Equal(t, "slot", out.newest)
	assert.Contains(t, out.absent, "each seems to be the whole table")
	_, out = of("a,b", "x,y|x,y|x,z")
	assert.Contains(t, out.near, "[b] would lose 1 of 3 rows")
}
