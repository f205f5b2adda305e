package daemon

import (
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	mathrand "math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/core/pace"
	"inkpost.example/inkpost/internal/statefile"
	"inkpost.example/inkpost/internal/wire/acme"
)

// Authority is where the console's certificate comes from (RFC 8555). The zero Authority is nowhere.
type Authority struct {
	Directory string // its URL
	Contact   string // mail address that it may write to; "" for none
	Challenge acme.Kind
	Roots     *x509.CertPool // that vouch for the authority's own server; the system's if nil
	Retry     time.Duration  // the first wait after a failure, which doubles; a minute if 0
}

// Challenges of an authority.
const (
	ByTLS = acme.TLS
	ByDNS = acme.DNS
)

const (
	// renewShare is which share of a certificate's time is left when it is renewed.
	renewShare = 3
	// longestRetry is the longest wait after a failure: authorities count them.
	longestRetry = 6 * time.Hour
	// orderWait is how long one order may take.
	orderWait = 5 * time.Minute
	// failuresTold is how many tries fail before that is a fault.
	failuresTold = 3
	// renewLook is how often the time is looked at, at least: the machine may have slept.
	renewLook = time.Hour
)

// issuer keeps the console's certificate valid by an authority.
type issuer struct {
	d        *Daemon
	host     string
	dir      string // where account, certificate and key are kept
	interim  *tls.Certificate
	mu       sync.Mutex
	current  *tls.Certificate
	proofs   map[string]*tls.Certificate // by name, while the authority looks
	trouble  string                      // why it could not be renewed; "" if nothing is wrong
	failures int
}

// newIssuer reads what is kept. Error: a folder or a key that cannot be used.
func (d *Daemon) newIssuer(host string) (*issuer, error) {
	i := &issuer{d: d, host: host, dir: filepath.Join(d.o.StateDir, "authority"), proofs: map[string]*tls.Certificate{}}
	if pair, err := tls.LoadX509KeyPair(i.file("cert.pem"), i.file("key.pem")); err == nil && pair.Leaf.VerifyHostname(host) == nil {
		i.current = &pair
	}
	// Until there is one, people see a certificate that nobody vouches for, instead of no answer.
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	i.interim, err = selfSigned(key, host, d.now())
	return i, err
}

func (i *issuer) file(name string) string { return filepath.Join(i.dir, name) }

// get is for tls.Config.
func (i *issuer) get(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
	i.mu.Lock()
	defer i.mu.Unlock()
	if slices.Equal(hello.SupportedProtos, []string{acme.ALPN}) { // RFC 8737 section 3
		if c := i.proofs[hello.ServerName]; c != nil {
			return c, nil
		}
		return nil, errors.New("nothing is being proved for " + hello.ServerName)
	}
	if i.current != nil {
		return i.current, nil
	}
	return i.interim, nil
}

// troubled says why the certificate could not be had or renewed; "" if nothing is wrong.
func (i *issuer) troubled() string {
	i.mu.Lock()
	defer i.mu.Unlock()
	return i.trouble
}

// failing says the same once it has lasted: an authority that was away for a moment is nobody's fault.
func (i *issuer) failing() string {
	i.mu.Lock()
	defer i.mu.Unlock()
	if i.failures < failuresTold {
		return ""
	}
	return i.trouble
}

// left is how long it is until another certificate is due.
func (i *issuer) left(now time.Time) time.Duration {
	i.mu.Lock()
	defer i.mu.Unlock()
	if i.current == nil {
		return 0
	}
	life := i.current.Leaf.NotAfter.Sub(i.current.Leaf.NotBefore)
	return i.current.Leaf.NotAfter.Add(-life / renewShare).Sub(now)
}

// run keeps the certificate valid until ctx ends.
func (i *issuer) run(ctx context.Context) {
	for ctx.Err() == nil {
		wait := min(i.left(i.d.now()), renewLook)
		if wait <= 0 {
			bounded, cancel := context.WithTimeout(ctx, orderWait)
			err := i.renew(bounded)
			cancel()
			wait = i.note(err)
		}
		select {
		case <-time.After(wait):
		case <-ctx.Done():
		}
	}
}

// note notes what came of an order, and returns how long to wait for the next.
func (i *issuer) note(err error) time.Duration {
	i.mu.Lock()
	defer i.mu.Unlock()
	if err == nil {
		i.trouble, i.failures = "", 0
		i.d.log.Info("the console has a new certificate", "name", i.host, "until", i.current.Leaf.NotAfter)
		return 0
	}
	first := i.d.o.Authority.Retry
	if first == 0 {
		first = time.Minute
	}
	wait := pace.Backoff(i.failures, first, longestRetry, mathrand.Float64())
	i.failures++
	i.trouble = fmt.Sprintf("the authority gave no certificate (%d tries), at %v", i.failures, err)
	i.d.log.Warn("no certificate could be had; trying again", "name", i.host, "error", err, "in", wait.Round(time.Second))
	return wait
}

// renew gets a certificate and keeps it.
func (i *issuer) renew(ctx context.Context) error {
	account, err := i.account()
	if err != nil {
		return err
	}
	a := i.d.o.Authority
	made, err := acme.Obtain(ctx, acme.Order{Directory: a.Directory, Contact: a.Contact, Account: account, Roots: a.Roots, Name: i.host,
		Kind: a.Challenge, Prove: i.prove})
	var forgotten acme.Forgotten
	if errors.As(err, &forgotten) { // the next try registers another
		return errors.Join(err, os.Rename(i.file("account.pem"), i.file("account.refused.pem")))
	}
	if err != nil {
		return err
	}
	key, err := x509.MarshalPKCS8PrivateKey(made.PrivateKey)
	if err != nil {
		return err
	}
	var chain []byte
	for _, der := range made.Certificate {
		chain = append(chain, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})...)
	}
	if err := errors.Join(statefile.Write(i.file("key.pem"), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: key})),
		statefile.Write(i.file("cert.pem"), chain)); err != nil {
		return err
	}
	i.mu.Lock()
	defer i.mu.Unlock()
	i.current = made
	return nil
}

// account is the key that the authority knows us by: the one that is kept, or a new one.
func (i *issuer) account() (crypto.Signer, error) {
	pair, err := readKey(i.file("account.pem"))
	if err == nil {
		return pair, nil
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	return key, statefile.Write(i.file("account.pem"), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}))
}

// prove has a proof be there while the authority looks.
func (i *issuer) prove(ctx context.Context, p acme.Proof) (withdraw func(), err error) {
	if p.Certificate != nil {
		i.mu.Lock()
		i.proofs[p.Name] = p.Certificate
		i.mu.Unlock()
		return func() {
			i.mu.Lock()
			defer i.mu.Unlock()
			delete(i.proofs, p.Name)
		}, nil
	}
	e := i.d.Engine()
	if e == nil || e.Standby() {
		return nil, errors.New("this server does not write: it cannot put a record into the zone")
	}
	return e.ProveName(ctx, p.Name, p.Text)
}

// renewal says why the console's certificate could not be renewed, and failing whether that has lasted; nil where no authority issues it.
func (d *Daemon) renewal() (troubled, failing func() string) {
	if d.issuer == nil {
		return nil, nil
	}
	return d.issuer.troubled, d.issuer.failing
}
