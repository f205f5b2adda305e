// Package team_test holds who may do what: people, their teams, second factors, and what is written down of what they do.
package team_test

import (
	"io"
	"net/http"
	"testing"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/testbed"
)

func TestMain(m *testing.M) { testbed.Main(m) }

func get(t *testing.T, s *testbed.Service, path string) (int, []byte) {
	t.Helper()
	r, err := http.Get(s.URL + path)
	require.NoError(t, err)
	defer r.Body.Close()
	doc, err := io.ReadAll(r.Body)
	require.NoError(t, err)
	return r.StatusCode, doc
}
