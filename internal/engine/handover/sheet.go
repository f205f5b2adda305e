package handover

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"inkpost.example/inkpost/internal/access"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/sheet"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/store"
)

// Sheet returns the sheet of a site as it is now, or a version that was kept, with what changed since the version before.
func (h *Handover) Sheet(ctx context.Context, code string, version int) (contract.Sheet, error) {
	p, err := h.FindSite(code)
	if err != nil {
		return contract.Sheet{}, err
	}
	if version > 0 {
		return h.kept(ctx, p, version)
	}
	out := contract.Sheet{Changes: []string{}}
	if out.Sheet, err = h.sheetNow(ctx, p); err != nil {
		return out, err
	}
	return h.compared(ctx, p, out, 0)
}

// kept reads a version of a sheet.
func (h *Handover) kept(ctx context.Context, p record.Site, version int) (contract.Sheet, error) {
	v, err := h.Rooms.Store.Sheet(ctx, p.ID, version)
	if err != nil {
		return contract.Sheet{}, err
	}
	out := contract.Sheet{Version: v.Version, By: v.By, Reason: v.Reason, Changes: []string{}}
	if err := json.Unmarshal(v.Doc, &out.Sheet); err != nil {
		return out, fmt.Errorf("read version %d of the sheet of %s: %w", v.Version, p.Code, err)
	}
	return h.compared(ctx, p, out, v.Version-1)
}

// compared adds what changed since a version, or since the newest where that is 0.
func (h *Handover) compared(ctx context.Context, p record.Site, s contract.Sheet, since int) (contract.Sheet, error) {
	if s.Version == 1 {
		return s, nil
	}
	v, err := h.Rooms.Store.Sheet(ctx, p.ID, since)
	if _, none := err.(store.Missing); none {
		return s, nil
	}
	var before sheet.Sheet
	if err == nil {
		err = json.Unmarshal(v.Doc, &before)
	}
	if err == nil {
		s.Changes, s.Since = sheet.Changes(before, s.Sheet), v.At
	}
	return s, err
}

// sheetNow gathers the sheet of a site.
func (h *Handover) sheetNow(ctx context.Context, p record.Site) (sheet.Sheet, error) {
	out := sheet.Sheet{Code: p.Code, Name: p.Name, Note: p.Note, Router: p.Router, At: h.Now()}
	if h.ConsoleURL != "" {
		out.URL = strings.TrimSuffix(h.ConsoleURL, "/") + "/sites/" + p.Code
	}
	for l := range p.EachLink() {
		report, _ := h.SiteSide.Report(l.ID)
		one := sheet.Link{Label: l.Label, Provider: l.Provider, Contract: l.Contract, Mode: string(l.Mode), Address: l.Addresses().String(),
			Front: report.NAT.Words, Updated: "nobody yet"}
		switch {
		case l.Mode == site.Static:
			one.Updated = "fixed"
		case l.Agent:
			one.Updated = "the agent at the site"
		case !l.Heard.IsZero():
			one.Updated = "the router"
		}
		out.Links = append(out.Links, one)
	}
	for _, n := range p.Hostnames {
		to := "the preferred link"
		if n.Link != "" {
			to = "link " + n.Link
		}
		out.Names = append(out.Names, sheet.Name{Name: string(n.Name), To: to})
	}
	for _, a := range p.Aliases {
		out.Names = append(out.Names, sheet.Name{Name: string(a.Name), To: string(a.Hostname)})
	}
	for _, d := range p.Devices {
		out.Devices = append(out.Devices, sheet.Device{Name: d.Name, MAC: d.MAC, Address: d.Address.String(), Reserved: d.Reserved,
			Router: d.Router})
	}
	for _, s := range p.Services {
		one, err := h.serviceOf(p, s)
		if err != nil {
			return out, err
		}
		out.Services = append(out.Services, one)
	}
	return h.written(ctx, p, out)
}

func (h *Handover) serviceOf(p record.Site, s site.Service) (sheet.Service, error) {
	now, err := h.Service(p.Code, s.Name)
	if err != nil {
		return sheet.Service{}, err
	}
	one := sheet.Service{Name: s.Name, Device: s.Device, Kind: string(s.Kind), Outside: fmt.Sprintf("%s %s", s.Transport, now.External),
		Inside: "port " + now.Internal, Expected: string(s.Expected), State: now.StateWords, Good: now.AsExpected, Awaited: !h.InUse(s),
		Fingerprint: s.Fingerprint}
	st := h.Prober.Status(s.ID)
	one.Proven = st.Proven
	if now.AsExpected {
		one.Proven = st.Probed
	}
	if s.Expected == probe.ExpectReachable {
		one.Cards, err = h.Cards(p.Code, s.Name)
	}
	return one, err
}

// maxSheetNotes is how many notes stand on a sheet.
const maxSheetNotes = 10

// written adds what people wrote down, and the commissioning.
func (h *Handover) written(ctx context.Context, p record.Site, out sheet.Sheet) (sheet.Sheet, error) {
	contacts, err := h.Rooms.Store.Contacts(ctx, p.ID)
	if err != nil {
		return out, err
	}
	for _, c := range contacts {
		out.Contacts = append(out.Contacts, sheet.Contact{Role: c.Role, Name: c.Name, Phone: c.Phone, Mail: c.Mail, Note: c.Note})
	}
	notes, err := h.Rooms.Store.SiteNotes(ctx, p.ID, maxSheetNotes)
	if err != nil {
		return out, err
	}
	for _, n := range notes {
		out.Notes = append(out.Notes, sheet.Note{At: n.At, By: n.By, Words: n.Words})
	}
	run, err := h.Commissioning(ctx, p.Code)
	if _, none := err.(store.Missing); none {
		return out, nil
	}
	for _, e := range run.Entries {
		if e.State.Over() {
			out.Steps = append(out.Steps, sheet.Step{Title: e.Title, Subject: e.Subject, State: string(e.State), Words: e.Words, By: e.By,
				At: e.At})
		}
	}
	return out, err
}

// Sheets lists the versions of a site's sheet that were kept, the newest first.
func (h *Handover) Sheets(ctx context.Context, code string) ([]contract.SheetVersion, error) {
	p, err := h.FindSite(code)
	if err != nil {
		return nil, err
	}
	list, err := h.Rooms.Store.Sheets(ctx, p.ID)
	out := make([]contract.SheetVersion, len(list))
	for i, v := range list {
		out[i] = contract.SheetVersion{Version: v.Version, At: v.At, By: v.By, Reason: v.Reason}
	}
	return out, err
}

// maxReason is how many characters a reason may have.
const maxReason = 200

// KeepSheet keeps the sheet of a site as it is now, as a version.
func (h *Handover) KeepSheet(ctx context.Context, code string, in contract.SheetInput, by string) (contract.Sheet, error) {
	p, err := h.FindSite(code)
	if err != nil {
		return contract.Sheet{}, err
	}
	if in.Reason = strings.TrimSpace(in.Reason); len([]rune(in.Reason)) > maxReason {
		return contract.Sheet{}, site.Flaws{{Field: "reason", Detail: fmt.Sprintf("has more than %d characters", maxReason)}}
	}
	now, err := h.sheetNow(ctx, p)
	if err != nil {
		return contract.Sheet{}, err
	}
	doc, err := json.Marshal(now)
	if err != nil {
		return contract.Sheet{}, err
	}
	version, err := h.Rooms.Store.KeepSheet(ctx, p.ID, store.SheetVersion{At: now.At, By: by, Reason: in.Reason, Doc: doc})
	if err != nil {
		return contract.Sheet{}, err
	}
	h.edited(p, fmt.Sprintf("%s kept version %d of the sheet", by, version))
	return h.kept(ctx, p, version)
}

const (
	usualDays = 30
	maxDays   = 400
)

// ShareSheet makes a URL by which a customer reads the sheet of a site, and nothing else.
func (h *Handover) ShareSheet(ctx context.Context, code string, in contract.SheetLinkInput, by string) (contract.SheetLink, error) {
	p, err := h.FindSite(code)
	if err != nil {
		return contract.SheetLink{}, err
	}
	var f site.Flaws
	if in.Whose = strings.TrimSpace(in.Whose); in.Whose == "" || len([]rune(in.Whose)) > maxReason {
		f.Note("whose", fmt.Errorf("say in 1 to %d characters who has it", maxReason))
	}
	if in.Days == 0 {
		in.Days = usualDays
	}
	if in.Days < 1 || in.Days > maxDays {
		f.Note("days", fmt.Errorf("%d is out of range; 1 to %d are allowed", in.Days, maxDays))
	}
	if err := f.Err(); err != nil {
		return contract.SheetLink{}, err
	}
	secret, kept := access.NewSecret()
	l := store.SheetLink{SiteID: p.ID, Whose: in.Whose, Created: h.Now(), By: by,
		Expires: h.Now().Add(time.Duration(in.Days) * 24 * time.Hour)}
	if l.ID, err = h.Rooms.Store.AddSheetLink(ctx, l, kept); err != nil {
		return contract.SheetLink{}, err
	}
	out := linkView(l)
	out.URL = "/handover/" + secret
	if h.ConsoleURL != "" {
		out.URL = strings.TrimSuffix(h.ConsoleURL, "/") + out.URL
	}
	h.edited(p, by+" shares the sheet with "+in.Whose)
	return out, nil
}

func linkView(l store.SheetLink) contract.SheetLink {
	return contract.SheetLink{ID: l.ID, Whose: l.Whose, Created: l.Created, By: l.By, Expires: l.Expires, Revoked: l.Revoked, Used: l.Used}
}

// SheetLinks lists the ways by which customers read the sheet of a site.
func (h *Handover) SheetLinks(ctx context.Context, code string) ([]contract.SheetLink, error) {
	p, err := h.FindSite(code)
	if err != nil {
		return nil, err
	}
	list, err := h.Rooms.Store.SheetLinks(ctx, p.ID)
	out := make([]contract.SheetLink, len(list))
	for i, l := range list {
		out[i] = linkView(l)
	}
	return out, err
}

// UnshareSheet ends a way to read the sheet of a site.
func (h *Handover) UnshareSheet(ctx context.Context, code string, id int64) error {
	p, err := h.FindSite(code)
	if err == nil {
		err = h.Rooms.Store.RevokeSheetLink(ctx, p.ID, id, h.Now())
	}
	return err
}

// CustomerSheet returns the sheet that a secret URL shows, without what was written down for colleagues, and in plain words how the site
// is.
func (h *Handover) CustomerSheet(ctx context.Context, secret string) (s contract.Sheet, good bool, lines []string, err error) {
	l, err := h.Rooms.Store.UseSheetLink(ctx, access.Hash(secret), h.Now())
	if err != nil {
		return s, false, nil, err
	}
	p, ok := h.Record.Site(l.SiteID)
	if !ok {
		return s, false, nil, store.Missing{Kind: "sheet", Name: "of this URL"}
	}
	now, err := h.sheetNow(ctx, p)
	if err != nil {
		return s, false, nil, err
	}
	good, lines = now.Plain()
	s, err = h.kept(ctx, p, 0)
	if _, none := err.(store.Missing); none { // nothing was handed over yet
		s, err = contract.Sheet{Sheet: now}, nil
	}
	s.Sheet, s.Changes = s.Sheet.ForCustomer(), []string{}
	return s, good, lines, err
}
