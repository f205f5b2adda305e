package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v3"
)

// fromFile takes flags that were given neither on the command line nor in the environment from a YAML file, whose keys are their names. A
// list gives a flag several times. Errors: a file that cannot be read, a key that is no flag, a value that the flag does not take.
func fromFile(cmd *cobra.Command, path string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	var doc yaml.Node
	if err := yaml.NewDecoder(f).Decode(&doc); errors.Is(err, io.EOF) {
		return nil // nothing but comments
	} else if err != nil {
		return usagef("%s: %v", path, err)
	}
	if doc.Kind != yaml.DocumentNode || doc.Content[0].Kind != yaml.MappingNode {
		return usagef("%s: line %d: write one option a line, such as public-url: https://post.saltmarsh.example", path, doc.Line)
	}
	pairs := doc.Content[0].Content
	seen := map[string]bool{}
	for i := 0; i < len(pairs); i += 2 {
		key, value := pairs[i], pairs[i+1]
		wrong := func(format string, args ...any) error {
			return usagef("%s: line %d: %s: %s", path, key.Line, key.Value, fmt.Sprintf(format, args...))
		}
		flag := cmd.Flags().Lookup(key.Value)
		switch {
		case flag == nil || key.Value == "config" || key.Value == "help":
			return wrong("there is no such option; inkpost serve --help lists them")
		case seen[key.Value]:
			return wrong("it stands there twice")
		}
		seen[key.Value] = true
		values := []*yaml.Node{value}
		switch value.Kind {
		case yaml.SequenceNode:
			if !strings.HasSuffix(flag.Value.Type(), "Slice") && !strings.HasSuffix(flag.Value.Type(), "Array") {
				return wrong("it takes one value, not a list")
			}
			values = value.Content
		case yaml.ScalarNode:
		default:
			return wrong("it takes a value, or a list of values")
		}
		if flag.Changed || value.Tag == "!!null" {
			continue
		}
		for _, v := range values {
			if v.Kind != yaml.ScalarNode {
				return wrong("it takes a value, or a list of values")
			}
			if err := cmd.Flags().Set(flag.Name, v.Value); err != nil {
				return wrong("%v", err)
			}
		}
	}
	return nil
}
