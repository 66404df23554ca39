package notice

import (
	"bytes"
	"context"
	_ "embed"
	"errors"
	"fmt"
	"html/template"
	"maps"
	"net/url"
	"slices"
	"strings"
	texttemplate "text/template"
	"time"

	"mullein/internal/core/feed"
	"mullein/internal/core/news"
	"mullein/internal/ledger"
)

// letter is a notice in words, before it is plain text and HTML.
type letter struct {
	Subject   string
	Heading   string
	Parts     []part
	More      int    // parts that are not shown
	Link      string // to the page where all of it is
	Rehearsal bool
	Why       string // why the reader gets it
}

// part is one thing that a letter tells.
type part struct {
	Title     string
	Over      bool // it is over
	What      string
	Facts     []fact
	Near      []string // files at the landing whose names come close
	Say       string   // the owner's words
	Rejects   []cell
	MoreCells int64
	Last      string // who did something about it last
	Link      string
	Supplier  string // what can be sent to the supplier as it is
}

type fact struct{ Name, Value string }

// cell is a rejected row with the bad cell apart.
type cell struct {
	Line               int64
	Reason             string
	Before, Bad, After string
}

const (
	partsShown = 8
	cellsShown = 5
)

//go:embed letter.txt
var plainText string

//go:embed letter.html
var htmlText string

var (
	plainLetter = texttemplate.Must(texttemplate.New("letter").Parse(plainText))
	htmlLetter  = template.Must(template.New("letter").Parse(htmlText))
)

// write returns a letter as plain text and as HTML.
func (l *letter) write() (text, html string, err error) {
	var plain, marked bytes.Buffer
	if err := plainLetter.Execute(&plain, l); err != nil {
		return "", "", err
	}
	if err := htmlLetter.Execute(&marked, l); err != nil {
		return "", "", err
	}
	return blankLines(plain.String()), marked.String(), nil
}

// blankLines leaves no more than one empty line.
func blankLines(s string) string {
	for strings.Contains(s, "\n\n\n") {
		s = strings.ReplaceAll(s, "\n\n\n", "\n\n")
	}
	return strings.TrimSpace(s) + "\n"
}

// author writes letters.
type author struct {
	ledger  *ledger.Ledger
	about   *about
	address string // of the console
}

// problem writes of a problem, of which these parts concern the reader.
func (a *author) problem(ctx context.Context, p *ledger.Problem, parts []ledger.ProblemPart, occasion ledger.Occasion,
	toSupplier bool) (*letter, error) {
	var names []string
	for _, t := range parts[:min(len(parts), partsShown)] {
		names = append(names, t.Feed)
	}
	feeds, err := a.about.look(ctx, names)
	if err != nil {
		return nil, err
	}
	out := &letter{Link: a.page(p, parts), More: max(0, len(parts)-partsShown)}
	for _, t := range parts[:min(len(parts), partsShown)] {
		told, err := a.part(ctx, p.Kind, t, feeds[t.Feed])
		if err != nil {
			return nil, err
		}
		if toSupplier {
			told = &part{Title: told.Title, What: told.Supplier}
		}
		out.Parts = append(out.Parts, *told)
	}
	out.Heading = heading(p, parts, occasion)
	if one := parts[0]; len(parts) == 1 && (one.Arrival > 0 || one.Slot > 0) {
		comma := map[bool]string{true: ","}[one.Slot > 0] // after the time
		out.Heading = over(out.Parts[0].Title+comma+" "+words[p.Kind][0], occasion)
	}
	out.Subject = out.Heading
	if toSupplier {
		out.Subject, out.Link = supplierSubject(p.Kind, out.Parts), ""
		out.Heading = out.Subject
	}
	return out, nil
}

// words say what a kind of problem is, of one thing and of several.
var words = map[news.Kind][2]string{
	news.Late: {"is late", "are late"}, news.Missing: {"is missing", "are missing"},
	news.Refused: {"was refused", "were refused"}, news.Failed: {"failed", "failed"}, news.Held: {"waits for a person", "wait for a person"},
	news.Rejects: {"has many rejects", "have many rejects"}, news.Warning: {"breaks a check that warns", "break checks that warn"},
	news.Table: {"does not fit its table", "do not fit their table"}, news.Landing: {"has no landing", "have no landing"},
	news.Database: {"cannot reach its database", "cannot reach their database"}, news.Disk: {"waits for room on the disk", "wait for room on the disk"},
	news.Stopped: {"does not work", "do not work"}, news.Rollup: {"is not kept", "are not kept"},
	news.Service: {"was lost", "were lost"}, news.Outlet: {"does not take messages", "do not take messages"},
	news.Extract: {"has failed", "have failed"},
	news.Ending:  {"is about to end", "are about to end"},
}

// heading says what it is about in a line: the feed, what, and since when or how many.
func heading(p *ledger.Problem, parts []ledger.ProblemPart, occasion ledger.Occasion) string {
	feeds := map[string]bool{}
	for _, t := range parts {
		feeds[t.Feed] = true
	}
	who := strings.TrimPrefix(p.Cause, "supplier ")
	if len(feeds) == 1 && parts[0].Feed != "" {
		who = parts[0].Feed
	}
	said := words[p.Kind][0]
	slotsOrFiles := map[news.Kind]string{news.Late: "slots", news.Missing: "slots", news.Refused: "files", news.Failed: "files",
		news.Held: "files"}[p.Kind]
	switch {
	case slotsOrFiles != "" && len(parts) > 1 && len(feeds) > 1:
		said = fmt.Sprintf("%d %s of %d feeds %s", len(parts), slotsOrFiles, len(feeds), words[p.Kind][1])
	case slotsOrFiles != "" && len(parts) > 1:
		said = fmt.Sprintf("%d %s %s", len(parts), slotsOrFiles, words[p.Kind][1])
	case slotsOrFiles == "slots":
		said = "a slot " + said
	case slotsOrFiles == "files":
		said = "a file " + said
	case len(feeds) > 1:
		who, said = fmt.Sprintf("%d feeds", len(feeds)), words[p.Kind][1]
		return over(who+" "+said, occasion)
	}
	if slotsOrFiles == "" {
		return over(who+" "+said, occasion)
	}
	return over(who+": "+said, occasion)
}

func over(text string, occasion ledger.Occasion) string {
	switch occasion {
	case ledger.Healed:
		return "Over: " + text
	case ledger.Lasts:
		return "Still: " + text
	}
	return text
}

// page is the address of the page where a problem is seen.
func (a *author) page(p *ledger.Problem, parts []ledger.ProblemPart) string {
	if len(parts) == 1 {
		return a.link(parts[0])
	}
	return fmt.Sprintf("%s/notices?problem=%d", a.address, p.ID)
}

func (a *author) link(t ledger.ProblemPart) string {
	switch {
	case t.Arrival > 0:
		return fmt.Sprintf("%s/arrivals/%d", a.address, t.Arrival)
	case t.Slot > 0:
		return fmt.Sprintf("%s/due?feed=%s&slot=%d", a.address, url.QueryEscape(t.Feed), t.Slot)
	case t.Feed != "":
		return a.address + "/feeds/" + url.PathEscape(t.Feed)
	}
	return a.address + "/today"
}

// part writes of one thing that is wrong.
func (a *author) part(ctx context.Context, kind news.Kind, t ledger.ProblemPart, f *feed.Feed) (*part, error) {
	out := &part{Title: t.Feed, What: t.What, Over: t.OverAt != nil, Link: a.link(t)}
	if f != nil && f.About != "" {
		out.Facts = append(out.Facts, fact{"Feed", f.Name + ": " + f.About})
	}
	if f != nil && f.Supplier.Name != "" {
		out.Facts = append(out.Facts, fact{"Supplier", strings.Trim(f.Supplier.Name+" "+f.Supplier.Contact, " ")})
	}
	var err error
	switch {
	case t.Slot > 0:
		err = a.slot(ctx, kind, t, f, out)
	case t.Arrival > 0:
		err = a.arrival(ctx, kind, t, f, out)
	}
	return out, err
}

// zoneOf returns the zone in which people think of a feed's times.
func zoneOf(f *feed.Feed) *time.Location {
	switch {
	case f != nil && f.Due != nil && f.Due.Times != nil:
		return f.Due.Times.Zone()
	case f != nil && f.Landing.Zone != nil:
		return f.Landing.Zone
	}
	return time.UTC
}

func when(t time.Time, zone *time.Location) string {
	return t.In(zone).Format("Mon 2 Jan 2006 15:04") + " " + zone.String()
}

func (a *author) slot(ctx context.Context, kind news.Kind, t ledger.ProblemPart, f *feed.Feed, out *part) error {
	s, err := a.ledger.Slot(ctx, t.Slot)
	if err != nil {
		return missingIsFine(err)
	}
	zone := zoneOf(f)
	of := ""
	for _, name := range slices.Sorted(maps.Keys(s.Per)) {
		of += " " + s.Per[name]
	}
	out.Title = strings.TrimSpace(t.Feed + of + ", due " + when(s.DueAt, zone))
	out.What = fmt.Sprintf("Of %d expected files %d came.", s.Files, s.Came)
	if s.Files == 1 {
		out.What = "The expected file did not come."
		if kind == news.Late {
			out.What = "The expected file is not here yet."
		}
	}
	expected := ""
	if f != nil && f.Due != nil {
		expected = f.Expected(s.Due())
		out.Facts = append(out.Facts, fact{"Expected", expected})
		out.Say = f.Due.Say
	}
	out.Facts = append(out.Facts, fact{"Missing from", when(s.MissingAt, zone)})
	for _, n := range s.Near[:min(len(s.Near), cellsShown)] {
		out.Near = append(out.Near, n.Path+" ("+n.Why+")")
	}
	decisions, err := a.ledger.Decisions(ctx, 0, s.ID)
	if err != nil {
		return err
	}
	out.last(decisions, zone)
	out.Supplier = supplierSlot(f, of, when(s.DueAt, zone), expected, out.Near)
	return nil
}

// missingIsFine passes over what was dropped meanwhile: the rest is told all the same.
func missingIsFine(err error) error {
	if err == nil || errors.Is(err, ledger.ErrNotFound) {
		return nil
	}
	return err
}

func (a *author) arrival(ctx context.Context, kind news.Kind, t ledger.ProblemPart, f *feed.Feed, out *part) error {
	arrival, err := a.ledger.Arrival(ctx, t.Arrival)
	if err != nil {
		return missingIsFine(err)
	}
	zone := zoneOf(f)
	out.Title = t.Feed + ": " + arrival.Path
	out.What = strings.TrimPrefix(t.What, arrival.Path+": ")
	if arrival.Slot != nil {
		out.Facts = append(out.Facts, fact{"Slot", when(*arrival.Slot, zone)})
	}
	out.Facts = append(out.Facts, fact{"Came", when(arrival.NoticedAt, zone)}, fact{"Balance", arrival.Balance.String()})
	rejects, err := a.ledger.Rejects(ctx, ledger.RejectFilter{Arrival: arrival.ID, Most: cellsShown})
	if err != nil {
		return err
	}
	for _, r := range rejects {
		out.Rejects = append(out.Rejects, cellOf(&r.Reject))
	}
	out.MoreCells = max(0, arrival.Balance.Rejected-int64(len(rejects)))
	decisions, err := a.ledger.Decisions(ctx, arrival.ID, 0)
	if err != nil {
		return err
	}
	out.last(decisions, zone)
	out.Supplier = supplierFile(f, arrival.Path, out.What, out.Rejects, out.MoreCells)
	return nil
}

// cellOf takes a rejected row apart at the bad cell.
func cellOf(r *ledger.Reject) cell {
	line := []rune(r.Original)
	out := cell{Line: r.Line, Reason: r.Reason, Before: r.Original}
	if r.ColumnName != "" {
		out.Reason = r.ColumnName + ": " + out.Reason
	}
	if r.MarkTo > r.MarkFrom && r.MarkTo <= len(line) {
		out.Before, out.Bad, out.After = string(line[:r.MarkFrom]), string(line[r.MarkFrom:r.MarkTo]), string(line[r.MarkTo:])
	}
	return out
}

func (p *part) last(decisions []ledger.Decision, zone *time.Location) {
	if n := len(decisions); n > 0 {
		d := decisions[n-1]
		p.Last = fmt.Sprintf("%s: %s on %s, because %s", d.By, d.What, when(d.At, zone), d.Because)
	}
}

// supplierSlot asks a supplier for files that did not come.
func supplierSlot(f *feed.Feed, of, at, expected string, near []string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "We have not got what is due%s at %s.\n", of, at)
	if expected != "" {
		fmt.Fprintf(&b, "We expect a file with the name %s", expected)
		if f != nil {
			fmt.Fprintf(&b, " in %s", f.Landing.At)
		}
		b.WriteString(".\n")
	}
	if len(near) > 0 {
		fmt.Fprintf(&b, "These lie there, and may be what is meant:\n  %s\n", strings.Join(near, "\n  "))
	}
	b.WriteString("Please deliver it, or tell us when it comes.")
	return b.String()
}

// supplierFile tells a supplier what is wrong with a file.
func supplierFile(f *feed.Feed, path, reason string, rejects []cell, more int64) string {
	var b strings.Builder
	fmt.Fprintf(&b, "We could not take %s as it is: %s.\n", path, strings.TrimRight(reason, "."))
	for _, r := range rejects {
		fmt.Fprintf(&b, "  line %d, %s:\n    %s\n", r.Line, r.Reason, r.Marked())
	}
	if more > 0 {
		fmt.Fprintf(&b, "  and %d more lines\n", more)
	}
	b.WriteString("Please put it right and deliver it again under the same name.")
	return b.String()
}

// Marked returns the row with the bad cell in >> <<.
func (c cell) Marked() string {
	if c.Bad == "" {
		return c.Before
	}
	return c.Before + ">>" + c.Bad + "<<" + c.After
}

func supplierSubject(kind news.Kind, parts []part) string {
	if len(parts) == 0 {
		return "Your delivery"
	}
	what := map[news.Kind]string{news.Late: "not here yet", news.Missing: "missing", news.Refused: "cannot be taken", news.Rejects: "has rows that cannot be taken"}[kind]
	if what == "" {
		what = "needs a look"
	}
	return parts[0].Title + " " + what
}
