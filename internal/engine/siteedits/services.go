package siteedits

import (
	"context"
	"crypto/ecdh"
	"crypto/rand"
	"encoding/base64"
	"fmt"
	"strings"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/changes"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/store"
)

// ServiceResource says which revision of a service an edit is of.
func ServiceResource(s site.Service) changes.Resource {
	return changes.Resource{Kind: "service", Name: s.Name, ID: s.ID, Revision: s.Revision, Tag: s.Tag()}
}

// ServiceInputOf returns a service as a person would enter it.
func ServiceInputOf(s site.Service) contract.ServiceInput {
	return contract.ServiceInput{Name: s.Name, Device: s.Device, Link: s.Link, Kind: string(s.Kind), Transport: string(s.Transport),
		External: site.Ports(s.ExternalFrom, s.ExternalTo), Internal: fmt.Sprint(s.InternalFrom), Expected: string(s.Expected),
		Reach: string(s.Reach), Interval: s.Interval, Options: s.Options.Get(), OpenUntil: s.OpenUntil, InUse: s.InUse}
}

// AddService records a service of a site; it is probed at once.
func (e *SiteEdits) AddService(ctx context.Context, code string, in contract.ServiceInput) (contract.Service, error) {
	var s site.Service
	err := e.Change(ctx, func() (changes.Edit, error) {
		p, err := e.SiteSeen(ctx, code)
		if err != nil {
			return changes.Edit{}, err
		}
		if s, err = e.ReadService(p, site.Service{SiteID: p.ID}, in); err != nil {
			return changes.Edit{}, err
		}
		return changes.Edit{Site: p.Code, Words: "service " + s.Name + " recorded", Parts: record.Services,
			Write: func(ctx context.Context, tx *store.Store) error { _, err := tx.PutService(ctx, s); return err }}, nil
	})
	if err != nil {
		return contract.Service{}, err
	}
	return e.Service(code, s.Name)
}

// EditService changes a service of a site.
func (e *SiteEdits) EditService(ctx context.Context, code, name string, merge changes.Merge[contract.ServiceInput]) (contract.Service,
	error) {
	var s site.Service
	err := e.Change(ctx, func() (changes.Edit, error) {
		p, now, err := e.FindService(code, name)
		if err != nil {
			return changes.Edit{}, err
		}
		in, err := changes.Merged(ctx, e.Changes, ServiceResource(now), ServiceInputOf(now), merge)
		if err != nil {
			return changes.Edit{}, err
		}
		if s, err = e.ReadService(p, now, in); err != nil {
			return changes.Edit{}, err
		}
		return changes.Edit{Site: p.Code, Words: "service " + s.Name + " edited", Parts: record.Services, Of: ServiceResource(now),
			Before: ServiceInputOf(now), After: ServiceInputOf(s),
			Write: func(ctx context.Context, tx *store.Store) error { _, err := tx.PutService(ctx, s); return err }}, nil
	})
	if err != nil {
		return contract.Service{}, err
	}
	return e.Service(code, s.Name)
}

// ReadService reads what a person entered of a service of a site. Error: site.Flaws.
func (e *SiteEdits) ReadService(p record.Site, s site.Service, in contract.ServiceInput) (site.Service, error) {
	var f site.Flaws
	var err error
	was := s
	s.Name, s.Device, s.Link, s.Interval = in.Name, strings.ToLower(strings.TrimSpace(in.Device)),
		strings.ToLower(strings.TrimSpace(in.Link)), in.Interval
	s.Transport = probe.Transport(strings.ToLower(in.Transport))
	s.Kind, err = probe.ParseKind(in.Kind)
	f.Note("kind", err)
	if s.Transport == "" {
		s.Transport = probe.TCP
		if usual := probe.TraitOf(s.Kind).Transports; len(usual) > 0 {
			s.Transport = usual[0]
		}
	}
	s.Options, s.OpenUntil, s.InUse = probe.Share(in.Options), in.OpenUntil.UTC().Truncate(time.Second), in.InUse
	if s.OpenUntil.Unix() <= 0 {
		s.OpenUntil = time.Time{}
	}
	s.Expected, err = probe.ParseExpected(in.Expected)
	f.Note("expected", err)
	s.ExternalFrom, s.ExternalTo, err = site.ParsePorts(in.External)
	f.Note("external", err)
	s.InternalFrom = s.ExternalFrom
	if strings.TrimSpace(in.Internal) != "" {
		s.InternalFrom, _, err = site.ParsePorts(in.Internal)
		f.Note("internal", err)
	}
	s.Reach, err = site.ParseReach(in.Reach)
	f.Note("reach", err)
	s.LinkID, s.DeviceID = 0, 0
	if s.Link != "" {
		l, err := p.LinkNamed(s.Link)
		f.Note("link", err)
		s.LinkID = l.ID
	}
	if s.Device == "" {
		f.Note("device", fmt.Errorf("is required; name the device that the service runs on"))
	} else {
		d, err := p.DeviceNamed(s.Device)
		f.Note("device", err)
		s.DeviceID, s.OnRouter = d.ID, d.Router
	}
	if err := f.Err(); err != nil {
		return s, err // ports that cannot be read have no range to be checked
	}
	s, err = s.Checked(e.ShortestInterval)
	if err != nil {
		return s, err
	}
	if s.Kind == probe.KindWireGuard && s.ProbeKey == "" {
		if s.ProbeKey, err = newProbeKey(); err != nil {
			return s, err
		}
	}
	if s.Kind != probe.KindWireGuard {
		s.ProbeKey = ""
	}
	if was.Kind != s.Kind || was.DeviceID != s.DeviceID || was.Options.Get().PeerKey != s.Options.Get().PeerKey {
		s.Fingerprint, s.Pinned, s.PinnedBy = "", time.Time{}, "" // it belonged to what was there before
	}
	return s, nil
}

// RemoveService removes a service.
func (e *SiteEdits) RemoveService(ctx context.Context, code, name string) error {
	return e.Change(ctx, func() (changes.Edit, error) {
		p, s, err := e.FindService(code, name)
		return changes.Edit{Site: p.Code, Words: "service " + s.Name + " removed", Parts: record.Services, Of: ServiceResource(s),
			Write: func(ctx context.Context, tx *store.Store) error { return tx.RemoveService(ctx, s, e.Removal(ctx)) }}, err
	})
}

// newProbeKey makes a private key with which a WireGuard server can know us.
func newProbeKey() (string, error) {
	key, err := ecdh.X25519().GenerateKey(rand.Reader)
	if err != nil {
		return "", err
	}
	return base64.StdEncoding.EncodeToString(key.Bytes()), nil
}
