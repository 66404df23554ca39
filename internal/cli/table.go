package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"mullein/internal/api"
)

// grid is aligned columns: texts to the left, numbers to the right.
type grid struct {
	head []string
	rows [][]cell
}

type cell struct {
	text   string
	number bool
	color  string // an SGR code; used on a terminal only
}

func text(s string) cell      { return cell{text: harmless(s)} }
func integer(n int64) cell    { return cell{text: grouped(n), number: true} }
func id(n int64) cell         { return cell{text: strconv.FormatInt(n, 10), number: true} }
func (t *grid) add(c ...cell) { t.rows = append(t.rows, c) }

// grouped writes 1234567 as 1 234 567, with a space that does not break.
func grouped(n int64) string {
	s := strconv.FormatInt(n, 10)
	for i := len(s) - 3; i > 0 && s[i-1] != '-'; i -= 3 {
		s = s[:i] + "\u00a0" + s[i:]
	}
	return s
}

// colors reports whether people look on who want colours.
func colors(w io.Writer) bool { return terminal(w) && os.Getenv("NO_COLOR") == "" }

// shown is the text of a cell, in its colour.
func (c cell) shown(color bool) string {
	if !color || c.color == "" {
		return c.text
	}
	return "\x1b[" + c.color + "m" + c.text + "\x1b[0m"
}

func (t *grid) write(w io.Writer) {
	color := colors(w)
	widths := make([]int, len(t.head))
	right := make([]bool, len(t.head))
	for i, h := range t.head {
		widths[i] = utf8.RuneCountInString(h)
	}
	for _, row := range t.rows {
		for i, c := range row {
			widths[i] = max(widths[i], utf8.RuneCountInString(c.text))
			right[i] = right[i] || c.number
		}
	}
	line := func(cells []cell) {
		b := strings.Builder{}
		for i, c := range cells {
			pad := strings.Repeat(" ", widths[i]-utf8.RuneCountInString(c.text))
			shown := c.shown(color)
			if right[i] {
				b.WriteString(pad + shown)
			} else {
				b.WriteString(shown + pad)
			}
			if i < len(cells)-1 {
				b.WriteString("  ")
			}
		}
		fmt.Fprintln(w, strings.TrimRight(b.String(), " "))
	}
	head := make([]cell, len(t.head))
	for i, h := range t.head {
		head[i] = cell{text: h, color: "1"}
	}
	line(head)
	for _, row := range t.rows {
		line(row)
	}
}

// show writes a value as JSON, or calls people's own form of it.
func (c *command) show(v any, people func()) error {
	switch c.format {
	case "csv":
		return writeCSV(c.out, v)
	case "jsonl":
		return writeLines(c.out, v)
	case "table":
		people()
		return nil
	}
	e := json.NewEncoder(c.out)
	e.SetIndent("", "  ")
	return e.Encode(v)
}

func state(s string) cell {
	colors := map[string]string{
		"loaded": "32", "done": "32", "refused": "31", "failed": "31", "held": "33", "skipped": "90", "gone": "90",
		"loading": "36", "running": "36", "cancelled": "33", "paused": "33",
	}
	return cell{text: s, color: colors[s]}
}

func when(t *time.Time) cell {
	if t == nil {
		return text("-")
	}
	return text(t.Local().Format("2006-01-02 15:04:05"))
}

func shorten(s string, most int) string {
	s = strings.Join(strings.Fields(s), " ")
	if r := []rune(s); len(r) > most {
		return string(r[:most-1]) + "…"
	}
	return s
}

// places are where a row can have gone to, in the order in which they are shown.
var places = []struct {
	name string
	of   func(api.Balance) int64
}{
	{"inserted", func(b api.Balance) int64 { return b.Inserted }},
	{"updated", func(b api.Balance) int64 { return b.Updated }},
	{"unchanged", func(b api.Balance) int64 { return b.Unchanged }},
	{"outdated", func(b api.Balance) int64 { return b.Outdated }},
	{"kept", func(b api.Balance) int64 { return b.Kept }}, {"deleted", func(b api.Balance) int64 { return b.Deleted }},
	{"duplicate", func(b api.Balance) int64 { return b.Duplicate }},
	{"rejected", func(b api.Balance) int64 { return b.Rejected }},
	{"left out", func(b api.Balance) int64 { return b.LeftOut }},
	{"withheld", func(b api.Balance) int64 { return b.Withheld }},
}

// balanceColumns returns the columns of a table of loads: the rows read, and each
// place that any of them used.
func balanceColumns(list []api.Balance) (head []string, cells func(api.Balance) []cell) {
	head = []string{"READ"}
	var used []func(api.Balance) int64
	for _, p := range places {
		if p.name == "inserted" || slices.ContainsFunc(list, func(b api.Balance) bool { return p.of(b) > 0 }) {
			head, used = append(head, strings.ToUpper(p.name)), append(used, p.of)
		}
	}
	return head, func(b api.Balance) []cell {
		out := []cell{integer(b.Read)}
		for _, of := range used {
			out = append(out, integer(of(b)))
		}
		return out
	}
}

// balanceLine writes a balance as a sum that people can check.
func balanceLine(b api.Balance) string {
	var parts []string
	for _, p := range places {
		if n := p.of(b); n != 0 {
			parts = append(parts, grouped(n)+" "+p.name)
		}
	}
	line := fmt.Sprintf("%s read = %s", grouped(b.Read), strings.Join(parts, " + "))
	if len(parts) == 0 {
		line = grouped(b.Read) + " read"
	}
	if b.Removed > 0 {
		line += fmt.Sprintf("; %s removed from the table", grouped(b.Removed))
	}
	return line
}

func arrivalTable(list []api.Arrival) *grid {
	var balances []api.Balance
	for _, a := range list {
		balances = append(balances, a.Balance)
	}
	head, cells := balanceColumns(balances)
	t := &grid{head: append(append([]string{"ID", "NOTICED", "STATE", "PATH"}, head...), "WHY")}
	for _, a := range list {
		row := append([]cell{id(a.ID), when(&a.NoticedAt), state(string(a.State)), text(a.Path)}, cells(a.Balance)...)
		t.add(append(row, text(shorten(a.Reason, 60)))...)
	}
	return t
}
