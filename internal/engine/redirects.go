package engine

import (
	"context"
	"fmt"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/store"
)

// Redirects lists the redirect names.
func (e *Engine) Redirects() []contract.Redirect {
	out := []contract.Redirect{}
	for _, r := range e.record.redirectList() {
		out = append(out, contract.Redirect{Redirect: r, Leads: r.Base()})
	}
	return out
}

// Redirect gives one redirect name.
func (e *Engine) Redirect(name string) (contract.Redirect, error) {
	r, ok := e.record.redirect(names.Name(canonical(name)))
	if !ok {
		return contract.Redirect{}, store.Missing{Kind: "redirect", Name: name}
	}
	return contract.Redirect{Redirect: r, Leads: r.Base()}, nil
}

// RedirectInput gives a redirect name as a person would enter it, to edit.
func (e *Engine) RedirectInput(name string) (contract.RedirectInput, error) {
	r, err := e.Redirect(name)
	return contract.RedirectInput{Name: string(r.Name), Hostname: string(r.Hostname), TTL: r.TTL, Scheme: r.Scheme, Port: r.Port, Path: r.Path,
		KeepPath: r.KeepPath, Status: r.Status}, err
}

// AddRedirect records a name that sends a browser on.
func (e *Engine) AddRedirect(ctx context.Context, in contract.RedirectInput) (contract.Redirect, error) {
	var f site.Flaws
	name, z := e.placed(in.Name, &f)
	if in.TTL == 0 {
		in.TTL = int(z.TTL)
	}
	if len(e.config.RedirectAt) == 0 {
		f.Note("name", fmt.Errorf("this server does not say at which address it sends browsers on; start it with --redirect-address"))
	}
	if z.ID != 0 {
		f.Note("name", names.CheckContent(z.Apex, append(e.contentOf(z), names.Record{Name: name, Type: "A", Data: "redirect"})))
		if _, _, taken := e.record.at(name); taken {
			f.Note("name", fmt.Errorf("%s is a hostname already", name))
		}
		if _, taken := e.record.redirect(name); taken {
			return contract.Redirect{}, store.Taken{Kind: "redirect", Field: "name", Name: string(name)}
		}
	}
	return e.putRedirect(ctx, site.Redirect{Name: name, ZoneID: z.ID}, in, f)
}

// EditRedirect changes where a redirect name leads.
func (e *Engine) EditRedirect(ctx context.Context, name string, in contract.RedirectInput) (contract.Redirect, error) {
	now, err := e.Redirect(name)
	if err != nil {
		return now, err
	}
	var f site.Flaws
	if canonical(in.Name) != string(now.Name) {
		f.Note("name", fmt.Errorf("a redirect keeps its name; add %q and remove %q", in.Name, now.Name))
	}
	return e.putRedirect(ctx, now.Redirect, in, f)
}

func (e *Engine) putRedirect(ctx context.Context, r site.Redirect, in contract.RedirectInput, f site.Flaws) (contract.Redirect, error) {
	h, err := e.Hostname(canonical(in.Hostname))
	f.Note("hostname", err)
	if r.ZoneID != 0 {
		f.Note("ttl_seconds", names.CheckTTL(in.TTL))
	}
	r.HostnameID, r.TTL, r.Scheme, r.Port, r.Path, r.KeepPath, r.Status = h.ID, in.TTL, in.Scheme, in.Port, in.Path, in.KeepPath, in.Status
	r, err = r.Checked()
	if err := flawed(f.Err(), err); err != nil {
		return contract.Redirect{}, err
	}
	err = e.change(ctx, h.Site, "redirect "+string(r.Name)+" recorded", func() error { return e.store.PutRedirect(ctx, r) })
	if err != nil {
		return contract.Redirect{}, err
	}
	return e.Redirect(string(r.Name))
}

// RemoveRedirect removes a redirect name.
func (e *Engine) RemoveRedirect(ctx context.Context, name string) error {
	r, err := e.Redirect(name)
	if err != nil {
		return err
	}
	return e.change(ctx, r.Site, "redirect "+name+" removed", func() error { return e.store.RemoveRedirect(ctx, r.Redirect) })
}

// SendOn says where a redirect name leads for a request, by its host in canonical form.
func (e *Engine) SendOn(host string) (site.Redirect, bool) {
	return e.record.redirect(names.Name(host))
}
