package api

import (
	"encoding/json"
	"fmt"
	"net/http"
	"reflect"
	"slices"
	"strings"

	"github.com/labstack/echo/v5"
)

// readOnlyKey is where a request's context keeps the read-only fields of the resource that it writes.
const readOnlyKey = "read-only fields"

// readOnly lists the fields of the document that a route writes which only the server sets: a document that was read can be sent back
// as it is, and those are passed over. It is nil for a route whose document is not that of a resource.
func (r route) readOnly() []string {
	if r.in == nil || r.out == nil || r.method != http.MethodPost && r.method != http.MethodPatch {
		return nil
	}
	written, shown := fields(reflect.TypeOf(r.in)), fields(reflect.TypeOf(r.out))
	for _, name := range written {
		if !slices.Contains(shown, name) {
			return nil
		}
	}
	return slices.DeleteFunc(shown, func(name string) bool { return slices.Contains(written, name) })
}

// fields lists the names that the fields of a document have as JSON.
func fields(t reflect.Type) (out []string) {
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	if t.Kind() != reflect.Struct {
		return nil
	}
	for i := range t.NumField() {
		f := t.Field(i)
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		switch {
		case f.Anonymous && name == "":
			out = append(out, fields(f.Type)...)
		case name != "" && name != "-":
			out = append(out, name)
		}
	}
	return out
}

// writable returns a document without the read-only fields of the resource that a request writes.
func writable(c *echo.Context, doc []byte) []byte {
	names, _ := c.Get(readOnlyKey).([]string)
	if len(names) == 0 {
		return doc
	}
	var all map[string]json.RawMessage
	if json.Unmarshal(doc, &all) != nil {
		return doc // that has an error of its own
	}
	dropped := false
	for _, name := range names {
		if _, there := all[name]; there {
			delete(all, name)
			dropped = true
		}
	}
	if !dropped {
		return doc
	}
	out, err := json.Marshal(all)
	if err != nil {
		return doc
	}
	return out
}

// kinds names what a JSON document can hold, with the article that goes before it.
var kinds = map[string]string{"object": "an object", "array": "an array", "string": "a string", "number": "a number",
	"bool": "true or false"}

// wrongKind says that a field holds one kind of value and has to hold another.
func wrongKind(found string, wanted reflect.Type) string {
	found, _, _ = strings.Cut(found, " ") // "number 7.5"
	if words, ok := kinds[found]; ok {
		found = words
	}
	for wanted.Kind() == reflect.Pointer {
		wanted = wanted.Elem()
	}
	words := ""
	switch wanted.Kind() {
	case reflect.String:
		words = "a string"
	case reflect.Bool:
		words = "true or false"
	case reflect.Slice, reflect.Array:
		words = "an array"
	case reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64, reflect.Uint, reflect.Uint8, reflect.Uint16,
		reflect.Uint32, reflect.Uint64:
		words = "a whole number"
	case reflect.Float32, reflect.Float64:
		words = "a number"
	default:
		if reflect.PointerTo(wanted).Implements(reflect.TypeFor[interface{ UnmarshalText([]byte) error }]()) {
			words = "a string"
		} else {
			words = "an object"
		}
	}
	return fmt.Sprintf("is %s; %s is required", found, words)
}
