package api

import (
	"net/http"
	"time"

	"github.com/labstack/echo/v5"
	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/codes"
	"go.opentelemetry.io/otel/propagation"
	"go.opentelemetry.io/otel/trace"
)

// counted counts the requests of a route and how long they take, and traces them (W3C Trace Context). A stream ends when somebody goes: how
// long that took says nothing.
func (a *api) counted(r route) echo.MiddlewareFunc {
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		if r.stream {
			return next
		}
		return func(c *echo.Context) error {
			began := time.Now()
			ctx := propagation.TraceContext{}.Extract(c.Request().Context(), propagation.HeaderCarrier(c.Request().Header))
			ctx, span := a.tracer.Start(ctx, r.method+" "+r.path, trace.WithSpanKind(trace.SpanKindServer))
			defer span.End()
			c.SetRequest(c.Request().WithContext(ctx))
			err := next(c)
			status := http.StatusOK
			if err != nil {
				status = explain(err).Status
			} else if w, unwrapped := echo.UnwrapResponse(c.Response()); unwrapped == nil {
				status = w.Status
			}
			a.count.Asked(r.method, r.path, status, time.Since(began))
			span.SetAttributes(attribute.String("http.request.method", r.method), attribute.String("http.route", r.path),
				attribute.Int("http.response.status_code", status))
			if status >= http.StatusInternalServerError {
				span.SetStatus(codes.Error, http.StatusText(status))
			}
			return err
		}
	}
}
