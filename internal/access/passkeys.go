package access

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/url"
	"strconv"
	"sync"
	"time"

	"github.com/go-webauthn/webauthn/protocol"
	"github.com/go-webauthn/webauthn/webauthn"

	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/store"
)

const (
	// ceremonyLife is how long a browser may take to ask its authenticator.
	ceremonyLife = 5 * time.Minute
	// maxCeremonies bounds memory: whoever asks for one more takes the place of the oldest.
	maxCeremonies = 1000
	maxPasskeys   = 20 // of one person
)

// ErrNoPasskeys reports a server whose address is no name: passkeys belong to names.
var ErrNoPasskeys = errors.New("passkeys belong to a name, and this console was opened by an address; open it by its name")

// ceremonies are what browsers were asked, until they answer. Each answers once.
type ceremonies struct {
	mu    sync.Mutex
	known map[string]ceremony
}

type ceremony struct {
	data     webauthn.SessionData
	personID int64 // who registers; 0 for a sign-in
	began    time.Time
}

func (c *ceremonies) add(one ceremony) (handle string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.known == nil {
		c.known = map[string]ceremony{}
	}
	if len(c.known) >= maxCeremonies {
		oldest := ""
		for h, x := range c.known {
			if oldest == "" || x.began.Before(c.known[oldest].began) {
				oldest = h
			}
		}
		delete(c.known, oldest)
	}
	handle = newSecret()
	c.known[handle] = one
	return handle
}

func (c *ceremonies) take(handle string, now time.Time) (ceremony, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	one, ok := c.known[handle]
	delete(c.known, handle)
	return one, ok && now.Sub(one.began) < ceremonyLife
}

// relying makes the relying party that a console at an origin ("https://post.example") is.
func relying(origin string) (*webauthn.WebAuthn, error) {
	u, err := url.Parse(origin)
	if err != nil || u.Hostname() == "" || net.ParseIP(u.Hostname()) != nil {
		return nil, ErrNoPasskeys
	}
	return webauthn.New(&webauthn.Config{RPID: u.Hostname(), RPDisplayName: "Ink Post", RPOrigins: []string{origin},
		AuthenticatorSelection: protocol.AuthenticatorSelection{ResidentKey: protocol.ResidentKeyRequirementRequired,
			UserVerification: protocol.VerificationRequired}})
}

// authenticated is somebody as an authenticator knows them.
type authenticated struct {
	person store.Person
	handle []byte
	keys   []store.Passkey
}

// WebAuthnID implements webauthn.User.
func (u authenticated) WebAuthnID() []byte { return u.handle }

// WebAuthnName implements webauthn.User.
func (u authenticated) WebAuthnName() string { return u.person.Name }

// WebAuthnDisplayName implements webauthn.User.
func (u authenticated) WebAuthnDisplayName() string { return u.person.Name }

// WebAuthnCredentials implements webauthn.User.
func (u authenticated) WebAuthnCredentials() (out []webauthn.Credential) {
	for _, k := range u.keys {
		var c webauthn.Credential
		if json.Unmarshal(k.Credential, &c) == nil {
			out = append(out, c)
		}
	}
	return out
}

// Asked is what a browser has to ask its authenticator, as JSON, and the handle by which the answer is recognised.
type Asked struct {
	Handle  string
	Options json.RawMessage
}

func (a *Access) asked(options any, data *webauthn.SessionData, personID int64) (Asked, error) {
	doc, err := json.Marshal(options)
	if err != nil {
		return Asked{}, err
	}
	return Asked{Handle: a.ceremonies.add(ceremony{*data, personID, a.now()}), Options: doc}, nil
}

func (a *Access) authenticated(ctx context.Context, p store.Person) (authenticated, error) {
	u := authenticated{person: p}
	has, err := a.store.SecondOf(ctx, p.ID)
	if err != nil {
		return u, err
	}
	if u.handle = has.Handle; len(u.handle) == 0 {
		u.handle = random(32)
	}
	u.keys, err = a.store.PasskeysOf(ctx, p.ID)
	return u, err
}

// BeginPasskey begins to give somebody a passkey for the console at an origin. Errors: ErrOldPassword, ErrNoPasskeys, site.Flaws, TooMany,
// ErrHashing, that of the database.
func (a *Access) BeginPasskey(ctx context.Context, personID int64, password, origin string, by Visitor) (Asked, error) {
	party, err := relying(origin)
	if err != nil {
		return Asked{}, err
	}
	if err := a.confirmID(ctx, personID, password, by); err != nil {
		return Asked{}, err
	}
	p, err := a.store.PersonByID(ctx, personID)
	if err != nil {
		return Asked{}, err
	}
	u, err := a.authenticated(ctx, p)
	if err != nil {
		return Asked{}, err
	}
	if len(u.keys) >= maxPasskeys {
		return Asked{}, site.Flaws{{Field: "passkey", Detail: fmt.Sprintf("you have %d; remove one first", len(u.keys))}}
	}
	options, data, err := party.BeginRegistration(u,
		webauthn.WithExclusions(webauthn.Credentials(u.WebAuthnCredentials()).CredentialDescriptors()))
	if err != nil {
		return Asked{}, err
	}
	return a.asked(options, data, personID)
}

// ErrPasskey reports an answer of an authenticator that proves nothing.
var ErrPasskey = errors.New("the passkey's answer is not valid here: it was given for another address, or too late; begin again")

// KeepPasskey keeps a passkey that an authenticator made, and returns codes for when it is lost where there are none yet. Errors:
// ErrPasskey, site.Flaws, store.Taken, that of the database.
func (a *Access) KeepPasskey(ctx context.Context, personID int64, handle, label, origin string, answer json.RawMessage) ([]string, error) {
	if err := checkLabel(label); err != nil {
		return nil, err
	}
	party, err := relying(origin)
	if err != nil {
		return nil, err
	}
	c, ok := a.ceremonies.take(handle, a.now())
	parsed, bad := protocol.ParseCredentialCreationResponseBytes(answer)
	if !ok || c.personID != personID || bad != nil {
		return nil, ErrPasskey
	}
	p, err := a.store.PersonByID(ctx, personID)
	if err != nil {
		return nil, err
	}
	credential, err := party.CreateCredential(authenticated{person: p, handle: c.data.UserID}, c.data, parsed)
	if err != nil {
		a.log.Warn("a passkey is refused", "name", p.Name, "error", err)
		return nil, ErrPasskey
	}
	doc, err := json.Marshal(credential)
	if err != nil {
		return nil, err
	}
	k := store.Passkey{PersonID: personID, Credential: doc, Label: label}
	k.Created.Time = a.now()
	if _, err := a.store.AddPasskey(ctx, k, credential.ID, c.data.UserID); err != nil {
		return nil, err
	}
	if has, err := a.store.SecondOf(ctx, personID); err != nil || has.Codes > 0 {
		return nil, err
	}
	return a.newRecoveryCodes(ctx, personID)
}

// RemovePasskey removes a passkey of somebody. Errors: ErrOldPassword, store.Missing, TooMany, ErrHashing, that of the database.
func (a *Access) RemovePasskey(ctx context.Context, personID, id int64, password string, by Visitor) error {
	if err := a.confirmID(ctx, personID, password, by); err != nil {
		return err
	}
	return a.store.RemovePasskey(ctx, personID, id)
}

// AskPasskey begins a sign-in with a passkey at the console at an origin. Error: ErrNoPasskeys.
func (a *Access) AskPasskey(origin string) (Asked, error) {
	party, err := relying(origin)
	if err != nil {
		return Asked{}, err
	}
	options, data, err := party.BeginDiscoverableLogin(webauthn.WithUserVerification(protocol.VerificationRequired))
	if err != nil {
		return Asked{}, err
	}
	return a.asked(options, data, 0)
}

// SignInByPasskey opens a session for who has a passkey, which their authenticator gave only to them: it is both factors. Errors:
// ErrPasskey, TooMany, that of the database.
func (a *Access) SignInByPasskey(ctx context.Context, handle, origin string, answer json.RawMessage, by Visitor) (token string,
	s store.Session, err error) {
	if err := a.tries.Allowed("", by.From, a.now()); err != nil {
		return "", s, err
	}
	party, err := relying(origin)
	if err != nil {
		return "", s, err
	}
	c, ok := a.ceremonies.take(handle, a.now())
	parsed, bad := protocol.ParseCredentialRequestResponseBytes(answer)
	if !ok || c.personID != 0 || bad != nil {
		return "", s, ErrPasskey
	}
	var who authenticated
	credential, err := party.ValidateDiscoverableLogin(func(_, userHandle []byte) (webauthn.User, error) {
		p, err := a.store.PersonByHandle(ctx, userHandle)
		if err == nil {
			who, err = a.authenticated(ctx, p)
		}
		return who, err
	}, c.data, parsed)
	if err != nil || credential.Authenticator.CloneWarning {
		a.signInFailed(who.person.Name, by.From)
		a.log.Warn("a passkey is refused", "name", who.person.Name, "error", err)
		return "", s, ErrPasskey
	}
	for _, k := range who.keys {
		var kept webauthn.Credential
		if json.Unmarshal(k.Credential, &kept) == nil && string(kept.ID) == string(credential.ID) {
			doc, err := json.Marshal(credential)
			if err == nil {
				err = a.store.UsePasskey(ctx, k.ID, doc, a.now())
			}
			if err != nil {
				return "", s, err
			}
			return a.openSession(ctx, who.person, by)
		}
	}
	return "", s, store.Missing{Kind: "passkey", Name: strconv.Itoa(len(who.keys))}
}

// SetOwnersNeedSecond sets whether owners have to have a second factor. An open session of one who has none may set one up, and nothing
// else. Error: that of the database.
func (a *Access) SetOwnersNeedSecond(ctx context.Context, need bool) error {
	a.sessions.forget()
	return a.store.SetOwnersNeedSecond(ctx, need)
}

// OwnersNeedSecond reports whether owners have to have a second factor. Error: that of the database.
func (a *Access) OwnersNeedSecond(ctx context.Context) (bool, error) {
	return a.store.OwnersNeedSecond(ctx)
}
