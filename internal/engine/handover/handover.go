// Package handover keeps what is handed over with a site, and what the next visit needs: contacts, dated notes, photos, the versions of the
// sheet, and the links by which customers read it. It owns nothing: all of it is in the database, and read when it is asked for.
//
// It holds no lock; none may be held when it is called.
//
// Errors of all methods: store.Missing for what is not on record, site.Flaws for what is not allowed, that of the database.
package handover

import (
	"context"
	"fmt"
	"strings"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/events"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/rooms"
	"inkpost.example/inkpost/internal/engine/views"
	"inkpost.example/inkpost/internal/store"
)

// Handover keeps what is handed over with a site.
type Handover struct {
	*rooms.Rooms
	*views.Views
}

func (h *Handover) edited(p record.Site, words string) {
	h.Rooms.Events.Publish(events.RecordEdited, p.Code, "", words)
}

// Contacts lists the contacts of a site.
func (h *Handover) Contacts(ctx context.Context, code string) ([]site.Contact, error) {
	p, err := h.FindSite(code)
	if err != nil {
		return nil, err
	}
	return h.Rooms.Store.Contacts(ctx, p.ID)
}

func (h *Handover) contact(ctx context.Context, p record.Site, id int64) (site.Contact, error) {
	list, err := h.Rooms.Store.Contacts(ctx, p.ID)
	if err != nil {
		return site.Contact{}, err
	}
	for _, c := range list {
		if c.ID == id {
			return c, nil
		}
	}
	return site.Contact{}, store.Missing{Kind: "contact of " + p.Code, Name: fmt.Sprint(id)}
}

// AddContact records a contact of a site.
func (h *Handover) AddContact(ctx context.Context, code string, in contract.ContactInput) (site.Contact, error) {
	p, err := h.FindSite(code)
	if err != nil {
		return site.Contact{}, err
	}
	c, err := site.Contact{SiteID: p.ID, Role: in.Role, Name: in.Name, Phone: in.Phone, Mail: in.Mail, Note: in.Note}.Checked()
	if err != nil {
		return c, err
	}
	if c.ID, err = h.Rooms.Store.AddContact(ctx, c); err != nil {
		return c, err
	}
	h.edited(p, "contact "+c.Name+" added")
	return h.contact(ctx, p, c.ID)
}

// EditContact changes a contact of a site. What two change at once is merged: the second is decided on what the first wrote.
func (h *Handover) EditContact(ctx context.Context, code string, id int64, merge func(*contract.ContactInput) error) (site.Contact, error) {
	p, err := h.FindSite(code)
	if err != nil {
		return site.Contact{}, err
	}
	for {
		c, err := h.contact(ctx, p, id)
		if err != nil {
			return c, err
		}
		in := contract.ContactInput{Role: c.Role, Name: c.Name, Phone: c.Phone, Mail: c.Mail, Note: c.Note}
		if err := merge(&in); err != nil {
			return c, err
		}
		next, err := site.Contact{ID: c.ID, SiteID: p.ID, Role: in.Role, Name: in.Name, Phone: in.Phone, Mail: in.Mail, Note: in.Note,
			Revision: c.Revision}.Checked()
		if err != nil {
			return c, err
		}
		err = h.Rooms.Store.EditContact(ctx, next)
		if _, another := err.(store.Missing); another {
			continue // somebody was faster, or has removed it
		}
		if err != nil {
			return c, err
		}
		h.edited(p, "contact "+next.Name+" edited")
		return h.contact(ctx, p, id)
	}
}

// RemoveContact removes a contact of a site.
func (h *Handover) RemoveContact(ctx context.Context, code string, id int64) error {
	p, err := h.FindSite(code)
	if err == nil {
		err = h.Rooms.Store.RemoveContact(ctx, p.ID, id)
	}
	if err == nil {
		h.edited(p, "a contact was removed")
	}
	return err
}

// maxNotes is how many notes of a site are listed.
const maxNotes = 200

// SiteNotes lists the dated notes of a site, the newest first.
func (h *Handover) SiteNotes(ctx context.Context, code string) ([]contract.SiteNote, error) {
	p, err := h.FindSite(code)
	if err != nil {
		return nil, err
	}
	list, err := h.Rooms.Store.SiteNotes(ctx, p.ID, maxNotes)
	out := make([]contract.SiteNote, len(list))
	for i, n := range list {
		out[i] = contract.SiteNote(n)
	}
	return out, err
}

// AddSiteNote writes down a note of a site.
func (h *Handover) AddSiteNote(ctx context.Context, code string, in contract.SiteNoteInput, by string) (contract.SiteNote, error) {
	p, err := h.FindSite(code)
	if err != nil {
		return contract.SiteNote{}, err
	}
	words, err := site.CheckNote(in.Words)
	if err != nil {
		return contract.SiteNote{}, err
	}
	n := store.SiteNote{At: h.Now(), By: by, Words: words}
	n.ID, err = h.Rooms.Store.AddSiteNote(ctx, p.ID, n)
	if err == nil {
		h.edited(p, by+" wrote a note")
	}
	return contract.SiteNote(n), err
}

// RemoveSiteNote removes a note of a site.
func (h *Handover) RemoveSiteNote(ctx context.Context, code string, id int64) error {
	p, err := h.FindSite(code)
	if err == nil {
		err = h.Rooms.Store.RemoveSiteNote(ctx, p.ID, id)
	}
	return err
}

// Photos lists the pictures of a site, the newest first.
func (h *Handover) Photos(ctx context.Context, code string) ([]contract.Photo, error) {
	p, err := h.FindSite(code)
	if err != nil {
		return nil, err
	}
	list, err := h.Rooms.Store.Photos(ctx, p.ID)
	out := make([]contract.Photo, len(list))
	for i, one := range list {
		out[i] = photoView(one)
	}
	return out, err
}

func photoView(p store.Photo) contract.Photo {
	return contract.Photo{ID: p.ID, At: p.At, By: p.By, Caption: p.Caption, Kind: p.Kind, Width: p.Width, Height: p.Height, Bytes: p.Bytes}
}

// Photo returns a picture of a site with its media type.
func (h *Handover) Photo(ctx context.Context, code string, id int64) (kind string, image []byte, err error) {
	p, err := h.FindSite(code)
	if err != nil {
		return "", nil, err
	}
	one, err := h.Rooms.Store.Photo(ctx, p.ID, id)
	return one.Kind, one.Image, err
}

// maxCaption is how many characters a caption may have.
const maxCaption = 200

// AddPhoto keeps a picture of a site, drawn anew: nothing of the file but what is seen is kept.
func (h *Handover) AddPhoto(ctx context.Context, code, caption string, file []byte, by string) (contract.Photo, error) {
	p, err := h.FindSite(code)
	if err != nil {
		return contract.Photo{}, err
	}
	if caption = strings.Join(strings.Fields(caption), " "); len([]rune(caption)) > maxCaption {
		return contract.Photo{}, site.Flaws{{Field: "caption", Detail: fmt.Sprintf("has more than %d characters", maxCaption)}}
	}
	one, err := redrawn(file)
	if err != nil {
		return contract.Photo{}, err
	}
	one.At, one.By, one.Caption, one.Bytes = h.Now(), by, caption, len(one.Image)
	if one.ID, err = h.Rooms.Store.AddPhoto(ctx, p.ID, one); err != nil {
		return contract.Photo{}, err
	}
	h.edited(p, by+" added a photo")
	return photoView(one), nil
}

// RemovePhoto removes a picture of a site.
func (h *Handover) RemovePhoto(ctx context.Context, code string, id int64) error {
	p, err := h.FindSite(code)
	if err == nil {
		err = h.Rooms.Store.RemovePhoto(ctx, p.ID, id)
	}
	return err
}
