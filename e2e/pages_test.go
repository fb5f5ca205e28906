package e2e

import (
	"context"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/e2e/browser"
	"metaplasis/internal/camera"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/origin"
)

// setInput types into a field that is found by its label for assistive technology.
func (p *page) setInput(label, value string) {
	p.t.Helper()
	eval[chromedp.Void](p, `(i => { i.value = "`+value+`"; i.dispatchEvent(new Event("input", {bubbles: true})); })(document.querySelector('[aria-label="`+label+`"]'))`)
}

func (p *page) click(text string) {
	p.t.Helper()
	eval[chromedp.Void](p, `[...document.querySelectorAll("button, a")].find(b => b.textContent.trim().startsWith("`+text+`")).click()`)
}

func TestLadderIsEditedInTheConsole(t *testing.T) {
	s := start(t)
	url := s.channel("start-line", origin.Settings{SegmentMillis: 1000}, sourceOnly, ladder.Rung{Name: "180p", On: true, Height: 180, Bitrate: 300_000, Effort: 1})
	s.send(0, camera.Options{URL: url})
	eventually(t, "segments", func() bool { return s.newest("start-line", "180p") >= 0 })
	p := open(t)
	require.NoError(t, browser.SignIn(p.ctx, s.http, "admin", s.password))
	p.do(chromedp.Navigate(s.http + "/#/channels/start-line/ladder"))
	p.until(`document.querySelectorAll("[data-rung]").length === 2`)

	p.setInput("180p height", "181")
	p.click("Apply at the next segment")
	p.until(`document.querySelector("[role=alert]")?.textContent.includes("expected an even number")`)
	l, err := s.api.Ladder(context.Background(), "start-line")
	require.NoError(t, err)
	assert.Equal(t, 180, l.Rungs[1].Height, "nothing was changed")

	p.setInput("180p height", "144")
	p.click("Peak and buffer")
	p.setInput("180p buffer", "500")
	p.setInput("180p audioBitrate", "48")
	p.click("Apply at the next segment")
	p.until(`document.body.innerText.includes("Takes effect at the next segment")`)
	l, err = s.api.Ladder(context.Background(), "start-line")
	require.NoError(t, err)
	assert.Equal(t, ladder.Rung{Name: "180p", On: true, Height: 144, Bitrate: 300_000, Buffer: 500, Effort: 1, AudioBitrate: 48_000}, l.Rungs[1])
	p.until(`[...document.querySelectorAll("td")].some(d => d.textContent === "256×144")`)
	p.until(`[...document.querySelectorAll("td")].some(d => d.textContent === "audio-48k")`)

	p.click("Propose")
	p.until(`document.querySelectorAll("[data-rung]").length === 4`)
	p.click("Discard")
	p.until(`document.querySelectorAll("[data-rung]").length === 2`)
	p.click("Back to the planned ladder")
	p.until(`document.body.innerText.includes("Planned from the source")`)
}

func TestPagesFitAPhoneAndBothThemes(t *testing.T) {
	s := start(t)
	url := s.channel("start-line", origin.Settings{}, sourceOnly)
	s.send(0, camera.Options{URL: url})
	eventually(t, "a feed", func() bool { return s.status("start-line").Feed != nil })
	p := open(t)
	require.NoError(t, browser.SignIn(p.ctx, s.http, "admin", s.password))
	p.do(chromedp.EmulateViewport(390, 844))
	for _, path := range []string{"/#/channels", "/#/channels/start-line/sender", "/#/channels/start-line/ladder", "/#/channels/start-line/addresses", "/#/channels/start-line/settings", "/#/events", "/#/new", "/#/account", "/watch/start-line"} {
		p.do(chromedp.Navigate("about:blank"), chromedp.Navigate(s.http+path))
		p.until(`document.querySelector("h1") !== null`)
		assert.LessOrEqual(t, eval[int](p, "document.documentElement.scrollWidth"), 390, "%s scrolls sideways", path)
	}
	p.do(chromedp.Navigate("about:blank"), chromedp.Navigate(s.http+"/#/channels"))
	p.until(`document.querySelector("[data-channel]") !== null`)
	seen := map[string]bool{}
	for range 2 {
		seen[eval[string](p, `getComputedStyle(document.documentElement).backgroundColor`)] = true
		eval[chromedp.Void](p, `document.querySelector('[aria-label="Switch between light and dark"]').click()`)
	}
	assert.Len(t, seen, 2)
}

func TestConsoleWorksFromTheKeyboard(t *testing.T) {
	s := start(t)
	p := open(t)
	require.NoError(t, browser.SignIn(p.ctx, s.http, "admin", s.password))
	p.do(chromedp.Navigate(s.http + "/#/new"))
	p.until(`document.activeElement?.id === "title"`)
	p.do(chromedp.KeyEvent("Harbour\r"))
	p.until(`location.hash === "#/channels/harbour/sender"`)
	p.until(`document.querySelectorAll("[role=tab]").length === 7`)
	eval[chromedp.Void](p, `document.querySelector('[aria-label="Label of the new key"]').focus()`)
	p.do(chromedp.KeyEvent("truck\r"))
	p.until(`document.querySelector("[data-made-key]") !== null`)
	p.do(chromedp.Navigate(s.http + "/#/events"))
	p.until(`document.body.innerText.includes('The contribution key "truck" was made by admin')`)
	missing := eval[[]string](p, `[...document.querySelectorAll("button, input, select, a")].filter(e => !(e.textContent.trim() || e.getAttribute("aria-label") || e.labels?.length)).map(e => e.outerHTML)`)
	assert.Empty(t, missing, "every control has a name")
	p.click("Sign out")
	p.until(`document.querySelector("#password") !== null`)
}
