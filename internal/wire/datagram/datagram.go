// Package datagram asks a question over UDP again and again, each time with a longer wait, until the answer comes.
package datagram

import (
	"context"
	"errors"
	"fmt"
	"net"
	"time"
)

// Dial opens a UDP "connection", so that only the other side's own packets come back.
type Dial func(ctx context.Context, network, address string) (net.Conn, error)

// ErrNoAnswer reports that no answer has come.
var ErrNoAnswer = errors.New("no answer")

// Longest is how many octets of a packet are read.
const Longest = 1100

// Ask sends a question, and again after first, twice that, and so on, tries times in all. Each packet that comes back goes to take, which
// reports whether it is the answer; anything else is ignored. The error is take's, or ErrNoAnswer with the reason.
func Ask(ctx context.Context, conn net.Conn, question []byte, first time.Duration, tries int,
	take func(packet []byte) (answer bool, err error)) error {
	defer context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Now()) })()
	buffer := make([]byte, Longest)
	for wait := first; tries > 0 && ctx.Err() == nil; tries, wait = tries-1, 2*wait {
		if _, err := conn.Write(question); err != nil {
			return fmt.Errorf("%w: %w", ErrNoAnswer, err)
		}
		_ = conn.SetReadDeadline(time.Now().Add(wait))
		for ctx.Err() == nil {
			n, err := conn.Read(buffer)
			var timeout net.Error
			if errors.As(err, &timeout) && timeout.Timeout() {
				break
			}
			if err != nil {
				return fmt.Errorf("%w: %w", ErrNoAnswer, err)
			}
			if answer, err := take(buffer[:n]); answer {
				return err
			}
		}
	}
	return ErrNoAnswer
}
