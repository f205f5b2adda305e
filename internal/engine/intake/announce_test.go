package intake

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/engine/changes"
	"inkpost.example/inkpost/internal/store"
)

func TestARefusalSaysHowToAllowIt(t *testing.T) {
	c := ClaimantOf(store.Key{ID: 13, LinkID: 7, MayAnnounce: []netip.Prefix{netip.MustParsePrefix("203.0.113.0/24")}},
		netip.MustParseAddr("198.51.100.7"))
	require.EqualValues(t, 7, c.LinkID)
	proof := wan.Proof{Own: []netip.Addr{c.From}, Allowed: c.Allowed}
	for text, command := range map[string]string{
		"198.51.100.8": "inkpost key allow 13 198.51.100.8/32",
		"2001:db8::8":  "inkpost key allow 13 2001:db8::8/128",
	} {
		var refused changes.Refused
		require.ErrorAs(t, c.reasonOf(proof.Check(netip.MustParseAddr(text))), &refused)
		require.Contains(t, refused.Reason, text+" is not the address that this comes from (198.51.100.7)")
		require.Contains(t, refused.Reason, command)
	}
	require.NoError(t, c.reasonOf(proof.Check(netip.MustParseAddr("203.0.113.9"))))
	require.ErrorIs(t, c.reasonOf(changes.ErrLinkGone), changes.ErrLinkGone, "another reason stays what it is")
}

func TestNothingThatIsAnnouncedMovesAStaticLink(t *testing.T) {
	require.NoError(t, changes.Static(site.Link{Label: "main", Mode: site.Dynamic}))
	require.ErrorContains(t, changes.Static(site.Link{Label: "main", Mode: site.Static}),
		"link main is static: an operator sets its address")
}
