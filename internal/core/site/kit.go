package site

import (
	"errors"
	"fmt"
	"regexp"
	"strings"
	"time"

	"inkpost.example/inkpost/internal/core/probe"
)

// Kit is a ready-made set of services for a common kind of equipment, with what to set up on it and what to think of before it is exposed.
type Kit struct {
	Name     string       `json:"kit"`
	Title    string       `json:"title"`
	Advice   []string     `json:"advice,omitempty"` // before it is exposed
	Steps    []string     `json:"steps,omitempty"`  // to set up on the device, in order
	Services []KitService `json:"services"`
	Own      bool         `json:"own,omitempty"` // somebody made it here
}

// KitService is a service of a kit. Expected is reachable if empty, Internal is External if 0.
type KitService struct {
	Name      string          `json:"name"`
	Kind      probe.Kind      `json:"kind"`
	Transport probe.Transport `json:"transport,omitempty"`
	External  int             `json:"external"`
	Internal  int             `json:"internal,omitempty"`
	Expected  probe.Expected  `json:"expected,omitempty"`
}

var kitName = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]{0,38}[a-z0-9])?$`)

// Bounds of a kit.
const (
	maxKitServices = 20
	maxKitLines    = 20
	maxKitLine     = 300
)

// Checked returns the kit with what was left out filled in. Error: Flaws, whose fields are those of a kit file: "services[0].kind".
func (k Kit) Checked() (Kit, error) {
	var f Flaws
	if !kitName.MatchString(k.Name) {
		f.add("kit", "%q is no name of a kit; 1 to 40 small letters, digits and hyphens are allowed, as in video-recorder", k.Name)
	}
	f.text("title", k.Title, true)
	for field, lines := range map[string][]string{"advice": k.Advice, "steps": k.Steps} {
		if len(lines) > maxKitLines {
			f.Note(field, fmt.Errorf("has %d lines; %d are allowed", len(lines), maxKitLines))
		}
		for i, l := range lines {
			if n := len([]rune(strings.TrimSpace(l))); n == 0 || n > maxKitLine {
				f.add(fmt.Sprintf("%s[%d]", field, i), "has %d characters; 1 to %d are allowed", n, maxKitLine)
			}
		}
	}
	if len(k.Services) == 0 || len(k.Services) > maxKitServices {
		f.add("services", "has %d services; 1 to %d are allowed", len(k.Services), maxKitServices)
		return k, f
	}
	k.Services = append([]KitService{}, k.Services...)
	seen := map[string]bool{}
	for i, s := range k.Services {
		at := fmt.Sprintf("services[%d]", i)
		kind, err := probe.ParseKind(string(s.Kind))
		if err != nil {
			f.Note(at+".kind", err)
			continue
		}
		s.Kind = kind
		one, err := s.service().Checked(time.Second)
		var flaws Flaws
		if errors.As(err, &flaws) {
			for _, flaw := range flaws {
				f.add(at+"."+strings.TrimSuffix(flaw.Field, "_seconds"), "%s", flaw.Detail)
			}
		}
		if seen[one.Name] {
			f.add(at+".name", "%q is there twice", one.Name)
		}
		seen[one.Name] = true
		k.Services[i] = KitService{Name: one.Name, Kind: one.Kind, Transport: one.Transport, External: one.ExternalFrom,
			Internal: one.InternalFrom,
			Expected: one.Expected}
	}
	return k, f.Err()
}

// service is the service of a kit as one of a site.
func (s KitService) service() Service {
	out := Service{Name: s.Name, Kind: s.Kind, Transport: s.Transport, ExternalFrom: s.External, ExternalTo: s.External,
		InternalFrom: s.Internal,
		Expected:     s.Expected, Interval: 60}
	if out.Kind == "" {
		out.Kind = probe.KindTCP
	}
	if out.Transport == "" {
		out.Transport = probe.TCP
		if usual := probe.TraitOf(out.Kind).Transports; len(usual) > 0 {
			out.Transport = usual[0]
		}
	}
	if out.InternalFrom == 0 {
		out.InternalFrom = s.External
	}
	if out.Expected == "" {
		out.Expected = probe.ExpectReachable
	}
	return out
}

// ServicesOn returns the services that a kit puts on a device, named after it, with outside ports moved by shift where two of the kit are
// at a site. Errors: Flaws.
func (k Kit) ServicesOn(d Device, shift int, shortest time.Duration) ([]Service, error) {
	var f Flaws
	var out []Service
	for _, s := range k.Services {
		one := s.service()
		one.SiteID, one.DeviceID, one.Device, one.OnRouter = d.SiteID, d.ID, d.Name, d.Router
		one.Name = d.Name + "-" + one.Name
		one.ExternalFrom, one.ExternalTo = one.ExternalFrom+shift, one.ExternalTo+shift
		checked, err := one.Checked(shortest)
		var flaws Flaws
		if errors.As(err, &flaws) {
			for _, flaw := range flaws {
				f.add("shift", "%s: %s", one.Name, flaw.Detail)
			}
		}
		out = append(out, checked)
	}
	return out, f.Err()
}
