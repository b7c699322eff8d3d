package cli

import (
	"context"
	"os"
	"time"

	"go.opentelemetry.io/otel/exporters/otlp/otlptrace/otlptracehttp"
	"go.opentelemetry.io/otel/sdk/resource"
	sdktrace "go.opentelemetry.io/otel/sdk/trace"
	"go.opentelemetry.io/otel/trace"
)

// tracing sends spans of requests where OpenTelemetry's own variables name a collector, such as
// OTEL_EXPORTER_OTLP_ENDPOINT; without one there are none. end sends what is left.
func tracing(ctx context.Context, service string) (tracer trace.TracerProvider, end func(), err error) {
	if os.Getenv("OTEL_EXPORTER_OTLP_ENDPOINT") == "" && os.Getenv("OTEL_EXPORTER_OTLP_TRACES_ENDPOINT") == "" {
		return nil, func() {}, nil
	}
	to, err := otlptracehttp.New(ctx)
	if err != nil {
		return nil, nil, coded(exitUsage, "spans cannot be sent to where OTEL_EXPORTER_OTLP_ENDPOINT says: %w", err)
	}
	if os.Getenv("OTEL_SERVICE_NAME") == "" {
		os.Setenv("OTEL_SERVICE_NAME", service)
	}
	p := sdktrace.NewTracerProvider(sdktrace.WithBatcher(to), sdktrace.WithResource(resource.Environment()))
	return p, func() {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		defer cancel()
		_ = p.Shutdown(ctx) // who collects spans may be away
	}, nil
}
