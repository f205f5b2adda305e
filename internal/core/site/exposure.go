package site

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"inkpost.example/inkpost/internal/core/probe"
)

// Advice is one thing that a review of a site's exposure found, and what to do about it. Port is 0 if it is about no port in particular.
type Advice struct {
	Port    int    `json:"port"`
	What    string `json:"what"`
	Service string `json:"service,omitempty"` // on record at that port
	Severe  bool   `json:"severe"`            // should not wait for the next visit
	Advice  string `json:"advice"`
}

// risk is a TCP port that is commonly left open, and what it means on the open internet.
type risk struct {
	port   int
	what   string
	grave  bool
	advice string
}

const (
	behindVPN   = "Close it, and reach it through the VPN."
	overTLS     = "Close it, or serve it over TLS only."
	closeIt     = "Close it: nothing outside the site needs it."
	databases   = "Close it: a database belongs on the LAN, or behind the VPN."
	management  = "Switch the router's remote management off, or allow it from your own addresses only."
	ownCustomer = "Keep the firmware up to date, change the default password, and prefer the VPN."
)

var risks = []risk{
	{21, "file transfer (FTP) in the clear", false, overTLS},
	{22, "secure shell on its standard port", false, "Allow keys only, no passwords; another port keeps most of the noise away."},
	{23, "telnet: passwords in the clear", true, closeIt}, {25, "mail transfer", false, "Check that it takes mail for its own names only."},
	{53, "name server", false, "Check that it does not resolve names for everybody."}, {80, "web page in the clear", false, overTLS},
	{110, "mailbox (POP3) in the clear", false, overTLS}, {111, "port mapper", true, closeIt},
	{135, "remote procedure calls of Windows", true, closeIt},
	{139, "file sharing of Windows", true, closeIt}, {143, "mailbox (IMAP) in the clear", false, overTLS},
	{443, "web page", false, "Make sure that it is meant to be public."},
	{445, "file sharing of Windows", true, closeIt}, {502, "industrial control (Modbus)", true, behindVPN}, {515, "printer", true, closeIt},
	{548, "file sharing", true, closeIt}, {554, "camera stream", true, ownCustomer}, {631, "printer", true, closeIt},
	{873, "file copying (rsync)", true, closeIt}, {1080, "proxy", true, closeIt}, {1433, "database", true, databases},
	{1723, "VPN of an old kind (PPTP), long broken", true, "Replace it by another VPN."},
	{1883, "message broker in the clear", true, behindVPN}, {2049, "file sharing (NFS)", true, closeIt},
	{2323, "telnet on another port", true, closeIt},
	{3306, "database", true, databases}, {3389, "remote desktop on the open internet", true, behindVPN},
	{5000, "device's management page", false, ownCustomer},
	{5432, "database", true, databases}, {5555, "remote control of Android devices", true, closeIt},
	{5900, "screen sharing", true, behindVPN}, {5985, "remote management of Windows", true, behindVPN},
	{6379, "database in memory", true, databases},
	{7547, "the provider's remote management (CWMP)", false, "Ask the provider to allow it from its own servers only."},
	{8000, "device's management page", false, ownCustomer}, {8080, "web page or proxy in the clear", false, overTLS},
	{8291, "router management", true, management},
	{8443, "device's management page", false, ownCustomer}, {8554, "camera stream", false, ownCustomer},
	{9100, "printer", true, closeIt}, {9200, "search engine's data", true, databases},
	{11211, "database in memory", true, databases}, {27017, "database", true, databases},
	{37777, "recorder's own protocol", true, ownCustomer},
}

// RiskyPorts lists the TCP ports that a review looks at, in order. Nothing else is tried.
func RiskyPorts() []int {
	out := make([]int, len(risks))
	for i, r := range risks {
		out[i] = r.port
	}
	return out
}

// Shown is what is known of a service on record when a site is reviewed.
type Shown struct {
	Service
	State    probe.State
	Expires  time.Time // of its certificate; zero for none
	Weakness string    // what is unsafe about how it answers
}

// expiringSoon is how long before its end a certificate is reported.
const expiringSoon = 21 * 24 * time.Hour

// Review turns what is open at a site's address, and how its services answer, into advice, the gravest first.
func Review(open []int, services []Shown, now time.Time) []Advice {
	var out []Advice
	at := func(port int) (Shown, bool) {
		for _, s := range services {
			if s.Transport.Has(probe.TCP) && s.ExternalFrom <= port && port <= s.ExternalTo {
				return s, true
			}
		}
		return Shown{}, false
	}
	for _, port := range open {
		i := slices.IndexFunc(risks, func(r risk) bool { return r.port == port })
		if i < 0 {
			continue
		}
		a := Advice{Port: port, What: risks[i].what, Severe: risks[i].grave, Advice: risks[i].advice}
		if s, ok := at(port); !ok {
			a.What += ", which is not on the site's record"
			a.Severe = true
			a.Advice = "Find out in the router where it leads. " + a.Advice
		} else {
			a.Service = s.Name
			if s.ExpectedAt(now) == probe.ExpectClosed {
				a.What, a.Severe = a.What+", which has to be closed", true
			}
		}
		out = append(out, a)
	}
	for _, s := range services {
		if s.State != probe.StateReachable && s.State != probe.StateExposed && s.State != probe.StateImpaired {
			continue
		}
		t := probe.TraitOf(s.Kind)
		if s.State == probe.StateExposed && !slices.Contains(open, s.ExternalFrom) {
			out = append(out, Advice{Port: s.ExternalFrom, Service: s.Name,
				What: t.About + " that has to be closed, yet anyone can open it", Severe: true, Advice: closeIt})
			continue
		}
		if t.Clear {
			out = append(out, Advice{Port: s.ExternalFrom, Service: s.Name, What: t.About + " without encryption",
				Advice: "What it says, and any password, can be read on the way. Put it behind the VPN or on TLS."})
		}
		if s.Weakness != "" {
			out = append(out, Advice{Port: s.ExternalFrom, Service: s.Name, What: s.Weakness, Severe: true,
				Advice: "Change the service's settings, or close it."})
		}
		if (s.Kind == probe.KindRDP || s.Kind == probe.KindVNC) && !slices.Contains(open, t.Port) {
			out = append(out, Advice{Port: s.ExternalFrom, Service: s.Name, What: t.About + " on the open internet", Severe: true,
				Advice: behindVPN})
		}
		if t.Port != 0 && s.ExternalFrom == t.Port && !slices.Contains(open, t.Port) {
			out = append(out, Advice{Port: s.ExternalFrom, Service: s.Name, What: t.About + " on its standard port",
				Advice: "Whoever looks for such a service looks here first; another external port keeps most of the noise away."})
		}
		switch left := s.Expires.Sub(now); {
		case s.Expires.IsZero():
		case left < 0:
			out = append(out, Advice{Port: s.ExternalFrom, Service: s.Name, What: "its certificate has expired", Severe: true,
				Advice: "Renew it on the device: people learn to click the warning away."})
		case left < expiringSoon:
			out = append(out, Advice{Port: s.ExternalFrom, Service: s.Name,
				What:   fmt.Sprintf("its certificate expires in %d days", int(left.Hours()/24)),
				Advice: "Renew it at the next visit, and make sure that it renews itself."})
		}
	}
	slices.SortStableFunc(out, func(a, b Advice) int {
		grave := map[bool]int{true: 0, false: 1}
		return cmp.Or(grave[a.Severe]-grave[b.Severe], a.Port-b.Port)
	})
	return out
}
