package server

import (
	"context"
	"path"

	"github.com/danielgtaylor/huma/v2"

	"mullein/internal/api"
	"mullein/internal/core/decode"
	"mullein/internal/core/draft"
	"mullein/internal/core/feed"
	"mullein/internal/core/filename"
	"mullein/internal/landing"
	"mullein/internal/load"
	"mullein/internal/table"
)

// draft proposes feeds for what lies in a folder below a landing root.
func (s *Server) draft(ctx context.Context, in *struct{ Body api.DraftWanted }) (*body[api.Drafts], error) {
	files, err := filename.Compile("**/*")
	if err != nil {
		return nil, answer(err)
	}
	folder, err := s.engine.Landing(ctx, &feed.Feed{Landing: feed.Landing{At: in.Body.At, Files: files}})
	if err != nil {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	defer folder.Close()
	samples, err := samplesOf(ctx, folder)
	if err != nil {
		return nil, answer(err)
	}
	return s.propose(ctx, samples, in.Body)
}

// propose proposes feeds for samples.
func (s *Server) propose(ctx context.Context, samples []draft.Sample, of api.DraftWanted) (*body[api.Drafts], error) {
	names, err := s.ledger.FeedNames(ctx)
	if err != nil {
		return nil, answer(err)
	}
	o := draft.Options{At: of.At, Taken: names}
	if of.Into != "" {
		if o.Into, err = s.draftInto(ctx, of.Connection, of.Into); err != nil {
			return nil, answer(err)
		}
	}
	result, err := draft.Propose(samples, o)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	return give(draftsOf(result), nil)
}

// draftsOf is what was proposed, in the form of the wire.
func draftsOf(r draft.Result) api.Drafts {
	out := api.Drafts{Feeds: []api.DraftedFeed{}, LeftOut: []api.LeftFile{}}
	for _, f := range r.Feeds {
		out.Feeds = append(out.Feeds, api.DraftedFeed{Feed: f.Name, Definition: f.Text, Files: append([]string{}, f.Files...), Rows: f.Rows,
			Sure: append([]string{}, f.Sure...), Unsure: append([]string{}, f.Unsure...)})
	}
	for _, l := range r.Left {
		out.LeftOut = append(out.LeftOut, api.LeftFile{File: l.Path, Why: l.Why, Data: l.Data})
	}
	return out
}

// samplesOf finds the files of a folder.
func samplesOf(ctx context.Context, folder landing.Landing) ([]draft.Sample, error) {
	var out []draft.Sample
	all := func(string) bool { return len(out) < draft.MaxSamples }
	err := folder.List(ctx, all, func(e landing.Entry) error {
		if e.Problem != "" {
			return nil
		}
		out = append(out, draft.Sample{Path: e.Path, Folder: path.Base(folder.Where()), Open: func() (decode.Source, func(), error) {
			file, err := folder.Open(e.Path)
			if err != nil {
				return decode.Source{}, nil, err
			}
			return decode.Source{Name: e.Path, Bytes: file, File: file, Size: file.Entry.Size}, func() { file.Close() }, nil
		}})
		return nil
	})
	return out, err
}

// draftInto describes the table that a draft is for.
func (s *Server) draftInto(ctx context.Context, connection, name string) (*draft.Into, error) {
	database, err := s.engine.Database(&feed.Feed{Target: feed.Target{Connection: connection}})
	if err != nil {
		return nil, err
	}
	schema, of := (&TablePath{Table: name}).split()
	d, err := database.Describe(ctx, schema, of, 0, 1)
	if err != nil {
		return nil, err
	}
	if !d.There {
		return nil, huma.Error404NotFound("there is no table " + name)
	}
	return intoOf(connection, d), nil
}

// intoOf describes a table as drafts take it.
func intoOf(connection string, d *table.Described) *draft.Into {
	shape := tableShapeOf(d)
	out := &draft.Into{Connection: connection, Table: shape.Table}
	var key []string
	for _, c := range shape.Columns {
		out.Columns = append(out.Columns, draft.IntoColumn{Name: c.Name, Type: c.Type, NotNull: c.NotNull})
		if c.Key {
			key = append(key, c.Name)
		}
	}
	if key != nil {
		out.Keys, out.Primary = append(out.Keys, key), true
	}
	out.Keys = append(out.Keys, shape.Unique...)
	return out
}

// ddlOf returns the statements that make the tables of a feed.
func ddlOf(f *feed.Feed) []string {
	ddl, err := load.DDL(f)
	if err != nil {
		return []string{} // what is wrong with its columns is said when it is put
	}
	return ddl
}
