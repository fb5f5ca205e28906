package e2e

import (
	"context"
	"fmt"
	"os"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"metaplasis/internal/viewer"
)

func TestDbg(t *testing.T) {
	ctx, stop := viewer.New(context.Background())
	defer stop()
	chromedp.Do(ctx, chromedp.Navigate("about:blank"))
	chromedp.Do(ctx, chromedp.Navigate(os.Getenv("DBG_URL")))
	chromedp.Run(ctx, chromedp.Evaluate[chromedp.Void](`window.errs=[]; window.addEventListener("error",e=>errs.push(String(e.message)+" "+(e.error?.stack||"").slice(0,600))); window.addEventListener("unhandledrejection",e=>errs.push("rej "+String(e.reason)+(e.reason?.stack||"").slice(0,600)));`))
	for i := 0; i < 5; i++ {
		time.Sleep(2 * time.Second)
		s, err := chromedp.Run(ctx, chromedp.Evaluate[string](`JSON.stringify((v=>({t:v?.currentTime, rs:v?.readyState, pb:!!window.playback, msg:window.playback?.message, showing:window.playback?.showing, behind: window.playback?.behind, rec:window.playback?.meter?.recent(), stalls: window.playback?.stalls, err:v?.error?.message, rate:v?.playbackRate}))(document.querySelector("video")))`))
		fmt.Println(s, err)
	}
}
