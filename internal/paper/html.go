package paper

import (
	_ "embed"
	"encoding/base64"
	"html/template"
	"io"

	"rsc.io/qr"

	"inkpost.example/inkpost/internal/core/sheet"
)

//go:embed sheet.html
var page string

var printed = template.Must(template.New("sheet").Parse(page))

// asHTML prints a sheet that reads on a screen, prints on paper, and asks nothing of the network.
func asHTML(w io.Writer, s sheet.Sheet, h Head) error {
	code := template.URL("")
	if s.URL != "" {
		png, err := codeOf(s.URL)
		if err != nil {
			return err
		}
		code = template.URL("data:image/png;base64," + base64.StdEncoding.EncodeToString(png.PNG()))
	}
	return printed.Execute(w, struct {
		sheet.Sheet
		Head     Head
		Line     string
		Since    string
		QR       template.URL
		Sections []sheet.Section
	}{s, h, h.Line(s), h.since(), code, s.Sections()})
}

// codeOf is a QR code of a URL.
func codeOf(url string) (*qr.Code, error) {
	c, err := qr.Encode(url, qr.M)
	if err == nil {
		c.Scale = 4
	}
	return c, err
}
