package otel

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"

	"go.opentelemetry.io/otel/attribute"
	sdklog "go.opentelemetry.io/otel/sdk/log"
	"go.opentelemetry.io/otel/sdk/trace"
	"go.opentelemetry.io/otel/sdk/trace/tracetest"

	greenlever "greenlever.example/client"
)

// kept keeps what is emitted.
type kept struct{ all []sdklog.Record }

func (k *kept) OnEmit(_ context.Context, r *sdklog.Record) error {
	k.all = append(k.all, r.Clone())
	return nil
}
func (k *kept) Enabled(context.Context, sdklog.EnabledParameters) bool { return true }
func (k *kept) Shutdown(context.Context) error                         { return nil }
func (k *kept) ForceFlush(context.Context) error                       { return nil }

func words(r sdklog.Record) string {
	var list []string
	r.WalkAttributes(func(kv attribute.KeyValue) bool {
		list = append(list, fmt.Sprintf("%s=%s", kv.Key, kv.Value.AsString()))
		return true
	})
	slices.Sort(list)
	return strings.Join(list, " ")
}

// Each decision is an event with the attributes of the conventions, and stands on its span.
func TestDecided(t *testing.T) {
	t.Setenv("GREENLEVER_FILE", "testdata/flags.json")
	t.Setenv("GREENLEVER_URL", "")
	events := &kept{}
	spans := tracetest.NewSpanRecorder()
	tracer := trace.NewTracerProvider(trace.WithSpanProcessor(spans)).Tracer("test")
	client := func(o Options) *greenlever.Client {
		o.Events = sdklog.NewLoggerProvider(sdklog.WithProcessor(events))
		c, err := greenlever.Open(context.Background(), greenlever.Options{Decided: Decided(o)})
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { c.Close() })
		return c
	}
	c := client(Options{Set: "pinecrest/production", Units: true})
	ctx, span := tracer.Start(context.Background(), "open the door")
	scope := c.Scope(ctx, greenlever.Unit("recipient-17", greenlever.String("role", "courier")))
	scope.Bool("handover-photo", false)
	scope.Bool("nowhere", false)
	scope.String("handover-photo", "")
	span.End()
	const shared = "feature_flag.context.id=recipient-17 "
	const tail = "feature_flag.set.id=pinecrest/production feature_flag.version=3.7"
	want := []string{
		shared + "feature_flag.key=handover-photo feature_flag.provider.name=greenlever " +
			"feature_flag.result.reason=targeting_match feature_flag.result.variant=on " + tail,
		"error.type=flag_not_found " + shared + "feature_flag.error.message=there is no flag nowhere " +
			"feature_flag.key=nowhere feature_flag.provider.name=greenlever feature_flag.result.reason=error " + tail,
		"error.type=type_mismatch " + shared + "feature_flag.error.message=flag handover-photo has another type " +
			"than was asked for feature_flag.key=handover-photo feature_flag.provider.name=greenlever " +
			"feature_flag.result.reason=error " + tail,
	}
	if len(events.all) != len(want) {
		t.Fatalf("%d events", len(events.all))
	}
	for i, r := range events.all {
		if r.EventName() != "feature_flag.evaluation" || words(r) != want[i] {
			t.Errorf("%s: %s\nwant %s", r.EventName(), words(r), want[i])
		}
		if r.TraceID() != span.SpanContext().TraceID() {
			t.Error("the event is of no trace")
		}
	}
	on := map[string]string{}
	for _, kv := range spans.Ended()[0].Attributes() {
		on[string(kv.Key)] = kv.Value.AsString()
	}
	if on["greenlever.flag.nowhere"] != "error: flag_not_found" ||
		on["greenlever.flag.handover-photo"] != "error: type_mismatch" {
		t.Errorf("%v", on)
	}
	// Nothing of the unit without being told to, and no event where they are off.
	events.all = nil
	client(Options{}).Bool(context.Background(), "handover-photo", greenlever.Unit("recipient-17"), false)
	if len(events.all) != 1 || strings.Contains(words(events.all[0]), "recipient-17") ||
		strings.Contains(words(events.all[0]), "set.id") {
		t.Errorf("%v", events.all)
	}
	events.all = nil
	client(Options{Quiet: true}).Bool(context.Background(), "handover-photo", greenlever.Unit("recipient-17"), false)
	if len(events.all) != 0 {
		t.Errorf("%v", events.all)
	}
	// A call by itself, without a scope, is of the span that its context carries.
	ctx, alone := tracer.Start(context.Background(), "alone")
	client(Options{Quiet: true}).Bool(ctx, "handover-photo", greenlever.Unit("recipient-17"), false)
	alone.End()
	ended := spans.Ended()
	if got := ended[len(ended)-1].Attributes(); len(got) != 1 || got[0].Key != "greenlever.flag.handover-photo" ||
		got[0].Value.AsString() != "off" {
		t.Errorf("%v", got)
	}
}
