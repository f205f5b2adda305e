package daemon_test

import (
	"bytes"
	"encoding/json"
	"io"
	"net/http"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/testbed"
)

// raw sends a document as it is, as a program without our types would.
func raw(t *testing.T, s *testbed.Service, method, path string, doc []byte) []byte {
	t.Helper()
	req, err := http.NewRequestWithContext(t.Context(), method, s.URL+"/api/v1"+path, bytes.NewReader(doc))
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+s.Key)
	if doc != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	reply, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer reply.Body.Close()
	body, err := io.ReadAll(reply.Body)
	require.NoError(t, err)
	require.Less(t, reply.StatusCode, 300, "%s %s: %s", method, path, body)
	return body
}

// Every resource is read as it is written: what GET gave is taken by PATCH, and by POST once the resource is gone, and says the same.
func TestWhatWasReadCanBeWrittenBack(t *testing.T) {
	s := testbed.Start(t, nil)
	record(t, s, "KET-07")
	for _, made := range []struct {
		list string
		in   any
	}{
		{"/zones", contract.ZoneInput{Apex: "quay." + zone,
			Servers: []string{"ns1.quay." + zone + "=127.0.0.1", "ns2.harbour.example"}, Contact: "hostmaster@harbour.example",
			TTL: 120, Notify: []string{"127.0.0.1:5399"}}},
		{"/sites/KET-07/links", contract.LinkInput{Label: "backup", Provider: "Ferry Mobile", Mode: "static", Position: 2,
			IPv4: "198.51.100.77", Dynamic: "192.168.7.100-192.168.7.199", Sources: []string{"gateway"}}},
		{"/sites/KET-07/devices", contract.DeviceInput{Name: "recorder", MAC: "02:00:5e:07:00:01", Address: "192.168.7.20",
			Reserved: true}},
		{"/sites/KET-07/services", contract.ServiceInput{Name: "page", Device: "recorder", Link: "main", Kind: "http",
			Transport: "tcp", External: "8443-8445", Internal: "443", Expected: "reachable",
			Interval: 120, Options: probe.Options{Path: "/status"}, OpenUntil: time.Now().Add(time.Hour).UTC().Truncate(time.Second)}},
		{"/hostnames", contract.HostnameInput{Name: "ket-07." + zone, Site: "KET-07", Link: "main", TTL: 300,
			Extras: []string{"www", "*"}, Mail: "mail.harbour.example", Device: "recorder"}},
		{"/aliases", contract.AliasInput{Name: "museum." + zone, Hostname: "ket-07." + zone, TTL: 90}},
		{"/redirects", contract.RedirectInput{Name: "cam." + zone, Hostname: "ket-07." + zone, TTL: 60, Scheme: "https", Port: 8443,
			Path: "/view", KeepPath: true, Status: 308}},
	} {
		doc, err := json.Marshal(made.in)
		require.NoError(t, err)
		raw(t, s, "POST", made.list, doc)
	}
	resources := []struct {
		list, one string
		patched   bool
		in        func() any // where the fields that can be written are read into
	}{ // what others need comes first
		{"/zones", "quay." + zone, true, func() any { return &contract.ZoneInput{} }},
		{"/sites", "KET-07", true, func() any { return &contract.SiteInput{} }},
		{"/sites/KET-07/links", "main", true, func() any { return &contract.LinkInput{} }},
		{"/sites/KET-07/links", "backup", true, func() any { return &contract.LinkInput{} }},
		{"/sites/KET-07/devices", "recorder", true, func() any { return &contract.DeviceInput{} }},
		{"/sites/KET-07/services", "page", true, func() any { return &contract.ServiceInput{} }},
		{"/hostnames", "ket-07." + zone, true, func() any { return &contract.HostnameInput{} }},
		{"/aliases", "museum." + zone, false, func() any { return &contract.AliasInput{} }},
		{"/redirects", "cam." + zone, true, func() any { return &contract.RedirectInput{} }},
	}
	written := func(in any, doc []byte) any {
		require.NoError(t, json.Unmarshal(doc, in))
		return in
	}
	docs := make([][]byte, len(resources))
	for i, x := range resources {
		docs[i] = raw(t, s, "GET", x.list+"/"+x.one, nil)
		require.NotEqual(t, x.in(), written(x.in(), docs[i]), "what was given is shown")
	}
	same := func(told string) {
		for i, x := range resources {
			require.Equal(t, written(x.in(), docs[i]), written(x.in(), raw(t, s, "GET", x.list+"/"+x.one, nil)), "%s %s", x.one, told)
		}
	}
	for i, x := range resources {
		if x.patched {
			raw(t, s, "PATCH", x.list+"/"+x.one, docs[i])
		}
	}
	same("edited with what it was")
	for _, x := range slices.Backward(resources) {
		raw(t, s, "DELETE", x.list+"/"+x.one, nil)
	}
	for i, x := range resources {
		raw(t, s, "POST", x.list, docs[i])
	}
	same("made again of what it was")
}
