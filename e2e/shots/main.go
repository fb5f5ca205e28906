// Command shots takes pictures of a running service's pages in headless Chromium, for the docs
// and for whoever wants to look at a change.
//
//	shots -base http://127.0.0.1:8780 -user admin -password … -out docs/screenshots [page …]
//
// A page is NAME=PATH[,WIDTHxHEIGHT][,dark], such as channel=/#/channels/start-line,1280x800.
package main

import (
	"context"
	"flag"
	"fmt"
	"log"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/chromedp/chromedp"

	"metaplasis/e2e/browser"
)

func main() {
	base := flag.String("base", "http://127.0.0.1:8780", "address of the service")
	user := flag.String("user", "admin", "user to sign in as")
	password := flag.String("password", "", "password; without it nobody signs in")
	out := flag.String("out", "docs/screenshots", "folder for the pictures")
	settle := flag.Duration("settle", 6*time.Second, "how long a page may settle before its picture is taken")
	click := flag.String("click", "", "selector of what to click when the page has settled")
	then := flag.Duration("then", time.Second, "how long to wait behind the click")
	flag.Parse()
	ctx, stop := browser.New(context.Background())
	defer stop()
	if *password != "" {
		if err := browser.SignIn(ctx, *base, *user, *password); err != nil {
			log.Fatal(err)
		}
	}
	for _, arg := range flag.Args() {
		if err := shoot(ctx, *base, arg, *out, *settle, *click, *then); err != nil {
			log.Fatal(err)
		}
	}
}

func shoot(ctx context.Context, base, arg, out string, settle time.Duration, click string, then time.Duration) error {
	name, rest, _ := strings.Cut(arg, "=")
	path, options, _ := strings.Cut(rest, ",")
	width, height, theme := int64(1280), int64(800), "day"
	for o := range strings.SplitSeq(options, ",") {
		if o == "dark" {
			theme = "night"
		} else if strings.Contains(o, "x") {
			if _, err := fmt.Sscanf(o, "%dx%d", &width, &height); err != nil {
				return fmt.Errorf("size %q: %w", o, err)
			}
		}
	}
	err := chromedp.Do(ctx,
		chromedp.EmulateViewport(width, height),
		chromedp.Navigate("about:blank"),
		chromedp.Navigate(base+path),
		chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`localStorage.setItem("theme", %q); document.documentElement.dataset.theme = %q`, theme, theme)),
		chromedp.Navigate("about:blank"),
		chromedp.Navigate(base+path),
		chromedp.Sleep(settle),
	)
	if err != nil {
		return fmt.Errorf("page %s: %w", path, err)
	}
	if click != "" {
		if err := chromedp.Do(ctx, chromedp.Click(chromedp.CSS(click)), chromedp.Sleep(then)); err != nil {
			return fmt.Errorf("page %s: clicking %s: %w", path, click, err)
		}
	}
	png, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
	if err != nil {
		return fmt.Errorf("picture of %s: %w", path, err)
	}
	return os.WriteFile(filepath.Join(out, name+".png"), png, 0o644)
}
