package daemon_test

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/commission"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/testbed"
)

func TestAKitPutsAllOfADeviceOnRecordOrNothing(t *testing.T) {
	t.Parallel()
	s := testbed.Start(t, nil)
	ctx, c := t.Context(), s.Client
	newcomer(t, s, "127.110.7.97")
	got, err := c.UseKit(ctx, "KET-07", "video-recorder", contract.KitUse{Device: "recorder", Address: "192.168.7.20"})
	require.NoError(t, err)
	var names []string
	for _, v := range got.Services {
		names = append(names, v.Name)
	}
	require.Equal(t, []string{"recorder-page", "recorder-playback", "view"}, names)
	run, err := c.Commission(ctx, "KET-07", contract.CommissioningInput{Services: []string{"recorder-page"}})
	require.NoError(t, err)
	require.Contains(t, step(t, run, commission.Prepared, "device recorder").Do, "firmware")

	_, err = c.UseKit(ctx, "KET-07", "video-recorder", contract.KitUse{Device: "second", Address: "192.168.7.21"})
	require.ErrorContains(t, err, "8443", "its ports are taken")
	_, err = c.Device(ctx, "KET-07", "second")
	require.True(t, client.IsStatus(err, 404), "nothing of it is on record")
	_, err = c.UseKit(ctx, "KET-07", "video-recorder", contract.KitUse{Device: "second", Address: "192.168.7.21", Shift: 60000})
	require.ErrorContains(t, err, "65535")
	got, err = c.UseKit(ctx, "KET-07", "video-recorder", contract.KitUse{Device: "second", Address: "192.168.7.21", Shift: 1, Closed: true})
	require.NoError(t, err)
	v, err := c.Service(ctx, "KET-07", "second-page")
	require.NoError(t, err)
	require.Equal(t, "8444 closed", v.External+" "+string(v.Expected))
	require.Len(t, got.Services, 5)
	_, err = c.UseKit(ctx, "KET-07", "toaster", contract.KitUse{Device: "x", Address: "192.168.7.22"})
	require.True(t, client.IsStatus(err, 404))
	_, err = c.UseKit(ctx, "KET-07", "vpn-gateway", contract.KitUse{Device: "gateway", Address: "192.168.7.1"})
	require.NoError(t, err)
	v, err = c.Service(ctx, "KET-07", "gateway-vpn")
	require.NoError(t, err)
	require.Equal(t, probe.KindWireGuard, v.Kind)
	require.NotEmpty(t, v.PeerKey)
}

func TestAKitOfOnesOwnIsSharedAsAFile(t *testing.T) {
	t.Parallel()
	s := testbed.Start(t, nil)
	ctx, c := t.Context(), s.Client
	var file bytes.Buffer
	require.NoError(t, c.ExportKit(ctx, "camera", &file))
	text := strings.Replace(file.String(), "kit: camera", "kit: hide-camera", 1)
	_, err := c.ImportKit(ctx, strings.NewReader(file.String()))
	require.ErrorContains(t, err, "is a ready-made kit")
	k, err := c.ImportKit(ctx, strings.NewReader(text))
	require.NoError(t, err)
	require.True(t, k.Own)
	list, err := c.Kits(ctx)
	require.NoError(t, err)
	require.Equal(t, "hide-camera", list[len(list)-1].Name)
	_, err = c.ImportKit(ctx, strings.NewReader(strings.Replace(text, "kind: rtsp", "kind: gopher", 1)))
	require.ErrorContains(t, err, "services[1].kind")
	require.Regexp(t, `line \d+, services`, err.Error())
	require.NoError(t, c.RemoveKit(ctx, "hide-camera"))
	require.True(t, client.IsStatus(c.RemoveKit(ctx, "hide-camera"), 404))
	require.True(t, client.IsStatus(c.RemoveKit(ctx, "camera"), 404), "what is ready-made stays")
}
