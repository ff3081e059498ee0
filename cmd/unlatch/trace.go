package main

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"time"

	"go.opentelemetry.io/otel"
	"go.opentelemetry.io/otel/exporters/otlp/otlptrace/otlptracehttp"
	"go.opentelemetry.io/otel/sdk/resource"
	sdktrace "go.opentelemetry.io/otel/sdk/trace"
	semconv "go.opentelemetry.io/otel/semconv/v1.37.0"

	"unlatch/core/ground/release"
)

// startTracing has the spans of this process sent to an endpoint, until the returned function is called. Spans name routes, statements with
// their values left out, kinds of jobs and addresses of devices; no sign-in and no body of a request is among them.
func startTracing(ctx context.Context, endpoint, kind string) (end func(), err error) {
	u, err := url.Parse(endpoint)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return nil, usageError{errors.New("--trace-endpoint takes an address such as http://127.0.0.1:4318")}
	}
	if u.Path == "" || u.Path == "/" {
		u.Path = "/v1/traces" // OTLP/HTTP's own
	}
	exporter, err := otlptracehttp.New(ctx, otlptracehttp.WithEndpointURL(u.String()), otlptracehttp.WithTimeout(10*time.Second))
	if err != nil {
		return nil, fmt.Errorf("--trace-endpoint: %w", err)
	}
	p := sdktrace.NewTracerProvider(sdktrace.WithBatcher(exporter), sdktrace.WithResource(resource.NewSchemaless(
		semconv.ServiceName("unlatch-"+kind), semconv.ServiceVersion(release.Running().Version))))
	otel.SetTracerProvider(p)
	return func() {
		bye, done := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		defer done()
		p.Shutdown(bye)
	}, nil
}
