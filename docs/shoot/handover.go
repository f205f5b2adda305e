package main

import (
	"context"
	"encoding/base64"
	"fmt"
	"io"
	"mime/quotedprintable"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/chromedp/chromedp"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/commission"
	"inkpost.example/inkpost/internal/demo"
)

// install has a new device at KET-07 half commissioned, with what stands on the sheet.
func install(ctx context.Context, d *demo.Demo, c *client.Client) error {
	at := d.World.Where("KET-07", "door-phone")
	for _, step := range []func() error{
		func() error {
			_, err := c.EditSite(ctx, "KET-07", client.Fields{"router": "Kettle Cable K3, in the hall cupboard"})
			return err
		},
		func() error {
			_, err := c.EditLink(ctx, "KET-07", "main", client.Fields{"contract": "KC-204-771"})
			return err
		},
		func() error {
			_, err := c.AddContact(ctx, "KET-07", contract.ContactInput{Role: "key holder", Name: "Harbour office", Phone: "01632 960007"})
			return err
		},
		func() error {
			_, err := c.AddContact(ctx, "KET-07", contract.ContactInput{Role: "provider", Name: "Kettle Cable support",
				Phone: "01632 960100",
				Note:  "asks for the contract number"})
			return err
		},
		func() error {
			_, err := c.AddSiteNote(ctx, "KET-07", "Replaced the recorder's disk; the router hums")
			return err
		},
		func() error { _, err := c.KeepSheet(ctx, "KET-07", "hand-over"); return err },
		func() error {
			_, err := c.AddDevice(ctx, "KET-07", contract.DeviceInput{Name: "door-phone", MAC: "02:00:5e:07:00:03", Address: at.String()})
			return err
		},
		func() error {
			_, err := c.AddService(ctx, "KET-07", contract.ServiceInput{Name: "door-view", Device: "door-phone", Kind: "http",
				External: "8090", Internal: "10080", Interval: 10})
			return err
		},
		func() error { _, err := c.Commission(ctx, "KET-07", contract.CommissioningInput{}); return err },
		func() error {
			time.Sleep(8 * time.Second) // it is looked at, inside and outside
			_, err := c.AnswerStep(ctx, "KET-07", contract.CommissioningAnswer{Step: commission.Reserved, Subject: "device door-phone",
				State: commission.Done})
			return err
		},
	} {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}

// phones takes pages at 390 px, beside each other.
func phones(ctx context.Context, tab context.Context, d *demo.Demo, c *client.Client, out string) error {
	link, err := c.ShareSheet(ctx, "KET-07", contract.SheetLinkInput{Whose: "Museum keeper"})
	if err != nil {
		return err
	}
	secret := link.URL[strings.Index(link.URL, "/handover/"):]
	var files []string
	part := func(name string) string {
		files = append(files, filepath.Join(d.Dir, name+".png"))
		return files[len(files)-1]
	}
	bounded, cancel := context.WithTimeout(tab, time.Minute)
	defer cancel()
	if err := chromedp.Do(bounded,
		chromedp.EmulateViewport(390, 844),
		chromedp.Navigate(d.URL+"/sites/KET-07"),
		chromedp.WaitVisible(`[data-outcome="answered"]`),
		chromedp.Sleep(2*time.Second),
		shot(part("phone-site")),
		chromedp.Navigate(d.URL+"/sites/KET-07/commissioning"),
		chromedp.WaitVisible(`[data-step="forward"][data-state="waiting"]`),
		chromedp.ScrollIntoView(`[data-step="before"]`),
		chromedp.Sleep(time.Second),
		shot(part("phone-commissioning")),
		chromedp.Navigate(d.URL+secret),
		chromedp.Sleep(time.Second), // it has no script, and is there at once
		shot(part("phone-sheet")),
	); err != nil {
		text, _ := chromedp.Run(tab, chromedp.Evaluate[string](`document.body.innerText`))
		return fmt.Errorf("%w; the page says:\n%s", err, text)
	}
	return beside(filepath.Join(out, "console-phones.png"), files...)
}

// papers takes what is printed and sent: the sheet as PDF and as HTML, and a mail.
func papers(ctx context.Context, tab context.Context, d *demo.Demo, c *client.Client, out string) error {
	file := func(name string) string { return filepath.Join(d.Dir, name) }
	for name, format := range map[string]string{"sheet.pdf": "pdf", "sheet.html": "html"} {
		f, err := os.Create(file(name))
		if err != nil {
			return err
		}
		if err := c.PrintSheet(ctx, "KET-07", 0, format, f); err != nil {
			return err
		}
		if err := f.Close(); err != nil {
			return err
		}
	}
	said, err := exec.CommandContext(ctx, "gs", "-q", "-dNOPAUSE", "-dBATCH", "-dLastPage=1", "-sDEVICE=png16m", "-r86",
		"-dTextAlphaBits=4", "-dGraphicsAlphaBits=4", "-sOutputFile="+file("pdf.png"), file("sheet.pdf")).CombinedOutput()
	if err != nil {
		return fmt.Errorf("draw the PDF: %w: %s", err, said)
	}
	kept := d.Mail.Kept()
	if len(kept) == 0 {
		return fmt.Errorf("no mail was sent")
	}
	if err := os.WriteFile(file("mail.html"), []byte(htmlOf(string(kept[len(kept)-1].Raw))), 0o600); err != nil {
		return err
	}
	if err := chromedp.Do(tab,
		chromedp.EmulateViewport(760, 1006),
		chromedp.Navigate("file://"+file("sheet.html")),
		chromedp.Sleep(500*time.Millisecond),
		shot(file("html.png")),
		chromedp.EmulateViewport(560, 1006),
		chromedp.Navigate("file://"+file("mail.html")),
		chromedp.Sleep(500*time.Millisecond),
		shot(file("mail.png")),
	); err != nil {
		return err
	}
	return beside(filepath.Join(out, "papers.png"), file("pdf.png"), file("html.png"), file("mail.png"))
}

// htmlOf is the HTML part of a mail, which is in base64 or quoted-printable.
func htmlOf(raw string) string {
	_, part, _ := strings.Cut(raw, "text/html")
	head, body, _ := strings.Cut(part, "\r\n\r\n")
	body, _, _ = strings.Cut(body, "\r\n--")
	if strings.Contains(head, "base64") {
		if text, err := base64.StdEncoding.DecodeString(strings.ReplaceAll(body, "\r\n", "")); err == nil {
			return string(text)
		}
	}
	text, err := io.ReadAll(quotedprintable.NewReader(strings.NewReader(body)))
	if err != nil {
		return body
	}
	return string(text)
}

// beside puts pictures beside each other.
func beside(out string, files ...string) error {
	said, err := exec.Command("convert", append(append([]string{"-background", "#EBEEF1", "-bordercolor", "#EBEEF1", "-border", "6"},
		files...),
		"+append", out)...).CombinedOutput()
	if err != nil {
		return fmt.Errorf("put pictures beside each other: %w: %s", err, said)
	}
	return nil
}
