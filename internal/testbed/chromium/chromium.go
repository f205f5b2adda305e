// Package chromium starts Debian's headless Chromium. It is the program that has no windows at all: one that only hides them takes a third
// more of a processor.
package chromium

import (
	"context"
	"fmt"
	"os/exec"

	"github.com/chromedp/chromedp"
)

// Start starts a browser whose tabs are 1280 by 800 pixels large, and opens the first tab. It asks nothing of the network by itself. end
// closes it. Error: it is not installed, it does not come up.
func Start(ctx context.Context) (tab context.Context, end func(), err error) {
	path, err := exec.LookPath("chromium-headless-shell")
	if err != nil {
		return nil, nil, fmt.Errorf("chromium-headless-shell is needed, as make install-test installs it: %w", err)
	}
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(path), chromedp.NoSandbox, chromedp.WindowSize(1280, 800),
		chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update", true),
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-sync", true))
	alloc, stop := chromedp.NewExecAllocator(ctx, options...)
	tab, closed := chromedp.NewContext(alloc)
	end = func() { closed(); stop() }
	if err := chromedp.Do(tab, chromedp.EmulateViewport(1280, 800)); err != nil {
		end()
		return nil, nil, fmt.Errorf("start Chromium: %w", err)
	}
	return tab, end, nil
}
