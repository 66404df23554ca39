package server

import (
	"context"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"mullein/internal/api"
	"mullein/internal/ledger"
	"mullein/internal/settings"
)

func (s *Server) volumeRoutes() {
	huma.Register(s.api, get("volumes", "/volumes", "Work and what it cost, by spans of time, by feed, or by supplier"), s.volumes)
}

func (s *Server) volumes(ctx context.Context, in *struct {
	Feed      string    `query:"feed" maxLength:"63"`
	Supplier  string    `query:"supplier" maxLength:"1000"`
	From      time.Time `query:"from" doc:"Default: a day before to"`
	To        time.Time `query:"to" doc:"Default: now"`
	By        string    `query:"by" enum:"hour,day,week,month" default:"hour" doc:"Hours are known for 90 days, days, weeks and months of UTC for ten years"`
	Feeds     bool      `query:"feeds" doc:"By feed instead of by time"`
	Suppliers bool      `query:"suppliers" doc:"Each span of time apart by supplier"`
	Most      int       `query:"limit" default:"1000" minimum:"1" maximum:"10000"`
}) (*body[api.VolumeList], error) {
	if in.To.IsZero() {
		in.To = time.Now().UTC()
	}
	if in.From.IsZero() {
		in.From = in.To.Add(-24 * time.Hour)
	}
	q := ledger.VolumeQuery{From: in.From, To: in.To, Feed: in.Feed, Supplier: in.Supplier, By: in.By, PerSupplier: in.Suppliers, Most: in.Most}
	if in.Feeds {
		q.By, q.PerFeed, q.PerSupplier = "", true, false
	}
	list, total, err := s.ledger.Volumes(ctx, q)
	if err != nil {
		return nil, answer(err)
	}
	price := s.settings.now.Load().Price
	out := api.VolumeList{Items: []api.Volume{}, From: in.From, To: in.To, Currency: price.Currency}
	for i := range list {
		out.Items = append(out.Items, volumeOf(&list[i], price))
	}
	out.Total = volumeOf(&total, price)
	return give(out, nil)
}

func volumeOf(v *ledger.Volume, price settings.Price) api.Volume {
	out := api.Volume{Feed: v.Feed, Supplier: v.Supplier, Files: v.Files, Refused: v.Refused, Bytes: v.Bytes, Seconds: v.Seconds, DBSeconds: v.DBSeconds, Requests: v.Requests,
		Balance: api.Balance(v.Balance), Lag: spreadOf(&v.Lag), Late: spreadOf(&v.Late)}
	if !v.At.IsZero() {
		out.At = &v.At
	}
	if price.Second > 0 || price.Gigabyte > 0 || price.Requests > 0 {
		const gigabyte = 1e9
		cost := price.Second*v.Seconds + price.Gigabyte*float64(v.Bytes)/gigabyte + price.Requests*float64(v.Requests)/1000
		out.Cost = &cost
	}
	return out
}

func spreadOf(s *ledger.Spread) api.Spread {
	at := func(share float64) *float64 {
		if seconds, ok := s.Percentile(share); ok {
			return &seconds
		}
		return nil
	}
	return api.Spread{P50: at(0.5), P95: at(0.95), P99: at(0.99)}
}
