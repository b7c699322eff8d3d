// Package otel tells OpenTelemetry of each decision: an event named feature_flag.evaluation
// with the attributes of the semantic conventions (version 1.43.0, "Feature flag
// evaluation"), and, on the span that is recording, an attribute greenlever.flag.KEY with the
// variant, so that traces can be told apart by what a flag gave.
//
//	flags, err := greenlever.Open(ctx, greenlever.Options{Decided: otel.Decided(otel.Options{})})
package otel

import (
	"context"
	"fmt"
	"strings"

	"go.opentelemetry.io/otel"
	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/log"
	semconv "go.opentelemetry.io/otel/semconv/v1.43.0"
	"go.opentelemetry.io/otel/trace"

	greenlever "greenlever.example/client"
)

// ProviderName is the value of feature_flag.provider.name.
const ProviderName = "greenlever"

// Options say what is told.
type Options struct {
	Events log.LoggerProvider // takes the events; default: the global one
	Set    string             // feature_flag.set.id, such as pinecrest/production; empty: left out
	// Units tells the unit's targeting key as feature_flag.context.id. Leave it off where keys
	// are personal and telemetry must not be.
	Units bool
	// Quiet leaves the events out: spans alone are told.
	Quiet bool
}

// Decided makes the function for [greenlever.Options].
func Decided(o Options) func(context.Context, greenlever.Context, greenlever.Answer) {
	if o.Events == nil {
		o.Events = otel.GetLoggerProvider()
	}
	logger := o.Events.Logger("greenlever.example/otel", log.WithSchemaURL(semconv.SchemaURL))
	return func(ctx context.Context, unit greenlever.Context, a greenlever.Answer) {
		if span := trace.SpanFromContext(ctx); span.IsRecording() {
			span.SetAttributes(attribute.String("greenlever.flag."+a.Flag, said(a)))
		}
		if !o.Quiet && logger.Enabled(ctx, log.EnabledParameters{Severity: log.SeverityInfo, EventName: eventName}) {
			logger.Emit(ctx, o.event(unit, a))
		}
	}
}

const eventName = "feature_flag.evaluation"

// said is the variant, or the error.
func said(a greenlever.Answer) string {
	if a.Variant == "" {
		return "error: " + errorType(a)
	}
	return a.Variant
}

func (o Options) event(unit greenlever.Context, a greenlever.Answer) log.Record {
	var r log.Record
	r.SetEventName(eventName)
	r.SetSeverity(log.SeverityInfo)
	add := func(key attribute.Key, value string) { r.AddAttributes(key.String(value)) }
	add(semconv.FeatureFlagKeyKey, a.Flag)
	add(semconv.FeatureFlagProviderNameKey, ProviderName)
	add(semconv.FeatureFlagResultReasonKey, strings.ToLower(a.Reason))
	if a.Variant != "" {
		add(semconv.FeatureFlagResultVariantKey, a.Variant)
	}
	if a.Epoch > 0 {
		add(semconv.FeatureFlagVersionKey, fmt.Sprintf("%d.%d", a.Epoch, a.Revision))
	}
	if o.Set != "" {
		add(semconv.FeatureFlagSetIDKey, o.Set)
	}
	if key := unit.Key(); o.Units && key != "" {
		add(semconv.FeatureFlagContextIDKey, key)
	}
	if a.Reason == "ERROR" {
		r.SetSeverity(log.SeverityWarn)
		add(semconv.ErrorTypeKey, errorType(a))
		add(semconv.FeatureFlagErrorMessageKey, a.Problem())
	}
	return r
}

// errorType is the error code as the conventions write it: flag_not_found.
func errorType(a greenlever.Answer) string {
	if a.Code == "" {
		return "general"
	}
	return strings.ToLower(a.Code)
}
