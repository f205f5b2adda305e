package views

import (
	"context"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/store"
)

// Acts lists what was done, at the sites that whoever asks sees. Error: that of the database.
func (vw *Views) Acts(ctx context.Context, f store.ActFilter) ([]contract.Act, error) {
	f.SiteIDs = vw.IDsSeen(ctx)
	list, err := vw.Store.Acts(ctx, f)
	out := make([]contract.Act, 0, len(list))
	for _, a := range list {
		one := contract.Act{ID: a.ID, At: a.At.Time, Person: a.Person, Key: a.Key, Kind: a.Kind, Words: a.Words, Site: a.Site,
			Subject: a.Subject, Status: a.Status, Before: a.Before, After: a.After}
		if p, ok := vw.Record.Site(int64(a.SiteID)); ok {
			one.Site = p.Code // as it is called now
		}
		if a.Address.IsValid() {
			one.Address = a.Address.String()
		}
		out = append(out, one)
	}
	return out, err
}
