// Package kitfile reads and writes kits as YAML files.
package kitfile

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
)

// file is a kit as it stands in a file.
type file struct {
	Kit      string    `yaml:"kit"`
	Title    string    `yaml:"title"`
	Advice   []string  `yaml:"advice,omitempty"`
	Steps    []string  `yaml:"steps,omitempty"`
	Services []service `yaml:"services"`
}

type service struct {
	Name      string `yaml:"name"`
	Kind      string `yaml:"kind"`
	Transport string `yaml:"transport,omitempty"`
	External  int    `yaml:"external"`
	Internal  int    `yaml:"internal,omitempty"`
	Expected  string `yaml:"expected,omitempty"`
}

// keys are what is allowed, at the top and in a service.
var (
	keys        = []string{"kit", "title", "advice", "steps", "services"}
	serviceKeys = []string{"name", "kind", "transport", "external", "internal", "expected"}
)

// maxFile is how large a kit file may be, in bytes.
const maxFile = 64 << 10

// Read reads one kit. Error: site.Flaws, whose fields are the place in the file ("line 7, services[0].kind") and whose details say what is
// allowed there.
func Read(r io.Reader) (site.Kit, error) {
	text, err := io.ReadAll(io.LimitReader(r, maxFile+1))
	if err != nil {
		return site.Kit{}, err
	}
	if len(text) > maxFile {
		return site.Kit{}, flaw("file", "has more than %d kB", maxFile>>10)
	}
	var doc yaml.Node
	d := yaml.NewDecoder(bytes.NewReader(text))
	if err := d.Decode(&doc); err != nil {
		return site.Kit{}, flaw("file", "is not YAML: %s", strings.TrimPrefix(err.Error(), "yaml: "))
	}
	if d.Decode(new(yaml.Node)) != io.EOF {
		return site.Kit{}, flaw("file", "has more than one document; one kit a file is allowed")
	}
	lines := map[string]int{}
	if f := places(doc.Content[0], lines); len(f) > 0 {
		return site.Kit{}, f
	}
	var in file
	if err := doc.Content[0].Decode(&in); err != nil {
		return site.Kit{}, typeFlaws(err)
	}
	k := site.Kit{Name: in.Kit, Title: in.Title, Advice: in.Advice, Steps: in.Steps}
	for _, s := range in.Services {
		k.Services = append(k.Services, site.KitService{Name: s.Name, Kind: probe.Kind(strings.ToLower(s.Kind)),
			Transport: probe.Transport(strings.ToLower(s.Transport)), External: s.External, Internal: s.Internal,
			Expected: probe.Expected(strings.ToLower(s.Expected))})
	}
	k, err = k.Checked()
	var flaws site.Flaws
	if errors.As(err, &flaws) {
		return k, placed(flaws, lines)
	}
	return k, err
}

func flaw(field, format string, args ...any) error {
	return site.Flaws{{Field: field, Detail: fmt.Sprintf(format, args...)}}
}

// places notes at which line each key stands, and reports those that are not allowed, or twice there.
func places(n *yaml.Node, lines map[string]int) (f site.Flaws) {
	if n.Kind != yaml.MappingNode {
		return site.Flaws{{Field: at(n.Line, "file"), Detail: "a kit is written as keys: " + strings.Join(keys, ", ")}}
	}
	check := func(n *yaml.Node, prefix string, allowed []string) {
		for i := 0; i+1 < len(n.Content); i += 2 {
			key, line := n.Content[i].Value, n.Content[i].Line
			where := prefix + key
			if !slices.Contains(allowed, key) {
				f = append(f, site.Flaw{Field: at(line, where), Detail: "is unknown; allowed are " + strings.Join(allowed, ", ")})
			}
			if lines[where] != 0 {
				f = append(f, site.Flaw{Field: at(line, where), Detail: "stands in line " + strconv.Itoa(lines[where]) + " already"})
			}
			lines[where] = line
		}
	}
	check(n, "", keys)
	for i := 0; i+1 < len(n.Content); i += 2 {
		list := n.Content[i+1]
		if line := aliased(list); line > 0 {
			f = append(f, site.Flaw{Field: at(line, n.Content[i].Value), Detail: "aliases are not allowed; write it out"})
			continue
		}
		for k, one := range list.Content {
			where := fmt.Sprintf("%s[%d]", n.Content[i].Value, k)
			lines[where] = one.Line
			if n.Content[i].Value == "services" && one.Kind == yaml.MappingNode {
				check(one, where+".", serviceKeys)
			}
		}
	}
	return f
}

// aliased returns the line of the first alias in a part of a file; 0 for none. Aliases of aliases make a small file a large one.
func aliased(n *yaml.Node) int {
	if n.Kind == yaml.AliasNode {
		return n.Line
	}
	for _, one := range n.Content {
		if line := aliased(one); line > 0 {
			return line
		}
	}
	return 0
}

func at(line int, where string) string { return fmt.Sprintf("line %d, %s", line, where) }

// placed says of each flaw at which line it is: of the key, or of what it is missing in.
func placed(f site.Flaws, lines map[string]int) site.Flaws {
	out := make(site.Flaws, len(f))
	for i, one := range f {
		where, line := one.Field, 0
		for where != "" && line == 0 {
			line = lines[where]
			where = where[:max(0, strings.LastIndexAny(where, ".["))]
		}
		out[i] = site.Flaw{Field: at(max(line, 1), one.Field), Detail: one.Detail}
	}
	return out
}

// typeFlaws says what is of the wrong type.
func typeFlaws(err error) error {
	var wrong *yaml.TypeError
	if !errors.As(err, &wrong) {
		return flaw("file", "%s", strings.TrimPrefix(err.Error(), "yaml: "))
	}
	var f site.Flaws
	for _, line := range wrong.Errors {
		where, what, _ := strings.Cut(line, ": ")
		what = strings.NewReplacer("!!str ", "", "!!int ", "", "cannot unmarshal", "cannot take", "into int", "as a number", "into string",
			"as text",
			"!!seq", "a list", "!!map", "keys", "into []string", "as a list of lines", "into []kitfile.service", "as a list of services",
			"into kitfile.service", "as the keys of a service").Replace(what)
		f = append(f, site.Flaw{Field: where, Detail: what})
	}
	return f
}

// Write writes a kit. Error: that of w.
func Write(w io.Writer, k site.Kit) error {
	out := file{Kit: k.Name, Title: k.Title, Advice: k.Advice, Steps: k.Steps}
	for _, s := range k.Services {
		out.Services = append(out.Services, service{Name: s.Name, Kind: string(s.Kind), Transport: string(s.Transport),
			External: s.External,
			Internal: s.Internal, Expected: string(s.Expected)})
	}
	e := yaml.NewEncoder(w)
	e.SetIndent(2)
	if err := e.Encode(out); err != nil {
		return err
	}
	return e.Close()
}
