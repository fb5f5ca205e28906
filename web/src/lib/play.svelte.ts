import Hls from "hls.js";

export interface Quality {
  index: number; // -1 is automatic
  label: string;
}

/** Playback holds one hls.js player on a video element, and says what it does in plain words. */
export class Playback {
  qualities = $state<Quality[]>([]);
  chosen = $state(-1);
  showing = $state(""); // the rendition on screen
  size = $state("");
  behind = $state(NaN); // seconds behind the live edge's wall clock
  buffered = $state(0); // seconds in hand
  stalls = $state(0);
  message = $state("Loading …"); // "" while it plays
  #hls?: Hls;
  #timer?: ReturnType<typeof setTimeout>;
  #poll?: ReturnType<typeof setInterval>;
  #video?: HTMLVideoElement;
  #url = "";
  #closed = false;

  /** ask says for the channel's state when nothing plays, to say why. */
  constructor(private readonly ask: () => Promise<string>) {}

  attach(video: HTMLVideoElement, url: string) {
    this.#video = video;
    this.#url = url;
    this.#poll = setInterval(() => this.#measure(), 250);
    video.addEventListener("waiting", () => {
      if (video.currentTime > 0) this.stalls++;
    });
    video.addEventListener("playing", () => (this.message = ""));
    this.#load();
  }

  #load() {
    if (this.#closed || !this.#video) return;
    this.#hls?.destroy();
    if (!Hls.isSupported()) {
      this.#video.src = this.#url;
      void this.#video.play().catch(() => {});
      return;
    }
    const hls = new Hls({
      liveSyncDurationCount: 3,
      maxBufferLength: 12,
      backBufferLength: 20,
      capLevelToPlayerSize: true, // more pixels than the player has are wasted
    });
    this.#hls = hls;
    hls.on(Hls.Events.MANIFEST_PARSED, () => this.#listQualities());
    hls.on(Hls.Events.LEVELS_UPDATED, () => this.#listQualities());
    hls.on(Hls.Events.FRAG_CHANGED, (_, d) => {
      const level = hls.levels[d.frag.level];
      if (d.frag.type !== "main" || !level) return;
      this.showing = name(level.url[0]);
      this.size = level.width ? `${level.width}×${level.height}` : "sound only";
    });
    hls.on(Hls.Events.ERROR, (_, d) => {
      if (!d.fatal) return;
      if (d.type === Hls.ErrorTypes.MEDIA_ERROR && !this.#timer) {
        hls.recoverMediaError();
        return;
      }
      void this.#explain(d.details);
    });
    hls.loadSource(this.#url);
    hls.attachMedia(this.#video);
    void this.#video.play().catch(() => {});
  }

  /** explain says why nothing plays, and tries again. */
  async #explain(details: string) {
    this.#hls?.destroy();
    this.#hls = undefined;
    const state = await this.ask().catch(() => "silent");
    const words: Record<string, string> = {
      waiting: "Nobody is sending to this channel. It begins by itself when the sender does.",
      starting: "The sender is connected; the first segments are being made.",
      failed: "The sender is connected, but nothing playable comes out. The event log says why.",
      missing: "There is no such channel.",
      silent: "The service does not answer. Trying again …",
    };
    this.message = words[state] ?? `Playback stopped (${details}). Trying again …`;
    this.showing = "";
    clearTimeout(this.#timer);
    this.#timer = setTimeout(() => {
      this.#timer = undefined;
      this.#load();
    }, 2000);
  }

  #listQualities() {
    const levels = this.#hls?.levels ?? [];
    this.qualities = levels
      .map((l, index) => ({ index, label: name(l.url[0]), rate: l.bitrate }))
      .sort((a, b) => b.rate - a.rate);
  }

  /** choose plays one quality, or picks by itself with -1. */
  choose(index: number) {
    this.chosen = index;
    if (this.#hls) this.#hls.loadLevel = index;
  }

  /** toLive jumps to the newest place that plays safely. */
  toLive() {
    const at = this.#hls?.liveSyncPosition;
    if (this.#video && at) this.#video.currentTime = at;
    void this.#video?.play().catch(() => {});
  }

  #measure() {
    const v = this.#video;
    if (!v) return;
    const playing = this.#hls?.playingDate;
    this.behind = playing ? (Date.now() - playing.getTime()) / 1000 : NaN;
    const end = v.buffered.length ? v.buffered.end(v.buffered.length - 1) : v.currentTime;
    this.buffered = Math.max(0, end - v.currentTime);
  }

  close() {
    this.#closed = true;
    clearTimeout(this.#timer);
    clearInterval(this.#poll);
    this.#hls?.destroy();
  }
}

/** name takes a rendition's name from its playlist's address. */
export function name(url: string): string {
  const parts = url.split("/");
  return parts[parts.length - 2] ?? url;
}
