package team

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestWhoMayDoWhat(t *testing.T) {
	for role, want := range map[Role][]Right{Owner: {Read, Probe, Edit, Administer}, Technician: {Read, Probe, Edit}, Viewer: {Read},
		"": {Read}} {
		var got []Right
		for _, r := range rights {
			if role.May(r) {
				got = append(got, r)
			}
		}
		require.Equal(t, want, got, role)
	}
	for key, want := range map[Right][]Right{Read: {Read}, Probe: {Read, Probe}, Edit: {Read, Probe, Edit, Administer}} {
		var got []Right
		for _, r := range rights {
			if KeyMay(key, r) {
				got = append(got, r)
			}
		}
		require.Equal(t, want, got, key)
	}
}

func TestWhatIsReadIsOneOfTheWords(t *testing.T) {
	r, err := ParseRole("technician")
	require.NoError(t, err)
	require.Equal(t, Technician, r)
	_, err = ParseRole("root")
	require.ErrorContains(t, err, "owner, technician and viewer are")
	k, err := ParseRight("probe")
	require.NoError(t, err)
	require.Equal(t, Probe, k)
	_, err = ParseRight("administer")
	require.ErrorContains(t, err, "read, probe and edit are")
}

func TestATeamSeesTheSitesWithItsTags(t *testing.T) {
	require.True(t, Sight(nil).Sees(nil))
	north := Sight{"north", "quay"}
	require.True(t, north.Sees([]string{"kettle", "quay"}))
	require.False(t, north.Sees([]string{"south"}))
	require.False(t, north.Sees(nil))
	require.Equal(t, "sites tagged north or quay", north.Words())
	require.Equal(t, "all sites", Sight{}.Words())
}

func TestAnOwnerIsLeft(t *testing.T) {
	require.Empty(t, LastOwner(Owner, Technician, 1))
	require.Contains(t, LastOwner(Owner, "", 0), "only owner")
	require.Empty(t, LastOwner(Viewer, "", 0))
	require.Empty(t, LastOwner(Owner, Owner, 0))
}
