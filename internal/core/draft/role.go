package draft

import (
	"regexp"
	"slices"
	"strings"
	"unicode"
)

// role is what a column can be in a key.
type role int

const (
	notInKey role = iota // a measure, a long text, a structure
	revision             // when a row was changed last
	identity             // an identifier of rows: an id, a code, a number
	entity               // what rows are about: a station, a name, a word
	instant              // when
	axis                 // where on an axis: a longitude, a depth
)

// Words in the names of columns, in small letters.
var (
	identityWords = wordsOf(`id ids uuid guid key code nr no num number nummer identifier kennung kennziffer schluessel
		ref reference isbn iata icao iso ean sku serial ticket index idx rowid seq sequence line record row pk
		accession locus barcode hash token`)
	entityWords = wordsOf(`station site gauge sensor buoy device meter location place country region state city town
		county province district zone area catchment river product item customer client user account patient vehicle
		plate driver employee person order invoice name title kunde artikel ort stelle messstelle species gene country
		airport stop route trip flight observer plant well pump reservoir node parameter variable analyte code
		substance method indicator series category type kind class sex gender`)
	instantWords = wordsOf(`year month day hour minute second week quarter date time jahr monat tag stunde zeit datum
		period season yearmonth timestamp ts epoch`)
	axisWords = wordsOf(`lon lng long longitude lat latitude x y z i j k row col column easting northing depth tiefe
		layer bin band rechtswert hochwert position pos rank level_no face segment frame step age version revision rev`)
	measureWords = wordsOf(`amount energy power kwh mwh gwh wh kw mw price cost costs total sum count counts qty quantity
		value val level flow temp temperature pressure humidity speed velocity direction height weight mass length width
		volume distance duration score rating rate ratio share percent percentage pct avg average mean min max
		minimum maximum median std sd population pop births deaths cases sales revenue profit budget gross income salary
		votes runtime mpg horsepower hp rainfall precipitation rain wind dir angle bearing load demand usage consumption
		balance fare tip tax discount size dose concentration ph turbidity conductivity oxygen salinity displacement
		acceleration cylinders area_km2 elevation altitude magnitude mag intensity frequency freq capacity stock
		returns wage debt credit debit menge wert preis summe anzahl stand pegel abfluss temperatur niederschlag leistung
		energie gewicht laenge hoehe breite`)
	units   = wordsOf(`m mm cm km kg g mg c f k pct usd eur gbp hpa pa bar ms kmh mph m3 m3s m2 km2 l ml s h kwh mwh wh w v a ppm ppb mgl ugl`)
	revised = regexp.MustCompile(`(?i)(revis|updat|modif|chang|corrected|version)`)
)

// madeUp are names that the draft gave.
var madeUp = regexp.MustCompile(`^column_[0-9]+$`)

func wordsOf(text string) []string { return strings.Fields(text) }

// nameWords cuts the name of a column: at marks, and where capitals begin.
func nameWords(name string) (out []string) {
	var b strings.Builder
	flush := func() {
		if b.Len() > 0 {
			out = append(out, strings.ToLower(b.String()))
			b.Reset()
		}
	}
	runes := []rune(name)
	for i, r := range runes {
		switch {
		case !unicode.IsLetter(r) && !unicode.IsDigit(r):
			flush()
			continue
		case unicode.IsUpper(r) && i > 0 && unicode.IsLower(runes[i-1]):
			flush()
		}
		b.WriteRune(r)
	}
	flush()
	return out
}

func hasWord(name, of []string) bool {
	return slices.ContainsFunc(name, func(w string) bool {
		return slices.Contains(of, w) || len(w) > 3 && slices.Contains(of, strings.TrimSuffix(w, "s"))
	})
}

// roleOf judges a column by its name, its type and what it holds. rows is how many rows
// there are, first whether it is the first column.
func (c *column) roleOf(f found, rows int, first bool) role {
	name := nameWords(c.source)
	if c.node != nil {
		name = nameWords(c.node.last())
	}
	if madeUp.MatchString(c.source) {
		name = nil
	}
	if name == nil && f.kind == "integer" && c.years(rows) {
		return instant
	}
	last := ""
	if len(name) > 0 {
		last = name[len(name)-1]
	}
	isUnit := len(name) > 1 && slices.Contains(units, last)
	measure := hasWord(name, measureWords) || isUnit
	switch f.kind {
	case "date", "datetime", "time", "year", "yearmonth":
		if revised.MatchString(c.source) {
			return revision
		}
		return instant
	case "integer":
		switch {
		case hasWord(name, identityWords) && !isUnit:
			return identity
		case slices.Contains(instantWords, last):
			return instant
		case measure:
			return notInKey
		case first && c.counts(rows):
			return entity
		case slices.ContainsFunc(name, func(w string) bool { return slices.Contains(instantWords, w) }): // days are a measure
			return instant
		case hasWord(name, axisWords):
			return axis
		case hasWord(name, entityWords) || first && !c.more && rows == len(c.texts) || first && c.more:
			return entity
		}
	case "number":
		if hasWord(name, axisWords) && !isUnit || slices.Contains(name, "depth") {
			return axis
		}
	case "string":
		const longest, wordy = 64, 40
		mean := c.long / max(1, c.seen)
		switch {
		case hasWord(name, []string{"comment", "comments", "note", "notes", "remark", "remarks", "description", "text",
			"abstract", "summary", "message"}) || mean > longest:
			return notInKey
		case f.spec.Format == "uuid" || hasWord(name, identityWords):
			return identity
		case measure && !hasWord(name, entityWords):
			return notInKey
		case hasWord(name, instantWords):
			return instant
		case mean > wordy:
			return notInKey
		}
		return entity
	}
	return notInKey
}

// years reports whether whole numbers are years, of which each comes in several of the rows.
func (c *column) years(rows int) bool {
	for text := range c.texts {
		if len(text) != 4 || !partOfTime.MatchString(text) {
			return false
		}
	}
	return !c.more && len(c.texts)*2 <= rows
}

// months reports whether the values are the numbers of all months.
func (c *column) months() bool {
	const year = 12
	if c.more || len(c.texts) != year {
		return false
	}
	for text := range c.texts {
		if n, ok := number(text); !ok || n < 1 || n > year {
			return false
		}
	}
	return true
}

// counts reports whether whole numbers go up by one from row to row.
func (c *column) counts(rows int) bool {
	if rows < 2 || !c.more && len(c.texts) != rows {
		return false
	}
	least, most, n := int64(1<<62), int64(-1<<62), 0
	for s := range c.texts {
		x, ok := number(s)
		if !ok {
			return false
		}
		least, most = min(least, int64(x)), max(most, int64(x))
		n++
	}
	return most-least == int64(n-1)
}
