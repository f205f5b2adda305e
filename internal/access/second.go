package access

import (
	"context"
	"encoding/base32"
	"errors"
	"net/url"
	"strings"
	"time"

	"github.com/pquerna/otp/totp"

	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/store"
)

// SecondNeeded reports that the password was right, and that somebody has a second factor, which was not given.
type SecondNeeded struct{ Codes, Passkeys bool }

func (e SecondNeeded) Error() string {
	if !e.Codes {
		return "sign in with your passkey, or give a recovery code as well"
	}
	return "give the code that your authenticator shows as well, or a recovery code"
}

// ErrSecondMissing reports an owner who has to have a second factor and has none yet.
var ErrSecondMissing = errors.New("owners need a second factor here: set one up first, under Account in the console")

// totpStep is how long a code of an authenticator is good (RFC 6238 section 5.2); the one before and the one after it are taken, too.
const totpStep = 30 * time.Second

// recoveryCodes is how many codes there are for when an authenticator is lost.
const recoveryCodes = 10

// stepOf returns the step whose code was given, near now.
func stepOf(secret, code string, now time.Time) (step int64, ok bool) {
	code = strings.ReplaceAll(strings.TrimSpace(code), " ", "")
	for _, at := range []time.Time{now, now.Add(-totpStep), now.Add(totpStep)} {
		if want, err := totp.GenerateCode(secret, at); err == nil && equal(want, code) {
			return at.Unix() / int64(totpStep.Seconds()), true
		}
	}
	return 0, false
}

// second checks the second factor of somebody whose password was right. A code works once. Errors: SecondNeeded, ErrSignIn, that of the
// database.
func (a *Access) second(ctx context.Context, p store.Person, code string) error {
	has, err := a.store.SecondOf(ctx, p.ID)
	if err != nil || !has.Has() {
		return err
	}
	if code == "" {
		return SecondNeeded{Codes: has.TOTP != "", Passkeys: has.Passkeys > 0}
	}
	if step, ok := stepOf(has.TOTP, code, a.now()); has.TOTP != "" && ok {
		fresh, err := a.store.UseStep(ctx, p.ID, step)
		if err == nil && !fresh {
			err = ErrSignIn
		}
		return err
	}
	good, err := a.store.UseRecoveryCode(ctx, p.ID, hashOfCode(code))
	if err == nil && !good {
		err = ErrSignIn
	}
	return err
}

// Seconds are the second factors of somebody.
type Seconds struct {
	TOTP     bool
	Codes    int // for when the authenticator is lost
	Required bool
	Passkeys []store.Passkey
}

// Seconds returns what somebody has beside their password. Error: that of the database.
func (a *Access) Seconds(ctx context.Context, p store.Session) (out Seconds, err error) {
	has, err := a.store.SecondOf(ctx, p.PersonID)
	if err != nil {
		return out, err
	}
	if out.Passkeys, err = a.store.PasskeysOf(ctx, p.PersonID); err != nil {
		return out, err
	}
	out.TOTP, out.Codes = has.TOTP != "", has.Codes
	out.Required, err = a.secondRequired(ctx, p.Rights)
	return out, err
}

// NewTOTP makes a secret for an authenticator, and the URL by which one takes it over. Nothing is kept until KeepTOTP.
func (a *Access) NewTOTP(name string) (secret, uri string) {
	secret = base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(random(20))
	q := url.Values{"secret": {secret}, "issuer": {"Ink Post"}}
	return secret, "otpauth://totp/" + url.PathEscape("Ink Post:"+name) + "?" + strings.ReplaceAll(q.Encode(), "+", "%20")
}

// KeepTOTP keeps the secret of somebody's authenticator, once a code shows that it has it, and returns codes for when it is lost. Errors:
// ErrOldPassword, site.Flaws, TooMany, ErrHashing, that of the database.
func (a *Access) KeepTOTP(ctx context.Context, personID int64, password, secret, code string, by Visitor) ([]string, error) {
	if err := a.confirmID(ctx, personID, password, by); err != nil {
		return nil, err
	}
	raw, err := base32.StdEncoding.WithPadding(base32.NoPadding).DecodeString(secret)
	if err != nil || len(raw) < 20 {
		return nil, site.Flaws{{Field: "secret", Detail: "is not the one that was given out; begin again"}}
	}
	step, ok := stepOf(secret, code, a.now())
	if !ok {
		return nil, site.Flaws{{Field: "code",
			Detail: "is not what the authenticator shows for this secret now; see that its clock is right"}}
	}
	if err := a.store.SetTOTP(ctx, personID, secret, step); err != nil {
		return nil, err
	}
	return a.newRecoveryCodes(ctx, personID)
}

// DropTOTP takes somebody's authenticator away. Errors: ErrOldPassword, TooMany, ErrHashing, that of the database.
func (a *Access) DropTOTP(ctx context.Context, personID int64, password string, by Visitor) error {
	if err := a.confirmID(ctx, personID, password, by); err != nil {
		return err
	}
	return a.store.SetTOTP(ctx, personID, "", 0)
}

// NewRecoveryCodes puts other codes in the place of somebody's. Errors: ErrOldPassword, TooMany, ErrHashing, that of the database.
func (a *Access) NewRecoveryCodes(ctx context.Context, personID int64, password string, by Visitor) ([]string, error) {
	if err := a.confirmID(ctx, personID, password, by); err != nil {
		return nil, err
	}
	return a.newRecoveryCodes(ctx, personID)
}

func (a *Access) newRecoveryCodes(ctx context.Context, personID int64) (codes []string, err error) {
	hashes := make([][]byte, recoveryCodes)
	for i := range hashes {
		codes = append(codes, newCode(4))
		hashes[i] = hashOfCode(codes[i])
	}
	return codes, a.store.SetRecoveryCodes(ctx, personID, hashes)
}

func (a *Access) confirmID(ctx context.Context, personID int64, password string, by Visitor) error {
	p, err := a.store.PersonByID(ctx, personID)
	if err != nil {
		return err
	}
	return a.confirm(ctx, p, password, by.From)
}
