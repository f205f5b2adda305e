package cli_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/testbed"
)

func TestTheRecordAsFiles(t *testing.T) {
	s := testbed.Start(t, nil)
	term := open(t, s)
	dir := t.TempDir()
	write := func(name, text string) string {
		t.Helper()
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	sites := write("sites.csv", "Nr;Kunde\nKET-07;Lighthouse Museum\nOYS-03;Oyster Hatchery\n")
	_, errs, code := term.run("", "import", sites)
	require.Equal(t, 2, code)
	require.Contains(t, errs, "--kind says what its lines are")
	_, errs, code = term.run("", "import", sites, "--kind", "sites")
	require.Equal(t, 1, code)
	require.Contains(t, errs, "line 1, Nr", "each mistake is told")
	out := term.ok("import", sites, "--kind", "sites", "--column", "Nr=code", "--column", "Kunde=name", "--dry-run")
	require.Contains(t, out, "OYS-03")
	require.Contains(t, term.ok("site", "list"), "none")
	require.Contains(t, term.ok("import", sites, "--kind", "sites", "--column", "Nr=code", "--column", "Kunde=name"),
		"2 added, 0 changed, 0 removed")
	require.Equal(t, "site,name,mac,lan_address,reserved,router\nKET-07,recorder,02:00:5e:07:00:01,192.168.1.20,yes,no\n",
		term.ok("export", "--kind", "devices", "--template"))
	devices := write("devices.csv", "site,name,lan_address\nKET-07,recorder,192.168.1.20\nKET-07,desk,nowhere\n")
	out, errs, code = term.run("", "import", devices, "--kind", "devices", "--dry-run")
	require.Equal(t, 1, code)
	require.Contains(t, out, "lan_address", "the dry run says where it is wrong")
	require.Contains(t, errs, "1 of its lines are wrong; nothing was changed")
	_, errs, code = term.run("", "import", devices, "--kind", "devices", "--line-by-line")
	require.Equal(t, 1, code)
	require.Contains(t, errs, "1 of its lines are wrong, and were left out")
	require.Contains(t, term.ok("device", "list", "KET-07"), "recorder")

	term.ok("device", "edit", "KET-07", "recorder", "--mac", "02:00:5e:07:00:01")
	leases := write("dnsmasq.leases", "0 02:00:5e:07:00:01 192.168.1.21 rec *\n0 02:00:5e:07:00:02 192.168.1.30 ticket-desk *\n")
	out = term.ok("device", "found", "KET-07", leases)
	require.Contains(t, out, "recorder, at 192.168.1.20", "it is elsewhere than on record")
	require.Contains(t, out, "ticket-desk")
	require.Contains(t, term.ok("device", "found", "KET-07", leases, "--add"), "Device ticket-desk of KET-07 is on record.")
	require.NotContains(t, term.ok("device", "found", "KET-07", leases, "--add"), "is on record.", "once")
	term.ok("device", "remove", "KET-07", "ticket-desk", "--yes")
	_, errs, code = term.run("", "device", "found", "KET-07", devices)
	require.Equal(t, 1, code)
	require.Contains(t, errs, "none of the lists that are read")

	// The whole record as a file that is kept beside it, with comments of one's own.
	file := write("record.yaml", "# ours\n"+term.ok("export"))
	require.Contains(t, term.ok("apply", file), "0 added, 0 changed, 0 removed, 3 as they were")
	term.ok("site", "edit", "OYS-03", "--note", "mind the tide")
	require.Contains(t, term.ok("export", "--update", file), "is in step with the record now")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Contains(t, string(text), "# ours\ncovers: everything\n")
	require.Contains(t, string(text), "note: mind the tide")
	require.Contains(t, term.ok("export", "--update", file), "is in step already")

	less := write("less.yaml", "covers: everything\nsites:\n- {code: KET-07, name: Museum}\n")
	out, errs, code = term.run("", "apply", less)
	require.Equal(t, 2, code, "nobody is asked where there is no terminal")
	require.Contains(t, errs, "give --yes")
	require.Contains(t, out, `name "Lighthouse Museum" → "Museum"`)
	require.Contains(t, term.ok("apply", less, "--yes"), "0 added, 1 changed, 1 removed, 0 as they were")
	require.Contains(t, term.ok("removed"), "OYS-03")
	id := term.ok("removed", "--format", "csv", "--columns", "removal")
	require.Contains(t, term.ok("restore", strings.Fields(id)[1]), "Site OYS-03 is back.")
	_, errs, code = term.run("", "restore", "99")
	require.Equal(t, 1, code)
	require.Contains(t, errs, "there is no removal")
	_, errs, code = term.run("", "site", "remove", "OYS-03", "--yes", "--watch", "5s")
	require.Equal(t, 2, code)
	require.Contains(t, errs, "shows a list again")
	_, _, code = term.run("", "site", "list", "--watch", "1ms")
	require.Equal(t, 2, code)
	_, _, code = term.run("", "restore", "OYS-03")
	require.Equal(t, 2, code)
}
