package site

import "fmt"

// tag stands for one revision of one resource. One that was removed and put on record anew has other tags.
func tag(id, revision int64) string { return fmt.Sprintf("%d-%d", id, revision) }

// Tag stands for the site's own fields as they are; so for all that a site has.
func (s Site) Tag() string { return tag(s.ID, s.Revision) }

// Tag stands for the link as it is on record, not for its address.
func (l Link) Tag() string { return tag(l.ID, l.Revision) }

// Tag stands for the device as it is on record.
func (d Device) Tag() string { return tag(d.ID, d.Revision) }

// Tag stands for the service as it is on record.
func (s Service) Tag() string { return tag(s.ID, s.Revision) }

// Tag stands for the hostname as it is on record.
func (h Hostname) Tag() string { return tag(h.ID, h.Revision) }

// Tag stands for the alias.
func (a Alias) Tag() string { return tag(a.ID, a.Revision) }

// Tag stands for the redirect as it is on record.
func (r Redirect) Tag() string { return tag(r.ID, r.Revision) }
