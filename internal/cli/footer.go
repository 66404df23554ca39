package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"strings"
	"sync"
	"time"

	"golang.org/x/term"

	"mullein/internal/api"
	"mullein/internal/client"
)

// footer stands below the lines of a watch on a terminal, and is drawn anew: how things stand, and
// what is being loaded.
type footer struct {
	out    io.Writer
	width  func() int
	mu     sync.Mutex
	lines  int // that are drawn
	totals *api.Totals
	loads  []api.Progress
	away   string // why the service is not heard
}

// loadsDrawn bounds the loads that are drawn.
const loadsDrawn = 10

// newFooter returns a footer for a terminal.
func newFooter(out *os.File) *footer {
	return &footer{out: out, width: func() int {
		if width, _, err := term.GetSize(int(out.Fd())); err == nil && width > 0 {
			return width
		}
		return 80
	}}
}

// keep asks now and then how things stand, until ctx ends.
func (f *footer) keep(ctx context.Context, service *client.Client) {
	const every = 2 * time.Second
	for {
		status, err := service.Status(ctx)
		f.change(func() {
			f.away = ""
			if err != nil {
				f.away = err.Error()
				return
			}
			f.totals = &status.Totals
		})
		select {
		case <-ctx.Done():
			return
		case <-time.After(every):
		}
	}
}

// working takes what is being loaded.
func (f *footer) working(loads []api.Progress) { f.change(func() { f.loads = loads }) }

// change changes what is drawn.
func (f *footer) change(do func()) {
	f.mu.Lock()
	defer f.mu.Unlock()
	do()
	f.clear()
	f.draw()
}

// above writes lines above the footer.
func (f *footer) above(write func()) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.clear()
	write()
	f.draw()
}

// end takes the footer away.
func (f *footer) end() {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.clear()
}

func (f *footer) clear() {
	if f.lines > 0 {
		fmt.Fprintf(f.out, "\x1b[%dA\r\x1b[J", f.lines)
	}
	f.lines = 0
}

func (f *footer) draw() {
	width := f.width()
	for _, line := range f.text(width) {
		if r := []rune(line); len(r) >= width { // a line that is broken by the terminal would be two
			line = string(r[:max(0, width-1)])
		}
		fmt.Fprintln(f.out, line)
		f.lines++
	}
}

// text returns the lines of the footer.
func (f *footer) text(width int) (out []string) {
	out = append(out, strings.Repeat("─", max(1, width-1)))
	switch {
	case f.away != "":
		out = append(out, "the service is not heard: "+harmless(f.away))
	case f.totals != nil:
		t := f.totals
		waiting := t.States["noticed"] + t.States["settling"] + t.States["ready"]
		out = append(out, fmt.Sprintf("%s  %d loading, %d waiting, %d of which something needs a person, %s rows today",
			plural(t.Feeds, "feed"), t.States["loading"], waiting, t.Wrong, integer(t.RowsToday).text))
	}
	for i, l := range f.loads {
		if i == loadsDrawn {
			return append(out, fmt.Sprintf("and %d more", len(f.loads)-i))
		}
		const cells = 20
		share := 0.0
		if l.Size > 0 {
			share = min(1, float64(l.Bytes)/float64(l.Size))
		}
		done := int(share * cells)
		out = append(out, fmt.Sprintf("%-18s %s%s %3.0f %%  %s rows  %s  %s", l.Feed, strings.Repeat("█", done), strings.Repeat("░", cells-done),
			share*100, integer(l.Rows).text, harmless(whereabouts(l)), harmless(l.Path)))
	}
	return out
}
