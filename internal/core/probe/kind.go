package probe

import (
	"fmt"
	"slices"
	"strings"
)

// Transport carries a service.
type Transport string

// The transports. Both stands for one rule of a router that passes TCP and UDP on alike.
const (
	TCP  Transport = "tcp"
	UDP  Transport = "udp"
	Both Transport = "both"
)

// Has reports whether a service on t uses one of the two transports.
func (t Transport) Has(one Transport) bool { return t == one || t == Both }

// Meets reports whether two services can claim the same port: they share a transport.
func (t Transport) Meets(o Transport) bool { return t == o || t == Both || o == Both }

// Each lists the transports that t stands for.
func (t Transport) Each() []Transport {
	if t == Both {
		return []Transport{TCP, UDP}
	}
	return []Transport{t}
}

// String writes a transport as routers do.
func (t Transport) String() string {
	if t == Both {
		return "TCP and UDP"
	}
	return strings.ToUpper(string(t))
}

// Kind says what protocol a service speaks, and so how its port is probed.
type Kind string

// The kinds. TCP and UDP ask for nothing but the port.
const (
	KindTCP       Kind = "tcp"
	KindUDP       Kind = "udp"
	KindTLS       Kind = "tls"
	KindHTTP      Kind = "http"
	KindHTTPS     Kind = "https"
	KindSSH       Kind = "ssh"
	KindRDP       Kind = "rdp"
	KindVNC       Kind = "vnc"
	KindRTSP      Kind = "rtsp"
	KindSMTP      Kind = "smtp"
	KindIMAP      Kind = "imap"
	KindPOP3      Kind = "pop3"
	KindFTP       Kind = "ftp"
	KindSIP       Kind = "sip"
	KindMQTT      Kind = "mqtt"
	KindDNS       Kind = "dns"
	KindNTP       Kind = "ntp"
	KindSTUN      Kind = "stun"
	KindSNMP      Kind = "snmp"
	KindIKE       Kind = "ikev2"
	KindOpenVPN   Kind = "openvpn"
	KindWireGuard Kind = "wireguard"
)

// Trait is what is known of a kind in advance.
type Trait struct {
	Kind       Kind        `json:"kind"`
	About      string      `json:"about"`
	Transports []Transport `json:"transports"` // that the protocol runs over; the first is the usual one
	Port       int         `json:"port"`       // registered with IANA; 0 for none
	Options    []string    `json:"options,omitempty"`
	Recognised string      `json:"recognised_by,omitempty"` // what its fingerprint is
	Clear      bool        `json:"clear,omitempty"`         // what is said can be read on the way
}

var traits = []Trait{
	{Kind: KindTCP, About: "any TCP port: it opens", Transports: []Transport{TCP}},
	{Kind: KindUDP, About: "any UDP port: silence proves nothing", Transports: []Transport{UDP}},
	{Kind: KindTLS, About: "TLS handshake", Transports: []Transport{TCP}, Options: tlsOptions, Recognised: "public key"},
	{Kind: KindHTTP, About: "web page", Transports: []Transport{TCP}, Port: 80, Options: webOptions,
		Recognised: "server, title, icon, realm, headers",
		Clear:      true},
	{Kind: KindHTTPS, About: "web page over TLS", Transports: []Transport{TCP}, Port: 443, Options: append(webOptions, tlsOptions...),
		Recognised: "public key"},
	{Kind: KindSSH, About: "secure shell", Transports: []Transport{TCP}, Port: 22, Recognised: "host key"},
	{Kind: KindRDP, About: "remote desktop", Transports: []Transport{TCP}, Port: 3389, Recognised: "public key"},
	{Kind: KindVNC, About: "screen sharing (RFB)", Transports: []Transport{TCP}, Port: 5900, Recognised: "version and security types",
		Clear: true},
	{Kind: KindRTSP, About: "camera stream", Transports: []Transport{TCP}, Port: 554, Recognised: "server, methods, realm", Clear: true},
	{Kind: KindSMTP, About: "mail transfer", Transports: []Transport{TCP}, Port: 25, Options: mailOptions,
		Recognised: "public key, or greeting"},
	{Kind: KindIMAP, About: "mailbox (IMAP)", Transports: []Transport{TCP}, Port: 143, Options: mailOptions,
		Recognised: "public key, or greeting"},
	{Kind: KindPOP3, About: "mailbox (POP3)", Transports: []Transport{TCP}, Port: 110, Options: mailOptions,
		Recognised: "public key, or greeting"},
	{Kind: KindFTP, About: "file transfer", Transports: []Transport{TCP}, Port: 21, Options: mailOptions,
		Recognised: "public key, or greeting"},
	{Kind: KindSIP, About: "telephony", Transports: []Transport{UDP, TCP}, Port: 5060, Recognised: "server, methods, realm", Clear: true},
	{Kind: KindMQTT, About: "message broker", Transports: []Transport{TCP}, Port: 1883, Options: []string{"version"},
		Recognised: "answer and abilities",
		Clear:      true},
	{Kind: KindDNS, About: "name server", Transports: []Transport{UDP, TCP}, Port: 53, Options: []string{"ask"},
		Recognised: "own name and abilities",
		Clear:      true},
	{Kind: KindNTP, About: "time", Transports: []Transport{UDP}, Port: 123, Clear: true},
	{Kind: KindSTUN, About: "address lookup for calls", Transports: []Transport{UDP}, Port: 3478, Clear: true},
	{Kind: KindSNMP, About: "management (SNMPv3)", Transports: []Transport{UDP}, Port: 161, Recognised: "engine ID"},
	{Kind: KindIKE, About: "IPsec VPN", Transports: []Transport{UDP}, Port: 500},
	{Kind: KindOpenVPN, About: "OpenVPN", Transports: []Transport{UDP, TCP}, Port: 1194, Options: []string{"guarded"}},
	{Kind: KindWireGuard, About: "WireGuard", Transports: []Transport{UDP}, Port: 51820, Options: []string{"peer_key"},
		Recognised: "static key"},
}

// Traits lists all kinds.
func Traits() []Trait { return slices.Clone(traits) }

// TraitOf returns what is known of a kind; the zero Trait of one that is none.
func TraitOf(k Kind) Trait {
	for _, t := range traits {
		if t.Kind == k {
			return t
		}
	}
	return Trait{}
}

// Kinds lists the kinds that can be probed.
func Kinds() []Kind {
	out := make([]Kind, len(traits))
	for i, t := range traits {
		out[i] = t.Kind
	}
	return out
}

// On returns the kind as which a service of kind k is probed over one of its transports: where its protocol does not run over that, only
// the port is.
func (k Kind) On(t Transport) Kind {
	if slices.Contains(TraitOf(k).Transports, t) {
		return k
	}
	return Kind(t)
}

// Mute reports whether a service that works may well leave a probe without an answer: then silence proves nothing.
func Mute(k Kind, o Options) bool {
	switch k {
	case KindUDP:
		return true
	case KindOpenVPN:
		return o.Guarded != ""
	case KindWireGuard:
		return o.PeerKey == ""
	}
	return false
}

// ParseKind accepts one of Kinds; "" is tcp. The error lists the kinds.
func ParseKind(s string) (Kind, error) {
	if s == "" {
		return KindTCP, nil
	}
	if k := Kind(strings.ToLower(s)); TraitOf(k).Kind != "" {
		return k, nil
	}
	words := make([]string, 0, len(traits))
	for _, t := range traits {
		words = append(words, string(t.Kind))
	}
	return "", fmt.Errorf("kind %q is unknown; it is one of %s", s, strings.Join(words, ", "))
}

// Named reports whether a probe of the kind speaks of a name: a request's host, or the server name of a TLS handshake.
func (k Kind) Named() bool {
	switch k {
	case KindTCP, KindUDP, KindSSH, KindVNC, KindMQTT, KindNTP, KindSTUN, KindSNMP, KindIKE, KindOpenVPN, KindWireGuard:
		return false
	}
	return true
}
