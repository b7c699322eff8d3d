package web

import (
	"net/http"

	"github.com/labstack/echo/v5"
	"go.opentelemetry.io/contrib/instrumentation/net/http/otelhttp"
	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/propagation"
	"go.opentelemetry.io/otel/trace"
)

// Spanned has a span for each request where the surface has a tracer, of the trace that the caller
// names in traceparent. A stream has none: it would last for days; nor has an address that is a secret itself.
func (s *Surface) Spanned(next http.Handler) http.Handler {
	if s.Tracer == nil {
		return next
	}
	return otelhttp.NewHandler(next, "request", otelhttp.WithTracerProvider(s.Tracer),
		otelhttp.WithPropagators(propagation.TraceContext{}),
		otelhttp.WithFilter(func(r *http.Request) bool {
			return !streams[r.URL.Path] && secretive(r.URL.Path) == ""
		}))
}

// streams are addresses of streams of server-sent events that anybody may open.
var streams = map[string]bool{"/follow/v1/feed": true, "/ofrep/v1/stream": true}

// named calls a request's span after its route, which is known once it was found, and gives it the
// request's id, so that who has one finds the other.
func named(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		if span := trace.SpanFromContext(c.Request().Context()); span.IsRecording() {
			span.SetName(c.Request().Method + " " + c.Path())
			span.SetAttributes(attribute.String("http.route", c.Path()), attribute.String("greenlever.request",
				requestID(c)))
		}
		return next(c)
	}
}

// traceOf is the trace that a request belongs to; empty for none.
func traceOf(c *echo.Context) string {
	if span := trace.SpanContextFromContext(c.Request().Context()); span.IsValid() {
		return span.TraceID().String()
	}
	return ""
}
