package daemon_test

import (
	"context"
	"net/netip"
	"testing"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/engine"
	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/testbed"
	"inkpost.example/inkpost/internal/wire/authdns"
	"inkpost.example/inkpost/internal/wire/authdns/accesstest"
)

func TestTheEngineDecidesOnTransfersAndUpdates(t *testing.T) {
	t.Parallel()
	st, err := store.Open(t.Context(), testbed.Database(t))
	require.NoError(t, err)
	t.Cleanup(st.Close)
	e, err := engine.New(t.Context(), st, &authdns.Directory{}, engine.Config{Policy: announcePolicy})
	require.NoError(t, err)
	ctx, stop := context.WithCancel(t.Context())
	ended := make(chan struct{})
	go func() { e.Run(ctx); close(ended) }()
	t.Cleanup(func() { stop(); <-ended })
	_, err = e.AddSigningKey(ctx, contract.SigningKeyInput{Name: "transfer.example", Algorithm: "hmac-sha512"})
	require.NoError(t, err)
	_, err = e.AddZone(ctx, contract.ZoneInput{Apex: zone, Servers: []string{"ns1." + zone + "=198.51.100.1"},
		TransferTo: []string{"198.51.100.53"}, TransferKey: "transfer.example"})
	require.NoError(t, err)
	for _, code := range []string{"KET-07", "DUN-12"} {
		_, err = e.AddSite(ctx, contract.SiteInput{Code: code, Name: code})
		require.NoError(t, err)
		_, err = e.AddLink(ctx, code, contract.LinkInput{Label: "main"})
		require.NoError(t, err)
	}
	for name, site := range map[string]string{"ket-07": "KET-07", "dun-12": "DUN-12"} {
		_, err = e.AddHostname(ctx, contract.HostnameInput{Name: name + "." + zone, Site: site})
		require.NoError(t, err)
	}
	_, err = e.AddSigningKey(ctx, contract.SigningKeyInput{Name: "ket-07.example", Algorithm: "hmac-sha256", Site: "KET-07",
		MayAnnounce: []netip.Prefix{netip.MustParsePrefix("198.51.100.0/24")}})
	require.NoError(t, err)
	update := func(name string) *dns.Msg {
		m := new(dns.Msg).SetUpdate(zone + ".")
		m.Insert([]dns.RR{rrOf(t, name+"."+zone+". 60 A 198.51.100.7")})
		return m
	}
	accesstest.Check(t, e, accesstest.Zone{Apex: zone + ".", TransferKey: "transfer.example.", UpdateKey: "ket-07.example.",
		TransferTo: netip.MustParseAddr("198.51.100.53"), Taken: update("ket-07"), Refused: update("dun-12")})
}
