// Package browser starts headless Chromium for tests and pictures.
package browser

import (
	"context"

	"github.com/chromedp/chromedp"

	"metaplasis/internal/viewer"
)

// New starts a browser with one tab.
func New(parent context.Context) (context.Context, context.CancelFunc) { return viewer.New(parent) }

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
