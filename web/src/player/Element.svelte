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
  import { behind, clock } from "../lib/format";
  import { Playback, type PublicChannel } from "../lib/play.svelte";
  import { type Choice, choices } from "../lib/ways";

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
  async function ask(): Promise<PublicChannel> {
    if (item) {
      const res = await fetch(`${base}/items/${item}/index.m3u8`);
      return res.ok
        ? { title: item, state: "file" }
        : { title: item, state: "missing", starts: (await res.text()).trim() };
    }
    const res = await fetch(`${base}/api/v1/public/${channel}`);
    if (res.status === 404) return { title: "", state: "missing" };
    if (!res.ok) return { title: "", state: "silent" };
    const c = (await res.json()) as PublicChannel;
    element.dispatchEvent(new CustomEvent("channel", { detail: c }));
    return c;
  }
  const playback = new Playback(ask);
  const video = document.createElement("video");
  let quiet = $state(true);
  let paused = $state(false);
  let volume = $state(1);
  let shown = $state(true); // the controls
  let full = $state(false);
  let range = $state({ start: 0, end: 0, at: 0 });
  let hide: ReturnType<typeof setTimeout> | undefined;

  onMount(() => {
    video.playsInline = true;
    video.autoplay = true;
    video.muted = quiet = on(muted);
    if (poster) video.poster = poster;
    video.style.cssText = "display:block;width:100%;height:100%;object-fit:contain;background:#000";
    element.append(video);
    // For pages, and for programs that measure: what is played, and how late.
    Object.assign(element, { playback, video });
    const events: [string, () => void][] = [
      ["pause", () => (paused = true)],
      ["play", () => (paused = false)],
      ["volumechange", () => ([quiet, volume] = [video.muted, video.volume])],
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
  // The bar of what lies back, in seconds before now.
  let now = $state(Date.now());
  let dragged = $state<number | undefined>(); // where the hand is on it
  $effect(() => {
    const t = setInterval(() => (now = Date.now()), 1000);
    return () => clearInterval(t);
  });
  const depth = $derived(Math.max((now - playback.oldest) / 1000, 1));
  const shownAt = $derived(dragged ?? -(Number.isFinite(playback.behind) ? playback.behind : 0));
  const still = (seconds: number) =>
    `${base}/media/${channel}/picture.jpg?time=${new Date(Math.round((now + seconds * 1000) / 5000) * 5000).toISOString()}${recording ? `&recording=${encodeURIComponent(recording)}` : ""}`;
  let point = $state<{ at: number; x: number } | undefined>(); // under the pointer
  function hover(e: PointerEvent & { currentTarget: HTMLElement }) {
    const box = e.currentTarget.getBoundingClientRect();
    const share = clip((e.clientX - box.left) / box.width);
    point = { at: -(1 - share) * depth, x: share };
  }
  function go(seconds: number) {
    dragged = undefined;
    playback.playAt(Date.now() + seconds * 1000);
  }
  const clip = (v: number) => Math.max(0, Math.min(1, v));
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
    ArrowUp: [() => (video.volume = clip(video.volume + 0.1)), false],
    ArrowDown: [() => (video.volume = clip(video.volume - 0.1)), false],
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
  const age = (s: number) => `${Math.floor(s / 60)}:${String(Math.floor(s % 60)).padStart(2, "0")}`;
</script>

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
      {#if playback.back && on(seek)}
        <div
          class="past"
          role="presentation"
          onpointermove={hover}
          onpointerleave={() => (point = undefined)}
        >
          {#if point || dragged !== undefined}
            {@const at = dragged ?? point!.at}
            <figure style:left="{clip(1 + at / depth) * 100}%" data-still>
              <img
                src={still(at)}
                alt=""
                width="160"
                height="90"
                onerror={(e) => ((e.currentTarget as HTMLImageElement).style.visibility = "hidden")}
                onload={(e) => ((e.currentTarget as HTMLImageElement).style.visibility = "")}
              />
              <figcaption>
                {new Date(now + at * 1000).toLocaleTimeString([], { hour12: false })} · {age(-at)} ago
              </figcaption>
            </figure>
          {/if}
          {#each playback.markers as m (m.id)}
            <button
              class="marker"
              style:left="{clip(1 - (now - m.at) / 1000 / depth) * 100}%"
              title="{m.text || 'Marker'}, {new Date(m.at).toLocaleTimeString([], { hour12: false })}"
              aria-label="Go to {m.text || 'the marker'}"
              onclick={() => playback.playAt(m.at)}
            ></button>
          {/each}
          <input
            class="seek"
            type="range"
            aria-label="Place"
            aria-valuetext={live ? "live" : `${age(-shownAt)} behind live`}
            min={-depth}
            max="0"
            step="1"
            value={shownAt}
            oninput={(e) => (dragged = Number(e.currentTarget.value))}
            onchange={(e) => go(Number(e.currentTarget.value))}
          />
        </div>
      {:else if playback.seeks && on(seek) && range.end - range.start > 4}
        <input
          class="seek"
          type="range"
          aria-label="Place"
          aria-valuetext={live ? "live" : `${age(range.end - range.at)} behind live`}
          min={range.start}
          max={range.end}
          step="0.1"
          value={range.at}
          oninput={(e) => (video.currentTime = Number(e.currentTarget.value))}
        />
      {/if}
      <div class="row">
        <button
          onclick={toggle}
          aria-label={paused ? "Play" : "Pause"}
          title="{paused ? 'Play' : 'Pause'} (k)"
        >
          <svg viewBox="0 0 24 24" aria-hidden="true"
            ><path d={paused ? "M7 4v16l13-8z" : "M6 4h4v16H6zM14 4h4v16h-4z"} /></svg
          >
        </button>
        <button
          onclick={() => (video.muted = !video.muted)}
          aria-pressed={quiet}
          aria-label={quiet ? "Unmute" : "Mute"}
          title="{quiet ? 'Unmute' : 'Mute'} (m)"
        >
          <svg viewBox="0 0 24 24" aria-hidden="true"
            ><path
              d={quiet
                ? "M4 9v6h4l5 5V4L8 9zM16 9l5 6m0-6l-5 6"
                : "M4 9v6h4l5 5V4L8 9zM16 8c2 2 2 6 0 8M18.500 5.500c4 4 4 9 0 13"}
              class="line"
            /></svg
          >
        </button>
        <input
          class="volume"
          type="range"
          aria-label="Volume"
          min="0"
          max="1"
          step="0.05"
          value={quiet ? 0 : volume}
          oninput={(e) => {
            video.volume = Number(e.currentTarget.value);
            video.muted = video.volume === 0;
          }}
        />
        {#if !recorded}
          <button class={["live", live && "on"]} onclick={() => playback.toLive()} title="Go live (l)"
            ><span class="dot"></span>{live ? "Live" : "Go live"}</button
          >
        {/if}
        <span class="delay">
          {#if recorded}{age(range.at - range.start)} of {age(range.end - range.start)}
          {:else if playback.from && Number.isFinite(playback.behind)}{new Date(
              now - playback.behind * 1000,
            ).toLocaleTimeString([], { hour12: false })}, {age(playback.behind)} ago
          {:else if playback.delay}{behind(playback.delay.median / 1000)} from camera to page
          {:else if Number.isFinite(playback.behind) && !playback.stale}{behind(playback.behind)} behind{/if}
        </span>
        {#if playback.sounds.length > 1}
          <select
            aria-label="Sound"
            value={playback.sound}
            onchange={(e) => playback.listen(e.currentTarget.value)}
          >
            {#each playback.sounds as s (s.id)}<option value={s.id}>{s.label}</option>{/each}
          </select>
        {/if}
        {#if playback.texts.length > 0}
          <select
            aria-label="Captions"
            title="Captions (c)"
            value={playback.text}
            onchange={(e) => playback.read(e.currentTarget.value)}
          >
            <option value="">no captions</option>
            {#each playback.texts as t (t.id)}<option value={t.id}>{t.label}</option>{/each}
          </select>
        {/if}
        {#if on(menu) && playback.qualities.length > 0}
          <select
            aria-label="Quality"
            value={playback.chosen}
            onchange={(e) => playback.choose(e.currentTarget.value)}
          >
            <option value=""
              >Auto{playback.showing && !playback.chosen ? ` (${playback.showing})` : ""}</option
            >
            {#each playback.qualities as q (q.id)}<option value={q.id}>{q.label}</option>{/each}
          </select>
        {/if}
        <button
          onclick={fullscreen}
          aria-label={full ? "Leave full screen" : "Full screen"}
          title="Full screen (f)"
        >
          <svg viewBox="0 0 24 24" aria-hidden="true"
            ><path class="line" d="M4 9V4h5M15 4h5v5M20 15v5h-5M9 20H4v-5" /></svg
          >
        </button>
      </div>
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
  .row {
    display: flex;
    align-items: center;
    gap: 0.25rem;
    min-width: 0;
  }
  button,
  select {
    min-height: 2.25rem;
    border: 0;
    border-radius: 0.4rem;
    background: transparent;
    color: inherit;
    font: inherit;
    cursor: pointer;
  }
  button {
    min-width: 2.25rem;
    display: inline-flex;
    align-items: center;
    justify-content: center;
    gap: 0.4rem;
    padding: 0 0.4rem;
  }
  button:hover,
  select:hover {
    background: rgb(255 255 255 / 0.14);
  }
  button:focus-visible,
  select:focus-visible,
  input:focus-visible {
    outline: 2px solid #7cd4d8;
    outline-offset: 1px;
  }
  select option {
    color: #111;
    background: #fff;
  }
  select {
    max-width: 9rem;
    text-overflow: ellipsis;
  }
  svg {
    width: 1.25rem;
    height: 1.25rem;
    fill: currentColor;
  }
  .line {
    fill: none;
    stroke: currentColor;
    stroke-width: 2;
  }
  .live {
    white-space: nowrap;
    opacity: 0.75;
  }
  .live.on {
    opacity: 1;
  }
  .dot {
    width: 0.5rem;
    height: 0.5rem;
    border-radius: 50%;
    background: #8a949c;
  }
  .live.on .dot {
    background: #f2803a;
  }
  .delay {
    flex: 1;
    min-width: 0;
    overflow: hidden;
    white-space: nowrap;
    text-overflow: ellipsis;
    font-size: 0.8rem;
    opacity: 0.75;
    font-variant-numeric: tabular-nums;
  }
  .seek {
    width: 100%;
    margin: 0 0 0.25rem;
    accent-color: #f2803a;
  }
  .past {
    position: relative;
  }
  .past figure {
    position: absolute;
    bottom: 1.6rem;
    margin: 0;
    transform: translateX(-50%);
    text-align: center;
    pointer-events: none;
    font-size: 0.75rem;
    font-variant-numeric: tabular-nums;
    max-width: 100%;
  }
  .past img {
    display: block;
    width: 10rem;
    height: 5.625rem;
    object-fit: cover;
    border-radius: 0.3rem;
    background: #222;
  }
  .past figcaption {
    white-space: nowrap;
    text-shadow: 0 0 3px #000;
  }
  .past .marker {
    position: absolute;
    bottom: 1.1rem;
    min-width: 0;
    min-height: 0;
    width: 0.6rem;
    height: 0.6rem;
    padding: 0;
    border-radius: 50% 50% 50% 0;
    transform: translateX(-50%) rotate(-45deg);
    background: #7cd4d8;
  }
  .volume {
    width: 4.5rem;
    accent-color: #fff;
  }
  @media (max-width: 480px) {
    .volume {
      display: none;
    }
  }
  @media (prefers-reduced-motion: reduce) {
    .bar {
      transition: none;
    }
  }
</style>
