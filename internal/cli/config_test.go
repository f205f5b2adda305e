package cli_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestTheServiceIsToldByAFile(t *testing.T) {
	t.Parallel()
	term := open(t, nil)
	shipped, err := filepath.Abs("../../packaging/serve.yaml")
	require.NoError(t, err)
	require.Contains(t, term.ok("serve", "--config", shipped, "--check"), "The configuration is right.")
	text, err := os.ReadFile(shipped)
	require.NoError(t, err)
	file := filepath.Join(term.home, "serve.yaml")
	for name, c := range map[string]struct {
		text string
		code int
		says string
	}{
		"nothing but comments": {"# nothing\n", 2, "--database-url is required"},
		"no such option":       {string(text) + "colour: red\n", 2, "colour: there is no such option"},
		"twice":                {string(text) + "http: :80\n", 2, "it stands there twice"},
		"a list for one":       {string(text) + "public-url: [a, b]\n", 2, "it takes one value, not a list"},
		"a map":                {string(text) + "public-url: {a: b}\n", 2, "it takes a value, or a list of values"},
		"a wrong value":        {string(text) + "answer-rate: many\n", 2, "must be an integer"},
		"no map":               {"- one\n", 2, "write one option a line"},
		"no YAML":              {"a: [\n", 2, "serve.yaml"},
		"no port":              {"database-url: postgres://x@127.0.0.1/x\nhttp: nowhere\n", 1, "--http"},
		"no certificate":       {"database-url: postgres://x@127.0.0.1/x\ntls-cert: /none\ntls-key: /none\n", 1, "certificate /none"},
		"half a certificate":   {"database-url: postgres://x@127.0.0.1/x\ntls-cert: /none\n", 2, "belong together"},
		"no authority":         {"database-url: postgres://x@127.0.0.1/x\nacme-directory: ftp://a\n", 2, "is not the URL of an authority"},
		"an authority for nobody": {"database-url: postgres://x@127.0.0.1/x\nacme-directory: https://a.example/d\n", 2,
			"needs --public-url"},
		"a wrong challenge": {"database-url: postgres://x@127.0.0.1/x\nacme-challenge: paper\n", 2, "it is tls-alpn or dns"},
		"a wrong log":       {"database-url: postgres://x@127.0.0.1/x\nlog-format: xml\n", 2, "it is text or json"},
		"a wrong key file":  {"database-url: postgres://x@127.0.0.1/x\nsecrets-key: /etc/hostname\n", 2, "is no key"},
		"a proxy that nobody trusts": {"database-url: postgres://x@127.0.0.1/x\nproxy-says: proxy-protocol\n", 2,
			"needs --trust-proxy"},
		"no URL of a member": {"database-url: postgres://x@127.0.0.1/x\nmember-url: post-2\n", 2, "--member-url \"post-2\" is not a URL"},
		"a list":             {"database-url: postgres://x@127.0.0.1/x\nresolver: [\"192.0.2.53:53\", \"192.0.2.54:53\"]\n", 0, "is right"},
	} {
		require.NoError(t, os.WriteFile(file, []byte(c.text), 0o600))
		out, errs, code := term.run("", "serve", "--config", file, "--check")
		require.Equal(t, c.code, code, "%s: %s%s", name, out, errs)
		require.Contains(t, out+errs, c.says, name)
	}
	// The command line counts before the environment, and that before the file.
	require.NoError(t, os.WriteFile(file, []byte("database-url: postgres://x@127.0.0.1/x\nhttp: nowhere\n"), 0o600))
	term.env = append(term.env, "INKPOST_HTTP=127.0.0.1:8460")
	term.ok("serve", "--config", file, "--check")
	_, errs, code := term.run("", "serve", "--config", file, "--check", "--http", "elsewhere")
	require.Equal(t, 1, code)
	require.Contains(t, errs, `--http "elsewhere"`)
}

// What may go wrong in the programs may do little to their machine: 2.0 of 10, by systemd's own count.
func TestTheUnitsOpenLittle(t *testing.T) {
	t.Parallel()
	units, err := filepath.Glob("../../packaging/*.service")
	require.NoError(t, err)
	units = append(units, "../agent/command/inkpost-agent.service")
	require.Len(t, units, 4)
	for _, unit := range units {
		said, err := exec.Command("systemd-analyze", "security", "--offline=true", "--threshold=20", "--no-pager", unit).CombinedOutput()
		require.NoError(t, err, "%s: %s", unit, said)
	}
}
