package declared

import (
	"context"
	"encoding/json"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/declare"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/siteedits"
	"inkpost.example/inkpost/internal/engine/zoneedits"
)

// Items lists what is on record as it would be written down, of the sites that whoever asks sees. Secrets are not part of it. Error: that
// of the database.
func (e *Room) Items(ctx context.Context) ([]declare.Item, error) {
	contacts, err := e.contacts(ctx)
	if err != nil {
		return nil, err
	}
	var out []declare.Item
	for _, p := range e.SitesSeen(ctx) {
		for kind, list := range inputs(p, contacts[p.ID]) {
			for _, in := range list {
				out = append(out, itemOf(kind, p.Code, in))
			}
		}
	}
	ordered, _ := declare.Arrange(out) // it is on record: nothing is wrong with it
	return ordered, nil
}

// contacts returns all contacts by site.
func (e *Room) contacts(ctx context.Context) (map[int64][]site.Contact, error) {
	list, err := e.Store.Contacts(ctx, 0)
	out := map[int64][]site.Contact{}
	for _, c := range list {
		out[c.SiteID] = append(out[c.SiteID], c)
	}
	return out, err
}

// inputs lists what is on record of a site, as a person would enter it.
func inputs(p record.Site, contacts []site.Contact) map[declare.Kind][]any {
	out := map[declare.Kind][]any{declare.Site: {siteedits.SiteInputOf(p.Site)}}
	for l := range p.EachLink() {
		out[declare.Link] = append(out[declare.Link], siteedits.LinkInputOf(l))
	}
	for _, d := range p.Devices {
		out[declare.Device] = append(out[declare.Device], siteedits.DeviceInputOf(d))
	}
	for _, s := range p.Services {
		out[declare.Service] = append(out[declare.Service], siteedits.ServiceInputOf(s))
	}
	for _, h := range p.Hostnames {
		out[declare.Hostname] = append(out[declare.Hostname], zoneedits.HostnameInputOf(h))
	}
	for _, c := range contacts {
		out[declare.Contact] = append(out[declare.Contact], contactInputOf(c))
	}
	return out
}

func contactInputOf(c site.Contact) contract.ContactInput {
	return contract.ContactInput{Role: c.Role, Name: c.Name, Phone: c.Phone, Mail: c.Mail, Note: c.Note}
}

// document returns an input as JSON has it.
func document(in any) map[string]any {
	var out map[string]any
	if doc, err := json.Marshal(in); err == nil { // inputs can all be written
		_ = json.Unmarshal(doc, &out)
	}
	return out
}

func itemOf(kind declare.Kind, code string, in any) declare.Item {
	fields := document(in)
	name, _ := fields[kind.Key()].(string)
	return declare.Item{Kind: kind, Site: code, Name: name, Fields: fields}
}
