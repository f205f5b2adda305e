package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"net"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/labstack/echo/v5"

	"inkpost.example/inkpost/internal/access"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/engine"
	"inkpost.example/inkpost/internal/engine/changes"
	"inkpost.example/inkpost/internal/engine/push"
	"inkpost.example/inkpost/internal/engine/siteside"
	"inkpost.example/inkpost/internal/engine/vantages"
	"inkpost.example/inkpost/internal/store"
)

// failure is an error that is already a problem document.
type failure struct{ contract.Problem }

func (f failure) Error() string { return f.Detail }

func problemOf(status int, slug, detail string, flaws ...site.Flaw) failure {
	return failure{contract.Problem{Type: "urn:inkpost:problem:" + slug, Title: http.StatusText(status), Status: status, Detail: detail, Errors: flaws}}
}

// problem answers an error as RFC 9457 lays down.
func (a *api) problem(c *echo.Context, err error) {
	f := explain(err)
	if f.Status == http.StatusInternalServerError {
		a.log.Error("request failed", "method", c.Request().Method, "path", c.Path(), "error", err)
	}
	if r, e := echo.UnwrapResponse(c.Response()); e == nil && r.Committed {
		return
	}
	h := c.Response().Header()
	h.Set("Content-Type", "application/problem+json")
	switch f.Status {
	case http.StatusPreconditionFailed:
		h.Set("ETag", `"`+f.Current+`"`)
	case http.StatusTooManyRequests:
		wait := 5 * time.Second
		var tooMany access.TooMany
		if errors.As(err, &tooMany) {
			wait = tooMany.Wait
		}
		h.Set("Retry-After", strconv.Itoa(int(math.Ceil(wait.Seconds()))))
	case http.StatusServiceUnavailable:
		h.Set("Retry-After", "2")
	case http.StatusUnauthorized:
		h.Set("WWW-Authenticate", "Bearer")
	}
	c.Response().WriteHeader(f.Status)
	_ = json.NewEncoder(c.Response()).Encode(f.Problem)
}

func explain(err error) failure {
	var (
		f         failure
		flaws     site.Flaws
		missing   store.Missing
		taken     store.Taken
		inUse     store.InUse
		notPublic wan.ErrNotPublic
		primary   push.PrimaryTrouble
		tooLarge  *http.MaxBytesError
		status    echo.HTTPStatusCoder
		connect   *pgconn.ConnectError
		network   net.Error
		pg        *pgconn.PgError
		clock     errClock
		stale     changes.Stale
		refused   changes.Refused
		tooMany   access.TooMany
	)
	switch {
	case errors.As(err, &f):
		return f
	case errors.As(err, &stale):
		f := problemOf(http.StatusPreconditionFailed, "edited-meanwhile", stale.Error())
		f.Current = stale.Tag
		for _, one := range stale.Meanwhile {
			edit := contract.Edit{Revision: one.Revision, Person: one.Person, At: one.At, Changes: []contract.FieldChange{}}
			for _, c := range one.Changes {
				edit.Changes = append(edit.Changes, contract.FieldChange(c))
			}
			f.Meanwhile = append(f.Meanwhile, edit)
		}
		return f
	case errors.As(err, &tooMany):
		return problemOf(http.StatusTooManyRequests, "too-many", tooMany.Error())
	case errors.Is(err, access.ErrHashing):
		return problemOf(http.StatusServiceUnavailable, "busy", err.Error())
	case errors.As(err, &refused):
		return problemOf(http.StatusUnprocessableEntity, "announcement-refused", refused.Error(), site.Flaw{Field: "address", Detail: refused.Error()})
	case errors.Is(err, engine.ErrStandby), errors.Is(err, store.ErrNotWriter):
		return problemOf(http.StatusServiceUnavailable, "standby", engine.ErrStandby.Error())
	case errors.Is(err, changes.ErrBusy), errors.Is(err, changes.ErrCommitted):
		return problemOf(http.StatusServiceUnavailable, "busy", err.Error())
	case errors.As(err, &flaws):
		return problemOf(http.StatusUnprocessableEntity, "not-valid", flaws.Error(), flaws...)
	case errors.As(err, &notPublic):
		return problemOf(http.StatusUnprocessableEntity, "not-public", notPublic.Error(), site.Flaw{Field: "address", Detail: notPublic.Error()})
	case errors.As(err, &missing):
		return problemOf(http.StatusNotFound, "not-on-record", missing.Error())
	case errors.As(err, &taken):
		return problemOf(http.StatusConflict, "taken", taken.Error(), site.Flaw{Field: taken.Field, Detail: taken.Error()})
	case errors.As(err, &inUse):
		return problemOf(http.StatusConflict, "in-use", inUse.Error())
	case errors.As(err, &primary):
		return problemOf(http.StatusBadGateway, "primary-away", primary.Error())
	case errors.Is(err, access.ErrSignIn):
		return problemOf(http.StatusUnauthorized, "sign-in-refused", err.Error())
	case errors.Is(err, access.ErrKey):
		return problemOf(http.StatusUnauthorized, "key-not-valid", err.Error())
	case errors.Is(err, access.ErrCode):
		return problemOf(http.StatusForbidden, "code-not-valid", err.Error())
	case errors.Is(err, siteside.ErrNoAgent):
		return problemOf(http.StatusConflict, "no-agent", err.Error())
	case errors.As(err, &clock):
		return problemOf(http.StatusForbidden, "clock-wrong", clock.Error())
	case errors.Is(err, vantages.ErrGone):
		return problemOf(http.StatusGone, "vantage-gone", err.Error())
	case errors.Is(err, changes.ErrLinkGone):
		return problemOf(http.StatusGone, "link-gone", err.Error())
	case errors.Is(err, changes.ErrNotRecorded):
		return problemOf(http.StatusServiceUnavailable, "not-recorded", err.Error())
	case errors.As(err, &tooLarge), errors.Is(err, echo.ErrStatusRequestEntityTooLarge):
		return problemOf(http.StatusRequestEntityTooLarge, "too-large", fmt.Sprintf("the request is larger than %d kB (%d MB for files)", bodyLimit>>10, fileLimit>>20))
	case errors.As(err, &connect), errors.As(err, &network), errors.Is(err, context.DeadlineExceeded), errors.Is(err, context.Canceled), errors.As(err, &pg) && store.Away(pg):
		return problemOf(http.StatusServiceUnavailable, "database-away", "the database is away; nothing was changed, try again shortly")
	case errors.As(err, &status):
		code := status.StatusCode()
		details := map[int]string{
			http.StatusNotFound:         "there is nothing at this path; the API is described at " + base + "/openapi.json",
			http.StatusMethodNotAllowed: "this path does not take that method; the API is described at " + base + "/openapi.json",
		}
		return problemOf(code, strings.ReplaceAll(strings.ToLower(http.StatusText(code)), " ", "-"), details[code])
	}
	return problemOf(http.StatusInternalServerError, "internal", "something went wrong in the service; its log says what")
}
