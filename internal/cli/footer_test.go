package cli

import (
	"bytes"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"mullein/internal/api"
)

// screen is what a terminal shows after it was written to: as much of its controls as a footer uses.
func screen(text string) []string {
	var lines []string
	for text != "" {
		var up int
		if n, _ := fmt.Sscanf(text, "\x1b[%dA", &up); n == 1 {
			lines = lines[:len(lines)-up]
			_, text, _ = strings.Cut(text, "\x1b[J")
			continue
		}
		line, rest, _ := strings.Cut(text, "\n")
		lines, text = append(lines, line), rest
	}
	return lines
}

func TestTheFooterStaysBelow(t *testing.T) {
	var out bytes.Buffer
	f := &footer{out: &out, width: func() int { return 80 }}
	f.change(func() {
		f.totals = &api.Totals{Feeds: 6, Wrong: 1, RowsToday: 12345, States: map[string]int64{"ready": 2, "loading": 1}}
	})
	f.working([]api.Progress{{Feed: "gauge-readings", Path: "GAUGE_K1.csv", Size: 200, Bytes: 100, Rows: 7, Step: "opened"},
		{Feed: "gauge-readings", Path: "GAUGE_\x1b[31mK2.csv", Step: "opened"}})
	f.above(func() { fmt.Fprintln(&out, "something happened") })
	f.working(nil)
	f.above(func() { fmt.Fprintln(&out, "and something else") })
	f.working([]api.Progress{{Feed: "gauge-readings", Path: strings.Repeat("long", 30), Size: 200, Bytes: 100, Rows: 7, Step: "opened"}})
	lines := screen(out.String())
	assert.Equal(t, []string{"something happened", "and something else", strings.Repeat("─", 79),
		"6 feeds  1 loading, 2 waiting, 1 of which something needs a person, 12\u00a0345 rows",
		"gauge-readings     ██████████░░░░░░░░░░  50 %  7 rows  opened  longlonglonglong"}, lines)
	f.change(func() { f.away = "no service answers" })
	assert.Contains(t, out.String(), "the service is not heard: no service answers")
	assert.NotContains(t, out.String(), "\x1b[31m", "names do not colour the terminal")
	f.end()
	assert.Equal(t, []string{"something happened", "and something else"}, screen(out.String()))
	f.working(make([]api.Progress, 15))
	assert.Contains(t, screen(out.String()), "and 5 more")
}

func TestLinesOfJSON(t *testing.T) {
	var out bytes.Buffer
	assert.NoError(t, writeLines(&out, api.ActList{Items: []api.Act{{ID: 2}, {ID: 1}}}))
	assert.Equal(t, 2, strings.Count(out.String(), "\n"))
	assert.True(t, strings.HasPrefix(out.String(), `{"id":2,`), out.String())
	out.Reset()
	assert.NoError(t, writeLines(&out, api.Token{ID: 3}))
	assert.Equal(t, 1, strings.Count(out.String(), "\n"))
}
