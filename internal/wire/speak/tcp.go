package speak

import (
	"context"
	"errors"
	"net"
	"os"
	"syscall"

	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/wire/connect"
)

// signal classifies what the network said to a connection attempt (RFC 9293 section 3.5, RFC 1122 section 4.2.3.9): a TCP port that opens
// is all that kind tcp asks for.
func signal(ctx context.Context, err error) (probe.Signal, string, probe.ICMP) {
	var failure *connect.Failure
	if errors.As(err, &failure) && failure.ICMP.Came() {
		m := failure.ICMP
		switch m.Notice() {
		case probe.PortUnreachable:
			return probe.SignalReset, "refused: " + m.String(), m
		case probe.OtherNotice:
		default:
			return probe.SignalNoRoute, m.String(), m
		}
	}
	var timeout net.Error
	switch {
	case errors.Is(err, syscall.ECONNREFUSED), errors.Is(err, syscall.ECONNRESET):
		return probe.SignalReset, "connection refused (RST)", probe.ICMP{}
	case errors.Is(ctx.Err(), context.Canceled), errors.Is(err, context.Canceled):
		return probe.SignalLocal, "the attempt was cancelled", probe.ICMP{}
	case errors.Is(err, os.ErrDeadlineExceeded), errors.Is(err, syscall.ETIMEDOUT), errors.As(err, &timeout) && timeout.Timeout(),
		errors.Is(err, errSilence):
		return probe.SignalTimeout, "no answer before the deadline", probe.ICMP{}
	case errors.Is(err, syscall.ENETUNREACH), errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.EACCES),
		errors.Is(err, syscall.EPERM):
		return probe.SignalNoRoute, "the network reports no way there", probe.ICMP{}
	}
	return probe.SignalLocal, "this machine could not try: " + err.Error(), probe.ICMP{}
}

// Concluded is what came of a bare round.
func (s Service) Concluded(c connect.Tried) Round {
	t := Try{Target: s.Target, Transport: s.Transport, Kind: s.Kind}
	t.From, t.Took = c.From, c.Took
	if t.Signal, t.Message = probe.SignalConnected, accepted; c.Err != nil {
		t.Signal, t.Message, t.ICMP = signal(context.Background(), c.Err)
	}
	t.Outcome = probe.Judge(t.Result, s.Pinned)
	return s.together([]Try{t})
}
