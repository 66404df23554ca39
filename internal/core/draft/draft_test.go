package draft

import (
	"archive/zip"
	"bytes"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/decode"
	"mullein/internal/core/feed"
	"mullein/internal/core/filename"
	"mullein/internal/core/tabular"
)

func sample(path, content string) Sample {
	return Sample{Path: path, Open: func() (decode.Source, func(), error) {
		r := strings.NewReader(content)
		return decode.Source{Name: path, Bytes: strings.NewReader(content), File: r,
			Size: int64(len(content))}, func() {}, nil
	}}
}

func propose(t *testing.T, samples []Sample) ([]Feed, []Left) {
	t.Helper()
	out, err := Propose(samples, Options{At: "landing/x"})
	require.NoError(t, err)
	return out.Feeds, out.Left
}

// works demands that a draft is a feed, takes its samples by their names, and
// reads every row of them.
func works(t *testing.T, d Feed, samples []Sample) *feed.Feed {
	t.Helper()
	f, err := feed.Parse(d.Name+".yaml", []byte(d.Text))
	require.NoError(t, err, d.Text)
	for _, s := range samples {
		assert.Empty(t, f.Landing.Look(s.Path, 10).Why, d.Text)
		source, done, err := s.Open()
		require.NoError(t, err)
		rows, err := decode.Open(source, f.How())
		require.NoError(t, err)
		header, err := rows.Header()
		require.NoError(t, err)
		columns, err := f.Schema.Compile(f.Zone)
		require.NoError(t, err)
		var positions []int
		if selector, ok := rows.(decode.Selector); ok {
			var sources []string
			for i, c := range columns {
				sources, positions = append(sources, c.Field.SourceName()), append(positions, i)
			}
			require.NoError(t, selector.Select(sources))
		} else if header != nil {
			positions, err = f.Schema.MatchHeader(header)
			require.NoError(t, err)
		} else {
			for i := range columns {
				positions = append(positions, i)
			}
		}
		for {
			rec, err := rows.Next()
			if err == io.EOF {
				break
			}
			require.NoError(t, err)
			var v tabular.Value
			for i, c := range columns {
				if rec.Values != nil {
					require.NoError(t, c.Take(&rec.Values[positions[i]], &v), "%s: %s", s.Path, d.Text)
				} else {
					require.NoError(t, c.Convert(rec.Cells[positions[i]], &v), "%s, line %d: %s", s.Path, rec.Line,
						d.Text)
				}
			}
		}
		done()
	}
	return f
}

func TestDrafts(t *testing.T) {
	var many strings.Builder
	many.WriteString("station,day,level,code,share\n")
	for n := range 300 {
		fmt.Fprintf(&many, "SR%02d,2026-07-%02d,%d,0%03d,%d\n", n%15, 1+n/15, []int{n % 7, -999}[n%50/49], n%9, n%2)
	}
	for name, c := range map[string]struct {
		samples []Sample
		want    []string
	}{
		"semicolons, commas, a date in the " +
			"name": {[]Sample{sample("GAUGE_K1_20260701T1200.csv",
			"# from the office\nStation;Zeit;Pegel (m)\nSR01;01.07.2026 12:00;2,5\nSR02;13.07.2026 "+
				"12:00;-3,25\n"), sample("GAUGE_K2_20260701T1215.csv",
			"Station;Zeit;Pegel (m)\nSR03;01.07.2026 12:15;4,5\n")},
			[]string{`delimiter: ";"`, `files: "GAUGE_{part}_{slot:%Y%m%dT%H%M}.csv"`,
				`name: zeit, type: datetime, source: "Zeit", format: "%d.%m.%Y %H:%M"`,
				`name: pegel_m, type: number, source: "Pegel (m)", decimalChar: ","`, "feed: gauge"}},
		"a key of two columns, a mark for no value, leading zeros": {[]Sample{sample("levels.csv", many.String())},
			[]string{"primaryKey: [station, day]", `name: level, type: integer, missingValues: ["", "-999"]`,
				"-999 is far below all others", "name: code}", "leading zeros", "its name carries no date"}},
		"either order of day and month": {[]Sample{sample("x.csv", "id,at\n1,03/04/2026\n2,05/06/2026\n")},
			[]string{`format: "%d/%m/%Y"`, "uncertain: %m/%d/%Y would fit as well"}},
		"no header": {[]Sample{sample("x.csv", "1,2026-07-01,5\n2,2026-07-02,6\n")},
			[]string{"header: false", "name: column_1, type: integer", "taken by position"}},
		"truth and blanks": {[]Sample{sample("x.csv", "id,ok,note\n1,yes,n/a\n2,no,\n3,yes,\n")},
			[]string{`trueValues: ["yes"], falseValues: ["no"]`, "nothing but blanks was seen"}},
		"JSON with rows in it": {[]Sample{sample("LAB_2026-07-01.json",
			`[{"s": {"id": "a", "x.y": 1}, "revised": "2026-07-01T12:00:00Z", "results": [{"code": "pH", "value": 7.5}, {"code": "T", "value": null}]}]`)},
			[]string{"format: json", "each: results", `source: "s.id"`, `source: "results.value"`, "newest: revised",
				"primaryKey: [id, code]", "one document was seen"}},
		"lines of JSON": {[]Sample{sample("a.jsonl", "{\"id\": 1, \"tags\": [\"x\"]}\n{\"id\": 2}\n")},
			[]string{"format: jsonl", "name: tags, type: array", "primaryKey: [id]"}},
		"another charset": {[]Sample{sample("a.csv", "id,ort\n1,M\xfchlbach\n2,Tor\n")},
			[]string{"encoding: windows-1252", "uncertain: it is no UTF-8"}},
		"UTF-16": {[]Sample{sample("a.csv", "\xff\xfei\x00d\x00;\x00x\x00\n\x001\x00;\x002\x00\n\x00")},
			[]string{"encoding: utf-16", "type: integer"}},
		"fixed places": {[]Sample{sample("levels 2026-07-01.txt",
			"# out of the logger\nSR0001 20260701   1.50 G\nSR0002 20260702  -2.25 F\nSR0003 20260703  10.00\n")},
			[]string{"format: fixed", `dialect: {commentChar: "#"}`,
				`{name: column_1, source: "1-7", constraints: {required: true}}`,
				`{name: column_3, type: number, source: "16-23"}`, "uncertain: no delimiter was found"}},
		"fixed places with a header": {[]Sample{sample("levels.txt",
			"STATION LEVEL\nSR0001    1.5\nSR0002   22.5\n")},
			[]string{"header: true", `{name: station, source: "1-7", constraints`,
				`{name: level, type: number, source: "8-13"`}},
		"in a zip": {[]Sample{zipOf(t, "SNOW_20260701.zip", "north/a.csv", "id;cm\n1;5\n"),
			zipOf(t, "SNOW_20260702.zip", "b.csv", "id;cm\n2;7\n")},
			[]string{`files: "SNOW_{slot:%Y%m%d}.zip/**/{part}.csv"`, "feed: snow", "primaryKey: [id]"}},
		"names that a table has itself": {[]Sample{sample("x.csv", "id,loaded_at,ctid,from_file\n1,2026-01-01,5,a\n2,2026-01-02,6,b\n")},
			[]string{`{name: loaded_at_2, type: date, source: "loaded_at"}`, `{name: ctid_2, type: integer, source: "ctid"}`,
				`{name: from_file_2, source: "from_file"}`}},
		"names without a form in common": {[]Sample{sample("jonas 01.07.2026.csv", "id,x\n1,2\n"),
			sample("Grete neu 02.07.2026 (2).csv", "id,x\n3,4\n")}, []string{`files: "{part} {slot:%d.%m.%Y}*.csv"`}},
	} {
		feeds, left := propose(t, c.samples)
		require.Empty(t, left, name)
		require.Len(t, feeds, 1, name)
		for _, want := range c.want {
			assert.Contains(t, feeds[0].Text, want, name)
		}
		plain, _ := unzipped(c.samples)
		works(t, feeds[0], plain)
	}
}

// zipOf is a zip with one file in it.
func zipOf(t *testing.T, at, name, content string) Sample {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	w, err := z.Create(name)
	require.NoError(t, err)
	_, err = w.Write([]byte(content))
	require.NoError(t, errors.Join(err, z.Close()))
	return sample(at, b.String())
}

func TestAFolderOfManyKinds(t *testing.T) {
	samples := []Sample{
		sample("a/GAUGE_20260701.csv", "id,level\n1,2.5\n2,3\n"), sample("b/GAUGE_20260702.csv.bad", "\x00\x01"),
		sample("GAUGE_20260703.csv", "id,level\n1,2.5\n"),
		sample("STATIONS_20260701.csv", "id;name\n1;Weir\n"), sample("notes.txt", ""),
		sample("lab.jsonl", "{\"id\": 5}\n"), sample("letter.txt", "Dear colleagues,\nplease find the levels in this folder. "+
			"As you know, the gauge\nwas out of order, and some values of the 4th, 5th and 6th\nare missing.\n"),
	}
	feeds, left := propose(t, samples)
	var names []string
	for _, f := range feeds {
		names = append(names, f.Name)
		_, err := feed.Parse(f.Name, []byte(f.Text))
		assert.NoError(t, err, f.Text)
	}
	assert.ElementsMatch(t, []string{"gauge", "stations", "lab"}, names)
	require.Len(t, left, 3)
	assert.Contains(t, left[1].Why, "a text for people")
	assert.Contains(t, left[2].Why, "empty")
	_, err := Propose(nil, Options{})
	assert.ErrorContains(t, err, "no files")
}

// TestADraftWithoutAKey proposes to add rows where no column can tell them apart,
// and says that it is uncertain.
func TestADraftWithoutAKey(t *testing.T) {
	for content, want := range map[string]string{
		`[{"profile": [1, 2]}, {"profile": [3]}]`:                            "mode: append  # no columns tell all rows apart",
		`[{"profile": [1, 2], "probe": "P1"}, {"profile": [3]}]`:             "mode: append",
		`[{"profile": [1], "probe": "P1"}, {"profile": [1], "probe": "P2"}]`: "primaryKey: [probe]",
	} {
		feeds, _ := propose(t, []Sample{sample("profiles.json", content)})
		require.Len(t, feeds, 1)
		assert.Contains(t, feeds[0].Text, want)
		_, err := feed.Parse("x", []byte(feeds[0].Text))
		assert.NoError(t, err, feeds[0].Text)
	}
}

// TestNamesWithCharactersOfPatterns takes files whose names hold what means
// something else in a pattern.
func TestNamesWithCharactersOfPatterns(t *testing.T) {
	for _, names := range [][]string{{"GAUGE 20260701 (1).csv"}, {"a|b*c?.csv"}, {"x{1}[2]}.csv"},
		{"LAB (K1) 20260701.csv", "LAB (K1) 20260702.csv"}, {"r(1).cs(v)", "r(2).tx(t)"}} {
		var samples []Sample
		for _, name := range names {
			samples = append(samples, sample(name, "id,level\n1,2\n2,3\n"))
		}
		feeds, _ := propose(t, samples)
		require.Len(t, feeds, 1)
		f, err := feed.Parse("x", []byte(feeds[0].Text))
		require.NoError(t, err, feeds[0].Text)
		for _, name := range names {
			assert.Empty(t, f.Landing.Look(name, 1).Why, "%s\n%s", name, feeds[0].Text)
		}
	}
}

// TestKeysThatAreNoPlainNames proposes sources that reach what has dots, slashes or
// nothing in its name.
func TestKeysThatAreNoPlainNames(t *testing.T) {
	content := `[{"a.b": 1, "c": {"d/e": 2, "": 3, "f": {"~": 4}}, "*": 5, "list.s": [{"x.y": 6}, {"x.y": 7}]}]`
	feeds, _ := propose(t, []Sample{sample("odd.json", content)})
	require.Len(t, feeds, 1)
	text := feeds[0].Text
	for _, want := range []string{`source: "/a.b"`, `source: "/c/d~1e"`, `source: "/c/"`, `source: "c.f.~"`,
		`source: "/*"`, `each: "/list.s"`, `source: "/list.s/x.y"`} {
		assert.Contains(t, text, want)
	}
	f, err := feed.Parse("x", []byte(text))
	require.NoError(t, err, text)
	assert.Equal(t, "/list.s", f.Each)
}

// FuzzPropose demands that whatever is drafted is a feed, and takes its file.
func FuzzPropose(f *testing.F) {
	f.Add("GAUGE_20260701.csv", "id;x\n1;2\n")
	f.Add("a.json", `[{"a": {"b": [1]}, "c": [{"d": 1}]}]`)
	f.Fuzz(func(t *testing.T, path, content string) {
		path = "x" + strings.Map(func(r rune) rune {
			if r == '/' || r < ' ' || r > '~' {
				return '_'
			}
			return r
		}, path[:min(len(path), 254)]) // the longest name that a file can have
		feeds, _ := propose(t, []Sample{sample(path, content)})
		for _, d := range feeds {
			f, err := feed.Parse("x", []byte(d.Text))
			if err != nil && !strings.Contains(err.Error(), "two fields read") && !strings.Contains(err.Error(),
				"brackets nested") {
				t.Fatalf("%v\n%s", err, d.Text)
			}
			if err == nil && filename.LeftOut(path, 1) == "" {
				require.Empty(t, f.Landing.Look(path, 1).Why, "%q is not taken by\n%s", path, d.Text)
			}
		}
	})
}

// TestADraftForATable names the columns that a table has, by their names, what they look
// like and what they take.
func TestADraftForATable(t *testing.T) {
	into := &Into{Connection: "main", Table: "river.client", Keys: [][]string{{"customer_id"}}, Primary: true, Columns: []IntoColumn{
		{"customer_id", "integer", true}, {"full_name", "character varying(20)", true}, {"born", "date", false},
		{"loaded_at", "timestamp with time zone", false}, {"level", "bigint", false}, {"kind", "text", true}}}
	out, err := Propose([]Sample{sample("Clients 2026-11-20.csv",
		"CustID;FullNm;Birth;Level;Fax\n17;Ada Weir;1980-02-03;1.5;x\n18;Ben Mill;1981-04-05;2.5;y\n")},
		Options{At: "landing", Into: into})
	require.NoError(t, err)
	text := out.Feeds[0].Text
	for _, want := range []string{`{name: customer_id, type: integer, source: "CustID", constraints: {required: true}}`,
		`{name: full_name, source: "FullNm", constraints: {maxLength: 20, required: true}}`, `{name: born, type: date, source: "Birth"}`,
		"the only column of the table that is left", "Level looks like level, whose type bigint does not take its values",
		"river.client has no column for Fax", "nothing fills kind of river.client, which must not be null",
		"primaryKey: [customer_id]  # the primary key of river.client", "lineage: {loaded_at: loaded_at}", "table: river.client"} {
		assert.Contains(t, text, want)
	}
	_, err = feed.Parse("x", []byte(text))
	assert.NoError(t, err, text)
	_, err = Propose([]Sample{sample("a.csv", "id,x\n1,2\n"), sample("b.csv", "n,y,z\n1,2,3\n")}, Options{Into: into})
	assert.ErrorContains(t, err, "2 kinds of files")
}

// TestWhatIsNoData leaves files out, and says why.
func TestWhatIsNoData(t *testing.T) {
	for name, want := range map[string]string{"_SUCCESS": "a mark", "a.csv.crc": "a checksum", "README.txt": "a text for people",
		"a.csv~": "a backup", "a.csv.bak": "a backup", "#a.csv#": "a backup", "~$a.xlsx": "a backup", "x/_delta_log/0.json": "no data",
		"a.csv.ok": "a mark that another", "Thumbs.db": "of the desktop", ".hidden": "a dot-file", "a backup.csv": "a backup",
		"a.csv": "", "notice_2026.csv": "", "readings.txt": "", "changes_20261101.csv": ""} {
		if why := leftOut(name); want == "" {
			assert.Empty(t, why, name)
		} else {
			assert.Contains(t, why, want, name)
		}
	}
	wide := strings.Repeat("a,", 1200) + "b\n"
	for i := range 1200 {
		wide = strings.Replace(wide, "a,", fmt.Sprintf("a%d_,", i), 1)
	}
	_, left := propose(t, []Sample{sample("wide.csv", strings.ReplaceAll(wide, "_,", ",")+strings.Repeat("1,", 1200)+"1\n")})
	require.Len(t, left, 1)
	assert.Equal(t, "1201 columns; a feed takes 1000 at most", left[0].Why)
}

// FuzzFolder demands that whatever is drafted for several files is a feed, takes the files that
// it is for, and reads their rows.
func FuzzFolder(f *testing.F) {
	f.Add("GAUGE_20261101.csv", "id;x\n1;2\n", "GAUGE_20261102.csv", "id;x\n3;2,5\n", "SITES.json", `{"a": [{"b": 1}, {"b": 2}]}`)
	f.Add("a/x_1.csv", "a,b\nx,\n", "a/x_2.csv", "b,a,c\n1,2,3\n", "_SUCCESS", "")
	f.Add("2026/11/01/q.txt", "1  a\n2  b\n3  c\n", "2026/11/02/q.txt", "title\nk;v\n1;2\nTotal;2\n", "s.sql", "create table t (a int)")
	f.Add("region=n/1.jsonl", "{\"k\": {\"x\": 1}}\n{}\n", "region=s/1.jsonl", "{\"k\": 5}\n", "t.avsc", `{"type":"record","name":"t","fields":[]}`)
	f.Fuzz(func(t *testing.T, n1, c1, n2, c2, n3, c3 string) {
		var samples []Sample
		for _, one := range [][2]string{{n1, c1}, {n2, c2}, {n3, c3}} {
			name := strings.Map(func(r rune) rune {
				if r < ' ' || r > '~' {
					return '_'
				}
				return r
			}, one[0][:min(len(one[0]), 100)])
			if name = path.Clean("/" + name)[1:]; name == "" || strings.HasSuffix(name, ".zip") || slices.ContainsFunc(samples,
				func(s Sample) bool { return s.Path == name }) {
				continue
			}
			samples = append(samples, sample(name, one[1]))
		}
		out, err := Propose(samples, Options{At: "landing"})
		if err != nil {
			return
		}
		for _, d := range out.Feeds {
			f, err := feed.Parse("x", []byte(d.Text))
			if err != nil && !strings.Contains(err.Error(), "two fields read") && !strings.Contains(err.Error(), "brackets nested") {
				t.Fatalf("%v\n%s", err, d.Text)
			}
			for _, p := range d.Files {
				if err == nil && !strings.Contains(d.Text, "with_columns") {
					require.Empty(t, f.Landing.Look(p, 1).Why, "%q is not taken by\n%s", p, d.Text)
				}
			}
		}
	})
}

// TestOddHeadersBreakNoDraft has headers and files that would end a comment.
func TestOddHeadersBreakNoDraft(t *testing.T) {
	into := &Into{Connection: "main", Table: "river.level", Columns: []IntoColumn{{"level_feed_evil", "text", false}}}
	for _, o := range []Options{{At: "landing"}, {At: "landing", Into: into}} {
		out, err := Propose([]Sample{sample("x_20261101.csv", "\"Level\nfeed: evil\",\"a: b # c\",\"\x01c\u2028'}\"\nx,2,3\ny,5,6\n")}, o)
		require.NoError(t, err)
		require.Len(t, out.Feeds, 1, out.Left)
		f, err := feed.Parse("x", []byte(out.Feeds[0].Text))
		require.NoError(t, err, out.Feeds[0].Text)
		assert.Equal(t, "x", f.Name)
	}
}

// TestManyKindsUnderNamesAlike has names that differ in digits only, of which each number is a
// kind of its own, and as many files of one kind.
func TestManyKindsUnderNamesAlike(t *testing.T) {
	var samples []Sample
	for k := range 250 {
		for d := range 3 {
			samples = append(samples, sample(fmt.Sprintf("feed%d_2026110%d.csv", k, d+1),
				fmt.Sprintf("id,col_%d,val_%d\n%d,x,1\n", k, k, d)))
		}
	}
	feeds, left := propose(t, samples)
	assert.Empty(t, left)
	assert.Len(t, feeds, 250)
	for _, f := range feeds {
		assert.Len(t, f.Files, 3)
		assert.NotContains(t, f.Text, "with_columns", "their names tell them apart")
	}
	samples = nil
	for k := range 700 {
		samples = append(samples, sample(fmt.Sprintf("level_%04d.csv", k), "id,level\n1,2.5\n"))
	}
	feeds, _ = propose(t, samples)
	require.Len(t, feeds, 1)
	assert.Len(t, feeds[0].Files, 700)
	assert.Contains(t, feeds[0].Text, "A draft from 24 of 700 files")
}
