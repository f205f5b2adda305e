package command

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/agent"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/testbed"
)

func TestMain(m *testing.M) { testbed.Main(m) }

func invited(t *testing.T, s *testbed.Service) string {
	t.Helper()
	_, err := s.Client.AddSite(t.Context(), contract.SiteInput{Code: "KET-07", Name: "Lighthouse Museum"})
	require.NoError(t, err)
	_, err = s.Client.AddLink(t.Context(), "KET-07", contract.LinkInput{Label: "main"})
	require.NoError(t, err)
	inv, err := s.Client.Invite(t.Context(), "KET-07", "main", testbed.Public...)
	require.NoError(t, err)
	return inv.Code
}

func TestAConfigurationIsReadFromFileEnvironmentAndFlags(t *testing.T) {
	path := filepath.Join(t.TempDir(), "agent.yaml")
	require.NoError(t, os.WriteFile(path, []byte("server: http://post.saltmarsh.example\nsources: [stun, gateway]\ngateway: "+
		"192.168.7.1\nafter: [/usr/local/bin/tell, it]\nafter_limit: 10s\n"), 0o600))
	t.Setenv("INKPOST_INTERFACE", "eth7")
	var s setting
	c := &cobra.Command{}
	c.Flags().String("server", "", "")
	s.flags(c)
	require.NoError(t, c.ParseFlags([]string{"--config", path, "--source", "observed", "--source", "fixed", "--fixed", "198.51.100.7"}))
	require.NoError(t, FromEnvironment(c))
	config, err := s.read(c)
	require.NoError(t, err)
	o, err := config.options()
	require.NoError(t, err)
	require.Equal(t, "http://post.saltmarsh.example", o.Server, "the file says it")
	require.Equal(t, "eth7", o.Network.Interface, "the environment says it")
	require.Equal(t, []string{"observed", "fixed"}, o.Sources, "a flag takes the place of the file's")
	require.Equal(t, []string{"/usr/local/bin/tell", "it"}, o.After)
	require.Equal(t, 10*time.Second, o.AfterLimit)

	for text, words := range map[string]string{
		"sevrer: x":                             "field sevrer not found",
		"sources: [rumour]":                     "it is one of observed",
		"fixed: [x]":                            "is not an IP address",
		"gateway: there":                        "is not an IP address",
		"links: [{code: x}]":                    "needs an interface of its own",
		"after_limit: 1h":                       "up to 10m",
		"server: [":                             "agent.yaml",
		"links: [{interface: a, interface: b}]": "agent.yaml",
	} {
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		config, err := Read(path, true)
		if err == nil {
			_, err = config.options()
		}
		require.ErrorContains(t, err, words, text)
	}
	_, err = Read(filepath.Join(t.TempDir(), "nowhere"), true)
	require.ErrorIs(t, err, os.ErrNotExist)
}

func TestTheAgentIsInstalledWithAHardenedUnit(t *testing.T) {
	if runtime.GOOS != "linux" {
		t.Skip("systemd is Linux's")
	}
	s := testbed.Start(t, nil)
	root := t.TempDir()
	install := func(args ...string) (string, error) {
		c := Install("test")
		c.Flags().String("server", "", "")
		var out bytes.Buffer
		c.SetOut(&out)
		c.SetErr(&out)
		c.SetArgs(args)
		err := c.ExecuteContext(t.Context())
		return out.String(), err
	}
	_, err := install("--root", root, "--server", s.URL, "--code", "AAAA-BBBB-CCCC")
	require.Error(t, err)
	require.NoFileExists(t, filepath.Join(root, "etc/systemd/system/inkpost-agent.service"), "nothing is left behind where it cannot enrol")

	code := invited(t, s)
	out, err := install("--root", root, "--server", s.URL, "--code", code, "--source", "stun", "--source", "gateway")
	require.NoError(t, err, out)
	unit, err := os.ReadFile(filepath.Join(root, "etc/systemd/system/inkpost-agent.service"))
	require.NoError(t, err)
	for _, line := range []string{"DynamicUser=yes", "ProtectSystem=strict", "NoNewPrivileges=yes",
		"CapabilityBoundingSet=CAP_NET_BIND_SERVICE CAP_NET_RAW\n", "StateDirectoryMode=0700", "WantedBy=multi-user.target",
		"ExecReload=/bin/kill -HUP $MAINPID"} {
		require.Contains(t, string(unit), line)
	}
	said, err := exec.Command("systemd-analyze", "security", "--offline=true", "--threshold=20", "--no-pager",
		filepath.Join(root, "etc/systemd/system/inkpost-agent.service")).CombinedOutput()
	require.NoError(t, err, "little is open to it: %s", said)
	config, err := os.ReadFile(filepath.Join(root, "etc/inkpost-agent.yaml"))
	require.NoError(t, err)
	require.NotContains(t, string(config), code, "no secret is in the configuration")
	require.Contains(t, string(config), "- gateway")
	require.True(t, agent.Enrolled(filepath.Join(root, "var/lib/inkpost-agent")))
	key, err := os.Stat(filepath.Join(root, "var/lib/inkpost-agent/agent.json"))
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), key.Mode().Perm())

	_, err = install("--root", root, "--remove")
	require.NoError(t, err)
	require.NoFileExists(t, filepath.Join(root, "etc/inkpost-agent.yaml"))
	require.False(t, agent.Enrolled(filepath.Join(root, "var/lib/inkpost-agent")))
}

func TestStatusSaysInPlainWordsWhatTheAgentKnows(t *testing.T) {
	now := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	s := agent.Status{Site: "KET-07", Link: "main", Server: "http://127.0.0.1:8460", Version: "v1", Started: now.Add(-time.Hour),
		Told: now.Add(-time.Minute), Written: now.Add(-time.Minute),
		Answer: contract.Receipt{Changed: true, Old: "198.51.100.1", New: "198.51.100.2",
			Hostnames: []string{"ket-07.isles.example"}, NAT: "double"},
		Sources: []contract.SourceReport{{Source: "stun", Via: "a", IPv4: "198.51.100.2"}, {Source: "gateway", Problem: "switched off"}},
		LAN: []contract.DeviceReport{{Device: "recorder", Present: true,
			Ports: []contract.PortSeen{{Service: "page", State: "open"}}}, {Device: "desk", Found: "192.168.7.33"}, {Device: "oven"}}}
	var out strings.Builder
	describe(&out, s, now)
	for _, words := range []string{"KET-07, link main", "told         1m0s ago",
		"went from 198.51.100.1 to 198.51.100.2; ket-07.isles.example", "another device at the site translates",
		"switched off", "recorder is there, page open", "desk is at 192.168.7.33, not where the record has it", "oven does not answer"} {
		require.Contains(t, out.String(), words)
	}
	out.Reset()
	s.Answer, s.Trouble = contract.Receipt{Held: "it flaps"}, "no server"
	describe(&out, s, now.Add(time.Hour))
	require.Contains(t, out.String(), "it does not run")
	require.Contains(t, out.String(), "not followed yet: it flaps")
	require.Contains(t, out.String(), "no server")
}

func TestTheSmallProgramHasItsExitCodes(t *testing.T) {
	require.Equal(t, exitUsage, Main(t.Context(), []string{"run", "--nosuch"}))
	require.Equal(t, exitUsage, Main(t.Context(), []string{"nosuch"}))
	require.Equal(t, exitFailed, Main(t.Context(), []string{"status", "--state", t.TempDir()}))
	require.Equal(t, exitDone, Main(t.Context(), []string{"--version"}))
	require.Equal(t, exitRevoked, ExitCode(agent.ErrRevoked))
}
