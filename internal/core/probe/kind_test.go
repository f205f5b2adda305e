package probe

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestEveryKindIsDescribed(t *testing.T) {
	seen := map[Kind]bool{}
	for _, trait := range Traits() {
		require.False(t, seen[trait.Kind], "%s twice", trait.Kind)
		seen[trait.Kind] = true
		require.NotEmpty(t, trait.About, trait.Kind)
		require.NotEmpty(t, trait.Transports, trait.Kind)
		require.Equal(t, trait, TraitOf(trait.Kind))
		k, err := ParseKind(strings.ToUpper(string(trait.Kind)))
		require.NoError(t, err)
		require.Equal(t, trait.Kind, k)
		for _, option := range trait.Options {
			require.NotContains(t, option, " ")
		}
	}
	require.Len(t, Kinds(), len(seen))
	Traits()[0].About = "changed"
	require.NotEqual(t, "changed", TraitOf(KindTCP).About, "what is handed out is a copy")
	require.Zero(t, TraitOf("gopher"))
	_, err := ParseKind("gopher")
	require.ErrorContains(t, err, `kind "gopher" is unknown; it is one of tcp, udp, tls, http`)
	k, err := ParseKind("")
	require.NoError(t, err)
	require.Equal(t, KindTCP, k)
}

func TestTransports(t *testing.T) {
	for _, c := range []struct {
		a, b  Transport
		meets bool
	}{{TCP, TCP, true}, {TCP, UDP, false}, {UDP, Both, true}, {Both, TCP, true}, {Both, Both, true}} {
		require.Equal(t, c.meets, c.a.Meets(c.b), "%s, %s", c.a, c.b)
		require.Equal(t, c.meets, c.b.Meets(c.a), "%s, %s", c.b, c.a)
	}
	require.True(t, Both.Has(UDP))
	require.False(t, TCP.Has(UDP))
	require.Equal(t, []Transport{TCP, UDP}, Both.Each())
	require.Equal(t, []Transport{UDP}, UDP.Each())
	require.Equal(t, "TCP and UDP", Both.String())
	require.Equal(t, "UDP", UDP.String())
}

func TestSilenceProvesNothingOfWhatMayKeepSilent(t *testing.T) {
	for name, c := range map[string]struct {
		kind Kind
		o    Options
		mute bool
	}{
		"a datagram of no protocol":           {KindUDP, Options{}, true},
		"a time server":                       {KindNTP, Options{}, false},
		"OpenVPN":                             {KindOpenVPN, Options{}, false},
		"OpenVPN that wants signed packets":   {KindOpenVPN, Options{Guarded: "yes"}, true},
		"WireGuard whose key we do not know":  {KindWireGuard, Options{}, true},
		"WireGuard that we can greet by name": {KindWireGuard, Options{PeerKey: "x"}, false},
	} {
		require.Equal(t, c.mute, Mute(c.kind, c.o), name)
	}
	require.Equal(t, KindDNS, KindDNS.On(TCP))
	require.Equal(t, KindUDP, KindSSH.On(UDP), "a protocol that does not run over UDP is probed as the bare port there")
}

func TestFingerprintsAreOfWhatStays(t *testing.T) {
	require.Equal(t, "key SHA256:abc", KeyPrint("abc=="))
	require.Equal(t, BannerPrint("220 mail.example ESMTP <17.1732390000@mail.example> ready"),
		BannerPrint("220  mail.example ESMTP <18.1732399999@mail.example> ready"))
	require.Equal(t, BannerPrint("ready at 12:30:07"), BannerPrint("ready at 23:59:59"))
	require.NotEqual(t, BannerPrint("SSH-2.0-one"), BannerPrint("SSH-2.0-two"))
	require.Empty(t, BannerPrint(" \r\n "))
	require.LessOrEqual(t, len(BannerPrint(strings.Repeat("ab", 500))), len("banner ")+longestBanner)
}
