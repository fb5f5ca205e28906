import { type Engine, type Quality, type Sound, start } from "./engine";
import { type CameraClock, cameraClock, Meter, type Spread } from "./measure";
import type { Way } from "./ways";

/** What a viewer's page may know of a channel. */
export interface PublicChannel {
  title: string;
  state: string;
  extras?: Record<string, string>;
  rungs?: string[]; // that can be chosen now
  ended?: string; // when the last sender left, while there is none
  starts?: string; // when it is likely to begin, in words
}

const words: Record<string, string> = {
  waiting: "Nobody is sending to this channel. It begins by itself when the sender does.",
  starting: "The sender is connected; the first segments are being made.",
  failed: "The sender is connected, but nothing playable comes out. The event log says why.",
  closed: "This channel is closed.",
  missing: "There is no such channel.",
  silent: "The service does not answer. Trying again …",
};

/** Playback holds one player on a video element, and says what it does in plain words. */
export class Playback {
  qualities = $state<Quality[]>([]);
  chosen = $state(""); // "" is automatic
  sounds = $state<Sound[]>([]); // to choose from
  sound = $state(""); // the one that is heard
  texts = $state<Sound[]>([]); // captions and subtitles to choose from
  text = $state(""); // the one that is shown, "" for none
  showing = $state(""); // the rendition on screen
  size = $state("");
  behind = $state(NaN); // seconds behind the live edge's wall clock
  buffered = $state(0); // seconds in hand
  stalls = $state(0);
  stale = $state(""); // when the picture on screen was the last one: the sender left then
  message = $state("Loading …"); // "" while it plays
  delay = $state<Spread | undefined>(); // milliseconds from the camera to the page, for demo cameras
  meter?: Meter;
  #engine?: Engine;
  #timer?: ReturnType<typeof setTimeout>;
  #poll?: ReturnType<typeof setInterval>;
  #video?: HTMLVideoElement;
  #url = "";
  #way: Way = "ll-hls";
  #closed = false;
  #camera?: CameraClock;
  #asked = 0;
  #known: Quality[] = []; // of the engine
  #rungs?: string[]; // of the channel now
  #back = true; // a sender is there

  /** ask says how the channel is. */
  constructor(private readonly ask: () => Promise<PublicChannel>) {}

  attach(video: HTMLVideoElement, url: string, way: Way, first = "") {
    this.#video = video;
    this.#url = url;
    this.#way = way;
    this.chosen = first;
    this.#poll = setInterval(() => this.#measure(), 250);
    video.addEventListener("waiting", () => {
      if (video.currentTime > 0 && !video.seeking) this.stalls++;
    });
    video.addEventListener("playing", () => (this.message = ""));
    video.addEventListener("timeupdate", () => {
      // A picture that comes after the sender was gone is one of the next sender.
      if (this.stale && this.buffered > 0.3 && this.#back) this.stale = "";
    });
    this.meter = new Meter(video, () => this.#camera);
    this.#load();
  }

  #load() {
    if (this.#closed || !this.#video) return;
    this.#engine?.close();
    void this.#inquire();
    this.#engine = start(
      this.#video,
      this.#url,
      this.#way,
      {
        qualities: (list) => {
          this.#known = list;
          this.#listQualities();
        },
        showing: (now) => {
          this.showing = now.id;
          this.size = now.size;
        },
        sounds: (list, chosen) => {
          this.sounds = list;
          this.sound = chosen;
        },
        texts: (list) => {
          this.texts = list;
          if (!list.some((t) => t.id === this.text)) this.text = "";
        },
        failed: (details) => void this.#explain(details),
      },
      this.chosen,
    );
    // dash.js begins by itself; told before, it would not notice, and never fetch its manifest anew.
    if (!this.#way.endsWith("dash")) void this.#video.play().catch(() => {});
  }

  async #inquire() {
    this.#asked = Date.now();
    const c = await this.ask().catch(() => undefined);
    this.#camera = cameraClock(c?.extras);
    this.#rungs = c?.rungs;
    this.#listQualities();
    this.#back = c?.state === "live" || c?.state === "degraded";
    if (c?.state === "waiting" && c.ended && !this.message) this.stale = c.ended;
    else if (this.#back && this.stale && !this.#video?.paused && this.buffered > 0.3) this.stale = "";
    if (this.message && c?.starts) this.message = c.starts;
    else if (this.message && c && c.state !== "live" && c.state !== "degraded")
      this.message = words[c.state] ?? this.message;
  }

  /** explain says why nothing plays, and tries again. */
  async #explain(details: string) {
    this.#engine?.close();
    this.#engine = undefined;
    const c = await this.ask().catch((): PublicChannel => ({ title: "", state: "silent" }));
    this.message = c.starts ?? words[c.state] ?? `Playback stopped (${details}). Trying again …`;
    this.showing = this.stale = "";
    clearTimeout(this.#timer);
    this.#timer = setTimeout(() => this.#load(), c.state === "starting" ? 500 : 2000);
  }

  /** listQualities shows the rungs that there are now: a ladder may change while its channel plays. */
  #listQualities() {
    const list = this.#known.filter((q) => !this.#rungs?.length || this.#rungs.includes(q.id));
    for (const id of this.#rungs ?? []) {
      if (this.#known.length && !list.some((q) => q.id === id)) list.push({ id, label: id, rate: 0 });
    }
    list.sort((a, b) => b.rate - a.rate);
    if (JSON.stringify(list) !== JSON.stringify(this.qualities)) this.qualities = list;
  }

  /** choose plays one rendition, or lets the player choose with "". */
  choose(id: string) {
    this.chosen = id;
    if (id && !this.#known.some((q) => q.id === id)) {
      this.#load(); // it has come since the player read what there is
      return;
    }
    this.#engine?.choose(id);
  }

  /** listen plays one of the tracks of sound. */
  listen(id: string) {
    this.sound = id;
    this.#engine?.listen(id);
  }

  /** read shows one of the tracks of text, or none with "". */
  read(id: string) {
    this.text = id;
    this.#engine?.read(id);
  }

  /** toLive jumps to the newest place that plays safely. */
  toLive() {
    this.#engine?.toLive();
    void this.#video?.play().catch(() => {});
  }

  #measure() {
    const v = this.#video;
    if (!v) return;
    this.behind = this.#engine?.behind() ?? NaN;
    const end = v.buffered.length ? v.buffered.end(v.buffered.length - 1) : v.currentTime;
    this.buffered = Math.max(0, end - v.currentTime);
    const d = this.meter?.recent();
    this.delay = d && d.count > 4 && !this.stale ? d : undefined;
    // A camera that connects again keeps another time, and a sender that is gone is told of soon.
    const wait = this.buffered < 0.1 || this.stale ? 1000 : 3000;
    if (this.#engine && Date.now() - this.#asked > wait) void this.#inquire();
  }

  close() {
    this.#closed = true;
    clearTimeout(this.#timer);
    clearInterval(this.#poll);
    this.meter?.close();
    this.#engine?.close();
  }
}
