package diagnose

import (
	"fmt"
	"strings"

	"inkpost.example/inkpost/internal/core/names"
)

// held says which remote zones do not take this site's names, one finding a zone: it is one primary that has the trouble.
func (e Evidence) held() []Finding {
	byZone := map[names.Name][]HostnameEvidence{}
	var order []names.Name
	for _, h := range e.Hostnames {
		if h.State != names.StateHeld || h.Push.Problem == "" {
			continue
		}
		if byZone[h.Zone] == nil {
			order = append(order, h.Zone)
		}
		byZone[h.Zone] = append(byZone[h.Zone], h)
	}
	var out []Finding
	for _, zone := range order {
		list := byZone[zone]
		push := list[0].Push
		f := Finding{Hop: HopHostname, Subject: "zone " + string(zone),
			Summary: fmt.Sprintf("%s does not get the new address of %s", zone, hostnamesOf(list)),
			Evidence: []string{fmt.Sprintf("its primary %s: %s", push.Primary, push.Detail),
				fmt.Sprintf("tried %d times in %s", push.Tries, spoken(e.Now.Sub(push.Since)))}}
		if push.Problem == PushRefused {
			f.Cause = CausePrimaryRefuses
			f.Next = fmt.Sprintf("Ask whoever runs %s to allow our key to update these names, then: inkpost zone push %s",
				push.Primary, zone)
			f.Also = append(f.Also, "The key's name or secret was mistyped: compare both with the primary's.")
			f.Also = append(f.Also, "The two clocks differ by more than five minutes.")
		} else {
			f.Cause = CausePrimaryAway
			f.Next = fmt.Sprintf("See whether %s is up and lets us through. Nothing is lost: the newest address goes there when "+
				"it answers.", push.Primary)
		}
		out = append(out, f)
	}
	return out
}

func hostnamesOf(list []HostnameEvidence) string {
	words := make([]string, len(list))
	for i, h := range list {
		words[i] = string(h.Name)
	}
	return strings.Join(words, ", ")
}
