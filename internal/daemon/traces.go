package daemon

import (
	"context"
	"fmt"
	"time"

	"go.opentelemetry.io/otel"
	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/exporters/otlp/otlptrace/otlptracehttp"
	"go.opentelemetry.io/otel/sdk/resource"
	sdk "go.opentelemetry.io/otel/sdk/trace"
	"go.opentelemetry.io/otel/trace"
)

// tracesEnd is how long the last spans may take to be sent when the service ends.
const tracesEnd = 2 * time.Second

// tracer sends the spans of requests to a collector (OTLP over HTTP) until the service ends; it is nil where none is named. A collector
// that is away loses spans and delays nobody. Error: a URL that is none.
func (d *Daemon) tracer(ctx context.Context) (trace.Tracer, error) {
	if d.o.Traces == "" {
		return nil, nil
	}
	exporter, err := otlptracehttp.New(ctx, otlptracehttp.WithEndpointURL(d.o.Traces))
	if err != nil {
		return nil, fmt.Errorf("traces: %w", err)
	}
	otel.SetErrorHandler(otel.ErrorHandlerFunc(func(err error) { d.log.Warn("traces were not sent", "error", err) }))
	provider := sdk.NewTracerProvider(sdk.WithBatcher(exporter), sdk.WithResource(resource.NewSchemaless(
		attribute.String("service.name", "inkpost"), attribute.String("service.version", d.o.Version))))
	d.done.Go(func() {
		<-d.ctx.Done()
		bounded, cancel := context.WithTimeout(context.Background(), tracesEnd)
		defer cancel()
		_ = provider.Shutdown(bounded)
	})
	return provider.Tracer("inkpost.example/inkpost/internal/api"), nil
}
