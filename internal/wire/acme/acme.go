// Package acme gets certificates from an authority (RFC 8555), by dns-01 (section 8.4) or tls-alpn-01 (RFC 8737).
package acme

import (
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"time"

	"golang.org/x/crypto/acme"
)

// Kind of a challenge: how it is proved that a name is ours.
type Kind string

// The kinds: a TXT record of the name's zone, or an answer at port 443 of the name.
const (
	DNS Kind = "dns-01"
	TLS Kind = "tls-alpn-01"
)

// ALPN is the protocol by which an authority asks for the proof of TLS (RFC 8737 section 6.2).
const ALPN = acme.ALPNProto

// Proof is what has to be there while the authority looks: a TXT record of _acme-challenge below the name, or a certificate for it.
type Proof struct {
	Name        string
	Text        string           // of the TXT record; "" for TLS
	Certificate *tls.Certificate // nil for DNS
}

// Order is a certificate that is asked for.
type Order struct {
	Directory string        // URL of the authority
	Contact   string        // mail address that the authority may write to; "" for none
	Account   crypto.Signer // the key that the authority knows us by
	Roots     *x509.CertPool
	Name      string
	Kind      Kind
	// Prove has the proof be there, and takes it away again.
	Prove func(ctx context.Context, p Proof) (withdraw func(), err error)
}

// Error of an order: at which step it failed.
type Error struct {
	Step string
	Err  error
}

func (e Error) Error() string { return e.Step + ": " + e.Err.Error() }

func (e Error) Unwrap() error { return e.Err }

// Forgotten reports an account that the authority does not take any more: it was revoked there, or is not known. Another key may have one.
type Forgotten struct{ Err error }

func (f Forgotten) Error() string {
	return "the authority does not take this account any more: " + f.Err.Error()
}

func (f Forgotten) Unwrap() error { return f.Err }

// ofAccount tells an account that is not taken any more from other trouble (RFC 8555 section 6.7).
func ofAccount(step string, err error) error {
	var said *acme.Error
	if errors.As(err, &said) && slices.Contains([]string{"urn:ietf:params:acme:error:accountDoesNotExist",
		"urn:ietf:params:acme:error:unauthorized"}, said.ProblemType) {
		err = Forgotten{err}
	}
	return Error{step, err}
}

// Obtain registers the account where it is not yet, proves that the name is ours, and returns a certificate with a fresh key. Error: Error,
// within which Forgotten says that the account is not taken any more.
func Obtain(ctx context.Context, o Order) (*tls.Certificate, error) {
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.TLSClientConfig = &tls.Config{RootCAs: o.Roots, MinVersion: tls.VersionTLS12}
	c := &acme.Client{Key: o.Account, DirectoryURL: o.Directory, UserAgent: "inkpost",
		HTTPClient: &http.Client{Transport: transport, Timeout: 30 * time.Second}}
	account := &acme.Account{}
	if o.Contact != "" {
		account.Contact = []string{"mailto:" + o.Contact}
	}
	if _, err := c.Register(ctx, account, acme.AcceptTOS); err != nil && !errors.Is(err, acme.ErrAccountAlreadyExists) {
		return nil, ofAccount("account", err)
	}
	order, err := c.AuthorizeOrder(ctx, acme.DomainIDs(o.Name))
	if err != nil {
		return nil, ofAccount("order", err)
	}
	for _, at := range order.AuthzURLs {
		if err := o.authorize(ctx, c, at); err != nil {
			return nil, err
		}
	}
	at := order.URI
	if order, err = c.WaitOrder(ctx, at); err != nil {
		return nil, Error{"order", err}
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, Error{"key", err}
	}
	request, err := x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{DNSNames: []string{o.Name}}, key)
	if err != nil {
		return nil, Error{"request", err}
	}
	chain, _, err := c.CreateOrderCert(ctx, order.FinalizeURL, request, true)
	if err != nil { // an authority that takes its time need not repeat where the order is, and then the package does not find it
		if order, err = c.WaitOrder(ctx, at); err == nil {
			chain, err = c.FetchCert(ctx, order.CertURL, true)
		}
	}
	if err != nil {
		return nil, Error{"certificate", err}
	}
	leaf, err := x509.ParseCertificate(chain[0])
	if err != nil {
		return nil, Error{"certificate", err}
	}
	return &tls.Certificate{Certificate: chain, PrivateKey: key, Leaf: leaf}, nil
}

// authorize proves that a name is ours, unless the authority still remembers.
func (o Order) authorize(ctx context.Context, c *acme.Client, at string) error {
	authz, err := c.GetAuthorization(ctx, at)
	if err != nil {
		return Error{"authorization", err}
	}
	if authz.Status == acme.StatusValid {
		return nil
	}
	for _, ch := range authz.Challenges {
		if ch.Type != string(o.Kind) {
			continue
		}
		p := Proof{Name: authz.Identifier.Value}
		if o.Kind == DNS {
			p.Text, err = c.DNS01ChallengeRecord(ch.Token)
		} else {
			var made tls.Certificate
			made, err = c.TLSALPN01ChallengeCert(ch.Token, p.Name)
			p.Certificate = &made
		}
		if err != nil {
			return Error{"proof", err}
		}
		withdraw, err := o.Prove(ctx, p)
		if err != nil {
			return Error{"proof", err}
		}
		defer withdraw()
		if _, err := c.Accept(ctx, ch); err != nil {
			return Error{"challenge", err}
		}
		if _, err := c.WaitAuthorization(ctx, at); err != nil {
			return Error{"challenge", plainly(err)}
		}
		return nil
	}
	return Error{"challenge", fmt.Errorf("the authority offers no %s for %s", o.Kind, authz.Identifier.Value)}
}

// plainly is why an authority did not take a proof, in its own words.
func plainly(err error) error {
	var refused *acme.AuthorizationError
	if !errors.As(err, &refused) || len(refused.Errors) == 0 {
		return err
	}
	var said *acme.Error
	if errors.As(refused.Errors[0], &said) {
		return errors.New(said.Detail)
	}
	return refused.Errors[0]
}
