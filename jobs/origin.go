package jobs

import (
	"context"
	"encoding/json"
	"log/slog"

	"github.com/google/uuid"
	"github.com/riverqueue/river/rivertype"
	"go.opentelemetry.io/otel"
	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/codes"
	"go.opentelemetry.io/otel/propagation"
	"go.opentelemetry.io/otel/trace"
)

// An origin says what had a job queued: it goes with the job, so that what a worker logs and traces belongs to what somebody has clicked.
type origin struct {
	Request string `json:"request,omitempty"` // ID of the request, as its answer bears it
	Trace   string `json:"traceparent,omitempty"`
	State   string `json:"tracestate,omitempty"`
	run     uuid.UUID
}

type originKey struct{}

// WithRequest has what is queued, logged and traced under ctx name a request.
func WithRequest(ctx context.Context, id string) context.Context {
	return context.WithValue(ctx, originKey{}, origin{Request: id})
}

// metadata returns the origin of ctx as a job carries it; nil where there is none.
func metadata(ctx context.Context) []byte {
	o, _ := ctx.Value(originKey{}).(origin)
	carrier := propagation.MapCarrier{}
	propagation.TraceContext{}.Inject(ctx, carrier)
	o.Trace, o.State = carrier["traceparent"], carrier["tracestate"]
	if o.Request == "" && o.Trace == "" {
		return nil
	}
	raw, err := json.Marshal(o)
	if err != nil {
		return nil
	}
	return raw
}

// tracer makes the spans of jobs.
func tracer() trace.Tracer { return otel.Tracer("unlatch/jobs") }

// underOrigin runs a job as part of what had it queued, and logs it.
func (e *env) underOrigin(ctx context.Context, job *rivertype.JobRow, work func(context.Context) error) error {
	var o origin
	json.Unmarshal(job.Metadata, &o) // one without it has no origin
	var args struct {
		Run uuid.UUID `json:"run"`
	}
	json.Unmarshal(job.EncodedArgs, &args)
	o.run = args.Run
	ctx = context.WithValue(ctx, originKey{}, o)
	ctx = propagation.TraceContext{}.Extract(ctx, propagation.MapCarrier{"traceparent": o.Trace, "tracestate": o.State})
	what := workOf(job)
	ctx, span := tracer().Start(ctx, what, trace.WithSpanKind(trace.SpanKindConsumer),
		trace.WithAttributes(attribute.Int64("job", job.ID), attribute.String("run", runText(args.Run)), attribute.Int("attempt", job.Attempt)))
	defer span.End()
	e.log.DebugContext(ctx, "a job begins", "job", job.ID, "kind", what)
	err := work(ctx)
	if err != nil {
		span.SetStatus(codes.Error, "it did not come to its end") // what a device has said stands in the record
	}
	e.log.DebugContext(ctx, "a job has ended", "job", job.ID, "kind", what, "well", err == nil)
	return err
}

func runText(run uuid.UUID) string {
	if run == uuid.Nil {
		return ""
	}
	return run.String()
}

// connecting is a span for each connection to a device, from the first packet to the last; it is for address.Guard.
func connecting(ctx context.Context, to string) (opened func(error), ended func()) {
	_, span := tracer().Start(ctx, "connection", trace.WithSpanKind(trace.SpanKindClient),
		trace.WithAttributes(attribute.String("network.peer.address", to)))
	return func(err error) {
		if err != nil {
			span.SetStatus(codes.Error, "it cannot be opened")
			span.End()
		}
	}, func() { span.End() }
}

// An originHandler writes with each record which request and which run it belongs to.
type originHandler struct{ slog.Handler }

// Handle implements slog.Handler.
func (h originHandler) Handle(ctx context.Context, r slog.Record) error {
	if o, ok := ctx.Value(originKey{}).(origin); ok {
		r = r.Clone()
		if o.Request != "" {
			r.AddAttrs(slog.String("request", o.Request))
		}
		if o.run != uuid.Nil {
			r.AddAttrs(slog.String("run", o.run.String()))
		}
	}
	return h.Handler.Handle(ctx, r)
}

// WithAttrs implements slog.Handler.
func (h originHandler) WithAttrs(list []slog.Attr) slog.Handler {
	return originHandler{h.Handler.WithAttrs(list)}
}

// WithGroup implements slog.Handler.
func (h originHandler) WithGroup(name string) slog.Handler {
	return originHandler{h.Handler.WithGroup(name)}
}
