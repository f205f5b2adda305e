package client

import (
	"context"
	"io"
	"net/url"
	"strconv"

	"inkpost.example/inkpost/internal/contract"
)

// People lists people and what they may do.
func (c *Client) People(ctx context.Context) ([]contract.Person, error) {
	return call[[]contract.Person](ctx, c, "GET", "/people", nil)
}

// EditPerson changes what somebody may do.
func (c *Client) EditPerson(ctx context.Context, name string, in contract.PersonEdit) (contract.Person, error) {
	return call[contract.Person](ctx, c, "PATCH", at("people", name), in)
}

// RemovePerson removes somebody with their sessions, keys and rules.
func (c *Client) RemovePerson(ctx context.Context, name string) error {
	_, err := call[nothing](ctx, c, "DELETE", at("people", name), nil)
	return err
}

// Invitations lists the invitations that can still be used.
func (c *Client) Invitations(ctx context.Context) ([]contract.PersonInvitation, error) {
	return call[[]contract.PersonInvitation](ctx, c, "GET", "/invitations", nil)
}

// InvitePerson invites somebody.
func (c *Client) InvitePerson(ctx context.Context, in contract.PersonInvitationInput) (contract.PersonInvitation, error) {
	return call[contract.PersonInvitation](ctx, c, "POST", "/invitations", in)
}

// TakeBack takes an invitation back.
func (c *Client) TakeBack(ctx context.Context, id int64) error {
	_, err := call[nothing](ctx, c, "DELETE", at("invitations", strconv.FormatInt(id, 10)), nil)
	return err
}

// Invited shows what an invitation makes of whoever has its code.
func (c *Client) Invited(ctx context.Context, code string) (contract.PersonInvitation, error) {
	return call[contract.PersonInvitation](ctx, c, "POST", "/session/invitation/reading",
		contract.InvitationCode{Code: code})
}

// Accept uses an invitation up, with a password of one's own, and signs in.
func (c *Client) Accept(ctx context.Context, code, password string) (*Visit, error) {
	return c.visit(ctx, "/session/invitation", contract.Acceptance{Code: code, Password: password})
}

// Sessions lists the sessions of whoever is signed in.
func (v *Visit) Sessions(ctx context.Context) ([]contract.SessionView, error) {
	return callWith[[]contract.SessionView](ctx, v, "GET", "/session/all", nil)
}

// EndSession ends a session of one's own.
func (v *Visit) EndSession(ctx context.Context, id int64) error {
	_, err := callWith[nothing](ctx, v, "DELETE", at("session", "all", strconv.FormatInt(id, 10)), nil)
	return err
}

// Seconds shows one's own second factors.
func (v *Visit) Seconds(ctx context.Context) (contract.Seconds, error) {
	return callWith[contract.Seconds](ctx, v, "GET", "/session/second", nil)
}

// NewTOTP makes a secret for an authenticator.
func (v *Visit) NewTOTP(ctx context.Context) (contract.TOTPSecret, error) {
	return callWith[contract.TOTPSecret](ctx, v, "POST", "/session/totp/secret", nil)
}

// KeepTOTP keeps it, and returns codes for when the authenticator is lost.
func (v *Visit) KeepTOTP(ctx context.Context, in contract.TOTPInput) (contract.RecoveryCodes, error) {
	return callWith[contract.RecoveryCodes](ctx, v, "PUT", "/session/totp", in)
}

// DropTOTP takes one's authenticator away.
func (v *Visit) DropTOTP(ctx context.Context, password string) error {
	_, err := callWith[nothing](ctx, v, "POST", "/session/totp/removal", contract.Confirmation{Password: password})
	return err
}

// SetSettings sets what is set for the whole installation.
func (c *Client) SetSettings(ctx context.Context, in contract.Settings) (contract.Settings, error) {
	return call[contract.Settings](ctx, c, "PUT", "/settings", in)
}

// Settings shows what is set for the whole installation.
func (c *Client) Settings(ctx context.Context) (contract.Settings, error) {
	return call[contract.Settings](ctx, c, "GET", "/settings", nil)
}

// ReplacePassword replaces the password by another, and ends all other sessions.
func (v *Visit) ReplacePassword(ctx context.Context, in contract.NewPassword) error {
	s, err := callWith[contract.Session](ctx, v, "PUT", "/session/password", in)
	if err == nil {
		v.session = s
	}
	return err
}

// Acts lists who did what; query narrows it as the API's parameters do.
func (c *Client) Acts(ctx context.Context, query url.Values) ([]contract.Act, error) {
	return call[[]contract.Act](ctx, c, "GET", "/audit?"+query.Encode(), nil)
}

// ActLines writes who did what to w as JSON lines, all of it.
func (c *Client) ActLines(ctx context.Context, query url.Values, w io.Writer) error {
	query.Set("format", "lines")
	return c.copy(ctx, "/audit?"+query.Encode(), w)
}
