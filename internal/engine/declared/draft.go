package declared

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/declare"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/changes"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/rooms"
)

// draft is the record as it would be once some items of a file are taken. It is made under the edit lock.
type draft struct {
	e         *Room
	sites     map[string]*record.Site // by code
	contacts  map[int64][]site.Contact
	owners    map[names.Name]string // names that hostnames of the file bring, and which
	touched   map[int64]bool
	fresh     int64 // the newest ID of what is not on record yet; below zero
	steps     []contract.DeclaredStep
	unchanged int
	flaws     []declare.LineFlaw
	writes    []func(context.Context, *writing) error
}

// compare works out what a file changes.
func (e *Room) compare(ctx context.Context, ordered []declare.Item, scope declare.Scope) (*draft, error) {
	d := &draft{e: e, sites: map[string]*record.Site{}, owners: map[names.Name]string{}, touched: map[int64]bool{}}
	var err error
	if d.contacts, err = e.contacts(ctx); err != nil {
		return nil, err
	}
	var now []declare.Identity
	for _, p := range e.SitesSeen(ctx) {
		d.sites[p.Code] = &p
		for kind, list := range inputs(p, d.contacts[p.ID]) {
			for _, in := range list {
				i := itemOf(kind, p.Code, in)
				now = append(now, declare.Identity{Kind: kind, Site: p.Code, Name: i.Name})
			}
		}
	}
	absent := scope.Absent(now, ordered)
	early := func(id declare.Identity) bool {
		return id.Kind == declare.Service || id.Kind == declare.Hostname || id.Kind == declare.Contact
	}
	// What is to go makes room first, except for what others may still be on until they are edited.
	for _, id := range absent {
		if early(id) {
			d.remove(id)
		}
	}
	for _, i := range ordered {
		if err := d.take(ctx, i); err != nil {
			d.flaw(i, err)
		}
	}
	for _, id := range absent {
		if !early(id) {
			d.remove(id)
		}
	}
	return d, nil
}

// flaw notes what is wrong with an item.
func (d *draft) flaw(i declare.Item, err error) {
	var flaws site.Flaws
	if !errors.As(err, &flaws) {
		d.flaws = append(d.flaws, i.Wrong("", err.Error()))
		return
	}
	for _, f := range flaws {
		field, _, _ := strings.Cut(f.Field, ".")
		if _, known := i.Kind.Field(field); !known && field != "site" {
			d.flaws = append(d.flaws, i.Wrong("", f.Field+" "+f.Detail))
			continue
		}
		d.flaws = append(d.flaws, i.Wrong(field, f.Detail))
	}
}

// next returns an ID for what is not on record yet.
func (d *draft) next() int64 { d.fresh--; return d.fresh }

// step notes what is done to an item, and how it is written. Before is nil for what is new.
func (d *draft) step(i declare.Item, p *record.Site, of changes.Resource, before, after any, write func(context.Context,
	*writing) error) error {
	fields, err := changes.ChangesOf(before, after)
	if err != nil {
		return err
	}
	if before != nil && len(fields) == 0 {
		d.unchanged++
		return nil
	}
	s := contract.DeclaredStep{Action: "add", Kind: i.Kind, Site: p.Code, Name: i.Name}
	for _, f := range fields {
		if before == nil && empty(f.After) {
			continue
		}
		s.Fields = append(s.Fields, contract.FieldChange(f))
	}
	if before != nil {
		s.Action = "change"
	}
	d.steps = append(d.steps, s)
	d.touched[p.ID] = true
	d.writes = append(d.writes, func(ctx context.Context, w *writing) error {
		if err := write(ctx, w); err != nil {
			return fmt.Errorf("%s %s of %s: %w", i.Kind, i.Name, p.Code, err)
		}
		return changes.NoteEdit(ctx, w.tx, changes.Edit{Of: of, Before: before, After: after}, d.e.Now())
	})
	return nil
}

// empty reports whether a value is what a field has that nobody filled in.
func empty(doc json.RawMessage) bool {
	return slices.Contains([]string{"", `""`, "0", "false", "null", "[]", "{}", `"0001-01-01T00:00:00Z"`}, string(doc))
}

// merged lays what a file says over what is on record, as a person would enter it. Error: site.Flaws.
func merged[T any](before T, i declare.Item) (T, error) {
	fields := document(before)
	for name, v := range i.Fields {
		if options, ok := v.(map[string]string); ok {
			for option := range options {
				if !slices.Contains(probe.OptionNames(), option) {
					return before, site.Flaws{{Field: name, Detail: fmt.Sprintf("%q is unknown; there are %s", option,
						strings.Join(probe.OptionNames(), ", "))}}
				}
			}
		}
		fields[name] = v
	}
	var after T
	doc, err := json.Marshal(fields)
	if err == nil {
		err = json.NewDecoder(bytes.NewReader(doc)).Decode(&after)
	}
	return after, err
}

// at finds the site of an item. Error: site.Flaws.
func (d *draft) at(i declare.Item) (*record.Site, error) {
	p, ok := d.sites[declare.Site.Same(i.Site)]
	if !ok {
		return nil, site.Flaws{{Field: "site", Detail: fmt.Sprintf("there is no site %q", i.Site)}}
	}
	return p, nil
}

// take takes an item into the draft.
func (d *draft) take(ctx context.Context, i declare.Item) error {
	if i.Kind == declare.Site {
		return d.takeSite(ctx, i)
	}
	p, err := d.at(i)
	if err != nil {
		return err
	}
	switch i.Kind {
	case declare.Link:
		return d.takeLink(p, i)
	case declare.Device:
		return d.takeDevice(p, i)
	case declare.Service:
		return d.takeService(p, i)
	case declare.Hostname:
		return d.takeHostname(ctx, p, i)
	}
	return d.takeContact(p, i)
}

// limited reports whether whoever asks sees some sites only.
func limited(ctx context.Context) bool { return !rooms.SightOf(ctx).All() }
