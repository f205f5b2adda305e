package api

import (
	"bytes"
	"fmt"
	"io"
	"net/http"

	"github.com/labstack/echo/v5"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/paper"
)

// handoverRoutes lists the endpoints of what is handed over with a site.
func (a *api) handoverRoutes() []route {
	at := base + "/sites/:code"
	versions := []param{{"version", "a version that was kept; 0 for the sheet as it is now", numberParam},
		{"format", "json, html, pdf, markdown or csv", wordParam}}
	return []route{
		{method: "GET", path: at + "/contacts", summary: "List the contacts of a site", who: person, out: []site.Contact{},
			serve: a.contacts},
		{method: "POST", path: at + "/contacts", summary: "Add a contact of a site", who: person, in: contract.ContactInput{},
			out: site.Contact{}, status: http.StatusCreated, serve: a.addContact},
		{method: "PATCH", path: at + "/contacts/:id", summary: "Edit a contact", who: person, in: contract.ContactInput{},
			out:   site.Contact{},
			serve: a.editContact},
		{method: "DELETE", path: at + "/contacts/:id", summary: "Remove a contact", who: person, status: http.StatusNoContent,
			serve: a.removeContact},
		{method: "GET", path: at + "/notes", summary: "List the dated notes of a site, the newest first", who: person,
			out: []contract.SiteNote{}, serve: a.siteNotes},
		{method: "POST", path: at + "/notes", summary: "Write down a note of a site", who: person, in: contract.SiteNoteInput{},
			out: contract.SiteNote{}, status: http.StatusCreated, serve: a.addSiteNote},
		{method: "DELETE", path: at + "/notes/:id", summary: "Remove a note", who: person, status: http.StatusNoContent,
			serve: a.removeSiteNote},
		{method: "GET", path: at + "/photos", summary: "List the photos of a site, the newest first", who: person, out: []contract.Photo{},
			serve: a.photos},
		{method: "POST", path: at + "/photos", summary: "Keep a photo (image/jpeg or image/png, 5 MB at most); it is drawn anew",
			who: person,
			out: contract.Photo{}, status: http.StatusCreated, large: true, query: []param{{"caption", "what it shows", wordParam}},
			serve: a.addPhoto},
		{method: "GET", path: at + "/photos/:id", summary: "A photo", who: person, serve: a.photo},
		{method: "DELETE", path: at + "/photos/:id", summary: "Remove a photo", who: person, status: http.StatusNoContent,
			serve: a.removePhoto},
		{method: "GET", path: at + "/sheet", summary: "The handover sheet of a site", who: person, out: contract.Sheet{}, query: versions,
			serve: a.sheet},
		{method: "GET", path: at + "/sheets", summary: "List the versions of a site's sheet, the newest first", who: person,
			out: []contract.SheetVersion{}, serve: a.sheets},
		{method: "POST", path: at + "/sheets", summary: "Keep the sheet as it is now, as a version", who: person, in: contract.SheetInput{},
			out: contract.Sheet{}, status: http.StatusCreated, serve: a.keepSheet},
		{method: "GET", path: at + "/sheet-links", summary: "List the URLs by which customers read the sheet", who: person,
			out: []contract.SheetLink{}, serve: a.sheetLinks},
		{method: "POST", path: at + "/sheet-links", summary: "Make a URL by which a customer reads the sheet, and nothing else",
			who: person,
			in:  contract.SheetLinkInput{}, out: contract.SheetLink{}, status: http.StatusCreated, serve: a.shareSheet},
		{method: "DELETE", path: at + "/sheet-links/:id", summary: "Revoke such a URL", who: person, status: http.StatusNoContent,
			serve: a.unshareSheet},
		{method: "GET", path: "/handover/:secret", summary: "The sheet for a customer, by a secret URL", limited: true,
			query: []param{{"format", "html or pdf", wordParam}}, serve: a.customerSheet},
	}
}

func (a *api) contacts(c *echo.Context, _ principal) error {
	list, err := a.engine().Contacts(c.Request().Context(), c.Param("code"))
	return ok(c, http.StatusOK, list, err)
}

func (a *api) addContact(c *echo.Context, _ principal) error {
	var in contract.ContactInput
	if err := decode(c, &in); err != nil {
		return err
	}
	out, err := a.engine().AddContact(c.Request().Context(), c.Param("code"), in)
	return ok(c, http.StatusCreated, out, err)
}

func (a *api) editContact(c *echo.Context, _ principal) error {
	id, err := numbered(c, "contact")
	if err != nil {
		return err
	}
	in, err := merge[contract.ContactInput](c)
	if err != nil {
		return err
	}
	out, err := a.engine().EditContact(c.Request().Context(), c.Param("code"), id, in)
	return ok(c, http.StatusOK, out, err)
}

func (a *api) removeContact(c *echo.Context, _ principal) error {
	id, err := numbered(c, "contact")
	if err != nil {
		return err
	}
	return done(c, a.engine().RemoveContact(c.Request().Context(), c.Param("code"), id))
}

func (a *api) siteNotes(c *echo.Context, _ principal) error {
	list, err := a.engine().SiteNotes(c.Request().Context(), c.Param("code"))
	return ok(c, http.StatusOK, list, err)
}

func (a *api) addSiteNote(c *echo.Context, p principal) error {
	var in contract.SiteNoteInput
	if err := decode(c, &in); err != nil {
		return err
	}
	out, err := a.engine().AddSiteNote(c.Request().Context(), c.Param("code"), in, p.name)
	return ok(c, http.StatusCreated, out, err)
}

func (a *api) removeSiteNote(c *echo.Context, _ principal) error {
	id, err := numbered(c, "note")
	if err != nil {
		return err
	}
	return done(c, a.engine().RemoveSiteNote(c.Request().Context(), c.Param("code"), id))
}

func (a *api) photos(c *echo.Context, _ principal) error {
	list, err := a.engine().Photos(c.Request().Context(), c.Param("code"))
	return ok(c, http.StatusOK, list, err)
}

func (a *api) addPhoto(c *echo.Context, p principal) error {
	file, err := io.ReadAll(c.Request().Body)
	if err != nil {
		return err
	}
	out, err := a.engine().AddPhoto(c.Request().Context(), c.Param("code"), c.QueryParam("caption"), file, p.name)
	return ok(c, http.StatusCreated, out, err)
}

func (a *api) photo(c *echo.Context, _ principal) error {
	id, err := numbered(c, "photo")
	if err != nil {
		return err
	}
	kind, image, err := a.engine().Photo(c.Request().Context(), c.Param("code"), id)
	if err != nil {
		return err
	}
	return c.Blob(http.StatusOK, kind, image)
}

func (a *api) removePhoto(c *echo.Context, _ principal) error {
	id, err := numbered(c, "photo")
	if err != nil {
		return err
	}
	return done(c, a.engine().RemovePhoto(c.Request().Context(), c.Param("code"), id))
}

// maxVersion is above any version of a sheet.
const maxVersion = 1 << 30

func (a *api) sheet(c *echo.Context, _ principal) error {
	version, err := number(c, "version", 0, 0, maxVersion)
	if err != nil {
		return site.Flaws{{Field: "version", Detail: err.Error()}}
	}
	s, err := a.engine().Sheet(c.Request().Context(), c.Param("code"), version)
	format := paper.Format(c.QueryParamOr("format", "json"))
	if err != nil || format == "json" {
		return ok(c, http.StatusOK, s, err)
	}
	return printed(c, format, s, paper.Head{})
}

// printed sends a sheet as paper.
func printed(c *echo.Context, format paper.Format, s contract.Sheet, h paper.Head) error {
	if format.MediaType() == "" {
		return site.Flaws{{Field: "format", Detail: fmt.Sprintf("%q is unknown; it is json, html, pdf, markdown or csv", format)}}
	}
	h.Version, h.By, h.Reason, h.Changes, h.Since = s.Version, s.By, s.Reason, s.Changes, s.Since
	var b bytes.Buffer
	if err := paper.Print(&b, format, s.Sheet, h); err != nil {
		return err
	}
	c.Response().Header().Set("Content-Disposition", fmt.Sprintf("inline; filename=%q", s.Code+"."+format.Extension()))
	return c.Blob(http.StatusOK, format.MediaType(), b.Bytes())
}

func (a *api) sheets(c *echo.Context, _ principal) error {
	list, err := a.engine().Sheets(c.Request().Context(), c.Param("code"))
	return ok(c, http.StatusOK, list, err)
}

func (a *api) keepSheet(c *echo.Context, p principal) error {
	var in contract.SheetInput
	if err := decode(c, &in); err != nil {
		return err
	}
	out, err := a.engine().KeepSheet(c.Request().Context(), c.Param("code"), in, p.name)
	return ok(c, http.StatusCreated, out, err)
}

func (a *api) sheetLinks(c *echo.Context, _ principal) error {
	list, err := a.engine().SheetLinks(c.Request().Context(), c.Param("code"))
	return ok(c, http.StatusOK, list, err)
}

func (a *api) shareSheet(c *echo.Context, p principal) error {
	var in contract.SheetLinkInput
	if err := decode(c, &in); err != nil {
		return err
	}
	out, err := a.engine().ShareSheet(c.Request().Context(), c.Param("code"), in, p.name)
	return ok(c, http.StatusCreated, out, err)
}

func (a *api) unshareSheet(c *echo.Context, _ principal) error {
	id, err := numbered(c, "link to the sheet")
	if err != nil {
		return err
	}
	return done(c, a.engine().UnshareSheet(c.Request().Context(), c.Param("code"), id))
}

func (a *api) customerSheet(c *echo.Context, _ principal) error {
	format := paper.Format(c.QueryParamOr("format", string(paper.HTML)))
	if format != paper.HTML && format != paper.PDF {
		return site.Flaws{{Field: "format", Detail: fmt.Sprintf("%q is unknown; it is html or pdf", format)}}
	}
	s, good, lines, err := a.engine().CustomerSheet(c.Request().Context(), c.Param("secret"))
	if err != nil {
		return err
	}
	c.Response().Header().Set("Cache-Control", "no-store")
	c.Response().Header().Set("Referrer-Policy", "no-referrer") // its URL is a secret
	return printed(c, format, s, paper.Head{Banner: lines, Good: good})
}
