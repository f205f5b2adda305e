package cli

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestWhatComesFromAfarCannotSteerTheTerminal(t *testing.T) {
	for given, want := range map[string]string{
		"plain text, grün 🎣":                    "plain text, grün 🎣",
		"two\nlines\tand a tab":                 "two\nlines\tand a tab",
		"\x1b]0;title\x07":                      "\ufffd]0;title\ufffd",
		"\x1b[2Jcleared":                        "\ufffd[2Jcleared",
		"\u009b31mred":                          "\ufffd31mred",
		"line\rover it":                         "line\ufffdover it",
		"right\u202eleft":                       "right\ufffdleft",
		string(wrong) + "ours\x1b[5m" + toneEnd: string(wrong) + "ours\ufffd[5m" + toneEnd,
	} {
		require.Equal(t, want, printable(given), "%q", given)
	}
}
