package zoneedits

import (
	"context"
	"fmt"
	"strings"
	"unicode"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/rooms"
	"inkpost.example/inkpost/internal/engine/zones"
)

// ascii brings a name that a person typed into its ASCII form. Names in ASCII stay as they are, but for labels that claim to
// be encoded, which have to be so correctly.
func ascii(text string) (string, error) {
	plain := strings.IndexFunc(text, func(r rune) bool { return r > unicode.MaxASCII }) < 0
	if plain && !strings.Contains(strings.ToLower(text), "xn--") {
		return text, nil
	}
	out, err := rooms.International.ToASCII(text)
	if err != nil {
		return text, fmt.Errorf("name %q is not a legal international name (RFC 5891): %s", text, strings.TrimPrefix(err.Error(), "idna: "))
	}
	return out, nil
}

// CheckName says at once whether a name could be a new hostname: legal, in a zone on record, and free.
func (e *ZoneEdits) CheckName(ctx context.Context, text string) contract.NameCheck {
	out := contract.NameCheck{Name: text, Shown: text}
	var f site.Flaws
	name, z := e.placed(text, &f)
	if len(f) > 0 {
		out.Detail = f[0].Detail
		return out
	}
	out.Name, out.Shown, out.Zone, out.Legal = string(name), string(name), string(z.Apex), true
	if text := rooms.Shown(name); text != "" {
		out.Shown = text
	}
	if p, h, taken := e.Record.HostnameAt(name); taken {
		if out.Detail = out.Shown + " is taken already"; e.Sees(ctx, p.ID) {
			out.Detail = fmt.Sprintf("%s belongs to site %s already", out.Shown, h.Site)
		}
		return out
	}
	if err := e.Rooms.Zones.Check(z, []names.Record{{Name: name, Type: "A"}}, zones.LeaveNone); err != nil {
		out.Detail = err.Error()
		return out
	}
	if r, taken := e.Record.Redirect(name); taken {
		if out.Detail = out.Shown + " is taken already"; e.SeesNamed(ctx, r.Hostname) {
			out.Detail = fmt.Sprintf("%s is a redirect to %s", out.Shown, r.Hostname)
		}
		return out
	}
	out.Free, out.Detail = true, fmt.Sprintf("%s is free in %s zone %s", out.Shown, z.Kind, z.Apex)
	return out
}

// SuggestName makes a site's first name by a zone's template, or by the code below the apex where it has none. The first
// zone with a template is taken where apex is "".
func (e *ZoneEdits) SuggestName(ctx context.Context, code, apex string) (contract.NameCheck, error) {
	p, err := e.FindSite(code)
	if err != nil {
		return contract.NameCheck{}, err
	}
	zones := e.Views.Zones()
	if len(zones) == 0 {
		return contract.NameCheck{}, site.Flaws{{Field: "zone", Detail: "no zone is on record yet; add one: inkpost zone add"}}
	}
	z := zones[0]
	for _, other := range zones {
		if z.Template == "" && other.Template != "" {
			z = other
		}
	}
	if apex != "" {
		if z, err = e.Zone(rooms.Canonical(apex)); err != nil {
			return contract.NameCheck{}, err
		}
	}
	template := z.Template
	if template == "" {
		template = names.PlaceCode + "." + string(z.Apex)
	}
	var check contract.NameCheck
	for n := 1; n <= 1000; n++ {
		text := names.Fill(template, p.Code, p.Name, n)
		if n > 1 && !strings.Contains(template, names.PlaceNumber) { // the name is taken: a number behind the first label
			first, rest, _ := strings.Cut(text, ".")
			text = fmt.Sprintf("%s-%d.%s", first, n, rest)
		}
		if check = e.CheckName(ctx, text); check.Free || !check.Legal {
			break
		}
	}
	return check, nil
}
