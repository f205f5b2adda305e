package site

import (
	"slices"
	"strings"

	"inkpost.example/inkpost/internal/core/probe"
)

const (
	firmware  = "Bring its firmware up to date."
	passwords = "Replace the password that it came with, and remove accounts that nobody needs."
	askless   = "Switch off its own asking for forwards (UPnP), and its maker's remote access."
)

// kits are the ready-made kits.
var kits = []Kit{
	{Name: "video-recorder", Title: "Video recorder", Advice: []string{
		"Recorders on the open internet are found within hours. Behind a VPN gateway they are not: put in the kit vpn-gateway, " +
			"and leave these ports closed.",
		"Where that cannot be, expose the page over TLS only."},
		Steps: []string{firmware, passwords, askless, "Switch its page to HTTPS, and its clock to network time."},
		Services: []KitService{{Name: "page", Kind: probe.KindHTTPS, External: 8443, Internal: 443},
			{Name: "playback", Kind: probe.KindRTSP, External: 8554, Internal: 554}}},
	{Name: "camera", Title: "Camera",
		Advice: []string{"A camera belongs behind a VPN gateway, or behind its recorder: expose one of these instead."},
		Steps:  []string{firmware, passwords, askless},
		Services: []KitService{{Name: "page", Kind: probe.KindHTTPS, External: 8444, Internal: 443},
			{Name: "stream", Kind: probe.KindRTSP, External: 8555, Internal: 554}}},
	{Name: "desktop", Title: "Desktop computer", Advice: []string{
		"Never leave remote desktop open to everybody: put in the kit vpn-gateway first, expect this port closed, and connect " +
			"through the VPN."},
		Steps:    []string{"Allow remote desktop for named accounts only, with network level authentication.", "Keep it from sleeping."},
		Services: []KitService{{Name: "desktop", Kind: probe.KindRDP, External: 3389, Internal: 3389, Expected: probe.ExpectClosed}}},
	{Name: "vpn-gateway", Title: "VPN gateway", Steps: []string{"Make a key for each person, and one for Ink Post's probes.",
		"Allow it into the parts of the LAN that are needed, and no others."},
		Services: []KitService{{Name: "vpn", Kind: probe.KindWireGuard, Transport: probe.UDP, External: 51820, Internal: 51820}}},
	{Name: "web-server", Title: "Web server", Steps: []string{firmware, "Have its certificate renew itself.",
		"Send HTTP on to HTTPS."},
		Services: []KitService{{Name: "site", Kind: probe.KindHTTPS, External: 443, Internal: 443},
			{Name: "plain", Kind: probe.KindHTTP, External: 80, Internal: 80}}},
	{Name: "mail-server", Title: "Mail server",
		Advice: []string{"Ask the provider whether port 25 is open both ways, and for a reverse name."},
		Steps:  []string{"Take mail for its own names only.", "Offer mailboxes over TLS only."},
		Services: []KitService{{Name: "transfer", Kind: probe.KindSMTP, External: 25, Internal: 25},
			{Name: "submission", Kind: probe.KindSMTP, External: 587, Internal: 587},
			{Name: "mailboxes", Kind: probe.KindIMAP, External: 993, Internal: 993}}},
	{Name: "file-server", Title: "File server",
		Advice: []string{"File sharing must not leave the LAN: reach it through a VPN gateway, or over SSH."},
		Steps:  []string{firmware, passwords, askless, "Allow SSH with keys only."},
		Services: []KitService{{Name: "shell", Kind: probe.KindSSH, External: 8022, Internal: 22},
			{Name: "shares", Kind: probe.KindTCP, External: 445, Internal: 445, Expected: probe.ExpectClosed}}},
	{Name: "network-switch", Title: "Network switch", Advice: []string{"Its management pages are for the LAN and the VPN only."},
		Steps: []string{firmware, passwords},
		Services: []KitService{{Name: "page", Kind: probe.KindHTTP, External: 8082, Internal: 80, Expected: probe.ExpectClosed},
			{Name: "snmp", Kind: probe.KindTCP, Transport: probe.TCP, External: 161, Internal: 161, Expected: probe.ExpectClosed}}},
	{Name: "door-phone", Title: "Door phone",
		Advice: []string{"Let it register at a telephone exchange instead of exposing it, where that is possible."},
		Steps:  []string{firmware, passwords, askless},
		Services: []KitService{{Name: "calls", Kind: probe.KindSIP, Transport: probe.UDP, External: 5060, Internal: 5060},
			{Name: "view", Kind: probe.KindHTTPS, External: 8445, Internal: 443}}},
}

// Kits lists the ready-made kits by name.
func Kits() []Kit {
	out := slices.Clone(kits)
	slices.SortFunc(out, func(a, b Kit) int { return strings.Compare(a.Name, b.Name) })
	return out
}
