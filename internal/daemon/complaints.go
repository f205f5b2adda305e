package daemon

import (
	"bytes"
	"context"
	"log"
	"log/slog"
	"strings"
)

// complaints takes what net/http complains of to the log. That somebody connected and did not speak TLS is what every scanner does, and
// every probe of a bare port: it is for those who look for it.
type complaints struct{ log *slog.Logger }

func (c complaints) logger() *log.Logger { return log.New(c, "", 0) }

func (c complaints) Write(line []byte) (int, error) {
	level := slog.LevelWarn
	if bytes.Contains(line, []byte("TLS handshake error")) {
		level = slog.LevelDebug
	}
	c.log.Log(context.Background(), level, strings.TrimSpace(string(line)))
	return len(line), nil
}
