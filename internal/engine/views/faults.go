package views

import (
	"context"
	"fmt"
	"strconv"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/fault"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/faults"
	"inkpost.example/inkpost/internal/store"
)

// Faults lists faults. Those that are open are known without the database. What explains the faults of several sites names them: it is for
// those who see all sites.
func (vw *Views) Faults(ctx context.Context, f store.FaultFilter) ([]contract.Fault, error) {
	out := []contract.Fault{}
	if f.OpenOnly {
		for _, one := range vw.Rooms.Faults.Open(f.SiteID) {
			if len(out) < f.Limit && vw.Sees(ctx, one.SiteID) && (f.Cause == "" || one.Finding.Cause == f.Cause) {
				out = append(out, vw.faultView(ctx, one.Fault))
			}
		}
		return out, nil
	}
	f.SiteIDs = vw.IDsSeen(ctx)
	list, err := vw.Store.Faults(ctx, f)
	for _, one := range list {
		out = append(out, vw.faultView(ctx, one))
	}
	return out, err
}

func (vw *Views) faultView(ctx context.Context, f store.Fault) contract.Fault {
	out := contract.Fault{ID: f.ID, Site: f.Site, SiteName: f.SiteName, Provider: fault.ProviderOf(f.Finding.Subject),
		Serious: f.Finding.Serious(), Began: f.Began, Opened: f.Opened, Closed: f.Closed, Returns: f.Returns, Under: f.Under,
		Acknowledged: f.Taken.Acknowledged, By: f.Taken.By, Assigned: f.Taken.Assigned, Judged: judgedView(f.Judgement), Finding: f.Finding}
	if p, ok := vw.Record.Site(f.SiteID); ok {
		out.Site, out.SiteName = p.Code, p.Name
	}
	if f.SiteID == 0 && f.Closed.IsZero() {
		out.Sites = len(vw.under(ctx, f.ID))
	}
	if _, until, ok := vw.Rooms.Faults.Planned(faults.Fault{Fault: f}, vw.Now()); ok && f.Closed.IsZero() {
		out.Planned = until
	}
	return out
}

// under lists the open faults that one of an area explains, at sites that whoever asks sees.
func (vw *Views) under(ctx context.Context, id int64) (out []faults.Fault) {
	for _, f := range vw.Rooms.Faults.Open(0) {
		if f.Under == id && id != 0 && vw.Sees(ctx, f.SiteID) {
			out = append(out, f)
		}
	}
	return out
}

// Fault returns a fault with all that happened to it. Errors: store.Missing, that of the database.
func (vw *Views) Fault(ctx context.Context, id int64) (contract.FaultStory, error) {
	f, err := vw.FindFault(ctx, id)
	if err != nil {
		return contract.FaultStory{}, err
	}
	for _, one := range vw.Rooms.Faults.Open(f.SiteID) {
		if one.ID == id {
			f.Finding = one.Finding // as it is now: times in its evidence are not written each time
		}
	}
	out := contract.FaultStory{Fault: vw.faultView(ctx, f), Timeline: []contract.FaultEvent{}, Explained: []contract.Fault{}}
	lines, err := vw.Store.Timeline(ctx, id)
	for _, e := range lines {
		out.Timeline = append(out.Timeline, contract.FaultEvent(e))
	}
	for _, one := range vw.under(ctx, id) {
		out.Explained = append(out.Explained, vw.faultView(ctx, one.Fault))
	}
	return out, err
}

// FindFault finds a fault at a site that whoever asks sees. Errors: store.Missing, that of the database.
func (vw *Views) FindFault(ctx context.Context, id int64) (store.Fault, error) {
	list, err := vw.Store.Faults(ctx, store.FaultFilter{ID: id, Limit: 1})
	if err == nil && (len(list) == 0 || id == 0 || !vw.Sees(ctx, list[0].SiteID)) {
		err = store.Missing{Kind: "fault", Name: strconv.FormatInt(id, 10)}
	}
	if err != nil {
		return store.Fault{}, err
	}
	return list[0], nil
}

func judgedView(j store.Judgement) *contract.FaultJudgement {
	if j.At.IsZero() {
		return nil
	}
	return &contract.FaultJudgement{FaultJudgementInput: contract.FaultJudgementInput{Right: j.Right, Actual: j.Actual, Note: j.Note},
		By: j.By, At: j.At}
}

// FaultTimes returns how long faults that opened since a moment took to be noticed and mended, by "site", "provider" or "cause". Errors:
// site.Flaws, that of the database.
func (vw *Views) FaultTimes(ctx context.Context, by string, since time.Time) ([]contract.FaultTimes, error) {
	if by != "site" && by != "provider" && by != "cause" {
		return nil, site.Flaws{{Field: "by", Detail: fmt.Sprintf("%q is none of site, provider, cause", by)}}
	}
	list, err := vw.Store.FaultTimes(ctx, by, since, vw.IDsSeen(ctx))
	out := []contract.FaultTimes{}
	for _, t := range list {
		out = append(out, contract.FaultTimes{Name: t.Site + t.Provider + t.Cause, Faults: t.Faults, Open: t.Open, NoticeSeconds: t.Notice,
			MendSeconds: t.Mend, LongestSecs: t.Longest})
	}
	return out, err
}
