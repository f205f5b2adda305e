package contract

import (
	"encoding/json"
	"time"

	"inkpost.example/inkpost/internal/core/team"
)

// Person is somebody who may sign in. Tags are those of the sites that they see; all where there are none.
type Person struct {
	Name    string    `json:"name"`
	Role    team.Role `json:"role"`
	Tags    []string  `json:"tags"`
	Created time.Time `json:"created"`
	// Waiting says that they have a one-time password, and have not replaced it yet.
	Waiting bool `json:"waiting,omitempty"`
	Second  bool `json:"second_factor,omitempty"` // they sign in with a second factor
}

// PersonEdit changes what somebody may do. Absent fields stay as they are.
type PersonEdit struct {
	Role *team.Role `json:"role,omitempty"`
	Tags *[]string  `json:"tags,omitempty"`
}

// PersonInvitationInput invites somebody.
type PersonInvitationInput struct {
	Name string    `json:"name"`
	Role team.Role `json:"role"`
	Tags []string  `json:"tags,omitempty"`
}

// PersonInvitation is what somebody becomes who has its one-time code. Code and URL are there once only: in the reply that made it.
type PersonInvitation struct {
	ID int64 `json:"id"`
	PersonInvitationInput
	By      string    `json:"invited_by"`
	Created time.Time `json:"created"`
	Expires time.Time `json:"expires"`
	Code    string    `json:"code,omitempty"`
	URL     string    `json:"url,omitempty"`
}

// Acceptance uses an invitation up.
type Acceptance struct {
	Code     string `json:"code"`
	Password string `json:"password"`
}

// SessionView is a session of one's own.
type SessionView struct {
	ID      int64     `json:"id"`
	Opened  time.Time `json:"opened"`
	Seen    time.Time `json:"seen"` // last, to the minute
	Expires time.Time `json:"expires"`
	Address string    `json:"address"` // from where it was used last
	Program string    `json:"program"` // what the browser calls itself
	Current bool      `json:"current"`
}

// Act is something that somebody did, or tried to do. Status is that of HTTP: below 400 it was done; 0 where the server ended before it
// knew. Before and After are what a person would enter, without secrets.
type Act struct {
	ID      int64           `json:"id"`
	At      time.Time       `json:"at"`
	Person  string          `json:"person"`
	Key     string          `json:"key,omitempty"` // that it was done with
	Address string          `json:"address,omitempty"`
	Kind    string          `json:"kind"`
	Words   string          `json:"words"`
	Site    string          `json:"site,omitempty"`
	Subject string          `json:"subject,omitempty"`
	Status  int             `json:"status"`
	Before  json.RawMessage `json:"before,omitempty"`
	After   json.RawMessage `json:"after,omitempty"`
}

// Seconds are the second factors of somebody. Required says that they have to have one.
type Seconds struct {
	TOTP          bool      `json:"totp"`
	RecoveryCodes int       `json:"recovery_codes"` // that are left
	Required      bool      `json:"required"`
	Passkeys      []Passkey `json:"passkeys"`
}

// Passkey is a key pair in an authenticator, of which the server has the public half.
type Passkey struct {
	ID      int64     `json:"id"`
	Label   string    `json:"label"`
	Created time.Time `json:"created"`
	Used    time.Time `json:"used,omitzero"`
}

// TOTPSecret is for an authenticator (RFC 6238); one takes the URL over from a QR code.
type TOTPSecret struct {
	Secret string `json:"secret"`
	URL    string `json:"url"`
	QR     string `json:"qr"` // a picture of the URL, as a data URL (RFC 2397)
}

// TOTPInput keeps a secret. Code is what the authenticator shows now, Password one's own.
type TOTPInput struct {
	Secret   string `json:"secret"`
	Code     string `json:"code"`
	Password string `json:"password"`
}

// Confirmation is one's own password, for what a session that was left open may not do.
type Confirmation struct {
	Password string `json:"password"`
}

// RecoveryCodes are codes for when an authenticator is lost: each works once, and they are shown once.
type RecoveryCodes struct {
	Codes []string `json:"codes"`
}

// Ceremony is what a browser asks its authenticator (Web Authentication, PublicKeyCredential's JSON forms); Handle goes back with the
// answer.
type Ceremony struct {
	Handle  string          `json:"handle"`
	Options json.RawMessage `json:"options"`
}

// PasskeyInput is what an authenticator answered. Label, of a new one, says where it is.
type PasskeyInput struct {
	Handle string          `json:"handle"`
	Label  string          `json:"label,omitempty"`
	Answer json.RawMessage `json:"answer"`
}

// InvitationCode is the code of an invitation.
type InvitationCode struct {
	Code string `json:"code"`
}

// Settings are set for the whole installation.
type Settings struct {
	OwnersNeedSecond bool `json:"owners_need_second_factor"`
}

// SignInWays says how one signs in. Provider is what the provider of OpenID Connect is called; "" where there is none.
type SignInWays struct {
	Provider string `json:"provider,omitempty"`
}
