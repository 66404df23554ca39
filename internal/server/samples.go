package server

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"mime"
	"mime/multipart"

	"github.com/danielgtaylor/huma/v2"

	"mullein/internal/api"
	"mullein/internal/core/decode"
	"mullein/internal/core/draft"
	"mullein/internal/core/feed"
	"mullein/internal/inspect"
	"mullein/internal/ledger"
)

type sampleInput struct {
	Feed string `query:"feed" maxLength:"63" doc:"The feed, where the body has no feed file"`
	Path string `query:"path" maxLength:"4096" doc:"A file at the landing, where the body has none: that of the feed, or else that of the feed file"`
	Most int    `query:"most" minimum:"1" maximum:"5000" default:"1000" doc:"Rows"`
	sent sentBody
}

// Resolve keeps the body, which huma would read whole.
func (in *sampleInput) Resolve(ctx huma.Context) []error { return in.sent.take(ctx) }

func (s *Server) sample(ctx context.Context, in *sampleInput) (*body[api.Sample], error) {
	f, sent, err := s.subject(ctx, in.Feed, &in.sent)
	defer discard(sent)
	var wrong feed.Problems
	if errors.As(err, &wrong) { // who writes a feed file is told at each key, and it is no failure
		out := sampleOf(&inspect.Sample{})
		out.Wrong = each(wrong, func(p *feed.Problem) api.WrongAt { return api.WrongAt{Line: p.Line, Column: p.Column, Message: p.What} })
		return give(out, nil)
	}
	if err != nil {
		return nil, answer(err)
	}
	if sent == nil && in.Path != "" {
		if sent, err = s.lying(ctx, f, in.Feed, in.Path); err != nil {
			return nil, answer(err)
		}
		defer discard(sent)
	}
	out, err := s.inspect.Sample(ctx, f, sent, in.Most)
	if err != nil {
		return nil, answer(err)
	}
	return give(sampleOf(out), nil)
}

// mostLying is how much of a file at a landing is looked at; of a larger one the beginning.
const mostLying = 64 << 20

// lying copies the beginning of a file at the landing of a feed: of the one that is named, or else of f, which may be new.
func (s *Server) lying(ctx context.Context, f *feed.Feed, name, at string) (*inspect.Sent, error) {
	if !fs.ValidPath(at) {
		return nil, &ledger.ConflictError{Reason: fmt.Sprintf("%q is not a plain path below the landing", at)}
	}
	if name != "" {
		var err error
		if f, err = s.present(ctx, name); err != nil {
			return nil, err
		}
	}
	folder, err := s.engine.Landing(ctx, f)
	if err != nil {
		return nil, err
	}
	defer folder.Close()
	file, err := folder.Open(at)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, &ledger.ConflictError{Reason: fmt.Sprintf("%s is not at the landing %s any more", at, f.Landing.At)}
	}
	if err != nil {
		return nil, err
	}
	defer file.Close()
	sent, err := spooled(at, io.LimitReader(file, mostLying))
	if err != nil {
		discard(sent)
		return nil, fmt.Errorf("copy the beginning of %s: %w", at, err)
	}
	return sent, nil
}

func sampleOf(v *inspect.Sample) api.Sample {
	return api.Sample{File: v.Name, Captures: v.Captures, Unnamed: v.Unnamed, Refused: v.Refused, Wrong: []api.WrongAt{}, Header: append([]string{}, v.Header...),
		Columns: each(v.Columns, func(c *inspect.SampleColumn) api.SampleColumn { return api.SampleColumn(*c) }),
		Rows: each(v.Rows, func(r *inspect.SampleRow) api.ReadRow {
			return api.ReadRow{Line: r.Line, Values: r.Values, Deletes: r.Gone}
		}),
		Rejects: each(v.Rejects, rejectOf), Read: v.Counts.Read, Rejected: v.Counts.Rejected, LeftOut: v.Counts.LeftOut, Whole: v.Whole}
}

// mostDraftFiles is how many files feeds are drafted from that are sent.
const mostDraftFiles = 200

type draftFilesInput struct {
	At         string `query:"at" default:"landing" maxLength:"1000" doc:"The landing folder that the feeds name"`
	Into       string `query:"into" maxLength:"200" doc:"Draft for this table, schema.table, which is there already"`
	Connection string `query:"connection" default:"main" maxLength:"63" doc:"With into: the table's database, by the name that feeds know it by"`
	sent       sentBody
}

// Resolve keeps the body, which huma would read whole.
func (in *draftFilesInput) Resolve(ctx huma.Context) []error { return in.sent.take(ctx) }

// draftFiles proposes feeds for files that are sent.
func (s *Server) draftFiles(ctx context.Context, in *draftFilesInput) (*body[api.Drafts], error) {
	sent, err := readFiles(&in.sent)
	defer func() {
		for _, file := range sent {
			discard(file)
		}
	}()
	if err != nil {
		return nil, answer(err)
	}
	samples := each(sent, func(of **inspect.Sent) draft.Sample { return sampleSent(*of, in.At) })
	return s.propose(ctx, samples, api.DraftWanted{At: in.At, Into: in.Into, Connection: in.Connection})
}

// sampleSent is a file that was sent, as drafts take it.
func sampleSent(sent *inspect.Sent, folder string) draft.Sample {
	return draft.Sample{Path: sent.Name, Folder: folder, Open: func() (decode.Source, func(), error) {
		if _, err := sent.File.Seek(0, io.SeekStart); err != nil {
			return decode.Source{}, nil, err
		}
		return decode.Source{Name: sent.Name, Bytes: sent.File, File: sent.File, Size: sent.Size}, func() {}, nil
	}}
}

// readFiles keeps the files of a body of parts, for as long as they are looked at.
func readFiles(in *sentBody) (out []*inspect.Sent, err error) {
	kind, parameters, _ := mime.ParseMediaType(in.kind)
	if kind != "multipart/form-data" {
		return nil, &ledger.ConflictError{Reason: "send the files as multipart/form-data, each as file"}
	}
	parts := multipart.NewReader(in.content, parameters["boundary"])
	var size int64
	for {
		part, err := parts.NextPart()
		if errors.Is(err, io.EOF) && len(out) == 0 {
			return nil, &ledger.ConflictError{Reason: "no file was sent"}
		}
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		if err != nil {
			return out, &ledger.ConflictError{Reason: "the body is cut short or damaged: " + err.Error()}
		}
		if part.FormName() != "file" {
			continue
		}
		if len(out) == mostDraftFiles {
			return out, &ledger.ConflictError{Reason: fmt.Sprintf("at most %d files at a time", mostDraftFiles)}
		}
		sent, err := keep(part)
		if sent != nil {
			out, size = append(out, sent), size+sent.Size
		}
		if err == nil && size > maxRehearsed {
			err = &ledger.ConflictError{Reason: fmt.Sprintf("the files have more than %d bytes together; send samples of them", int64(maxRehearsed))}
		}
		if err != nil {
			return out, err
		}
	}
}
