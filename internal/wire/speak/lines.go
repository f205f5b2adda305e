package speak

import (
	"bufio"
	"context"
	"fmt"
	"net"
	"net/textproto"
	"strings"

	"inkpost.example/inkpost/internal/core/probe"
)

// dialogue is a conversation in lines, of which mail and file servers hold one.
type dialogue struct {
	talk *attempt
	conn net.Conn
	in   *textproto.Reader
	h    reply
}

// begin takes up a dialogue, over TLS where the service wants that first.
func (t *attempt) begin(ctx context.Context) (*dialogue, error) {
	d := &dialogue{talk: t, conn: t.conn}
	if t.request.Options.TLS == "first" {
		if err := d.secure(ctx); err != nil {
			return d, err
		}
		return d, nil
	}
	d.in = textproto.NewReader(bufio.NewReaderSize(d.conn, 2048))
	return d, nil
}

// secure switches to TLS (RFC 3207, RFC 2595, RFC 4217).
func (d *dialogue) secure(ctx context.Context) error {
	c, h, err := d.talk.handshake(ctx, d.conn)
	words := d.h.words
	d.h = h
	if words != "" {
		d.h.words = words + ", " + h.words
	}
	if err != nil {
		return err
	}
	d.conn, d.in = c, textproto.NewReader(bufio.NewReaderSize(c, 2048))
	return nil
}

// greeting reads the first line, which must begin with one of these words.
func (d *dialogue) greeting(protocol string, words ...string) (string, error) {
	line, err := d.in.ReadLine()
	if err != nil && line == "" {
		return "", err
	}
	d.talk.step("receive", "%s", spoken([]byte(line)))
	for _, w := range words {
		if strings.HasPrefix(line, w) {
			shown := spoken([]byte(line))
			if d.h.words != "" {
				shown = d.h.words + ", " + shown
			}
			d.h.words = shown
			if d.h.fingerprint == "" {
				d.h.fingerprint = probe.BannerPrint(line)
			}
			return line, nil
		}
	}
	return line, protocolError("it says " + spoken([]byte(line)) + ", which is not " + protocol)
}

func (d *dialogue) say(line string) error {
	d.talk.step("send", "%s", line)
	_, err := fmt.Fprintf(d.conn, "%s\r\n", line)
	return err
}

// line reads one line of an answer.
func (d *dialogue) line() (string, error) {
	line, err := d.in.ReadLine()
	if err != nil && line == "" {
		return "", err
	}
	d.talk.step("receive", "%s", spoken([]byte(line)))
	return line, nil
}

// answer reads a numbered answer of one or several lines (RFC 5321 section 4.2.1, RFC 959 section 4.2).
func (d *dialogue) answer() (lines []string, err error) {
	for len(lines) < 100 {
		line, err := d.in.ReadLine()
		if err != nil && line == "" {
			return lines, err
		}
		lines = append(lines, line)
		if len(line) < 4 || line[3] != '-' {
			break
		}
	}
	d.talk.step("receive", "%s", spoken([]byte(lines[len(lines)-1])))
	return lines, nil
}

// upgrade switches to TLS with a command if it is offered, and reports where it is needed and is not.
func (d *dialogue) upgrade(ctx context.Context, offered bool, command string, taken func(line string) bool) error {
	need := d.talk.request.Options.TLS
	if need == "first" {
		return nil
	}
	if offered {
		if err := d.say(command); err != nil {
			return err
		}
		line, err := d.line()
		if err != nil {
			return err
		}
		if taken(line) {
			return d.secure(ctx)
		}
	}
	if need == "needed" {
		return protocolError("it does not start TLS, which is required")
	}
	d.h.weakness = "passwords can be read on the way: it does not switch to TLS"
	return nil
}
