package probe

import (
	"encoding/base64"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Options say what a probe of a service asks and expects, beyond its kind. All are text; empty takes the default.
type Options struct {
	// Path to ask a web server for; "/" if empty. Status is what it must answer, as 200 or 200-399; below 500 if empty. Text has to be on
	// the page.
	Path   string `json:"path,omitempty"`
	Status string `json:"status,omitempty"`
	Text   string `json:"text,omitempty"`
	// Certificate "checked" takes a certificate that has expired, or is made out to another name, for a wrong answer.
	Certificate string `json:"certificate,omitempty"`
	// TLS of mail and file servers: used where "offered" (the default), "needed", or "first", before anything is said.
	TLS string `json:"tls,omitempty"`
	// Ask is the name that a name server is asked for.
	Ask string `json:"ask,omitempty"`
	// Version of MQTT: 3.1.1 (the default) or 5.
	Version string `json:"version,omitempty"`
	// PeerKey is the public key of a WireGuard server, in base64.
	PeerKey string `json:"peer_key,omitempty"`
	// Guarded "yes": an OpenVPN server that answers signed packets only, and leaves a probe without an answer.
	Guarded string `json:"guarded,omitempty"`
}

var (
	tlsOptions  = []string{"certificate"}
	webOptions  = []string{"path", "status", "text"}
	mailOptions = []string{"tls", "certificate"}
)

// OptionNames lists all options.
func OptionNames() []string {
	return []string{"path", "status", "text", "certificate", "tls", "ask", "version", "peer_key", "guarded"}
}

func (o *Options) field(name string) *string {
	switch name {
	case "path":
		return &o.Path
	case "status":
		return &o.Status
	case "text":
		return &o.Text
	case "certificate":
		return &o.Certificate
	case "tls":
		return &o.TLS
	case "ask":
		return &o.Ask
	case "version":
		return &o.Version
	case "peer_key":
		return &o.PeerKey
	case "guarded":
		return &o.Guarded
	}
	return nil
}

// With returns the options with one of them set. Error: there is none of that name.
func (o Options) With(name, value string) (Options, error) {
	f := o.field(name)
	if f == nil {
		return o, fmt.Errorf("option %q is unknown; there are %s", name, strings.Join(OptionNames(), ", "))
	}
	*f = value
	return o, nil
}

// List returns the options that are set, as name=value.
func (o Options) List() []string {
	var out []string
	for _, name := range OptionNames() {
		if v := *o.field(name); v != "" {
			out = append(out, name+"="+v)
		}
	}
	return out
}

// WireGuardKey decodes a WireGuard key: 32 octets in base64. The error says what a key looks like.
func WireGuardKey(text string) ([]byte, error) {
	key, err := base64.StdEncoding.DecodeString(text)
	if err != nil || len(key) != 32 {
		return nil, fmt.Errorf("%q is not a WireGuard key; 44 characters of base64 (32 octets) are required", text)
	}
	return key, nil
}

// StatusRange reads a status option: 200, or 200-399; 100 to 499 where it is empty. The error says what is allowed: 100 to 599.
func StatusRange(text string) (from, to int, err error) {
	if text == "" {
		return 100, 499, nil
	}
	first, last, ranged := strings.Cut(text, "-")
	from, err = strconv.Atoi(first)
	if to = from; err == nil && ranged {
		to, err = strconv.Atoi(last)
	}
	if err != nil || from < 100 || to > 599 || from > to {
		return 0, 0, fmt.Errorf("%q is not a status; give 200, or a range such as 200-399, within 100 to 599", text)
	}
	return from, to, nil
}

// Check says what is wrong with the options of a service of kind k: one that the kind does not have, or a bad value. It gives the option's
// name with it. The error says what is allowed.
func (o Options) Check(k Kind) (name string, err error) {
	allowed := TraitOf(k).Options
	for _, name := range OptionNames() {
		v := *o.field(name)
		if v == "" {
			continue
		}
		if !slices.Contains(allowed, name) {
			if len(allowed) == 0 {
				return name, fmt.Errorf("kind %s has no options", k)
			}
			return name, fmt.Errorf("kind %s has no such option; it has %s", k, strings.Join(allowed, ", "))
		}
		if len(v) > 300 || strings.ContainsFunc(v, func(r rune) bool { return r < ' ' || r == 0x7f }) {
			return name, fmt.Errorf("is longer than 300 characters, or contains a control character")
		}
		if err := checkOption(name, v); err != nil {
			return name, err
		}
	}
	return "", nil
}

func checkOption(name, v string) error {
	oneOf := func(words ...string) error {
		if slices.Contains(words, v) {
			return nil
		}
		return fmt.Errorf("%q is unknown; it is %s", v, strings.Join(words, " or "))
	}
	switch name {
	case "path":
		if !strings.HasPrefix(v, "/") || strings.ContainsAny(v, " #") {
			return fmt.Errorf("%q is not a path; it must begin with / and have no spaces", v)
		}
	case "status":
		_, _, err := StatusRange(v)
		return err
	case "certificate":
		return oneOf("noted", "checked")
	case "tls":
		return oneOf("offered", "needed", "first")
	case "version":
		return oneOf("3.1.1", "5")
	case "guarded":
		return oneOf("yes")
	case "peer_key":
		_, err := WireGuardKey(v)
		return err
	}
	return nil
}
