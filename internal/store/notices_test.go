package store_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/diagnose"
	"inkpost.example/inkpost/internal/core/notice"
	"inkpost.example/inkpost/internal/store"
)

// What was told of a fault that is still open is remembered however long ago it was: or else it would be told again.
func TestWhatWasToldOfAnOpenFaultIsRememberedAndKept(t *testing.T) {
	f := furnish(t, open(t), "KET")
	ctx := t.Context()
	id, err := f.SaveFault(ctx, store.Fault{SiteID: f.site.ID, Opened: morning, Finding: diagnose.Finding{Cause: "device-off",
		Subject: "device a"}},
		nil)
	require.NoError(t, err)
	told := func(key string, item notice.Item) ([]int64, error) {
		return f.AddNotice(ctx, store.Notice{To: "person dispatch", Content: notice.Content{Subject: key}, Decided: morning},
			[]notice.Way{notice.ByMail}, []store.NoticeItem{{Key: key, Item: item}})
	}
	ids, err := told("fault", notice.Item{What: notice.Opened, FaultID: id})
	require.NoError(t, err)
	_, err = told("fault", notice.Item{What: notice.Opened, FaultID: id})
	var taken store.Taken
	require.ErrorAs(t, err, &taken, "one thing is told once")
	moved, err := told("move", notice.Item{What: notice.Moved, MoveID: 3})
	require.NoError(t, err)

	later := morning.AddDate(0, 1, 0)
	list, err := f.ToldSince(ctx, later)
	require.NoError(t, err)
	require.Len(t, list, 1)
	require.Equal(t, id, list[0].Item.FaultID)
	for _, d := range append(ids, moved...) {
		require.NoError(t, f.PutDelivery(ctx, store.Delivery{ID: d, State: store.DeliverySent, Done: morning}))
	}
	require.NoError(t, f.DropNotices(ctx, later))
	log, err := f.Deliveries(ctx, store.DeliveryFilter{Limit: 10})
	require.NoError(t, err)
	require.Len(t, log, 1, "the move's is gone, the open fault's is not")
	_, err = f.SaveFault(ctx, store.Fault{ID: id, SiteID: f.site.ID, Opened: morning, Closed: morning.Add(time.Hour),
		Finding: diagnose.Finding{Cause: "device-off", Subject: "device a"}}, nil)
	require.NoError(t, err)
	require.NoError(t, f.DropNotices(ctx, later))
	log, err = f.Deliveries(ctx, store.DeliveryFilter{Limit: 10})
	require.NoError(t, err)
	require.Empty(t, log)
}
