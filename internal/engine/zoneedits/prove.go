package zoneedits

import (
	"context"
	"fmt"
	"strings"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/wire/dnsask"
)

// proofTTL is how many seconds a resolver may keep a proof.
const proofTTL = 10

// seenWait is how long the other name servers of a zone may take to have a proof.
const seenWait = 30 * time.Second

// ProveName puts a TXT record below _acme-challenge of a name into the hosted zone that the name lies in, waits until the zone's name
// servers answer it, and returns what takes it away again. Errors: a name that lies in no hosted zone, those of AddZoneRecord.
func (e *ZoneEdits) ProveName(ctx context.Context, name, text string) (withdraw func(), err error) {
	owner, err := names.Parse(name)
	if err != nil {
		return nil, err
	}
	owner = "_acme-challenge." + owner
	var in names.Zone
	for _, z := range e.Record.Zones() { // the zone nearest to the name
		if z.Kind == names.Hosted && (string(owner) == string(z.Apex) || strings.HasSuffix(string(owner), "."+string(z.Apex))) &&
			len(z.Apex) > len(in.Apex) {
			in = z
		}
	}
	if in.ID == 0 {
		return nil, fmt.Errorf("%s lies in no zone that is hosted here; prove it by tls-alpn instead", name)
	}
	ttl := proofTTL
	r, err := e.AddZoneRecord(ctx, string(in.Apex), contract.RecordInput{Name: owner, Type: "TXT", TTL: &ttl, Data: fmt.Sprintf("%q",
		text)})
	if err != nil {
		return nil, err
	}
	bounded, cancel := context.WithTimeout(ctx, seenWait)
	defer cancel()
	for _, at := range in.Notify { // the secondaries; whoever does not answer is left to the authority to judge
		for bounded.Err() == nil && !dnsask.HasText(bounded, at.String(), owner, text) {
			select {
			case <-time.After(500 * time.Millisecond):
			case <-bounded.Done():
			}
		}
	}
	return func() {
		if err := e.RemoveZoneRecord(context.WithoutCancel(ctx), string(in.Apex), r.ID); err != nil {
			e.Log.Warn("a proof could not be taken out of its zone", "name", owner, "error", err)
		}
	}, nil
}
