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
	"inkpost.example/inkpost/internal/access/throttle"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/engine"
	"inkpost.example/inkpost/internal/engine/changes"
	"inkpost.example/inkpost/internal/engine/push"
	"inkpost.example/inkpost/internal/engine/siteside"
	"inkpost.example/inkpost/internal/engine/vantages"
	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/store/seal"
)

// failure is an error that is already a problem document.
type failure struct{ contract.Problem }

func (f failure) Error() string { return f.Detail }

func problemOf(status int, slug, detail string, flaws ...site.Flaw) failure {
	return failure{contract.Problem{Type: "urn:inkpost:problem:" + slug, Title: http.StatusText(status), Status: status,
		Detail: detail, Errors: flaws}}
}

// problem answers an error as RFC 9457 lays down.
func (a *api) problem(c *echo.Context, err error) {
	f := explain(err)
	// Whoever asked may have gone: what stops then is no failure of ours.
	if f.Status == http.StatusInternalServerError && c.Request().Context().Err() == nil {
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
		var tooMany throttle.TooMany
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

// ProblemError is the failure as Echo's own handlers and middleware know it (echo.ProblemErrorer).
func (f failure) ProblemError() *echo.ProblemError {
	return &echo.ProblemError{Type: f.Type, Title: f.Title, Status: f.Status, Detail: f.Detail}
}

// StatusCode is the failure's HTTP status.
func (f failure) StatusCode() int { return f.Status }

// errorKind describes errors of one kind; ok is false for an error of another.
type errorKind func(err error) (f failure, ok bool)

// errorOf describes an error that is, or wraps, one of these.
func errorOf(status int, slug string, these ...error) errorKind {
	return func(err error) (failure, bool) {
		for _, one := range these {
			if errors.Is(err, one) {
				return problemOf(status, slug, err.Error()), true
			}
		}
		return failure{}, false
	}
}

// errorOfType describes errors of type E; field, which may be "", is the field that they are about.
func errorOfType[E error](status int, slug string, field func(E) string) errorKind {
	return func(err error) (failure, bool) {
		var e E
		if !errors.As(err, &e) {
			return failure{}, false
		}
		if field == nil {
			return problemOf(status, slug, e.Error()), true
		}
		return problemOf(status, slug, e.Error(), site.Flaw{Field: field(e), Detail: e.Error()}), true
	}
}

func atAddress[E error](E) string { return "address" }

// errorKinds are all kinds of error of the rooms below, which know nothing of HTTP.
var errorKinds = []errorKind{
	own, editedMeanwhile, notValid, standby, tooLarge,
	errorOfType[throttle.TooMany](http.StatusTooManyRequests, "too-many", nil),
	errorOfType(http.StatusUnprocessableEntity, "announcement-refused", atAddress[changes.Refused]),
	errorOfType(http.StatusUnprocessableEntity, "not-public", atAddress[wan.ErrNotPublic]),
	errorOfType[store.Missing](http.StatusNotFound, "not-on-record", nil),
	errorOfType(http.StatusConflict, "taken", func(e store.Taken) string { return e.Field }),
	errorOfType[store.InUse](http.StatusConflict, "in-use", nil),
	declaredWrong,
	errorOfType[store.Without](http.StatusConflict, "belongs-to-removed", nil),
	errorOfType[push.PrimaryTrouble](http.StatusBadGateway, "primary-away", nil),
	errorOfType[errClock](http.StatusForbidden, "clock-wrong", nil),
	errorOf(http.StatusConflict, "secrets-key", seal.ErrClosed),
	errorOf(http.StatusServiceUnavailable, "busy", throttle.ErrHashing, changes.ErrBusy, changes.ErrCommitted),
	errorOf(http.StatusServiceUnavailable, "not-recorded", changes.ErrNotRecorded),
	errorOf(http.StatusUnauthorized, "sign-in-refused", access.ErrSignIn),
	errorOf(http.StatusUnauthorized, "key-not-valid", access.ErrKey),
	errorOfType[access.SecondNeeded](http.StatusUnauthorized, "second-factor-needed", nil),
	errorOf(http.StatusForbidden, "second-factor-missing", access.ErrSecondMissing),
	errorOf(http.StatusForbidden, "no-role", access.ErrNoRole),
	errorOf(http.StatusUnauthorized, "passkey-not-valid", access.ErrPasskey),
	errorOf(http.StatusUnprocessableEntity, "no-passkeys", access.ErrNoPasskeys),
	errorOf(http.StatusForbidden, "code-not-valid", access.ErrCode, access.ErrInvitation),
	errorOf(http.StatusConflict, "no-agent", siteside.ErrNoAgent),
	errorOf(http.StatusGone, "vantage-gone", vantages.ErrGone),
	errorOf(http.StatusGone, "link-gone", changes.ErrLinkGone),
	databaseAway, echoes,
}

func explain(err error) failure {
	for _, k := range errorKinds {
		if f, ok := k(err); ok {
			return f
		}
	}
	return problemOf(http.StatusInternalServerError, "internal", "internal error; see the service's log")
}

// own is a failure already.
func own(err error) (f failure, ok bool) { return f, errors.As(err, &f) }

func notValid(err error) (failure, bool) {
	var flaws site.Flaws
	if !errors.As(err, &flaws) {
		return failure{}, false
	}
	return problemOf(http.StatusUnprocessableEntity, "not-valid", flaws.Error(), flaws...), true
}

func standby(err error) (failure, bool) {
	if !errors.Is(err, engine.ErrStandby) && !errors.Is(err, store.ErrNotWriter) {
		return failure{}, false
	}
	return problemOf(http.StatusServiceUnavailable, "standby", engine.ErrStandby.Error()), true
}

func editedMeanwhile(err error) (failure, bool) {
	var stale changes.Stale
	if !errors.As(err, &stale) {
		return failure{}, false
	}
	f := problemOf(http.StatusPreconditionFailed, "edited-meanwhile", stale.Error())
	f.Current = stale.Tag
	for _, one := range stale.Meanwhile {
		edit := contract.Edit{Revision: one.Revision, Person: one.Person, At: one.At, Changes: []contract.FieldChange{}}
		for _, c := range one.Changes {
			edit.Changes = append(edit.Changes, contract.FieldChange(c))
		}
		f.Meanwhile = append(f.Meanwhile, edit)
	}
	return f, true
}

func tooLarge(err error) (failure, bool) {
	var body *http.MaxBytesError
	if !errors.As(err, &body) && !errors.Is(err, echo.ErrStatusRequestEntityTooLarge) {
		return failure{}, false
	}
	return problemOf(http.StatusRequestEntityTooLarge, "too-large",
		fmt.Sprintf("the request is larger than %d kB (%d MB for files)", bodyLimit>>10, fileLimit>>20)), true
}

func databaseAway(err error) (failure, bool) {
	var (
		connect *pgconn.ConnectError
		network net.Error
		pg      *pgconn.PgError
	)
	if !errors.As(err, &connect) && !errors.As(err, &network) && !errors.Is(err, context.DeadlineExceeded) &&
		!errors.Is(err, context.Canceled) &&
		!(errors.As(err, &pg) && store.Away(pg)) {
		return failure{}, false
	}
	return problemOf(http.StatusServiceUnavailable, "database-away", "the database is away; nothing was changed, try again shortly"), true
}

// echoes are errors of Echo itself, such as a path that it does not know.
func echoes(err error) (failure, bool) {
	var status echo.HTTPStatusCoder
	if !errors.As(err, &status) {
		return failure{}, false
	}
	code := status.StatusCode()
	details := map[int]string{
		http.StatusNotFound:         "there is nothing at this path; the API is described at " + base + "/openapi.json",
		http.StatusMethodNotAllowed: "this path does not allow that method; the API is described at " + base + "/openapi.json",
	}
	return problemOf(code, strings.ReplaceAll(strings.ToLower(http.StatusText(code)), " ", "-"), details[code]), true
}
