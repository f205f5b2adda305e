// Package team computes who may do what, and whose sites they see.
package team

import (
	"fmt"
	"slices"
	"strings"
)

// Role is what somebody is for.
type Role string

// The roles: an owner may do everything, a technician everything but say who may, a viewer only looks.
const (
	Owner      Role = "owner"
	Technician Role = "technician"
	Viewer     Role = "viewer"
)

// Roles lists the roles, the one that may do most first.
var Roles = []Role{Owner, Technician, Viewer}

// ParseRole reads a role. Error: for any other word.
func ParseRole(s string) (Role, error) {
	if r := Role(s); slices.Contains(Roles, r) {
		return r, nil
	}
	return "", fmt.Errorf("%q is no role; owner, technician and viewer are", s)
}

// Right is what a call takes, and what a key is made for. Each includes those before it.
type Right string

// The rights.
const (
	Read       Right = "read"
	Probe      Right = "probe" // have something looked at now
	Edit       Right = "edit"
	Administer Right = "administer" // people, and what acts on everything
)

var rights = []Right{Read, Probe, Edit, Administer}

// ParseRight reads what a key of a person may be made for. Error: for any other word.
func ParseRight(s string) (Right, error) {
	if r := Right(s); r != Administer && slices.Contains(rights, r) {
		return r, nil
	}
	return "", fmt.Errorf("%q is nothing that a key can be made for; read, probe and edit are", s)
}

// Includes reports whether a right includes another.
func (r Right) Includes(other Right) bool {
	return slices.Index(rights, r) >= slices.Index(rights, other)
}

// May reports whether a role has a right.
func (r Role) May(right Right) bool {
	switch r {
	case Owner:
		return true
	case Technician:
		return right != Administer
	}
	return right == Read
}

// KeyMay reports whether a key that was made for something has a right. A key that edits does what its holder may.
func KeyMay(key, right Right) bool { return key == Edit || key.Includes(right) }

// Sight is whose sites somebody sees: those with one of the tags. The empty Sight sees all.
type Sight []string

// All reports whether every site is seen.
func (s Sight) All() bool { return len(s) == 0 }

// Sees reports whether a site with some tags is seen.
func (s Sight) Sees(tags []string) bool {
	return s.All() || slices.ContainsFunc(tags, func(t string) bool { return slices.Contains(s, t) })
}

// Words say which sites are seen.
func (s Sight) Words() string {
	if s.All() {
		return "all sites"
	}
	return "sites tagged " + strings.Join(s, " or ")
}

// LastOwner returns why a role may not be taken from somebody, or they removed: no owner would be left; "" if one is. owners is how many
// others there are.
func LastOwner(was, next Role, owners int) string {
	if was == Owner && next != Owner && owners == 0 {
		return "this is the only owner; make somebody else an owner first"
	}
	return ""
}
