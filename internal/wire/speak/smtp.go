package speak

import (
	"context"
	"slices"
	"strings"
)

// speakSMTP reads the greeting, says EHLO (RFC 5321 sections 3.1 and 4.1.1.1) and switches to TLS if it is offered (RFC 3207; RFC 8314
// section 3 for TLS from the start).
func speakSMTP(ctx context.Context, t *attempt) (reply, error) {
	d, err := t.begin(ctx)
	if err != nil {
		return d.h, err
	}
	line, err := d.greeting("SMTP", "220", "421", "554")
	if err != nil || !strings.HasPrefix(line, "220") {
		return d.h, err
	}
	for strings.HasPrefix(line, "220-") {
		if line, err = d.line(); err != nil {
			return d.h, err
		}
	}
	if err := d.say("EHLO probe.invalid"); err != nil {
		return d.h, err
	}
	offers, err := d.answer()
	if err != nil {
		return d.h, err
	}
	if !strings.HasPrefix(offers[0], "250") {
		return d.h, protocolError("it answers EHLO with " + spoken([]byte(offers[0])))
	}
	offered := slices.ContainsFunc(offers, func(o string) bool {
		return len(o) > 4 &&
			strings.EqualFold(strings.TrimSpace(o[4:]), "STARTTLS")
	})
	if err := d.upgrade(ctx, offered, "STARTTLS", func(line string) bool { return strings.HasPrefix(line, "220") }); err != nil {
		return d.h, err
	}
	_ = d.say("QUIT")
	return d.h, nil
}
