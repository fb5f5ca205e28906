package e2e

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"syscall"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/e2e/browser"
	"metaplasis/internal/camera"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/settings"
)

// setInput types into a field that is found by its label for assistive technology.
func (p *page) setInput(label, value string) {
	p.t.Helper()
	eval[chromedp.Void](p, `(i => { i.value = "`+value+`"; i.dispatchEvent(new Event("input", {bubbles: true})); })(document.querySelector('[aria-label="`+label+`"]'))`)
}

// setField types into the field of a form that stands below a label.
func (p *page) setField(label, value string) {
	p.t.Helper()
	find := `[...document.querySelectorAll("label")].find(l => l.textContent.trim().startsWith("` + label + `"))?.querySelector("input")`
	p.until(find + ` !== undefined`)
	eval[chromedp.Void](p, `(i => { i.value = "`+value+`"; i.dispatchEvent(new Event("input", {bubbles: true})); })(`+find+`)`)
}

// click waits for what can be clicked and has a text, and clicks it.
func (p *page) click(text string) {
	p.t.Helper()
	find := `[...document.querySelectorAll("button, a")].find(b => b.textContent.trim().startsWith("` + text + `"))`
	p.until(find + ` !== undefined`)
	eval[chromedp.Void](p, find+`.click()`)
}

func TestLadderIsEditedInTheConsole(t *testing.T) {
	t.Parallel()
	s := start(t)
	url := s.channel("start-line", settings.Settings{Packaging: settings.Packaging{SegmentMillis: 1000}}, sourceOnly, ladder.Rung{Name: "180p", On: true, Height: 180, Bitrate: 300_000, Effort: 1})
	s.send(0, camera.Options{URL: url})
	eventually(t, "segments", func() bool { return s.newest("start-line", "180p") >= 0 })
	p := open(t)
	require.NoError(t, browser.SignIn(p.ctx, s.http, "admin", s.password))
	p.do(chromedp.Navigate(s.http + "/#/channels/start-line/ladder"))
	p.until(`document.querySelectorAll("[data-rung]").length === 2`)

	p.setInput("180p height", "181")
	p.click("Apply at the next segment")
	p.until(`[...document.querySelectorAll("[role=alert]")].some(a => a.textContent.includes("expected an even number"))`)
	l, err := s.api.Ladder(context.Background(), "start-line")
	require.NoError(t, err)
	assert.Equal(t, 180, l.Rungs[1].Height, "nothing was changed")

	p.setInput("180p height", "144")
	eval[chromedp.Void](p, `document.querySelector('[aria-label="All settings of 180p"]').click()`)
	p.until(`document.querySelector("[data-rung-form]") !== null`)
	p.setField("Buffer ms", "500")
	p.setField("Crop left", "3")
	p.click("Apply at the next segment")
	p.until(`document.querySelector("[role=alert]")?.textContent.includes("picture.crop.left")`)
	p.setField("Crop left", "")
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
	p.until(`document.querySelector("[aria-label=Plan]").value === "planned"`)
}

func TestPagesFitAPhoneAndBothThemes(t *testing.T) {
	t.Parallel()
	s := start(t)
	url := s.channel("start-line", settings.Settings{}, sourceOnly)
	s.send(0, camera.Options{URL: url})
	eventually(t, "a feed", func() bool { return s.status("start-line").Feed != nil })
	p := open(t)
	require.NoError(t, browser.SignIn(p.ctx, s.http, "admin", s.password))
	p.do(chromedp.EmulateViewport(390, 844))
	for _, path := range []string{"/#/channels", "/#/channels/start-line/inputs", "/#/channels/start-line/inputs/senders", "/#/channels/start-line/inputs/line", "/#/channels/start-line/ladder", "/#/channels/start-line/ladder/output", "/#/channels/start-line/ladder/compare", "/#/channels/start-line/ladder/trial", "/#/channels/start-line/addresses", "/#/channels/start-line/kept", "/#/channels/start-line/kept/find", "/#/channels/start-line/kept/settings", "/#/channels/start-line/timeline", "/#/channels/start-line/inspector", "/#/channels/start-line/settings", "/#/events", "/#/events/hooks", "/#/new", "/#/account", "/watch/start-line"} {
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
	t.Parallel()
	s := start(t)
	p := open(t)
	require.NoError(t, browser.SignIn(p.ctx, s.http, "admin", s.password))
	p.do(chromedp.Navigate(s.http + "/#/new"))
	p.until(`document.activeElement?.id === "title"`)
	p.do(chromedp.KeyEvent("Harbour\r"))
	p.until(`location.hash === "#/channels/harbour/inputs/senders"`)
	p.until(`document.querySelector("[role=tablist]")?.querySelectorAll("[role=tab]").length === 7`)
	eval[chromedp.Void](p, `document.querySelector('[aria-label="Label of the new key"]').focus()`)
	p.do(chromedp.KeyEvent("truck\r"))
	p.until(`document.querySelector("[data-made-key]") !== null`)
	p.do(chromedp.Navigate(s.http + "/#/events"))
	p.until(`document.body.innerText.includes('The contribution key "truck" was created by admin')`)
	missing := eval[[]string](p, `[...document.querySelectorAll("button, input, select, a")].filter(e => !(e.textContent.trim() || e.getAttribute("aria-label") || e.labels?.length)).map(e => e.outerHTML)`)
	assert.Empty(t, missing, "every control has a name")
	p.click("Sign out")
	p.until(`document.querySelector("#password") !== null`)
}

// TestWhoMayOnlyWatch: nothing that refuses is offered, and who is signed out elsewhere comes back to the form, not to a page that
// tries forever.
func TestWhoMayOnlyWatch(t *testing.T) {
	t.Parallel()
	s := start(t)
	s.channel("start-line", settings.Settings{}, sourceOnly)
	out, code := s.commandWith("a-long-password\n", "users", "add", "gallery", "--role", "watch")
	require.Zero(t, code, out)
	p := open(t)
	require.NoError(t, browser.SignIn(p.ctx, s.http, "gallery", "a-long-password"))
	p.do(chromedp.Navigate(s.http + "/#/channels"))
	p.until(`document.querySelector("[data-channel]") !== null`)
	assert.Zero(t, eval[int](p, `document.querySelectorAll('[href="#/new"]').length`))
	for _, path := range []string{"settings", "ladder", "inputs", "inputs/senders", "addresses/relays", "kept/settings", "kept/find"} {
		p.do(chromedp.Navigate(s.http + "/#/channels/start-line/" + path))
		p.until(`document.querySelector("[data-watching]") !== null && document.querySelector("fieldset:disabled") !== null`)
		assert.Zero(t, eval[int](p, `document.querySelectorAll("[role=tabpanel] fieldset button:enabled").length`), path)
	}
	out, code = s.command("users", "remove", "gallery")
	require.Zero(t, code, out)
	s.stop(syscall.SIGTERM)
	s.start()
	p.until(`document.querySelector("#password") !== null && document.body.innerText.includes("You were signed out")`)
}

// TestFormatsTimelineInspectorAndPackagingInTheConsole goes through the tabs that show what comes out.
func TestFormatsTimelineInspectorAndPackagingInTheConsole(t *testing.T) {
	t.Parallel()
	s := start(t)
	s.send(0, camera.Options{URL: s.channel("start-line", settings.Settings{}, formatLadder[0], formatLadder[1])})
	eventually(t, "a playlist", func() bool { code, _, _ := s.get("/media/start-line/index.mpd"); return code == 200 })
	p := open(t)
	require.NoError(t, browser.SignIn(p.ctx, s.http, "admin", s.password))
	tab := func(name string) {
		p.do(chromedp.Click(chromedp.CSS(fmt.Sprintf(`[role=tab][href$="/%s"]`, name))))
	}
	p.do(chromedp.Navigate(s.http+"/#/channels/start-line/addresses"), chromedp.WaitVisible(chromedp.CSS("[data-play=dash]")))
	const plays = `(v => v && v.readyState >= 3 && v.currentTime > 0 && !v.paused)(document.querySelector("video"))`
	p.until(plays)
	assert.True(t, eval[bool](p, `document.querySelector("[data-play=ts]").disabled`), "transport streams are off")
	p.do(chromedp.Click(chromedp.CSS("[data-play=dash]")))
	p.until(`document.querySelector("[data-play=dash]").getAttribute("aria-pressed") === "true"`)
	p.until(plays)
	p.until(`/1 dash/.test(document.querySelector("[data-viewers]").textContent)`)

	tab("timeline")
	p.until(`document.querySelectorAll("[data-timeline] [data-open]").length >= 2`)
	newest := `Math.max(...[...document.querySelectorAll("[data-segment]")].map(e => +e.dataset.segment))`
	first := eval[int](p, newest)
	p.until(fmt.Sprintf("%s > %d", newest, first+1))
	p.until(fmt.Sprintf(`document.querySelectorAll('[data-segment="%d"]').length === 3`, first))
	starts := eval[[]float64](p, fmt.Sprintf(`[...document.querySelectorAll('[data-segment="%d"]')].map(e => parseFloat(e.style.left))`, first))
	assert.InDelta(t, starts[0], starts[1], 0.5, "renditions are drawn aligned")

	p.click("Inspector")
	p.do(chromedp.WaitVisible(chromedp.CSS("[data-inspector] #is")), chromedp.Evaluate[chromedp.Void](`(i => { i.value = 2; i.dispatchEvent(new Event("input", {bubbles: true})); })(document.querySelector("#is"))`))
	p.do(chromedp.Click(chromedp.CSS("[data-inspector] form > div:last-child button")))
	p.until(`!!document.querySelector("[data-verdict]")`)
	assert.Regexp(t, "Clean|Playable|Broken", eval[string](p, `document.querySelector("[data-verdict]").textContent`))
	assert.Contains(t, eval[string](p, `document.querySelector("[data-inspector] table").textContent`), "low-latency HLS")

	tab("settings")
	p.do(chromedp.WaitVisible(chromedp.CSS("#p")))
	assert.Contains(t, eval[string](p, `document.querySelector("[data-consequences]").textContent`), "about 0.8 s behind")
	p.do(chromedp.Evaluate[chromedp.Void](`(i => { i.value = 500; i.dispatchEvent(new Event("input", {bubbles: true})); })(document.querySelector("#p"))`), chromedp.Click(chromedp.CSS("[data-switch=ts]")))
	p.until(`document.querySelector("[data-consequences]").textContent.includes("about 1.8 s behind")`)
	p.click("Save")
	p.until(`document.body.innerText.includes("Takes effect at the next segment.")`)
	c, err := s.api.Channel(context.Background(), "start-line")
	require.NoError(t, err)
	assert.EqualValues(t, 500, c.Settings.PartMillis)
	assert.True(t, c.Settings.TS)
	eventually(t, "parts of half a second", func() bool {
		_, b, _ := s.get("/media/start-line/240p/index.m3u8")
		return strings.Contains(string(b), "#EXT-X-PART:DURATION=0.50000")
	})
}

// TestInputsSwitchingAndHooksInTheConsole adds inputs, takes one by hand, says when another takes over, and tells a
// program what happens.
func TestInputsSwitchingAndHooksInTheConsole(t *testing.T) {
	t.Parallel()
	s := start(t)
	s.send(0, camera.Options{URL: s.channel("start-line", settings.Settings{}, sourceOnly)})
	eventually(t, "a feed", func() bool { return s.status("start-line").Feed != nil })
	desk := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusNoContent) }))
	defer desk.Close()
	p := open(t)
	require.NoError(t, browser.SignIn(p.ctx, s.http, "admin", s.password))
	inputs := func() (out []string) {
		c, err := s.api.Channel(context.Background(), "start-line")
		require.NoError(t, err)
		for _, i := range c.Settings.Inputs {
			out = append(out, i.String())
		}
		return out
	}
	kind := func(name string) {
		eval[chromedp.Void](p, `(i => { i.value = "`+name+`"; i.dispatchEvent(new Event("change", {bubbles: true})); })(document.querySelector('[aria-label="Kind of input"]'))`)
	}
	p.do(chromedp.Navigate(s.http + "/#/channels/start-line"))
	p.until(`document.querySelectorAll("[data-input]").length === 1`)
	p.setInput("Address", "gopher://192.0.2.7/boat")
	p.click("Add")
	p.until(`document.querySelector("[data-inputs] [role=alert]")?.textContent.includes("expected")`)
	kind("slate")
	p.until(`document.querySelector('[aria-label="Image, none for the title"]') !== null`)
	p.setInput("Image, none for the title", "")
	p.click("Add")
	p.until(`document.querySelectorAll("[data-input]").length === 2`)
	assert.Equal(t, []string{"sender", "slate"}, inputs())
	eval[chromedp.Void](p, `[...document.querySelectorAll('[data-input="slate"] button')].find(b => b.textContent.trim() === "Take").click()`)
	p.until(`document.querySelector('[data-input="slate"]').textContent.includes("on air, by hand")`)
	p.click("By order again")
	p.until(`[...document.querySelectorAll("[data-input]")].find(i => i.dataset.input !== "slate").textContent.includes("on air")`)
	eval[chromedp.Void](p, `document.querySelector('[aria-label="Prefer slate"]').click()`)
	p.until(`document.querySelector("[data-input]").dataset.input === "slate"`)
	assert.Equal(t, []string{"slate", "sender"}, inputs())
	eval[chromedp.Void](p, `document.querySelector('[aria-label="Remove slate"]').click()`)
	p.until(`document.querySelectorAll("[data-input]").length === 1`)

	p.do(chromedp.Navigate(s.http+"/#/channels/start-line/settings"), chromedp.WaitVisible(chromedp.CSS("#frozenSeconds")))
	eval[chromedp.Void](p, `(i => { i.value = 7; i.dispatchEvent(new Event("input", {bubbles: true})); })(document.querySelector("#frozenSeconds"))`)
	p.do(chromedp.Click(chromedp.CSS("[data-switch=receivers]")))
	p.click("Save")
	p.until(`document.body.innerText.includes("Takes effect at the next segment.")`)
	c, err := s.api.Channel(context.Background(), "start-line")
	require.NoError(t, err)
	assert.EqualValues(t, 7, c.Settings.FrozenSeconds)
	assert.True(t, c.Settings.Receivers)

	p.do(chromedp.Navigate(s.http+"/#/events/hooks"), chromedp.WaitVisible(chromedp.CSS("[data-new-hook]")))
	p.until(`document.querySelector("[data-hooks]").textContent.includes("Nobody yet")`)
	p.setField("Address, or the name", "ftp://desk")
	p.click("Tell it")
	p.until(`document.querySelector("[data-new-hook] [role=alert]")?.textContent.includes("expected http")`)
	p.setField("Address, or the name", desk.URL)
	p.click("Tell it")
	p.until(`document.querySelector("[data-secret] input")?.value.length > 15`)
	p.click("Test")
	p.until(`document.querySelector("[data-hooks] [role=status]")?.textContent.includes("It took the test")`)
	p.until(`document.querySelectorAll("[data-deliveries] tbody tr").length > 0`)
}
