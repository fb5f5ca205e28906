import type { Engine, Listener } from "./playing";

/** What the service tells of a session. */
interface Session {
  rung: string;
  byHand: boolean;
  rungs: string[];
}

/** From the beginning of NTP's time to that of Unix, milliseconds. */
const since1900 = 2_208_988_800_000;

/** iceServers reads the servers that an answer's Link headers tell of (RFC 9725, 4.6). */
export function iceServers(res: Response): RTCIceServer[] {
  const out: RTCIceServer[] = [];
  for (const link of (res.headers.get("Link") ?? "").split(/,\s*(?=<)/)) {
    const [, urls, rest] = /^<([^>]+)>(.*)$/.exec(link) ?? [];
    const value = (name: string) => new RegExp(`${name}="([^"]*)"`).exec(rest)?.[1];
    if (urls && value("rel") === "ice-server")
      out.push({ urls, username: value("username"), credential: value("credential") });
  }
  return out;
}

/** patiently asks again when a service that is busy says after how many seconds, a few times. */
export async function patiently(
  ask: () => Promise<Response>,
  pause = (ms: number) => new Promise((done) => setTimeout(done, ms)),
): Promise<Response> {
  for (let left = 4; ; left--) {
    const res = await ask();
    const after = Number(res.headers.get("Retry-After"));
    if (res.status !== 503 || !(after > 0 && after <= 5) || left === 0) return res;
    await pause(1000 * after * (0.5 + Math.random()));
  }
}

/** WhepEngine plays a channel over WebRTC (draft-ietf-wish-whep). */
export class WhepEngine implements Engine {
  readonly #connection = new RTCPeerConnection();
  readonly #stream = new MediaStream();
  #resource = "";
  #poll?: ReturnType<typeof setInterval>;
  #closed = false;
  #received = 0;
  #since = 0; // when the last picture or sound came
  #behind = NaN;

  constructor(
    private readonly video: HTMLVideoElement,
    private readonly url: string,
    private readonly on: Listener,
    first: string,
  ) {
    const c = this.#connection;
    c.addTransceiver("video", { direction: "recvonly" });
    c.addTransceiver("audio", { direction: "recvonly" });
    c.ontrack = (e) => {
      this.#stream.addTrack(e.track);
      e.receiver.jitterBufferTarget = 0; // as little as the line allows
    };
    c.onconnectionstatechange = () => {
      if (c.connectionState === "failed") this.#fail("the connection was lost");
    };
    this.video.srcObject = this.#stream;
    void this.#begin(first).catch((e: Error) => this.#fail(e.message));
  }

  async #begin(first: string) {
    const c = this.#connection;
    const servers = await fetch(this.url, { method: "OPTIONS" }).then(iceServers, () => []);
    if (servers.length) c.setConfiguration({ iceServers: servers });
    const offer = await c.createOffer();
    // Chromium sends stereo only when it is told that stereo is understood (RFC 7587, 6.1).
    offer.sdp = offer.sdp?.replace(/(a=fmtp:\d+ )(minptime=)/g, "$1stereo=1;$2");
    await c.setLocalDescription(offer);
    const res = await patiently(() =>
      fetch(this.url + (first ? `?rung=${encodeURIComponent(first)}` : ""), {
        method: "POST",
        headers: { "Content-Type": "application/sdp" },
        body: c.localDescription?.sdp,
      }),
    );
    const text = await res.text();
    if (!res.ok) throw new Error(text.trim() || `the service answered ${res.status}`);
    // The address is below the service's, which may be another one than the page's.
    this.#resource = new URL(res.headers.get("Location") ?? "", new URL(this.url, location.href)).href;
    if (this.#closed) return this.#leave();
    await c.setRemoteDescription({ type: "answer", sdp: text });
    this.#since = performance.now();
    this.#poll = setInterval(() => void this.#look(), 500);
    void this.#ask();
  }

  /** look notices when nothing comes any more, and which rung is shown. */
  async #look() {
    if (this.#closed) return;
    let received = 0;
    let delay = NaN;
    for (const s of (await this.#connection.getStats()).values()) {
      if (s.type !== "inbound-rtp") continue;
      received += s.packetsReceived ?? 0;
      // What is shown now, by the service's clock, in the era of NTP.
      if (s.kind === "video" && s.estimatedPlayoutTimestamp)
        delay = (Date.now() + since1900 - s.estimatedPlayoutTimestamp) / 1000;
    }
    this.#behind = delay;
    const now = performance.now();
    if (received > this.#received) this.#since = now;
    this.#received = received;
    if (now - this.#since > 6000) return this.#fail("nothing comes any more");
    await this.#ask();
  }

  async #ask() {
    if (!this.#resource) return;
    const res = await fetch(`${this.#resource}/rung`).catch(() => undefined);
    if (res?.status === 404) return this.#fail("the session is over");
    if (res?.ok && !this.#closed) this.#take((await res.json()) as Session);
  }

  #take(s: Session) {
    this.on.qualities(s.rungs.map((id, i) => ({ id, label: id, rate: s.rungs.length - i })));
    const { videoWidth: w, videoHeight: h } = this.video;
    this.on.showing({ id: s.rung, size: w && h ? `${w}×${h}` : "sound only" });
  }

  #fail(why: string) {
    if (!this.#closed) this.on.failed(why);
  }

  choose(id: string) {
    if (!this.#resource) return;
    void fetch(`${this.#resource}/rung`, { method: "POST", body: JSON.stringify({ rung: id }) })
      .then(async (res) => {
        if (res.ok) this.#take((await res.json()) as Session);
      })
      .catch(() => {});
  }
  listen() {}
  read() {}
  toLive() {}
  behind() {
    return this.#behind;
  }
  target() {
    return 0;
  }
  #leave() {
    if (this.#resource) void fetch(this.#resource, { method: "DELETE", keepalive: true }).catch(() => {});
  }
  close() {
    this.#closed = true;
    clearInterval(this.#poll);
    this.#leave();
    this.#connection.close();
    this.video.srcObject = null;
  }
}
