package siteedits

import (
	"context"
	"slices"
	"strings"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/commission"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/commissioning"
	"inkpost.example/inkpost/internal/store"
)

// Commission begins a run for services of a site, or adds them to the one that is open.
func (e *SiteEdits) Commission(ctx context.Context, code string, in contract.CommissioningInput, by string) (contract.Commissioning,
	error) {
	p, err := e.SiteSeen(ctx, code)
	if err != nil {
		return contract.Commissioning{}, err
	}
	var ids []int64
	for _, name := range in.Services {
		_, s, err := e.FindService(p.Code, strings.ToLower(strings.TrimSpace(name)))
		if err != nil {
			return contract.Commissioning{}, err
		}
		if s.Expected == probe.ExpectClosed {
			return contract.Commissioning{}, site.Flaws{{Field: "services",
				Detail: s.Name + " must be closed: there is nothing to bring into use"}}
		}
		ids = append(ids, s.ID)
	}
	if len(ids) == 0 {
		ids = e.Awaited(p)
	}
	if len(ids) == 0 && !e.runOpen(p.ID) {
		return contract.Commissioning{}, site.Flaws{{Field: "services",
			Detail: "every service of " + p.Code + " is in use; name those to commission again, or record a new one first"}}
	}
	if err := e.Rooms.Runs.Begin(ctx, p, ids, by); err != nil {
		return contract.Commissioning{}, err
	}
	return e.Commissioning(ctx, p.Code)
}

func (e *SiteEdits) runOpen(siteID int64) bool {
	return slices.ContainsFunc(e.Rooms.Runs.Open(), func(c store.Commissioning) bool { return c.SiteID == siteID })
}

// AnswerStep takes what a person says of a step. What that says of the record is noted there: an address that is fixed is reserved. Saying
// the same again changes nothing.
func (e *SiteEdits) AnswerStep(ctx context.Context, code string, in contract.CommissioningAnswer, by string) (contract.Commissioning,
	error) {
	p, err := e.SiteSeen(ctx, code)
	if err != nil {
		return contract.Commissioning{}, err
	}
	before := func() error { // a step that is told to be done is so on record
		switch {
		case in.State != commission.Done:
		case in.Step == commission.Outside: // no probe will ever prove it
			return e.putToUse(ctx, p.Code, strings.TrimPrefix(in.Subject, "service "))
		case in.Step == commission.Reserved:
			return e.reserve(ctx, p.Code, strings.TrimPrefix(in.Subject, "device "))
		}
		return nil
	}
	if err := e.Rooms.Runs.Answer(ctx, p.ID, commissioning.Answer{Step: in.Step, Subject: in.Subject, State: in.State, Words: in.Words,
		By: by, At: in.At}, before); err != nil {
		return contract.Commissioning{}, err
	}
	return e.Commissioning(ctx, p.Code)
}

// putToUse notes on record that a service is in use.
func (e *SiteEdits) putToUse(ctx context.Context, code, service string) error {
	_, err := e.EditService(ctx, code, service, func(in *contract.ServiceInput) error {
		in.InUse = true
		return nil
	})
	return err
}

// reserve notes on record that the LAN address of a device is reserved.
func (e *SiteEdits) reserve(ctx context.Context, code, device string) error {
	_, err := e.EditDevice(ctx, code, device, func(in *contract.DeviceInput) error {
		in.Reserved = true
		return nil
	})
	return err
}

// ProveStep has the agent prove the way in to a service before its device is there. What arrives makes the forward of the run done. Errors:
// store.Missing, site.Flaws, siteside.ErrNoAgent, that of the database.
func (e *SiteEdits) ProveStep(ctx context.Context, code, service, by string) (contract.Proof, error) {
	p, s, err := e.FindService(code, service)
	if err != nil {
		return contract.Proof{}, err
	}
	if !e.runOpen(p.ID) {
		return contract.Proof{}, store.Missing{Kind: "open commissioning of site", Name: p.Code}
	}
	l, _ := p.Followed(s.LinkID)
	out, err := e.Rooms.Proofs.Prove(ctx, p, contract.ProofInput{Link: l.Label, Transport: string(s.Transport.Each()[0]),
		External: s.ExternalFrom, Port: s.InternalFrom})
	if err == nil && out.Proven {
		err = e.Rooms.Runs.Proven(ctx, p.ID, s.ID, "the agent's proof: "+out.Words, by)
	}
	return out, err
}

// EndCommissioning ends the open run of a site. Errors: store.Missing, that of the database.
func (e *SiteEdits) EndCommissioning(ctx context.Context, code, by string) (contract.Commissioning, error) {
	p, err := e.SiteSeen(ctx, code)
	if err != nil {
		return contract.Commissioning{}, err
	}
	if err := e.Rooms.Runs.End(ctx, p, by); err != nil {
		return contract.Commissioning{}, err
	}
	return e.Commissioning(ctx, p.Code)
}
