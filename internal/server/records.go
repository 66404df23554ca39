package server

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"mullein/internal/api"
	"mullein/internal/core/decode"
	"mullein/internal/core/feed"
	"mullein/internal/gather"
	"mullein/internal/landing"
	"mullein/internal/ledger"
)

// maxRecords bounds the bytes of one call with rows.
const maxRecords = 16 << 20

func (s *Server) recordRoutes() {
	o := do(http.MethodPost, "records", "/feeds/{feed}/records", "Take rows of a sender without files: JSON objects, a line each. They are gathered "+
		"into files in the feed's landing, as records of the settings says, and go the usual way. The answer comes when they are on the disk")
	o.MaxBodyBytes, o.BodyReadTimeout, o.SkipValidateBody = maxRecords, bodyLimit, true
	huma.Register(s.api, o, s.records)
}

type recordsInput struct {
	FeedPath
	RawBody []byte `contentType:"application/x-ndjson" doc:"JSON objects, a line each"`
}

func (s *Server) records(ctx context.Context, in *recordsInput) (*body[api.RecordsTaken], error) {
	if _, err := s.gathers(ctx, in.Feed); err != nil {
		return nil, answer(err)
	}
	text, rows, err := lines(in.RawBody)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	err = s.gather.Take(ctx, in.Feed, text, rows)
	if errors.As(err, new(gather.BusyError)) {
		return nil, huma.Error503ServiceUnavailable(err.Error())
	}
	return give(api.RecordsTaken{Feed: in.Feed, Taken: rows}, err)
}

// gathers returns a feed that takes rows of senders without files.
func (s *Server) gathers(ctx context.Context, name string) (*feed.Feed, error) {
	f, err := s.present(ctx, name)
	switch {
	case err != nil:
		return nil, err
	case f.Format != decode.Lines:
		return nil, &ledger.ConflictError{Reason: fmt.Sprintf("feed %s reads %s; rows are taken of feeds with format: jsonl", name, f.Format)}
	}
	_, err = nameOfRows(f, time.Now(), "x")
	return f, err
}

// nameOfRows returns a name that a feed's pattern takes.
func nameOfRows(f *feed.Feed, at time.Time, unique string) (string, error) {
	name, ok := f.Landing.Files.Named(at, at.UnixMicro(), unique, f.Landing.Zone)
	if !ok || f.Landing.Look(name, 1).Why != "" {
		return "", &ledger.ConflictError{Reason: fmt.Sprintf("no name can be made from files %s of feed %s; a pattern such as rows_*.jsonl takes any",
			f.Landing.Files, f.Name)}
	}
	return name, nil
}

// lines returns JSON objects with a line feed after each, and how many they are.
func lines(text []byte) (out []byte, n int, err error) {
	out = make([]byte, 0, len(text)+1)
	number := 0
	for line := range bytes.Lines(text) {
		number++
		line = bytes.TrimSpace(line)
		if len(line) == 0 {
			continue
		}
		if line[0] != '{' || !json.Valid(line) {
			return nil, 0, fmt.Errorf("line %d is no JSON object; nothing was taken", number)
		}
		out, n = append(append(out, line...), '\n'), n+1
	}
	if n == 0 {
		return nil, 0, errors.New("no rows: send JSON objects, a line each")
	}
	return out, n, nil
}

// newGatherer makes what gathers rows in a folder.
func (s *Server) newGatherer(folder string) *gather.Gatherer {
	return gather.New(gather.Options{Folder: folder, Log: s.log,
		Limits: func() gather.Limits {
			r := s.settings.now.Load().Records
			return gather.Limits{After: time.Duration(r.After), Rows: r.Rows, Bytes: int64(r.Bytes)}
		},
		Name: func(ctx context.Context, name string, at time.Time, unique string) (string, error) {
			f, err := s.gathers(ctx, name)
			if err != nil {
				return "", err
			}
			return nameOfRows(f, at, unique)
		},
		Deliver: func(ctx context.Context, name, path string, content io.Reader) error {
			f, err := s.present(ctx, name)
			if err == nil {
				_, _, err = s.inspect.Deliver(ctx, f, path, content, landing.KeepExisting)
			}
			return err
		}})
}
