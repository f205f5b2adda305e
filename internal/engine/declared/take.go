package declared

import (
	"context"
	"fmt"
	"slices"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/declare"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/changes"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/siteedits"
	"inkpost.example/inkpost/internal/engine/zoneedits"
	"inkpost.example/inkpost/internal/store"
)

func (d *draft) takeSite(ctx context.Context, i declare.Item) error {
	p, there := d.sites[declare.Site.Same(i.Name)]
	if !there {
		if _, err := d.e.FindSite(i.Name); err == nil && limited(ctx) {
			return store.Taken{Kind: "site", Field: "code", Name: i.Name}
		}
		in, err := merged(contract.SiteInput{}, i)
		if err != nil {
			return err
		}
		s, err := siteedits.ReadSite(ctx, site.Site{}, in)
		if err != nil {
			return err
		}
		s.ID = d.next()
		p = &record.Site{Site: s}
		d.sites[s.Code] = p
		return d.step(i, p, changes.Resource{}, nil, siteedits.SiteInputOf(s), func(ctx context.Context, w *writing) error {
			added, err := w.tx.AddSite(ctx, s)
			w.ids[s.ID] = added.ID
			return err
		})
	}
	before := siteedits.SiteInputOf(p.Site)
	in, err := merged(before, i)
	if err != nil {
		return err
	}
	s, err := siteedits.ReadSite(ctx, p.Site, in)
	if err != nil {
		return err
	}
	of := siteedits.SiteResource(p.Site)
	p.Site = s
	return d.step(i, p, of, before, siteedits.SiteInputOf(s), func(ctx context.Context, w *writing) error { return w.tx.EditSite(ctx, s) })
}

func (d *draft) takeLink(p *record.Site, i declare.Item) error {
	was, missing := p.LinkNamed(declare.Link.Same(i.Name))
	before := contract.LinkInput{Position: len(p.Links) + 1}
	if missing == nil {
		before = siteedits.LinkInputOf(was)
	} else {
		was = site.Link{SiteID: p.ID}
	}
	in, err := merged(before, i)
	if err != nil {
		return err
	}
	l, err := d.e.Sites.ReadLink(was, in)
	if err != nil {
		return err
	}
	p.Links = slices.Clone(p.Links)
	at := *p
	if missing != nil {
		l.ID = d.next()
		p.Links = append(p.Links, &l)
		return d.step(i, p, changes.Resource{}, nil, siteedits.LinkInputOf(l), func(ctx context.Context, w *writing) error {
			added := l
			added.SiteID = w.id(p.ID)
			id, err := w.tx.AddLink(ctx, added)
			if err != nil {
				return err
			}
			w.ids[l.ID], added.ID = id, id
			return d.e.Sites.NoteStatic(record.Site{}, site.Link{ID: id, SiteID: added.SiteID}, added, w.moves)
		})
	}
	p.Links[slices.IndexFunc(p.Links, func(o *site.Link) bool { return o.ID == l.ID })] = &l
	return d.step(i, p, siteedits.LinkResource(was), before, siteedits.LinkInputOf(l), func(ctx context.Context, w *writing) error {
		w.zones = append(w.zones, at.ZoneIDs()...)
		if err := w.tx.EditLink(ctx, l); err != nil {
			return err
		}
		return d.e.Sites.NoteStatic(at, was, l, w.moves)
	})
}

func (d *draft) takeDevice(p *record.Site, i declare.Item) error {
	was, missing := p.DeviceNamed(declare.Device.Same(i.Name))
	if missing != nil {
		was = site.Device{SiteID: p.ID}
	}
	before := siteedits.DeviceInputOf(was)
	in, err := merged(before, i)
	if err != nil {
		return err
	}
	v, err := d.e.Sites.ReadDevice(was, in)
	if err != nil {
		return err
	}
	p.Devices = slices.Clone(p.Devices)
	if missing != nil {
		v.ID = d.next()
		p.Devices = append(p.Devices, v)
		return d.step(i, p, changes.Resource{}, nil, siteedits.DeviceInputOf(v), func(ctx context.Context, w *writing) (err error) {
			added := v
			added.SiteID = w.id(p.ID)
			w.ids[v.ID], err = w.tx.AddDevice(ctx, added)
			return err
		})
	}
	p.Devices[slices.IndexFunc(p.Devices, func(o site.Device) bool { return o.ID == v.ID })] = v
	return d.step(i, p, siteedits.DeviceResource(was), before, siteedits.DeviceInputOf(v),
		func(ctx context.Context, w *writing) error { return w.tx.EditDevice(ctx, v) })
}

func (d *draft) takeService(p *record.Site, i declare.Item) error {
	at := slices.IndexFunc(p.Services, func(s site.Service) bool { return s.Name == declare.Service.Same(i.Name) })
	was, before := site.Service{SiteID: p.ID}, contract.ServiceInput{}
	if at >= 0 {
		was = p.Services[at]
		before = siteedits.ServiceInputOf(was)
	}
	in, err := merged(before, i)
	if err != nil {
		return err
	}
	s, err := d.e.Sites.ReadService(*p, was, in)
	if err == nil {
		err = site.Conflicts(s, p.Services)
	}
	if err != nil {
		return err
	}
	p.Services = slices.Clone(p.Services)
	write := func(ctx context.Context, w *writing) (err error) {
		put := s
		put.SiteID, put.DeviceID, put.LinkID = w.id(p.ID), w.id(s.DeviceID), w.id(s.LinkID)
		if s.ID > 0 {
			_, err = w.tx.PutService(ctx, put)
			return err
		}
		w.ids[s.ID], err = w.tx.AddService(ctx, put)
		return err
	}
	if at < 0 {
		s.ID = d.next()
		p.Services = append(p.Services, s)
		return d.step(i, p, changes.Resource{}, nil, siteedits.ServiceInputOf(s), write)
	}
	p.Services[at] = s
	return d.step(i, p, siteedits.ServiceResource(was), before, siteedits.ServiceInputOf(s), write)
}

func (d *draft) takeHostname(ctx context.Context, p *record.Site, i declare.Item) error {
	at := slices.IndexFunc(p.Hostnames, func(h site.Hostname) bool { return string(h.Name) == declare.Hostname.Same(i.Name) })
	before := contract.HostnameInput{Name: i.Name, Site: p.Code}
	if at >= 0 {
		before = zoneedits.HostnameInputOf(p.Hostnames[at])
	}
	in, err := merged(before, i)
	if err != nil {
		return err
	}
	var was, h site.Hostname
	if at >= 0 {
		was = p.Hostnames[at]
		given := was
		given.TTL = in.TTL
		h, err = d.e.Zones.ReadHostname(*p, nil, given, in, nil)
	} else {
		h, err = d.e.Zones.NewHostname(*p, nil, in)
		if elsewhere, of, ok := d.e.Record.HostnameAt(h.Name); err == nil && ok && of.Name == h.Name && d.sites[elsewhere.Code] != nil &&
			slices.ContainsFunc(d.sites[elsewhere.Code].Hostnames, func(o site.Hostname) bool { return o.Name == h.Name }) {
			return site.Flaws{{Field: "name", Detail: fmt.Sprintf("belongs to site %s already, and stays with it; remove it there first",
				elsewhere.Code)}}
		} else if err == nil && ok && of.Name == h.Name && limited(ctx) {
			return store.Taken{Kind: "hostname", Field: "name", Name: string(h.Name)}
		}
	}
	if err != nil {
		return err
	}
	for _, owner := range h.Owners() {
		if other, taken := d.owners[owner]; taken {
			return site.Flaws{{Field: "extras", Detail: fmt.Sprintf("%s is a name of %s already", owner, other)}}
		}
		d.owners[owner] = string(h.Name)
	}
	h.Site, h.Zone = p.Code, was.Zone
	shown := func(h site.Hostname) contract.HostnameInput {
		out := zoneedits.HostnameInputOf(h)
		out.Link, out.Device = in.Link, in.Device
		return out
	}
	write := func(ctx context.Context, w *writing) error {
		put := h
		put.SiteID, put.LinkID, put.DeviceID, put.ID = w.id(p.ID), w.id(h.LinkID), w.id(h.DeviceID), max(h.ID, 0)
		_, _, err := w.tx.PutHostname(ctx, put)
		return err
	}
	p.Hostnames = slices.Clone(p.Hostnames)
	if at < 0 {
		h.ID = d.next()
		p.Hostnames = append(p.Hostnames, h)
		return d.step(i, p, changes.Resource{}, nil, shown(h), write)
	}
	p.Hostnames[at] = h
	return d.step(i, p, zoneedits.HostnameResource(was), before, shown(h), write)
}

func (d *draft) takeContact(p *record.Site, i declare.Item) error {
	list := d.contacts[p.ID]
	at := slices.IndexFunc(list, func(c site.Contact) bool { return c.Name == declare.Contact.Same(i.Name) })
	before := contract.ContactInput{}
	was := site.Contact{SiteID: p.ID}
	if at >= 0 {
		was = list[at]
		before = contactInputOf(was)
	}
	in, err := merged(before, i)
	if err != nil {
		return err
	}
	c, err := site.Contact{ID: was.ID, SiteID: p.ID, Role: in.Role, Name: in.Name, Phone: in.Phone, Mail: in.Mail, Note: in.Note,
		Revision: was.Revision}.Checked()
	if err != nil {
		return err
	}
	if at >= 0 {
		return d.step(i, p, changes.Resource{}, before, contactInputOf(c),
			func(ctx context.Context, w *writing) error { return w.tx.EditContact(ctx, c) })
	}
	return d.step(i, p, changes.Resource{}, nil, contactInputOf(c), func(ctx context.Context, w *writing) error {
		added := c
		added.SiteID = w.id(p.ID)
		_, err := w.tx.AddContact(ctx, added)
		return err
	})
}

// remove takes out of the draft what a file says is not there. What goes with its site is not removed by itself.
func (d *draft) remove(id declare.Identity) {
	p, ok := d.sites[id.Site]
	if !ok {
		return
	}
	gone := func(write func(context.Context, *writing) error) {
		d.steps = append(d.steps, contract.DeclaredStep{Action: "remove", Kind: id.Kind, Site: id.Site, Name: id.Name})
		d.touched[p.ID] = true
		d.writes = append(d.writes, write)
	}
	by := d.e.Removal
	switch id.Kind {
	case declare.Site:
		gone(func(ctx context.Context, w *writing) error {
			_, err := w.tx.RemoveSite(ctx, p.Site, by(ctx))
			return err
		})
	case declare.Link:
		l, _ := p.LinkNamed(id.Name)
		if by := d.on(p, func(s site.Service) bool { return s.LinkID == l.ID }, func(h site.Hostname) bool {
			return h.LinkID == l.ID
		}); by != "" {
			d.kept(id, by)
			return
		}
		gone(func(ctx context.Context, w *writing) error {
			w.zones = append(w.zones, p.ZoneIDs()...)
			return w.tx.RemoveLink(ctx, l, by(ctx))
		})
	case declare.Device:
		v, _ := p.DeviceNamed(id.Name)
		if by := d.on(p, func(s site.Service) bool { return s.DeviceID == v.ID }, func(h site.Hostname) bool {
			return h.DeviceID == v.ID
		}); by != "" {
			d.kept(id, by)
			return
		}
		gone(func(ctx context.Context, w *writing) error { return w.tx.RemoveDevice(ctx, v, by(ctx)) })
	case declare.Service:
		at := slices.IndexFunc(p.Services, func(s site.Service) bool { return s.Name == id.Name })
		s := p.Services[at]
		p.Services = slices.Delete(slices.Clone(p.Services), at, at+1)
		gone(func(ctx context.Context, w *writing) error { return w.tx.RemoveService(ctx, s, by(ctx)) })
	case declare.Hostname:
		at := slices.IndexFunc(p.Hostnames, func(h site.Hostname) bool { return h.Name == names.Name(id.Name) })
		h := p.Hostnames[at]
		p.Hostnames = slices.Delete(slices.Clone(p.Hostnames), at, at+1)
		gone(func(ctx context.Context, w *writing) error {
			_, err := w.tx.RemoveHostname(ctx, h, by(ctx))
			return err
		})
	case declare.Contact:
		i := slices.IndexFunc(d.contacts[p.ID], func(c site.Contact) bool { return c.Name == id.Name })
		c := d.contacts[p.ID][i]
		gone(func(ctx context.Context, w *writing) error { return w.tx.RemoveContact(ctx, p.ID, c.ID) })
	}
}

// on names what of a site still needs something; "" where nothing does.
func (d *draft) on(p *record.Site, service func(site.Service) bool, hostname func(site.Hostname) bool) string {
	if i := slices.IndexFunc(p.Services, service); i >= 0 {
		return "service " + p.Services[i].Name
	}
	if i := slices.IndexFunc(p.Hostnames, hostname); i >= 0 {
		return "hostname " + string(p.Hostnames[i].Name)
	}
	return ""
}

// kept notes that something cannot be removed.
func (d *draft) kept(id declare.Identity, by string) {
	d.flaws = append(d.flaws, declare.LineFlaw{Line: 1, Kind: id.Kind, Site: id.Site, Name: id.Name,
		Detail: fmt.Sprintf("%s %s of %s is not listed, and %s needs it", id.Kind, id.Name, id.Site, by)})
}
