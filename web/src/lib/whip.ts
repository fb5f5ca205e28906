/** The sizes of a picture that is sent in several, the largest last, as browsers expect it. */
const sizes: RTCRtpEncodingParameters[] = [
  { rid: "quarter", scaleResolutionDownBy: 4, maxBitrate: 200_000 },
  { rid: "half", scaleResolutionDownBy: 2, maxBitrate: 700_000 },
  { rid: "full", maxBitrate: 2_500_000 },
];

/** Sending is a connection over which a page contributes (RFC 9725). */
export class Sending {
  readonly connection = new RTCPeerConnection();
  private resource = "";

  constructor(
    private endpoint: string,
    private key: string,
    private changed: (state: RTCPeerConnectionState) => void,
  ) {
    this.connection.onconnectionstatechange = () => this.changed(this.connection.connectionState);
  }

  /** start sends the tracks of a stream; codec, such as "video/H264", is what pictures are to be in, if the browser can;
   * several sends them in half and a quarter of their size as well. */
  async start(stream: MediaStream, codec = "", several = false) {
    for (const track of stream.getTracks()) {
      const t = this.connection.addTransceiver(track, {
        direction: "sendonly",
        streams: [stream],
        sendEncodings: several && track.kind === "video" ? sizes : undefined,
      });
      if (track.kind === "video" && codec) prefer(t, codec);
      if (track.kind === "video") track.contentHint ||= "motion";
    }
    const offer = await this.connection.createOffer();
    await this.connection.setLocalDescription(offer);
    await this.gathered();
    const res = await fetch(this.endpoint, {
      method: "POST",
      headers: { "Content-Type": "application/sdp", Authorization: `Bearer ${this.key}` },
      body: this.connection.localDescription?.sdp,
    });
    const text = await res.text();
    if (!res.ok) throw new Error(text.trim() || `The service answered ${res.status}.`);
    this.resource = res.headers.get("Location") ?? "";
    await this.connection.setRemoteDescription({ type: "answer", sdp: text });
    for (const s of this.connection.getSenders()) {
      if (s.track?.kind !== "video") continue;
      const p = s.getParameters();
      for (const e of p.encodings) e.maxBitrate = 4_000_000;
      await s.setParameters(p).catch(() => {});
    }
  }

  /** gathered waits for the candidates, for a second at most. */
  private gathered(): Promise<void> {
    return new Promise((done) => {
      if (this.connection.iceGatheringState === "complete") return done();
      const timer = setTimeout(done, 1000);
      this.connection.onicegatheringstatechange = () => {
        if (this.connection.iceGatheringState !== "complete") return;
        clearTimeout(timer);
        done();
      };
    });
  }

  /** replace sends another track in place of the one of its kind. */
  async replace(track: MediaStreamTrack) {
    for (const s of this.connection.getSenders()) {
      if (s.track?.kind === track.kind) await s.replaceTrack(track);
    }
  }

  /** stop ends the stream in good order. */
  stop() {
    if (this.resource) {
      const headers = { Authorization: `Bearer ${this.key}` };
      void fetch(this.resource, { method: "DELETE", keepalive: true, headers }).catch(() => {});
    }
    this.connection.close();
    this.changed("closed");
  }
}

function prefer(t: RTCRtpTransceiver, codec: string) {
  const all = RTCRtpSender.getCapabilities("video")?.codecs ?? [];
  const first = all.filter((c) => c.mimeType.toLowerCase() === codec.toLowerCase());
  if (first.length) t.setCodecPreferences([...first, ...all.filter((c) => !first.includes(c))]);
}
