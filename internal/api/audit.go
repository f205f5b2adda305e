package api

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"net/http"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"inkpost.example/inkpost/internal/store"
)

const (
	bodyKey = "request body" // where a request's context keeps the document that was read
	nameKey = "claimed name" // where it keeps who somebody says they are who signs in
	// failedKey is where it keeps the status of what failed and is answered by a redirect.
	failedKey = "failed"
	// remembered is how much of a document is looked at, in octets.
	remembered = 64 << 10
	// endWait is how long it may take to write down how a change ended: a database that hangs holds nobody up.
	endWait = 2 * time.Second
	// maxName is how many characters are kept of who a stranger says they are.
	maxName = 80
)

// named notes who somebody says they are.
func named(c *echo.Context, name string) { c.Set(nameKey, name) }

// audited reports whether it is written down who made a call: of every change by a person, and of every try to sign in or to enrol. What
// agents and vantage points report has records of its own.
func (r route) audited() bool {
	return (r.method != http.MethodGet || r.traced) && r.who != agentOnly && r.who != vantageOnly && r.who != memberOnly &&
		!r.announces && !r.always && !r.reads &&
		!strings.HasPrefix(r.path, base+"/lab")
}

// kind is what a call is about: the words of its path.
func (r route) kind() string {
	words := strings.Split(strings.Trim(strings.TrimPrefix(r.path, base), "/"), "/")
	return strings.Join(slices.DeleteFunc(words, func(w string) bool { return strings.HasPrefix(w, ":") }), ".")
}

// traced makes a call, and writes down who makes it, before and after. Nothing is changed whose trace cannot be written. Error: that of the
// call, or of the database.
func (a *api) traced(c *echo.Context, r route, p principal, serve func() error) error {
	if !r.audited() {
		return serve()
	}
	ctx, people := c.Request().Context(), a.engine().Access
	act := store.Act{Person: p.name, Kind: r.kind(), Words: r.summary, Subject: subjectOf(c)}
	act.At.Time = a.engine().Now()
	if p.key.ID != 0 {
		act.Key = p.key.Label
	}
	if from, err := clientAddress(c); err == nil {
		act.From(from)
	}
	before, site := a.documentAt(c, r, p)
	act.Before = only(before, a.entered(r))
	act.SiteID, act.Site = a.siteRef(c, site)
	if r.who != anyone {
		var err error
		if act.ID, err = people.BeginAct(ctx, act); err != nil {
			return err
		}
	}
	said := &overheard{ResponseWriter: c.Response()}
	c.SetResponse(said)
	err := serve()
	status := said.status
	if err != nil {
		status = explain(err).Status
	}
	if failed, is := c.Get(failedKey).(int); is {
		status = failed
	}
	if status == 0 {
		status = http.StatusOK
	}
	after := said.doc.Bytes()
	if len(after) == 0 || err != nil {
		after, _ = c.Get(bodyKey).([]byte)
	}
	if act.SiteID == 0 {
		act.SiteID, act.Site = a.siteRef(c, siteIn(after))
	}
	act.After = only(after, a.entered(r))
	act.Before, act.After = differing(act.Before, act.After)
	if r.who == anyone { // who it is was found out by the call
		if status == http.StatusTooManyRequests || status >= 400 && !a.failures.Allow() { // strangers do not fill the disk
			return err
		}
		name, _ := c.Get(nameKey).(string)
		act.Person, act.After = string([]rune(name)[:min(len([]rune(name)), maxName)]), nil
	}
	act.Status = status
	bounded, cancel := context.WithTimeout(context.WithoutCancel(ctx), endWait)
	defer cancel()
	if kept := people.EndAct(bounded, act); kept != nil {
		a.log.Error("how a change ended is not written down", "act", act.ID, "error", kept)
	}
	return err
}

// subjectOf names what a call is about, beside its site.
func subjectOf(c *echo.Context) string {
	var parts []string
	for _, v := range c.PathValues() {
		if v.Name != "code" {
			parts = append(parts, v.Value)
		}
	}
	return strings.Join(parts, " ")
}

// siteRef finds the site that a call concerns: by its path, or else by a document.
func (a *api) siteRef(c *echo.Context, code string) (id store.Ref, known string) {
	if inPath := c.Param("code"); inPath != "" {
		code = inPath
	}
	p, err := a.engine().SiteSeen(context.Background(), code)
	if err != nil {
		return 0, ""
	}
	return store.Ref(p.ID), p.Code
}

// documentAt returns what stands at the path of a call, as reading it would show, and the site that it belongs to.
func (a *api) documentAt(c *echo.Context, r route, p principal) (doc []byte, site string) {
	read, there := a.reads[r.path]
	if !there || read.out == nil || r.method == http.MethodPost {
		return nil, ""
	}
	said := &overheard{ResponseWriter: nowhere{http.Header{}}}
	request := c.Request().Clone(c.Request().Context())
	request.Method, request.Body, request.ContentLength = http.MethodGet, http.NoBody, 0
	other := c.Echo().NewContext(request, said)
	other.SetPath(c.Path())
	other.SetPathValues(c.PathValues())
	if read.serve(other, p) != nil {
		return nil, ""
	}
	return said.doc.Bytes(), siteIn(said.doc.Bytes())
}

// entered lists the fields that a person enters of what stands at the path of a call.
func (a *api) entered(r route) []string {
	in := r.in
	if in == nil {
		in = a.edits[r.path]
	}
	if in == nil {
		return nil
	}
	return append(fields(reflect.TypeOf(in)), "id")
}

// siteIn is the code of the site that a document says that it belongs to, or is about.
func siteIn(doc []byte) string {
	var one struct {
		Site string `json:"site"`
		Code string `json:"code"`
	}
	_ = json.Unmarshal(doc, &one)
	return cmp.Or(one.Site, one.Code)
}

// only keeps some fields of a document, and masks what is secret.
func only(doc []byte, names []string) json.RawMessage {
	var all map[string]any
	if len(names) == 0 || json.Unmarshal(doc, &all) != nil {
		return nil
	}
	for name := range all {
		if !slices.Contains(names, name) {
			delete(all, name)
		}
	}
	if len(all) == 0 {
		return nil
	}
	out, _ := json.Marshal(masked(all))
	return out
}

// secret are the fields whose values are never written down.
var secret = regexp.MustCompile(`(?i)^(old|auth|url|community)$|secret|password|token|private|_key$|^key$`)

// mask stands where something secret was.
const mask = "•••"

func masked(v any) any {
	switch v := v.(type) {
	case map[string]any:
		for name, one := range v {
			if secret.MatchString(name) && one != nil && one != "" {
				v[name] = mask
			} else {
				v[name] = masked(one)
			}
		}
	case []any:
		for i := range v {
			v[i] = masked(v[i])
		}
	}
	return v
}

// differing drops the fields that are the same in two documents. Where one of them is missing, the other is returned as it is.
func differing(before, after json.RawMessage) (json.RawMessage, json.RawMessage) {
	var was, is map[string]json.RawMessage
	if json.Unmarshal(before, &was) != nil || json.Unmarshal(after, &is) != nil {
		return before, after
	}
	for name, v := range was {
		if other, there := is[name]; there && bytes.Equal(v, other) {
			delete(was, name)
			delete(is, name)
		}
	}
	before, _ = json.Marshal(was)
	after, _ = json.Marshal(is)
	return before, after
}

// overheard passes a response on, and keeps the beginning of it.
type overheard struct {
	http.ResponseWriter
	status int
	doc    bytes.Buffer
}

// WriteHeader implements http.ResponseWriter.
func (o *overheard) WriteHeader(status int) {
	o.status = status
	o.ResponseWriter.WriteHeader(status)
}

// Write implements http.ResponseWriter.
func (o *overheard) Write(b []byte) (int, error) {
	o.doc.Write(b[:min(len(b), remembered-o.doc.Len())])
	return o.ResponseWriter.Write(b)
}

// Unwrap lets http.ResponseController and Echo reach what is below.
func (o *overheard) Unwrap() http.ResponseWriter { return o.ResponseWriter }

// nowhere is a response that nobody reads.
type nowhere struct{ header http.Header }

func (n nowhere) Header() http.Header       { return n.header }
func (nowhere) WriteHeader(int)             {}
func (nowhere) Write(b []byte) (int, error) { return len(b), nil }
