package engine

import (
	"context"
	"fmt"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/zones"
	"inkpost.example/inkpost/internal/store"
)

// Redirects lists the redirect names.
func (e *Engine) Redirects() []contract.Redirect {
	out := []contract.Redirect{}
	for _, r := range e.record.Redirects() {
		out = append(out, contract.Redirect{Redirect: r, Leads: r.Base()})
	}
	return out
}

// Redirect gives one redirect name.
func (e *Engine) Redirect(name string) (contract.Redirect, error) {
	r, ok := e.record.Redirect(names.Name(canonical(name)))
	if !ok {
		return contract.Redirect{}, store.Missing{Kind: "redirect", Name: name}
	}
	return contract.Redirect{Redirect: r, Leads: r.Base()}, nil
}

func redirectResource(r site.Redirect) resource {
	return resource{"redirect", string(r.Name), r.ID, r.Revision, r.Tag()}
}

// redirectInput gives a redirect name as a person would enter it.
func redirectInput(r site.Redirect) contract.RedirectInput {
	return contract.RedirectInput{Name: string(r.Name), Hostname: string(r.Hostname), TTL: r.TTL, Scheme: r.Scheme, Port: r.Port, Path: r.Path,
		KeepPath: r.KeepPath, Status: r.Status}
}

// AddRedirect records a name that sends a browser on.
func (e *Engine) AddRedirect(ctx context.Context, in contract.RedirectInput) (contract.Redirect, error) {
	var r site.Redirect
	err := e.change(ctx, func() (edit, error) {
		var f site.Flaws
		name, z := e.placed(in.Name, &f)
		if in.TTL == 0 {
			in.TTL = int(z.TTL)
		}
		if len(e.config.RedirectAt) == 0 {
			f.Note("name", fmt.Errorf("this server does not say at which address it sends browsers on; start it with --redirect-address"))
		}
		if z.ID != 0 {
			f.Note("name", e.zones.Check(z, []names.Record{{Name: name, Type: "A", Data: "redirect"}}, zones.LeaveNone))
			if _, _, taken := e.record.HostnameAt(name); taken {
				f.Note("name", fmt.Errorf("%s is a hostname already", name))
			}
			if _, taken := e.record.Redirect(name); taken {
				return edit{}, store.Taken{Kind: "redirect", Field: "name", Name: string(name)}
			}
		}
		var err error
		if r, err = e.readRedirect(site.Redirect{Name: name, ZoneID: z.ID}, in, f); err != nil {
			return edit{}, err
		}
		return edit{site: r.Site, words: "redirect " + string(r.Name) + " recorded", touched: &record.Touched{Sites: []int64{r.SiteID}}, write: func(ctx context.Context, tx *store.Store) error { return tx.PutRedirect(ctx, r) }}, nil
	})
	if err != nil {
		return contract.Redirect{}, err
	}
	return e.Redirect(string(r.Name))
}

// EditRedirect changes where a redirect name leads.
func (e *Engine) EditRedirect(ctx context.Context, name string, merge Merge[contract.RedirectInput]) (contract.Redirect, error) {
	err := e.change(ctx, func() (edit, error) {
		now, err := e.Redirect(name)
		if err != nil {
			return edit{}, err
		}
		of := redirectResource(now.Redirect)
		in, err := merged(ctx, e, of, redirectInput(now.Redirect), merge)
		if err != nil {
			return edit{}, err
		}
		var f site.Flaws
		if canonical(in.Name) != string(now.Name) {
			f.Note("name", fmt.Errorf("a redirect keeps its name; add %q and remove %q", in.Name, now.Name))
		}
		r, err := e.readRedirect(now.Redirect, in, f)
		return edit{site: r.Site, words: "redirect " + name + " edited", touched: &record.Touched{Sites: []int64{now.SiteID, r.SiteID}}, of: of, before: redirectInput(now.Redirect), after: in,
			write: func(ctx context.Context, tx *store.Store) error { return tx.PutRedirect(ctx, r) }}, err
	})
	if err != nil {
		return contract.Redirect{}, err
	}
	return e.Redirect(name)
}

// readRedirect reads what a person entered of a redirect, beside its name.
func (e *Engine) readRedirect(r site.Redirect, in contract.RedirectInput, f site.Flaws) (site.Redirect, error) {
	h, err := e.Hostname(canonical(in.Hostname))
	f.Note("hostname", err)
	if r.ZoneID != 0 {
		f.Note("ttl_seconds", names.CheckTTL(in.TTL))
	}
	r.Site, r.SiteID = h.Site, h.SiteID
	r.HostnameID, r.TTL, r.Scheme, r.Port, r.Path, r.KeepPath, r.Status = h.ID, in.TTL, in.Scheme, in.Port, in.Path, in.KeepPath, in.Status
	r, err = r.Checked()
	return r, flawed(f.Err(), err)
}

// RemoveRedirect removes a redirect name.
func (e *Engine) RemoveRedirect(ctx context.Context, name string) error {
	return e.change(ctx, func() (edit, error) {
		r, err := e.Redirect(name)
		return edit{site: r.Site, words: "redirect " + name + " removed", of: redirectResource(r.Redirect),
			write: func(ctx context.Context, tx *store.Store) error { return tx.RemoveRedirect(ctx, r.Redirect) }}, err
	})
}

// SendOn says where a redirect name leads for a request, by its host in canonical form.
func (e *Engine) SendOn(host string) (site.Redirect, bool) {
	return e.record.Redirect(names.Name(host))
}
