package client

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/cookiejar"
	"net/netip"
	"strconv"

	"inkpost.example/inkpost/internal/contract"
)

// Visit is a signed-in session, as a browser has it: for making a key.
type Visit struct {
	client  *Client
	session contract.Session
}

// SignIn opens a session. The client's key is not used.
func (c *Client) SignIn(ctx context.Context, name, password string) (*Visit, error) {
	return c.SignInAs(ctx, contract.SignIn{Name: name, Password: password})
}

// SignInAs signs in, with a second factor where somebody has one.
func (c *Client) SignInAs(ctx context.Context, in contract.SignIn) (*Visit, error) {
	return c.visit(ctx, "/session", in)
}

// NeedsSecond reports whether an error of SignIn says that somebody has a second factor, and did not give it.
func NeedsSecond(err error) bool {
	var e *Error
	return errors.As(err, &e) && e.Type == "urn:inkpost:problem:second-factor-needed"
}

func (c *Client) visit(ctx context.Context, path string, in any) (*Visit, error) {
	jar, err := cookiejar.New(nil)
	if err != nil {
		return nil, err
	}
	v := &Visit{client: &Client{base: c.base, http: &http.Client{Jar: jar, Timeout: c.http.Timeout, Transport: c.http.Transport}}}
	v.session, err = call[contract.Session](ctx, v.client, "POST", path, in)
	return v, err
}

// ChoosePassword says that the one-time password has to be replaced first.
func (v *Visit) ChoosePassword() bool { return v.session.ChoosePassword }

// SetPassword replaces the password.
func (v *Visit) SetPassword(ctx context.Context, password string) error {
	s, err := callWith[contract.Session](ctx, v, "PUT", "/session/password", contract.NewPassword{Password: password})
	if err == nil {
		v.session = s
	}
	return err
}

// Session is what the server said of who is signed in.
func (v *Visit) Session() contract.Session { return v.session }

// AddKey makes a key of one's own; it is good for a year.
func (v *Visit) AddKey(ctx context.Context, label string) (contract.Key, error) {
	return callWith[contract.Key](ctx, v, "POST", "/keys", contract.KeyInput{Label: label})
}

// AddKey makes a key of one's own, as the input says.
func (c *Client) AddKey(ctx context.Context, in contract.KeyInput) (contract.Key, error) {
	return call[contract.Key](ctx, c, "POST", "/keys", in)
}

// SignOut ends the session.
func (v *Visit) SignOut(ctx context.Context) error {
	_, err := callWith[nothing](ctx, v, "DELETE", "/session", nil)
	return err
}

func callWith[T any](ctx context.Context, v *Visit, method, path string, in any) (T, error) {
	c := *v.client
	h := *c.http
	h.Transport = intent{v.session.CSRF, h.Transport}
	c.http = &h
	return call[T](ctx, &c, method, path, in)
}

// intent adds the header that a browser's changes carry.
type intent struct {
	value string
	next  http.RoundTripper
}

func (i intent) RoundTrip(r *http.Request) (*http.Response, error) {
	r = r.Clone(r.Context())
	r.Header.Set("X-Inkpost-Intent", i.value)
	if i.next != nil {
		return i.next.RoundTrip(r)
	}
	return http.DefaultTransport.RoundTrip(r)
}

// Keys lists all keys.
func (c *Client) Keys(ctx context.Context) ([]contract.Key, error) {
	return call[[]contract.Key](ctx, c, "GET", "/keys", nil)
}

// RevokeKey revokes a key.
func (c *Client) RevokeKey(ctx context.Context, id int64) error {
	return c.remove(ctx, "keys", fmt.Sprint(id))
}

// AddRouterKey makes a key for a router that announces by fetching a URL.
func (c *Client) AddRouterKey(ctx context.Context, code, link, label string, mayAnnounce ...netip.Prefix) (contract.Key, error) {
	return call[contract.Key](ctx, c, "POST", at("sites", code, "links", link, "router-keys"),
		contract.KeyInput{Label: label, MayAnnounce: mayAnnounce})
}

// AllowKey sets the prefixes in which a key of a link may announce addresses that are not its connection's own.
func (c *Client) AllowKey(ctx context.Context, id int64, mayAnnounce ...netip.Prefix) error {
	_, err := call[nothing](ctx, c, "PUT", at("keys", strconv.FormatInt(id, 10), "allowance"), contract.Allowance{MayAnnounce: mayAnnounce})
	return err
}

// AllowSigningKey sets the prefixes in which updates with a TSIG key may set addresses that are not their sender's own.
func (c *Client) AllowSigningKey(ctx context.Context, name string, mayAnnounce ...netip.Prefix) error {
	_, err := call[nothing](ctx, c, "PUT", at("signing-keys", name, "allowance"), contract.Allowance{MayAnnounce: mayAnnounce})
	return err
}

// Enrol gets an agent's key for a one-time code.
func (c *Client) Enrol(ctx context.Context, in contract.Enrolment) (contract.Enrolled, error) {
	return call[contract.Enrolled](ctx, c, "POST", "/agents", in)
}

// Observed asks, with an agent's key, which address the server sees.
func (c *Client) Observed(ctx context.Context) (contract.Observed, error) {
	return call[contract.Observed](ctx, c, "GET", "/agent/observed", nil)
}

// Announce announces, with an agent's key, the address of its link.
func (c *Client) Announce(ctx context.Context, in contract.Announcement) (contract.Receipt, error) {
	return call[contract.Receipt](ctx, c, "POST", "/agent/announcements", in)
}

// SetLabPrimary takes the simulated primary of the remote zone away, or brings it back.
func (c *Client) SetLabPrimary(ctx context.Context, running bool) error {
	return c.toggle(ctx, running, "lab", "primary", "running")
}

// SetLabTaken has somebody else hold a name in the remote zone, at an address; the empty address frees it.
func (c *Client) SetLabTaken(ctx context.Context, name, address string) error {
	if address == "" {
		return c.toggle(ctx, false, "lab", "primary", "taken", name)
	}
	return c.toggle(ctx, true, "lab", "primary", "taken", name, address)
}

// SetLabProvider has a simulated provider fail, or ends that.
func (c *Client) SetLabProvider(ctx context.Context, name string, running bool) error {
	return c.toggle(ctx, running, "lab", "providers", name, "running")
}

// World shows the lab.
func (c *Client) World(ctx context.Context) (contract.World, error) {
	return call[contract.World](ctx, c, "GET", "/lab", nil)
}

// Renumber has the simulated provider give a link another address.
func (c *Client) Renumber(ctx context.Context, code, link string) (contract.Renumbering, error) {
	return call[contract.Renumbering](ctx, c, "POST", at("lab", "sites", code, "links", link, "renumberings"), nil)
}

// SetLabService starts or stops a simulated service.
func (c *Client) SetLabService(ctx context.Context, code, name string, running bool) error {
	return c.toggle(ctx, running, "lab", "sites", code, "services", name, "running")
}

// SetLabForward restores or removes a simulated router's forward.
func (c *Client) SetLabForward(ctx context.Context, code, name string, present bool) error {
	return c.toggle(ctx, present, "lab", "sites", code, "services", name, "forward")
}

// SetLabForwardTo has a simulated router's forward lead to another service.
func (c *Client) SetLabForwardTo(ctx context.Context, code, name, to string) error {
	return c.toggle(ctx, true, "lab", "sites", code, "services", name, "forward", to)
}

// RestartLabMachine restarts the machine on which a simulated site's agent runs.
func (c *Client) RestartLabMachine(ctx context.Context, code string) error {
	_, err := call[nothing](ctx, c, "POST", at("lab", "sites", code, "restarts"), nil)
	return err
}

// SetLabAwake wakes a simulated device, or has it sleep.
func (c *Client) SetLabAwake(ctx context.Context, code, device string, awake bool) error {
	return c.toggle(ctx, awake, "lab", "sites", code, "devices", device, "awake")
}

func (c *Client) toggle(ctx context.Context, on bool, elements ...string) error {
	method := "DELETE"
	if on {
		method = "PUT"
	}
	_, err := call[nothing](ctx, c, method, at(elements...), nil)
	return err
}

// Mend brings a simulated site back to what it was, and gives what was wrong.
func (c *Client) Mend(ctx context.Context, code string) (contract.Mending, error) {
	return call[contract.Mending](ctx, c, "POST", at("lab", "sites", code, "mendings"), nil)
}
