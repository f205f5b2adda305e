package agent

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"time"

	"inkpost.example/inkpost/internal/agent/source"
	"inkpost.example/inkpost/internal/contract"
)

// prove listens on a port for a while: where the nonce arrives there, the router passes the external port on.
func (r *runner) prove(ctx context.Context, p contract.ProofTask) {
	ctx, cancel := context.WithTimeout(ctx, proofTime(p.Seconds))
	defer cancel()
	tell := func(w contract.ProofNews) {
		if err := r.to.any.TellProof(context.WithoutCancel(ctx), p.ID, w); err != nil {
			r.log.Warn("the news of a path proof could not be sent", "error", err)
		}
	}
	back := func() {}
	defer func() { back() }()
	arrived, err := listenFor(ctx, p, func(at int) (err error) {
		if p.Borrow != 0 {
			if back, err = r.borrow(ctx, p, at); err != nil {
				return err
			}
		}
		tell(contract.ProofNews{State: "listening", Address: r.ownAddress(ctx)})
		return nil
	})
	switch {
	case errors.Is(err, source.ErrTaken):
		tell(contract.ProofNews{State: "taken", Problem: err.Error()})
	case err != nil:
		tell(contract.ProofNews{State: "failed", Problem: err.Error()})
	case arrived != "":
		tell(contract.ProofNews{State: "arrived", From: arrived})
	}
}

// borrowFor is how long the router passes a borrowed port on to us at most. It is given back when the proof ends.
const borrowFor = 2 * time.Minute

// borrow has the router pass an external port on to one of ours. The link may not do without asking the router: then nothing is borrowed.
func (r *runner) borrow(ctx context.Context, p contract.ProofTask, at int) (back func(), err error) {
	keep := func() {}
	if !r.asks.Load() {
		return keep, errors.New("the router is not to be asked at this site (source gateway is switched off)")
	}
	back, err = r.gateway.Borrow(ctx, source.Port{Transport: p.Transport, External: p.Borrow}, at, borrowFor)
	if err != nil {
		return keep, err
	}
	r.log.Info("the router passes a port on to this machine for a proof", "port", p.Borrow, "transport", p.Transport)
	return back, nil
}

// ownAddress is this machine's LAN address on the way to the server: what a forward to it has to lead to. "" if that is not known.
func (r *runner) ownAddress(ctx context.Context) string {
	c, err := r.way.dial(ctx, "udp4", net.JoinHostPort(hostOf(r.state.Server), "9")) // sends nothing
	if err != nil {
		return ""
	}
	defer c.Close()
	host, _, _ := net.SplitHostPort(c.LocalAddr().String())
	return host
}

// maxProof is the longest that a port is listened on, whatever the server asks for.
const maxProof = time.Minute

func proofTime(seconds float64) time.Duration {
	if !(seconds > 0 && seconds < maxProof.Seconds()) {
		return maxProof
	}
	return time.Duration(seconds * float64(time.Second))
}

// Answer is what the agent's machine sends back for a nonce, so that the way back is proven too.
func Answer(nonce string) string {
	sum := sha256.Sum256([]byte("arrived " + nonce))
	return hex.EncodeToString(sum[:])
}

// listenFor waits for the nonce and gives whom it came from; "" if it did not come. It calls ready with the port on which it listens.
func listenFor(ctx context.Context, p contract.ProofTask, ready func(port int) error) (from string, err error) {
	at := fmt.Sprintf(":%d", p.Port)
	if p.Borrow != 0 {
		at = ":0" // any: the router is told which
	}
	busy := func(err error) error {
		return fmt.Errorf("port %d cannot be listened on (%w); choose another internal port, above 1023 for an agent without rights",
			p.Port, err)
	}
	if p.Transport == "udp" {
		c, err := net.ListenPacket("udp", at)
		if err != nil {
			return "", busy(err)
		}
		defer c.Close()
		defer context.AfterFunc(ctx, func() { _ = c.Close() })()
		if err := ready(c.LocalAddr().(*net.UDPAddr).Port); err != nil {
			return "", err
		}
		buffer := make([]byte, 256)
		for {
			n, sender, err := c.ReadFrom(buffer)
			if err != nil {
				return "", nil
			}
			if string(buffer[:n]) == p.Nonce {
				_, _ = c.WriteTo([]byte(Answer(p.Nonce)), sender)
				return sender.String(), nil
			}
		}
	}
	l, err := net.Listen("tcp", at)
	if err != nil {
		return "", busy(err)
	}
	defer l.Close()
	defer context.AfterFunc(ctx, func() { _ = l.Close() })()
	if err := ready(l.Addr().(*net.TCPAddr).Port); err != nil {
		return "", err
	}
	for {
		c, err := l.Accept()
		if err != nil {
			return "", nil
		}
		_ = c.SetDeadline(time.Now().Add(2 * time.Second))
		buffer := make([]byte, len(p.Nonce))
		got := 0
		for got < len(buffer) {
			n, err := c.Read(buffer[got:])
			if got += n; err != nil {
				break
			}
		}
		if string(buffer[:got]) == p.Nonce {
			_, _ = c.Write([]byte(Answer(p.Nonce)))
			_ = c.Close()
			return c.RemoteAddr().String(), nil
		}
		_ = c.Close()
	}
}
