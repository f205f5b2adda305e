package speak

import (
	"context"
	"errors"
	"time"

	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/wire/datagram"
)

var errSilence = datagram.ErrNoAnswer

// patience is how long the first answer over UDP is waited for; each further one twice as long (RFC 8085 section 3.1.1).
const patience = 500 * time.Millisecond

// ask sends a question until an answer comes that take accepts, or the deadline. take returns nil for the answer, and an error for anything
// else; the last of those is what went wrong if nothing better came.
func (t *attempt) ask(ctx context.Context, name string, question []byte, take func(packet []byte) error) error {
	t.step("send", "%s", name)
	return t.exchange(ctx, func() []byte { return question }, take)
}

// exchange is ask with a question that is made anew for each try.
func (t *attempt) exchange(ctx context.Context, question func() []byte, take func(packet []byte) error) error {
	var wrong error
	end, _ := ctx.Deadline()
	buffer := make([]byte, 4096)
	for wait := patience; ctx.Err() == nil; wait *= 2 {
		if _, err := t.conn.Write(question()); err != nil {
			return errors.Join(wrong, err)
		}
		until := time.Now().Add(wait)
		if until.After(end) {
			until = end
		}
		_ = t.conn.SetReadDeadline(until)
		for ctx.Err() == nil {
			n, err := t.conn.Read(buffer)
			if err != nil {
				if said, _, _ := signal(ctx, err); said == probe.SignalTimeout {
					break
				}
				return errors.Join(wrong, err)
			}
			if wrong = take(buffer[:n]); wrong == nil {
				return nil
			}
		}
		if !time.Now().Before(end) {
			break
		}
	}
	if wrong != nil {
		return wrong
	}
	return errSilence
}

// speakUDP sends one empty datagram (RFC 768). An answer of any kind proves that somebody is there, and so does ICMP that
// nobody is; silence proves nothing.
func speakUDP(ctx context.Context, t *attempt) (reply, error) {
	var words string
	err := t.ask(ctx, "an empty datagram", nil, func(packet []byte) error {
		words = "it answers: " + spoken(packet)
		return nil
	})
	return reply{words: words}, err
}
