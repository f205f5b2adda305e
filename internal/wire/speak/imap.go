package speak

import (
	"context"
	"strings"
)

// speakIMAP reads the greeting and asks for the capabilities (RFC 9051 sections 7.1 and 6.1.1), and switches to TLS if it is offered
// (section 6.2.1).
func speakIMAP(ctx context.Context, t *attempt) (reply, error) {
	d, err := t.begin(ctx)
	if err != nil {
		return d.h, err
	}
	line, err := d.greeting("IMAP", "* OK", "* PREAUTH", "* BYE")
	if err != nil || strings.HasPrefix(line, "* BYE") {
		return d.h, err
	}
	if err := d.say("a CAPABILITY"); err != nil {
		return d.h, err
	}
	offered := false
	for range 100 {
		line, err := d.line()
		if err != nil {
			return d.h, err
		}
		if strings.HasPrefix(line, "a ") {
			if !strings.HasPrefix(line, "a OK") {
				return d.h, protocolError("it answers CAPABILITY with " + spoken([]byte(line)))
			}
			break
		}
		offered = offered || strings.Contains(strings.ToUpper(line), "STARTTLS")
	}
	if err := d.upgrade(ctx, offered, "b STARTTLS", func(line string) bool { return strings.HasPrefix(line, "b OK") }); err != nil {
		return d.h, err
	}
	_ = d.say("c LOGOUT")
	return d.h, nil
}
