package site

import (
	"errors"
	"fmt"
	"slices"
	"strings"
)

// Contact is somebody to call about a site.
type Contact struct {
	ID       int64  `json:"id"`
	SiteID   int64  `json:"-"`
	Role     string `json:"role"`
	Name     string `json:"name"`
	Phone    string `json:"phone"`
	Mail     string `json:"mail"`
	Note     string `json:"note"`
	Revision int64  `json:"revision"`
}

// Roles lists what a contact may be.
func Roles() []string { return []string{"customer", "provider", "key holder", "other"} }

// Checked returns the contact with spaces around its fields removed. Error: Flaws.
func (c Contact) Checked() (Contact, error) {
	var f Flaws
	c.Role, c.Name = strings.ToLower(strings.TrimSpace(c.Role)), strings.TrimSpace(c.Name)
	c.Phone, c.Mail, c.Note = strings.TrimSpace(c.Phone), strings.TrimSpace(c.Mail), strings.TrimSpace(c.Note)
	if c.Role == "" {
		c.Role = "other"
	}
	if !slices.Contains(Roles(), c.Role) {
		f.Note("role", fmt.Errorf("%q is unknown; it is %s", c.Role, strings.Join(Roles(), ", ")))
	}
	f.text("name", c.Name, true)
	f.text("phone", c.Phone, false)
	f.text("note", c.Note, false)
	if strings.Trim(c.Phone, "+0123456789 ()-/.") != "" {
		f.Note("phone", fmt.Errorf("%q is not a phone number; digits, spaces and +-()/. are allowed", c.Phone))
	}
	if c.Mail != "" {
		local, domain, _ := strings.Cut(c.Mail, "@")
		if local == "" || domain == "" || strings.ContainsAny(c.Mail, " \t\r\n<>(),;:\"[]\\") || strings.Contains(domain, "@") {
			f.Note("mail", fmt.Errorf("%q is not a mail address; give one such as keeper@saltmarsh.example", c.Mail))
		}
	}
	if c.Phone == "" && c.Mail == "" && c.Note == "" {
		f.Note("phone", errors.New("give a phone number, a mail address or a note: otherwise nobody can be reached"))
	}
	return c, f.Err()
}

// MaxNote is how many characters a dated note may have.
const MaxNote = 8000

// CheckNote returns a dated note without spaces around it. Error: Flaws.
func CheckNote(words string) (string, error) {
	words = strings.TrimSpace(words)
	switch n := len([]rune(words)); {
	case n == 0:
		return "", Flaws{{Field: "words", Detail: "is required"}}
	case n > MaxNote:
		return "", Flaws{{Field: "words", Detail: fmt.Sprintf("has %d characters; at most %d are allowed", n, MaxNote)}}
	}
	return words, nil
}

// Tag stands for the contact as it is on record.
func (c Contact) Tag() string { return tag(c.ID, c.Revision) }
