import type { Engine, Listener } from "./playing";

/** Kinds of binary messages, and where their media begins (docs/low-delay.md). */
const kindHeader = 1;
const headSize = 8;
const randomFlag = 1;

/** What the service tells in texts. */
interface Told {
  type: "channel" | "track" | "state" | "end";
  rungs?: { rung: string; bitrate?: number; width: number; height: number }[];
  tracks?: number[];
  sounds?: { name: string; label: string }[];
  track?: number;
  kind?: "video" | "audio";
  codec?: string;
  rung?: string;
  width?: number;
  height?: number;
  why?: string;
  now?: number; // the service's clock, milliseconds since 1970
  epoch?: number; // the same at media time 0
}

/** A line to the service: WebSocket or WebTransport. */
export interface Line {
  onText: (text: string) => void;
  onBinary: (b: Uint8Array) => void;
  onEnd: (why: string) => void;
  send(text: string): void;
  close(): void;
}

/** webSocketLine connects to an address. */
export function webSocketLine(url: string): Line {
  const at = new URL(url, location.href);
  at.protocol = at.protocol.replace("http", "ws");
  const socket = new WebSocket(at, "metaplasis.live.1");
  socket.binaryType = "arraybuffer";
  const line: Line = {
    onText: () => {},
    onBinary: () => {},
    onEnd: () => {},
    send: (text) => socket.readyState === WebSocket.OPEN && socket.send(text),
    close: () => socket.close(),
  };
  socket.onmessage = (e: MessageEvent<string | ArrayBuffer>) =>
    typeof e.data === "string" ? line.onText(e.data) : line.onBinary(new Uint8Array(e.data));
  socket.onclose = (e) => line.onEnd(e.reason || "the connection was lost");
  return line;
}

/** What a page has to know of the port of WebTransport. */
interface About {
  port: number;
  hashes: string[]; // of certificates, SHA-256, base64
}

const textFrame = 0;
const frameHead = 5;

/** transportLine connects to the port of WebTransport that belongs to an address, and opens one stream. Both sides write
 * messages with their length and kind before them. */
export function transportLine(url: string): Line {
  const at = new URL(url, location.href);
  let transport: WebTransport | undefined;
  let writer: WritableStreamDefaultWriter<Uint8Array> | undefined;
  let closed = false;
  const waiting: string[] = [];
  const line: Line = {
    onText: () => {},
    onBinary: () => {},
    onEnd: () => {},
    send: (text) => {
      if (!writer) {
        waiting.push(text);
        return;
      }
      const body = new TextEncoder().encode(text);
      const b = new Uint8Array(frameHead + body.length);
      new DataView(b.buffer).setUint32(0, body.length);
      b.set(body, frameHead);
      void writer.write(b).catch(() => {});
    },
    close: () => {
      closed = true;
      transport?.close();
    },
  };
  const run = async () => {
    if (typeof WebTransport === "undefined") throw new Error("the browser has no WebTransport here");
    const res = await fetch(new URL("/socket/", at));
    if (!res.ok) throw new Error("the service has no WebTransport");
    const about = (await res.json()) as About;
    const to = new URL(at);
    to.protocol = "https:";
    to.port = String(about.port);
    const bytes = (text: string) => Uint8Array.from(atob(text), (c) => c.charCodeAt(0));
    transport = new WebTransport(to, {
      serverCertificateHashes: about.hashes.map((h) => ({ algorithm: "sha-256", value: bytes(h) })),
    });
    await transport.ready;
    if (closed) return transport.close();
    const stream = await transport.createBidirectionalStream();
    writer = stream.writable.getWriter();
    line.send(JSON.stringify({ do: "play" })); // the stream begins with what is written
    for (const text of waiting.splice(0)) line.send(text);
    const reader = stream.readable.getReader();
    let held = new Uint8Array(1 << 16);
    let end = 0; // of what is held
    for (;;) {
      const { value, done } = await reader.read();
      if (done) return;
      if (end + value.length > held.length) {
        const grown = new Uint8Array(2 * (end + value.length));
        grown.set(held.subarray(0, end));
        held = grown;
      }
      held.set(value, end);
      end += value.length;
      let from = 0;
      while (end - from >= frameHead) {
        const n = new DataView(held.buffer, from).getUint32(0);
        if (end - from < frameHead + n) break;
        const message = held.slice(from + frameHead, from + frameHead + n);
        if (held[from + 4] === textFrame) line.onText(new TextDecoder().decode(message));
        else line.onBinary(message);
        from += frameHead + n;
      }
      held.copyWithin(0, from, end);
      end -= from;
    }
  };
  run().then(
    () => closed || line.onEnd("the connection was lost"),
    (e: Error) => closed || line.onEnd(e.message || "the connection was lost"),
  );
  return line;
}

/** One track's way into the browser. */
class Track {
  queue: Uint8Array[] = [];
  codec = "";
  ready = false; // its header has come
  buffer?: SourceBuffer;
  constructor(readonly kind: "video" | "audio") {}
  get type() {
    return `${this.kind}/mp4; codecs="${this.codec}"`;
  }
}

/** paceOf is the speed to play at when so much more is in hand than is wanted, in seconds. */
export function paceOf(late: number, rate: number): number {
  if (late > (rate > 1 ? 0.01 : 0.06)) return 1 + Math.min(0.12, 0.02 + late / 2);
  if (late < (rate < 1 ? 0 : -0.06)) return 0.95;
  return 1;
}

/** SocketEngine plays what comes over a line, picture by picture. */
export class SocketEngine implements Engine {
  readonly #source: MediaSource;
  readonly #line: Line;
  readonly #tracks = new Map<number, Track>();
  readonly #pace: ReturnType<typeof setInterval>;
  #expected: number[] = [];
  #rungs: string[] = [];
  #sound = ""; // that was chosen
  #epoch = 0;
  #ahead = Infinity; // by how much this machine's clock is, milliseconds
  #placed = false;
  #closed = false;
  #trimmed = 0;
  #stuck = 0;
  #since = performance.now(); // when something came last
  #target: number;

  constructor(
    private readonly video: HTMLVideoElement,
    url: string,
    private readonly on: Listener,
    first: string,
    target = 0.15,
    connect: (url: string) => Line = webSocketLine,
  ) {
    this.#target = target;
    const Source =
      (window as unknown as { ManagedMediaSource?: typeof MediaSource }).ManagedMediaSource ?? MediaSource;
    this.#source = new Source();
    video.disableRemotePlayback = true; // which a managed source asks for
    video.src = URL.createObjectURL(this.#source);
    this.#source.addEventListener("sourceopen", () => this.#open());
    this.#line = connect(url + (first ? `?rung=${encodeURIComponent(first)}` : ""));
    this.#line.onText = (text) => this.#told(JSON.parse(text) as Told);
    this.#line.onBinary = (b) => this.#take(b);
    this.#line.onEnd = (why) => this.#fail(why);
    this.#pace = setInterval(() => this.#keepUp(), 50);
  }

  #told(t: Told) {
    this.#since = performance.now();
    if (t.type === "channel") {
      if (t.tracks) this.#expected = t.tracks;
      const sounds = (t.sounds ?? []).map((s) => ({ id: s.name, label: s.label }));
      this.on.sounds(sounds, this.#sound || (sounds[0]?.id ?? ""));
      this.#rungs = (t.rungs ?? []).map((r) => r.rung);
      this.on.qualities(
        (t.rungs ?? []).map((r) => ({ id: r.rung, label: r.rung, rate: r.bitrate || r.height })),
      );
    } else if (t.type === "track" && t.track && t.kind) {
      const track = this.#tracks.get(t.track) ?? new Track(t.kind);
      this.#tracks.set(t.track, track);
      if (track.codec !== t.codec) {
        track.codec = t.codec ?? "";
        if (!MediaSource.isTypeSupported(track.type))
          return this.#fail(`the browser does not play ${track.codec}`);
      }
      if (t.kind === "video") this.on.showing({ id: t.rung ?? "", size: `${t.width}×${t.height}` });
    } else if (t.type === "state" && t.now) {
      this.#ahead = Math.min(this.#ahead, Date.now() - t.now); // the least has been on its way for the shortest time
      this.#epoch = t.epoch ?? 0;
    } else if (t.type === "end") this.#fail(t.why ?? "the channel is over");
  }

  #take(b: Uint8Array) {
    this.#since = performance.now();
    const track = this.#tracks.get(b[1]);
    if (!track) return;
    const header = b[0] === kindHeader;
    if (!track.ready && !header && !(b[2] & randomFlag)) return;
    track.ready ||= header;
    const media = b.subarray(headSize);
    if (header && track.buffer && track.queue.length === 0 && !track.buffer.updating)
      track.buffer.changeType(track.type);
    track.queue.push(media);
    this.#open();
    this.#pump(track);
  }

  /** open makes the buffers of all tracks, once all are known: none can be added later. */
  #open() {
    if (this.#source.readyState !== "open" || this.#source.sourceBuffers.length > 0) return;
    const known = [...this.#tracks.entries()].filter(([, t]) => t.ready).map(([n]) => n);
    if (known.length === 0 || this.#expected.some((n) => !known.includes(n))) return;
    try {
      this.#source.duration = Infinity;
      for (const t of this.#tracks.values()) {
        t.buffer = this.#source.addSourceBuffer(t.type);
        t.buffer.addEventListener("updateend", () => this.#pump(t));
        t.buffer.addEventListener("error", () => this.#fail("the browser refused what came"));
      }
    } catch (e) {
      this.#fail((e as Error).message);
    }
    for (const t of this.#tracks.values()) this.#pump(t);
  }

  #pump(t: Track) {
    if (!t.buffer || t.buffer.updating || t.queue.length === 0 || this.#closed) return;
    const all = t.queue.splice(0);
    let whole = all[0];
    if (all.length > 1) {
      whole = new Uint8Array(all.reduce((n, b) => n + b.length, 0));
      let at = 0;
      for (const b of all) {
        whole.set(b, at);
        at += b.length;
      }
    }
    try {
      t.buffer.appendBuffer(whole as Uint8Array<ArrayBuffer>);
    } catch (e) {
      if ((e as Error).name === "QuotaExceededError") this.#trim(5);
      else this.#fail((e as Error).message);
    }
  }

  /** trim drops what was played long ago. */
  #trim(keep: number) {
    for (const t of this.#tracks.values()) {
      const b = t.buffer;
      if (!b || b.updating || !b.buffered.length) continue;
      const to = this.video.currentTime - keep;
      if (to > b.buffered.start(0) + 1) b.remove(0, to);
    }
  }

  #keepUp() {
    const v = this.video;
    const now = performance.now();
    if (now - this.#since > 8000) return this.#fail("nothing comes any more");
    const n = v.buffered.length;
    if (!n || this.#closed) return;
    const end = v.buffered.end(n - 1);
    if (!this.#placed) {
      this.#placed = true;
      v.currentTime = Math.max(v.buffered.start(n - 1), end - this.#target);
      void v.play().catch(() => {});
      return;
    }
    if (now - this.#trimmed > 5000) {
      this.#trimmed = now;
      this.#trim(20);
    }
    if (v.paused || v.seeking) return;
    const late = end - v.currentTime - this.#target;
    // A hole, or a picture too late for its place: nothing goes on by itself there.
    this.#stuck = v.readyState < 3 ? this.#stuck || now : 0;
    if (late > 1.2 || (this.#stuck && now - this.#stuck > 400 && late > 0.1)) {
      this.#stuck = 0;
      v.currentTime = end - this.#target;
      return;
    }
    const rate = paceOf(late, v.playbackRate);
    if (Math.abs(rate - v.playbackRate) > 0.005) v.playbackRate = rate;
  }

  #fail(why: string) {
    if (!this.#closed) this.on.failed(why);
  }

  choose(id: string) {
    if (id === "" || this.#rungs.includes(id)) this.#line.send(JSON.stringify({ do: "rung", rung: id }));
  }
  listen(id: string) {
    this.#sound = id;
    this.#line.send(JSON.stringify({ do: "sound", sound: id }));
  }
  read() {}
  toLive() {
    const b = this.video.buffered;
    if (b.length) this.video.currentTime = b.end(b.length - 1) - this.#target;
  }
  behind() {
    if (!this.#epoch) return NaN;
    return (Date.now() - this.#ahead - this.#epoch) / 1000 - this.video.currentTime;
  }
  target() {
    return this.#target;
  }
  close() {
    this.#closed = true;
    clearInterval(this.#pace);
    this.#line.close();
    const at = this.video.src;
    this.video.removeAttribute("src");
    this.video.load();
    URL.revokeObjectURL(at);
  }
}
