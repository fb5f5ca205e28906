// Package browser starts headless Chromium for tests and pictures.
package browser

import (
	"context"

	"github.com/chromedp/chromedp"
)

// New starts a browser with one tab. The flags keep it off the network but for what it is told to
// open, and let video play without a click.
func New(parent context.Context) (context.Context, context.CancelFunc) {
	options := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.NoSandbox, chromedp.DisableGPU,
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true),
		chromedp.Flag("autoplay-policy", "no-user-gesture-required"),
		chromedp.Flag("mute-audio", true),
		chromedp.WindowSize(1280, 800),
	)
	allocator, stopAllocator := chromedp.NewExecAllocator(parent, options...)
	ctx, stop := chromedp.NewContext(allocator)
	return ctx, func() { stop(); stopAllocator() }
}

// SignIn signs in at the console and waits for its first page.
func SignIn(ctx context.Context, base, user, password string) error {
	return chromedp.Do(ctx,
		chromedp.Navigate(base+"/"),
		chromedp.WaitVisible(chromedp.CSS("#password")),
		chromedp.Evaluate[chromedp.Void](`document.querySelector("#user").value = ""`),
		chromedp.SendKeys(chromedp.CSS("#user"), user),
		chromedp.SendKeys(chromedp.CSS("#password"), password+"\r"),
		chromedp.WaitVisible(chromedp.CSS("main")),
	)
}
