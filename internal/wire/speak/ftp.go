package speak

import (
	"context"
	"strings"
)

// speakFTP reads the greeting (RFC 959 section 5.4) and switches to TLS if the server supports it (AUTH: RFC 4217 section 4).
func speakFTP(ctx context.Context, t *attempt) (reply, error) {
	d, err := t.begin(ctx)
	if err != nil {
		return d.h, err
	}
	line, err := d.greeting("FTP", "220", "120", "421")
	if err != nil {
		return d.h, err
	}
	if strings.Contains(strings.ToUpper(line), "SMTP") {
		return d.h, protocolError("it says " + spoken([]byte(line)) + ", which is SMTP")
	}
	if !strings.HasPrefix(line, "220") {
		return d.h, nil
	}
	for strings.HasPrefix(line, "220-") {
		if line, err = d.line(); err != nil {
			return d.h, err
		}
	}
	if err := d.upgrade(ctx, true, "AUTH TLS", func(line string) bool { return strings.HasPrefix(line, "234") }); err != nil {
		return d.h, err
	}
	_ = d.say("QUIT")
	return d.h, nil
}
