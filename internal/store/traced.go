package store

import (
	"context"
	"strings"

	"github.com/jackc/pgx/v5"
	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/codes"
	"go.opentelemetry.io/otel/trace"
)

// traced makes a span of each statement of a request that is traced. What is asked for stands in it, and no value: those may be secrets.
type traced struct{}

// TraceQueryStart implements pgx.QueryTracer.
func (traced) TraceQueryStart(ctx context.Context, _ *pgx.Conn, q pgx.TraceQueryStartData) context.Context {
	within := trace.SpanFromContext(ctx)
	if !within.IsRecording() {
		return ctx
	}
	words := strings.Fields(q.SQL)
	if len(words) == 0 {
		return ctx
	}
	ctx, _ = within.TracerProvider().Tracer("inkpost.example/inkpost/internal/store").Start(ctx, strings.ToUpper(words[0]),
		trace.WithSpanKind(trace.SpanKindClient), trace.WithAttributes(attribute.String("db.system.name", "postgresql"),
			attribute.String("db.query.text", strings.Join(words, " "))))
	return context.WithValue(ctx, statement{}, true)
}

// statement marks the context of a statement that has a span of its own.
type statement struct{}

// TraceQueryEnd implements pgx.QueryTracer.
func (traced) TraceQueryEnd(ctx context.Context, _ *pgx.Conn, q pgx.TraceQueryEndData) {
	if ctx.Value(statement{}) == nil {
		return
	}
	span := trace.SpanFromContext(ctx)
	if q.Err != nil {
		span.SetStatus(codes.Error, "the statement failed")
	}
	span.End()
}
