package proofs

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"syscall"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/engine/events"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/siteside"
	"inkpost.example/inkpost/internal/store"
)

// Prove has an agent listen on a port of its machine, and sends to the external port from here: what arrives proves that the router
// passes it on, before the equipment is there, and for UDP too. Errors: siteside.ErrNoAgent, and flaws of the input.
func (x *Proofs) Prove(ctx context.Context, p record.Site, in contract.ProofInput) (contract.Proof, error) {
	l, ok := p.Preferred()
	if in.Link != "" {
		var err error
		if l, err = p.LinkNamed(in.Link); err != nil {
			return contract.Proof{}, err
		}
	} else if !ok {
		return contract.Proof{}, store.Missing{Kind: "link of " + p.Code, Name: "any"}
	}
	var f site.Flaws
	if in.Port == 0 {
		in.Port = in.External
	}
	if in.Transport == "" {
		in.Transport = string(probe.TCP)
	}
	if in.Transport != string(probe.TCP) && in.Transport != string(probe.UDP) {
		f.Note("transport", fmt.Errorf("%q is unknown; it is tcp or udp", in.Transport))
	}
	for field, port := range map[string]int{"external": in.External, "port": in.Port} {
		if port < 1 || port > 65535 {
			f.Note(field, fmt.Errorf("%d is not a port; 1 to 65535 are allowed", port))
		}
	}
	to := record.Target(l)
	if !to.IsValid() {
		f.Note("link", fmt.Errorf("the address of link %s is not known yet", l.Label))
	}
	if err := f.Err(); err != nil {
		return contract.Proof{}, err
	}
	began := x.now()
	out := contract.Proof{Link: l.Label, Transport: in.Transport, External: in.External, Port: in.Port, Address: to.String(), At: began}
	proof, end := x.side.BeginProof(p.ID, l.ID,
		siteside.ProofTask{Transport: probe.Transport(in.Transport), Port: in.Port})
	defer end()
	news, err := proof.Listening(ctx)
	if err != nil {
		return out, err
	}
	if news.State == "failed" {
		return out, site.Flaws{{Field: "port", Detail: news.Problem}}
	}
	machine := "the LAN address of the agent's machine"
	if a, err := netip.ParseAddr(news.Address); err == nil {
		machine = a.String() + ", the agent's machine"
	}
	back := send(ctx, in.Transport, netip.AddrPortFrom(to, uint16(in.External)), proof)
	out.TookMS = x.now().Sub(began).Milliseconds()
	ports := fmt.Sprintf("%s port %d", in.Transport, in.External)
	switch back {
	case "":
		out.Proven = true
		out.Words = fmt.Sprintf("what is sent to %s %s arrives at the agent's machine, port %d: the forward works", to, ports, in.Port)
		out.Next = "Point the forward at the device when it is installed; the service can be commissioned."
	default:
		out.Words = fmt.Sprintf("what is sent to %s %s does not arrive at the agent's machine, port %d: %s", to, ports, in.Port, back)
		out.Next = fmt.Sprintf("For this test the forward has to lead to the agent and not to the device: in the router, forward %s "+
			"to %s, port %d, and try again; "+
			"afterwards turn it to the device.", ports, machine, in.Port)
		if r, _ := x.side.Report(l.ID); len(r.NAT.Remedies) > 0 &&
			(r.NAT.Verdict == wan.NATDouble || r.NAT.Verdict == wan.NATCarrier) {
			out.Next = r.NAT.Remedies[0]
		}
	}
	x.events.Publish(events.LinkReport, p.Code, l.Label, out.Words)
	return out, nil
}

// send sends a proof's nonce until the agent says that it has come; it gives why not, or "".
func send(ctx context.Context, transport string, to netip.AddrPort, p *siteside.PathProof) (why string) {
	ctx, cancel := context.WithTimeout(ctx, p.Task.For/2)
	defer cancel()
	why = "nothing comes back and nothing arrives"
	for ctx.Err() == nil {
		d := net.Dialer{Timeout: 2 * time.Second}
		c, err := d.DialContext(ctx, transport, to.String())
		switch {
		case err != nil && ctx.Err() == nil:
			why = "the connection is " + connectWord(err)
		case err == nil:
			if transport == "tcp" {
				why = "another machine accepted the connection: the forward leads there, or the router itself answers"
			}
			_, _ = c.Write([]byte(p.Task.Nonce))
		}
		wait := time.NewTimer(time.Second)
		select {
		case w := <-p.News():
			wait.Stop()
			if c != nil {
				_ = c.Close()
			}
			if w.State == "arrived" {
				return ""
			}
			why = w.Problem
		case <-wait.C:
		case <-ctx.Done():
		}
		if c != nil {
			_ = c.Close()
		}
		wait.Stop()
	}
	return why
}

func connectWord(err error) string {
	if errors.Is(err, syscall.ECONNREFUSED) {
		return "refused"
	}
	return "not answered"
}
