package history

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"mullein/internal/core/feed"
)

func TestJudge(t *testing.T) {
	k1 := map[string]any{"catchment": "K1"}
	k2 := map[string]any{"catchment": "K2"}
	file := File{ID: 9, Path: "b.csv", Digest: "d1", Captures: k1}
	forced := file
	forced.Forced = true
	unread := file
	unread.Digest = ""
	path := func(digest string) *Loaded { return &Loaded{ID: 3, Path: "b.csv", Digest: digest, Captures: k1} }
	bytes := func(captures map[string]any, current bool) []Loaded {
		return []Loaded{{ID: 4, Path: "a.csv", Digest: "d1", Captures: captures, Current: current}}
	}
	for name, c := range map[string]struct {
		file  File
		known Known
		rules Rules
		want  Verdict
	}{
		"nothing is known": {file, Known{}, Rules{}, Verdict{Kind: New}},
		"itself, loaded before, is no other": {file, Known{Path: &Loaded{ID: 9, Path: "b.csv", Digest: "d1"}},
			Rules{}, Verdict{Kind: New}},
		"only its time has changed": {file, Known{Path: path("d1")}, Rules{Reissue: feed.ReissueHold},
			Verdict{Same, Skip, 3, "the same bytes as arrival 3 of this path; only its time has changed"}},
		"the same, and a person wants it": {forced, Known{Path: path("d1")}, Rules{Reissue: feed.ReissueLoad},
			Verdict{Kind: Same, Of: 3}},
		"a reissue is loaded": {file, Known{Path: path("d0")}, Rules{Reissue: feed.ReissueLoad},
			Verdict{Kind: Reissue, Of: 3}},
		"a reissue replaces": {file, Known{Path: path("d0")}, Rules{Reissue: feed.ReissueReplace},
			Verdict{Kind: Reissue, Action: Replace, Of: 3}},
		"a forced reissue replaces too": {forced, Known{Path: path("d0")}, Rules{Reissue: feed.ReissueReplace},
			Verdict{Kind: Reissue, Action: Replace, Of: 3}},
		"a reissue is held": {file, Known{Path: path("d0")}, Rules{Reissue: feed.ReissueHold},
			Verdict{Reissue, Hold, 3, "another version of this file, arrival 3, is loaded; release it to load this " +
				"one"}},
		"a held reissue that was released": {forced, Known{Path: path("d0")}, Rules{Reissue: feed.ReissueHold},
			Verdict{Kind: Reissue, Of: 3}},
		"a reissue is skipped": {file, Known{Path: path("d0")}, Rules{Reissue: feed.ReissueSkip},
			Verdict{Reissue, Skip, 3, "another version of this file, arrival 3, is loaded, and the feed skips " +
				"reissues"}},
		"a copy": {file, Known{Bytes: bytes(k1, true)}, Rules{},
			Verdict{Copy, Skip, 4, "a copy of arrival 4, a.csv"}},
		"a copy where copies are loaded": {file, Known{Bytes: bytes(k1, true)}, Rules{LoadCopies: true},
			Verdict{Kind: Copy, Of: 4}},
		"a copy that a person wants": {forced, Known{Bytes: bytes(k1, true)}, Rules{}, Verdict{Kind: Copy, Of: 4}},
		"another name's bytes":       {file, Known{Bytes: bytes(k2, true)}, Rules{}, Verdict{Kind: New}},
		"A, B, A again":              {file, Known{Bytes: bytes(k1, false)}, Rules{}, Verdict{Kind: Return}},
		"two names where rows add up": {File{ID: 9, Path: "south.csv", Digest: "d1", Captures: k1},
			Known{Bytes: bytes(k1, true)}, Rules{Adds: true}, Verdict{Kind: New}},
		"a marked copy where rows add up": {File{ID: 9, Path: "a (1).csv", Digest: "d1", Captures: k1},
			Known{Bytes: bytes(k1, true)}, Rules{Adds: true},
			Verdict{Copy, Skip, 4, "a copy of arrival 4, a.csv"}},
		"bytes that are not known yet": {unread, Known{Bytes: bytes(k1, true)}, Rules{}, Verdict{Kind: New}},
	} {
		assert.Equal(t, c.want, Judge(c.file, c.known, c.rules), name)
	}
}

func TestTellsApart(t *testing.T) {
	for _, c := range []struct {
		a, b string
		want bool
	}{
		{"sales_0801.csv", "sales_0802.csv", true}, {"north_stock.csv", "south_stock.csv", true},
		{"01/day.csv", "02/day.csv", true},
		{"levels.csv", "levels (1).csv", false}, {"levels (1).csv", "levels (2).csv", false},
		{"levels.csv", "levels - Copy.csv", false},
		{"levels.csv", "Copy of levels.csv", false}, {"levels.csv", "levels_copy 2.csv", false},
		{"levels.csv", "levels.csv~", false},
	} {
		assert.Equal(t, c.want, TellsApart(c.a, c.b), "%s and %s", c.a, c.b)
	}
}
