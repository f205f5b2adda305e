package zoneedits

import (
	"context"
	"fmt"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/changes"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/rooms"
	"inkpost.example/inkpost/internal/engine/zones"
	"inkpost.example/inkpost/internal/store"
)

func redirectResource(r site.Redirect) changes.Resource {
	return changes.Resource{Kind: "redirect", Name: string(r.Name), ID: r.ID, Revision: r.Revision, Tag: r.Tag()}
}

// redirectInput returns a redirect name as a person would enter it.
func redirectInput(r site.Redirect) contract.RedirectInput {
	return contract.RedirectInput{Name: string(r.Name), Hostname: string(r.Hostname), TTL: r.TTL, Scheme: r.Scheme, Port: r.Port,
		Path:     r.Path,
		KeepPath: r.KeepPath, Status: r.Status}
}

// AddRedirect records a name that sends a browser on.
func (e *ZoneEdits) AddRedirect(ctx context.Context, in contract.RedirectInput) (contract.Redirect, error) {
	var r site.Redirect
	err := e.Change(ctx, func() (changes.Edit, error) {
		var f site.Flaws
		name, z := e.placed(in.Name, &f)
		if in.TTL == 0 {
			in.TTL = int(z.TTL)
		}
		if len(e.RedirectAt) == 0 {
			f.Note("name", fmt.Errorf("this server has no redirect address; start it with --redirect-address"))
		}
		if z.ID != 0 {
			f.Note("name", e.Rooms.Zones.Check(z, []names.Record{{Name: name, Type: "A", Data: "redirect"}}, zones.LeaveNone))
			if _, _, taken := e.Record.HostnameAt(name); taken {
				f.Note("name", fmt.Errorf("%s is a hostname already", name))
			}
			if _, taken := e.Record.Redirect(name); taken {
				return changes.Edit{}, store.Taken{Kind: "redirect", Field: "name", Name: string(name)}
			}
		}
		var err error
		if r, err = e.readRedirect(ctx, site.Redirect{Name: name, ZoneID: z.ID}, in, f); err != nil {
			return changes.Edit{}, err
		}
		return changes.Edit{Site: r.Site, Words: "redirect " + string(r.Name) + " recorded",
			Touched: &record.Touched{Sites: []int64{r.SiteID}, Parts: record.Redirects},
			Write:   func(ctx context.Context, tx *store.Store) error { return tx.PutRedirect(ctx, r) }}, nil
	})
	if err != nil {
		return contract.Redirect{}, err
	}
	return e.Redirect(ctx, string(r.Name))
}

// EditRedirect changes where a redirect name leads.
func (e *ZoneEdits) EditRedirect(ctx context.Context, name string, merge changes.Merge[contract.RedirectInput]) (contract.Redirect, error) {
	err := e.Change(ctx, func() (changes.Edit, error) {
		now, err := e.Redirect(ctx, name)
		if err != nil {
			return changes.Edit{}, err
		}
		of := redirectResource(now.Redirect)
		in, err := changes.Merged(ctx, e.Changes, of, redirectInput(now.Redirect), merge)
		if err != nil {
			return changes.Edit{}, err
		}
		var f site.Flaws
		if rooms.Canonical(in.Name) != string(now.Name) {
			f.Note("name", fmt.Errorf("a redirect keeps its name; add %q and remove %q", in.Name, now.Name))
		}
		r, err := e.readRedirect(ctx, now.Redirect, in, f)
		return changes.Edit{Site: r.Site, Words: "redirect " + name + " edited",
			Touched: &record.Touched{Sites: []int64{now.SiteID, r.SiteID}, Parts: record.Redirects}, Of: of,
			Before: redirectInput(now.Redirect), After: in,
			Write: func(ctx context.Context, tx *store.Store) error { return tx.PutRedirect(ctx, r) }}, err
	})
	if err != nil {
		return contract.Redirect{}, err
	}
	return e.Redirect(ctx, name)
}

// readRedirect reads what a person entered of a redirect, beside its name.
func (e *ZoneEdits) readRedirect(ctx context.Context, r site.Redirect, in contract.RedirectInput, f site.Flaws) (site.Redirect, error) {
	h, err := e.Hostname(ctx, rooms.Canonical(in.Hostname))
	f.Note("hostname", err)
	if r.ZoneID != 0 {
		f.Note("ttl_seconds", names.CheckTTL(in.TTL))
	}
	r.Site, r.SiteID = h.Site, h.SiteID
	r.HostnameID, r.TTL, r.Scheme, r.Port, r.Path, r.KeepPath, r.Status = h.ID, in.TTL, in.Scheme, in.Port, in.Path, in.KeepPath, in.Status
	r, err = r.Checked()
	return r, changes.Flawed(f.Err(), err)
}

// RemoveRedirect removes a redirect name.
func (e *ZoneEdits) RemoveRedirect(ctx context.Context, name string) error {
	return e.Change(ctx, func() (changes.Edit, error) {
		r, err := e.Redirect(ctx, name)
		return changes.Edit{Site: r.Site, Words: "redirect " + name + " removed", Of: redirectResource(r.Redirect),
			Write: func(ctx context.Context, tx *store.Store) error { return tx.RemoveRedirect(ctx, r.Redirect) }}, err
	})
}

// SendOn says where a redirect name leads for a request, by its host in canonical form.
func (e *ZoneEdits) SendOn(host string) (site.Redirect, bool) {
	return e.Record.Redirect(names.Name(host))
}
