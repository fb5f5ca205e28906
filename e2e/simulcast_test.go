package e2e

import (
	"fmt"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/e2e/browser"
	"metaplasis/internal/control/api"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/origin"
)

// TestSeveralSizesOfOnePicture: of a browser that sends its picture in two sizes, the smallest first, the largest is
// taken.
func TestSeveralSizesOfOnePicture(t *testing.T) {
	t.Parallel()
	s := start(t)
	s.channel("sizes", origin.Settings{}, ladder.Rung{Name: "240p", On: true, Height: 240, Bitrate: 400_000, Effort: 1})
	key := s.key("sizes", api.NewKey{Protocol: "WebRTC"}).Secret
	p := open(t, browser.WithCamera()...)
	defer p.stop()
	p.do(chromedp.Navigate(s.http + "/media/sizes/time")) // a page without a policy, of the same origin
	eval[chromedp.Void](p, fmt.Sprintf(`(async () => {
		try {
			const stream = await navigator.mediaDevices.getUserMedia({ video: { width: 640, height: 480 }, audio: true });
			const pc = (window.pc = new RTCPeerConnection());
			pc.addTransceiver(stream.getVideoTracks()[0], { direction: "sendonly", streams: [stream], sendEncodings: [
				{ rid: "h", scaleResolutionDownBy: 2, maxBitrate: 150000 }, { rid: "f", maxBitrate: 900000 } ] });
			pc.addTransceiver(stream.getAudioTracks()[0], { direction: "sendonly", streams: [stream] });
			await pc.setLocalDescription(await pc.createOffer());
			await new Promise((done) => { pc.iceGatheringState === "complete" ? done() : pc.addEventListener("icegatheringstatechange", () => pc.iceGatheringState === "complete" && done()); });
			const res = await fetch("/whip/sizes", { method: "POST", headers: { "Content-Type": "application/sdp", Authorization: "Bearer %s" }, body: pc.localDescription.sdp });
			const sdp = await res.text();
			if (!res.ok) throw new Error(sdp);
			window.answer = sdp;
			await pc.setRemoteDescription({ type: "answer", sdp });
		} catch (e) { window.failed = String(e); }
	})()`, key))
	p.until(`!!window.answer || !!window.failed`)
	require.Empty(t, eval[string](p, `window.failed || ""`))
	assert.Contains(t, eval[string](p, `window.answer`), "a=simulcast:recv")
	eventually(t, "on air in the largest size", func() bool {
		f := s.status("sizes").Feed
		return f != nil && len(f.Tracks) > 1 && f.Tracks[0].Width == 640
	})
	eventually(t, "a few segments", func() bool { return s.newest("sizes", "240p") >= 3 })
	assert.Equal(t, 640, s.status("sizes").Feed.Tracks[0].Width)
}
