package server

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"mullein/internal/api"
	"mullein/internal/core/balance"
	"mullein/internal/core/feed"
	"mullein/internal/extract"
	"mullein/internal/landing"
	"mullein/internal/ledger"
)

// ExtractPath names an extract.
type ExtractPath struct {
	Extract string `path:"extract" maxLength:"63"`
}

func (s *Server) extractRoutes() {
	huma.Register(s.api, get("extracts", "/extracts", "All extracts, and how far they have come"), s.listExtracts)
	huma.Register(s.api, get("extract", "/extracts/{extract}", "One extract, with its file"), s.oneExtract)
	huma.Register(s.api, do(http.MethodPut, "put-extract", "/extracts/{extract}", "Create an extract or change it; how far it has come stays"), s.putExtract)
	huma.Register(s.api, do(http.MethodDelete, "remove-extract", "/extracts/{extract}", "Remove an extract and its history; the files that it wrote stay"),
		s.removeExtract)
	huma.Register(s.api, do(http.MethodPost, "run-extract", "/extracts/{extract}/run", "Write now what is new"), s.runExtract)
	huma.Register(s.api, do(http.MethodPost, "pause-extract", "/extracts/{extract}/pause", "Keep runs from beginning by themselves"), s.pauseExtract)
	huma.Register(s.api, do(http.MethodPost, "resume-extract", "/extracts/{extract}/resume", "End a pause"), s.resumeExtract)
	huma.Register(s.api, do(http.MethodPost, "mark-extract", "/extracts/{extract}/mark", "Set how far an extract has come, or set it back to where a run began"),
		s.markExtract)
	huma.Register(s.api, get("rehearse-extract", "/extracts/{extract}/rehearsal", "Which window a run would write now, and how many rows; nothing is written"),
		s.rehearseExtract)
	huma.Register(s.api, get("extract-windows", "/extracts/{extract}/windows", "The windows of an extract, the newest first, with what feeds made of them"),
		s.extractWindows)
}

// newExtracts makes the worker of extracts.
func (s *Server) newExtracts(o extract.Options) *extract.Worker {
	o.Ledger, o.Log = s.ledger, s.log
	o.Landing = func(ctx context.Context, at string) (landing.Landing, error) {
		return s.engine.Landing(ctx, &feed.Feed{Landing: feed.Landing{At: at}})
	}
	o.Connection = s.connection
	return extract.New(o)
}

// parsedExtract reads the definition of an extract. One that an earlier version took and this one does not has its problem.
func parsedExtract(x *ledger.Extract) *feed.Extract {
	out, err := feed.ParseExtract(x.Name+".yaml", []byte(x.Definition))
	if err != nil {
		return &feed.Extract{Name: x.Name}
	}
	return out
}

func (s *Server) listExtracts(ctx context.Context, _ *struct{}) (*body[api.ExtractList], error) {
	list, err := s.ledger.Extracts(ctx)
	if err != nil {
		return nil, answer(err)
	}
	last, err := s.ledger.LastWindows(ctx)
	if err != nil {
		return nil, answer(err)
	}
	feeds, err := s.takers(ctx, each(list, parsedExtract)...)
	if err != nil {
		return nil, answer(err)
	}
	out := api.ExtractList{Items: []api.Extract{}}
	for i := range list {
		one := s.extractOf(&list[i], feeds)
		if w, is := last[list[i].Name]; is {
			window := windowOf(&w)
			one.Last = &window
		}
		out.Items = append(out.Items, one)
	}
	return give(out, nil)
}

// extractOf describes an extract.
func (s *Server) extractOf(record *ledger.Extract, takers map[string][]*feed.Feed) api.Extract {
	x := parsedExtract(record)
	out := api.Extract{Name: record.Name, About: x.About, Owner: x.Owner, Connection: x.Connection, From: x.Table + x.Select, By: x.New.By, Daily: x.New.Daily,
		Landing: x.Files.Landing.At, Files: x.Files.Name.String(), Version: record.Version, PutBy: record.PutBy, PutAt: record.PutAt, Mark: record.Mark,
		Runs: record.Runs, TryAfter: record.TryAfter, Attempts: record.Attempts, Problem: record.Problem, ProblemAt: record.ProblemAt, Feeds: []string{},
		State: "waiting"}
	switch {
	case record.Working:
		out.State, out.Written = "working", s.extracts.Written(record.Name)
	case record.WantedBy != "":
		out.State = "working" // in a moment
	case record.Paused:
		out.State = "paused"
	case record.TryAfter != nil:
		out.State = "again"
	case record.Problem != "":
		out.State = "failed"
	}
	if x.When.Times != nil && !record.Paused {
		if at := x.When.Times.Next(time.Now()); !at.IsZero() {
			out.NextAt = &at
		}
	}
	for _, f := range takersOf(x, takers) {
		out.Feeds = append(out.Feeds, f.Name)
	}
	return out
}

// takers returns the feeds of the landings that extracts write into, by their landings.
func (s *Server) takers(ctx context.Context, extracts ...*feed.Extract) (map[string][]*feed.Feed, error) {
	records, err := s.ledger.Feeds(ctx)
	if err != nil {
		return nil, err
	}
	records = slices.DeleteFunc(records, func(r ledger.Feed) bool { // those alone are read: it takes longer than all else
		return !slices.ContainsFunc(extracts, func(x *feed.Extract) bool { return x.Files.Landing.At == r.Folder })
	})
	if err := s.read(ctx, records); err != nil {
		return nil, err
	}
	out := map[string][]*feed.Feed{}
	for _, record := range records {
		if f, err := s.definition(ctx, record); err == nil { // else its problem says so
			out[f.Landing.At] = append(out[f.Landing.At], f)
		}
	}
	return out, nil
}

// takersOf returns the feeds that take the files of an extract.
func takersOf(x *feed.Extract, feeds map[string][]*feed.Feed) (out []*feed.Feed) {
	if x.Files.Name == nil {
		return nil
	}
	name := x.Files.PartName(1, 1, "1", time.Now(), time.UTC)
	for _, f := range feeds[x.Files.Landing.At] {
		if f.Landing.Look(name, 1).Why == "" {
			out = append(out, f)
		}
	}
	return out
}

func (s *Server) oneExtract(ctx context.Context, in *ExtractPath) (*body[api.Extract], error) {
	record, err := s.ledger.Extract(ctx, in.Extract)
	if err != nil {
		return nil, answer(err)
	}
	feeds, err := s.takers(ctx, parsedExtract(&record))
	if err != nil {
		return nil, answer(err)
	}
	out := s.extractOf(&record, feeds)
	out.Definition = record.Definition
	if record.Runs > 0 {
		w, err := s.ledger.Window(ctx, record.Name, record.Runs)
		if err != nil {
			return nil, answer(err)
		}
		window := windowOf(&w)
		out.Last = &window
	}
	return give(out, nil)
}

func (s *Server) putExtract(ctx context.Context, in *struct {
	ExtractPath
	Body api.ExtractPut
}) (*body[api.ExtractChecked], error) {
	file := in.Body.File
	if file == "" {
		file = in.Extract + ".yaml"
	}
	x, err := feed.ParseExtract(file, []byte(in.Body.Definition))
	if err != nil {
		return nil, answer(err)
	}
	if x.Name != in.Extract {
		return nil, answer(&ledger.ConflictError{Reason: fmt.Sprintf("the file is of the extract %q, not of %q", x.Name, in.Extract)})
	}
	out := api.ExtractChecked{Extract: x.Name, Notes: s.extractNotes(ctx, x)}
	out.Version, out.Changed, err = s.ledger.PutExtract(ctx, x.Name, in.Body.Definition, callerOf(ctx))
	s.extracts.Poke()
	return give(out, err)
}

// extractNotes says what does not stand in the way of putting an extract, and is to be known.
func (s *Server) extractNotes(ctx context.Context, x *feed.Extract) []string {
	notes := []string{}
	if _, ok := s.connection(x.Connection); !ok {
		notes = append(notes, fmt.Sprintf("the settings name no connection %s yet", x.Connection))
	}
	feeds, err := s.takers(ctx, x)
	if err == nil && len(takersOf(x, feeds)) == 0 {
		notes = append(notes, fmt.Sprintf("no feed takes its files in %s yet", x.Files.Landing.At))
	}
	if x.New.By != "" && !x.New.Daily && x.New.HoldBack.IsZero() && x.New.Overlap.IsZero() {
		notes = append(notes, fmt.Sprintf("rows that are committed late, with a %s that was passed already, are not seen; hold_back or overlap sees them", x.New.By))
	}
	if x.When.Times == nil && len(x.When.AfterAll)+len(x.When.AfterAny) == 0 {
		notes = append(notes, "it has no when, and runs by `mullein extract run "+x.Name+"` only")
	}
	return notes
}

// connection returns the URL of a connection.
func (s *Server) connection(name string) (string, bool) {
	if name == feed.MainConnection {
		return s.database, true
	}
	url, ok := s.settings.now.Load().Connections[name]
	return url, ok
}

func (s *Server) removeExtract(ctx context.Context, in *ExtractPath) (*struct{}, error) {
	return nil, answer(s.ledger.RemoveExtract(ctx, in.Extract))
}

func (s *Server) runExtract(ctx context.Context, in *ExtractPath) (*struct{}, error) {
	err := s.ledger.WantExtract(ctx, in.Extract, callerOf(ctx))
	s.extracts.Poke()
	return nil, answer(err)
}

type pauseExtractInput struct {
	ExtractPath
	Body api.Because
}

func (s *Server) pauseExtract(ctx context.Context, in *pauseExtractInput) (*struct{}, error) {
	return nil, answer(s.ledger.PauseExtract(ctx, in.Extract, true))
}

func (s *Server) resumeExtract(ctx context.Context, in *pauseExtractInput) (*struct{}, error) {
	err := s.ledger.PauseExtract(ctx, in.Extract, false)
	s.extracts.Poke()
	return nil, answer(err)
}

func (s *Server) markExtract(ctx context.Context, in *struct {
	ExtractPath
	Body api.ExtractMark
}) (*body[api.Extract], error) {
	mark := in.Body.Mark
	if in.Body.Run > 0 {
		if mark != "" {
			return nil, huma.Error422UnprocessableEntity("give mark or run, not both")
		}
		w, err := s.ledger.Window(ctx, in.Extract, in.Body.Run)
		if err != nil {
			return nil, answer(err)
		}
		mark = w.MarkBefore
	}
	if _, err := s.rehearsed(ctx, in.Extract, &mark); err != nil { // a mark that its database cannot read is none
		return nil, err
	}
	if err := s.ledger.SetMark(ctx, in.Extract, mark); err != nil {
		return nil, answer(err)
	}
	return s.oneExtract(ctx, &in.ExtractPath)
}

func (s *Server) rehearseExtract(ctx context.Context, in *ExtractPath) (*body[api.ExtractRehearsal], error) {
	r, err := s.rehearsed(ctx, in.Extract, nil)
	if err != nil {
		return nil, err
	}
	return give(r, nil)
}

// rehearsed says what a run would write after a mark; nil is that of the extract.
func (s *Server) rehearsed(ctx context.Context, name string, mark *string) (out api.ExtractRehearsal, err error) {
	record, err := s.ledger.Extract(ctx, name)
	if err != nil {
		return out, answer(err)
	}
	x, err := feed.ParseExtract(name+".yaml", []byte(record.Definition))
	if err != nil {
		return out, answer(err)
	}
	url, ok := s.connection(x.Connection)
	if !ok {
		return out, huma.Error422UnprocessableEntity(fmt.Sprintf("the settings name no connection %s", x.Connection))
	}
	if mark == nil {
		mark = &record.Mark
	}
	r, err := extract.Rehearse(ctx, x, url, *mark, record.Runs+1)
	var unfit *extract.UnfitError
	if errors.As(err, &unfit) {
		return out, huma.Error422UnprocessableEntity(err.Error())
	}
	if err != nil {
		return out, huma.Error503ServiceUnavailable("the database of connection " + x.Connection + ": " + err.Error())
	}
	return api.ExtractRehearsal{Extract: name, Mark: *mark, Window: r.Window.String(), Rows: r.Rows, Empty: r.Empty, Ahead: r.Ahead, Blank: r.Blank,
		Names: r.Names, Columns: each(r.Columns, func(c *extract.Column) api.ExtractColumn {
			return api.ExtractColumn{Name: c.Name, Type: c.Kind.String()}
		})}, nil
}

func (s *Server) extractWindows(ctx context.Context, in *struct {
	ExtractPath
	Limit
	Before int64 `query:"before" minimum:"0" doc:"Only runs before this one"`
}) (*body[api.ExtractWindowList], error) {
	record, err := s.ledger.Extract(ctx, in.Extract)
	if err != nil {
		return nil, answer(err)
	}
	list, err := s.ledger.Windows(ctx, in.Extract, in.Before, in.Most+1)
	if err != nil {
		return nil, answer(err)
	}
	out := api.ExtractWindowList{Items: each(list[:min(in.Most, len(list))], windowOf)}
	if len(list) > in.Most {
		out.Next = list[in.Most-1].Run
	}
	return give(out, s.loadsOfWindows(ctx, parsedExtract(&record), out.Items))
}

// loadsOfWindows adds what feeds made of the files of windows, and says whether their rows add up.
func (s *Server) loadsOfWindows(ctx context.Context, x *feed.Extract, windows []api.ExtractWindow) error {
	feeds, err := s.takers(ctx, x)
	if err != nil {
		return err
	}
	var takers, names []string
	for _, f := range takersOf(x, feeds) {
		takers = append(takers, f.Name)
	}
	for _, w := range windows {
		for _, f := range w.Files {
			names = append(names, f.Name)
		}
	}
	arrivals, err := s.ledger.ArrivalsOf(ctx, takers, names)
	if err != nil {
		return err
	}
	type of struct{ feed, path string }
	known := map[of]*ledger.ExtractLoad{}
	for i, a := range arrivals {
		known[of{a.Feed, a.Path}] = &arrivals[i]
	}
	for i := range windows {
		w := &windows[i]
		for _, taker := range takers {
			load, sum := api.ExtractLoad{Feed: taker}, balance.Balance{}
			for _, f := range w.Files {
				a := known[of{taker, f.Name}]
				if a == nil || a.State != ledger.Loaded {
					load.Waiting++
					continue
				}
				load.Loaded++
				sum = sum.Plus(a.Balance)
			}
			if load.Balance = api.Balance(sum); len(w.Files) > 0 {
				w.Loads = append(w.Loads, load)
			}
		}
		w.Adds, w.Line = addsUp(w)
	}
	return nil
}

// addsUp says whether the rows of a window are as many at the source, in the files, and where feeds loaded them all, as a line too.
func addsUp(w *api.ExtractWindow) (adds bool, line string) {
	if w.Source == nil {
		return false, ""
	}
	adds = *w.Source == w.Rows
	equal := func(is bool) string {
		if is {
			return " = "
		}
		adds = false
		return " ≠ "
	}
	files := "files"
	if len(w.Files) == 1 {
		files = "file"
	}
	line = fmt.Sprintf("%d at the source%s%d in %d %s", *w.Source, equal(*w.Source == w.Rows), w.Rows, len(w.Files), files)
	for _, l := range w.Loads {
		if l.Waiting > 0 {
			line += fmt.Sprintf("; %s has loaded %d of %d", l.Feed, l.Loaded, l.Loaded+l.Waiting)
			continue
		}
		line += fmt.Sprintf("%s%d read by %s: %s", equal(l.Balance.Read == w.Rows), l.Balance.Read, l.Feed, balance.Balance(l.Balance))
	}
	return adds, line
}

func windowOf(w *ledger.ExtractWindow) api.ExtractWindow {
	return api.ExtractWindow{Run: w.Run, Low: w.Low, High: w.High, Bounds: w.Bounds, Window: extract.Window{Low: w.Low, High: w.High,
		Bounds: extract.Bounds(w.Bounds)}.String(), MarkBefore: w.MarkBefore, MarkAfter: w.MarkAfter, State: string(w.State), Reason: w.Reason, Cause: w.Cause,
		By: w.By, Source: w.Source, Rows: w.Rows, Bytes: w.Bytes, Files: each(w.Files, func(f *ledger.ExtractFile) api.ExtractFile { return api.ExtractFile(*f) }),
		Placed: w.Placed, Ahead: w.Ahead, Blank: w.Blank, Attempts: w.Attempts, StartedAt: w.StartedAt, ReadAt: w.ReadAt, FinishedAt: w.FinishedAt,
		Loads: []api.ExtractLoad{}}
}
