package server

import (
	"context"
	"net/http"
	"path"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"mullein/internal/api"
	"mullein/internal/landing"
	"mullein/internal/place"
	"mullein/internal/queue"
)

// PlacePath names a place.
type PlacePath struct {
	Place string `path:"place" maxLength:"63"`
}

func (s *Server) placeRoutes() {
	huma.Register(s.api, get("places", "/places", "Places outside of this machine where files lie"), s.listPlaces)
	huma.Register(s.api, get("queues", "/queues", "Queues of messages that say that something new may lie somewhere, and how this service reads them"), s.listQueues)
	huma.Register(s.api, do(http.MethodPost, "test-place", "/places/{place}/test", "Sign in at a place and list it, and say what came of it"),
		s.testPlace)
	huma.Register(s.api, get("browse-place", "/places/{place}/files", "Files of a folder of a place, and below it"), s.browsePlace)
}

func (s *Server) listPlaces(ctx context.Context, _ *struct{}) (*body[api.PlaceList], error) {
	out := api.PlaceList{Items: []api.Place{}}
	feeds, err := s.ledger.Feeds(ctx)
	if err != nil {
		return nil, err
	}
	of := map[string]int{}
	for _, record := range feeds {
		if f, err := s.definition(ctx, record); err == nil { // else its problem says so
			if one, _, err := s.places.Where(&f.Landing); err == nil {
				of[one]++
			}
		}
	}
	for _, p := range s.places.List() {
		one := api.Place{Name: p.Name, Kind: p.Kind, Address: p.Address, User: p.User, Requests: p.Requests, Problem: p.Problem,
			Feeds: of[p.Name]}
		if !p.Until.IsZero() {
			one.Until = &p.Until
		}
		out.Items = append(out.Items, one)
	}
	return give(out, nil)
}

func (s *Server) listQueues(context.Context, *struct{}) (*body[api.QueueList], error) {
	return give(api.QueueList{Items: each(s.queues.List(), func(q *queue.State) api.Queue {
		out := api.Queue{Name: q.Name, URL: q.URL, Messages: q.Messages, Unknown: q.Unknown, LastSaid: q.LastSaid, Problem: q.Problem}
		if !q.LastAt.IsZero() {
			out.LastAt = &q.LastAt
		}
		return out
	})}, nil)
}

func (s *Server) testPlace(ctx context.Context, in *PlacePath) (*body[api.PlaceTest], error) {
	steps, err := s.places.Test(ctx, in.Place)
	if err != nil {
		return nil, huma.Error404NotFound(err.Error())
	}
	out := api.PlaceTest{Place: in.Place, Good: true, Steps: each(steps, func(p *place.Step) api.PlaceStep {
		return api.PlaceStep{What: p.What, Good: p.Good, Said: p.Said}
	})}
	for _, step := range steps {
		out.Good = out.Good && step.Good
	}
	return give(out, nil)
}

func (s *Server) browsePlace(ctx context.Context, in *struct {
	PlacePath
	Limit
	Folder string `query:"folder" maxLength:"2000" doc:"Below the place; all of it where none is given"`
}) (*body[api.PlaceFiles], error) {
	if strings.Contains("/"+in.Folder+"/", "/../") {
		return nil, huma.Error422UnprocessableEntity("folder: a plain path, without \"..\"")
	}
	if _, err := s.places.Get(in.Place); err != nil {
		return nil, huma.Error404NotFound(err.Error())
	}
	files, more, err := s.places.Browse(ctx, in.Place, path.Clean("./"+in.Folder), in.Most)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	return give(api.PlaceFiles{More: more, Items: each(files, func(e *landing.Entry) api.PlaceFile {
		return api.PlaceFile{Path: e.Path, Size: e.Size, Modified: e.Modified, Problem: e.Problem}
	})}, nil)
}
