package speak

import (
	"context"
	"strings"
)

// speakPOP3 reads the greeting (RFC 1939 section 4) and switches to TLS if the server supports it (STLS: RFC 2595 section 4).
func speakPOP3(ctx context.Context, t *attempt) (reply, error) {
	d, err := t.begin(ctx)
	if err != nil {
		return d.h, err
	}
	line, err := d.greeting("POP3", "+OK", "-ERR")
	if err != nil || strings.HasPrefix(line, "-ERR") {
		return d.h, err
	}
	if err := d.upgrade(ctx, true, "STLS", func(line string) bool { return strings.HasPrefix(line, "+OK") }); err != nil {
		return d.h, err
	}
	_ = d.say("QUIT")
	return d.h, nil
}
