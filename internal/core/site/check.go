package site

import (
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"time"

	"inkpost.example/inkpost/internal/core/pace"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/wan"
)

// Flaw is one thing wrong with what was given: which field, and what is allowed.
type Flaw struct {
	Field  string `json:"field"`
	Detail string `json:"detail"`
}

// Flaws are all that is wrong with one request. As an error they read one after the other.
type Flaws []Flaw

func (f Flaws) Error() string {
	parts := make([]string, len(f))
	for i, flaw := range f {
		parts[i] = flaw.Field + ": " + flaw.Detail
	}
	return strings.Join(parts, "; ")
}

// Err is nil if there is no flaw.
func (f Flaws) Err() error {
	if len(f) == 0 {
		return nil
	}
	return f
}

func (f *Flaws) add(field, format string, args ...any) {
	*f = append(*f, Flaw{Field: field, Detail: fmt.Sprintf(format, args...)})
}

// Note adds err's text under field, where err is not nil.
func (f *Flaws) Note(field string, err error) {
	if err != nil {
		f.add(field, "%s", err)
	}
}

var (
	codeForm  = regexp.MustCompile(`^[A-Z0-9][A-Z0-9.-]{0,30}[A-Z0-9]$`)
	labelForm = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]{0,30}[a-z0-9])?$`)
	macForm   = regexp.MustCompile(`^([0-9a-f]{2}:){5}[0-9a-f]{2}$`)
)

const maxText = 200

func (f *Flaws) text(field, value string, required bool) {
	switch {
	case required && strings.TrimSpace(value) == "":
		f.add(field, "is required")
	case len([]rune(value)) > maxText:
		f.add(field, "has %d characters; at most %d are allowed", len([]rune(value)), maxText)
	case strings.ContainsFunc(value, func(r rune) bool { return r < ' ' || r == 0x7f }):
		f.add(field, "contains a control character; only plain text is allowed")
	}
}

func (f *Flaws) label(field, value string) {
	if !labelForm.MatchString(value) {
		f.add(field, "%q is not a label; 1 to 32 of a-z, 0-9 and hyphen, beginning and ending with a letter or digit", value)
	}
}

// Checked brings the site into canonical form, or says what is wrong. Errors: Flaws.
func (s Site) Checked() (Site, error) {
	var f Flaws
	s.Code, s.Name, s.Note = strings.ToUpper(strings.TrimSpace(s.Code)), strings.TrimSpace(s.Name), strings.TrimSpace(s.Note)
	if !codeForm.MatchString(s.Code) {
		f.add("code", "%q is not a site code; 2 to 32 letters, digits, hyphens and dots, with a letter or digit at either end, as "+
			"KET-07 or KETTLE-EAST-001", s.Code)
	}
	f.text("name", s.Name, true)
	f.text("note", s.Note, false)
	s.Router = strings.TrimSpace(s.Router)
	f.text("router", s.Router, false)
	s.Tags = f.Tags(s.Tags)
	return s, f.Err()
}

// maxTags bounds the tags of a site.
const maxTags = 20

// Tags brings tags into canonical form: in lower case, each once, in order.
func (f *Flaws) Tags(list []string) []string {
	out := []string{}
	for _, one := range list {
		if one = strings.ToLower(strings.TrimSpace(one)); one != "" {
			f.label("tags", one)
			out = append(out, one)
		}
	}
	slices.Sort(out)
	if out = slices.Compact(out); len(out) > maxTags {
		f.add("tags", "are %d; %d are allowed", len(out), maxTags)
	}
	return out
}

// Checked brings the link into canonical form, or says what is wrong. A static link needs an address, a dynamic one takes none from an
// operator; either address must be public by the policy. Errors: Flaws.
func (l Link) Checked(policy wan.Policy) (Link, error) {
	var f Flaws
	l.Label, l.Provider = strings.ToLower(strings.TrimSpace(l.Label)), strings.TrimSpace(l.Provider)
	if l.Mode == "" {
		l.Mode = Dynamic
	}
	if l.Position == 0 {
		l.Position = 1
	}
	f.label("label", l.Label)
	f.text("provider", l.Provider, false)
	l.Contract = strings.TrimSpace(l.Contract)
	f.text("contract", l.Contract, false)
	if l.Position < 1 || l.Position > 9 {
		f.add("position", "%d is out of range; 1 (preferred) to 9", l.Position)
	}
	switch l.Mode {
	case Static:
		if !l.Addresses().Known() {
			f.add("ipv4", "a static link needs its address; give ipv4, ipv6 or both")
		}
	case Dynamic:
	default:
		f.add("mode", "%q is unknown; it is dynamic or static", l.Mode)
	}
	f.family("ipv4", l.IPv4, true, policy)
	f.family("ipv6", l.IPv6, false, policy)
	if l.RouterWAN.IsValid() && !l.RouterWAN.Is4() {
		f.add("router_address", "%s is not an IPv4 address; IPv6 is not translated", l.RouterWAN)
	}
	for i, s := range l.Sources {
		if _, err := wan.ParseSource(string(s)); err != nil {
			f.Note("sources", err)
		} else if slices.Contains(l.Sources[:i], s) {
			f.add("sources", "%s is listed twice", s)
		}
	}
	return l, f.Err()
}

func (f *Flaws) family(field string, a netip.Addr, four bool, policy wan.Policy) {
	if !a.IsValid() {
		return
	}
	if a.Is4() != four {
		f.add(field, "%s is not an %s address", a, map[bool]string{true: "IPv4", false: "IPv6"}[four])
		return
	}
	f.Note(field, policy.Check(a))
}

// Checked brings the device into canonical form, or says what is wrong. Its address must be one of a LAN: an agent is sent to look there,
// and a device with a public address needs no forward. Errors: Flaws.
func (d Device) Checked(p wan.Policy) (Device, error) {
	var f Flaws
	d.Name = strings.ToLower(strings.TrimSpace(d.Name))
	d.MAC = strings.ToLower(strings.ReplaceAll(strings.TrimSpace(d.MAC), "-", ":"))
	f.label("name", d.Name)
	if d.MAC != "" && !macForm.MatchString(d.MAC) {
		f.add("mac", "%q is not a MAC address; six pairs of hexadecimal digits, as 02:00:5e:10:00:01", d.MAC)
	}
	if !d.Address.IsValid() {
		f.add("lan_address", "is missing; give the device's address on the LAN, such as 192.168.7.20")
	} else if !p.OnLAN(d.Address) {
		f.add("lan_address", "%s is a %s address, which no device of a LAN has; give a private one such as 192.168.7.20, or a "+
			"link-local one", d.Address, p.Class(d.Address))
	}
	return d, f.Err()
}

// MaxRange is the most ports one service may span.
const MaxRange = 64

// Checked brings the service into canonical form, or says what is wrong of it alone. shortest is the shortest interval that it may have,
// which is pace.MinInterval but in a lab. Conflicts with others are found by Conflicts. Errors: Flaws.
func (s Service) Checked(shortest time.Duration) (Service, error) {
	var f Flaws
	var err error
	s.Name = strings.ToLower(strings.TrimSpace(s.Name))
	if s.ExternalTo == 0 {
		s.ExternalTo = s.ExternalFrom
	}
	if s.InternalFrom == 0 {
		s.InternalFrom = s.ExternalFrom
	}
	if s.Interval == 0 {
		s.Interval = 60
	}
	if s.Kind == "" {
		s.Kind = probe.KindTCP
	}
	f.label("name", s.Name)
	f.port("external", s.ExternalFrom)
	f.port("external", s.ExternalTo)
	if s.InternalFrom != s.ExternalFrom { // the external one, if none is given
		f.port("internal", s.InternalFrom)
	}
	if len(f) == 0 {
		width := s.ExternalTo - s.ExternalFrom
		switch {
		case width < 0:
			f.add("external", "the range %d-%d is reversed; the first port must not be above the last", s.ExternalFrom, s.ExternalTo)
		case width >= MaxRange:
			f.add("external", "the range %d-%d has %d ports; at most %d are allowed", s.ExternalFrom, s.ExternalTo, width+1, MaxRange)
		case s.InternalFrom+width > 65535:
			f.add("internal", "the range would end at internal port %d; 65535 is the last", s.InternalFrom+width)
		}
	}
	switch known := probe.TraitOf(s.Kind); {
	case s.Transport != probe.TCP && s.Transport != probe.UDP && s.Transport != probe.Both:
		f.add("transport", "%q is unknown; it is tcp, udp or both", s.Transport)
	case s.Transport != probe.Both && !slices.Contains(known.Transports, s.Transport):
		f.add("transport", "kind %s does not run over %s", s.Kind, s.Transport)
	case s.Transport == probe.Both && s.Kind == probe.KindUDP:
		f.add("kind", "a service on TCP and UDP is of kind tcp, or of one that speaks a protocol")
	}
	if name, err := s.Options.Get().Check(s.Kind); err != nil {
		f.add("options."+name, "%s", err)
	}
	if !s.OpenUntil.IsZero() && s.Expected == probe.ExpectClosed {
		f.add("open_until", "a service that is expected closed is not open until a time; expect it reachable, and it is expected "+
			"closed after that")
	}
	if s.Reach, err = ParseReach(string(s.Reach)); err != nil {
		f.Note("reach", err)
	}
	if s.Pinholed() && s.OnRouter {
		f.add("reach", "what the router itself offers has no pinhole; leave it at forward")
	}
	every := time.Duration(s.Interval) * time.Second
	if every < shortest || every > pace.MaxInterval {
		f.add("interval_seconds", "%d is out of range; %d to %d seconds are allowed", s.Interval, int(shortest.Seconds()),
			int(pace.MaxInterval.Seconds()))
	}
	return s, f.Err()
}

func (f *Flaws) port(field string, p int) {
	if p < 1 || p > 65535 {
		f.add(field, "port %d is out of range; 1 to 65535 are allowed", p)
	}
}
