package api

import (
	"context"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"strings"

	"github.com/labstack/echo/v5"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/declare"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/declared"
	"inkpost.example/inkpost/internal/engine/rooms"
	"inkpost.example/inkpost/internal/wire/recordfile"
)

// recordRoutes lists the endpoints of the record as files.
func (a *api) recordRoutes() []route {
	return []route{
		{method: "GET", path: base + "/record",
			summary: "The record as a file: all of it (application/yaml, application/json), or one kind (text/csv)",
			who:     person, query: []param{{"format", "yaml, json or csv; yaml if left out", wordParam},
				{"kind", "of csv: sites, links, devices, services, hostnames or contacts", wordParam},
				{"template", "true gives a file with one line to go by", flagParam}}, serve: a.record},
		{method: "POST", path: base + "/record",
			summary: "Bring the record in step with a file (text/csv, application/yaml, application/json); application/x-ndjson comes " +
				"back: progress, then the result", who: person, out: contract.DeclaredNews{}, large: true,
			query: []param{{"kind", "of text/csv: what its lines are", wordParam},
				{"column", "HEADING=FIELD, what a heading of text/csv stands for; HEADING= passes it over; repeatable", wordParam},
				{"dry_run", "true says what would change, and what is wrong, and changes nothing", flagParam},
				{"line_by_line", "true takes what is right and leaves out what is wrong; else nothing is taken where anything is wrong",
					flagParam}}, serve: a.declare},
		{method: "POST", path: base + "/sites/:code/lan-list", large: true,
			summary: "Read a list of devices as the site's router printed it (text/plain): leases of ISC DHCP or dnsmasq, " +
				"ip neigh, arp -a", who: person, reads: true,
			out: contract.LANList{}, serve: a.lanList},
	}
}

func (a *api) record(c *echo.Context, _ principal) error {
	format := c.QueryParamOr("format", "yaml")
	template, err := yes(c, "template")
	if err != nil {
		return site.Flaws{{Field: "template", Detail: err.Error()}}
	}
	w, h := c.Response(), c.Response().Header()
	if format == "csv" {
		kind, err := declare.ParseKind(c.QueryParam("kind"))
		if err != nil {
			return site.Flaws{{Field: "kind", Detail: err.Error()}}
		}
		h.Set("Content-Type", "text/csv; charset=utf-8")
		h.Set("Content-Disposition", fmt.Sprintf("attachment; filename=%q", kind.Plural()+".csv"))
		if template {
			return recordfile.Template(w, kind)
		}
		items, err := a.engine().Declared.Items(c.Request().Context())
		if err != nil {
			return err
		}
		return recordfile.WriteCSV(w, kind, items)
	}
	if format != "yaml" && format != "json" {
		return site.Flaws{{Field: "format", Detail: fmt.Sprintf("%q is unknown; there are yaml, json and csv", format)}}
	}
	items, err := a.engine().Declared.Items(c.Request().Context())
	if err != nil {
		return err
	}
	h.Set("Content-Type", "application/"+format)
	h.Set("Content-Disposition", fmt.Sprintf("attachment; filename=%q", "record."+format))
	doc := recordfile.Document(items, rooms.SightOf(c.Request().Context()).All())
	if format == "json" {
		return recordfile.WriteJSON(w, doc)
	}
	return recordfile.WriteYAML(w, doc)
}

// readRecord reads the file of a request. Error: site.Flaws of the request; recordfile.Flaws of the file.
func readRecord(c *echo.Context) (recordfile.File, error) {
	kind, _, err := mime.ParseMediaType(c.Request().Header.Get("Content-Type"))
	body := c.Request().Body
	switch {
	case err == nil && (kind == "application/yaml" || kind == "application/json"):
		return recordfile.ReadYAML(body)
	case err == nil && kind == "text/csv":
		of, err := declare.ParseKind(c.QueryParam("kind"))
		if err != nil {
			return recordfile.File{}, site.Flaws{{Field: "kind", Detail: err.Error()}}
		}
		mapped := map[string]string{}
		for _, m := range c.QueryParams()["column"] {
			i := strings.LastIndex(m, "=")
			if i < 1 {
				return recordfile.File{}, site.Flaws{{Field: "column", Detail: fmt.Sprintf("%q is not written HEADING=FIELD", m)}}
			}
			mapped[strings.TrimSpace(m[:i])] = strings.TrimSpace(m[i+1:])
		}
		return recordfile.ReadCSV(body, of, mapped)
	}
	return recordfile.File{}, problemOf(http.StatusUnsupportedMediaType, "media-type",
		"a record is sent as text/csv, application/yaml or application/json")
}

func (a *api) declare(c *echo.Context, _ principal) error {
	var f site.Flaws
	var how declared.How
	var err error
	how.DryRun, err = yes(c, "dry_run")
	f.Note("dry_run", err)
	how.LineByLine, err = yes(c, "line_by_line")
	f.Note("line_by_line", err)
	if err := f.Err(); err != nil {
		return err
	}
	// What a YAML file leaves out is removed: a part of it that is wrong must not count as left out.
	if kind, _, _ := mime.ParseMediaType(c.Request().Header.Get("Content-Type")); how.LineByLine && kind != "text/csv" {
		return site.Flaws{{Field: "line_by_line", Detail: "is for text/csv; a whole record is taken as a whole"}}
	}
	file, err := readRecord(c)
	var flaws recordfile.Flaws
	if errors.As(err, &flaws) {
		how.Flaws, err = flaws, nil
	}
	if err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(c.Request().Context())
	defer cancel()
	write := lineByLine(c)
	last := 0
	how.Progress = func(done, of int) {
		if share := 100 * done / of; share > last || done == of { // no more than a hundred lines
			last = share
			if write(contract.DeclaredNews{Done: done, Of: of}) != nil {
				cancel()
			}
		}
	}
	out, err := a.engine().Declared.Declare(ctx, file.Items, file.Scope, how)
	if err != nil && last > 0 { // the reply has begun
		return write(contract.DeclaredNews{Failed: explain(err).Detail})
	}
	if err != nil {
		return err
	}
	return write(contract.DeclaredNews{Done: len(out.Steps), Of: len(out.Steps), Result: &out})
}

// declaredWrong describes a file that was not taken: each error says the line, and the field.
func declaredWrong(err error) (failure, bool) {
	var wrong declared.Wrong
	if !errors.As(err, &wrong) {
		return failure{}, false
	}
	var flaws []site.Flaw
	for _, one := range wrong.Flaws {
		field := fmt.Sprintf("line %d", one.Line)
		if one.Column != "" {
			field += ", " + one.Column
		}
		flaws = append(flaws, site.Flaw{Field: field, Detail: one.Detail})
	}
	return problemOf(http.StatusUnprocessableEntity, "not-valid", wrong.Error(), flaws...), true
}

func (a *api) lanList(c *echo.Context, _ principal) error {
	text, err := io.ReadAll(c.Request().Body)
	if err != nil {
		return err
	}
	out, err := a.engine().Declared.LANList(c.Request().Context(), c.Param("code"), string(text))
	return ok(c, http.StatusOK, out, err)
}
