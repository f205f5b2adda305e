package api

import (
	"encoding/csv"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
)

var moveParams = []param{{"site", "only this site code", wordParam}, {"link", "only this link of the site", wordParam},
	{"source", "only those learned by this source", wordParam},
	{"address", "only those that left or came to this address", addressParam},
	{"since", "noticed at this RFC 3339 time or later", momentParam}, {"until", "noticed before this RFC 3339 time", momentParam},
	{"unfinished", "true lists only those whose services are not all confirmed", flagParam},
	{"before", "only moves with a lower id", numberParam}, {"limit", "1 to 500; 50 if left out", numberParam},
	{"format", "csv for a table; JSON if left out", formatParam}}

func (a *api) moves(c *echo.Context, _ principal) error {
	var f site.Flaws
	q := contract.MoveQuery{Site: c.QueryParam("site"), Link: c.QueryParam("link"), Source: c.QueryParam("source"),
		Address: c.QueryParam("address")}
	var err error
	q.Limit, err = number(c, "limit", 50, 1, 500)
	f.Note("limit", err)
	before, err := number(c, "before", 0, 0, 1<<62)
	f.Note("before", err)
	q.Before = int64(before)
	q.Since, err = instant(c, "since", time.Time{})
	f.Note("since", err)
	q.Until, err = instant(c, "until", time.Time{})
	f.Note("until", err)
	q.Unfinished, err = yes(c, "unfinished")
	f.Note("unfinished", err)
	if q.Source != "" {
		_, err = wan.ParseSource(q.Source)
		f.Note("source", err)
	}
	if q.Link != "" && q.Site == "" {
		f.Note("link", fmt.Errorf("requires the site that it belongs to"))
	}
	format := c.QueryParamOr("format", "json")
	if format != "json" && format != "csv" {
		f.Note("format", fmt.Errorf("%q is neither json nor csv", format))
	}
	if err := f.Err(); err != nil {
		return err
	}
	list, err := a.engine().Moves(c.Request().Context(), q)
	if err != nil || format == "json" {
		return ok(c, http.StatusOK, list, err)
	}
	c.Response().Header().Set("Content-Type", "text/csv; charset=utf-8")
	c.Response().Header().Set("Content-Disposition", `attachment; filename="moves.csv"`)
	c.Response().WriteHeader(http.StatusOK)
	return moveTable(csv.NewWriter(c.Response()), list)
}

// moveTable writes moves as CSV (RFC 4180): a column for the time of each stage, in RFC 3339, and how long it took in all.
func moveTable(w *csv.Writer, list []contract.Move) error {
	head := []string{"id", "site", "link", "old", "new", "source"}
	for _, name := range contract.StageNames {
		head = append(head, name+"_at")
	}
	if err := w.Write(append(head, "remote_zones", "total_ms")); err != nil {
		return err
	}
	for _, m := range list {
		row := []string{fmt.Sprint(m.ID), m.Site, m.Link, m.Old, m.New, m.Source}
		for _, name := range contract.StageNames {
			at := ""
			if s := m.Stage(name); !s.At.IsZero() {
				at = s.At.Format(time.RFC3339Nano)
			}
			row = append(row, at)
		}
		var zones []string
		for _, z := range m.Zones {
			zones = append(zones, z.Zone+" "+z.At.Format(time.RFC3339Nano))
		}
		if err := w.Write(append(row, strings.Join(zones, "; "), fmt.Sprintf("%.3f", m.TotalMS))); err != nil {
			return err
		}
	}
	w.Flush()
	return w.Error()
}
