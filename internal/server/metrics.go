package server

import (
	"context"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"mullein/internal/core/news"
	"mullein/internal/ledger"
)

// measures collects what the records and this service tell of themselves, when it is asked.
// Labels are bounded: feeds are one only where they are asked for.
type measures struct {
	s      *Server
	byFeed bool
}

func describe(name, help string, labels ...string) *prometheus.Desc {
	return prometheus.NewDesc("mullein_"+name, help, labels, nil)
}

var (
	measuredBuild    = describe("build_info", "The version that runs; always 1.", "version", "commit")
	measuredFeeds    = describe("feeds", "Feeds, by how they are.", "state")
	measuredArrivals = describe("arrivals", "Arrivals on record, by state.", "state")
	measuredRows     = describe("rows_total", "Rows of loaded and refused files, by what became of them.", "outcome")
	measuredFiles    = describe("files_total", "Files whose work ended, by how.", "outcome")
	measuredBytes    = describe("bytes_total", "Bytes of the files that were loaded.")
	measuredWork     = describe("step_seconds_total", "Seconds of files in each step: settle and wait, summed over files; read and write, of files that were worked together once.", "step")
	measuredLag      = describe("lag_seconds", "From the coming of files to their being visible, of the last hour.", "quantile")
	measuredWaiting  = describe("waiting", "Arrivals that wait or are worked.")
	measuredOldest   = describe("oldest_waiting_seconds", "How long the oldest arrival waits that is not loaded yet; 0 where none does.")
	measuredSlots    = describe("slots", "Slots that were due in the last 24 hours, by state.", "state")
	measuredProblems = describe("problems", "Problems that last, by kind.", "kind")
	measuredNotices  = describe("notices", "Notices on record, by outlet and state.", "outlet", "state")
	measuredSessions = describe("database_sessions", "Sessions of this service with the records' database, by what they do.", "state")
	measuredServices = describe("services", "Services that are alive.")

	feedRows    = describe("feed_rows_total", "Rows of a feed, by what became of them.", "feed", "outcome")
	feedFiles   = describe("feed_files_total", "Files of a feed whose work ended, by how.", "feed", "outcome")
	feedWaiting = describe("feed_waiting", "Arrivals of a feed that wait or are worked.", "feed")
	feedNeeds   = describe("feed_needs_person", "What of a feed needs a person.", "feed")
)

// Describe is of [prometheus.Collector]. What is collected may vary.
func (m measures) Describe(chan<- *prometheus.Desc) {}

// Collect is of [prometheus.Collector].
func (m measures) Collect(to chan<- prometheus.Metric) {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	give := func(d *prometheus.Desc, kind prometheus.ValueType, v float64, labels ...string) {
		to <- prometheus.MustNewConstMetric(d, kind, v, labels...)
	}
	collect := m.collect
	if m.byFeed {
		collect = m.collectFeeds
	}
	if err := collect(ctx, give); err != nil {
		to <- prometheus.NewInvalidMetric(describe("error", "Why the records could not be read."), err)
	}
}

// giver hands over a measure.
type giver func(d *prometheus.Desc, kind prometheus.ValueType, v float64, labels ...string)

// collectFeeds hands over what is known of each feed.
func (m measures) collectFeeds(ctx context.Context, give giver) error {
	all, err := m.s.ledger.AllVolumes(ctx, true)
	if err != nil {
		return err
	}
	for i := range all {
		m.volume(&all[i], give)
	}
	waiting, err := m.s.ledger.WaitingByFeed(ctx)
	if err != nil {
		return err
	}
	needs, err := m.s.ledger.NeedsByFeed(ctx)
	for name, n := range waiting {
		give(feedWaiting, prometheus.GaugeValue, float64(n), name)
		give(feedNeeds, prometheus.GaugeValue, float64(needs[name]), name)
	}
	return err
}

// collect hands over what is known of all feeds together.
func (m measures) collect(ctx context.Context, give giver) error {
	give(measuredBuild, prometheus.GaugeValue, 1, Version, Commit)
	stats := m.s.ledger.Sessions()
	give(measuredSessions, prometheus.GaugeValue, float64(stats.InUse), "in use")
	give(measuredSessions, prometheus.GaugeValue, float64(stats.Idle), "idle")
	totals, err := m.s.ledger.Totals(ctx)
	if err != nil {
		return err
	}
	for state, n := range map[string]int64{"all": totals.Feeds, "paused": totals.Paused, "stopped": totals.Stopped,
		"wrong": totals.Wrong} {
		give(measuredFeeds, prometheus.GaugeValue, float64(n), state)
	}
	waiting := int64(0)
	for _, state := range ledger.States() {
		n := totals.States[string(state)]
		give(measuredArrivals, prometheus.GaugeValue, float64(n), string(state))
		switch state {
		case ledger.Noticed, ledger.Settling, ledger.Ready, ledger.Loading:
			waiting += n
		}
	}
	give(measuredWaiting, prometheus.GaugeValue, float64(waiting))
	all, err := m.s.ledger.AllVolumes(ctx, false)
	if err != nil {
		return err
	}
	for i := range all {
		m.volume(&all[i], give)
	}
	g, err := m.s.ledger.Gauges(ctx)
	if err != nil {
		return err
	}
	give(measuredOldest, prometheus.GaugeValue, g.OldestWaiting)
	give(measuredServices, prometheus.GaugeValue, float64(g.Services))
	for state, n := range g.Slots {
		give(measuredSlots, prometheus.GaugeValue, float64(n), state)
	}
	for _, kind := range news.Kinds() {
		if kind.IsProblem() {
			give(measuredProblems, prometheus.GaugeValue, float64(g.Problems[string(kind)]), string(kind))
		}
	}
	for outlet := range m.s.settings.now.Load().Outlets {
		for _, state := range []ledger.NoticeState{ledger.NoticeWaiting, ledger.NoticeSent, ledger.NoticeFailed} {
			give(measuredNotices, prometheus.GaugeValue, float64(g.Notices[[2]string{outlet, string(state)}]), outlet, string(state))
		}
	}
	for _, q := range []struct {
		share float64
		name  string
	}{{0.5, "0.5"}, {0.95, "0.95"}, {0.99, "0.99"}} {
		if seconds, ok := g.Lag.Percentile(q.share); ok {
			give(measuredLag, prometheus.GaugeValue, seconds, q.name)
		}
	}
	return nil
}

// volume hands over the counters of all work, or of that of a feed.
func (m measures) volume(v *ledger.Volume, give giver) {
	rows, files, of := measuredRows, measuredFiles, []string{}
	if m.byFeed {
		rows, files, of = feedRows, feedFiles, []string{v.Feed}
	}
	count := func(d *prometheus.Desc, n float64, labels ...string) {
		give(d, prometheus.CounterValue, n, append(append([]string{}, of...), labels...)...)
	}
	b := v.Balance
	for outcome, n := range map[string]int64{"inserted": b.Inserted, "updated": b.Updated, "unchanged": b.Unchanged,
		"outdated": b.Outdated, "kept": b.Kept, "deleted": b.Deleted, "duplicate": b.Duplicate, "rejected": b.Rejected,
		"left_out": b.LeftOut, "withheld": b.Withheld} {
		count(rows, float64(n), outcome)
	}
	count(files, float64(v.Files), "loaded")
	count(files, float64(v.Refused), "refused")
	if !m.byFeed {
		count(measuredBytes, float64(v.Bytes))
		count(measuredWork, v.SettleSeconds, "settle")
		count(measuredWork, v.WaitSeconds, "wait")
		count(measuredWork, v.Seconds-v.DBSeconds, "read")
		count(measuredWork, v.DBSeconds, "write")
	}
}

// metrics answers in the Prometheus text format. ?by=feed adds what is known of each feed.
func (s *Server) metrics(c *gin.Context) {
	r := prometheus.NewRegistry()
	r.MustRegister(collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}), measures{s: s})
	if c.Query("by") == "feed" {
		r.MustRegister(measures{s: s, byFeed: true})
	}
	promhttp.HandlerFor(r, promhttp.HandlerOpts{ErrorHandling: promhttp.HTTPErrorOnError}).ServeHTTP(c.Writer, c.Request)
}

// isMetrics reports whether a request is for metrics, which monitoring asks for with a token.
func isMetrics(r *http.Request) bool { return r.URL.Path == "/metrics" }
