package diagnose

import (
	"fmt"
	"time"

	"inkpost.example/inkpost/internal/core/probe"
)

// strained reports a link that loses packets now and then, and what answers much more slowly than usual: everything still works.
func (e Evidence) strained(l LinkEvidence) (out []Finding) {
	var lossy, slow []ServiceEvidence
	works, lost, tried := 0, 0, 0
	for _, s := range e.Services {
		if s.OnLink != l.Label || !s.proven() || s.Mute() {
			continue
		}
		works++
		if n, of, is := s.Lately.Lossy(); is {
			lossy, lost, tried = append(lossy, s), lost+n, tried+of
		}
		if _, is := s.Lately.Slow(); is {
			slow = append(slow, s)
		}
	}
	if len(lossy) > 0 && 2*len(lossy) >= works && !e.Lossy {
		p := e.ofLink(l)
		p["lost"] = fmt.Sprintf("%d of %d", lost, tried)
		f := finding("line-loss", "link "+l.Label, p)
		for _, s := range lossy {
			n, of, _ := s.Lately.Lossy()
			f.Evidence = append(f.Evidence, fmt.Sprintf("%s (%s): %d of the last %d probes; usually it answers within %s", s.Name,
				s.port(), n,
				of, milliseconds(s.Lately.Usual())))
		}
		out = append(out, f)
	}
	if len(slow) == 0 {
		return out
	}
	p := e.ofServices(l, slow)
	subject, first := "service "+slow[0].Name, slow[0]
	p["what"] = first.Name
	switch {
	case len(slow) == works && len(devices(slow)) > 1:
		subject, p["what"], p["device"] = "link "+l.Label, "Everything on link "+l.Label, "the site's devices"
	case len(slow) > 1:
		subject, p["what"] = "device "+first.Device, first.Device
	}
	took, _ := first.Lately.Slow()
	p["took"], p["usual"] = milliseconds(took), milliseconds(first.Lately.Usual())
	f := finding("slow", subject, p)
	for _, s := range slow {
		took, _ := s.Lately.Slow()
		f.Evidence = append(f.Evidence, fmt.Sprintf("%s (%s): the newest answers took %s and more; usual is %s", s.Name, s.port(),
			milliseconds(took), milliseconds(s.Lately.Usual())))
	}
	return append(out, f)
}

func milliseconds(d time.Duration) string {
	if d >= time.Second {
		return fmt.Sprintf("%.1f s", d.Seconds())
	}
	return fmt.Sprintf("%d ms", max(1, d.Milliseconds()))
}

// Remark is something about a service that may surprise, and is no fault.
type Remark struct {
	Cause Slug   `json:"cause"`
	Words string `json:"words"`
	Next  string `json:"next_step"`
}

// remarks are what may surprise about a service that is as it should be.
func (e Evidence) remarks(l LinkEvidence, s ServiceEvidence) (out []Remark) {
	add := func(slug Slug) {
		p := e.ofServices(l, []ServiceEvidence{s})
		for _, h := range e.Hostnames {
			if h.Link == "" || h.Link == l.Label {
				p["hostname"] = string(h.Name)
				break
			}
		}
		f := finding(slug, "", p)
		out = append(out, Remark{slug, f.Summary, f.Next})
	}
	if s.Mute() && s.Outcome == probe.Silent && !e.missedInside(s) {
		add("not-provable")
	}
	if seen, ok := e.inside(s.Device); ok && s.proven() && (seen.Loop[s.Name] == "silent" || seen.Loop[s.Name] == "refused") &&
		seen.Ports[s.Name] == "open" {
		add("inside-only")
	}
	return out
}
