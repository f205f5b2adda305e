package recordfile

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"inkpost.example/inkpost/internal/core/declare"
)

// The key that says how much a file has all of, and its values: of every site, or of those that it lists.
const (
	coversKey  = "covers"
	everything = "everything"
	listed     = "listed sites"
)

// ReadYAML reads a record: a document with "covers" and "sites", each with its fields and lists of links, devices, services, hostnames and
// contacts. A list that is there is whole: what it leaves out is to be removed. JSON is YAML, and is read as well. Error: Flaws.
func ReadYAML(r io.Reader) (File, error) {
	text, err := plain(r)
	if err != nil {
		return File{}, err
	}
	var doc yaml.Node
	d := yaml.NewDecoder(bytes.NewReader(text))
	if err := d.Decode(&doc); err != nil {
		return File{}, badYAML(err)
	}
	if d.Decode(new(yaml.Node)) != io.EOF {
		return File{}, flaw(1, "", "the file has more than one document; one is allowed")
	}
	p := reader{File: File{Scope: declare.Scope{Parts: map[string][]declare.Kind{}}}}
	if line := aliased(&doc); line > 0 {
		return File{}, flaw(line, "", "aliases are not allowed; write it out")
	}
	top := doc.Content[0]
	if top.Kind != yaml.MappingNode {
		return File{}, flaw(top.Line, "", "a record is written as keys: %s, sites", coversKey)
	}
	for key, value := range p.pairs(top, []string{coversKey, "sites"}) {
		switch {
		case key == coversKey && value.Value == everything:
			p.Scope.Everything = true
		case key == coversKey && value.Value != listed:
			p.wrong(value.Line, coversKey, "%q is unknown; it is %q or %q", value.Value, listed, everything)
		case key == "sites":
			for _, one := range p.list(value, "sites") {
				p.site(one)
			}
		}
	}
	if len(p.flaws) > 0 {
		return File{}, p.flaws
	}
	return p.File, nil
}

func badYAML(err error) Flaws {
	line, detail := 1, strings.TrimPrefix(err.Error(), "yaml: ")
	if n, rest, ok := strings.Cut(strings.TrimPrefix(detail, "line "), ": "); ok && strings.HasPrefix(detail, "line ") {
		if _, e := fmt.Sscan(n, &line); e == nil {
			detail = rest
		}
	}
	if err == io.EOF {
		detail = "the file is empty"
	}
	return flaw(line, "", "is not YAML: %s", detail)
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

// reader collects what a file says.
type reader struct {
	File
	flaws Flaws
}

func (p *reader) wrong(line int, column, format string, args ...any) {
	if len(p.flaws) < maxFlaws {
		p.flaws = append(p.flaws, flaw(line, column, format, args...)...)
	}
}

// pairs goes through the keys of a mapping that are allowed there.
func (p *reader) pairs(n *yaml.Node, allowed []string) func(func(string, *yaml.Node) bool) {
	return func(yield func(string, *yaml.Node) bool) {
		seen := map[string]bool{}
		for i := 0; i+1 < len(n.Content); i += 2 {
			key := n.Content[i]
			switch {
			case !slices.Contains(allowed, key.Value):
				p.wrong(key.Line, key.Value, "is unknown; allowed are %s", strings.Join(allowed, ", "))
			case seen[key.Value]:
				p.wrong(key.Line, key.Value, "is there twice")
			default:
				seen[key.Value] = true
				if !yield(key.Value, n.Content[i+1]) {
					return
				}
			}
		}
	}
}

// list returns the mappings of a list.
func (p *reader) list(n *yaml.Node, name string) (out []*yaml.Node) {
	if n.Kind == yaml.ScalarNode && n.Tag == "!!null" {
		return nil
	}
	if n.Kind != yaml.SequenceNode {
		p.wrong(n.Line, name, "is a list")
		return nil
	}
	for _, one := range n.Content {
		if one.Kind != yaml.MappingNode {
			p.wrong(one.Line, name, "each of them is written as keys")
			continue
		}
		out = append(out, one)
	}
	return out
}

// site reads a site with its parts.
func (p *reader) site(n *yaml.Node) {
	parts := map[string]declare.Kind{}
	allowed := fieldNames(declare.Site)
	for _, k := range declare.Kinds()[1:] {
		parts[k.Plural()] = k
		allowed = append(allowed, k.Plural())
	}
	own := &yaml.Node{Kind: yaml.MappingNode, Line: n.Line, Column: n.Column}
	lists := map[declare.Kind]*yaml.Node{}
	for key, value := range p.pairs(n, allowed) {
		if kind, part := parts[key]; part {
			lists[kind] = value
			continue
		}
		own.Content = append(own.Content, &yaml.Node{Kind: yaml.ScalarNode, Value: key, Line: value.Line}, value)
	}
	s := p.item(declare.Site, "", own)
	s.Site = s.Name
	p.Items = append(p.Items, s)
	for _, kind := range declare.Kinds()[1:] {
		list, there := lists[kind]
		if !there {
			continue
		}
		code := declare.Site.Same(s.Name)
		p.Scope.Parts[code] = append(p.Scope.Parts[code], kind)
		for _, one := range p.list(list, kind.Plural()) {
			p.Items = append(p.Items, p.item(kind, s.Name, one))
		}
	}
}

func fieldNames(kind declare.Kind) (out []string) {
	for _, f := range kind.Fields() {
		out = append(out, f.Name)
	}
	return out
}

// item reads one item.
func (p *reader) item(kind declare.Kind, site string, n *yaml.Node) declare.Item {
	i := declare.Item{Kind: kind, Site: site, Fields: map[string]any{}, At: declare.Place{Line: n.Line, Column: n.Column},
		Places: map[string]declare.Place{}}
	for key, value := range p.pairs(n, fieldNames(kind)) {
		f, _ := kind.Field(key)
		i.Places[key] = declare.Place{Line: value.Line, Column: value.Column}
		v, detail := valueOf(f, value)
		if detail != "" {
			p.wrong(value.Line, key, "%s", detail)
			continue
		}
		i.Fields[key] = v
		if key == kind.Key() {
			i.Name = v.(string)
		}
	}
	return i
}

// valueOf reads the value of a field, or says what is wrong with it.
func valueOf(f declare.Field, n *yaml.Node) (v any, detail string) {
	switch f.Type {
	case declare.List:
		out := []string{}
		if n.Kind != yaml.SequenceNode {
			return nil, "is a list, such as [harbour, north]"
		}
		if n.Decode(&out) != nil {
			return nil, "is a list of words"
		}
		return out, ""
	case declare.Pairs:
		out := map[string]string{}
		if n.Kind != yaml.MappingNode || n.Decode(&out) != nil {
			return nil, "is written as names with a value each"
		}
		return out, ""
	}
	if n.Kind != yaml.ScalarNode {
		return nil, "takes one value, not a list or keys"
	}
	if len(n.Value) > maxCell {
		return nil, fmt.Sprintf("has %d kB; at most %d kB are taken", len(n.Value)>>10, maxCell>>10)
	}
	text := n.Value
	if n.Tag == "!!null" {
		text = ""
	}
	v, err := f.Parse(text)
	if err != nil {
		return nil, err.Error()
	}
	return v, ""
}

// Document returns a record as one document, sites with their parts, fields in their usual order; what is empty is left out.
func Document(items []declare.Item, whole bool) *yaml.Node {
	covers := listed
	if whole {
		covers = everything
	}
	type part struct {
		site string
		kind declare.Kind
	}
	parts := map[part][]*yaml.Node{}
	for _, i := range items {
		parts[part{i.Site, i.Kind}] = append(parts[part{i.Site, i.Kind}], mapping(i))
	}
	sites := &yaml.Node{Kind: yaml.SequenceNode}
	for _, s := range items {
		if s.Kind != declare.Site {
			continue
		}
		one := parts[part{s.Site, s.Kind}][0]
		for _, kind := range declare.Kinds()[1:] {
			list := &yaml.Node{Kind: yaml.SequenceNode, Content: parts[part{s.Site, kind}]}
			if len(list.Content) == 0 {
				list.Style = yaml.FlowStyle
			}
			one.Content = append(one.Content, scalar(kind.Plural()), list)
		}
		sites.Content = append(sites.Content, one)
	}
	return &yaml.Node{Kind: yaml.DocumentNode, Content: []*yaml.Node{{Kind: yaml.MappingNode, Content: []*yaml.Node{scalar(coversKey),
		scalar(covers),
		scalar("sites"), sites}}}}
}

func scalar(text string) *yaml.Node { return &yaml.Node{Kind: yaml.ScalarNode, Value: text} }

// mapping writes one item's fields.
func mapping(i declare.Item) *yaml.Node {
	out := &yaml.Node{Kind: yaml.MappingNode}
	for _, f := range i.Kind.Fields() {
		v := i.Fields[f.Name]
		if f.Cell(v) == "" || v == false || v == float64(0) {
			continue
		}
		node := &yaml.Node{}
		switch v := v.(type) {
		case string:
			node.SetString(v)
		case bool, float64:
			*node = *scalar(f.Cell(v))
		default:
			if node.Encode(v) != nil {
				continue // values of JSON can all be written
			}
		}
		if f.Type == declare.List {
			node.Style = yaml.FlowStyle
		}
		if t, err := time.Parse(time.RFC3339, fmt.Sprint(v)); f.Type == declare.Time && err == nil {
			node = scalar(t.UTC().Format(time.RFC3339))
		}
		out.Content = append(out.Content, scalar(f.Name), node)
	}
	return out
}

// WriteYAML writes a document. Error: that of w.
func WriteYAML(w io.Writer, doc *yaml.Node) error {
	e := yaml.NewEncoder(w)
	e.SetIndent(2)
	if err := e.Encode(doc); err != nil {
		return err
	}
	return e.Close()
}

// WriteJSON writes a document as JSON. Error: that of w.
func WriteJSON(w io.Writer, doc *yaml.Node) error {
	var v any
	if err := doc.Decode(&v); err != nil {
		return err
	}
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	return e.Encode(v)
}
