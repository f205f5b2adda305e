// Package speak probes a port by speaking to it as a client of its protocol would: one file a kind. It signs in nowhere,
// asks for nothing but a sign that the protocol is spoken, and is bounded in time and memory, whatever comes back.
package speak

import (
	"context"
	"net/netip"
	"time"

	"inkpost.example/inkpost/internal/core/probe"
)

// Request says what to try.
type Request struct {
	Kind      probe.Kind
	Transport probe.Transport // tcp or udp
	Target    netip.AddrPort
	Name      string // the host name that the target is known by, where one is used; it is sent where the protocol has a place for it
	// Own reports whether a redirect may be followed to a host and port: those that belong to the same site. nil follows none.
	Own      func(host string, port uint16) bool
	Options  probe.Options
	ProbeKey []byte     // private key with which WireGuard servers know us
	From     netip.Addr // local address; the system's choice if zero
	Deadline time.Duration
	Brief    bool // no steps are kept: nobody asks how it went
}

// Reply is the result of one attempt, with its steps.
type Reply struct {
	probe.Result
	From        netip.AddrPort // where we connected from; zero if nothing was opened
	Took        time.Duration  // until connected, or, over UDP, until answered
	Message     string         // what came of it, in words
	Steps       []Step
	Certificate Certificate
	ICMP        probe.ICMP // that ended the attempt; zero for none
	Hung        bool       // it accepted the connection, and said nothing
	Weakness    string     // what is unsafe about how the service answers, in words; "" for nothing
}

// Step is one step of an attempt, and how long after the start it was done.
type Step struct {
	Name  string
	At    time.Duration
	Words string
}

// reply is what a conversation brought.
type reply struct {
	words       string
	fingerprint string
	certificate Certificate
	weakness    string
}

// protocolError reports a service that answers, but not as its protocol requires; the text says how.
type protocolError string

func (o protocolError) Error() string { return string(o) }

type conversation func(ctx context.Context, t *attempt) (reply, error)

var conversations = map[probe.Kind]conversation{
	probe.KindUDP: speakUDP, probe.KindTLS: speakTLS, probe.KindHTTP: speakHTTP, probe.KindHTTPS: speakHTTP, probe.KindSSH: speakSSH,
	probe.KindRDP: speakRDP, probe.KindVNC: speakVNC, probe.KindRTSP: speakRTSP, probe.KindSMTP: speakSMTP, probe.KindIMAP: speakIMAP,
	probe.KindPOP3: speakPOP3, probe.KindFTP: speakFTP, probe.KindSIP: speakSIP, probe.KindMQTT: speakMQTT, probe.KindDNS: speakDNS,
	probe.KindNTP: speakNTP, probe.KindSTUN: speakSTUN, probe.KindSNMP: speakSNMP, probe.KindIKE: speakIKE,
	probe.KindOpenVPN: speakOpenVPN, probe.KindWireGuard: speakWireGuard,
}

// To makes one attempt. It returns at the deadline at the latest.
func To(ctx context.Context, r Request) Reply {
	t := &attempt{request: r, began: time.Now()}
	t.end = t.began.Add(r.Deadline)
	if first, ok := ctx.Deadline(); ok && first.Before(t.end) {
		t.end = first
	}
	if r.Transport == probe.UDP {
		return t.overUDP(ctx)
	}
	return t.overTCP(ctx)
}
