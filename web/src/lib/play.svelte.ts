import { clock, isoTime } from "./format";
import { start } from "./engine";
import { type CameraClock, cameraClock, Meter, type Spread } from "./measure";
import type { Engine, Quality, Sound } from "./playing";
import type { Public } from "./types";
import type { Choice, Way } from "./ways";

/** What a viewer's page knows of what it plays: a channel, or why there is none, or a file. */
export type Viewed = Omit<Public, "state"> & { state: Public["state"] | "missing" | "silent" | "file" };

const words: Record<string, string> = {
  waiting: "Nobody is sending to this channel. It begins by itself when the sender does.",
  starting: "The sender is connected; the first segments are being made.",
  failed: "The sender is connected, but nothing playable comes out. The event log says why.",
  closed: "This channel is closed.",
  missing: "There is no such channel.",
  silent: "The service does not answer. Trying again …",
};

/** What a page wishes of a player. */
export interface Wishes {
  first?: string; // the rung to begin with
  delay?: number; // seconds behind live to aim at, 0 for what suits the way
  buffer?: number; // seconds to hold at most, 0 for what suits the way
  sound?: string; // language or name
  captions?: string; // language or name
  past?: string; // the address of what is kept; a time to begin with is put behind it
}

/** How often what has played is tried again in the same way before the first is tried again. */
const patience = 3;

/** match finds one of several by its language or name, "" when there is none. */
function match(list: Sound[], wanted?: string): string {
  const text = wanted?.toLowerCase();
  if (!text) return "";
  const said = (s: Sound) => s.language?.toLowerCase() === text || s.label.toLowerCase().includes(text);
  return list.find(said)?.id ?? "";
}

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
  way = $state<Way>("ll-hls"); // in which it plays now
  oldest = $state(0); // how far back one may go, milliseconds since 1970; 0 for no further than what is held
  markers = $state<{ id: string; at: number; text: string }[]>([]);
  from = $state(0); // where time-shifted playback began, milliseconds since 1970; 0 while it is live
  meter?: Meter;
  #engine?: Engine;
  #timer?: ReturnType<typeof setTimeout>;
  #poll?: ReturnType<typeof setInterval>;
  #video?: HTMLVideoElement;
  #choices: Choice[] = [];
  #at = 0; // of the choices
  #played = false; // in this way
  #failures = 0;
  #wishes: Wishes = {};
  #closed = false;
  #camera?: CameraClock;
  #asked = 0;
  #known: Quality[] = []; // of the engine
  #rungs?: string[]; // of the channel now
  #back = true; // a sender is there

  /** ask says how the channel is. */
  constructor(private readonly ask: () => Promise<Viewed>) {}

  /** seeks reports whether there is a past to go back to. */
  get seeks() {
    return !!this.from || !["webrtc", "websocket", "webtransport"].includes(this.way);
  }

  /** back reports whether one may go further back than the video element holds. */
  get back() {
    return this.oldest > 0 && !!this.#wishes.past; // the first is what is listened to
  }

  /** playAt goes to a time of the past, in milliseconds since 1970. */
  playAt(at: number) {
    const v = this.#video;
    if (!v) return;
    const now = Date.now();
    if (at > now - this.#nearLive) return this.toLive();
    at = Math.max(at, this.oldest);
    const ahead = (at - (now - this.behind * 1000)) / 1000; // of what is on screen
    const s = v.seekable;
    const to = v.currentTime + ahead;
    if (
      this.seeks &&
      Number.isFinite(to) &&
      s.length &&
      to > s.start(0) + 0.2 &&
      to < s.end(s.length - 1) - 1
    ) {
      v.currentTime = to;
      return;
    }
    if (!this.back) return;
    this.from = at;
    this.#load();
  }
  /** Nearer to now than this, in milliseconds, is live. */
  readonly #nearLive = 4000;

  attach(video: HTMLVideoElement, url: string, way: Way, first = "") {
    this.begin(video, [{ way, url }], { first });
  }

  /** begin plays the first of some choices that works. */
  begin(video: HTMLVideoElement, list: Choice[], wishes: Wishes = {}) {
    this.#choices = list;
    this.#wishes = wishes;
    this.#at = this.#failures = 0;
    this.chosen = wishes.first ?? "";
    if (this.#video !== video) {
      this.#video = video;
      this.#poll = setInterval(() => this.#measure(), 250);
      video.addEventListener("waiting", () => {
        if (video.currentTime > 0 && !video.seeking) this.stalls++;
      });
      video.addEventListener("playing", () => {
        this.message = "";
        this.#played = true;
        this.#failures = 0;
      });
      video.addEventListener("timeupdate", () => {
        // A picture that comes after the sender was gone is one of the next sender.
        if (this.stale && this.#inHand() && this.#back) this.stale = "";
      });
      this.meter = new Meter(video, () => this.#camera);
    }
    this.#load();
  }

  #load() {
    if (this.#closed || !this.#video) return;
    const choice = this.#choices[this.#at];
    const way = this.from ? "hls" : choice.way;
    const url = this.from ? `${this.#wishes.past}?from=${isoTime(this.from)}` : choice.url;
    this.way = way;
    this.#played = false;
    this.#engine?.close();
    void this.#inquire();
    this.#engine = start(
      this.#video,
      url,
      way,
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
          const wanted = match(list, this.#wishes.sound);
          if (wanted && wanted !== chosen) this.listen(wanted);
          this.#wishes.sound = "";
        },
        texts: (list) => {
          this.texts = list;
          if (!list.some((t) => t.id === this.text)) this.text = "";
          const wanted = match(list, this.#wishes.captions);
          if (wanted) this.read(wanted);
          if (list.length) this.#wishes.captions = "";
        },
        failed: (details) => void this.#explain(details),
      },
      this.chosen,
      { target: this.#wishes.delay || undefined, buffer: this.#wishes.buffer || undefined },
    );
    // dash.js begins by itself; told before, it would not notice, and never fetch its manifest again.
    if (!way.endsWith("dash")) void this.#video.play().catch(() => {});
  }

  async #inquire() {
    this.#asked = Date.now();
    const c = await this.ask().catch(() => undefined);
    this.#camera = cameraClock(c?.extras);
    this.#rungs = this.from ? undefined : c?.rungs;
    this.oldest = c?.oldest ? Date.parse(c.oldest) : 0;
    const markers = (c?.markers ?? []).map((m) => ({ ...m, at: Date.parse(m.at) }));
    if (JSON.stringify(markers) !== JSON.stringify(this.markers)) this.markers = markers;
    this.#listQualities();
    this.#back = c?.state === "live" || c?.state === "degraded";
    if (c?.state === "waiting" && c.ended && !this.message && !this.from) this.stale = c.ended;
    else if (this.#back && this.stale && this.seeks && !this.#video?.paused && this.#inHand())
      this.stale = "";
    if (this.message && c?.starts) this.message = c.starts;
    else if (this.message && c && c.state !== "live" && c.state !== "degraded")
      this.message = words[c.state] ?? this.message;
  }

  /** inHand reports whether something new is held: ways of little delay hold next to nothing. */
  #inHand() {
    return !this.seeks || this.buffered > 0.3;
  }

  /** explain says why nothing plays, and tries again. */
  async #explain(details: string) {
    this.#engine?.close();
    this.#engine = undefined;
    const c = await this.ask().catch((): Viewed => ({ title: "", state: "silent" }));
    if (this.#closed) return;
    if (this.from) {
      this.message = `Nothing can be played from ${clock(isoTime(this.from))} on. Back to live …`;
      this.from = 0;
      clearTimeout(this.#timer);
      this.#timer = setTimeout(() => this.#load(), 3000);
      return;
    }
    const onAir = c.state === "live" || c.state === "degraded";
    if (onAir && (!this.#played || ++this.#failures > patience) && this.#choices.length > 1) {
      this.#at = this.#played ? 0 : (this.#at + 1) % this.#choices.length;
      this.#failures = 0;
      if (this.#at > 0) {
        this.#load(); // the network, or the browser, does not let this way through
        return;
      }
    }
    this.message = c.starts ?? words[c.state] ?? `Playback stopped (${details}). Trying again …`;
    this.showing = this.stale = "";
    clearTimeout(this.#timer);
    this.#timer = setTimeout(() => this.#load(), c.state === "starting" ? 500 : 2000);
  }

  /** listQualities shows the rungs that there are now: a ladder may change while its channel plays. */
  #listQualities() {
    // Ways without a past are told every change as it comes, and not every rung fits them.
    const now = this.seeks ? (this.#rungs ?? []) : [];
    const list = this.#known.filter((q) => !now.length || now.includes(q.id));
    for (const id of now) {
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
    if (this.from) {
      this.from = 0;
      this.#load();
      return;
    }
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
