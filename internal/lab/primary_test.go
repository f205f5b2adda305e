package lab_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/lab"
	"inkpost.example/inkpost/internal/wire/dnsupdate"
)

func TestThePrimaryTakesSignedUpdatesAndKeepsThemWhileItIsAway(t *testing.T) {
	const zone, name, secret = "quay.saltmarsh.example", "ferry.quay.saltmarsh.example", "c2xpcHdheS1nYW5uZXQta2V0dGxlLWZlcnJ5LTAwMDE="
	p, err := lab.NewPrimary("127.0.0.1:0", zone, "push.example", secret)
	require.NoError(t, err)
	t.Cleanup(func() { _ = p.SetRunning(false) })
	want := []names.Record{{Name: name, Type: "A", TTL: 30, Data: "198.51.100.7"}}
	to := dnsupdate.Primary{Address: p.Addr(), Transport: names.OverUDP, KeyName: "push.example", Algorithm: "hmac-sha256", Secret: secret}
	send := func(to dnsupdate.Primary) error {
		m, err := dnsupdate.Compose(zone, name, nil, want)
		require.NoError(t, err)
		return to.Send(t.Context(), m)
	}
	unsigned := dnsupdate.Primary{Address: p.Addr(), Transport: names.OverTCP}
	require.ErrorAs(t, send(unsigned), &dnsupdate.Refused{})
	require.NoError(t, send(to))
	got, err := to.Records(t.Context(), name, []string{"A", "MX"})
	require.NoError(t, err)
	require.Equal(t, want, got)
	require.NoError(t, p.SetRunning(false))
	require.ErrorAs(t, send(to), &dnsupdate.Unreachable{})
	require.NoError(t, p.SetRunning(true))
	got, err = to.Records(t.Context(), name, []string{"A"})
	require.NoError(t, err)
	require.Equal(t, want, got)
}
