package api

import (
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"

	"github.com/getkin/kin-openapi/openapi3"
)

// reference prints the description of the API for people, in Markdown: every route, what it takes and what it gives. Error: a description
// that cannot be read.
func reference(description []byte) (string, error) {
	doc, err := openapi3.NewLoader().LoadFromData(description)
	if err != nil {
		return "", err
	}
	var b strings.Builder
	b.WriteString("# Every route\n\nMade from `/api/v1/openapi.json`, which a program reads better. Documents are shown with all of " +
		"their fields and made-up values; [the API](api.md) has examples in the order of the work, [errors](errors.md) what goes wrong.\n")
	last := ""
	for _, path := range slices.Sorted(maps.Keys(doc.Paths.Map())) {
		group, _, _ := strings.Cut(strings.TrimPrefix(strings.TrimPrefix(path, base), "/"), "/")
		if group != last {
			fmt.Fprintf(&b, "\n## %s\n", group)
			last = group
		}
		for _, method := range []string{http.MethodGet, http.MethodPost, http.MethodPut, http.MethodPatch, http.MethodDelete} {
			if op := doc.Paths.Value(path).GetOperation(method); op != nil {
				writeRoute(&b, method, path, op)
			}
		}
	}
	return b.String(), nil
}

func writeRoute(b *strings.Builder, method, path string, op *openapi3.Operation) {
	fmt.Fprintf(b, "\n### %s %s\n\n%s.", method, path, op.Summary)
	if need, ok := op.Extensions["x-inkpost-takes"]; ok {
		fmt.Fprintf(b, " Takes the right to %v; concerns %v.", need, op.Extensions["x-inkpost-concerns"])
	}
	b.WriteString("\n\n")
	for _, p := range op.Parameters {
		if p.Value.In == openapi3.ParameterInQuery {
			fmt.Fprintf(b, "- `%s`: %s\n", p.Value.Name, p.Value.Description)
		}
	}
	if op.RequestBody != nil {
		writeDocument(b, "Takes", op.RequestBody.Value.Content)
	}
	for _, status := range slices.Sorted(maps.Keys(op.Responses.Map())) {
		if strings.HasPrefix(status, "2") {
			writeDocument(b, "Gives ("+status+")", op.Responses.Value(status).Value.Content)
		}
	}
}

func writeDocument(b *strings.Builder, what string, content openapi3.Content) {
	media := content.Get("application/json")
	if media == nil || media.Schema == nil {
		return
	}
	text, err := json.MarshalIndent(example(media.Schema, nil), "", "  ")
	if err == nil {
		fmt.Fprintf(b, "\n%s:\n\n```json\n%s\n```\n", what, text)
	}
}

// formats are made-up values of formats.
var formats = map[string]string{"date-time": "2026-11-30T20:00:00Z", "ip": "203.0.113.7", "ip-and-port": "203.0.113.7:53",
	"ip-prefix": "203.0.113.0/24", "name-server": "ns1.isles.saltmarsh.example=198.51.100.1"}

// example makes up a document of a schema. within are the schemas that it is part of: one that has itself as a part ends there.
func example(ref *openapi3.SchemaRef, within []string) any {
	if ref == nil || ref.Value == nil || slices.Contains(within, ref.Ref) && ref.Ref != "" {
		return nil
	}
	within = append(slices.Clone(within), ref.Ref)
	s := ref.Value
	switch {
	case len(s.AllOf) > 0:
		return example(s.AllOf[0], within)
	case len(s.Enum) > 0:
		return s.Enum[0]
	case s.Type.Includes("string"):
		if made, ok := formats[s.Format]; ok {
			return made
		}
		return "text"
	case s.Type.Includes("integer"), s.Type.Includes("number"):
		return 1
	case s.Type.Includes("boolean"):
		return true
	case s.Type.Includes("array"):
		return []any{example(s.Items, within)}
	case s.AdditionalProperties.Schema != nil:
		return map[string]any{"name": example(s.AdditionalProperties.Schema, within)}
	}
	out := map[string]any{}
	for name, field := range s.Properties {
		out[name] = example(field, within)
	}
	return out
}
