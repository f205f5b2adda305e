package views

import (
	"inkpost.example/inkpost/internal/core/site"
)

// Cards returns the rules to type into the site's router for a service.
func (vw *Views) Cards(code, name string) ([]site.Card, error) {
	p, s, err := vw.FindService(code, name)
	if err != nil {
		return nil, err
	}
	l, _ := p.Followed(s.LinkID)
	var d site.Device
	for _, one := range p.Devices {
		if one.ID == s.DeviceID {
			d = one
		}
	}
	return site.Cards(s, d, l, vw.LinkEvidence(l, vw.Now()).NAT), nil
}
