package causes

import (
	"regexp"
	"strings"
)

var place = regexp.MustCompile(`\{([a-z0-9]+)\}`)

// general are the words for a place of which nothing particular is known.
var general = map[string]string{
	"address": "the site's public address", "announcer": "what announces the address", "at": "its LAN address", "device": "the device",
	"devices": "the device", "external": "the external port", "forward": "the port, to the device's LAN address and port",
	"found": "another LAN address", "given": "another address", "holder": "another machine", "hostname": "the hostname", "hours": "",
	"inside": "the service's port", "kind": "the service's protocol", "link": "LINK", "mac": "its MAC address", "missed": "others",
	"port": "the port", "primary": "the zone's primary", "provider": "the provider", "reached": "some vantage points",
	"remedies": "Ask the provider for a public address, or bridge the device in front of the router; otherwise use IPv6, or a VPN from " +
		"the " +
		"site outwards.",
	"service": "SERVICE", "sibling": "", "site": "SITE", "transport": "its transport", "v6": "the device's IPv6 address",
	"want": "the site's address", "zone": "the zone", "lost": "some", "what": "the service", "took": "much longer", "usual": "less",
	"names": "other names",
}

// Fill puts values into the places of a text; a place without a value gets general words.
func Fill(text string, places map[string]string) string {
	if at := place.FindStringSubmatchIndex(text); at != nil && at[0] == 0 && places[text[at[2]:at[3]]] == "" {
		if word := general[text[at[2]:at[3]]]; word != "" {
			text = strings.ToUpper(word[:1]) + word[1:] + text[at[1]:]
		}
	}
	return place.ReplaceAllStringFunc(text, func(p string) string {
		name := p[1 : len(p)-1]
		if v, ok := places[name]; ok && (v != "" || general[name] == "") {
			return v
		}
		return general[name]
	})
}

// Places lists the places that texts may have.
func Places() map[string]bool {
	out := map[string]bool{}
	for name := range general {
		out[name] = true
	}
	return out
}
