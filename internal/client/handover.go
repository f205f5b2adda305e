package client

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strconv"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/site"
)

func ofSite(code, kind string, id int64) string {
	return at("sites", code, kind, strconv.FormatInt(id, 10))
}

// Contacts lists the contacts of a site.
func (c *Client) Contacts(ctx context.Context, code string) ([]site.Contact, error) {
	return call[[]site.Contact](ctx, c, "GET", at("sites", code, "contacts"), nil)
}

// AddContact adds a contact of a site.
func (c *Client) AddContact(ctx context.Context, code string, in contract.ContactInput) (site.Contact, error) {
	return call[site.Contact](ctx, c, "POST", at("sites", code, "contacts"), in)
}

// EditContact changes fields of a contact.
func (c *Client) EditContact(ctx context.Context, code string, id int64, f Fields) (site.Contact, error) {
	return call[site.Contact](ctx, c, "PATCH", ofSite(code, "contacts", id), f)
}

// RemoveContact removes a contact.
func (c *Client) RemoveContact(ctx context.Context, code string, id int64) error {
	return c.remove(ctx, "sites", code, "contacts", strconv.FormatInt(id, 10))
}

// SiteNotes lists the dated notes of a site, the newest first.
func (c *Client) SiteNotes(ctx context.Context, code string) ([]contract.SiteNote, error) {
	return call[[]contract.SiteNote](ctx, c, "GET", at("sites", code, "notes"), nil)
}

// AddSiteNote writes down a note of a site.
func (c *Client) AddSiteNote(ctx context.Context, code, words string) (contract.SiteNote, error) {
	return call[contract.SiteNote](ctx, c, "POST", at("sites", code, "notes"), contract.SiteNoteInput{Words: words})
}

// RemoveSiteNote removes a note.
func (c *Client) RemoveSiteNote(ctx context.Context, code string, id int64) error {
	return c.remove(ctx, "sites", code, "notes", strconv.FormatInt(id, 10))
}

// Photos lists the photos of a site, the newest first.
func (c *Client) Photos(ctx context.Context, code string) ([]contract.Photo, error) {
	return call[[]contract.Photo](ctx, c, "GET", at("sites", code, "photos"), nil)
}

// AddPhoto keeps a photo of a site: a JPEG or PNG file.
func (c *Client) AddPhoto(ctx context.Context, code, caption string, file io.Reader) (out contract.Photo, err error) {
	header := map[string][]string{"Content-Type": {"application/octet-stream"}}
	r, err := c.send(ctx, c.http, http.MethodPost, at("sites", code, "photos")+query("caption", caption), file, header)
	if err != nil {
		return out, err
	}
	defer r.Body.Close()
	if err := json.NewDecoder(r.Body).Decode(&out); err != nil {
		return out, fmt.Errorf("the server's reply cannot be read: %w", err)
	}
	return out, nil
}

// Photo writes a photo of a site to w.
func (c *Client) Photo(ctx context.Context, code string, id int64, w io.Writer) error {
	return c.copy(ctx, ofSite(code, "photos", id), w)
}

// RemovePhoto removes a photo.
func (c *Client) RemovePhoto(ctx context.Context, code string, id int64) error {
	return c.remove(ctx, "sites", code, "photos", strconv.FormatInt(id, 10))
}

// Sheet returns the sheet of a site: a version that was kept, or, where version is 0, as it is now.
func (c *Client) Sheet(ctx context.Context, code string, version int) (contract.Sheet, error) {
	return call[contract.Sheet](ctx, c, "GET", at("sites", code, "sheet")+query("version", strconv.Itoa(version)), nil)
}

// PrintSheet writes the sheet of a site to w: as html, pdf, markdown or csv.
func (c *Client) PrintSheet(ctx context.Context, code string, version int, format string, w io.Writer) error {
	return c.copy(ctx, at("sites", code, "sheet")+query("version", strconv.Itoa(version), "format", format), w)
}

// Sheets lists the versions of a site's sheet, the newest first.
func (c *Client) Sheets(ctx context.Context, code string) ([]contract.SheetVersion, error) {
	return call[[]contract.SheetVersion](ctx, c, "GET", at("sites", code, "sheets"), nil)
}

// KeepSheet keeps the sheet of a site as it is now, as a version.
func (c *Client) KeepSheet(ctx context.Context, code, reason string) (contract.Sheet, error) {
	return call[contract.Sheet](ctx, c, "POST", at("sites", code, "sheets"), contract.SheetInput{Reason: reason})
}

// SheetLinks lists the URLs by which customers read the sheet of a site.
func (c *Client) SheetLinks(ctx context.Context, code string) ([]contract.SheetLink, error) {
	return call[[]contract.SheetLink](ctx, c, "GET", at("sites", code, "sheet-links"), nil)
}

// ShareSheet makes a URL by which a customer reads the sheet of a site.
func (c *Client) ShareSheet(ctx context.Context, code string, in contract.SheetLinkInput) (contract.SheetLink, error) {
	return call[contract.SheetLink](ctx, c, "POST", at("sites", code, "sheet-links"), in)
}

// UnshareSheet revokes such a URL.
func (c *Client) UnshareSheet(ctx context.Context, code string, id int64) error {
	return c.remove(ctx, "sites", code, "sheet-links", strconv.FormatInt(id, 10))
}

// copy writes a reply that is no document to w.
func (c *Client) copy(ctx context.Context, path string, w io.Writer) error {
	r, err := c.send(ctx, c.http, http.MethodGet, path, nil, nil)
	if err != nil {
		return err
	}
	defer r.Body.Close()
	_, err = io.Copy(w, r.Body)
	return err
}
