package inspect

import (
	"bytes"
	"context"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"mullein/internal/core/decode"
	"mullein/internal/core/feed"
	"mullein/internal/landing"
	"mullein/internal/ledger"
	"mullein/internal/load"
	"mullein/internal/reading"
)

// Mend hands rejects in again that a person put right. They become an arrival
// of their own, whose rows keep the file and the line that they came from.
func (i *Inspector) Mend(ctx context.Context, of int64, rows []ledger.MendedRow, who, because string) (ledger.Arrival,
	error) {
	a, err := i.Ledger.Arrival(ctx, of)
	if err != nil {
		return a, err
	}
	f, _, err := i.Definition(ctx, a.Feed)
	if err != nil {
		return a, err
	}
	if a.State != ledger.Loaded {
		return a, &ledger.ConflictError{Reason: fmt.Sprintf("arrival %d is %s: rejects are mended when the rest is "+
			"loaded", a.ID, a.State)}
	}
	rejects, err := i.Ledger.Rejects(ctx, ledger.RejectFilter{Arrival: of, Most: reading.MaxRejects})
	if err != nil {
		return a, err
	}
	content, lines, err := mended(f, &a, rejects, rows)
	if err != nil {
		return a, err
	}
	return i.handIn(ctx, f, &a, content, lines, rows, who, because)
}

// mended makes a file of mended rows, in the order of their lines.
func mended(f *feed.Feed, a *ledger.Arrival, rejects []ledger.NotableReject, rows []ledger.MendedRow) ([]byte,
	[]int64, error) {
	var content, mendedRows bytes.Buffer
	byNumber := map[int]*ledger.NotableReject{}
	for n := range rejects {
		byNumber[rejects[n].Number] = &rejects[n]
	}
	var lines []int64
	slices.SortFunc(rows, func(a, b ledger.MendedRow) int { return a.Number - b.Number })
	for i, row := range rows {
		reject := byNumber[row.Number]
		text := strings.TrimRight(row.Text, "\r\n")
		switch {
		case reject == nil:
			return nil, nil, fmt.Errorf("reject %d of arrival %d: %w", row.Number, a.ID, ledger.ErrNotFound)
		case i > 0 && rows[i-1].Number == row.Number:
			return nil, nil, &ledger.ConflictError{Reason: fmt.Sprintf("reject %d stands twice in what is handed in",
				row.Number)}
		case reject.MendedIn != nil:
			return nil, nil, &ledger.ConflictError{Reason: fmt.Sprintf("reject %d, line %d, was mended already, in "+
				"arrival %d", row.Number, reject.Line, *reject.MendedIn)}
		case reject.Masked:
			return nil, nil, &ledger.ConflictError{Reason: fmt.Sprintf("reject %d, line %d, has private values, which "+
				"are not kept: have the file sent again", row.Number, reject.Line)}
		case text == "":
			return nil, nil, &ledger.ConflictError{Reason: fmt.Sprintf("reject %d, line %d: an empty row", row.Number,
				reject.Line)}
		case len(reject.Original) >= reading.OriginalKept && strings.HasSuffix(text, "..."):
			return nil, nil, &ledger.ConflictError{Reason: fmt.Sprintf("reject %d, line %d, is longer than what is "+
				"kept of it; write out the whole row in place of the ...", row.Number, reject.Line)}
		case text == reject.Original:
			return nil, nil, &ledger.ConflictError{Reason: fmt.Sprintf("reject %d, line %d, is as it was", row.Number,
				reject.Line)}
		}
		mendedRows.WriteString(text)
		mendedRows.WriteByte('\n')
		lines = append(lines, reject.Line)
	}
	if len(lines) == 0 {
		return nil, nil, &ledger.ConflictError{Reason: "no rows are handed in"}
	}
	if f.Format == decode.CSV && f.Dialect.Header {
		names := a.Columns
		if len(names) == 0 {
			return nil, nil, &ledger.ConflictError{Reason: "the header of its file is not on record; redo the arrival " +
				"first"}
		}
		for i, n := range names {
			if i > 0 {
				content.WriteString(f.Dialect.Delimiter)
			}
			content.WriteString(quoted(n, f))
		}
		content.WriteByte('\n')
	}
	content.Write(mendedRows.Bytes())
	return content.Bytes(), lines, nil
}

// quoted writes a name as a cell.
func quoted(name string, f *feed.Feed) string {
	q := string(f.Dialect.QuoteChar)
	if f.Dialect.QuoteChar == 0 || !strings.ContainsAny(name, f.Dialect.Delimiter+q+"\r\n") {
		return name
	}
	return q + strings.ReplaceAll(name, q, q+q) + q
}

// handIn writes the file, apart from the landing, and records its arrival.
func (i *Inspector) handIn(ctx context.Context, f *feed.Feed, a *ledger.Arrival, content []byte, lines []int64,
	rows []ledger.MendedRow, who, because string) (ledger.Arrival, error) {
	folder, err := i.Landing(ctx, f)
	if err != nil {
		return *a, err
	}
	defer folder.Close()
	at := path.Join(landing.Mended, a.Feed, fmt.Sprintf("%d-%d-%d", a.ID, rows[0].Number, time.Now().UnixMilli()))
	if err := folder.Note(at, string(content)); err != nil {
		return *a, err
	}
	file, err := folder.OpenAway(at)
	if err != nil {
		return *a, err
	}
	defer file.Close()
	now := time.Now().UTC()
	out := ledger.Arrival{
		Feed: a.Feed, Path: fmt.Sprintf("%s%s%s)", a.Path, load.MendedMark, now.Format("2006-01-02 15:04:05.000")),
		Size: file.Entry.Size, Modified: file.Entry.Modified, Inode: int64(file.Entry.Inode),
		State: ledger.Ready, Reason: fmt.Sprintf("%d mended rows of arrival %d, by %s: %s", len(rows), a.ID, who,
			because), Captures: a.Captures,
		Forced: true, AwayTo: at, Mends: &a.ID, MendedLines: lines, CameAt: &now, ReadyAt: &now,
	}
	numbers := make([]int, len(rows))
	for n, r := range rows {
		numbers[n] = r.Number
	}
	if err := i.Ledger.Mend(ctx, &out, numbers, who, because); err != nil {
		return *a, err
	}
	return out, nil
}
