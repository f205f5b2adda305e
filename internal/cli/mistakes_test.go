package cli_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/testbed"
)

func TestMistakesAreAnsweredInTheWordsThatWereTyped(t *testing.T) {
	s := testbed.Start(t, nil)
	term := open(t, s)
	s.Record(t, "KET-07")
	s.Name(t, "KET-07")
	s.Device(t, "KET-07", "recorder")
	for what, x := range map[string]struct {
		args []string
		code int
		says string
	}{
		"a command":       {[]string{"stie", "list"}, 2, `"stie" is not a command of inkpost; did you mean site?`},
		"a command below": {[]string{"site", "lst"}, 2, `did you mean list?`},
		"nothing near":    {[]string{"xyzzyxyzzy"}, 2, `"xyzzyxyzzy" is not a command of inkpost`},
		"a flag's value": {[]string{"service", "add", "KET-07", "page", "--device", "recorder", "--external", "99999"}, 1,
			"--external"},
		"another's": {[]string{"service", "add", "KET-07", "page", "--device", "recorder", "--external", "443",
			"--every", "999999"}, 1, "--every"},
		"an argument":               {[]string{"device", "add", "KET-07", "recorder", "--lan-address", "192.168.7.9"}, 1, "recorder"},
		"an address that is no LAN": {[]string{"device", "add", "KET-07", "other", "--lan-address", "169.254.169.254"}, 1, "--lan-address"},
		"a reset of nobody":         {[]string{"key", "allow", "99999", "198.51.100.0/24"}, 1, "99999"},
		"a prefix that is none": {[]string{"agent", "router-url", "KET-07", "main", "--may-announce", "198.51.100.0/33"}, 2,
			"198.51.100.0/33"},
	} {
		t.Run(what, func(t *testing.T) {
			_, errs, code := term.run("", x.args...)
			require.Equal(t, x.code, code, errs)
			require.Contains(t, errs, x.says)
			require.NotContains(t, errs, "external_from")
			require.NotContains(t, errs, "interval_seconds")
			require.NotContains(t, errs, "lan_address:")
		})
	}
}
