import { readPlaylist } from "./mediaplaylist";

/** One rendition to look at. */
export interface Side {
  name: string;
  codec: string;
  width: number;
  height: number;
}

/** Shown is one picture of a side. */
interface Shown {
  time: number; // media time, seconds
  picture: ImageBitmap;
}

const kept = 8; // pictures that wait for their counterpart
const inHand = 3; // seconds to begin with behind what is newest

/** pair finds the newest two pictures of the same time, and how many of each are older than that. */
export function pair(
  a: { time: number }[],
  b: { time: number }[],
  slack: number,
): [number, number] | undefined {
  for (let i = a.length - 1; i >= 0; i--) {
    const j = b.findIndex((s) => Math.abs(s.time - a[i].time) < slack);
    if (j >= 0) return [i, j];
  }
  return undefined;
}

/** Feeder puts whole segments of one rendition into a video element, and goes on as long as it is live. */
class Feeder {
  readonly video = document.createElement("video");
  readonly shown: Shown[] = [];
  #source = new MediaSource();
  #buffer?: SourceBuffer;
  #last = -1;
  #map = "";
  #closed = false;
  #timer?: ReturnType<typeof setTimeout>;

  constructor(
    readonly side: Side,
    readonly address: string,
    private readonly failed: (text: string) => void,
    private readonly drawn: () => void,
  ) {
    this.video.muted = true;
    this.video.playsInline = true;
    this.video.src = URL.createObjectURL(this.#source);
    this.#source.addEventListener("sourceopen", () => void this.#open(), { once: true });
    this.#watch();
  }

  close() {
    this.#closed = true;
    clearTimeout(this.#timer);
    URL.revokeObjectURL(this.video.src);
    this.video.removeAttribute("src");
    this.video.load();
    for (const s of this.shown.splice(0)) s.picture.close();
  }

  async #open() {
    try {
      this.#buffer = this.#source.addSourceBuffer(`video/mp4; codecs="${this.side.codec}"`);
    } catch {
      this.failed(`This browser does not decode ${this.side.name} (${this.side.codec}).`);
      return;
    }
    await this.#fill();
  }

  /** Pictures are taken as they are shown, each with its media time. */
  #watch() {
    this.video.requestVideoFrameCallback((_, meta) => {
      if (this.#closed) return;
      void createImageBitmap(this.video).then((picture) => {
        if (this.#closed) return picture.close();
        this.shown.push({ time: meta.mediaTime, picture });
        this.shown.sort((a, b) => a.time - b.time);
        while (this.shown.length > kept) this.shown.shift()?.picture.close();
        this.drawn();
      });
      this.#watch();
    });
  }

  async #append(url: string) {
    const res = await fetch(url);
    if (!res.ok) throw new Error(`${this.side.name}: ${res.status}`);
    const data = await res.arrayBuffer();
    const buffer = this.#buffer;
    if (!buffer || this.#closed) return;
    await new Promise<void>((done, bad) => {
      buffer.addEventListener("updateend", () => done(), { once: true });
      buffer.addEventListener("error", () => bad(new Error("refused")), { once: true });
      buffer.appendBuffer(data);
    });
  }

  /** trim lets go what is far behind. */
  async #trim() {
    const b = this.#buffer;
    if (!b || !b.buffered.length || b.updating) return;
    const until = this.video.currentTime - 20;
    if (b.buffered.start(0) >= until) return;
    await new Promise<void>((done) => {
      b.addEventListener("updateend", () => done(), { once: true });
      b.remove(0, until);
    });
  }

  async #fill() {
    let wait = 1000;
    try {
      const res = await fetch(this.address);
      if (!res.ok) throw new Error(`${this.side.name}: the playlist is not there (${res.status}).`);
      const list = readPlaylist(await res.text(), this.address);
      const news = list.filter((s) => s.number > this.#last && !s.gap);
      for (const s of this.#last < 0 ? news.slice(-4) : news) {
        if (this.#closed) return;
        if (s.map !== this.#map) {
          await this.#append(s.map);
          this.#map = s.map;
        }
        await this.#append(s.url);
        this.#last = s.number;
      }
      await this.#trim();
      if (news.length) this.failed("");
    } catch (e) {
      this.failed(e instanceof Error ? e.message : String(e));
      wait = 3000;
    }
    if (!this.#closed) this.#timer = setTimeout(() => void this.#fill(), wait);
  }

  /** range is what can be shown, seconds of media time. */
  range(): [number, number] | undefined {
    const b = this.video.buffered;
    return b.length ? [b.start(b.length - 1), b.end(b.length - 1)] : undefined;
  }
}

/** Comparison plays two renditions of a channel in step, and hands out pairs of pictures of one time. */
export class Comparison {
  playing = $state(true);
  time = $state(NaN); // media time of the pair on screen, seconds
  message = $state("Loading …");
  pairs = $state(0); // shown so far
  #sides: Feeder[] = [];
  #tick?: ReturnType<typeof setInterval>;
  #draw: (a: ImageBitmap, b: ImageBitmap) => void;
  #frame: number;
  #begun = false;

  constructor(slug: string, a: Side, b: Side, rate: number, draw: (a: ImageBitmap, b: ImageBitmap) => void) {
    this.#draw = draw;
    this.#frame = 1 / (rate || 25);
    for (const side of [a, b])
      this.#sides.push(
        new Feeder(
          side,
          `${location.origin}/media/${slug}/${side.name}/index.m3u8`,
          (text) => (this.message = text),
          () => this.#show(),
        ),
      );
    this.#tick = setInterval(() => this.#keep(), 100);
  }

  close() {
    clearInterval(this.#tick);
    for (const s of this.#sides) s.close();
  }

  #show() {
    const [a, b] = this.#sides.map((s) => s.shown);
    const found = pair(a, b, this.#frame / 2);
    if (!found) return;
    const [i, j] = found;
    if (this.playing && a[i].time <= this.time) return;
    this.time = a[i].time;
    this.pairs++;
    this.message = "";
    this.#draw(a[i].picture, b[j].picture);
  }

  /** keep begins where both have something, and holds the second to the first. */
  #keep() {
    const [a, b] = this.#sides;
    const [ra, rb] = [a.range(), b.range()];
    if (!ra || !rb) return;
    const [from, to] = [Math.max(ra[0], rb[0]), Math.min(ra[1], rb[1])];
    if (!this.#begun) {
      if (to - from < inHand / 2) return;
      this.#begun = true;
      this.#go(Math.max(from, to - inHand) + this.#frame / 2);
      return;
    }
    if (!this.playing) return;
    if (a.video.currentTime < from - 0.1 || a.video.currentTime > to) {
      if (to - from > 1) this.#go(to - 1);
      return;
    }
    const apart = b.video.currentTime - a.video.currentTime;
    if (Math.abs(apart) > 0.5) b.video.currentTime = a.video.currentTime;
    else b.video.playbackRate = apart > this.#frame / 2 ? 0.9 : apart < -this.#frame / 2 ? 1.1 : 1;
    for (const s of this.#sides) if (s.video.paused) void s.video.play().catch(() => undefined);
  }

  #go(at: number) {
    this.time = -1;
    for (const s of this.#sides) {
      for (const old of s.shown.splice(0)) old.picture.close();
      s.video.currentTime = at;
    }
  }

  /** pause stops at the pair on screen. */
  pause() {
    this.playing = false;
    for (const s of this.#sides) s.video.pause();
    this.step(0);
  }

  play() {
    this.playing = true;
    for (const s of this.#sides) void s.video.play().catch(() => undefined);
  }

  /** step goes so many pictures on or back. */
  step(pictures: number) {
    if (Number.isNaN(this.time)) return;
    if (this.playing) this.pause();
    // The middle of a picture, so that rounding cannot show its neighbour.
    const at = this.time + (pictures + 0.5) * this.#frame;
    for (const s of this.#sides) {
      for (const old of s.shown.splice(0)) old.picture.close();
      s.video.currentTime = at;
    }
  }
}
