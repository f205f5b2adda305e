package api

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"reflect"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/labstack/echo/v5"

	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/changes"
)

// maxText bounds every text of a document, in characters; what has a shorter bound of its own is checked where it belongs.
const maxText = 8192

// decode reads a JSON document of a person into v. Fields that are not there keep the value they have in v; read-only ones are passed
// over; unknown ones are refused, as are texts with control characters.
func decode(c *echo.Context, v any) error {
	doc, err := body(c)
	if err != nil {
		return err
	}
	return read(writable(c, doc), v)
}

// decodeReport reads a JSON document of an agent or a vantage point into v. What devices and routers said stands in it: control
// characters, which could steer a terminal, are replaced.
func decodeReport(c *echo.Context, v any) error {
	doc, err := body(c)
	if err != nil {
		return err
	}
	if err := parse(doc, v); err != nil {
		return err
	}
	return texts(reflect.ValueOf(v).Elem(), "", func(field, s string) (string, error) {
		if n := utf8.RuneCountInString(s); n > maxText {
			return s, site.Flaws{{Field: field, Detail: fmt.Sprintf("has %d characters; %d are allowed", n, maxText)}}
		}
		return clean(s), nil
	})
}

// merge returns the edit that a PATCH asks for: its fields over what is there when the edit is carried out. The document is read whole
// before anybody waits for it.
func merge[T any](c *echo.Context) (changes.Merge[T], error) {
	doc, err := body(c)
	if err != nil {
		return nil, err
	}
	doc = writable(c, doc)
	var blank T
	if err := read(doc, &blank); err != nil {
		return nil, err
	}
	return func(v *T) error { return read(doc, v) }, nil
}

// body reads a document whole.
func body(c *echo.Context) ([]byte, error) {
	if kind, _, err := mime.ParseMediaType(c.Request().Header.Get("Content-Type")); err != nil || kind != "application/json" {
		return nil, problemOf(http.StatusUnsupportedMediaType, "not-json", "send the document as Content-Type: application/json")
	}
	doc, err := io.ReadAll(c.Request().Body)
	var tooLarge *http.MaxBytesError
	switch {
	case err == nil:
		c.Set(bodyKey, doc)
		return doc, nil
	case errors.As(err, &tooLarge), errors.Is(err, echo.ErrStatusRequestEntityTooLarge):
		return nil, err
	}
	return nil, problemOf(http.StatusRequestTimeout, "not-received", "the document did not arrive whole in time; send it again")
}

// read reads a person's document into v.
func read(doc []byte, v any) error {
	if err := parse(doc, v); err != nil {
		return err
	}
	return texts(reflect.ValueOf(v).Elem(), "", func(field, s string) (string, error) {
		switch {
		case utf8.RuneCountInString(s) > maxText:
			return s, site.Flaws{{Field: field, Detail: fmt.Sprintf("has %d characters; %d are allowed", utf8.RuneCountInString(s),
				maxText)}}
		case strings.IndexFunc(s, unprintable) >= 0:
			return s, site.Flaws{{Field: field, Detail: "contains a control character, which is not allowed"}}
		}
		return s, nil
	})
}

func parse(doc []byte, v any) error {
	d := json.NewDecoder(bytes.NewReader(doc))
	d.DisallowUnknownFields()
	err := d.Decode(v)
	if err == nil {
		if _, more := d.Token(); more != io.EOF {
			err = errors.New("unexpected data after the JSON document")
		}
	}
	var wrongType *json.UnmarshalTypeError
	switch {
	case err == nil:
		return nil
	case errors.As(err, &wrongType):
		flaw := site.Flaw{Field: wrongType.Field, Detail: wrongKind(wrongType.Value, wrongType.Type)}
		return problemOf(http.StatusUnprocessableEntity, "not-valid", flaw.Field+": "+flaw.Detail, flaw)
	}
	return problemOf(http.StatusBadRequest, "not-readable", "the document cannot be read: "+strings.TrimPrefix(err.Error(), "json: "))
}

// unprintable reports what a terminal or a database could take for more than text. Lines and tabs are text.
func unprintable(r rune) bool {
	return r != '\n' && r != '\t' && (unicode.IsControl(r) || r == utf8.RuneError || unicode.Is(unicode.Cf, r) && r != '\u200c' &&
		r != '\u200d')
}

// clean replaces unprintable characters.
func clean(s string) string {
	if strings.IndexFunc(s, unprintable) < 0 && utf8.ValidString(s) {
		return s
	}
	return strings.Map(func(r rune) rune {
		if unprintable(r) {
			return utf8.RuneError
		}
		return r
	}, s)
}

// texts passes every text in a document to f, which may change it, with the path of its field.
func texts(v reflect.Value, path string, f func(field, s string) (string, error)) error {
	switch v.Kind() {
	case reflect.String:
		s, err := f(path, v.String())
		if err == nil && v.CanSet() && s != v.String() {
			v.SetString(s)
		}
		return err
	case reflect.Pointer:
		if v.IsNil() {
			return nil
		}
		return texts(v.Elem(), path, f)
	case reflect.Slice, reflect.Array:
		for i := range v.Len() {
			if err := texts(v.Index(i), fmt.Sprintf("%s[%d]", path, i), f); err != nil {
				return err
			}
		}
	case reflect.Struct:
		for i := range v.NumField() {
			field := v.Type().Field(i)
			if !field.IsExported() {
				continue
			}
			at := path
			if name, _, _ := strings.Cut(field.Tag.Get("json"), ","); name != "" && name != "-" && !field.Anonymous {
				at = strings.TrimPrefix(path+"."+name, ".")
			}
			if err := texts(v.Field(i), at, f); err != nil {
				return err
			}
		}
	}
	return nil
}
