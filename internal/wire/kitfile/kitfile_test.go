package kitfile_test

import (
	"bytes"
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/wire/kitfile"
)

func TestEveryReadyMadeKitIsLegalAndComesBack(t *testing.T) {
	names := map[string]bool{}
	for _, k := range site.Kits() {
		names[k.Name] = true
		checked, err := k.Checked()
		require.NoError(t, err, k.Name)
		var b bytes.Buffer
		require.NoError(t, kitfile.Write(&b, checked))
		back, err := kitfile.Read(&b)
		require.NoError(t, err, k.Name)
		require.Equal(t, checked, back)
		require.NotEmpty(t, k.Steps, k.Name)
	}
	for _, name := range []string{"video-recorder", "camera", "desktop", "vpn-gateway", "web-server", "mail-server", "file-server",
		"network-switch", "door-phone"} {
		require.True(t, names[name], name)
	}
}

func TestAKitWithErrorsSaysWhereAndWhatIsAllowed(t *testing.T) {
	for name, one := range map[string]struct{ text, at, words string }{
		"unknown key": {"kit: pump\ntitle: Pump\ncolour: red\nservices:\n- {name: page, kind: http, external: 80}\n", "line 3, colour",
			"allowed are kit, title"},
		"unknown kind": {"kit: pump\ntitle: Pump\nservices:\n- name: page\n  kind: gopher\n  external: 80\n", "line 5, services[0].kind",
			"gopher"},
		"in a service": {"kit: pump\ntitle: Pump\nservices:\n- name: page\n  port: 80\n", "line 5, services[0].port",
			"allowed are name, kind"},
		"port": {"kit: pump\ntitle: Pump\nservices:\n- name: page\n  kind: http\n  external: 70000\n",
			"line 6, services[0].external", "1 to 65535"},
		"missing port": {"kit: pump\ntitle: Pump\nservices:\n- name: page\n  kind: http\n", "line 4, services[0].external", "1 to 65535"},
		"not a number": {"kit: pump\ntitle: Pump\nservices:\n- name: page\n  kind: http\n  external: eighty\n", "line 6", "as a number"},
		"name": {"kit: Big Pump\ntitle: Pump\nservices:\n- {name: page, kind: http, external: 80}\n", "line 1, kit",
			"small letters"},
		"no services": {"kit: pump\ntitle: Pump\n", "line 1, services", "1 to 20"},
		"twice": {"kit: pump\ntitle: Pump\ntitle: Again\nservices:\n- {name: page, kind: http, external: 80}\n", "line 3, title",
			"line 2"},
		"two alike": {"kit: pump\ntitle: Pump\nservices:\n- {name: a, external: 80}\n- {name: a, external: 22}\n",
			"line 5, services[1].name", "twice"},
		"not YAML": {"kit: [", "file", "is not YAML"},
		"a list":   {"- kit\n", "line 1, file", "keys"},
		"two kits": {"kit: a\n---\nkit: b\n", "file", "one kit a file"},
		"an alias": {"kit: pump\ntitle: &t Pump\nadvice: *t\n", "line 3, advice", "aliases are not allowed"},
		"huge":     {strings.Repeat("#", 70<<10), "file", "more than 64 kB"},
	} {
		_, err := kitfile.Read(strings.NewReader(one.text))
		var f site.Flaws
		require.True(t, errors.As(err, &f), "%s: %v", name, err)
		require.True(t, strings.HasPrefix(f[0].Field, one.at), "%s: %v", name, f)
		require.Contains(t, f[0].Detail, one.words, name)
	}
}

func FuzzRead(f *testing.F) {
	f.Add("kit: pump\ntitle: Pump\nservices:\n- {name: page, kind: http, external: 80}\n")
	f.Add("a: &a [*a]")
	f.Fuzz(func(t *testing.T, text string) {
		k, err := kitfile.Read(strings.NewReader(text))
		if err != nil {
			return
		}
		var b bytes.Buffer
		require.NoError(t, kitfile.Write(&b, k))
		again, err := kitfile.Read(&b)
		require.NoError(t, err, text)
		require.Equal(t, k, again)
	})
}
