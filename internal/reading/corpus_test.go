package reading

import (
	"archive/zip"
	"bytes"
	"compress/gzip"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/hamba/avro/v2/ocf"
	"github.com/parquet-go/parquet-go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/decode"
	"mullein/internal/core/draft"
	"mullein/internal/core/feed"
	"mullein/internal/core/tabular"
)

// sampleFolder is a folder as a supplier leaves one, and the feeds that an expert would
// write for it.
type sampleFolder struct {
	name    string
	files   map[string]string
	experts []string
}

// expert writes a feed. fields are name:type, or name<source>:type; more is further lines
// of the feed file.
func expert(files, fields, key string, more ...string) string {
	var list []string
	for _, f := range strings.Fields(fields) {
		name, kind, _ := strings.Cut(f, ":")
		name, source, _ := strings.Cut(strings.TrimSuffix(name, ">"), "<")
		field := "name: " + name
		if source != "" {
			field += ", source: \"" + strings.ReplaceAll(source, "~", " ") + "\""
		}
		kind, options, _ := strings.Cut(kind, "|")
		if kind != "" {
			field += ", type: " + kind
		}
		if options != "" {
			field += ", " + strings.ReplaceAll(options, "~", " ")
		}
		list = append(list, "    - {"+field+"}")
	}
	mode, match := "", ""
	var rest []string
	for _, m := range more {
		if strings.HasPrefix(m, "fieldsMatch") {
			match = "  " + m + "\n"
			continue
		}
		rest = append(rest, m)
	}
	primary := "  primaryKey: [" + key + "]\n"
	if key == "" {
		primary, mode = "", ", mode: append"
	}
	return "feed: x\nlanding: {at: in, files: \"" + files + "\"}\n" + strings.Join(rest, "\n") + "\nschema:\n" + match +
		"  fields:\n" + strings.Join(list, "\n") + "\n" + primary + "target: {table: public.x" + mode + "}\n"
}

// rowsOf writes lines below a header.
func rowsOf(header string, n int, row func(i int) string) string {
	var b strings.Builder
	if header != "" {
		b.WriteString(header + "\n")
	}
	for i := range n {
		b.WriteString(row(i) + "\n")
	}
	return b.String()
}

// day counts days from the first of November 2026.
func day(n int) time.Time { return time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC).AddDate(0, 0, n) }

// series is a file for each of so many days.
func series(n int, name string, content func(i int) string) map[string]string {
	out := map[string]string{}
	for i := range n {
		out[day(i).Format(name)] = content(i)
	}
	return out
}

func with(files map[string]string, more ...string) map[string]string {
	for i := 0; i < len(more); i += 2 {
		files[more[i]] = more[i+1]
	}
	return files
}

func gzipped(text string) string {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	_, _ = io.WriteString(z, text)
	_ = z.Close()
	return b.String()
}

func zipped(members ...string) string {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for i := 0; i < len(members); i += 2 {
		w, _ := z.Create(members[i])
		_, _ = io.WriteString(w, members[i+1])
	}
	_ = z.Close()
	return b.String()
}

func parquetOf[T any](rows []T) string {
	var b bytes.Buffer
	w := parquet.NewGenericWriter[T](&b)
	_, _ = w.Write(rows)
	_ = w.Close()
	return b.String()
}

type probeRow struct {
	Buoy  string            `parquet:"buoy"`
	At    time.Time         `parquet:"at,timestamp(microsecond)"`
	Depth float64           `parquet:"depth_m"`
	Temp  *float64          `parquet:"temp_c,optional"`
	Where probeWhere        `parquet:"place"`
	Tags  []string          `parquet:"tags,list"`
	More  map[string]string `parquet:"more"`
}

type probeWhere struct {
	Lon float64 `parquet:"lon"`
	Lat float64 `parquet:"lat"`
}

func probes(from, n int) (out []probeRow) {
	for i := range n {
		t := float64(i%30) / 2
		out = append(out, probeRow{fmt.Sprintf("B%d", i%3), day(from).Add(time.Duration(i/30) * time.Hour),
			float64(i / 3 % 10), &t, probeWhere{float64(i%3) + 0.5, 37.25}, []string{"a"}, map[string]string{"k": "v"}})
	}
	return out
}

// avroTrips is a file of trips whose numbers go up from one.
func avroTrips(from int) string {
	const schema = `{"type": "record", "name": "trip", "namespace": "sorrel", "fields": [{"name": "id", "type": "string"},
		{"name": "began", "type": {"type": "long", "logicalType": "timestamp-millis"}},
		{"name": "purpose", "type": {"type": "enum", "name": "purpose", "symbols": ["SURVEY", "REPAIR"]}},
		{"name": "place", "type": {"type": "record", "name": "place", "fields": [{"name": "lon", "type": "double"},
			{"name": "lat", "type": "double"}]}},
		{"name": "crew", "type": {"type": "array", "items": "string"}},
		{"name": "more", "type": {"type": "map", "values": "int"}}, {"name": "litres", "type": ["null", "double"]}]}`
	var b bytes.Buffer
	e, err := ocf.NewEncoder(schema, &b)
	if err != nil {
		panic(err)
	}
	for i := range 60 {
		err := e.Encode(map[string]any{"id": fmt.Sprintf("T%d", from+i), "began": day(0).Add(time.Duration(i/2) * time.Hour),
			"purpose": []string{"SURVEY", "REPAIR"}[i%2], "place": map[string]any{"lon": float64(i % 7), "lat": 37.5},
			"crew": []string{"ada"}, "more": map[string]any{"dives": i}, "litres": map[string]any{"double": float64(i) / 4}})
		if err != nil {
			panic(err)
		}
	}
	if err := e.Close(); err != nil {
		panic(err)
	}
	return b.String()
}

// pick chooses by chance, the same each time.
func pick(seed uint64) func(of ...string) string {
	r := rand.New(rand.NewPCG(seed, 7))
	return func(of ...string) string { return of[r.IntN(len(of))] }
}

// corpus is the folders by which the draft is measured.
func corpus() []sampleFolder {
	var out []sampleFolder
	add := func(name string, files map[string]string, experts ...string) {
		out = append(out, sampleFolder{name, files, experts})
	}
	gauge := func(d int) string {
		return rowsOf("Station;Zeit;Pegel", 96, func(i int) string {
			return fmt.Sprintf("SR%02d;%s;%d,%d", i%4, day(d).Add(time.Duration(i/4)*time.Hour).Format("02.01.2006 15:04"), i%7,
				i%10)
		})
	}
	const gaugeFields = `station<Station>: zeit<Zeit>:datetime|format:~"%d.%m.%Y~%H:%M" pegel<Pegel>:number|decimalChar:~","`
	semicolons := `dialect: {delimiter: ";"}`
	add("gauges by day", series(4, "GAUGE_20060102.csv", gauge),
		expert("GAUGE_{slot:%Y%m%d}.csv", gaugeFields, "station, zeit", semicolons))
	add("dates the other way round", series(3, "Zaehler_02-01-2006.csv", gauge),
		expert("Zaehler_{slot:%d-%m-%Y}.csv", gaugeFields, "station, zeit", semicolons))
	add("one day of each month", map[string]string{"level_01-09-2026.csv": gauge(0), "level_01-10-2026.csv": gauge(30)},
		expert("level_{slot:%d-%m-%Y}.csv", gaugeFields, "station, zeit", semicolons))
	add("months first", series(25, "level_01-02-2006.csv", gauge),
		expert("level_{slot:%m-%d-%Y}.csv", gaugeFields, "station, zeit", semicolons))
	add("packed, capitals differ", map[string]string{"Level_20261101.CSV": gauge(0), "LEVEL_20261102.csv.gz": gzipped(gauge(1))},
		expert("LEVEL_{slot:%Y%m%d}.(csv|csv.gz)", gaugeFields, "station, zeit", semicolons))
	add("days in folders", series(3, "2006/01/02/levels.csv", gauge),
		expert("{slot:%Y/%m/%d}/levels.csv", gaugeFields, "station, zeit", semicolons))
	add("months as names", map[string]string{"level_Jan2026.csv": gauge(0), "level_Feb2026.csv": gauge(31)},
		expert("level_{slot:%b%Y}.csv", gaugeFields, "station, zeit", semicolons))
	add("a catchment in the name", map[string]string{"GAUGE_K1_20261101.csv": gauge(0), "GAUGE_K2_20261101.csv": gauge(1),
		"GAUGE_K1_20261102.csv": gauge(2)}, expert("GAUGE_{part}_{slot:%Y%m%d}.csv", gaugeFields, "station, zeit", semicolons))
	add("from and until", map[string]string{"level_20261101-20261107.csv": gauge(0), "level_20261108-20261114.csv": gauge(7)},
		expert("level_{slot:%Y%m%d}-{until:%Y%m%d}.csv", gaugeFields, "station, zeit", semicolons))
	add("hours", map[string]string{"level_2026110100.csv": gauge(0), "level_2026110101.csv": gauge(1)},
		expert("level_{slot:%Y%m%d%H}.csv", gaugeFields, "station, zeit", semicolons))

	// Keys.
	p := pick(1)
	add("measurements without a key", map[string]string{"birds.csv": rowsOf("species,island,bill_length_mm,flipper_mm,sex",
		344, func(i int) string {
			return fmt.Sprintf("%s,%s,%d.%d,%d,%s", p("A", "B", "C"), p("N", "S"), 30+i%20, i%7, 180+i%40, p("m", "f", "NA"))
		})}, expert("birds.csv", "species: island: bill_length_mm:number flipper_mm:integer sex:", ""))
	add("vectors on a grid", map[string]string{"wind.csv": rowsOf("longitude,latitude,dir,dirCat,speed", 4800, func(i int) string {
		return fmt.Sprintf("%d.%d,%d.5,%d,%d,%d.%02d", i%80/10, i%10, 40+i/80, i*7%360, i%8, i%20, i%97)
	})}, expert("wind.csv", "longitude:number latitude:number dir:integer dircat<dirCat>:integer speed:number",
		"longitude, latitude"))
	add("films", map[string]string{"films.csv": rowsOf("Title,Gross,Release_Date,Genre,Rating", 3201, func(i int) string {
		return fmt.Sprintf("%s %d,%d,%s,%s,%d.%d", p("Rain", "Night", "River"), i%1500, i*37%90000,
			day(-i%1600).Format("2006-01-02"), p("Drama", "", "Comedy"), i%10, i%10)
	})}, expert("films.csv", "title<Title>: gross<Gross>:integer release_date<Release_Date>:date genre<Genre>: rating<Rating>:number",
		"title, release_date"))
	add("energy as a measure", map[string]string{"plants.csv": rowsOf("kind,region,energy_mwh", 120, func(i int) string {
		return fmt.Sprintf("%s,%s,%d", p("hydro", "wind"), p("north", "south"), 1000+i*13)
	})}, expert("plants.csv", "kind: region: energy_mwh:integer", ""))
	add("a key with nulls", map[string]string{"sites.csv": rowsOf("code,name,river", 68, func(i int) string {
		code := fmt.Sprintf("S%03d", i)
		if i%11 == 3 {
			code = ""
		}
		return fmt.Sprintf("%s,Site %d,%s", code, i, p("Sorrel", "Mill"))
	})}, expert("sites.csv", "code: name: river:", "name"))
	add("a column of nothing", map[string]string{"events.csv": rowsOf("ref,id,note", 60, func(i int) string {
		return fmt.Sprintf(",E%d,%s", i, p("a b", "c d"))
	})}, expert("events.csv", "ref: id: note:", "id"))
	add("snapshots of clients", series(3, "clients_2006-01-02.csv", func(d int) string {
		return rowsOf("client_id,name,born,visits", 200, func(i int) string {
			return fmt.Sprintf("%d,%s,%s,%d", 1000+i*3, p("Ada", "Ben", "Cleo")+fmt.Sprint(i/4), day(-9000-i*11).Format("2006-01-02"),
				i%9+d*(i%2))
		})
	}), expert("clients_{slot:%Y-%m-%d}.csv", "client_id:integer name: born:date visits:integer", "client_id"))
	years := func(year int) string {
		return rowsOf("", 300, func(i int) string {
			return fmt.Sprintf("%c%c%s,%s,%d", 'A'+(i/2+year)%26, 'a'+i/2/26, p("na", "na"), []string{"F", "M"}[i%2], 900-i*2+year%5)
		})
	}
	yob := map[string]string{}
	for y := 1880; y < 1892; y++ {
		yob[fmt.Sprintf("yob%d.txt", y)] = years(y)
	}
	add("a year in the name", yob, expert("yob{slot:%Y}.txt", "column_1: column_2: column_3:integer",
		"column_1, column_2, year", "dialect: {header: false}", "derive: {year: file.captures.slot.getFullYear()}"))
	months := map[string]string{}
	for y := 2015; y < 2020; y++ {
		months[fmt.Sprintf("rain_%d.csv", y)] = rowsOf("station,month,rain_mm", 60, func(i int) string {
			return fmt.Sprintf("S%d,%d,%d.%d", i/12, i%12+1, i*7%50+y%10, i%10)
		})
	}
	add("months, the year in the name", months, expert("rain_{slot:%Y}.csv", "station: month:integer rain_mm:number",
		"station, month, year", "derive: {year: file.captures.slot.getFullYear()}"))
	hourly := func(n int) string {
		return rowsOf("time,level", 100, func(i int) string {
			return day(0).Add(time.Duration(i)*time.Hour).Format(time.RFC3339) + fmt.Sprintf(",%d.5", i%9+n)
		})
	}
	add("a station as a folder", map[string]string{"SR01/levels.csv": hourly(1), "SR02/levels.csv": hourly(20)},
		expert("{part}/levels.csv", "time:datetime level:number", "time, part", "derive: {part: file.captures.part}"))
	add("forecasts", map[string]string{"fc_20261101.csv": hourly(1), "fc_20261102.csv": hourly(20)},
		expert("fc_{slot:%Y%m%d}.csv", "time:datetime level:number", "time, at", "derive: {at: file.captures.slot}"))
	add("nothing tells them apart", map[string]string{"a/x/levels.csv": hourly(1), "b/levels.csv": hourly(20)},
		expert("**/levels.csv", "time:datetime level:number", ""))
	add("a station in the name", map[string]string{"station_A1.csv": rowsOf("time,level", 200, func(i int) string {
		return day(0).Add(time.Duration(i)*time.Hour).Format(time.RFC3339) + fmt.Sprintf(",%d.5", i%9)
	}), "station_B7.csv": rowsOf("time,level", 200, func(i int) string {
		return day(0).Add(time.Duration(i)*time.Hour).Format(time.RFC3339) + fmt.Sprintf(",%d.25", i%7)
	})}, expert("station_{station}.csv", "time:datetime level:number", "time, station",
		"derive: {station: file.captures.station}"))
	add("one series", map[string]string{"temperatures.csv": rowsOf("Date,Temp", 700, func(i int) string {
		return day(i-700).Format("2006-01-02") + fmt.Sprintf(",%d.%d", i%30, i%10)
	})}, expert("temperatures.csv", "date<Date>:date temp<Temp>:number", "date"))
	add("corrections", series(4, "fix_20060102.csv", func(d int) string {
		return rowsOf("station,day,level,revised_at", 50, func(i int) string {
			return fmt.Sprintf("S%d,%s,%d,%s", i%10, day(d+i/10).Format("2006-01-02"), i%5+d, day(d+9).Format("2006-01-02T15:04:05Z"))
		})
	}), expert("fix_{slot:%Y%m%d}.csv", "station: day:date level:integer revised_at:datetime", "station, day"))
	add("orders by number", series(3, "orders_20060102.csv", func(d int) string {
		return rowsOf("order_no,client,ordered,total", 80, func(i int) string {
			return fmt.Sprintf("%d,C%d,%s,%d.50", 5000+d*80+i, i%30, day(d).Format("2006-01-02"), i*3)
		})
	}), expert("orders_{slot:%Y%m%d}.csv", "order_no:integer client: ordered:date total:number", "order_no"))
	add("lines of orders", map[string]string{"lines.csv": rowsOf("order_no,line_no,item,qty", 400, func(i int) string {
		return fmt.Sprintf("%d,%d,%s,%d", 1+i/4, 1+i%4, p("pipe", "valve", "bolt"), i%9)
	})}, expert("lines.csv", "order_no:integer line_no:integer item: qty:integer", "order_no, line_no"))
	add("codes with leading zeros", map[string]string{"areas.csv": rowsOf("area_code,name", 99, func(i int) string {
		return fmt.Sprintf("%04d,Area %d", i*7, i)
	})}, expert("areas.csv", "area_code: name:", "area_code"))
	add("uuids", map[string]string{"visits.csv": rowsOf("visit,at,minutes", 90, func(i int) string {
		return fmt.Sprintf("%08x-0000-4000-8000-%012x,%s,%d", i*7919, i, day(i%20).Format("2006-01-02"), i%60)
	})}, expert("visits.csv", `visit:string|format:~uuid at:date minutes:integer`, "visit"))
	add("stations and parameters", series(3, "lab_20060102.csv", func(d int) string {
		return rowsOf("site,parameter,sampled,value,unit", 120, func(i int) string {
			return fmt.Sprintf("S%d,%s,%s,%d.%d,mg/l", i/4%5, []string{"pH", "NO3", "O2", "T"}[i%4],
				day(d).Add(time.Duration(i/20)*time.Hour).Format("2006-01-02 15:04"), i%9, i%10)
		})
	}), expert("lab_{slot:%Y%m%d}.csv", `site: parameter: sampled:datetime|format:~"%Y-%m-%d~%H:%M" value:number unit:`,
		"site, parameter, sampled"))
	add("balances by day, the day in the name", series(5, "stock_20060102.csv", func(d int) string {
		return rowsOf("item,depot,stock", 100, func(i int) string {
			return fmt.Sprintf("P%d,%s,%d", i/2, []string{"N", "S"}[i%2], i*3+d*7)
		})
	}), expert("stock_{slot:%Y%m%d}.csv", "item: depot: stock:integer", "item, depot, at", "derive: {at: file.captures.slot}"))

	// Types and marks.
	add("numbers without a zero, blanks by marks", map[string]string{"rates.csv": rowsOf("id,rate,seen", 60, func(i int) string {
		return fmt.Sprintf("%d,%s,%s", i+1, p(".012", "1.5", "-.5", "n/a"), p("2026-01-05", "2026-02-17", "-"))
	})}, expert("rates.csv", `id:integer rate:number|missingValues:~["",~"n/a"] seen:date|missingValues:~["",~"-"]`, "id"))
	add("None as a word", map[string]string{"barriers.csv": rowsOf("id,kind", 60, func(i int) string {
		return fmt.Sprintf("%d,%s", i+1, p("Weir", "None", "Gate"))
	})}, expert("barriers.csv", "id:integer kind:", "id"))
	add("thousands set apart", map[string]string{"people.csv": rowsOf("town;people", 50, func(i int) string {
		return fmt.Sprintf("Town %d;%d.%03d.%03d", i, i%3+1, i*7%1000, i*13%1000)
	})}, expert("people.csv", `town: people:integer|groupChar:~"."`, "town", semicolons))
	add("truth and uncertain dates", map[string]string{"seen.csv": rowsOf("id,when,ok", 40, func(i int) string {
		return fmt.Sprintf("%d,%02d/%02d/2026,%s", i+1, i%12+1, i%12+1, p("yes", "no"))
	})}, expert("seen.csv", `id:integer when:date|format:~"%d/%m/%Y" ok:boolean|trueValues:~["yes"],~falseValues:~["no"]`, "id"))
	add("times in zones", map[string]string{"log.csv": rowsOf("at,device,value", 60, func(i int) string {
		return day(0).Add(time.Duration(i/3)*time.Minute).Format("2006-01-02T15:04:05+01:00") + fmt.Sprintf(",D%d,%d.5", i%3, i%8)
	})}, expert("log.csv", "at:datetime device: value:number", "at, device"))
	add("latin letters", map[string]string{"orte.csv": rowsOf("id;ort", 40, func(i int) string {
		return fmt.Sprintf("%d;M\xfchle %d", i+1, i)
	})}, expert("orte.csv", "id:integer ort:", "id", semicolons, "encoding: windows-1252"))
	add("a mark far below", map[string]string{"flow.csv": rowsOf("station,day,flow", 80, func(i int) string {
		return fmt.Sprintf("S%d,%s,%s", i%4, day(i/4).Format("2006-01-02"), p("1.5", "2.25", "-999"))
	})}, expert("flow.csv", `station: day:date flow:number|missingValues:~["",~"-999"]`, "station, day"))

	// Around the table.
	add("titles above", map[string]string{"report_202611.csv": "Sorrel River Basin Observatory\nmonthly report\n\n" +
		rowsOf("site,month,rain", 30, func(i int) string { return fmt.Sprintf("S%d,2026-%02d,%d.5", i%5, i/5+1, i) })},
		expert("report_{slot:%Y%m}.csv", "site: month: rain:number", "site, month", "dialect: {headerRows: [4]}"))
	add("a header in two rows", map[string]string{"levels.csv": "station,day,level,flow\n,,(m),(m3/s)\n" + rowsOf("", 60,
		func(i int) string { return fmt.Sprintf("S%d,%s,%d.5,%d", i%4, day(i/4).Format("2006-01-02"), i%9, i) })},
		expert("levels.csv", "station: day:date level<level~(m)>:number flow<flow~(m3/s)>:integer", "station, day",
			"dialect: {headerRows: [1, 2]}"))
	add("a total at the end", series(3, "till_20060102.csv", func(d int) string {
		text := rowsOf("no,amount", 50, func(i int) string {
			return fmt.Sprintf("%d,%d", d*50+i+1, i+d)
		})
		return text + "Total: 50\n"
	}), expert("till_{slot:%Y%m%d}.csv", "no:integer amount:integer", "no",
		"checks: {file: {trailer: {line: '^Total: (?P<rows>[0-9]+)$'}}}"))
	add("a row of sums", map[string]string{"sums.csv": func() string {
		sum := 0
		text := rowsOf("site;visits", 40, func(i int) string { sum += i; return fmt.Sprintf("S%d;%d", i, i) })
		return text + fmt.Sprintf("Total;%d\n", sum)
	}()}, expert("sums.csv", "site: visits:integer", "site", semicolons,
		"checks: {file: {trailer: {line: '^Total;(?P<visits>[0-9]+)$'}}}"))
	add("comments", map[string]string{"obs.csv": "# made by a logger\n# at the weir\n" + rowsOf("day,level", 40, func(i int) string {
		return day(i).Format("2006-01-02") + fmt.Sprintf(",%d.5", i%8)
	})}, expert("obs.csv", "day:date level:number", "day", `dialect: {commentChar: "#"}`))
	add("blank lines", map[string]string{"gaps.csv": strings.ReplaceAll(rowsOf("id,level", 40, func(i int) string {
		return fmt.Sprintf("%d,%d.5", i+1, i)
	}), "5\n1", "5\n\n1")}, expert("gaps.csv", "id:integer level:number", "id"))
	add("tabs", map[string]string{"genes.tsv": rowsOf("gene\tspecies\tcount", 60, func(i int) string {
		return fmt.Sprintf("G%d\t%s\t%d", i, p("x", "y"), i%9)
	})}, expert("genes.tsv", "gene: species: count:integer", "gene", `dialect: {delimiter: "\t"}`))
	add("fixed places", map[string]string{"logger.txt": rowsOf("", 50, func(i int) string {
		return fmt.Sprintf("S%02d %s %6.2f", i%5, day(i/5).Format("20060102"), float64(i)/3)
	})}, expert("logger.txt", `column_1<1-4>: column_2<5-12>:date|format:~"%Y%m%d" column_3<13-19>:number`,
		"column_1, column_2", "format: fixed"))
	add("a column without a name", map[string]string{"frame.csv": rowsOf(",site,level", 50, func(i int) string {
		return fmt.Sprintf("%d,S%d,%d.5", i, i%5, i%9)
	})}, expert("frame.csv", "column_1:integer site: level:number", "column_1", "dialect: {header: false, commentRows: [1]}"))

	// Records.
	add("lines of JSON, keys optional", map[string]string{"a_20261101.jsonl": rowsOf("", 60, func(i int) string {
		if i%3 == 0 {
			return fmt.Sprintf(`{"id":%d,"site":"S%d"}`, i, i%5)
		}
		return fmt.Sprintf(`{"id":%d,"site":"S%d","note":"x y"}`, i, i%5)
	}), "a_20261102.jsonl": rowsOf("", 60, func(i int) string { return fmt.Sprintf(`{"id":%d,"site":"S%d"}`, 100+i, i%5) })},
		expert("a_{slot:%Y%m%d}.jsonl", "id:integer site: note:string|optional:~true", "id", "format: jsonl", "fieldsMatch: subset"))
	add("records with lists stay whole", map[string]string{"samples.json": "[" + strings.TrimSuffix(rowsOf("", 60, func(i int) string {
		return fmt.Sprintf(`{"sample":"L%d","place":{"lon":%d.5,"lat":37.25},"results":[{"code":"pH","v":7},{"code":"T","v":%d}]},`,
			i, i%9, i)
	}), ",\n") + "]"}, expert("samples.json", "sample: lon<place.lon>:number lat<place.lat>:number results:array", "sample",
		"format: json", "fieldsMatch: subset"))
	feature := func(n int) string {
		return `{"type":"FeatureCollection","features":[` + strings.TrimSuffix(rowsOf("", n, func(i int) string {
			return fmt.Sprintf(`{"type":"Feature","properties":{"code":"F%d","name":"Pond %d"},"geometry":{"type":"Point","coordinates":[%d,1]}},`,
				i, i, i)
		}), ",\n") + "]}"
	}
	add("a document with its rows below a key", map[string]string{"ponds.json": feature(60)},
		expert("ponds.json", "type: features_type<features.type>: code<features.properties.code>: "+
			"name<features.properties.name>: geometry<features.geometry>:object", "code", "format: json", "each: features",
			"fieldsMatch: subset"))
	add("documents by station", map[string]string{}, // filled below
		expert("obs_{slot:%Y%m%d}_{number:#}.json", "station: values_time<values.time>:datetime level<values.level>:number",
			"station, values_time", "format: json", "each: values", "fieldsMatch: subset"))
	docs := out[len(out)-1].files
	for d := range 2 {
		for s := range 3 {
			docs[fmt.Sprintf("obs_%s_%d.json", day(d).Format("20060102"), s+1)] = fmt.Sprintf(`{"station":"S%d","values":[%s]}`, s,
				strings.TrimSuffix(strings.ReplaceAll(rowsOf("", 24, func(i int) string {
					return fmt.Sprintf(`{"time":"%s","level":%d.5},`, day(d).Add(time.Duration(i)*time.Hour).Format(time.RFC3339), i%9)
				}), "\n", ""), ","))
		}
	}
	add("maps are objects", map[string]string{"days.jsonl": rowsOf("", 50, func(i int) string {
		return fmt.Sprintf(`{"site":"S%d","by_day":{"2026-11-%02d":%d,"2026-10-%02d":3}}`, i, i%28+1, i, i%28+1)
	})}, expert("days.jsonl", "site: by_day:object", "site", "format: jsonl", "fieldsMatch: subset"))
	add("two lists in a document", map[string]string{"both_20261101.json": `{"id":"X1","a":[{"n":1},{"n":2}],"b":[{"m":1}]}`,
		"both_20261102.json": `{"id":"X2","a":[{"n":1}],"b":[{"m":1},{"m":4}]}`},
		expert("both_{slot:%Y%m%d}.json", "id: a:array b:array", "id", "format: json", "fieldsMatch: subset"))
	add("parquet", map[string]string{"probe_20261101.parquet": parquetOf(probes(0, 300)),
		"probe_20261102.parquet": parquetOf(probes(1, 300))},
		expert("probe_{slot:%Y%m%d}.parquet", "buoy: at:datetime depth_m:number temp_c:number lon<place.lon>:number "+
			"lat<place.lat>:number tags:array more:object", "buoy, at, depth_m", "format: parquet", "fieldsMatch: equal"))
	var packed bytes.Buffer
	lz4 := parquet.NewGenericWriter[probeRow](&packed, parquet.Compression(&parquet.Lz4Raw))
	_, _ = lz4.Write(probes(2, 300))
	_ = lz4.Close()
	add("parquet by LZ4", map[string]string{"probe_20261103.parquet": packed.String()},
		expert("probe_{slot:%Y%m%d}.parquet", "buoy: at:datetime depth_m:number temp_c:number lon<place.lon>:number "+
			"lat<place.lat>:number tags:array more:object", "buoy, at, depth_m", "format: parquet", "fieldsMatch: equal"))
	type before struct {
		ID    int64   `parquet:"id"`
		Level float64 `parquet:"level"`
		Flow  float64 `parquet:"flow"`
	}
	type since struct {
		ID    int64   `parquet:"id"`
		Level float64 `parquet:"level"`
		Flow  float64 `parquet:"flow"`
		Note  string  `parquet:"note"`
	}
	var older []before
	var newer []since
	for i := range int64(60) {
		older = append(older, before{i, float64(i) / 4, 1.5})
		newer = append(newer, since{60 + i, float64(i) / 4, 2.5, "n"})
	}
	add("parquet, a column more since lately", map[string]string{"l_20261101.parquet": parquetOf(older),
		"l_20261102.parquet": parquetOf(newer)}, expert("l_{slot:%Y%m%d}.parquet", "id:integer level:number flow:number "+
		"note:string|optional:~true", "id", "format: parquet", "fieldsMatch: equal"))
	add("avro", map[string]string{"trips_20261101.avro": avroTrips(0), "trips_20261102.avro": avroTrips(60)},
		expert("trips_{slot:%Y%m%d}.avro", "id: began:datetime purpose: lon<place.lon>:number lat<place.lat>:number "+
			"crew:array more:object litres:number", "id", "format: avro", "fieldsMatch: equal"))
	events := map[string]string{}
	for i, more := range []string{`"gate":1`, `"gate":2,"by":"x"`, `"level":1.5`, `"level":2,"note":"n"`, `"by":"y"`, `"flow":[1]`, `"x":{}`} {
		events[fmt.Sprintf("%s.json", []string{"ada", "ben", "cleo", "dora", "egon", "fay", "gus"}[i])] = fmt.Sprintf(
			"{\n \"id\":\"E%d\",\n \"at\":\"2026-11-0%dT00:00:00Z\",\"kind\":\"k%d\",%s}", i, i+1, i%3, more)
	}
	add("documents with optional keys", events, expert("{part}.json", "id: at:datetime kind: gate:integer|optional:~true "+
		"by:string|optional:~true level:number|optional:~true note:string|optional:~true flow:array|optional:~true "+
		"x:object|optional:~true", "id", "format: json", "fieldsMatch: subset"))
	add("parquet without rows", map[string]string{"probe_20261103.parquet": parquetOf([]probeRow{})},
		expert("probe_{slot:%Y%m%d}.parquet", "buoy: at:datetime depth_m:number temp_c:number lon<place.lon>:number "+
			"lat<place.lat>:number tags:array more:object", "", "format: parquet", "fieldsMatch: equal"))

	// Folders of several kinds.
	registry := rowsOf("code,river", 30, func(i int) string { return fmt.Sprintf("S%d,Sorrel", i) })
	add("what is no data", with(series(2, "GAUGE_20060102.csv", gauge), "_SUCCESS", "x", "README.txt", "these are levels",
		".GAUGE.crc", "x", "GAUGE_20261101.csv.bak", gauge(5), "GAUGE_20261102.csv.md5", "00", "_committed_77", "x",
		"GAUGE_20261101.csv~", gauge(5)), expert("GAUGE_{slot:%Y%m%d}.csv", gaugeFields, "station, zeit", semicolons))
	add("two kinds by name", with(series(3, "GAUGE_20060102.csv", gauge), "SITES_20261101.csv", registry),
		expert("GAUGE_{slot:%Y%m%d}.csv", gaugeFields, "station, zeit", semicolons),
		expert("SITES_{slot:%Y%m%d}.csv", "code: river:", "code"))
	add("two kinds in one name", map[string]string{"20261101_a.csv": gauge(0), "20261101_b.csv": registry,
		"20261102_a.csv": gauge(1), "20261102_b.csv": registry},
		expert("{slot:%Y%m%d}_a.csv", gaugeFields, "station, zeit", semicolons),
		expert("{slot:%Y%m%d}_b.csv", "code: river:", "code"))
	add("kinds in a zip", map[string]string{"day_20261101.zip": zipped("levels.csv", gauge(0), "sites.csv", registry),
		"day_20261102.zip": zipped("levels.csv", gauge(1), "sites.csv", registry)},
		expert("day_{slot:%Y%m%d}.zip/levels.csv", gaugeFields, "station, zeit", semicolons),
		expert("day_{slot:%Y%m%d}.zip/sites.csv", "code: river:", "code"))
	add("a column more since lately", map[string]string{"x_20261101.csv": rowsOf("id,a", 40, func(i int) string {
		return fmt.Sprintf("%d,%d", i, i)
	}), "x_20261102.csv": rowsOf("id,a,b", 40, func(i int) string { return fmt.Sprintf("%d,%d,%d", 40+i, i, i) })},
		expert("x_{slot:%Y%m%d}.csv", "id:integer a:integer b:integer|optional:~true", "id", "fieldsMatch: equal"))
	add("columns in another order", map[string]string{"x_20261101.csv": rowsOf("id,a", 40, func(i int) string {
		return fmt.Sprintf("%d,n%d", i, i%7)
	}), "x_20261102.csv": rowsOf("a,id", 40, func(i int) string { return fmt.Sprintf("n%d,%d", i%7, 40+i) })},
		expert("x_{slot:%Y%m%d}.csv", "id:integer a:", "id", "fieldsMatch: equal"))
	parts := map[string]string{}
	for i := range 5 {
		parts[fmt.Sprintf("out/part-%05d-%08x%04d.csv", i, i*99991+77, i)] = rowsOf("id,v", 40, func(r int) string {
			return fmt.Sprintf("%d,%d.5", i*40+r, r)
		})
	}
	add("parts with made-up names", with(parts, "out/_SUCCESS", ""), expert("**/part-{part:#}-*.csv", "id:integer v:number", "id"))
	add("regions as folders", map[string]string{"region=north/levels.csv": rowsOf("day,level", 40, func(i int) string {
		return day(i).Format("2006-01-02") + fmt.Sprintf(",%d.5", i%9)
	}), "region=south/levels.csv": rowsOf("day,level", 40, func(i int) string {
		return day(i).Format("2006-01-02") + fmt.Sprintf(",%d.25", i%7)
	})}, expert("region={region}/levels.csv", "day:date level:number", "day, region", "derive: {region: file.captures.region}"))
	add("quarters", map[string]string{"q_2026-Q1.csv": rowsOf("site,rain", 50, func(i int) string {
		return fmt.Sprintf("S%d,%d.5", i, i)
	}), "q_2026-Q2.csv": rowsOf("site,rain", 50, func(i int) string { return fmt.Sprintf("S%d,%d.25", i, i+3) })},
		expert("q_{slot:%Y}-Q{quarter:#}.csv", "site: rain:number", "site, quarter, year",
			"derive: {quarter: file.captures.quarter, year: file.captures.slot.getFullYear()}"))
	counted := map[string]string{}
	for i := 0; i < 400; i += 3 { // 000101 could be a date, 000099 could not
		counted[fmt.Sprintf("c_%06d.csv", i)] = fmt.Sprintf("id,x\n%d,1.5\n%d,2.5\n", 2*i, 2*i+1)
	}
	add("a counter of six digits", counted, expert("c_{number:#}.csv", "id:integer x:number", "id"))
	add("a counter", map[string]string{"dump_001.csv": rowsOf("id,x", 40, func(i int) string { return fmt.Sprintf("%d,%d.5", i, i) }),
		"dump_002.csv": rowsOf("id,x", 40, func(i int) string { return fmt.Sprintf("%d,%d.5", 40+i, i) })},
		expert("dump_{number:#}.csv", "id:integer x:number", "id"))
	daily := func(station int) string {
		return rowsOf("STATIONS_ID;MESS_DATUM;  FX; RSK;eor", 60, func(i int) string {
			return fmt.Sprintf("%11d;%s;%6d.%d;%4d;eor", station, day(i).Format("20060102"), i%9, i%10, i%7)
		})
	}
	add("padded, and a mark ends each line", map[string]string{"klima_00044.txt": daily(44), "klima_00164.txt": daily(164)},
		expert("klima_{number:#}.txt", `stations_id<STATIONS_ID>:integer mess_datum<MESS_DATUM>:date|format:~"%Y%m%d"
			fx<FX>:number rsk<RSK>:integer eor:`, "stations_id, mess_datum", `dialect: {delimiter: ";", skipInitialSpace: true}`))
	add("blanks behind numbers", map[string]string{"levels.csv": rowsOf("id;level;note", 60, func(i int) string {
		return fmt.Sprintf("S%03d;%-8s;ok", i, fmt.Sprintf("%d.%d", i%9, i%10))
	})}, expert("levels.csv", "id: level:number|bareNumber:~false note:", "id", `dialect: {delimiter: ";"}`))
	marked := `order_id<Order~ID>:integer|missingValues:~["",~"Order~ID"] item<Item>:|missingValues:~["",~"Item"]
		n<N>:integer|missingValues:~["",~"N"]`
	add("the header again, and blank rows", map[string]string{"orders.csv": rowsOf("Order ID,Item,N", 200, func(i int) string {
		switch {
		case i%70 == 30:
			return "Order ID,Item,N"
		case i%70 == 60:
			return ",,"
		}
		return fmt.Sprintf("%d,P%d,%d", 17000+i, i%9, i%4)
	})}, expert("orders.csv", marked, "order_id",
		"leave_out: row.order_id == null && row.item == null && row.n == null"))
	add("answers, a second each", map[string]string{"answers.csv": rowsOf("Timestamp,Answer,Comments", 150, func(i int) string {
		at := day(0).Add(time.Duration(i*i*i*37%2_000_000) * time.Second)
		return fmt.Sprintf("%s,%s,c %d", at.Format("1/2/2006 15:04:05"), p("Often", "Never"), i)
	})}, expert("answers.csv", `timestamp<Timestamp>:datetime|format:~"%m/%d/%Y~%H:%M:%S" answer<Answer>: comments<Comments>:`, ""))
	add("long numbers as identifiers", map[string]string{"posts.csv": rowsOf("id,likes", 60, func(i int) string {
		return fmt.Sprintf("%d,%d", 1_290_000_000_000_000_000+int64(i)*7, i%11)
	})}, expert("posts.csv", "id:integer likes:integer", "id"))
	add("years without a name", map[string]string{"AK.TXT": rowsOf("", 200, func(i int) string {
		return fmt.Sprintf("AK,%s,%d,Name%d,%d", []string{"F", "M"}[i%2], 1910+i/2%5, i/10, 5+i*7%90)
	}), "AL.TXT": rowsOf("", 200, func(i int) string {
		return fmt.Sprintf("AL,%s,%d,Name%d,%d", []string{"F", "M"}[i%2], 1910+i/2%5, i/10, 6+i*7%90)
	})}, expert("{part}.TXT", "column_1: column_2: column_3:integer column_4: column_5:integer",
		"column_1, column_2, column_3, column_4", "dialect: {header: false}"))
	add("versions of documents", map[string]string{"docs.csv": rowsOf("doc_id,version,title,modified", 120, func(i int) string {
		return fmt.Sprintf("%d,%d,T%d,%s", i/3, i%3+1, i/3, day(i%3).Format("2006-01-02"))
	})}, expert("docs.csv", "doc_id:integer version:integer title: modified:date", "doc_id, version"))
	overlapping := func(from int) string {
		return rowsOf("date,account,amount,payee", 200, func(i int) string {
			i += from
			return fmt.Sprintf("%s,A%d,%d.%02d,shop %d", day(i/12).Format("2006-01-02"), i%3, i*31%90, i%100, i%2)
		})
	}
	add("exports that overlap, without a key", map[string]string{"export_20261115.csv": overlapping(0),
		"export_20261120.csv": overlapping(100)}, expert("export_{slot:%Y%m%d}.csv", "date:date account: amount:number payee:", ""))
	trips := func(from int) string {
		return rowsOf("trip_id,began,purpose,zip", 60, func(i int) string {
			return fmt.Sprintf("%d,2026-11-%02dT08:00:00Z,%s,%05d", from+i, i%28+1, p("SURVEY", "REPAIR"), 10000+i%7)
		})
	}
	add("an Avro schema beside them", map[string]string{"trips_20261101.csv": trips(0), "trips_20261102.csv": trips(60),
		"trip.avsc": `{"type":"record","name":"trip","fields":[{"name":"trip_id","type":"string"},{"name":"began","type":` +
			`{"type":"long","logicalType":"timestamp-millis"}},{"name":"purpose","type":{"type":"enum","name":"p",` +
			`"symbols":["SURVEY","REPAIR"]}},{"name":"zip","type":"string"}]}`},
		expert("trips_{slot:%Y%m%d}.csv", "trip_id: began:datetime purpose: zip:", "trip_id"))
	add("a table's statement beside them", map[string]string{"trips_20261101.csv": trips(0),
		"create.sql": "-- made by hand\nCREATE TABLE river.trip (trip_id bigint PRIMARY KEY, began timestamptz NOT NULL,\n" +
			"  purpose varchar(10), zip char(5) NOT NULL, CHECK (zip <> ''));"},
		expert("trips_{slot:%Y%m%d}.csv", "trip_id:integer began:datetime purpose: zip:", "trip_id"))
	add("a Table Schema beside them", map[string]string{"trips_20261101.csv": trips(0),
		"schema.json": `{"fields":[{"name":"trip_id","type":"integer"},{"name":"began","type":"datetime"},{"name":"purpose",` +
			`"type":"string"},{"name":"zip","type":"string"}],"primaryKey":["trip_id"]}`},
		expert("trips_{slot:%Y%m%d}.csv", "trip_id:integer began:datetime purpose: zip:", "trip_id"))
	return out
}

// loads returns how many rows a feed's files come to: one a key, or all.
func loads(t testing.TB, text string, files map[string]string) (rows int, f *feed.Feed) {
	t.Helper()
	f, err := feed.Parse("x.yaml", []byte(text))
	require.NoError(t, err, text)
	plan, err := NewPlan(f)
	require.NoError(t, err, text)
	keys := &keysOf{seen: map[string]bool{}}
	for _, name := range f.Schema.PrimaryKey {
		keys.at = append(keys.at, slices.Index(f.OwnColumns(), name))
	}
	for _, path := range slices.Sorted(maps.Keys(files)) {
		look := f.Landing.Look(path, int64(len(files[path])))
		if look.Why != "" {
			continue
		}
		r, err := plan.Open(Subject{Path: path, Size: int64(len(files[path])), Captures: asKept(t, look.Captures), Digest: "known"},
			Source{Bytes: bytes.NewReader([]byte(files[path]))}, &Counter{})
		if _, other := err.(*OtherKindError); other {
			continue
		}
		require.NoError(t, err, "%s\n%s", path, text)
		for err == nil {
			err = r.Fill(keys, 1<<20)
		}
		require.Equal(t, io.EOF, err, "%s\n%s", path, text)
		if n := r.Counts().Rejected; n > 0 {
			t.Fatalf("%d rejects of %s, such as %+v\n%s", n, path, r.Rejects()[0], text)
		}
		if trailer := r.Trailer(); trailer != nil {
			require.True(t, trailer.Held, "%s: %s\n%s", path, trailer.Saw, text)
		}
	}
	return keys.rows, f
}

// asKept returns captures as the ledger keeps them.
func asKept(t testing.TB, captures map[string]any) (out map[string]any) {
	t.Helper()
	text, err := json.Marshal(captures)
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(text, &out))
	return out
}

// keysOf counts rows with different keys.
type keysOf struct {
	at   []int
	seen map[string]bool
	rows int
}

// Add counts a row.
func (k *keysOf) Add(values []tabular.Value, _ int64, _ int, _ []byte) {
	var key []byte
	for _, at := range k.at {
		key = values[at].AppendCanonical(key)
	}
	if k.at == nil || !k.seen[string(key)] {
		k.seen[string(key)] = true
		k.rows++
	}
}

// Len is nothing: rows are not kept.
func (k *keysOf) Len() int { return 0 }

// plainFiles puts the files in zips in the place of the zips.
func plainFiles(t testing.TB, files map[string]string) map[string]string {
	out := map[string]string{}
	for path, content := range files {
		if !strings.HasSuffix(path, ".zip") {
			out[path] = content
			continue
		}
		z, err := zip.NewReader(strings.NewReader(content), int64(len(content)))
		require.NoError(t, err)
		for _, m := range z.File {
			r, err := m.Open()
			require.NoError(t, err)
			text, err := io.ReadAll(r)
			require.NoError(t, err)
			out[path+"/"+m.Name] = string(text)
		}
	}
	return out
}

var namedCapture = regexp.MustCompile(`\{[a-z_0-9]+`)

// choices are what feeds say that can be compared: the pattern, the dialect, the key and the
// type of each column.
func choices(f *feed.Feed) map[string]string {
	pattern := namedCapture.ReplaceAllStringFunc(f.Landing.Files.String(), func(s string) string {
		if s == "{slot" {
			return s
		}
		return "{x"
	})
	d := f.Dialect
	out := map[string]string{"pattern": pattern, "format": string(f.Format) + " " + f.Encoding,
		"dialect": fmt.Sprint(d.Delimiter, d.Header, d.CommentChar, d.HeaderRows, d.CommentRows), "each": f.Each}
	var key []string
	for i, name := range f.Schema.PrimaryKey {
		if field := f.Schema.Field(name); field != nil {
			key = append(key, field.SourceName())
		} else {
			key = append(key, fmt.Sprint("derived ", len(f.Schema.PrimaryKey)-i))
		}
	}
	slices.Sort(key)
	out["key"] = strings.Join(key, ", ")
	for _, field := range f.Schema.Fields {
		out["column "+field.SourceName()] = fmt.Sprint(field.Type, " ", field.Format, field.DecimalChar, field.GroupChar,
			field.MissingValues)
	}
	return out
}

// compare drafts feeds for a folder and holds them against an expert's. No row that the
// expert's load is lost.
func compare(t testing.TB, c sampleFolder) (equal, all int, differ []string) {
	t.Helper()
	var samples []draft.Sample
	for path, content := range c.files {
		samples = append(samples, draft.Sample{Path: path, Folder: "landing", Open: func() (decode.Source, func(), error) {
			return decode.Source{Name: path, Bytes: strings.NewReader(content), File: strings.NewReader(content),
				Size: int64(len(content))}, func() {}, nil
		}})
	}
	result, err := draft.Propose(samples, draft.Options{At: "in"})
	require.NoError(t, err)
	files := plainFiles(t, c.files)
	var drafted []map[string]string
	rows, texts := 0, ""
	for _, d := range result.Feeds {
		n, f := loads(t, d.Text, files)
		rows += n
		texts += d.Text
		drafted = append(drafted, choices(f))
	}
	expected := 0
	for _, e := range c.experts {
		n, f := loads(t, e, files)
		expected += n
		want := choices(f)
		best := map[string]string{}
		for _, d := range drafted {
			if same(want, d) > same(want, best) {
				best = d
			}
		}
		all += len(want)
		equal += same(want, best)
		for k, v := range want {
			if best[k] != v {
				differ = append(differ, fmt.Sprintf("%s: %s is %q, an expert has %q", c.name, k, best[k], v))
			}
		}
	}
	assert.GreaterOrEqual(t, rows, expected, "%s: rows are lost\n%s", c.name, texts)
	assert.Len(t, result.Feeds, len(c.experts), c.name)
	return equal, all, differ
}

func same(a, b map[string]string) (n int) {
	for k, v := range a {
		if w, ok := b[k]; ok && w == v {
			n++
		}
	}
	return n
}

// TestDraftsLoseNoRow holds drafts for many folders against what an expert would write.
func TestDraftsLoseNoRow(t *testing.T) {
	equal, all := 0, 0
	for _, c := range corpus() {
		t.Run(c.name, func(t *testing.T) {
			e, a, differ := compare(t, c)
			equal, all = equal+e, all+a
			for _, d := range differ {
				t.Log(d)
			}
		})
	}
	assert.GreaterOrEqual(t, equal*10, all*9, "%d of %d choices are an expert's", equal, all)
}

// BenchmarkDrafts prints which share of a draft's choices an expert would have made.
func BenchmarkDrafts(b *testing.B) {
	for b.Loop() {
		equal, all := 0, 0
		for _, c := range corpus() {
			e, a, differ := compare(b, c)
			equal, all = equal+e, all+a
			for _, d := range differ {
				b.Log(d)
			}
		}
		b.ReportMetric(100*float64(equal)/float64(all), "%-as-an-expert")
		b.ReportMetric(float64(len(corpus())), "folders")
	}
}
