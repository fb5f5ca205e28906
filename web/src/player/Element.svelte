<svelte:options
  customElement={{
    tag: "metaplasis-player",
    props: {
      channel: { type: "String" },
      server: { type: "String" },
      way: { type: "String" },
      delay: { type: "Number" },
      buffer: { type: "Number" },
      rung: { type: "String" },
      rungs: { type: "String" },
      sound: { type: "String" },
      captions: { type: "String" },
      muted: { type: "String" },
      poster: { type: "String" },
      menu: { type: "String" },
      seek: { type: "String" },
      controls: { type: "String" },
      from: { type: "String" },
      recording: { type: "String" },
      item: { type: "String" },
    },
  }}
/>

<script lang="ts">
  // The player for every page: one element around one video, which stays in the page's own tree.
  import { onMount, untrack } from "svelte";
  import { clock, share } from "../lib/format";
  import { Playback, type Viewed } from "../lib/play.svelte";
  import { type Choice, choices } from "../lib/ways";
  import Controls from "./Controls.svelte";
  import SeekBar from "./SeekBar.svelte";

  let {
    channel = "",
    server = "",
    way = "auto",
    delay = 0,
    buffer = 0,
    rung = "",
    rungs = "",
    sound = "",
    captions = "",
    muted = "yes",
    poster = "",
    menu = "yes",
    seek = "yes",
    controls = "yes",
    from = "",
    recording = "",
    item = "",
  }: {
    channel?: string;
    server?: string;
    way?: string;
    delay?: number; // seconds behind live to aim at, 0 for what suits the way
    buffer?: number; // seconds to hold at most, 0 for what suits the way
    rung?: string; // to begin with
    rungs?: string; // a selection of them
    sound?: string; // language or name of the sound to begin with
    captions?: string; // language or name of the text to begin with
    muted?: string;
    poster?: string;
    menu?: string; // of qualities
    seek?: string; // bar
    controls?: string;
    from?: string; // a time of the past to begin with, RFC 3339
    item?: string; // the name of a file of the library, without a channel
    recording?: string; // the number of a recording to play instead of what is live
  } = $props();
  const on = (text: string) => text !== "no" && text !== "false";

  const element = $host();
  const base = $derived(server.replace(/\/$/, ""));
  async function ask(): Promise<Viewed> {
    if (item) {
      const res = await fetch(`${base}/items/${item}/index.m3u8`);
      return res.ok
        ? { title: item, state: "file" }
        : { title: item, state: "missing", starts: (await res.text()).trim() };
    }
    const res = await fetch(`${base}/api/v1/public/${channel}`);
    if (res.status === 404) return { title: "", state: "missing" };
    if (!res.ok) return { title: "", state: "silent" };
    const c = (await res.json()) as Viewed;
    element.dispatchEvent(new CustomEvent("channel", { detail: c }));
    return c;
  }
  const playback = new Playback(ask);
  const video = document.createElement("video");
  let paused = $state(false);
  let shown = $state(true); // the controls
  let full = $state(false);
  let range = $state({ start: 0, end: 0, at: 0 });
  let hide: ReturnType<typeof setTimeout> | undefined;

  onMount(() => {
    video.playsInline = true;
    video.autoplay = true;
    video.muted = on(muted);
    if (poster) video.poster = poster;
    video.style.cssText = "display:block;width:100%;height:100%;object-fit:contain;background:#000";
    element.append(video);
    // For pages, and for programs that measure: what is played, and how late.
    Object.assign(element, { playback, video });
    const events: [string, () => void][] = [
      ["pause", () => (paused = true)],
      ["play", () => (paused = false)],
      ["timeupdate", place],
      ["progress", place],
      ["playing", () => tell("playing")],
      ["waiting", () => tell("waiting")],
    ];
    for (const [name, f] of events) video.addEventListener(name, f);
    const watch = () => (full = document.fullscreenElement === element);
    document.addEventListener("fullscreenchange", watch);
    wake();
    return () => {
      document.removeEventListener("fullscreenchange", watch);
      playback.close();
    };
  });
  $effect(() => {
    const media = `${base}/media/${channel}/index.m3u8`;
    const list: Choice[] = item
      ? [
          way.includes("dash")
            ? { way: "dash", url: `${base}/items/${item}/index.mpd` }
            : { way: "hls", url: `${base}/items/${item}/${way === "ts" ? "ts" : "index"}.m3u8` },
        ]
      : recording
        ? [
            {
              way: "hls",
              url: `${media}?recording=${encodeURIComponent(recording)}${from ? `&from=${from}` : ""}`,
            },
          ]
        : choices(base, channel, way, rungs);
    if (!(channel || item) || !list.length) return;
    const past = recorded ? undefined : media;
    untrack(() => {
      playback.from = recorded ? 0 : Date.parse(from) || 0;
      playback.begin(video, list, { first: rung, delay, buffer, sound, captions, past });
    });
  });
  $effect(() => tell("rung", { rung: playback.showing, size: playback.size, way: playback.way }));
  $effect(() => tell("message", { text: playback.message }));

  function tell(name: string, detail: object = {}) {
    element.dispatchEvent(new CustomEvent(name, { detail }));
  }
  function place() {
    const s = video.seekable;
    if (s.length) range = { start: s.start(0), end: s.end(s.length - 1), at: video.currentTime };
  }
  const recorded = $derived(!!recording || !!item);
  const live = $derived(!recorded && !playback.from && (range.end - range.at < 20 || !playback.seeks));
  /** picture is the address of a small picture of a time. */
  const picture = (at: number) =>
    `${base}/media/${channel}/picture.jpg?time=${new Date(Math.round(at / 5000) * 5000).toISOString()}${recording ? `&recording=${encodeURIComponent(recording)}` : ""}`;
  function toggle() {
    if (video.paused) {
      if (!playback.seeks) playback.toLive();
      void video.play().catch(() => {});
    } else video.pause();
  }
  function fullscreen() {
    if (document.fullscreenElement) void document.exitFullscreen();
    else void element.requestFullscreen?.().catch(() => {});
  }
  /** skip goes some seconds ahead, or back. */
  function skip(seconds: number) {
    if (playback.back) playback.playAt(Date.now() - playback.behind * 1000 + seconds * 1000);
    else if (playback.seeks) video.currentTime += seconds;
  }
  /** wake shows the controls for a while. */
  function wake() {
    shown = true;
    clearTimeout(hide);
    hide = setTimeout(() => (shown = paused || !!playback.message), 3000);
  }
  /** What keys do, by their names; true of those that go on beside a slider too. */
  const keys: Record<string, [() => void, boolean]> = {
    " ": [toggle, true],
    k: [toggle, true],
    m: [() => (video.muted = !video.muted), true],
    f: [fullscreen, true],
    l: [() => playback.toLive(), true],
    c: [() => playback.read(playback.text ? "" : (playback.texts[0]?.id ?? "")), true],
    ArrowUp: [() => (video.volume = share(video.volume + 0.1)), false],
    ArrowDown: [() => (video.volume = share(video.volume - 0.1)), false],
    ArrowLeft: [() => skip(-5), false],
    ArrowRight: [() => skip(5), false],
    j: [() => skip(-30), true],
    PageDown: [() => skip(-300), false],
    PageUp: [() => skip(300), false],
    Home: [() => playback.back && playback.playAt(playback.oldest + 2000), false],
    End: [() => playback.toLive(), false],
  };
  function key(e: KeyboardEvent) {
    wake();
    const at = e.composedPath()[0];
    const [act, beside] = keys[e.key] ?? [];
    if (!act || e.ctrlKey || e.metaKey || e.altKey || at instanceof HTMLSelectElement) return;
    if ((at instanceof HTMLInputElement && !beside) || (at instanceof HTMLButtonElement && e.key === " "))
      return;
    e.preventDefault();
    act();
  }
</script>

<!-- The whole player takes keys, as a media element with controls does: a region that one can go to by the keyboard. The checker
     knows no role for that. -->
<!-- svelte-ignore a11y_no_noninteractive_element_interactions, a11y_no_noninteractive_tabindex -->
<div
  class={["player", playback.stale && "stale"]}
  role="region"
  aria-label="Player"
  tabindex="0"
  onkeydown={key}
  onpointermove={wake}
  onpointerdown={wake}
  onfocusin={wake}
  data-shown={shown || !!playback.message || undefined}
>
  <slot></slot>
  {#if playback.message}
    <div class="message" role="status"><p>{playback.message}</p></div>
  {:else if playback.stale}
    <p class="notice" role="status" data-stale>
      The programme stopped at {clock(playback.stale)}. It goes on by itself.
    </p>
  {/if}
  {#if on(controls)}
    <div class="bar">
      {#if on(seek)}
        <SeekBar {playback} {video} {range} {live} still={picture} />
      {/if}
      <Controls
        {playback}
        {video}
        {range}
        {live}
        {recorded}
        {paused}
        {full}
        menu={on(menu)}
        {toggle}
        {fullscreen}
      />
    </div>
  {/if}
</div>

<style>
  :host {
    display: block;
    aspect-ratio: 16 / 9;
    background: #000;
    color: #fff;
    font:
      14px/1.4 system-ui,
      sans-serif;
  }
  .player {
    position: relative;
    width: 100%;
    height: 100%;
    overflow: hidden;
    outline-offset: -3px;
  }
  .player:focus-visible {
    outline: 3px solid #7cd4d8;
  }
  .stale ::slotted(video) {
    opacity: 0.5;
    filter: grayscale(1);
  }
  .message {
    position: absolute;
    inset: 0;
    display: grid;
    place-items: center;
    padding: 1.5rem;
    text-align: center;
    background: rgb(0 0 0 / 0.6);
  }
  .message p {
    max-width: 24rem;
    margin: 0;
  }
  .notice {
    position: absolute;
    inset: 0 0 auto;
    margin: 0;
    padding: 0.5rem 0.75rem;
    text-align: center;
    background: rgb(0 0 0 / 0.7);
  }
  .bar {
    position: absolute;
    inset: auto 0 0;
    padding: 1.75rem 0.75rem 0.5rem;
    background: linear-gradient(transparent, rgb(0 0 0 / 0.85));
    opacity: 0;
    transition: opacity 0.2s;
  }
  [data-shown] .bar,
  .bar:focus-within,
  .player:hover .bar {
    opacity: 1;
  }
  @media (prefers-reduced-motion: reduce) {
    .bar {
      transition: none;
    }
  }
</style>
