package trials_test

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/declare"
	"inkpost.example/inkpost/internal/core/team"
	"inkpost.example/inkpost/internal/testbed"
)

// declared sends a file.
func declared(t *testing.T, s *testbed.Service, text string, how client.DeclareHow) (contract.Declared, error) {
	t.Helper()
	return s.Client.Declare(t.Context(), strings.NewReader(text), how, nil)
}

// exported is the record as a file.
func exported(t *testing.T, c *client.Client, format, kind string) string {
	t.Helper()
	var b bytes.Buffer
	require.NoError(t, c.RecordFile(t.Context(), format, kind, false, &b))
	return b.String()
}

var yamlFile = client.DeclareHow{Type: "application/yaml"}

func csvOf(kind string) client.DeclareHow { return client.DeclareHow{Type: "text/csv", Kind: kind} }

// many is a CSV file of services, ten devices a site, one service each.
func manyServices(sites int) (siteLines, deviceLines, serviceLines string) {
	a, b, c := "code,name,tags\n", "site,name,lan_address,reserved\n", "site,name,device,kind,external,internal,in_use\n"
	for n := range sites {
		code := fmt.Sprintf("EAST-%03d", n)
		a += fmt.Sprintf("%s,Quay %d,east; quay\n", code, n)
		for d := range 10 {
			b += fmt.Sprintf("%s,box-%d,192.168.1.%d,yes\n", code, d, 20+d)
			c += fmt.Sprintf("%s,page-%d,box-%d,https,%d,443,yes\n", code, d, d, 8440+d)
		}
	}
	return a, b, c
}

// twentyKinds has a line for each kind of mistake, and where it is.
var twentyKinds = []struct{ line, column, says string }{
	{"NONE-1,a,box-1,https,8500,443,yes", "site", "there is no site"},
	{",a,box-1,https,8500,443,yes", "site", "is required"},
	{"EAST-000,,box-1,https,8500,443,yes", "name", "is required"},
	{"EAST-000,Not A Name!,box-1,https,8500,443,yes", "name", "is"},
	{"EAST-000,a,,https,8500,443,yes", "device", "is required"},
	{"EAST-000,a,box-99,https,8500,443,yes", "device", "there is no device"},
	{"EAST-000,a,box-1,gopher,8500,443,yes", "kind", "gopher"},
	{"EAST-000,a,box-1,https,eight,443,yes", "external", "eight"},
	{"EAST-000,a,box-1,https,70000,443,yes", "external", "70000"},
	{"EAST-000,a,box-1,https,0,443,yes", "external", "0"},
	{"EAST-000,a,box-1,https,8600-8500,443,yes", "external", "8600"},
	{"EAST-000,a,box-1,https,8500,many,yes", "internal", "many"},
	{"EAST-000,a,box-1,https,8500,443,perhaps", "in_use", "neither yes nor no"},
	{"EAST-000,a,box-1,https,8445,443,yes", "external", "overlaps"},
	{"EAST-000,=1+1,box-1,https,8500,443,yes", "name", "is a formula"},
	{"EAST-000,a,box-1,https,8500,443,yes,more", "", "has 8 cells"},
	{"EAST-000,page-5,box-1,https,8500,443,yes", "name", "is listed twice"},
	{"EAST-000,a,box-1,https,8500,-5,yes", "internal", "-5"},
	{"EAST-000,a," + strings.Repeat("x", 70000) + ",https,8500,443,yes", "device", "at most 64 kB"},
	{"EAST-000," + strings.Repeat("long-", 30) + ",box-1,https,8500,443,yes", "name", "1 to 32"},
}

func TestFiveThousandLinesAreTakenWholeOrNotAtAll(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	sites, devices, services := manyServices(500)
	for kind, text := range map[string]string{"sites": sites} {
		_, err := declared(t, s, text, csvOf(kind))
		require.NoError(t, err)
	}
	_, err := declared(t, s, devices, csvOf("devices"))
	require.NoError(t, err)

	// 200 mistakes of 20 kinds, spread over the file.
	lines := strings.SplitAfter(services, "\n")
	want := map[int]int{} // kind of mistake by line
	for n := range 200 {
		at := 3 + 25*n
		kind := n % len(twentyKinds)
		lines[at-1] = strings.NewReplacer(",a,", fmt.Sprintf(",a%d,", n), "long-", fmt.Sprintf("long%d-",
			n)).Replace(twentyKinds[kind].line) + "\n"
		want[at] = kind
	}
	dry := csvOf("services")
	dry.DryRun = true
	out, err := declared(t, s, strings.Join(lines, ""), dry)
	require.NoError(t, err)
	require.False(t, out.Done)
	seen := map[int]bool{}
	for _, f := range out.Flaws {
		kind, ours := want[f.Line]
		require.True(t, ours, "line %d is right: %s", f.Line, f.Detail)
		if twentyKinds[kind].column == f.Column && strings.Contains(f.Detail, twentyKinds[kind].says) {
			seen[f.Line] = true
		}
	}
	for line, kind := range want {
		require.True(t, seen[line], "line %d: %.60s: %v", line, twentyKinds[kind].line,
			slices.DeleteFunc(slices.Clone(out.Flaws), func(f declare.LineFlaw) bool { return f.Line != line }))
	}
	_, err = declared(t, s, strings.Join(lines, ""), csvOf("services"))
	var p *client.Error
	require.ErrorAs(t, err, &p)
	require.Equal(t, 422, p.Status)
	require.GreaterOrEqual(t, len(p.Errors), 200)
	require.Equal(t, "line 3, site", p.Errors[0].Field)
	require.Equal(t, "site,name,device,link,kind,transport,external,internal,expected,reach,interval_seconds,in_use,options,open_until\n",
		exported(t, s.Client, "csv", "services"), "nothing is stored")

	// All of them right.
	var told []int
	began := time.Now()
	out, err = s.Client.Declare(t.Context(), strings.NewReader(services), csvOf("services"), func(done, of int) {
		told = append(told,
			done)
	})
	require.NoError(t, err)
	t.Logf("5,000 services took %s", time.Since(began))
	require.True(t, out.Done)
	require.Len(t, out.Steps, 5000)
	require.Greater(t, len(told), 50, "with progress")
	require.True(t, slices.IsSorted(told))

	again, err := declared(t, s, services, csvOf("services"))
	require.NoError(t, err)
	require.Empty(t, again.Steps)
	require.Equal(t, 5000, again.Unchanged)

	// What is exported is the same record, elsewhere as well.
	all := exported(t, s.Client, "yaml", "")
	other := start(t, nil)
	out, err = declared(t, other, all, yamlFile)
	require.NoError(t, err)
	require.Len(t, out.Steps, 500+5000+5000)
	require.Equal(t, all, exported(t, other.Client, "yaml", ""))
	for _, kind := range []string{"sites", "devices", "services"} {
		out, err := declared(t, other, exported(t, s.Client, "csv", kind), csvOf(kind))
		require.NoError(t, err)
		require.Empty(t, out.Steps, kind)
	}
	out, err = declared(t, s, exported(t, s.Client, "json", ""), client.DeclareHow{Type: "application/json"})
	require.NoError(t, err)
	require.Empty(t, out.Steps, "the second run changes nothing")
}

const record = `# our sites
covers: everything
sites:
  - code: KET-07
    name: Lighthouse Museum
    tags: [north]
    links:
      - label: main
        provider: Kettle Cable
      - label: second
        mode: static
        ipv4: 203.0.113.40
    devices:
      - name: recorder
        lan_address: 192.168.7.20
        reserved: yes
    services:
      - name: page
        device: recorder
        kind: https
        external: 8443
        internal: 443
        options: {path: /live}
    hostnames:
      - name: ket-07.isles.saltmarsh.example
        extras: [www]
    contacts:
      - name: Museum desk
        role: key holder
        phone: +44 1632 960007
  - code: OYS-03
    name: Oyster Hatchery
`

func TestARecordIsBroughtInStepWithAFile(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	ctx := t.Context()
	_, err := s.Client.AddZone(ctx, contract.ZoneInput{Apex: zone, Servers: []string{"ns1." + zone + "=198.51.100.1"}})
	require.NoError(t, err)
	out, err := declared(t, s, record, yamlFile)
	require.NoError(t, err)
	require.Len(t, out.Steps, 8)
	require.Equal(t, "203.0.113.40", testbed.Resolve(s.DNS, "www.ket-07."+zone), "a static address counts at once")
	out, err = declared(t, s, record, yamlFile)
	require.NoError(t, err)
	require.Empty(t, out.Steps)
	require.Equal(t, 8, out.Unchanged)

	// What the file says otherwise is changed, what it no longer lists goes, and what it leaves out of an item stays.
	edited := strings.NewReplacer("Lighthouse Museum", "Museum at the Lighthouse", "extras: [www]", "ttl_seconds: 120",
		"        reserved: yes\n", "",
		"  - code: OYS-03\n    name: Oyster Hatchery\n", "", `      - name: page
        device: recorder
        kind: https
        external: 8443
        internal: 443
        options: {path: /live}
`, "      []\n").Replace(record)
	dry := yamlFile
	dry.DryRun = true
	plan, err := declared(t, s, edited, dry)
	require.NoError(t, err)
	var words []string
	for _, step := range plan.Steps {
		w := fmt.Sprintf("%s %s %s", step.Action, step.Kind, step.Name)
		for _, f := range step.Fields {
			w += " " + f.Field
		}
		words = append(words, w)
	}
	require.Equal(t, []string{"remove service page", "change site KET-07 name",
		"change hostname ket-07.isles.saltmarsh.example ttl_seconds",
		"remove site OYS-03"}, words)
	_, err = s.Client.Site(ctx, "OYS-03")
	require.NoError(t, err, "a dry run changes nothing")
	out, err = declared(t, s, edited, yamlFile)
	require.NoError(t, err)
	require.Len(t, out.Steps, 4)
	_, err = s.Client.Site(ctx, "OYS-03")
	require.Equal(t, 404, status(err))
	list, err := s.Client.Removed(ctx)
	require.NoError(t, err)
	require.Len(t, list, 2, "and can be brought back")
	p, err := s.Client.Site(ctx, "KET-07")
	require.NoError(t, err)
	require.Equal(t, "Museum at the Lighthouse", p.Name)
	require.True(t, p.Devices[0].Reserved)
	require.Equal(t, []string{"www"}, p.Hostnames[0].Extras)

	// A file that lists some sites leaves the others alone.
	_, err = declared(t, s, "sites:\n- code: RAD-06\n  name: Radio Club\n", yamlFile)
	require.NoError(t, err)
	_, err = s.Client.Site(ctx, "KET-07")
	require.NoError(t, err)

	// Whoever sees some sites brings those in step, and no others.
	_, limited := s.Join(t, "ffion", team.Technician, "north")
	mine := exported(t, limited, "yaml", "")
	require.Contains(t, mine, "KET-07")
	require.NotContains(t, mine, "RAD-06")
	require.Contains(t, mine, "covers: listed sites")
	out, err = limited.Declare(ctx, strings.NewReader("covers: everything\nsites: []\n"), dry, nil)
	require.NoError(t, err)
	require.Len(t, out.Steps, 1, "everything is what they see")
	_, err = limited.Declare(ctx, strings.NewReader("sites:\n- code: RAD-06\n  name: Mine\n  tags: [north]\n"), yamlFile, nil)
	require.Equal(t, 422, status(err))
	require.ErrorContains(t, err, "is taken")
}

func TestBadFilesAreRefusedByLineAndChangeNothing(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	before := exported(t, s.Client, "yaml", "")
	for name, c := range map[string]struct {
		how  client.DeclareHow
		text string
		says string
	}{
		"a key unknown":   {yamlFile, "sites:\n- code: A-1\n  name: A\n  colour: red\n", "line 4: colour is unknown"},
		"a loop":          {yamlFile, "sites: &a\n- *a\n", "alias"},
		"a bomb":          {yamlFile, "a: &a [x,x]\nb: &b [*a,*a]\nc: &c [*b,*b]\n", "aliases are not allowed"},
		"no YAML":         {yamlFile, "sites:\n\t- code", "is not YAML"},
		"a list of words": {yamlFile, "sites: [KET-07]\n", "written as keys"},
		"twice": {yamlFile, "sites:\n- {code: A-1, name: A}\n- {code: a-1, name: B}\n",
			"line 3, code: site a-1 is listed twice"},
		"two documents": {yamlFile, "sites: []\n---\nsites: []\n", "more than one document"},
		"a wrong scope": {yamlFile, "covers: all\nsites: []\n", `it is "listed sites" or "everything"`},
		"an unknown option": {yamlFile,
			"sites:\n- code: A-1\n  name: A\n  devices: [{name: d, lan_address: 192.168.1.2}]\n" +
				"  services: [{name: s, device: d, external: 80, options: {secret: x}}]\n", "line 5, options"},
		"device still needed": {yamlFile,
			"sites:\n- code: A-1\n  name: A\n  devices: []\n  services: [{name: s, device: d, external: 80}]\n", "there is no device"},
		"Latin-1":            {csvOf("sites"), "code,name\nA-1,Caf\xe9\n", "line 2: is not UTF-8"},
		"UTF-16":             {csvOf("sites"), "\xff\xfec\x00o\x00d\x00e\x00\n\x00A\x00-\x001\x00\n\x00", "line 2, name: is required"},
		"a formula":          {csvOf("sites"), "code,name\nA-1,=cmd()\n", "line 2, name: is a formula"},
		"10 MB in one field": {csvOf("sites"), "code,name\nA-1," + strings.Repeat("x", 10<<20) + "\n", "at most 64 kB"},
		"no heading":         {csvOf("sites"), "", "its first line is the heading"},
		"an unknown heading": {csvOf("sites"), "code,nom\nA-1,A\n", "line 1, nom: is no field of a site"},
		"an open quote":      {csvOf("sites"), "code,name\n\"A-1,A\n", "is not comma-separated values"},
		"a column too few":   {csvOf("devices"), "name,lan_address\nd,192.168.1.2\n", "site: is missing"},
		"an unknown kind":    {csvOf("zones"), "a\n", "is no part of a record"},
		"another type":       {client.DeclareHow{Type: "text/plain"}, "x", "text/csv"},
	} {
		_, err := declared(t, s, c.text, c.how)
		require.Error(t, err, name)
		p := &client.Error{}
		require.ErrorAs(t, err, &p, name)
		said := p.Detail
		for _, e := range p.Errors {
			said += "\n" + e.Field + ": " + e.Detail
		}
		said = strings.ReplaceAll(said, "line 4, colour: is", "line 4: colour is")
		require.Contains(t, said, c.says, name)
		require.Contains(t, []int{415, 422}, p.Status, name)
	}
	require.Equal(t, before, exported(t, s.Client, "yaml", ""))
	part := yamlFile
	part.LineByLine = true
	_, err := declared(t, s, "sites: []\n", part)
	require.ErrorContains(t, err, "line_by_line", "what is wrong in a whole record is not left out of it")

	// Other headings are mapped; a semicolon separates as well; what is right is taken where that is asked for.
	how := csvOf("sites")
	how.Columns, how.LineByLine = []string{"Kunde=name", "Nr=code", "Farbe="}, true
	out, err := declared(t, s, "\xef\xbb\xbfNr;Kunde;Farbe\nA-1;Alder;red\n!;Bad;blue\nA-2;\"Ash; and others\";green\nA-3;'=sum;x\n", how)
	require.NoError(t, err)
	require.True(t, out.Done)
	require.Len(t, out.Steps, 3)
	require.Len(t, out.Flaws, 1)
	require.Equal(t, 3, out.Flaws[0].Line)
	require.Equal(t, "code,name,note,tags,router\nA-1,Alder,,,\nA-2,Ash; and others,,,\nA-3,'=sum,,,\n", exported(t, s.Client, "csv",
		"sites"))
	for _, kind := range []string{"sites", "links", "devices", "services", "hostnames", "contacts"} {
		var b bytes.Buffer
		require.NoError(t, s.Client.RecordFile(t.Context(), "csv", kind, true, &b))
		require.Equal(t, 2, strings.Count(b.String(), "\n"), kind)
	}
}
