package api

import (
	"fmt"
	"time"

	"github.com/labstack/echo/v5"

	"inkpost.example/inkpost/internal/core/site"
)

// number reads a whole number from the query; otherwise if it is left out.
func number(c *echo.Context, name string, otherwise, least, most int) (int, error) {
	n, err := echo.QueryParamOr(c, name, otherwise)
	if err != nil || n < least || n > most {
		return otherwise, fmt.Errorf("%q is not a number from %d to %d", c.QueryParam(name), least, most)
	}
	return n, nil
}

// part reads which part of a list is asked for. Error: site.Flaws.
func part(c *echo.Context) (limit, offset int, err error) {
	var f site.Flaws
	limit, err = number(c, "limit", 0, 0, 1000)
	f.Note("limit", err)
	offset, err = number(c, "offset", 0, 0, 1<<30)
	f.Note("offset", err)
	return limit, offset, f.Err()
}

// instant reads an RFC 3339 time from the query; otherwise if it is left out.
func instant(c *echo.Context, name string, otherwise time.Time) (time.Time, error) {
	t, err := echo.QueryParamOr(c, name, otherwise)
	if err != nil {
		return otherwise, fmt.Errorf("%q is not a time; write it as 2026-11-23T08:00:00Z", c.QueryParam(name))
	}
	return t, nil
}

// yes reads a boolean from the query; false where it is left out.
func yes(c *echo.Context, name string) (bool, error) {
	v, err := echo.QueryParamOr(c, name, false)
	if err != nil {
		return false, fmt.Errorf("%q is neither true nor false", c.QueryParam(name))
	}
	return v, nil
}
