import { type Engine, type Quality, start } from "./engine";
import { type CameraClock, Meter, type Spread } from "./measure";
import type { Way } from "./ways";

/** What a viewer's page may know of a channel. */
export interface PublicChannel {
  title: string;
  state: string;
  camera?: CameraClock;
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
  showing = $state(""); // the rendition on screen
  size = $state("");
  behind = $state(NaN); // seconds behind the live edge's wall clock
  buffered = $state(0); // seconds in hand
  stalls = $state(0);
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
        qualities: (list) => (this.qualities = [...list].sort((a, b) => b.rate - a.rate)),
        showing: (now) => {
          this.showing = now.id;
          this.size = now.size;
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
    this.#camera = c?.camera;
    if (this.message && c && c.state !== "live" && c.state !== "degraded")
      this.message = words[c.state] ?? this.message;
  }

  /** explain says why nothing plays, and tries again. */
  async #explain(details: string) {
    this.#engine?.close();
    this.#engine = undefined;
    const state = await this.ask().then(
      (c) => c.state,
      () => "silent",
    );
    this.message = words[state] ?? `Playback stopped (${details}). Trying again …`;
    this.showing = "";
    clearTimeout(this.#timer);
    this.#timer = setTimeout(() => this.#load(), 2000);
  }

  /** choose plays one rendition, or lets the player choose with "". */
  choose(id: string) {
    this.chosen = id;
    this.#engine?.choose(id);
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
    this.delay = d && d.count > 4 ? d : undefined;
    // A camera that connects again keeps another time.
    if (this.#engine && Date.now() - this.#asked > 5000) void this.#inquire();
  }

  close() {
    this.#closed = true;
    clearTimeout(this.#timer);
    clearInterval(this.#poll);
    this.meter?.close();
    this.#engine?.close();
  }
}
