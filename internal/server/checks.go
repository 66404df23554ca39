package server

import (
	"context"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"os"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"mullein/internal/api"
	"mullein/internal/core/check"
	"mullein/internal/core/feed"
	"mullein/internal/inspect"
	"mullein/internal/ledger"
)

func (s *Server) arrivalChecks(ctx context.Context, in *NumberPath) (*body[api.CheckResultList], error) {
	if _, err := s.ledger.Arrival(ctx, in.ID); err != nil {
		return nil, answer(err)
	}
	list, err := s.ledger.ChecksOf(ctx, in.ID)
	return give(api.CheckResultList{Items: each(list, checkResultOf)}, err)
}

func (s *Server) feedChecks(ctx context.Context, in *FeedPath) (*body[api.FeedCheckList], error) {
	f, err := s.present(ctx, in.Feed)
	if err != nil {
		return nil, answer(err)
	}
	out := api.FeedCheckList{Items: checksOf(f)}
	var names []string
	for _, c := range out.Items {
		names = append(names, c.Name)
	}
	last, err := s.ledger.LastChecks(ctx, f.Name, names)
	for i := range last {
		for k := range out.Items {
			if out.Items[k].Name == last[i].Name {
				out.Items[k].Last = optional(&last[i], checkResultOf)
			}
		}
	}
	return give(out, err)
}

// checksOf lists the checks of a feed.
func checksOf(f *feed.Feed) []api.FeedCheck {
	out := []api.FeedCheck{}
	c := &f.Checks
	ofFile := func(name, must string) {
		out = append(out, api.FeedCheck{Name: name, Scope: string(check.OfFile), Else: string(check.Refuse),
			Must: must})
	}
	switch {
	case c.RowsTo > 0:
		ofFile("rows", fmt.Sprintf("from %d to %d rows", c.RowsFrom, c.RowsTo))
	case c.RowsFrom > 0:
		ofFile("rows", fmt.Sprintf("at least %d rows", c.RowsFrom))
	}
	if c.Checksum != nil {
		ofFile("checksum", "the file has the checksum in "+c.Checksum.String())
	}
	if c.Trailer != nil {
		ofFile("trailer", "the file agrees with its last line "+c.Trailer.String())
	}
	for _, k := range c.Row {
		out = append(out, api.FeedCheck{Name: k.Name, Scope: string(check.OfRow), Else: string(k.Else), Must: k.Must})
	}
	for _, k := range c.Delivery {
		out = append(out, api.FeedCheck{Name: k.Name, Scope: string(check.OfDelivery), Else: string(k.Else),
			Must: k.Must})
	}
	return out
}

type checkHistoryInput struct {
	FeedPath
	Check string `path:"check" maxLength:"63"`
	Limit
	Before int64 `query:"before" minimum:"0" doc:"The next of the page before"`
}

func (s *Server) checkHistory(ctx context.Context, in *checkHistoryInput) (*body[api.CheckResultList], error) {
	if _, err := s.ledger.Feed(ctx, in.Feed); err != nil {
		return nil, answer(err)
	}
	list, err := s.ledger.CheckHistory(ctx, in.Feed, in.Check, in.Before, in.Most+1)
	out := api.CheckResultList{Items: each(list, checkResultOf)}
	if len(list) > in.Most {
		out.Items = out.Items[:in.Most]
		out.Next = out.Items[in.Most-1].ID
	}
	return give(out, err)
}

type rejectGroupsInput struct {
	Feed    string `query:"feed" maxLength:"63"`
	Arrival int64  `query:"arrival" minimum:"0"`
	Days    int    `query:"days" minimum:"1" maximum:"400" default:"30" doc:"Of arrivals that ended in so many days"`
}

func (s *Server) rejectGroups(ctx context.Context, in *rejectGroupsInput) (*body[api.RejectGroupList], error) {
	list, err := s.ledger.RejectGroups(ctx, in.Feed, in.Arrival, time.Now().AddDate(0, 0, -in.Days))
	return give(api.RejectGroupList{Items: each(list, rejectGroupOf)}, err)
}

type mendInput struct {
	NumberPath
	Body api.Mend
}

func (s *Server) mend(ctx context.Context, in *mendInput) (*body[api.Arrival], error) {
	rows := make([]ledger.MendedRow, len(in.Body.Rows))
	for i, row := range in.Body.Rows {
		rows[i] = ledger.MendedRow(row)
	}
	a, err := s.inspect.Mend(ctx, in.ID, rows, callerOf(ctx), in.Body.Because)
	return give(arrivalOf(&a), err)
}

// rehearseInput may carry a feed file and a file. They are read as they come.
type rehearseInput struct {
	Feed string `query:"feed" maxLength:"63" doc:"The feed, where the body has no feed file"`
	Path string `query:"path" maxLength:"4096" doc:"A file below the landing. Default: the one that would be next"`
	Deep bool   `query:"deep" doc:"Execute the statements and roll back"`
	sent sentBody
}

// Resolve keeps the body, which huma would read whole.
func (in *rehearseInput) Resolve(ctx huma.Context) []error { return in.sent.take(ctx) }

// sentBody is a body that is read as it comes.
type sentBody struct {
	content io.Reader
	kind    string // its media type, with parameters
}

func (b *sentBody) take(ctx huma.Context) []error {
	b.content, b.kind = ctx.BodyReader(), ctx.Header("Content-Type")
	return nil
}

const (
	maxDefinition = 1 << 20
	maxRehearsed  = 2 << 30
)

func (s *Server) rehearse(ctx context.Context, in *rehearseInput) (*body[api.Rehearsal], error) {
	f, sent, err := s.subject(ctx, in.Feed, &in.sent)
	defer discard(sent)
	if err != nil {
		return nil, answer(err)
	}
	rehearse := s.inspect.Rehearse
	if in.Deep {
		rehearse = s.inspect.RehearseDeep
	}
	r, err := rehearse(ctx, f, in.Path, sent)
	if err != nil {
		return nil, answer(err)
	}
	return give(rehearsalOf(r), nil)
}

// subject reads the parts of the body: a feed file and a file, if they are sent.
func (s *Server) subject(ctx context.Context, name string, in *sentBody) (f *feed.Feed, sent *inspect.Sent, err error) {
	if name != "" {
		if f, err = s.present(ctx, name); err != nil {
			return nil, nil, err
		}
	}
	kind, parameters, _ := mime.ParseMediaType(in.kind)
	if kind != "multipart/form-data" {
		if f == nil {
			return nil, nil, &ledger.ConflictError{Reason: "name a feed, or send a feed file as definition"}
		}
		return f, nil, nil
	}
	parts := multipart.NewReader(in.content, parameters["boundary"])
	for {
		part, err := parts.NextPart()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, sent, &ledger.ConflictError{Reason: "the body is cut short or damaged: " + err.Error()}
		}
		switch part.FormName() {
		case "definition":
			text, err := io.ReadAll(io.LimitReader(part, maxDefinition))
			if err != nil {
				return nil, sent, err
			}
			if f, err = feed.Parse(part.FileName(), text); err != nil {
				return nil, sent, err
			}
		case "file":
			if sent != nil {
				return nil, sent, &ledger.ConflictError{Reason: "one file at a time"}
			}
			if sent, err = keep(part); err != nil {
				return nil, sent, err
			}
		}
	}
	if f == nil {
		return nil, sent, &ledger.ConflictError{Reason: "name a feed, or send a feed file as definition"}
	}
	return f, sent, nil
}

// discard removes a file that was sent; nil for none.
func discard(sent *inspect.Sent) {
	if sent == nil {
		return
	}
	file := sent.File.(*os.File)
	_ = file.Close() // it was only read
	_ = os.Remove(file.Name())
}

// keep writes a file that is sent up to the disk, for as long as it is looked at.
func keep(part *multipart.Part) (*inspect.Sent, error) {
	return spooled(part.FileName(), &bounded{part, maxRehearsed})
}

func spooled(name string, content io.Reader) (*inspect.Sent, error) {
	file, err := os.CreateTemp("", "mullein-rehearsal-*")
	if err != nil {
		return nil, fmt.Errorf("keep the file: %w", err)
	}
	sent := &inspect.Sent{Name: name, File: file}
	if sent.Size, err = io.Copy(file, content); err != nil {
		return sent, err
	}
	_, err = file.Seek(0, io.SeekStart)
	return sent, err
}
