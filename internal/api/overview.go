package api

import (
	"context"
	"crypto/subtle"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/site"
)

// ok answers with a document, or hands the error on.
func ok[T any](c *echo.Context, status int, v T, err error) error {
	if err != nil {
		return err
	}
	if tagged, is := any(v).(interface{ Tag() string }); is {
		c.Response().Header().Set("ETag", `"`+tagged.Tag()+`"`)
	}
	return c.JSON(status, v)
}

func done(c *echo.Context, err error) error {
	if err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

func (a *api) healthy(c *echo.Context, _ principal) error {
	return c.JSON(http.StatusOK, contract.Ready{Ready: true, Database: "not asked"})
}

// readyWait is how long the database may take to be taken for answering.
const readyWait = 2 * time.Second

func (a *api) ready(c *echo.Context, _ principal) error {
	eng := a.engine()
	if eng == nil {
		return c.JSON(http.StatusServiceUnavailable,
			contract.Ready{Role: contract.RoleStarting, Database: "has not answered since the start",
				Names: "answered from the copy on disk, with the serials that were answered last"})
	}
	ctx, cancel := context.WithTimeout(c.Request().Context(), readyWait)
	defer cancel()
	out := eng.Ready(ctx)
	status := http.StatusOK
	if !out.Ready {
		status = http.StatusServiceUnavailable
	}
	return c.JSON(status, out)
}

func (a *api) counters(c *echo.Context, _ principal) error {
	if a.metrics == nil {
		return echo.ErrNotFound
	}
	given, _ := strings.CutPrefix(c.Request().Header.Get("Authorization"), "Bearer ")
	if a.metricsKey != "" && subtle.ConstantTimeCompare([]byte(given), []byte(a.metricsKey)) != 1 {
		c.Response().Header().Set("WWW-Authenticate", `Bearer realm="inkpost metrics"`)
		return problemOf(http.StatusUnauthorized, "metrics-key",
			"the counters are for the holder of the metrics key: Authorization: Bearer KEY")
	}
	a.metrics.ServeHTTP(c.Response(), c.Request())
	return nil
}

func (a *api) description(c *echo.Context, _ principal) error {
	doc, err := a.doc()
	if err != nil {
		return err
	}
	return c.JSONBlob(http.StatusOK, doc)
}

func (a *api) overview(c *echo.Context, _ principal) error {
	o, err := a.engine().Overview(c.Request().Context())
	return ok(c, http.StatusOK, o, err)
}

func (a *api) history(c *echo.Context, _ principal) error {
	var f site.Flaws
	until, err := instant(c, "until", a.engine().Now())
	f.Note("until", err)
	from, err := instant(c, "from", until.AddDate(0, 0, -1))
	f.Note("from", err)
	format := c.QueryParamOr("format", "json")
	if format != "json" && format != "csv" {
		f.Note("format", fmt.Errorf("%q is neither json nor csv", format))
	}
	if len(f) == 0 && !from.Before(until) {
		f.Note("from", fmt.Errorf("must be before until"))
	}
	if err := f.Err(); err != nil {
		return err
	}
	h, err := a.engine().History(c.Request().Context(), c.Param("code"), c.Param("name"), from, until)
	if err == nil && format == "csv" {
		return historyCSV(c, h)
	}
	return ok(c, http.StatusOK, h, err)
}

func (a *api) probeNow(c *echo.Context, _ principal) error {
	s, err := a.engine().ProbeNow(c.Request().Context(), c.Param("code"), c.Param("name"), c.QueryParam("from"))
	return ok(c, http.StatusOK, s, err)
}
