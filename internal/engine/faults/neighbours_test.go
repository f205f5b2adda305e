package faults

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/diagnose"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/record/recordtest"
)

func TestSitesOfAProviderThatWentDarkTogetherAreCounted(t *testing.T) {
	rows := &recordtest.Rows{}
	for id := int64(1); id <= 6; id++ {
		provider := "Kettle Cable"
		if id == 6 {
			provider = "Gannet Mobile"
		}
		rows.SiteRows = append(rows.SiteRows, site.Site{ID: id, Code: string(rune('A' + id))})
		rows.LinkRows = append(rows.LinkRows, site.Link{ID: 10 * id, SiteID: id, Label: "main", Position: 1, Provider: provider})
	}
	rec := &record.Record{}
	_, err := rec.Load(t.Context(), rows)
	require.NoError(t, err)
	now := morning
	b := New(nil, nil, rec, nil, nil, func() time.Time { return now }, nil)
	dark := func(id int64, cause diagnose.Finding, at time.Time) {
		found(b, id, at, cause)
	}
	outage := diagnose.Finding{Cause: "site-dark", Subject: "link main"}
	dark(2, outage, morning.Add(time.Minute))
	dark(3, diagnose.Finding{Cause: "provider-outage", Subject: "link main"}, morning.Add(-time.Minute))
	dark(4, outage, morning.Add(-time.Hour))
	dark(5, diagnose.Finding{Cause: "service-stopped", Subject: "service page"}, morning)
	dark(6, outage, morning)
	with, all := b.Neighbours(1, "Kettle Cable", morning)
	require.Equal(t, 2, with, "one went dark an hour before, one has another trouble, one another provider")
	require.Equal(t, 4, all)
	with, all = b.Neighbours(1, "", morning)
	require.Zero(t, with+all, "nobody knows the provider")
}
