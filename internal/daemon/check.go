package daemon

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"

	"inkpost.example/inkpost/internal/store"
)

// Check says what is wrong with options without starting anything or asking anybody. Error: what is wrong, all of it.
func Check(o Options) error {
	var wrong []error
	st, err := store.Connect(context.Background(), o.Database)
	if err == nil {
		st.Close()
	}
	wrong = append(wrong, err)
	for _, at := range []struct{ flag, address string }{{"http", o.HTTP}, {"dns", o.DNS}, {"redirect", o.Redirect}, {"stun", o.STUN},
		{"http-plain", o.PlainHTTP}} {
		if at.address == "" {
			continue
		}
		if _, err := net.ResolveTCPAddr("tcp", at.address); err != nil {
			wrong = append(wrong, fmt.Errorf("--%s %q: %w; give ADDRESS:PORT, such as 127.0.0.1:8460 or :443", at.flag, at.address, err))
		}
	}
	if o.TLSCert != "" {
		_, err := readCertificate(o.TLSCert, o.TLSKey, slog.New(slog.DiscardHandler))
		wrong = append(wrong, err)
	}
	for _, at := range o.Resolvers {
		if _, _, err := net.SplitHostPort(at); err != nil {
			wrong = append(wrong, fmt.Errorf("--resolver %q: %w; give ADDRESS:PORT", at, err))
		}
	}
	return errors.Join(wrong...)
}
