package server

import (
	"context"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2/sse"

	"mullein/internal/api"
	"mullein/internal/core/feed"
	"mullein/internal/ledger"
)

type eventsInput struct {
	LastEventID string `header:"Last-Event-ID" doc:"Go on after this event"`
}

const (
	helloEvery    = 15 * time.Second
	progressEvery = 500 * time.Millisecond
	eventsAtOnce  = 500
)

// events streams what happens from now on, or from after the event that the
// caller saw last.
func (s *Server) events(ctx context.Context, in *eventsInput, send sse.Sender) {
	news, over, done := s.subscribe()
	defer done()
	last, err := strconv.ParseInt(in.LastEventID, 10, 64)
	if err != nil || last <= 0 {
		if last, err = s.ledger.LastEvent(ctx); err != nil {
			return
		}
	}
	hello := time.NewTicker(helloEvery)
	defer hello.Stop()
	progress := time.NewTicker(progressEvery)
	defer progress.Stop()
	if send.Data(api.Hello{At: time.Now().UTC()}) != nil {
		return
	}
	worked := false
	for {
		select {
		case <-ctx.Done():
			return
		case <-over.Done():
			return
		case <-hello.C:
			if send.Data(api.Hello{At: time.Now().UTC()}) != nil {
				return
			}
		case <-progress.C:
			loads := s.engine.Progress()
			if len(loads) == 0 && !worked {
				continue
			}
			worked = len(loads) > 0
			if send.Data(api.Working{Loads: loads}) != nil {
				return
			}
		case <-news:
			for {
				events, err := s.ledger.EventsAfter(ctx, last, eventsAtOnce)
				if err != nil {
					break // the database is away; there is news again when it is back
				}
				for _, e := range events {
					last = e.ID
					if send(sse.Message{ID: int(e.ID), Data: e}) != nil {
						return
					}
				}
				if len(events) < eventsAtOnce {
					break
				}
			}
		}
	}
}

func (s *Server) status(ctx context.Context, _ *struct{}) (*body[api.Status], error) {
	views, err := s.views(ctx)
	return give(api.Status{Service: s.name, Version: Version, Roots: s.roots, Feeds: views, Loads: s.engine.Progress()}, err)
}

const (
	dayBack    = 24 * time.Hour
	dayAhead   = 3 * time.Hour
	marksKept  = 1000 // of a feed
	timesAhead = 500
	needsShown = 50
)

func (s *Server) day(ctx context.Context, _ *struct{}) (*body[api.Day], error) {
	now := time.Now().UTC()
	out := api.Day{From: now.Add(-dayBack), Now: now, To: now.Add(dayAhead), Feeds: []api.DayLine{}, Needs: []ledger.Arrival{}}
	feeds, err := s.ledger.Feeds(ctx)
	if err != nil {
		return nil, answer(err)
	}
	for _, record := range feeds {
		line := api.DayLine{Feed: record.Name, Paused: record.Paused, Runs: []time.Time{}, Marks: []api.DayMark{}}
		arrivals, err := s.ledger.Arrivals(ctx, ledger.Filter{Feed: record.Name, Since: out.From, Most: marksKept})
		if err != nil {
			return nil, answer(err)
		}
		for _, a := range arrivals {
			line.Marks = append(line.Marks, api.DayMark{Arrival: a.ID, At: a.NoticedAt, State: a.State, Path: a.Path, Rows: a.Balance.Read})
		}
		if f, err := s.definition(ctx, record.Name); err == nil && f.When.Cron != "" {
			line.Runs = timesBetween(f, out.From, out.To)
		}
		out.Feeds = append(out.Feeds, line)
	}
	out.Needs, err = s.ledger.Needs(ctx, needsShown)
	return give(out, err)
}

func timesBetween(f *feed.Feed, from, to time.Time) []time.Time {
	out := []time.Time{}
	times, err := feed.ParseCron(f.When.Cron)
	if err != nil {
		return out
	}
	for t := times.Next(from.In(f.When.Zone)); !t.IsZero() && t.Before(to) && len(out) < timesAhead; t = times.Next(t) {
		out = append(out, t.UTC())
	}
	return out
}
