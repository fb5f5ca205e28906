import Hls from "hls.js";
import type { MediaPlayerClass, Representation } from "dashjs";
import type { Way } from "./ways";
import type { Engine, Listener } from "./playing";
import { SocketEngine, transportLine } from "./socket";
import { WhepEngine } from "./whep";

/** name takes a rendition's name from its playlist's address. */
export function name(url: string): string {
  const parts = url.split("?")[0].split("/");
  return parts[parts.length - 2] ?? url;
}

/** viewer names this page's viewer, the same after a reload, so that it is counted once. */
export function viewer(): string {
  const key = `viewer ${location.pathname}${location.search}`;
  let id = sessionStorage.getItem(key);
  if (!id) {
    id = crypto.randomUUID?.() ?? String(Math.random()).slice(2);
    sessionStorage.setItem(key, id);
  }
  return id;
}

const describe = (w?: number, h?: number) => (w && h ? `${w}×${h}` : "sound only");

/** What goes wrong when a part is handed to the browser. */
const refused = new Set<string>([Hls.ErrorDetails.BUFFER_APPEND_ERROR, Hls.ErrorDetails.BUFFER_FULL_ERROR]);

/** Later than the target by so many seconds, a player jumps. */
const jumpFrom = 1;

/** paceFor returns the speed to play at, for so many seconds later than wanted and in hand. Once at
 * the usual speed it stays there until the place is lost by a tenth of a second. */
export function paceFor(late: number, inHand: number, speed = 1): number {
  if (inHand < 0.15) return 0.95;
  if (late > (speed > 1 ? 0.02 : 0.1)) return inHand > 0.3 ? 1 + Math.min(0.1, late / 4 + 0.01) : 1;
  if (late < (speed < 1 ? -0.02 : -0.15)) return 0.97;
  return 1;
}

class HlsEngine implements Engine {
  readonly #hls: Hls;
  #recovered = false;
  #lateSince = 0;
  #jumped = -Infinity;
  #pace?: ReturnType<typeof setInterval>;
  #fixed = "";
  #closed = false;
  constructor(
    private readonly video: HTMLVideoElement,
    url: string,
    private readonly way: Way,
    private readonly on: Listener,
    first: string,
    aim: Aim,
  ) {
    const low = way === "ll-hls";
    const hls = (this.#hls = new Hls({
      lowLatencyMode: low,
      // What lies closer to the end of a segment than this is taken for played: it must be less than a part,
      // or a change of rungs leaves out the last part of a segment, and the picture stands.
      ...(low ? { maxFragLookUpTolerance: 0.05 } : {}),
      // The player itself catches up only with more than a second in hand, which is more than it has.
      ...(low ? { liveSyncOnStallIncrease: 0.2 } : { liveSyncDurationCount: 3 }),
      // Without it each reload stops both buffers to set a longer duration, and what is appended just then
      // may be lost.
      liveDurationInfinity: true,
      ...(aim.target ? { liveSyncDuration: aim.target, liveSyncDurationCount: undefined } : {}),
      maxBufferLength: aim.buffer ?? 12,
      backBufferLength: 20,
      capLevelToPlayerSize: true, // more pixels than the player has are wasted
      cmcd: { useHeaders: true, sessionId: viewer() },
      autoStartLoad: !first, // a rendition that is asked for is the first to be loaded
    }));
    this.#fixed = first;
    hls.on(Hls.Events.MANIFEST_PARSED, () => {
      this.#list();
      if (first) hls.startLoad();
    });
    hls.on(Hls.Events.LEVELS_UPDATED, () => this.#list());
    hls.on(Hls.Events.FRAG_CHANGED, (_, d) => {
      const level = hls.levels[d.frag.level];
      if (d.frag.type !== "main" || !level) return;
      on.showing({ id: name(level.url[0]), size: describe(level.width, level.height) });
    });
    hls.on(Hls.Events.AUDIO_TRACKS_UPDATED, () => this.#listSounds());
    hls.on(Hls.Events.AUDIO_TRACK_SWITCHED, () => this.#listSounds());
    // A track that is chosen within this event would be let go again behind it.
    hls.on(Hls.Events.SUBTITLE_TRACKS_UPDATED, () => void setTimeout(() => this.#listTexts()));
    hls.on(Hls.Events.ERROR, (_, d) => {
      if (!d.fatal) {
        // The player takes a part that the browser refused for one that it has, and would leave a hole.
        if (refused.has(d.details)) d.part?.clearElementaryStreamInfo();
        return;
      }
      if (d.type === Hls.ErrorTypes.MEDIA_ERROR && !this.#recovered) {
        this.#recovered = true;
        hls.recoverMediaError();
        return;
      }
      on.failed(d.details);
    });
    hls.loadSource(url);
    hls.attachMedia(video);
    if (low) this.#pace = setInterval(() => this.#keepUp(), 100);
  }
  #list() {
    // A rung has a variant for each codec of sound: people choose the rung.
    const seen = new Set<string>();
    const rungs = this.#hls.levels.filter((l) => !seen.has(name(l.url[0])) && seen.add(name(l.url[0])));
    this.on.qualities(rungs.map((l) => ({ id: name(l.url[0]), label: name(l.url[0]), rate: l.bitrate })));
    if (this.#fixed) this.choose(this.#fixed);
    this.#fixed = "";
  }
  #listSounds() {
    // Those of all groups: one in another codec is reached with the variants of that codec.
    const list = this.#hls.allAudioTracks;
    const chosen = this.#hls.audioTracks[this.#hls.audioTrack];
    this.on.sounds(
      list.map((t, i) => ({ id: String(i), label: t.name || t.lang || `Sound ${i + 1}` })),
      String(list.findIndex((t) => t.url === chosen?.url)),
    );
  }
  /** Text comes when its segment is whole: too late for who stays nearer to the live edge. */
  #listTexts() {
    if (this.way === "ll-hls" || this.#closed) return;
    this.on.texts(
      this.#hls.subtitleTracks.map((t, i) => ({ id: String(i), label: t.name, language: t.lang })),
    );
  }
  read(id: string) {
    this.#hls.subtitleDisplay = true;
    this.#hls.subtitleTrack = id === "" ? -1 : Number(id);
  }
  listen(id: string) {
    const track = this.#hls.allAudioTracks[Number(id)];
    if (track) this.#hls.setAudioOption({ name: track.name, lang: track.lang, groupId: track.groupId });
  }
  choose(id: string) {
    this.#hls.loadLevel = id ? this.#hls.levels.findIndex((l) => name(l.url[0]) === id) : -1;
  }
  toLive() {
    const at = this.#hls.liveSyncPosition;
    if (at) this.video.currentTime = at;
  }
  /** keepUp holds the place to be: a little faster or slower while that does, a jump when playback
   * is so late that catching up would take long. */
  #keepUp() {
    const { latency, targetLatency, liveSyncPosition: place } = this.#hls;
    if (!targetLatency || this.video.paused || this.video.readyState < 3) return;
    const late = latency - targetLatency;
    const b = this.video.buffered;
    const end = b.length ? b.end(b.length - 1) : 0;
    this.#lateSince = late > jumpFrom ? this.#lateSince || performance.now() : 0;
    const now = performance.now();
    const since = this.#lateSince ? now - this.#lateSince : 0;
    // A jump beyond what is in hand costs a moment's wait, so it comes later and seldom.
    if (place && ((since > 800 && place < end - 0.2) || (since > 2500 && now - this.#jumped > 15_000))) {
      this.#lateSince = 0;
      this.#jumped = now;
      this.video.currentTime = place;
      return;
    }
    const rate = paceFor(late, end - this.video.currentTime, this.video.playbackRate);
    if (Math.abs(rate - this.video.playbackRate) > 0.005) this.video.playbackRate = rate;
  }
  behind() {
    const playing = this.#hls.playingDate;
    return playing ? (Date.now() - playing.getTime()) / 1000 : NaN;
  }
  target() {
    return this.#hls.targetLatency ?? NaN;
  }
  close() {
    this.#closed = true;
    clearInterval(this.#pace);
    this.#hls.destroy();
  }
}

class DashEngine implements Engine {
  #player?: MediaPlayerClass;
  #closed = false;
  readonly #on: Listener;
  constructor(video: HTMLVideoElement, url: string, way: Way, on: Listener, first: string, aim: Aim) {
    this.#on = on;
    void import("dashjs")
      .then(({ MediaPlayer }) => {
        if (this.#closed) return;
        const low = way === "ll-dash";
        const p = (this.#player = MediaPlayer().create());
        p.updateSettings({
          streaming: {
            applyServiceDescription: low,
            text: { defaultEnabled: false },
            delay: {
              useSuggestedPresentationDelay: !aim.target,
              ...(aim.target ? { liveDelay: aim.target } : {}),
            },
            liveCatchup: { enabled: low, maxDrift: 2 },
            buffer: { bufferTimeDefault: aim.buffer ?? 12, bufferToKeep: 20, fastSwitchEnabled: true },
            abr: { limitBitrateByPortal: true, ...(first ? { autoSwitchBitrate: { video: false } } : {}) },
            cmcd: {
              enabled: true,
              mode: "header",
              sid: viewer(),
            },
          },
        } as never);
        const list = () => p.getRepresentationsByType("video") ?? [];
        const all = () => (list().length ? list() : (p.getRepresentationsByType("audio") ?? []));
        p.on("streamInitialized", () => {
          on.qualities(all().map((r: Representation) => ({ id: r.id, label: r.id, rate: r.bandwidth })));
          if (first) this.choose(first);
          this.#listSounds();
        });
        p.on("trackChangeRendered", () => this.#listSounds());
        p.on(
          "allTextTracksAdded",
          (e: { tracks?: { id?: string; lang?: string; labels?: { text: string }[] }[] }) =>
            on.texts(
              (e.tracks ?? []).map((t, i) => ({
                id: String(i),
                label: t.labels?.[0]?.text || t.lang || t.id || `Text ${i + 1}`,
                language: t.lang,
              })),
            ),
        );
        p.on("qualityChangeRendered", (e: { mediaType: string; newRepresentation?: Representation }) => {
          const r = e.newRepresentation;
          if (!r || (e.mediaType !== "video" && list().length)) return;
          on.showing({ id: r.id, size: describe(r.width, r.height) });
        });
        p.on("error", (e: { error?: { message?: string; code?: number } }) =>
          on.failed(e.error?.message ?? "dash.js"),
        );
        p.initialize(video, url, true);
      })
      .catch(() => on.failed("the player could not be loaded"));
  }
  #listSounds() {
    const p = this.#player;
    const list = p?.getTracksFor("audio") ?? [];
    const now = p?.getCurrentTrackFor("audio");
    this.#on.sounds(
      list.map((t, i) => ({ id: String(i), label: t.labels?.[0]?.text || t.lang || `Sound ${i + 1}` })),
      String(list.findIndex((t) => t.index === now?.index)),
    );
  }
  listen(id: string) {
    const track = this.#player?.getTracksFor("audio")[Number(id)];
    if (track) this.#player?.setCurrentTrack(track);
  }
  read(id: string) {
    this.#player?.setTextTrack(id === "" ? -1 : Number(id));
  }
  choose(id: string) {
    const p = this.#player;
    if (!p) return;
    const kind = (p.getRepresentationsByType("video") ?? []).length ? "video" : "audio";
    const chosen = (p.getRepresentationsByType(kind) ?? []).find((r: Representation) => r.id === id);
    const rate = chosen ? chosen.bandwidth / 1000 : -1;
    p.updateSettings({
      streaming: {
        abr: {
          autoSwitchBitrate: { [kind]: !chosen },
          minBitrate: { [kind]: rate < 0 ? -1 : rate - 1 },
          maxBitrate: { [kind]: rate < 0 ? -1 : rate + 1 },
        },
      },
    } as never);
    if (chosen) p.setRepresentationForTypeById(kind, id, true);
  }
  toLive() {
    this.#player?.seekToOriginalLive?.();
  }
  behind() {
    return this.#player?.isReady() ? this.#player.getCurrentLiveLatency() : NaN;
  }
  target() {
    return this.#player?.isReady() ? this.#player.getTargetLiveDelay() : NaN;
  }
  close() {
    this.#closed = true;
    this.#player?.destroy();
  }
}

class NativeEngine implements Engine {
  readonly #failed = () => this.on.failed(this.video.error?.message ?? "the browser gave up");
  constructor(
    private readonly video: HTMLVideoElement,
    url: string,
    private readonly on: Listener,
  ) {
    video.addEventListener("error", this.#failed);
    video.addEventListener("resize", this.#size);
    video.src = url;
  }
  readonly #size = () =>
    this.on.showing({
      id: "the browser’s choice",
      size: describe(this.video.videoWidth, this.video.videoHeight),
    });
  choose() {}
  listen() {}
  read() {}
  toLive() {
    const s = this.video.seekable;
    if (s.length) this.video.currentTime = s.end(s.length - 1);
  }
  behind() {
    return NaN;
  }
  target() {
    return NaN;
  }
  close() {
    this.video.removeEventListener("error", this.#failed);
    this.video.removeEventListener("resize", this.#size);
    this.video.removeAttribute("src");
    this.video.load();
  }
}

/** Limits of an engine, in seconds; what is left out is as it suits the way. */
export interface Aim {
  target?: number; // behind live
  buffer?: number; // held at most
}

/** start plays an address. first is the rendition to stay with, "" for the player's choice. */
export function start(
  video: HTMLVideoElement,
  url: string,
  way: Way,
  on: Listener,
  first = "",
  aim: Aim = {},
): Engine {
  if (way === "websocket") return new SocketEngine(video, url, on, first, aim.target);
  if (way === "webtransport") return new SocketEngine(video, url, on, first, aim.target, transportLine);
  if (way === "webrtc") return new WhepEngine(video, url, on, first);
  if (way === "native" || (!way.endsWith("dash") && !Hls.isSupported()))
    return new NativeEngine(video, url, on);
  if (way.endsWith("dash")) return new DashEngine(video, url, way, on, first, aim);
  return new HlsEngine(video, url, way, on, first, aim);
}
