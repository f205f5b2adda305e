package cli_test

import (
	"image"
	"image/png"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/testbed"
)

func TestAnInstallationToItsHandOverFromTheCommandLine(t *testing.T) {
	s := testbed.Start(t, nil)
	term := open(t, s)
	require.Contains(t, term.ok("commission", "list"), "Everything on record is in use.")
	term.ok("site", "add", "DIS-01", "--name", "Distillery", "--router", "Kettle Cable K3, still house")
	term.ok("link", "add", "DIS-01", "main", "--mode", "static", "--ipv4", "127.110.8.91", "--provider", "Kettle Cable", "--contract",
		"KC-204")
	require.Contains(t, term.ok("kit", "show", "video-recorder"), "Before it is exposed")
	require.Contains(t, term.ok("kit", "list", "--format", "csv"), "vpn-gateway")
	require.Contains(t, term.ok("kit", "use", "video-recorder", "DIS-01", "recorder", "--lan-address", "192.168.1.20"),
		"recorder of DIS-01 is on record with 2 services.")
	require.Contains(t, term.ok("commission", "list"), "service recorder-page")
	require.Contains(t, term.ok("commission", "list", "--format", "csv"), "on-record")
	require.Contains(t, term.ok("commission", "DIS-01", "--once", "--service", "recorder-page"), "no hostname leads to it")
	require.Contains(t, term.fails(1, "commission", "DIS-01", "--for", "1s"), "DIS-01 is not finished")
	require.Contains(t, term.fails(2, "commission", "done", "DIS-01", "polish"), "its steps are on-record, prepared")
	require.Contains(t, term.fails(1, "commission", "skip", "DIS-01", "on-record"), "say why it is passed over")
	require.Contains(t, term.ok("commission", "skip", "DIS-01", "on-record", "--note", "by address"), "by address, owner")
	require.Contains(t, term.ok("commission", "done", "DIS-01", "prepared"), "It is set up")
	require.Contains(t, term.ok("commission", "done", "DIS-01", "reserved", "--device", "recorder"), "said to be so, owner")
	require.Contains(t, term.ok("device", "show", "DIS-01", "recorder"), "reserved     yes")
	require.Contains(t, term.ok("commission", "again", "DIS-01", "prepared"), "its kit asks for this")
	require.Contains(t, term.ok("commission", "show", "DIS-01", "--format", "json"), `"step": "on-record"`)
	require.Contains(t, term.ok("commission", "end", "DIS-01"), "steps are left")

	require.Contains(t, term.ok("contact", "add", "DIS-01", "Still keeper", "--role", "customer", "--phone", "01632 960001"),
		"is a contact of DIS-01")
	require.Contains(t, term.ok("contact", "edit", "DIS-01", "1", "--note", "mornings"), "Still keeper is changed")
	require.Contains(t, term.ok("contact", "list", "DIS-01"), "mornings")
	require.Contains(t, term.ok("visit", "note", "DIS-01", "the still hums"), "is written down")
	require.Contains(t, term.ok("visit", "list", "DIS-01"), "the still hums")
	file := filepath.Join(t.TempDir(), "router.png")
	f, err := os.Create(file)
	require.NoError(t, err)
	require.NoError(t, png.Encode(f, image.NewRGBA(image.Rect(0, 0, 8, 8))))
	require.NoError(t, f.Close())
	require.Contains(t, term.ok("photo", "add", "DIS-01", file, "--caption", "router"), "8 x 8 pixels")
	require.Contains(t, term.fails(1, "photo", "get", "DIS-01", "1", "--file", file), "is not overwritten")
	term.ok("photo", "get", "DIS-01", "1", "--file", file+".back")
	require.Contains(t, term.ok("photo", "list", "DIS-01"), "router")

	require.Contains(t, term.ok("sheet", "keep", "DIS-01", "--reason", "hand-over"), "Version 1 of the sheet of DIS-01 is kept.")
	term.ok("device", "edit", "DIS-01", "recorder", "--lan-address", "192.168.1.21")
	printed := term.ok("sheet", "print", "DIS-01")
	for _, part := range []string{"What changed since", "the LAN address of recorder was 192.168.1.20, and is 192.168.1.21", "KC-204",
		"Still keeper",
		"still house", "by address", "the still hums"} {
		require.Contains(t, printed, part)
	}
	require.Contains(t, term.ok("sheet", "print", "DIS-01", "--version", "1"), "192.168.1.20")
	require.Contains(t, term.ok("sheet", "print", "DIS-01", "--format", "json"), `"code": "DIS-01"`)
	pdf := filepath.Join(t.TempDir(), "sheet.pdf")
	term.ok("sheet", "print", "DIS-01", "--file", pdf)
	doc, err := os.ReadFile(pdf)
	require.NoError(t, err)
	require.Equal(t, "%PDF-", string(doc[:5]))
	require.Contains(t, term.ok("sheet", "share", "DIS-01", "--whose", "Still keeper"), "/handover/")
	require.Contains(t, term.ok("sheet", "shared", "DIS-01"), "Still keeper")
	require.Contains(t, term.ok("sheet", "unshare", "DIS-01", "1", "--yes"), "no longer works")
	require.Contains(t, term.fails(2, "sheet", "unshare", "DIS-01", "x", "--yes"), "inkpost sheet shared DIS-01")
	require.Contains(t, term.ok("notice", "push", "list"), "none")

	kit := filepath.Join(t.TempDir(), "kit.yaml")
	term.ok("kit", "export", "camera", "--file", kit)
	text, err := os.ReadFile(kit)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(kit, append([]byte("kit: hide-camera\n"), text[len("kit: camera\n"):]...), 0o600))
	require.Contains(t, term.ok("kit", "import", kit), "Kit hide-camera is kept")
	require.Contains(t, term.ok("kit", "remove", "hide-camera", "--yes"), "is removed")
	require.NoError(t, os.WriteFile(kit, []byte("kit: x\ncolour: red\n"), 0o600))
	require.Contains(t, term.fails(1, "kit", "import", kit), "line 2, colour: is unknown; allowed are kit, title")
}

// fails runs a command that has to end with a code, and returns what it complains of.
func (term *terminal) fails(code int, args ...string) string {
	term.t.Helper()
	_, errs, got := term.run("", args...)
	require.Equal(term.t, code, got, "%v: %s", args, errs)
	return errs
}
