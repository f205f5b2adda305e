package recordfile

import (
	"bytes"
	"io"
	"slices"

	"go.yaml.in/yaml/v3"

	"inkpost.example/inkpost/internal/core/declare"
)

// Update writes a record in the form that a file has: with its comments, the order of its keys and items, and its way of writing what has
// not changed. What is new comes last. Error: Flaws where the file is not YAML; that of w.
func Update(w io.Writer, file []byte, record []byte) error {
	var was, is yaml.Node
	if err := yaml.Unmarshal(file, &was); err != nil {
		return badYAML(err)
	}
	if err := yaml.Unmarshal(record, &is); err != nil {
		return badYAML(err)
	}
	if len(was.Content) == 0 {
		_, err := io.Copy(w, bytes.NewReader(record))
		return err
	}
	was.Content[0] = kept(was.Content[0], is.Content[0])
	return WriteYAML(w, &was)
}

// kept returns a node that says what is does, and looks as was does.
func kept(was, is *yaml.Node) *yaml.Node {
	out := *is
	out.HeadComment, out.LineComment, out.FootComment = was.HeadComment, was.LineComment, was.FootComment
	switch {
	case was.Kind != is.Kind:
	case was.Kind == yaml.ScalarNode:
		if was.Value == is.Value {
			return was
		}
	case was.Kind == yaml.MappingNode:
		out.Style, out.Content = was.Style, nil
		for i := 0; i+1 < len(was.Content); i += 2 {
			key, value := was.Content[i], was.Content[i+1]
			if now := valueAt(is, key.Value); now != nil {
				out.Content = append(out.Content, key, kept(value, now))
			} else if blank(value) { // a record says nothing of what is empty
				out.Content = append(out.Content, key, value)
			}
		}
		for i := 0; i+1 < len(is.Content); i += 2 {
			if valueAt(was, is.Content[i].Value) == nil {
				out.Content = append(out.Content, is.Content[i], is.Content[i+1])
			}
		}
	case was.Kind == yaml.SequenceNode:
		if len(is.Content) > 0 {
			out.Style = was.Style
		}
		out.Content = nil
		for _, one := range was.Content {
			if i := like(is.Content, one); i >= 0 {
				out.Content = append(out.Content, kept(one, is.Content[i]))
			}
		}
		for _, one := range is.Content {
			if like(was.Content, one) < 0 {
				out.Content = append(out.Content, one)
			}
		}
	}
	return &out
}

// blank reports whether a node is an empty value.
func blank(n *yaml.Node) bool {
	return n.Kind == yaml.ScalarNode && slices.Contains([]string{"", "0", "no", "false", "null", "~"}, n.Value) ||
		n.Kind != yaml.ScalarNode && len(n.Content) == 0
}

// valueAt returns what a mapping has at a key; nil for none.
func valueAt(n *yaml.Node, key string) *yaml.Node {
	for i := 0; i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == key {
			return n.Content[i+1]
		}
	}
	return nil
}

// like returns where in a list the item is that another stands for; below 0 for nowhere. Items are told apart by what names them.
func like(list []*yaml.Node, one *yaml.Node) int {
	return slices.IndexFunc(list, func(n *yaml.Node) bool {
		if n.Kind != yaml.MappingNode || one.Kind != yaml.MappingNode {
			return n.Kind == one.Kind && n.Value == one.Value
		}
		for _, kind := range []declare.Kind{declare.Site, declare.Link, declare.Device} {
			a, b := valueAt(n, kind.Key()), valueAt(one, kind.Key())
			if a != nil && b != nil {
				return kind.Same(a.Value) == kind.Same(b.Value)
			}
		}
		return false
	})
}
