package daemon

import (
	"bytes"
	"log/slog"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestScannersDoNotFillTheLog(t *testing.T) {
	t.Parallel()
	for level, lines := range map[slog.Level]int{slog.LevelInfo: 1, slog.LevelDebug: 2} {
		var out bytes.Buffer
		l := complaints{slog.New(slog.NewTextHandler(&out, &slog.HandlerOptions{Level: level}))}.logger()
		l.Printf("http: TLS handshake error from 192.0.2.9:40112: EOF")
		l.Printf("http: Accept error: too many open files; retrying in 5ms")
		require.Equal(t, lines, bytes.Count(out.Bytes(), []byte("\n")), "%s", out.String())
		require.Contains(t, out.String(), `level=WARN msg="http: Accept error: too many open files; retrying in 5ms"`)
	}
}
