package cli_test

import (
	"bufio"
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/testbed"
)

func TestMain(m *testing.M) { testbed.Main(m) }

// terminal runs commands as a person would, with a home of its own.
type terminal struct {
	t    *testing.T
	home string
	env  []string
}

func open(t *testing.T, s *testbed.Service) *terminal {
	t.Helper()
	term := &terminal{t: t, home: t.TempDir()}
	term.env = append(os.Environ(), "HOME="+term.home, "XDG_CONFIG_HOME="+term.home, "DBUS_SESSION_BUS_ADDRESS=")
	if s != nil {
		out, errs, code := term.run(s.Password+"\n", "login", "--server", s.URL, "--name", "owner", "--password-stdin")
		require.Zero(t, code, errs)
		require.Contains(t, out, "Logged in to "+s.URL)
	}
	return term
}

func (term *terminal) run(stdin string, args ...string) (out, errs string, code int) {
	term.t.Helper()
	file := testbed.Program(term.t)
	cmd := exec.CommandContext(term.t.Context(), file, args...)
	cmd.Env = term.env
	cmd.Stdin = strings.NewReader(stdin)
	var o, e bytes.Buffer
	cmd.Stdout, cmd.Stderr = &o, &e
	_ = cmd.Run()
	return o.String(), e.String(), cmd.ProcessState.ExitCode()
}

func (term *terminal) ok(args ...string) string {
	term.t.Helper()
	out, errs, code := term.run("", args...)
	require.Zero(term.t, code, "%v: %s", args, errs)
	return out
}

const zone = "isles.saltmarsh.example"

func TestAnInstallationFromTheCommandLine(t *testing.T) {
	s := testbed.Start(t, nil)
	term := open(t, s)
	info, err := os.Stat(filepath.Join(term.home, "inkpost", "login.json"))
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm(), "the key is nobody else's to read")

	term.ok("zone", "add", zone, "--ns", "ns1."+zone+"=198.51.100.1")
	require.Contains(t, term.ok("site", "add", "KET-07", "--name", "Lighthouse Museum"), "Next: inkpost link add KET-07 main")
	require.Contains(t, term.ok("link", "add", "KET-07", "main", "--provider", "Kettle Cable"), "inkpost agent invite KET-07 main")
	require.Contains(t, term.ok("hostname", "add", "ket-07."+zone, "--site", "KET-07"), "it is idle")
	term.ok("device", "add", "KET-07", "recorder", "--lan-address", "192.168.7.20", "--mac", "02:00:5e:07:00:01", "--reserved")
	require.Contains(t, term.ok("service", "add", "KET-07", "page", "--device", "recorder", "--external", "8443", "--internal", "443"),
		"inkpost service card KET-07 page")
	require.Contains(t, term.ok("agent", "invite", "KET-07"), "inkpost agent run --server "+s.URL+" --code ")

	show := term.ok("site", "show", "KET-07")
	for _, part := range []string{"Lighthouse Museum", "Kettle Cable", "ket-07." + zone, "192.168.7.20", "tcp 8443", "recorder port 443"} {
		require.Contains(t, show, part)
	}
	why := term.ok("why", "KET-07")
	require.Contains(t, why, "page  to be commissioned")
	require.Contains(t, why, "▒ address   unknown", "it is no fault yet")
	term.ok("site", "edit", "KET-07", "--note", "Key at the cottage")
	require.Contains(t, term.ok("site", "show", "KET-07"), "Key at the cottage")
	term.ok("service", "edit", "KET-07", "page", "--every", "30", "--expected", "closed")
	require.Contains(t, term.ok("service", "show", "KET-07", "page"), "30 s")
	term.ok("device", "edit", "KET-07", "recorder", "--reserved=false")
	require.Contains(t, term.ok("device", "show", "KET-07", "recorder"), "reserved     no")
	term.ok("link", "edit", "KET-07", "main", "--order", "2")
	require.Contains(t, term.ok("link", "show", "KET-07", "main"), "order     2")
	term.ok("hostname", "edit", "ket-07."+zone, "--ttl", "60", "--link", "main")
	require.Contains(t, term.ok("hostname", "show", "ket-07."+zone), "link main")
	term.ok("zone", "edit", zone, "--ttl", "45")
	require.Contains(t, term.ok("zone", "show", zone), "45 s")

	_, errs, code := term.run("", "service", "remove", "KET-07", "page")
	require.Equal(t, 2, code)
	require.Contains(t, errs, "give --yes")
	for _, args := range [][]string{{"service", "remove", "KET-07", "page"}, {"hostname", "remove", "ket-07." + zone},
		{"device", "remove", "KET-07", "recorder"},
		{"link", "remove", "KET-07", "main"}, {"site", "remove", "KET-07"}, {"zone", "remove", zone}} {
		require.Contains(t, term.ok(append(args, "--yes")...), "is removed")
	}
	require.Contains(t, term.ok("site", "list"), "none")
}

func TestEveryListIsMachineReadable(t *testing.T) {
	s := testbed.Start(t, nil)
	term := open(t, s)
	term.ok("zone", "add", zone, "--ns", "ns1."+zone+"=198.51.100.1")
	term.ok("site", "add", "DIS-01", "--name", "Distillery")
	term.ok("link", "add", "DIS-01", "main", "--mode", "static", "--ipv4", "198.51.100.41", "--provider", "Islenet, Fibre")
	term.ok("hostname", "add", "dis-01."+zone, "--site", "DIS-01")
	term.ok("device", "add", "DIS-01", "still", "--lan-address", "192.168.1.20")
	term.ok("service", "add", "DIS-01", "shell", "--device", "still", "--external", "8022-8023")
	for _, args := range [][]string{{"site", "list"}, {"link", "list", "DIS-01"}, {"hostname", "list"}, {"device", "list", "DIS-01"},
		{"service", "list", "DIS-01"},
		{"zone", "list"}, {"moves"}, {"faults", "--all"}, {"key", "list"}, {"why", "DIS-01"}, {"service", "history", "DIS-01", "shell"},
		{"kinds"}, {"vantage", "list"}, {"service", "card", "DIS-01", "shell"}, {"service", "availability", "DIS-01"},
		{"site", "reviews", "DIS-01"}, {"removed"}} {
		name := strings.Join(args, " ")
		var fromJSON, fromYAML any
		require.NoError(t, json.Unmarshal([]byte(term.ok(append(args, "--format", "json")...)), &fromJSON), name)
		require.IsType(t, []any{}, fromJSON, name)
		out := term.ok(append(args, "--format", "yaml")...)
		require.NoError(t, yaml.Unmarshal([]byte(out), &fromYAML), name)
		require.NotContains(t, out, "{\"", name)
		rows, err := csv.NewReader(strings.NewReader(term.ok(append(args, "--format", "csv")...))).ReadAll()
		require.NoError(t, err, name)
		require.NotContains(t, strings.Join(rows[0], ""), " ", "%s: column names are one word", name)
		require.NotContains(t, term.ok(args...), "\x1b", "%s: no colour where there is no terminal", name)
	}
	require.Contains(t, term.ok("link", "list", "DIS-01", "--format", "csv"), `"Islenet, Fibre",static,1,198.51.100.41`)
	require.Contains(t, term.ok("overview", "--format", "json"), `"faults"`)
	_, errs, code := term.run("", "site", "list", "--format", "xml")
	require.Equal(t, 2, code)
	require.Contains(t, errs, "table, json, yaml or csv")
}

func TestExitCodesAndWordsOfFailure(t *testing.T) {
	s := testbed.Start(t, nil)
	term := open(t, s)
	for name, c := range map[string]struct {
		args []string
		code int
		says string
	}{
		"unknown command":    {[]string{"sight"}, 2, `"sight" is not a command of inkpost`},
		"unknown subcommand": {[]string{"site", "paint"}, 2, `"paint" is not a command of inkpost site`},
		"unknown flag":       {[]string{"site", "list", "--loud"}, 2, "unknown flag: --loud"},
		"too few arguments":  {[]string{"why"}, 2, "usage: inkpost why SITE"},
		"nothing to change":  {[]string{"site", "edit", "KET-07"}, 2, "nothing to change"},
		"unknown site":       {[]string{"why", "XXX-99"}, 1, `there is no site "XXX-99"`},
		"bad code":           {[]string{"site", "add", "!", "--name", "x"}, 1, "CODE: \"!\" is not a site code"},
		"no lab here":        {[]string{"lab", "world"}, 1, "nothing at this path"},
		"wrong key":          {[]string{"site", "list", "--key", "nonsense"}, 1, "sign in with: inkpost login"},
		"no server":          {[]string{"site", "list", "--server", "http://127.0.0.1:9"}, 1, "does not answer"},
		"bad server":         {[]string{"site", "list", "--server", "127.0.0.1"}, 1, "give one such as http://"},
		"serve without":      {[]string{"serve"}, 2, "--database-url is required"},
		"unknown kind": {[]string{"service", "add", "KET-07", "page", "--device", "x", "--external", "80", "--option",
			"colour=red"}, 2, `option "colour" is unknown`},
		"bad open-until": {[]string{"service", "add", "KET-07", "page", "--device", "x", "--external", "80", "--open-until",
			"soon"}, 2, "neither a time"},
		"bad reference": {[]string{"vantage", "run", "--server", "http://127.0.0.1:9", "--reference", "here"}, 2,
			"is not ADDRESS:PORT"},
		"vantage never": {[]string{"vantage", "run", "--server", "http://127.0.0.1:9", "--state", "/nonexistent/x"}, 1,
			"has not enrolled yet"},
		"short history": {[]string{"service", "history", "KET-07", "page", "--back", "1s"}, 2, "a minute at least"},
	} {
		t.Run(name, func(t *testing.T) {
			out, errs, code := term.run("", c.args...)
			require.Equal(t, c.code, code, errs)
			require.Contains(t, errs, c.says)
			require.Empty(t, out)
		})
	}
	_, errs, code := open(t, nil).run("", "site", "list")
	require.Equal(t, 1, code)
	require.Contains(t, errs, "not logged in")
}

func TestHelpReadsInTheOrderOfTheWork(t *testing.T) {
	help := open(t, nil).ok("--help")
	last := -1
	for _, word := range []string{"1. Start and sign in", "serve ", "2. Put a site on record", "zone ", "site ", "link ", "hostname ",
		"device ", "service ", "3. At the site", "4. Look whether it works", "why "} {
		at := strings.Index(help[max(last, strings.Index(help, "1. Start")):], word) + max(last, strings.Index(help, "1. Start"))
		require.Greater(t, at, last, word)
		last = at
	}
	for _, shell := range []string{"bash", "zsh", "fish"} {
		require.Contains(t, open(t, nil).ok("completion", shell), "inkpost")
	}
}

func TestOneTimePasswordIsReplacedAtLogin(t *testing.T) {
	database := testbed.Database(t)
	s := testbed.Start(t, func(o *testbed.Options) { o.Database = database })
	term := open(t, nil)
	out := term.ok("owner", "reset", "owner", "--database-url", database)
	once := regexp.MustCompile(`: (\S+) `).FindStringSubmatch(out)[1]
	_, errs, code := term.run(once+"\n", "login", "--server", s.URL, "--name", "owner", "--password-stdin")
	require.Equal(t, 1, code)
	require.Contains(t, errs, "no more lines", "the new password is asked for")
	out, errs, code = term.run(once+"\nanother-gannet-kettle\n", "login", "--server", s.URL, "--name", "owner", "--password-stdin")
	require.Zero(t, code, errs)
	require.Contains(t, out, "Logged in")
	term.ok("site", "list")
	_, errs, code = term.run(once+"\n", "login", "--server", s.URL, "--name", "owner", "--password-stdin")
	require.Equal(t, 1, code)
	require.Contains(t, errs, "wrong name or password", "it worked once only")
}

func TestWatchFollowsLive(t *testing.T) {
	s := testbed.Start(t, nil)
	term := open(t, s)
	term.ok("site", "add", "KET-07", "--name", "Lighthouse Museum")
	file := testbed.Program(t)
	ctx, stop := context.WithCancel(t.Context())
	cmd := exec.CommandContext(ctx, file, "watch", "--site", "ket-07")
	cmd.Env = term.env
	cmd.Cancel = func() error { return cmd.Process.Signal(os.Interrupt) }
	var out lockedBuffer
	cmd.Stdout = &out
	require.NoError(t, cmd.Start())
	require.Eventually(t, func() bool {
		_, err := s.Client.EditSite(ctx, "KET-07", client.Fields{"note": time.Now().String()})
		return err == nil && strings.Contains(out.String(), "KET-07   site KET-07 edited")
	}, 20*time.Second, 100*time.Millisecond)
	stop()
	_ = cmd.Wait()
	require.Zero(t, cmd.ProcessState.ExitCode(), "Ctrl-C ends it well")
}

type lockedBuffer struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (l *lockedBuffer) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.Write(p)
}

func (l *lockedBuffer) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.String()
}

func TestZoneContentFromTheCommandLine(t *testing.T) {
	s := testbed.Start(t, nil)
	term := open(t, s)
	term.ok("zone", "add", zone, "--ns", "ns1."+zone+"=198.51.100.1", "--contact", "hostmaster@saltmarsh.example")
	term.ok("site", "add", "KET-07", "--name", "Lighthouse Museum")
	term.ok("link", "add", "KET-07", "main", "--mode", "static", "--ipv4", "198.51.100.7")
	term.ok("hostname", "add", "ket-07."+zone, "--site", "KET-07", "--extra", "www", "--extra", "*", "--mail", "ket-07."+zone)
	require.Contains(t, term.ok("alias", "add", "lighthouse."+zone, "ket-07."+zone), "stands for ket-07."+zone)
	require.Contains(t, term.ok("alias", "list", "--format", "csv"), "lighthouse."+zone+",ket-07."+zone+",KET-07,")
	out := term.ok("record", "add", zone, "_sip._tcp."+zone, "SRV", "0 5 5060 ket-07."+zone+".", "--ttl", "120")
	require.Contains(t, out, "120 SRV 0 5 5060")
	number := strings.TrimSuffix(strings.Fields(out)[1], ":")
	require.Contains(t, term.ok("record", "list", zone), "_sip._tcp."+zone)
	_, errs, code := term.run("", "record", "add", zone, "a."+zone, "A", "nonsense")
	require.Equal(t, 1, code)
	require.Contains(t, errs, "DATA: \"nonsense\" is not data of a A record")

	out = term.ok("signing-key", "add", "transfer.saltmarsh.example", "--format", "json")
	var key map[string]string
	require.NoError(t, json.Unmarshal([]byte(out), &key))
	require.NotEmpty(t, key["secret"])
	term.ok("signing-key", "add", "router.saltmarsh.example", "--site", "KET-07", "--algorithm", "hmac-sha512")
	out = term.ok("signing-key", "list")
	require.Contains(t, out, "zone transfers")
	require.Contains(t, out, "updates of KET-07")
	require.NotContains(t, out, key["secret"], "a secret is shown once")
	term.ok("zone", "edit", zone, "--transfer-key", "transfer.saltmarsh.example", "--transfer-to", "198.51.100.0/24", "--notify",
		"198.51.100.2")
	var z map[string]any
	require.NoError(t, json.Unmarshal([]byte(term.ok("zone", "show", zone, "--format", "json")), &z))
	require.Equal(t, []any{"198.51.100.2:53"}, z["notify"])
	require.Equal(t, "transfer.saltmarsh.example", z["transfer_key"])
	require.Equal(t, "hostmaster.saltmarsh.example", z["contact"])
	for _, args := range [][]string{{"record", "remove", zone, number}, {"alias", "remove", "lighthouse." + zone},
		{"signing-key", "remove", "router.saltmarsh.example"}} {
		require.Contains(t, term.ok(append(args, "--yes")...), "is removed")
	}
	for _, args := range [][]string{{"alias", "list"}, {"record", "list", zone}, {"signing-key", "list"}} {
		var list []any
		require.NoError(t, json.Unmarshal([]byte(term.ok(append(args, "--format", "json")...)), &list))
		rows, err := csv.NewReader(strings.NewReader(term.ok(append(args, "--format", "csv")...))).ReadAll()
		require.NoError(t, err)
		require.Len(t, rows, len(list)+1)
	}
}

func TestFlagsComeFromTheEnvironmentToo(t *testing.T) {
	s := testbed.Start(t, nil)
	term := open(t, nil)
	key, err := s.Engine().AddKey(t.Context(), 1, "owner", contract.KeyInput{Label: "environment"})
	require.NoError(t, err)
	term.env = append(term.env, "INKPOST_SERVER="+s.URL, "INKPOST_KEY="+key.Secret, "INKPOST_FORMAT=json")
	require.Equal(t, "[]\n", term.ok("site", "list"))
	require.Contains(t, term.ok("site", "list", "--format", "table"), "none", "a flag goes before the environment")
	term.env = append(term.env, "INKPOST_LIMIT=many")
	_, errs, code := term.run("", "moves")
	require.Equal(t, 2, code)
	require.Contains(t, errs, "INKPOST_LIMIT")
}

func TestKeysAreListedAndRevoked(t *testing.T) {
	s := testbed.Start(t, nil)
	term := open(t, s)
	var keys []map[string]any
	require.NoError(t, json.Unmarshal([]byte(term.ok("key", "list", "--format", "json")), &keys))
	require.Len(t, keys, 2)
	_, errs, code := term.run("", "key", "revoke", "mine", "--yes")
	require.Equal(t, 2, code)
	require.Contains(t, errs, "is not the number of a key")
	for _, k := range keys {
		if strings.HasPrefix(k["label"].(string), "command line") {
			require.Contains(t, term.ok("key", "revoke", strconv.Itoa(int(k["id"].(float64))), "--yes"), "is revoked")
		}
	}
	_, errs, code = term.run("", "site", "list")
	require.Equal(t, 1, code)
	require.Contains(t, errs, "was revoked")
	require.Contains(t, errs, "sign in with: inkpost login")
}

func TestKeysAreListedAllowedAndRevoked(t *testing.T) {
	s := testbed.Start(t, nil)
	term := open(t, s)
	s.Record(t, "KET-07")
	out := term.ok("agent", "router-url", "KET-07", "main")
	require.Contains(t, out, "inkpost key allow", "it prints how to let the router announce more")
	var keys []map[string]any
	list := func() map[string]any {
		require.NoError(t, json.Unmarshal([]byte(term.ok("key", "list", "--format", "json")), &keys))
		for _, k := range keys {
			if k["scope"] == "router" {
				return k
			}
		}
		return nil
	}
	k := list()
	require.NotNil(t, k)
	require.Nil(t, k["may_announce"])
	id := strconv.Itoa(int(k["id"].(float64)))
	term.ok("key", "allow", id, "2001:db8:7::/48", "198.51.100.0/24")
	require.Equal(t, []any{"2001:db8:7::/48", "198.51.100.0/24"}, list()["may_announce"])
	require.Contains(t, term.ok("key", "list"), "2001:db8:7::/48")
	term.ok("key", "revoke", id, "--yes")
	require.NotNil(t, list()["revoked"])
	rows, err := csv.NewReader(strings.NewReader(term.ok("key", "list", "--format", "csv"))).ReadAll()
	require.NoError(t, err)
	require.Contains(t, rows[0], "last_used")
}

func TestAListIsShownAgainUntilItIsInterrupted(t *testing.T) {
	s := testbed.Start(t, nil)
	term := open(t, s)
	cmd := exec.CommandContext(t.Context(), testbed.Program(t), "site", "list", "--watch", "1s", "--format", "csv")
	cmd.Env = term.env
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	lines := bufio.NewScanner(out)
	seen := func(text string) {
		t.Helper()
		for lines.Scan() {
			if strings.Contains(lines.Text(), text) {
				return
			}
		}
		t.Fatalf("%q was never shown", text)
	}
	seen("site,name,needs_you")
	_, err = s.Client.AddSite(t.Context(), contract.SiteInput{Code: "KET-07", Name: "Lighthouse Museum"})
	require.NoError(t, err)
	seen("KET-07,Lighthouse Museum")
	require.NoError(t, cmd.Process.Signal(os.Interrupt))
	_, _ = io.Copy(io.Discard, out)
	require.NoError(t, cmd.Wait(), "Ctrl-C is no failure")
}
