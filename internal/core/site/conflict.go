package site

import (
	"fmt"
	"strconv"
	"strings"
)

// Conflicts finds the service among others that claims an external port which s claims too, on the same transport and
// link. It returns nil, or Flaws that name both sides. s itself (the same ID) is passed over.
func Conflicts(s Service, others []Service) error {
	for _, o := range others {
		if o.ID == s.ID || !o.Transport.Meets(s.Transport) || !o.Forwarded() || !s.Forwarded() { // a pinhole is to an address of its own
			continue
		}
		if o.LinkID != 0 && s.LinkID != 0 && o.LinkID != s.LinkID {
			continue
		}
		if s.ExternalFrom > o.ExternalTo || o.ExternalFrom > s.ExternalTo {
			continue
		}
		if s.OnRouter != o.OnRouter { // the router keeps such a port to itself
			at, behind := o, s
			if s.OnRouter {
				at, behind = s, o
			}
			return Flaws{{Field: "external", Detail: fmt.Sprintf(
				"%s port %s of %s is answered by the router itself (%s, %s port %s): it cannot be passed on to %s",
				behind.Transport, Ports(behind.ExternalFrom, behind.ExternalTo), behind.Name, at.Name, at.Transport,
				Ports(at.ExternalFrom, at.ExternalTo), behind.Device)}}
		}
		detail := fmt.Sprintf("%s port %s of %s overlaps %s of %s on device %s; a router can send one port to one device only",
			s.Transport, Ports(s.ExternalFrom, s.ExternalTo), s.Name, Ports(o.ExternalFrom, o.ExternalTo), o.Name, o.Device)
		if (o.LinkID == 0) != (s.LinkID == 0) { // on links of their own, both could have it
			loose := o.Name
			if s.LinkID == 0 {
				loose = s.Name
			}
			detail += fmt.Sprintf(". %s follows whichever link works, and so has the port on all of them: give it a link of its own "+
				"first (--link)", loose)
		}
		return Flaws{{Field: "external", Detail: detail}}
	}
	return nil
}

// Ports writes a port or a range: "443", "5000-5003".
func Ports(from, to int) string {
	if to == 0 || to == from {
		return fmt.Sprint(from)
	}
	return fmt.Sprintf("%d-%d", from, to)
}

// ParsePorts reads a port ("443") or a range ("5000-5003"). Bounds and order are left to Service.Checked. The error says what a range looks
// like.
func ParsePorts(s string) (from, to int, err error) {
	first, last, ranged := strings.Cut(strings.TrimSpace(s), "-")
	if from, err = strconv.Atoi(strings.TrimSpace(first)); err == nil {
		to = from
		if ranged {
			to, err = strconv.Atoi(strings.TrimSpace(last))
		}
	}
	if err != nil {
		return 0, 0, fmt.Errorf("%q is neither a port nor a range of ports; give 443 or 5000-5003", s)
	}
	return from, to, nil
}
