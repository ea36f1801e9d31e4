// Package browser drives Debian's Chromium for pictures and tests of the
// console, against loopback alone.
package browser

import (
	"context"
	"fmt"
	"os"
	"time"

	"github.com/chromedp/chromedp"
)

// Path is where Debian's package puts the browser.
const Path = "/usr/lib/chromium/chromium"

// Start starts a headless browser with a window of the given size in pixels.
// The context that it returns is for [chromedp.Run] and friends; stop ends the
// browser.
func Start(ctx context.Context, width, height int) (tab context.Context, stop func(), err error) {
	if _, err := os.Stat(Path); err != nil {
		return nil, nil, fmt.Errorf("chromium is not installed; on Debian: apt-get install chromium: %w", err)
	}
	options := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath(Path), chromedp.WindowSize(width, height), chromedp.NoSandbox,
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-domain-reliability", true),
		chromedp.Flag("log-level", "3"), chromedp.Flag("force-color-profile", "srgb"), chromedp.Flag("hide-scrollbars", true),
		chromedp.Flag("host-resolver-rules", "MAP * ~NOTFOUND, EXCLUDE 127.0.0.1, EXCLUDE localhost"),
		chromedp.WSURLReadTimeout(60*time.Second),
	)
	allocator, endAllocator := chromedp.NewExecAllocator(ctx, options...)
	tab, endTab := chromedp.NewContext(allocator)
	stop = func() {
		endTab()
		endAllocator()
	}
	// The browser lives as long as the context of the first call: not a limited one.
	if err := chromedp.Do(tab); err != nil {
		stop()
		return nil, nil, fmt.Errorf("start %s: %w", Path, err)
	}
	return tab, stop, nil
}

// Do does the actions in the tab, for a minute at most: an element that never
// comes is an error, not a test that hangs.
func Do(tab context.Context, actions ...chromedp.Action[chromedp.Void]) error {
	ctx, cancel := context.WithTimeout(tab, time.Minute)
	defer cancel()
	return chromedp.Do(ctx, actions...)
}

// Button clicks the button that shows the text, once there is an enabled one.
func Button(tab context.Context, text string) error {
	found := fmt.Sprintf(`[...document.querySelectorAll('button')].find(b => !b.disabled && b.textContent.trim().startsWith(%q))`, text)
	if err := Until(tab, found+` !== undefined`); err != nil {
		return fmt.Errorf("the button %q does not appear: %w", text, err)
	}
	return Do(tab, chromedp.Evaluate[chromedp.Void](found+`.click()`))
}

// Until waits until the JavaScript expression is true.
func Until(tab context.Context, expression string) error {
	_, err := chromedp.Run(tab, chromedp.Poll[bool](expression, chromedp.WithPollingInterval(50*time.Millisecond), chromedp.WithPollingTimeout(40*time.Second)))
	if err != nil {
		return fmt.Errorf("waiting for %s: %w", expression, err)
	}
	return nil
}

// SignIn opens the console and signs in with the token.
func SignIn(tab context.Context, url, token string) error {
	return Do(tab, chromedp.Navigate(url), chromedp.WaitVisible("input[type=password]"),
		chromedp.SendKeys("input[type=password]", token+"\n"), chromedp.WaitVisible(".bar"))
}
