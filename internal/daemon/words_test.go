package daemon_test

import (
	"encoding/base64"
	"net/netip"
	"testing"
	"time"

	testify "github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/daemon"
	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/testbed"
	"inkpost.example/inkpost/internal/wire/authdns"
)

type (
	assert  = testify.CollectT
	options = daemon.Options
)

func linkID(t *testing.T, s *testbed.Service, code string) int64 {
	t.Helper()
	return linkIDOf(t, s.Store(), code)
}

func announcementOf(address string) wan.Announcement {
	return wan.Announcement{Addresses: wan.PairOf(netip.MustParseAddr(address)), Source: wan.SourceGateway, Noticed: time.Now()}
}

func counts(s *testbed.Service) authdns.Counts { return s.Names.Counts() }

// announcePolicy takes the addresses of tests for public ones.
var announcePolicy = wan.Policy{StandIns: testbed.Public}

func linkIDOf(t *testing.T, st *store.Store, code string) int64 {
	t.Helper()
	site, err := st.Site(t.Context(), code)
	require.NoError(t, err)
	l, err := st.Link(t.Context(), site.ID, "main")
	require.NoError(t, err)
	return l.ID
}

func base64of(b []byte) string { return base64.StdEncoding.EncodeToString(b) }
