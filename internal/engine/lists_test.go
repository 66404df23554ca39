package engine

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/due"
	"mullein/internal/core/feed"
	"mullein/internal/ledger"
)

func TestReadingLists(t *testing.T) {
	sum := strings.Repeat("a", 64)
	for text, want := range map[string][]listed{
		"a.csv":                              {{"d/a.csv", -1, ""}},
		"\ufeff# files\r\n\r\na.csv\t12\r\n": {{"d/a.csv", 12, ""}},
		"a b.csv; 12 ;" + sum:                {{"d/a b.csv", 12, sum}},
		"x/../a.csv," + strings.ToUpper(sum): {{"d/a.csv", -1, sum}},
		"../a.csv\nsub/b.csv":                {{"a.csv", -1, ""}, {"d/sub/b.csv", -1, ""}},
	} {
		got, err := readList("d/LIST.lst", text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for text, want := range map[string]string{
		"": "it names no files", "# nothing\n": "it names no files", "../../x": "line 1: \"../../x\" lies outside", "a\n/etc/passwd": "line 2: \"/etc/passwd\" lies outside",
		"a.csv;twelve": "neither a size nor a SHA-256", "a.csv\n;,;": "line 2 names no file", "a.csv\n, ;": "line 2 names no file", strings.Repeat("a\n", manyFiles+1): "it names 10001 files; 10000 are the most",
	} {
		_, err := readList("d/LIST.lst", text)
		assert.ErrorContains(t, err, want)
	}
}

func FuzzReadList(f *testing.F) {
	f.Add("d/x.lst", "a.csv;12;"+strings.Repeat("a", 64))
	f.Add("x.lst", "../../../etc/passwd")
	f.Fuzz(func(t *testing.T, at, text string) {
		if strings.HasPrefix(at, "/") || strings.HasPrefix(at, ".") {
			return
		}
		list, err := readList(at, text)
		if err != nil {
			return
		}
		require.NotEmpty(t, list)
		for _, l := range list {
			require.False(t, strings.HasPrefix(l.path, "../"), l.path)
		}
	})
}

// TestWhatCountsForASlot goes through what may lie there.
func TestWhatCountsForASlot(t *testing.T) {
	at := func(minute int) *time.Time { t := time.Date(2026, 7, 1, 12, minute, 0, 0, time.UTC); return &t }
	one := int64(1)
	for name, c := range map[string]struct {
		arrivals []ledger.Arrival
		want     due.Files
	}{
		"on its way counts":             {[]ledger.Arrival{{ID: 1, Path: "a", State: ledger.Settling, CameAt: at(1)}}, due.Files{Noticed: []time.Time{*at(1)}}},
		"another version once":          {[]ledger.Arrival{{ID: 1, Path: "a", State: ledger.Recalled, CameAt: at(1)}, {ID: 2, Path: "a", State: ledger.Loaded, CameAt: at(9)}}, due.Files{Noticed: []time.Time{*at(9)}}},
		"a correction of a loaded one":  {[]ledger.Arrival{{ID: 1, Path: "a", State: ledger.Loaded, CameAt: at(1)}, {ID: 2, Path: "a", State: ledger.Loaded, CameAt: at(9)}}, due.Files{Noticed: []time.Time{*at(1)}}},
		"a copy of one that counts":     {[]ledger.Arrival{{ID: 1, Path: "a", State: ledger.Loaded, CameAt: at(1)}, {ID: 2, Path: "b", State: ledger.Skipped, CopyOf: &one, CameAt: at(2)}}, due.Files{Noticed: []time.Time{*at(1)}}},
		"a copy of one of another slot": {[]ledger.Arrival{{ID: 2, Path: "b", State: ledger.Skipped, CopyOf: &one, CameAt: at(2)}}, due.Files{Noticed: []time.Time{*at(2)}}},
		"refused":                       {[]ledger.Arrival{{ID: 1, Path: "a", State: ledger.Refused, CameAt: at(1)}}, due.Files{Refused: 1}},
		"refused, then better":          {[]ledger.Arrival{{ID: 1, Path: "a", State: ledger.Refused, CameAt: at(1)}, {ID: 2, Path: "a", State: ledger.Ready, CameAt: at(3)}}, due.Files{Noticed: []time.Time{*at(3)}}},
		"a worse correction":            {[]ledger.Arrival{{ID: 1, Path: "a", State: ledger.Loaded, CameAt: at(1)}, {ID: 2, Path: "a", State: ledger.Refused, CameAt: at(3)}}, due.Files{Noticed: []time.Time{*at(1)}}},
		"gone":                          {[]ledger.Arrival{{ID: 1, Path: "a", State: ledger.Gone, CameAt: at(1)}}, due.Files{}},
	} {
		assert.Equal(t, c.want, filesOf(c.arrivals), name)
	}
}

// TestNoKeyStandsInTwoFilesOfAGroup splits files into groups.
func TestNoKeyStandsInTwoFilesOfAGroup(t *testing.T) {
	files := func(hashes ...[]uint64) []*part {
		var out []*part
		for i, h := range hashes {
			p := &part{n: i}
			p.piece.Hashes = h
			out = append(out, p)
		}
		return out
	}
	sizes := func(parts []*part, bytewise bool) (out []int) {
		for _, g := range groups(parts, !bytewise) {
			out = append(out, len(g))
		}
		return out
	}
	assert.Equal(t, []int{3}, sizes(files([]uint64{1, 1}, []uint64{2}, []uint64{3}), true), "a key twice in one file is its own business")
	assert.Equal(t, []int{2, 2}, sizes(files([]uint64{1}, []uint64{2}, []uint64{1}, []uint64{2}), true))
	assert.Equal(t, []int{1, 1}, sizes(files([]uint64{1}, []uint64{2}), false), "where hashes do not tell")
	replaces := files([]uint64{1}, []uint64{2}, []uint64{3}, []uint64{4})
	replaces[1].replaces = []int64{9}
	assert.Equal(t, []int{1, 1, 2}, sizes(replaces, true), "one that replaces another stands alone")
	assert.Empty(t, groups(nil, false))
}

func TestSlotsOfARangeInOtherUnits(t *testing.T) {
	now := time.Date(2026, 7, 2, 12, 0, 0, 0, time.UTC)
	for form, want := range map[string][]string{
		"{slot:%Y%m}":      {"2026-06", "2026-07"},
		"{slot:%Y}":        {"2026"},
		"{slot:%Y%m%dT%H}": {"2026-06-30T00"},
		"*":                {"2026-06-01"},
		"{slot:#}":         nil,
	} {
		text := strings.Replace(gauges, "{slot:%Y%m%dT%H%M}*", form, 1)
		f, err := feed.Parse("x", []byte(text))
		require.NoError(t, err, form)
		wanted := ledger.Wanted{From: "2026-06", To: "2026-07"}
		switch form {
		case "{slot:%Y%m%dT%H}":
			wanted = ledger.Wanted{From: "2026-06-30T00"}
		case "*":
			wanted = ledger.Wanted{To: "2026-06-01"}
		case "{slot:#}":
			assert.ErrorContains(t, CheckRange(f, wanted, now), "is not a number; the names of this feed count their slots")
			assert.ErrorContains(t, CheckRange(f, ledger.Wanted{From: "9", To: "3"}, now), "from 9 to 3 are not between")
			wanted, want = ledger.Wanted{From: "9", To: "11"}, []string{"9", "10", "11"}
		}
		steps, err := slotsOf(f, wanted, now)
		require.NoError(t, err, form)
		var names []string
		for _, s := range steps {
			names = append(names, s.name)
		}
		assert.Equal(t, want, names, form)
	}
}
