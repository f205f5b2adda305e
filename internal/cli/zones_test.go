package cli_test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/testbed"
)

func TestZonesFromTheCommandLine(t *testing.T) {
	s := testbed.Start(t, nil)
	term := open(t, s)
	const quay, secret = "quay.saltmarsh.example", "c2xpcHdheS1nYW5uZXQta2V0dGxlLWZlcnJ5LTAwMDE="
	primary := testbed.StartKnotPrimary(t, testbed.Primary{Zone: quay, Key: "push.example", Secret: secret, Listen: testbed.FreePort(t)})
	file := func(name, text string) string {
		path := filepath.Join(term.home, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	require.Contains(t, term.ok("zone", "import", zone,
		file("isles.zone", "$TTL 60\n@ SOA ns1 hostmaster 7 3600 300 1209600 30\n@ NS ns1\nns1 A 198.51.100.1\npier A "+
			"198.51.100.8\n")), "1 records added")
	require.Contains(t, term.ok("zone", "export", zone), "pier."+zone+".\t60\tIN\tA\t198.51.100.8")
	_, errs, code := term.run("pier A nowhere\n", "zone", "import", zone, "-")
	require.Equal(t, 1, code)
	require.Contains(t, errs, "FILE: line 1, column 8")
	require.Contains(t, term.ok("zone", "import", "--dry-run", "--replace", zone, file("empty.zone", "; nothing\n")),
		"dry run: 0 records would be added, 1 removed")
	out := filepath.Join(term.home, "out.zone")
	term.ok("zone", "export", zone, "--file", out)
	_, errs, code = term.run("", "zone", "export", zone, "--file", out)
	require.Equal(t, 1, code)
	require.Contains(t, errs, "not overwritten")

	term.ok("signing-key", "add", "push.example", "--secret-file", file("secret", secret+"\n"))
	require.Contains(t, term.ok("zone", "add", quay, "--primary", primary.Addr(), "--primary-key", "push.example"), "Nothing is pushed yet")
	term.ok("site", "add", "FER-11", "--name", "Ferry Ticket Kiosk")
	term.ok("link", "add", "FER-11", "main", "--mode", "static", "--ipv4", "198.51.100.11")
	require.Contains(t, term.ok("hostname", "suggest", "FER-11", "--zone", quay), "fer-11."+quay)
	term.ok("hostname", "add", "fer-11."+quay, "--site", "FER-11")
	require.Contains(t, term.ok("zone", "difference", quay), "198.51.100.11")
	require.Contains(t, term.ok("hostname", "list"), "held")
	require.Contains(t, term.ok("zone", "push", quay), "1 names go to the primary")
	require.Eventually(t, func() bool {
		var list []contract.Push
		return json.Unmarshal([]byte(term.ok("zone", "pushes", quay, "--format", "json")), &list) == nil && len(list) == 1 &&
			list[0].State == "taken"
	}, 15*time.Second, 200*time.Millisecond)
	require.Contains(t, term.ok("zone", "difference", quay), "is up to date")

	_, errs, code = term.run("", "hostname", "check", "fer-11."+quay)
	require.Equal(t, 1, code)
	require.Contains(t, errs, "belongs to site FER-11 already")
	require.Contains(t, term.ok("hostname", "check", "fähre."+quay), "xn--fhre-loa."+quay)
	require.Contains(t, term.ok("redirect", "add", "tickets."+zone, "fer-11."+quay, "--port", "8080", "--keep-path"),
		"leads to http://fer-11."+quay+":8080/")
	require.Contains(t, term.ok("redirect", "edit", "tickets."+zone, "--scheme", "https", "--port", "0"),
		"leads to https://fer-11."+quay+"/")
	require.Contains(t, term.ok("redirect", "list", "--format", "csv"), "tickets."+zone+",https://fer-11."+quay+"/,kept,307,FER-11")
	require.Contains(t, term.ok("hostname", "hold", "fer-11."+quay), "stays at 198.51.100.11")
	require.Contains(t, term.ok("hostname", "release", "fer-11."+quay), "follows its link")
	require.Contains(t, term.ok("link", "plan", "FER-11", "main", "2h"), "TTLs are lowered ahead of that")
	require.Contains(t, term.ok("link", "plan", "FER-11", "main", "never"), "No change of link main")
	for _, wrong := range [][]string{{"link", "plan", "FER-11", "main", "soon"}, {"moves", "--since", "yesterday"},
		{"zone", "import", zone}} {
		_, errs, code := term.run("", wrong...)
		require.Equal(t, 2, code, "%v: %s", wrong, errs)
	}
	require.Equal(t, 2, strings.Count(term.ok("moves", "--since", "1h", "--site", "FER-11", "--format", "csv"), "\n"),
		"a head and one move")
	require.Equal(t, 1, strings.Count(term.ok("moves", "--until", "1h", "--format", "csv"), "\n"))
}
