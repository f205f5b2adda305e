package diagnose_test

import (
	"fmt"
	"net/netip"
	"time"

	"inkpost.example/inkpost/internal/core/diagnose"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
)

// What is found says which hop is broken, and what to do.
func ExampleSite() {
	now := time.Date(2026, 11, 2, 8, 0, 0, 0, time.UTC)
	home := netip.MustParseAddr("198.51.100.7")
	findings := diagnose.Site(diagnose.Evidence{
		Now:     now,
		Site:    site.Site{Code: "KET-07"},
		Links:   []diagnose.LinkEvidence{{Link: site.Link{Label: "main", IPv4: home, Heard: now}}},
		Devices: []site.Device{{Name: "recorder", Address: netip.MustParseAddr("192.168.7.20")}},
		Services: []diagnose.ServiceEvidence{{
			Service: site.Service{Name: "page", Device: "recorder", Transport: probe.TCP, ExternalFrom: 8443, ExternalTo: 8443,
				InternalFrom: 443, Expected: probe.ExpectReachable},
			OnLink: "main", Address: home, State: probe.StateUnreachable, Outcome: probe.Refused, InRow: 3, Probed: now,
		}},
	})
	for _, f := range findings {
		fmt.Println(f.Hop, f.Summary)
		fmt.Println("Next:", f.Next)
	}
	// Output:
	// service Nothing listens on TCP port 443 of recorder: the service is not running
	// Next: On recorder (192.168.7.20), start what should listen on TCP port 443, and make it start at boot.
}
