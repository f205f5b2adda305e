// Package idp is a stand-in for a provider of OpenID Connect: it signs in whoever it was told is there, without asking.
package idp

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
)

// Provider is the stand-in. Claims are those of whoever is there; "sub" is required. Tamper, where it is set, changes a token's claims
// before they are signed.
type Provider struct {
	Client, Secret string
	Tamper         func(claims map[string]any)

	issuer string
	key    *rsa.PrivateKey
	mu     sync.Mutex
	claims map[string]any
	codes  map[string]asked
}

type asked struct {
	nonce, challenge, returnTo string
	claims                     map[string]any
}

// New returns a provider at a URL, for one client. Error: none that happens.
func New(issuer, client, secret string) (*Provider, error) {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	return &Provider{Client: client, Secret: secret, issuer: issuer, key: key, codes: map[string]asked{}}, err
}

// Seat says who is there from now on.
func (p *Provider) Seat(claims map[string]any) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.claims = claims
}

// ServeHTTP implements http.Handler.
func (p *Provider) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	switch r.URL.Path {
	case "/.well-known/openid-configuration":
		answer(w, map[string]any{"issuer": p.issuer, "authorization_endpoint": p.issuer + "/authorize",
			"token_endpoint": p.issuer + "/token",
			"jwks_uri":       p.issuer + "/keys", "response_types_supported": []string{"code"},
			"subject_types_supported":               []string{"public"},
			"id_token_signing_alg_values_supported": []string{"RS256"}})
	case "/keys":
		answer(w, jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: p.key.Public(), KeyID: "1", Algorithm: "RS256", Use: "sig"}}})
	case "/authorize":
		p.authorize(w, r)
	case "/token":
		p.token(w, r)
	default:
		http.NotFound(w, r)
	}
}

func answer(w http.ResponseWriter, doc any) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(doc)
}

func (p *Provider) authorize(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	back, err := url.Parse(q.Get("redirect_uri"))
	if err != nil || q.Get("client_id") != p.Client || q.Get("code_challenge_method") != "S256" {
		http.Error(w, "not a request of a client", http.StatusBadRequest)
		return
	}
	p.mu.Lock()
	code := rand.Text()
	p.codes[code] = asked{q.Get("nonce"), q.Get("code_challenge"), q.Get("redirect_uri"), p.claims}
	nobody := p.claims == nil
	p.mu.Unlock()
	to := url.Values{"state": {q.Get("state")}, "code": {code}}
	if nobody {
		to = url.Values{"state": {q.Get("state")}, "error": {"access_denied"}}
	}
	back.RawQuery = to.Encode()
	http.Redirect(w, r, back.String(), http.StatusFound)
}

func (p *Provider) token(w http.ResponseWriter, r *http.Request) {
	id, secret, _ := r.BasicAuth()
	if id == "" {
		id, secret = r.FormValue("client_id"), r.FormValue("client_secret")
	}
	p.mu.Lock()
	was, known := p.codes[r.FormValue("code")]
	delete(p.codes, r.FormValue("code"))
	p.mu.Unlock()
	proof := sha256.Sum256([]byte(r.FormValue("code_verifier")))
	if !known || id != p.Client || secret != p.Secret || was.returnTo != r.FormValue("redirect_uri") ||
		base64.RawURLEncoding.EncodeToString(proof[:]) != was.challenge {
		w.WriteHeader(http.StatusBadRequest)
		_, _ = fmt.Fprint(w, `{"error": "invalid_grant"}`)
		return
	}
	claims := map[string]any{"iss": p.issuer, "aud": p.Client, "nonce": was.nonce, "iat": time.Now().Unix(),
		"exp": time.Now().Add(time.Minute).Unix()}
	for k, v := range was.claims {
		claims[k] = v
	}
	if p.Tamper != nil {
		p.Tamper(claims)
	}
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.RS256, Key: jose.JSONWebKey{Key: p.key, KeyID: "1"}}, nil)
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	token, err := jwt.Signed(signer).Claims(claims).Serialize()
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	answer(w, map[string]any{"access_token": rand.Text(), "token_type": "Bearer", "expires_in": 60, "id_token": token})
}
