// Package browser starts headless Chromium for tests and pictures.
package browser

import (
	"context"

	"github.com/chromedp/chromedp"

	"metaplasis/internal/viewer"
)

// New starts a browser with one tab.
func New(parent context.Context, more ...chromedp.ExecAllocatorOption) (context.Context, context.CancelFunc) {
	return viewer.New(parent, more...)
}

// WithCamera gives a browser a made-up camera and microphone, which pages may use without asking, and lets WebRTC
// connect on loopback.
func WithCamera() []chromedp.ExecAllocatorOption {
	return []chromedp.ExecAllocatorOption{
		chromedp.Flag("use-fake-device-for-media-stream", true), chromedp.Flag("use-fake-ui-for-media-stream", true),
		chromedp.Flag("allow-loopback-in-peer-connection", true), chromedp.Flag("disable-features", "WebRtcHideLocalIpsWithMdns"),
	}
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
