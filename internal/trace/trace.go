package trace

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strings"
	"time"

	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/codes"
	"go.opentelemetry.io/otel/exporters/otlp/otlptrace/otlptracehttp"
	"go.opentelemetry.io/otel/sdk/resource"
	sdk "go.opentelemetry.io/otel/sdk/trace"
	"go.opentelemetry.io/otel/trace"

	"mullein/internal/ledger"
)

// Of returns the number of the trace of an arrival's generation, and of its first span.
func Of(a *ledger.Arrival) (id trace.TraceID, span trace.SpanID) {
	sum := sha256.Sum256(fmt.Appendf(nil, "%s\x00%s\x00%d\x00%d\x00%d", a.Feed, a.Path, a.ID, a.NoticedAt.UnixMicro(), a.Generation))
	copy(id[:], sum[:16])
	copy(span[:], sum[16:24])
	return id, span
}

// Parent returns the trace of an arrival as the traceparent of W3C's Trace Context.
func Parent(a *ledger.Arrival) string {
	id, span := Of(a)
	return "00-" + hex.EncodeToString(id[:]) + "-" + hex.EncodeToString(span[:]) + "-01"
}

// Exporter sends traces to a collector. What cannot be sent is dropped: traces are no records.
type Exporter struct {
	provider *sdk.TracerProvider
	tracer   trace.Tracer
}

// numbered makes the numbers of spans follow from arrivals.
type numbered struct{}

type numberKey struct{}

type number struct {
	id   trace.TraceID
	span trace.SpanID
}

// NewIDs returns the numbers that the context holds.
func (numbered) NewIDs(ctx context.Context) (trace.TraceID, trace.SpanID) {
	n, _ := ctx.Value(numberKey{}).(number)
	return n.id, n.span
}

// NewSpanID returns the number that the context holds.
func (numbered) NewSpanID(ctx context.Context, _ trace.TraceID) trace.SpanID {
	n, _ := ctx.Value(numberKey{}).(number)
	return n.span
}

// New returns an exporter to the OTLP endpoint of a collector, such as
// http://127.0.0.1:4318/v1/traces. service names the service, and version its version. The
// environment's OTEL_EXPORTER_OTLP_HEADERS and the like hold too.
func New(ctx context.Context, endpoint, service, version string) (*Exporter, error) {
	out, err := otlptracehttp.New(ctx, otlptracehttp.WithEndpointURL(endpoint), otlptracehttp.WithTimeout(10*time.Second))
	if err != nil {
		return nil, fmt.Errorf("traces to %s: %w", endpoint, err)
	}
	const queued, atOnce = 10_000, 500
	provider := sdk.NewTracerProvider(
		sdk.WithBatcher(out, sdk.WithMaxQueueSize(queued), sdk.WithMaxExportBatchSize(atOnce), sdk.WithBatchTimeout(2*time.Second)),
		sdk.WithIDGenerator(numbered{}), sdk.WithSampler(sdk.AlwaysSample()),
		sdk.WithResource(resource.NewSchemaless(attribute.String("service.name", "mullein"),
			attribute.String("service.instance.id", service), attribute.String("service.version", version))))
	return &Exporter{provider, provider.Tracer("mullein")}, nil
}

// Close sends what waits, for a moment, and ends the exporter.
func (e *Exporter) Close(ctx context.Context) error { return e.provider.Shutdown(ctx) }

// Arrival tells of an arrival that has ended in its state: loaded, refused, failed or skipped.
func (e *Exporter) Arrival(a *ledger.Arrival, table string) {
	id, first := Of(a)
	begin, end := a.NoticedAt, time.Now()
	switch {
	case a.Generation > 1 && a.ReadyAt != nil: // it begins when it was ready anew
		begin = *a.ReadyAt
	case a.SettlingAt != nil && a.SettlingAt.Before(begin):
		begin = *a.SettlingAt
	}
	if a.FinishedAt != nil {
		end = *a.FinishedAt
	}
	ctx := context.WithValue(context.Background(), numberKey{}, number{id, first})
	ctx, root := e.tracer.Start(ctx, "arrival", trace.WithTimestamp(begin), trace.WithNewRoot(), trace.WithAttributes(
		attribute.String("mullein.feed", a.Feed), attribute.Int64("mullein.arrival", a.ID), attribute.Int("mullein.generation", a.Generation),
		attribute.Int("mullein.attempt", a.Attempts), attribute.String("mullein.state", string(a.State)), attribute.String("mullein.table", table),
		attribute.String("file.path", strings.ToValidUTF8(a.Path, "?")), attribute.Int64("file.size", a.Size),
		attribute.Int64("mullein.rows.read", a.Balance.Read), attribute.Int64("mullein.rows.inserted", a.Balance.Inserted),
		attribute.Int64("mullein.rows.updated", a.Balance.Updated), attribute.Int64("mullein.rows.rejected", a.Balance.Rejected)))
	if a.State == ledger.Refused || a.State == ledger.Failed {
		root.SetStatus(codes.Error, strings.ToValidUTF8(a.Reason, "?"))
	}
	steps := []struct {
		name     string
		from, to *time.Time
	}{{"settle", a.SettlingAt, a.ReadyAt}, {"wait", a.ReadyAt, a.OpenedAt}, {"read", a.OpenedAt, a.StagedAt}, {"write", a.StagedAt, a.FinishedAt}}
	for i, s := range steps {
		if s.from == nil || s.to == nil || s.to.Before(*s.from) || s.from.Before(begin) {
			continue
		}
		span := first
		span[7] ^= byte(i + 1)
		_, below := e.tracer.Start(context.WithValue(ctx, numberKey{}, number{id, span}), s.name, trace.WithTimestamp(*s.from))
		below.End(trace.WithTimestamp(*s.to))
	}
	root.End(trace.WithTimestamp(end))
}
