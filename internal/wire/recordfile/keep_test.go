package recordfile_test

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/declare"
	"inkpost.example/inkpost/internal/wire/recordfile"
)

func TestAFileKeepsItsCommentsAndItsOrder(t *testing.T) {
	const was = `# Saltmarsh Networks
covers: listed sites
sites:
  # the oldest customer
  - name: "Lighthouse Museum" # as on the door
    code: ket-07
    note: ""
    devices:
      # behind the bookshelf
      - {name: recorder, lan_address: 192.168.7.20}
      - name: gone
        lan_address: 192.168.7.99
`
	const is = `covers: listed sites
sites:
  - code: OYS-03
    name: Oyster Hatchery
    devices: []
  - code: KET-07
    name: Lighthouse Museum
    tags: [north]
    devices:
      - name: recorder
        lan_address: 192.168.7.21
        reserved: yes
      - name: desk
        lan_address: 192.168.7.30
`
	var out bytes.Buffer
	require.NoError(t, recordfile.Update(&out, []byte(was), []byte(is)))
	require.Equal(t, `# Saltmarsh Networks
covers: listed sites
sites:
  # the oldest customer
  - name: "Lighthouse Museum" # as on the door
    code: KET-07
    note: ""
    devices:
      # behind the bookshelf
      - {name: recorder, lan_address: 192.168.7.21, reserved: yes}
      - name: desk
        lan_address: 192.168.7.30
    tags: [north]
  - code: OYS-03
    name: Oyster Hatchery
    devices: []
`, out.String())
	var again bytes.Buffer
	require.NoError(t, recordfile.Update(&again, out.Bytes(), []byte(is)))
	require.Equal(t, out.String(), again.String())
	out.Reset()
	require.NoError(t, recordfile.Update(&out, nil, []byte(is)), "an empty file")
	require.Equal(t, is, out.String())
	require.Error(t, recordfile.Update(&out, []byte("a: [b"), []byte(is)))
}

func TestTheExamplesOfTemplatesAreRead(t *testing.T) {
	for _, kind := range declare.Kinds() {
		var b bytes.Buffer
		require.NoError(t, recordfile.Template(&b, kind))
		f, err := recordfile.ReadCSV(&b, kind, nil)
		require.NoError(t, err, kind)
		require.Len(t, f.Items, 1)
		require.Equal(t, "KET-07", f.Items[0].Site)
		require.NotEmpty(t, f.Items[0].Name)
	}
}

func FuzzReadRecord(f *testing.F) {
	f.Add("covers: everything\nsites:\n- code: KET-07\n  devices: [{name: d}]\n", "site,name\nKET-07,d\n")
	f.Fuzz(func(t *testing.T, yaml, csv string) {
		if file, err := recordfile.ReadYAML(strings.NewReader(yaml)); err == nil {
			var b bytes.Buffer
			ordered, flaws := declare.Arrange(file.Items)
			require.NoError(t, recordfile.WriteYAML(&b, recordfile.Document(ordered, false)))
			if len(flaws) == 0 {
				_, err = recordfile.ReadYAML(&b)
				require.NoError(t, err)
			}
		}
		_, _ = recordfile.ReadCSV(strings.NewReader(csv), declare.Device, nil)
	})
}
