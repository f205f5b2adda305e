// Command shoot takes the pictures in docs/screenshots: it runs a demo of its own, makes something happen in it, and takes
// each page in headless Chromium and each main command in a terminal window under Xvfb.
package main

import (
	"context"
	"fmt"
	"log"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/chromedp/chromedp"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	corefault "inkpost.example/inkpost/internal/core/fault"
	"inkpost.example/inkpost/internal/demo"
	"inkpost.example/inkpost/internal/testbed/chromium"
	"inkpost.example/inkpost/web"
)

func main() {
	if err := run(); err != nil {
		log.Fatal(err)
	}
}

func run() error {
	out, only := "docs/screenshots", ""
	if len(os.Args) > 1 {
		out = os.Args[1]
	}
	if len(os.Args) > 2 {
		only = os.Args[2]
	}
	ctx := context.Background()
	dir, err := os.MkdirTemp("", "inkpost-shoot-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	d, err := demo.Start(ctx, demo.Options{Dir: dir, HTTP: "127.0.0.1:8460", DNS: "127.0.0.1:8453", Redirect: "127.0.0.1:8480",
		STUN: "127.0.0.1:8478", Console: web.Console(), Log: slog.New(slog.DiscardHandler), Say: os.Stderr})
	if err != nil {
		return err
	}
	defer d.Stop()
	c, err := client.New(d.URL, d.Key)
	if err != nil {
		return err
	}
	visit, err := c.SignIn(ctx, d.Owner, d.Password)
	if err != nil {
		return err
	}
	const password = "slipway-gannet-kettle"
	if err := visit.SetPassword(ctx, password); err != nil {
		return err
	}
	fault, err := events(ctx, c)
	if err != nil {
		return err
	}
	if err := install(ctx, d, c); err != nil {
		return err
	}
	if only != "terminal" {
		if err := pages(ctx, d, c, password, fault, out); err != nil {
			return err
		}
	}
	if only != "pages" {
		return terminal(d, fault, out)
	}
	return nil
}

// events makes something happen: a move, a forward that is gone, a service that stopped, a door that must be closed. It returns the fault
// of the forward, which somebody takes up.
func events(ctx context.Context, c *client.Client) (int64, error) {
	time.Sleep(8 * time.Second)
	for _, step := range []func() error{
		func() error { _, err := c.Renumber(ctx, "KET-07", "main"); return err },
		func() error { time.Sleep(4 * time.Second); return nil }, // the services answer at the new address first
		func() error { return c.SetLabForward(ctx, "KET-07", "playback", false) },
		func() error { return c.SetLabPrimary(ctx, false) },
		func() error { _, err := c.Renumber(ctx, "FER-11", "main"); return err },
	} {
		if err := step(); err != nil {
			return 0, err
		}
	}
	time.Sleep(45 * time.Second) // until the move has settled and every failure is confirmed
	list, err := c.Faults(ctx, "KET-07", true)
	if err != nil || len(list) == 0 {
		return 0, fmt.Errorf("the fault of KET-07: %w", err)
	}
	id, yes, whose := list[0].ID, true, "field technician"
	if _, err := c.TakeFault(ctx, id, contract.FaultTaking{Acknowledged: &yes, Assigned: &whose}); err != nil {
		return 0, err
	}
	if _, err := c.NoteFault(ctx, id, "The museum had its router replaced this morning"); err != nil {
		return 0, err
	}
	_, err = c.PlanWork(ctx, contract.PlannedWorkInput{Scope: corefault.Scope{Provider: "Kettle Cable"}, Starts: time.Now().AddDate(0, 0,
		6),
		Minutes: 240, Zone: "Europe/London", Repeats: corefault.Weekly, Reason: "the provider works on its core"})
	return id, err
}

func pages(ctx context.Context, d *demo.Demo, c *client.Client, password string, fault int64, out string) error {
	tab, end, err := chromium.Start(ctx)
	if err != nil {
		return err
	}
	defer end()
	if err := chromedp.Do(tab,
		chromedp.Navigate(d.URL),
		chromedp.WaitVisible(`input[name="password"]`),
		chromedp.SendKeys(`input[name="name"]`, d.Owner),
		chromedp.SendKeys(`input[name="password"]`, password+"\r"),
		chromedp.WaitVisible(`[data-site="KET-07"]`),
		chromedp.Sleep(time.Second),
		shot(filepath.Join(out, "console-first-page.png")),
		chromedp.Navigate(d.URL+"/sites/KET-07"),
		chromedp.WaitVisible(`[data-outcome="answered"]`),
		chromedp.Sleep(2*time.Second),
		shot(filepath.Join(out, "console-site.png")),
		chromedp.Click(`//*[@data-weighed="playback"]//button`),
		chromedp.WaitVisible(`[data-weighed="playback"] [data-cause]`),
		chromedp.ScrollIntoView(`[data-service="playback"]`),
		chromedp.Sleep(500*time.Millisecond),
		shot(filepath.Join(out, "console-why.png")),
		chromedp.Navigate(d.URL+"/names"),
		chromedp.WaitVisible(`[data-line="museum.isles.saltmarsh.example"]`),
		chromedp.Sleep(time.Second),
		shot(filepath.Join(out, "console-names.png")),
		chromedp.Navigate(d.URL+"/moves?site=KET-07"),
		chromedp.WaitVisible(`[data-move]`),
		chromedp.Sleep(time.Second),
		shot(filepath.Join(out, "console-moves-page.png")),
		chromedp.Navigate(d.URL+"/sites/SCH-04/services/vpn"),
		chromedp.WaitVisible(`[data-service="vpn"][data-outcome="answered"]`),
		chromedp.WaitVisible(`[data-window]`),
		chromedp.Sleep(time.Second),
		shot(filepath.Join(out, "console-service.png")),
		chromedp.Navigate(d.URL+"/vantages"),
		chromedp.WaitVisible(`[data-vantage="harbour"]`),
		chromedp.Sleep(time.Second),
		shot(filepath.Join(d.Dir, "vantages.png")),
		chromedp.Navigate(d.URL+"/people"),
		chromedp.WaitVisible(`[data-line="dispatch"]`),
		shot(filepath.Join(d.Dir, "people.png")),
		chromedp.Navigate(d.URL+"/audit"),
		chromedp.WaitVisible(`[data-act]`),
		shot(filepath.Join(d.Dir, "audit.png")),
		chromedp.Navigate(d.URL+"/settings"),
		chromedp.Click(`//button[normalize-space()="Look now"]`),
		chromedp.WaitVisible(`[data-looked]`),
		shot(filepath.Join(d.Dir, "settings.png")),
		chromedp.Navigate(d.URL+"/causes"),
		chromedp.WaitVisible(`#causes [data-cause]`),
		chromedp.Sleep(time.Second),
		shot(filepath.Join(out, "console-causes.png")),
		chromedp.Navigate(fmt.Sprintf("%s/faults/%d", d.URL, fault)),
		chromedp.WaitVisible(`#timeline [data-event="noted"]`),
		chromedp.Sleep(time.Second),
		shot(filepath.Join(out, "console-fault.png")),
		chromedp.Navigate(d.URL+"/notices"),
		chromedp.WaitVisible(`#log [data-notice]`),
		chromedp.Sleep(time.Second),
		shot(filepath.Join(out, "console-notices.png")),
	); err != nil {
		return fmt.Errorf("pages: %w", err)
	}
	if err := beside(filepath.Join(out, "console-people.png"), filepath.Join(d.Dir, "people.png"), filepath.Join(d.Dir, "audit.png"),
		filepath.Join(d.Dir, "vantages.png"), filepath.Join(d.Dir, "settings.png")); err != nil {
		return err
	}
	if err := phones(ctx, tab, d, c, out); err != nil {
		return fmt.Errorf("phones: %w", err)
	}
	return papers(ctx, tab, d, c, out)
}

func shot(file string) chromedp.Action[chromedp.Void] {
	take := chromedp.CaptureScreenshot()
	return func(ctx context.Context, t *chromedp.Target) (v chromedp.Void, err error) {
		png, err := take(ctx, t)
		if err != nil {
			return v, err
		}
		return v, os.WriteFile(file, png, 0o644)
	}
}

func terminal(d *demo.Demo, fault int64, out string) error {
	self, err := filepath.Abs("bin/inkpost")
	if err != nil {
		return err
	}
	const display = ":93"
	x := exec.Command("Xvfb", display, "-screen", "0", "1280x800x24", "-nolisten", "tcp")
	if err := x.Start(); err != nil {
		return err
	}
	defer func() { _ = x.Process.Kill(); _ = x.Wait() }()
	time.Sleep(time.Second)
	for name, commands := range map[string][]string{
		"cli-notices": {fmt.Sprintf("fault show %d", fault), "planned list", "notice rule list", "notice log --limit 6",
			"notice test --person dispatch"},
		"cli-overview": {"overview"},
		"cli-why":      {"why KET-07"},
		"cli-moves": {"moves --limit 8", "service list KET-07", "probe KET-07 playback", "hostname list --site KET-07",
			"link show SCH-04 main"},
		"cli-proven": {"vantage list", "probe CLI-05 appointments --from harbour", "probe BIR-08 beacon",
			"service card OYS-03 tank-page", "service availability KET-07 playback"},
		"cli-commission": {"commission list", "commission show KET-07", "kit list", "kit show video-recorder", "contact list KET-07",
			"sheet list KET-07", "agent lan KET-07"},
		"cli-zones": {"zone list", "zone pushes quay.saltmarsh.example", "alias list", "redirect list",
			"hostname check fähre.isles.saltmarsh.example", "zone export quay.saltmarsh.example"},
	} {
		var script strings.Builder
		for _, c := range commands {
			fmt.Fprintf(&script, "echo '$ inkpost %s'; %s %s; echo; ", c, self, c)
		}
		script.WriteString("sleep 20")
		term := exec.Command("xterm", "-fa", "DejaVu Sans Mono", "-fs", "7", "-geometry", "200x70+0+0", "-bg", "white", "-fg",
			"#0E1B2C", "-e", "sh", "-c", script.String())
		term.Env = append(os.Environ(), "DISPLAY="+display, "INKPOST_SERVER="+d.URL, "INKPOST_KEY="+d.Key, "LC_ALL=C.UTF-8")
		if err := term.Start(); err != nil {
			return err
		}
		time.Sleep(4 * time.Second)
		grab := exec.Command("import", "-window", "root", filepath.Join(out, name+".png"))
		grab.Env = append(os.Environ(), "DISPLAY="+display)
		said, err := grab.CombinedOutput()
		_ = term.Process.Kill()
		_ = term.Wait()
		if err != nil {
			return fmt.Errorf("take %s: %w: %s", name, err, said)
		}
	}
	return nil
}
