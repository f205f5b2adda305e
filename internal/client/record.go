package client

import (
	"context"
	"encoding/json"
	"fmt"
	"net/netip"
	"strconv"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
)

// Fields is a part of a document to edit: only what is in it changes.
type Fields map[string]any

// Overview answers "what needs me now?".
func (c *Client) Overview(ctx context.Context) (contract.Overview, error) {
	return call[contract.Overview](ctx, c, "GET", "/overview", nil)
}

// Sites lists all sites, those in need first.
func (c *Client) Sites(ctx context.Context) ([]contract.SiteSummary, error) {
	return call[[]contract.SiteSummary](ctx, c, "GET", "/sites", nil)
}

// SitesLike lists the sites that a query asks for, and says how many those are in all.
func (c *Client) SitesLike(ctx context.Context, q contract.SiteQuery) (list []contract.SiteSummary, total int, err error) {
	return partOf[contract.SiteSummary](ctx, c, "/sites"+query("search", q.Search, "tag", q.Tag, "need", string(q.Need), "sort", q.Sort,
		"limit", count(q.Limit), "offset", count(q.Offset)))
}

// partOf reads a part of a list, and how many there are in all.
func partOf[T any](ctx context.Context, c *Client, path string) (list []T, total int, err error) {
	r, err := c.send(ctx, c.http, "GET", path, nil, nil)
	if err != nil {
		return nil, 0, err
	}
	defer r.Body.Close()
	if err := json.NewDecoder(r.Body).Decode(&list); err != nil {
		return nil, 0, fmt.Errorf("the list cannot be read: %w", err)
	}
	total, err = strconv.Atoi(r.Header.Get(contract.TotalHeader))
	return list, total, err
}

// count writes a number of a query; "" for 0.
func count(n int) string {
	if n == 0 {
		return ""
	}
	return strconv.Itoa(n)
}

// Site shows a site.
func (c *Client) Site(ctx context.Context, code string) (contract.Site, error) {
	return call[contract.Site](ctx, c, "GET", at("sites", code), nil)
}

// AddSite adds a site.
func (c *Client) AddSite(ctx context.Context, in contract.SiteInput) (contract.Site, error) {
	return call[contract.Site](ctx, c, "POST", "/sites", in)
}

// EditSite edits a site.
func (c *Client) EditSite(ctx context.Context, code string, f Fields) (contract.Site, error) {
	return call[contract.Site](ctx, c, "PATCH", at("sites", code), f)
}

// RemoveSite removes a site with everything on its record.
func (c *Client) RemoveSite(ctx context.Context, code string) error {
	return c.remove(ctx, "sites", code)
}

func (c *Client) remove(ctx context.Context, elements ...string) error {
	_, err := call[nothing](ctx, c, "DELETE", at(elements...), nil)
	return err
}

// Links lists a site's links.
func (c *Client) Links(ctx context.Context, code string) ([]contract.Link, error) {
	return call[[]contract.Link](ctx, c, "GET", at("sites", code, "links"), nil)
}

// Link shows a link.
func (c *Client) Link(ctx context.Context, code, label string) (contract.Link, error) {
	return call[contract.Link](ctx, c, "GET", at("sites", code, "links", label), nil)
}

// AddLink adds a link.
func (c *Client) AddLink(ctx context.Context, code string, in contract.LinkInput) (contract.Link, error) {
	return call[contract.Link](ctx, c, "POST", at("sites", code, "links"), in)
}

// EditLink edits a link.
func (c *Client) EditLink(ctx context.Context, code, label string, f Fields) (contract.Link, error) {
	return call[contract.Link](ctx, c, "PATCH", at("sites", code, "links", label), f)
}

// RemoveLink removes a link.
func (c *Client) RemoveLink(ctx context.Context, code, label string) error {
	return c.remove(ctx, "sites", code, "links", label)
}

// Invite makes a one-time code for an agent.
func (c *Client) Invite(ctx context.Context, code, label string, mayAnnounce ...netip.Prefix) (contract.Invitation, error) {
	return call[contract.Invitation](ctx, c, "POST", at("sites", code, "links", label, "invitations"),
		contract.InvitationInput{MayAnnounce: mayAnnounce})
}

// Devices lists a site's devices.
func (c *Client) Devices(ctx context.Context, code string) ([]site.Device, error) {
	return call[[]site.Device](ctx, c, "GET", at("sites", code, "devices"), nil)
}

// Device shows a device.
func (c *Client) Device(ctx context.Context, code, name string) (site.Device, error) {
	return call[site.Device](ctx, c, "GET", at("sites", code, "devices", name), nil)
}

// AddDevice adds a device.
func (c *Client) AddDevice(ctx context.Context, code string, in contract.DeviceInput) (site.Device, error) {
	return call[site.Device](ctx, c, "POST", at("sites", code, "devices"), in)
}

// EditDevice edits a device.
func (c *Client) EditDevice(ctx context.Context, code, name string, f Fields) (site.Device, error) {
	return call[site.Device](ctx, c, "PATCH", at("sites", code, "devices", name), f)
}

// RemoveDevice removes a device.
func (c *Client) RemoveDevice(ctx context.Context, code, name string) error {
	return c.remove(ctx, "sites", code, "devices", name)
}

// Services lists a site's services.
func (c *Client) Services(ctx context.Context, code string) ([]contract.Service, error) {
	return call[[]contract.Service](ctx, c, "GET", at("sites", code, "services"), nil)
}

// Service shows a service.
func (c *Client) Service(ctx context.Context, code, name string) (contract.Service, error) {
	return call[contract.Service](ctx, c, "GET", at("sites", code, "services", name), nil)
}

// AddService adds a service.
func (c *Client) AddService(ctx context.Context, code string, in contract.ServiceInput) (contract.Service, error) {
	return call[contract.Service](ctx, c, "POST", at("sites", code, "services"), in)
}

// EditService edits a service.
func (c *Client) EditService(ctx context.Context, code, name string, f Fields) (contract.Service, error) {
	return call[contract.Service](ctx, c, "PATCH", at("sites", code, "services", name), f)
}

// RemoveService removes a service.
func (c *Client) RemoveService(ctx context.Context, code, name string) error {
	return c.remove(ctx, "sites", code, "services", name)
}

// History returns a service's spans; zero times take the server's defaults.
func (c *Client) History(ctx context.Context, code, name string, from, until time.Time) (contract.History, error) {
	return call[contract.History](ctx, c, "GET", at("sites", code, "services", name, "history")+
		query("from", instant(from), "until", instant(until)), nil)
}

// ProbeNow probes a service now.
func (c *Client) ProbeNow(ctx context.Context, code, name string) (contract.ProbeTrace, error) {
	return c.ProbeFrom(ctx, code, name, "")
}

// Zones lists the zones.
func (c *Client) Zones(ctx context.Context) ([]names.Zone, error) {
	return call[[]names.Zone](ctx, c, "GET", "/zones", nil)
}

// Zone shows a zone.
func (c *Client) Zone(ctx context.Context, apex string) (names.Zone, error) {
	return call[names.Zone](ctx, c, "GET", at("zones", apex), nil)
}

// AddZone adds a zone.
func (c *Client) AddZone(ctx context.Context, in contract.ZoneInput) (names.Zone, error) {
	return call[names.Zone](ctx, c, "POST", "/zones", in)
}

// EditZone edits a zone.
func (c *Client) EditZone(ctx context.Context, apex string, f Fields) (names.Zone, error) {
	return call[names.Zone](ctx, c, "PATCH", at("zones", apex), f)
}

// RemoveZone removes a zone.
func (c *Client) RemoveZone(ctx context.Context, apex string) error {
	return c.remove(ctx, "zones", apex)
}

// Hostnames lists the hostnames of a site, or all where code is empty.
func (c *Client) Hostnames(ctx context.Context, code string) ([]contract.Hostname, error) {
	return call[[]contract.Hostname](ctx, c, "GET", "/hostnames"+query("site", code), nil)
}

// HostnamesLike lists the hostnames that a query asks for, and says how many those are in all.
func (c *Client) HostnamesLike(ctx context.Context, q contract.HostnameQuery) (list []contract.Hostname, total int, err error) {
	return partOf[contract.Hostname](ctx, c, "/hostnames"+query("site", q.Site, "zone", q.Zone, "search", q.Search, "limit", count(q.Limit),
		"offset", count(q.Offset)))
}

// Hostname shows a hostname.
func (c *Client) Hostname(ctx context.Context, name string) (contract.Hostname, error) {
	return call[contract.Hostname](ctx, c, "GET", at("hostnames", name), nil)
}

// AddHostname adds a hostname.
func (c *Client) AddHostname(ctx context.Context, in contract.HostnameInput) (contract.Hostname, error) {
	return call[contract.Hostname](ctx, c, "POST", "/hostnames", in)
}

// EditHostname edits a hostname.
func (c *Client) EditHostname(ctx context.Context, name string, f Fields) (contract.Hostname, error) {
	return call[contract.Hostname](ctx, c, "PATCH", at("hostnames", name), f)
}

// RemoveHostname removes a hostname.
func (c *Client) RemoveHostname(ctx context.Context, name string) error {
	return c.remove(ctx, "hostnames", name)
}

// Moves lists moves, the newest first. Zero fields do not narrow.
func (c *Client) Moves(ctx context.Context, q contract.MoveQuery) ([]contract.Move, error) {
	number := func(n int64) string {
		if n == 0 {
			return ""
		}
		return fmt.Sprint(n)
	}
	unfinished := ""
	if q.Unfinished {
		unfinished = "true"
	}
	return call[[]contract.Move](ctx, c, "GET", "/moves"+query("site", q.Site, "link", q.Link, "source", q.Source, "address", q.Address,
		"since", instant(q.Since), "until", instant(q.Until), "unfinished", unfinished, "before", number(q.Before), "limit",
		number(int64(q.Limit))), nil)
}

func instant(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.Format(time.RFC3339)
}

// Faults lists faults, open ones first.
func (c *Client) Faults(ctx context.Context, code string, openOnly bool) ([]contract.Fault, error) {
	return c.FaultsOf(ctx, code, "", openOnly)
}

// FaultsOf lists faults of a site and with a cause, of any where it is empty.
func (c *Client) FaultsOf(ctx context.Context, code string, cause causes.Slug, openOnly bool) ([]contract.Fault, error) {
	open := ""
	if openOnly {
		open = "true"
	}
	return call[[]contract.Fault](ctx, c, "GET", "/faults"+query("site", code, "cause", string(cause), "open", open), nil)
}
