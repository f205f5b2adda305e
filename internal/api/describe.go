package api

import (
	"fmt"
	"net/http"
	"net/netip"
	"reflect"
	"strconv"
	"strings"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3gen"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/checkup"
	"inkpost.example/inkpost/internal/core/commission"
	"inkpost.example/inkpost/internal/core/diagnose"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/probe"
)

// Description is the OpenAPI 3.1 description of the API. Error: that of encoding.
func Description(version string) ([]byte, error) { return describe((&api{}).routes(), version) }

// describe writes the OpenAPI 3.1 description of the routes: the same table that they are served from.
func describe(routes []route, version string) ([]byte, error) {
	doc := &openapi3.T{
		OpenAPI: "3.1.0",
		Info: &openapi3.Info{Title: "Ink Post", Version: version,
			Description: "Keeps each site's hostnames pointed at its changing address and proves from outside that its services answer."},
		Paths:      openapi3.NewPaths(),
		Components: &openapi3.Components{Schemas: openapi3.Schemas{}, SecuritySchemes: openapi3.SecuritySchemes{}},
	}
	key := openapi3.NewSecurityScheme().WithType("http").WithScheme("bearer")
	session := openapi3.NewSecurityScheme().WithType("apiKey").WithIn("cookie").WithName(cookieName)
	doc.Components.SecuritySchemes["key"] = &openapi3.SecuritySchemeRef{Value: key}
	doc.Components.SecuritySchemes["session"] = &openapi3.SecuritySchemeRef{Value: session}
	for name, format := range map[string]string{"Addr": "ip", "AddrPort": "ip-and-port", "Prefix": "ip-prefix", "Server": "name-server"} {
		doc.Components.Schemas[name] = openapi3.NewSchemaRef("", openapi3.NewStringSchema().WithFormat(format))
	}
	gen := openapi3gen.NewGenerator(
		openapi3gen.CreateComponentSchemas(openapi3gen.ExportComponentSchemasOptions{ExportComponentSchemas: true,
			ExportTopLevelSchema: true}),
		openapi3gen.SchemaCustomizer(refined(routes)))
	schema := func(v any) (*openapi3.SchemaRef, error) { return gen.NewSchemaRefForValue(v, doc.Components.Schemas) }
	problem, err := schema(contract.Problem{})
	if err != nil {
		return nil, err
	}
	for _, r := range routes {
		op := openapi3.NewOperation()
		op.Summary = r.summary
		op.OperationID = operationID(r)
		for _, word := range strings.Split(r.path, "/") {
			if name, found := strings.CutPrefix(word, ":"); found {
				op.AddParameter(openapi3.NewPathParameter(name).WithSchema(openapi3.NewStringSchema()))
			}
		}
		for _, q := range r.query {
			op.AddParameter(openapi3.NewQueryParameter(q.name).WithDescription(q.about).WithSchema(q.schema()))
		}
		if r.method == http.MethodPatch || r.method == http.MethodPut || r.method == http.MethodDelete {
			op.AddParameter(openapi3.NewHeaderParameter("If-Match").WithDescription("the resource's ETag as it was read: where it " +
				"was edited since, nothing is done (412)").
				WithSchema(openapi3.NewStringSchema()))
		}
		if r.who == person {
			of := r.rule()
			op.Extensions = map[string]any{"x-inkpost-takes": of.need, "x-inkpost-concerns": of.reach.words()}
		}
		switch r.who {
		case signedIn:
			op.Security = openapi3.NewSecurityRequirements().With(openapi3.NewSecurityRequirement().Authenticate("session"))
		case person:
			op.Security = openapi3.NewSecurityRequirements().With(openapi3.NewSecurityRequirement().Authenticate("key")).
				With(openapi3.NewSecurityRequirement().Authenticate("session"))
		case agentOnly, vantageOnly:
			op.Security = openapi3.NewSecurityRequirements().With(openapi3.NewSecurityRequirement().Authenticate("key"))
		}
		if r.in != nil {
			ref, err := schema(r.in)
			if err != nil {
				return nil, fmt.Errorf("describe %s %s: %w", r.method, r.path, err)
			}
			op.RequestBody = &openapi3.RequestBodyRef{Value: openapi3.NewRequestBody().WithRequired(true).WithJSONSchemaRef(ref)}
		}
		success := openapi3.NewResponse().WithDescription("done")
		if r.out != nil {
			ref, err := schema(r.out)
			if err != nil {
				return nil, fmt.Errorf("describe %s %s: %w", r.method, r.path, err)
			}
			success = success.WithJSONSchemaRef(ref)
		}
		op.Responses = openapi3.NewResponses(
			openapi3.WithStatus(r.status, &openapi3.ResponseRef{Value: success}),
			openapi3.WithName("default", openapi3.NewResponse().WithDescription("a problem (RFC 9457)").
				WithContent(openapi3.NewContentWithSchemaRef(problem, []string{"application/problem+json"}))))
		doc.AddOperation(templated(r.path), r.method, op)
	}
	for _, r := range routes { // once every schema is there
		markReadOnly(doc.Components.Schemas, reflect.TypeOf(r.out), r.readOnly())
	}
	return doc.MarshalJSON()
}

// markReadOnly marks fields of a document that only the server sets.
func markReadOnly(schemas openapi3.Schemas, t reflect.Type, names []string) {
	if len(names) == 0 {
		return
	}
	ref := schemas[t.Name()]
	if ref == nil || ref.Value == nil {
		return
	}
	for _, name := range names {
		if p := ref.Value.Properties[name]; p != nil && (p.Value == nil || !p.Value.ReadOnly) {
			field := openapi3.NewSchema()
			if p.Value != nil && p.Ref == "" {
				*field = *p.Value
			} else {
				field.AllOf = openapi3.SchemaRefs{p}
			}
			field.ReadOnly = true
			ref.Value.Properties[name] = openapi3.NewSchemaRef("", field)
		}
	}
}

// schema describes what may stand in a query parameter.
func (q param) schema() *openapi3.Schema {
	switch q.kind {
	case numberParam:
		return openapi3.NewInt64Schema()
	case flagParam:
		return openapi3.NewBoolSchema()
	case momentParam:
		return openapi3.NewDateTimeSchema()
	case formatParam:
		return openapi3.NewStringSchema().WithEnum("json", "csv")
	case addressParam:
		return openapi3.NewStringSchema().WithFormat("ip")
	}
	return openapi3.NewStringSchema()
}

// templated writes ":name" as "{name}".
func templated(path string) string {
	words := strings.Split(path, "/")
	for i, w := range words {
		if name, found := strings.CutPrefix(w, ":"); found {
			words[i] = "{" + name + "}"
		}
	}
	return strings.Join(words, "/")
}

func operationID(r route) string {
	id := strings.ToLower(r.method)
	for _, w := range strings.FieldsFunc(strings.TrimPrefix(r.path, base), func(c rune) bool { return c == '/' || c == ':' || c == '.' }) {
		id += "-" + w
	}
	return id
}

// words are the types of text that take one of a few words.
var words = map[reflect.Type][]any{
	reflect.TypeFor[probe.Outcome](): {probe.Answered, probe.Opened, probe.Refused, probe.Silent, probe.Unroutable, probe.Garbled,
		probe.Stranger, probe.Skipped},
	reflect.TypeFor[diagnose.Hop](): {diagnose.HopVantage, diagnose.HopHostname, diagnose.HopAddress, diagnose.HopUpstream,
		diagnose.HopForward, diagnose.HopDevice,
		diagnose.HopService},
	reflect.TypeFor[causes.Sure]():      {causes.Certain, causes.Likely, causes.Open},
	reflect.TypeFor[causes.Actor]():     {causes.AtTheDesk, causes.OnSite, causes.TheProvider, causes.Nobody},
	reflect.TypeFor[checkup.Standing](): {checkup.Good, checkup.Attention, checkup.Wrong, checkup.Untried},
	reflect.TypeFor[diagnose.Verdict](): {diagnose.Proven, diagnose.Unsettled, diagnose.Broken, diagnose.Unproven},
	reflect.TypeFor[contract.Need]():    {contract.NeedNow, contract.NeedSoon, contract.NeedNothing, contract.NeedUnknown},
	reflect.TypeFor[names.ZoneKind]():   {names.Hosted, names.Remote},
	reflect.TypeFor[commission.State](): {commission.Waiting, commission.Failing, commission.Later, commission.Done, commission.Skipped},
}

// refined describes addresses and servers as the text that they are written as, words as what they may be, and marks the fields that are
// always there. Nothing is marked in a document that is only sent: what is left out of it has a default, or stays as it is.
func refined(routes []route) openapi3gen.SchemaCustomizerFn {
	sent := map[reflect.Type]bool{}
	for _, r := range routes {
		if r.in != nil {
			sent[reflect.TypeOf(r.in)] = true
		}
	}
	return func(_ string, t reflect.Type, _ reflect.StructTag, s *openapi3.Schema) error {
		switch t {
		case reflect.TypeFor[netip.Addr](), reflect.TypeFor[netip.AddrPort](), reflect.TypeFor[netip.Prefix](),
			reflect.TypeFor[names.Server]():
			*s = *openapi3.NewStringSchema()
			return nil
		}
		if list, ok := words[t]; ok {
			s.Enum = list
		}
		if t.Kind() == reflect.Struct && !sent[t] {
			s.Required = always(t)
		}
		return nil
	}
}

// always lists the fields of a document that are always there.
func always(t reflect.Type) (out []string) {
	for i := range t.NumField() {
		f := t.Field(i)
		name, options, _ := strings.Cut(f.Tag.Get("json"), ",")
		switch {
		case f.Anonymous && name == "" && f.Type.Kind() == reflect.Struct:
			out = append(out, always(f.Type)...)
		case name != "" && name != "-" && !strings.Contains(options, "omit"):
			out = append(out, name)
		}
	}
	return out
}

func parseAddr(text string) (netip.Addr, error) {
	a, err := netip.ParseAddr(strings.TrimSpace(text))
	if err != nil || a.Zone() != "" {
		return netip.Addr{}, fmt.Errorf("%s is not an IP address; give one such as 198.51.100.7 or 2001:db8::7", strconv.Quote(text))
	}
	return a, nil
}
