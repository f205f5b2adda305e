package mail

import (
	"html/template"
	"strconv"
	"strings"

	"inkpost.example/inkpost/internal/core/notice"
)

// Letter is a notice as a mail.
type Letter struct{ Text, HTML string }

// Write writes a notice as a mail: the next step first, readable on a phone and in black. console is where the console is, "" if it has no
// address of its own. Error: that of the template.
func Write(c notice.Content, console string) (Letter, error) {
	console = strings.TrimSuffix(console, "/")
	var text strings.Builder
	para := func(s string) {
		if s != "" {
			text.WriteString(s + "\n\n")
		}
	}
	para(c.Next)
	para(sentence(c.Summary))
	for _, l := range c.Lines {
		text.WriteString(prefix(l) + l.Text + "\n")
	}
	for _, p := range c.Parts {
		text.WriteString("\n- " + p.Subject + "\n")
		if p.Next != "" && p.What != notice.Over {
			text.WriteString("  " + p.Next + "\n")
		}
		if link := link(p, console); link != "" {
			text.WriteString("  " + link + "\n")
		}
	}
	if link := link(c, console); link != "" {
		text.WriteString("\n" + link + "\n")
	}
	var page strings.Builder
	err := letterPage.Execute(&page, struct {
		notice.Content
		Link, Why string
		Console   string
		LinkOf    func(notice.Content) string
	}{c, link(c, console), why(c, console), console, func(p notice.Content) string { return link(p, console) }})
	return Letter{Text: strings.ReplaceAll(text.String(), "\n\n\n", "\n\n"), HTML: page.String()}, err
}

func prefix(l notice.Line) string {
	if l.Name == "" {
		return "      "
	}
	return l.Name + ": "
}

func sentence(s string) string {
	if s == "" || strings.HasSuffix(s, ".") {
		return s
	}
	return s + "."
}

// link is the page of what a notice is about.
func link(c notice.Content, console string) string {
	switch {
	case console == "":
		return ""
	case c.FaultID != 0:
		return console + "/faults/" + strconv.FormatInt(c.FaultID, 10)
	case c.Site != "":
		return console + "/sites/" + c.Site
	}
	return console + "/"
}

// why is the page of the cause.
func why(c notice.Content, console string) string {
	if console == "" || c.Cause == "" {
		return ""
	}
	return console + "/causes/" + c.Cause
}

// letterPage has all of its styles inline: mail programs drop the rest. Colour says nothing that the words do not.
var letterPage = template.Must(template.New("letter").Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width,
	initial-scale=1"><title>{{.Subject}}</title></head>
<body style="margin:0;padding:16px;background:#ffffff;color:#0e1b2c;font-family:'IBM Plex
	Sans',Arial,sans-serif;font-size:16px;line-height:1.4">
<div style="max-width:600px;margin:0 auto;border:1px solid #0e1b2c">
<div style="padding:10px 14px;border-bottom:3px solid #0e1b2c">
{{- if .Site}}<span style="font-size:26px;font-weight:bold;letter-spacing:-0.5px">{{.Site}}</span><br>{{end -}}
<span style="font-size:17px;font-weight:bold">{{.Summary}}</span></div>
{{- if .Next}}
<div style="padding:12px 14px;border-bottom:1px solid #0e1b2c"><span style="font-size:12px;color:#556273">Next</span><br>{{.Next}}</div>
{{- end}}
{{- range .Lines}}
<div style="padding:6px 14px;border-bottom:1px solid #c9d1d9"><span style="font-size:12px;color:#556273">{{.Name}}</span>{{if
	.Name}}<br>{{end}}{{.Text}}</div>
{{- end}}
{{- range .Parts}}
<div style="padding:8px 14px;border-bottom:1px solid #c9d1d9"><b>{{.Subject}}</b>{{if and .Next (ne .What "over")}}<br>{{.Next}}{{end}}
{{- with call $.LinkOf .}}<br><a href="{{.}}" style="color:#1d4ed8">Open</a>{{end}}</div>
{{- end}}
{{- if .Link}}
<div style="padding:12px 14px"><a href="{{.Link}}" style="color:#1d4ed8;font-weight:bold">Open in the console</a>
{{- if .Why}} &nbsp; <a href="{{.Why}}" style="color:#1d4ed8">About this cause</a>{{end}}</div>
{{- end}}
</div></body></html>
`))
