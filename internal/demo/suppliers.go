package demo

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/parquet-go/parquet-go"
)

// The laboratory, the buoys and the volunteers.

type labResult struct {
	Code  string   `json:"code"`
	Value *float64 `json:"value"`
	Unit  string   `json:"unit"`
	Flags []string `json:"flags"`
}

type labRecord struct {
	Sample struct {
		ID    string `json:"id"`
		Taken string `json:"taken"`
		Site  struct {
			ID string `json:"id"`
		} `json:"site"`
	} `json:"sample"`
	Results []labResult `json:"results"`
	Revised string      `json:"revised"`
}

var substances = []struct {
	code, unit string
	usual      float64
}{{"PH", "1", 7.4}, {"NO3", "mg/l", 12}, {"PO4", "mg/l", 0.3}, {"O2", "mg/l", 9.1}}

// labFile is a day of the laboratory. batch 1 is its report, others correct it.
func labFile(day time.Time, batch int) []byte {
	random := rand.New(rand.NewPCG(uint64(day.Unix()), uint64(batch)))
	revised := day.AddDate(0, 0, 3*(batch-1)).Format(time.RFC3339)
	var b bytes.Buffer
	for n := range 6 {
		var r labRecord
		r.Sample.ID = fmt.Sprintf("W%s-%02d", day.Format("060102"), n)
		r.Sample.Taken, r.Revised = day.Add(-time.Duration(10+n)*time.Hour).Format(time.RFC3339), revised
		r.Sample.Site.ID = station(n%3, n)
		for i, s := range substances {
			value := math.Round(s.usual*(0.8+0.4*random.Float64())*100) / 100
			result := labResult{Code: s.code, Value: &value, Unit: s.unit, Flags: []string{}}
			switch {
			case batch == 1 && n == 3 && i == 0: // the comma slipped
				value *= 10
			case random.IntN(20) == 0:
				result.Value, result.Flags = nil, []string{"below detection"}
			case batch > 1 && n == 5 && i == 2:
				result.Unit = "withdrawn"
			}
			r.Results = append(r.Results, result)
		}
		if n == 0 {
			zero := 0.0
			r.Results = append(r.Results, labResult{Code: "BLANK", Value: &zero, Unit: "1", Flags: []string{}})
		}
		text, err := json.Marshal(r)
		if err != nil {
			continue // plain data can always be written
		}
		b.Write(append(text, '\n'))
	}
	return b.Bytes()
}

func zstandard(plain []byte) []byte {
	z, err := zstd.NewWriter(nil)
	if err != nil {
		return plain
	}
	return z.EncodeAll(plain, nil)
}

// lab leaves the laboratory's report when its time has come, and a correction
// of three days ago.
func (b basin) lab(at, modified time.Time) error {
	local := at.In(azores)
	if local.Hour() != 7 || local.Minute() != 0 {
		return nil
	}
	day := time.Date(local.Year(), local.Month(), local.Day(), 0, 0, 0, 0, azores)
	if err := b.leave("lab", fmt.Sprintf("LAB_%s_1.jsonl", day.Format("2006-01-02")), labFile(day, 1),
		modified); err != nil {
		return err
	}
	earlier := day.AddDate(0, 0, -3)
	for batch := 1; batch <= 2; batch++ {
		if err := b.leave("lab", fmt.Sprintf("LAB_%s_%d.jsonl.zst", earlier.Format("2006-01-02"), batch),
			zstandard(labFile(earlier, batch)), modified.Add(time.Duration(batch)*time.Minute)); err != nil {
			return err
		}
	}
	return nil
}

type depth struct {
	Depth    float64  `parquet:"depth"`
	Temp     *float64 `parquet:"temp,optional"`
	Salinity float64  `parquet:"salinity"`
}

type profile struct {
	Buoy    string    `parquet:"buoy,dict"`
	At      time.Time `parquet:"at,timestamp(millisecond)"`
	Battery float64   `parquet:"battery_v"`
	Profile []depth   `parquet:"profile,list"`
}

// buoyFile is a buoy's profile. Its battery runs down.
func buoyFile(buoy int, at time.Time) ([]byte, error) {
	random := rand.New(rand.NewPCG(uint64(at.Unix()), uint64(buoy)))
	p := profile{Buoy: fmt.Sprintf("B%d", buoy), At: at,
		Battery: math.Round((12.4-0.9*float64(buoy-1)*float64(at.Hour())/20)*100) / 100}
	for n := range 14 {
		temp := math.Round((17.5-0.4*float64(n)+random.Float64())*100) / 100
		d := depth{Depth: float64(n), Temp: &temp, Salinity: math.Round((31+0.2*float64(n))*10) / 10}
		if random.IntN(12) == 0 {
			d.Temp = nil
		}
		p.Profile = append(p.Profile, d)
	}
	var b bytes.Buffer
	if err := parquet.Write(&b, []profile{p}); err != nil {
		return nil, fmt.Errorf("write a profile: %w", err)
	}
	return b.Bytes(), nil
}

// buoys leave their profiles every three hours. The second fell silent for a
// while.
func (b basin) buoys(at, modified time.Time, silent bool) error {
	utc := at.UTC()
	if utc.Hour()%3 != 0 || utc.Minute() != 0 {
		return nil
	}
	for buoy := 1; buoy <= 2; buoy++ {
		if silent && buoy == 2 {
			continue
		}
		content, err := buoyFile(buoy, utc)
		if err != nil {
			return err
		}
		if err := b.leave(fmt.Sprintf("buoys/B%d", buoy), "PROFILE_"+utc.Format("20060102T1504")+".parquet", content,
			modified); err != nil {
			return err
		}
	}
	return nil
}

// latin1 writes a text in ISO 8859-1.
func latin1(text string) []byte {
	var b []byte
	for _, r := range text {
		b = append(b, byte(r))
	}
	return b
}

var observers = []string{"Grete Ahlers", "jonas", "MÜHLE Ost"}

// rain is what a volunteer saved: titles above the header, a column of their
// own, words where numbers belong.
func rain(observer int, day time.Time) []byte {
	random := rand.New(rand.NewPCG(uint64(day.Unix()), uint64(observer)))
	var b strings.Builder
	b.WriteString("Niederschlag Sorrelbecken\nOrt; Tag; Regen; Bemerkung; Wind\n")
	for back := range 5 {
		amount := decimal(12*random.Float64(), 1)
		switch {
		case observer == 1 && back == 2:
			amount = "Spuren"
		case random.IntN(6) == 0:
			amount = "-"
		}
		fmt.Fprintf(&b, "%s; %s; %s; %s; %d\n", []string{"Mühlbach", "Alte Brücke", "Gezeitentor"}[observer],
			day.AddDate(0, 0, -back).Format("02.01.2006"), amount,
			[]string{"", "Gewitter bei Frau Öhler", "n/a"}[back%3], back)
	}
	return latin1(b.String())
}

// sheet is a volunteer's workbook of a month, up to a day.
func sheet(day time.Time) ([]byte, error) {
	var rows strings.Builder
	cell := func(ref, text string) string {
		return fmt.Sprintf(`<c r="%s" t="inlineStr"><is><t>%s</t></is></c>`, ref, text)
	}
	fmt.Fprintf(&rows, `<row r="1">%s</row><row r="3">%s%s%s</row>`,
		cell("A1", "Rain of "+day.Format("January 2006")), cell("A3", "Place"), cell("B3", "Day"),
		cell("C3", "Rain mm"))
	epoch := time.Date(1899, 12, 30, 0, 0, 0, 0, time.UTC)
	for d := 1; d <= day.Day(); d++ {
		at := time.Date(day.Year(), day.Month(), d, 0, 0, 0, 0, time.UTC)
		random := rand.New(rand.NewPCG(uint64(at.Unix()), 9))
		fmt.Fprintf(&rows, `<row r="%d">%s<c r="B%d" s="1"><v>%d</v></c><c r="C%d"><v>%v</v></c></row>`, d+3,
			cell(fmt.Sprintf("A%d", d+3), "Lock House"), d+3, int(at.Sub(epoch).Hours()/24), d+3,
			0.1*float64(random.IntN(180)))
	}
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, part := range [][2]string{
		{"xl/workbook.xml", `<workbook xmlns:r="http://schemas.openxmlformats.org/officeDocument/2006/relationships"><sheets><sheet name="Rain" sheetId="1" r:id="r1"/></sheets></workbook>`},
		{"xl/_rels/workbook.xml.rels",
			`<Relationships><Relationship Id="r1" Target="worksheets/sheet1.xml"/></Relationships>`},
		{"xl/styles.xml", `<styleSheet><cellXfs><xf numFmtId="0"/><xf numFmtId="14"/></cellXfs></styleSheet>`},
		{"xl/worksheets/sheet1.xml", "<worksheet><sheetData>" + rows.String() + "</sheetData></worksheet>"},
	} {
		w, err := z.Create(part[0])
		if err != nil {
			return nil, fmt.Errorf("write a sheet: %w", err)
		}
		if _, err := w.Write([]byte(part[1])); err != nil {
			return nil, fmt.Errorf("write a sheet: %w", err)
		}
	}
	if err := z.Close(); err != nil {
		return nil, fmt.Errorf("write a sheet: %w", err)
	}
	return b.Bytes(), nil
}

// volunteers send what they have at nine, each with a name of their own liking.
func (b basin) volunteers(at, modified time.Time) error {
	local := at.In(azores)
	if local.Hour() != 9 || local.Minute() != 0 {
		return nil
	}
	names := []string{"%s %s.csv", "%s %s neu.TXT", "%s %s .csv"}
	for o, observer := range observers {
		if err := b.leave("rain", fmt.Sprintf(names[o], observer, local.Format("02.01.2006")), rain(o, local),
			modified.Add(time.Duration(o)*time.Minute)); err != nil {
			return err
		}
	}
	book, err := sheet(local)
	if err != nil {
		return err
	}
	return b.leave("rain", "Lock House "+local.Format("2006-01")+".xlsx", book, modified)
}
