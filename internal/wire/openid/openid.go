// Package openid signs people in at somebody else's provider, by OpenID Connect Core 1.0 with the authorization code flow and PKCE (RFC
// 7636). It keeps nothing of anybody.
package openid

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"
)

// Config says where people sign in, and what is made of what is said of them.
type Config struct {
	Issuer, ClientID, ClientSecret string
	Title                          string // of the button; the issuer's host if empty
	RoleClaim                      string // its values are roles; "inkpost_role" if empty
	TagsClaim                      string // its values are tags of the sites that are seen; "inkpost_tags" if empty
}

// Person is what a provider says of somebody.
type Person struct {
	Subject string   // the same for ever
	Name    string   // preferred_username, or else email
	Roles   []string // values of the role claim
	Tags    []string
}

// Ask is a question that is put to a provider by way of the browser.
type Ask struct {
	URL                    string
	State, Nonce, Verifier string
}

// Provider is a provider. It is found at its first use, so that the service starts without it.
type Provider struct {
	c  Config
	mu sync.Mutex
	at *oidc.Provider
}

// patience is how long a provider may take to answer.
const patience = 10 * time.Second

// New returns a provider.
func New(c Config) *Provider {
	if c.RoleClaim == "" {
		c.RoleClaim = "inkpost_role"
	}
	if c.TagsClaim == "" {
		c.TagsClaim = "inkpost_tags"
	}
	return &Provider{c: c}
}

// Title is what the provider is called.
func (p *Provider) Title() string {
	if p.c.Title != "" {
		return p.c.Title
	}
	host := strings.TrimPrefix(strings.TrimPrefix(p.c.Issuer, "https://"), "http://")
	host, _, _ = strings.Cut(host, "/")
	return host
}

// Issuer is who says who somebody is.
func (p *Provider) Issuer() string { return p.c.Issuer }

func (p *Provider) found(ctx context.Context) (*oidc.Provider, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.at != nil {
		return p.at, nil
	}
	// The provider keeps the context's client for its keys: it must not end with one request.
	lasting := oidc.ClientContext(context.WithoutCancel(ctx), &http.Client{Timeout: patience})
	at, err := oidc.NewProvider(lasting, p.c.Issuer)
	if err != nil {
		return nil, fmt.Errorf("the provider at %s does not answer as one: %w", p.c.Issuer, err)
	}
	p.at = at
	return at, nil
}

func (p *Provider) client(at *oidc.Provider, returnTo string) oauth2.Config {
	return oauth2.Config{ClientID: p.c.ClientID, ClientSecret: p.c.ClientSecret, Endpoint: at.Endpoint(), RedirectURL: returnTo,
		Scopes: []string{oidc.ScopeOpenID, "profile", "email"}}
}

// Begin makes the question for a browser, which comes back to a URL. Error: a provider that does not answer.
func (p *Provider) Begin(ctx context.Context, returnTo, state, nonce string) (Ask, error) {
	at, err := p.found(ctx)
	if err != nil {
		return Ask{}, err
	}
	a := Ask{State: state, Nonce: nonce, Verifier: oauth2.GenerateVerifier()}
	c := p.client(at, returnTo)
	a.URL = c.AuthCodeURL(state, oidc.Nonce(nonce), oauth2.S256ChallengeOption(a.Verifier))
	return a, nil
}

// ErrClaims reports a provider that does not say who somebody is.
var ErrClaims = errors.New("the provider does not say who this is: its token has no preferred_username and no email")

// Finish takes what a browser brought back from a provider. Errors: ErrClaims, an answer that proves nothing, a provider that does not
// answer.
func (p *Provider) Finish(ctx context.Context, returnTo, code string, a Ask) (out Person, err error) {
	at, err := p.found(ctx)
	if err != nil {
		return out, err
	}
	bounded, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	c := p.client(at, returnTo)
	token, err := c.Exchange(bounded, code, oauth2.VerifierOption(a.Verifier))
	if err != nil {
		return out, fmt.Errorf("the provider does not take what it gave: %w", err)
	}
	raw, _ := token.Extra("id_token").(string)
	id, err := at.Verifier(&oidc.Config{ClientID: p.c.ClientID}).Verify(bounded, raw)
	if err != nil {
		return out, fmt.Errorf("the provider's token is not valid: %w", err)
	}
	if id.Nonce != a.Nonce {
		return out, errors.New("the provider's token is the answer to another question")
	}
	var claims map[string]any
	if err := id.Claims(&claims); err != nil {
		return out, err
	}
	out = Person{Subject: id.Subject, Roles: words(claims[p.c.RoleClaim]), Tags: words(claims[p.c.TagsClaim])}
	for _, name := range []string{"preferred_username", "email"} {
		if s, _ := claims[name].(string); s != "" && out.Name == "" {
			out.Name = s
		}
	}
	if out.Name == "" || out.Subject == "" {
		return out, ErrClaims
	}
	return out, nil
}

// words reads a claim that is a string, or an array of strings.
func words(claim any) (out []string) {
	switch v := claim.(type) {
	case string:
		return []string{v}
	case []any:
		for _, one := range v {
			if s, ok := one.(string); ok {
				out = append(out, s)
			}
		}
	}
	return out
}
