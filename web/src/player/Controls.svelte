<svelte:options css="injected" />

<script lang="ts">
  // The row of controls below the picture.
  import { onMount } from "svelte";
  import { behind, elapsed } from "../lib/format";
  import type { Playback } from "../lib/play.svelte";

  let {
    playback,
    video,
    range,
    live,
    recorded,
    paused,
    full,
    menu,
    toggle,
    fullscreen,
  }: {
    playback: Playback;
    video: HTMLVideoElement;
    range: { start: number; end: number; at: number }; // of the player, seconds
    live: boolean;
    recorded: boolean; // there is no live edge
    paused: boolean;
    full: boolean; // the player fills the screen
    menu: boolean; // of qualities
    toggle: () => void; // plays or pauses
    fullscreen: () => void;
  } = $props();

  let quiet = $state(true);
  let volume = $state(1);
  onMount(() => {
    const hear = () => ([quiet, volume] = [video.muted, video.volume]);
    hear();
    video.addEventListener("volumechange", hear);
    return () => video.removeEventListener("volumechange", hear);
  });
</script>

<div class="row">
  <button onclick={toggle} aria-label={paused ? "Play" : "Pause"} title="{paused ? 'Play' : 'Pause'} (k)">
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
    {#if recorded}{elapsed(range.at - range.start)} of {elapsed(range.end - range.start)}
    {:else if playback.from && Number.isFinite(playback.behind)}{new Date(
        Date.now() - playback.behind * 1000,
      ).toLocaleTimeString([], { hour12: false })}, {elapsed(playback.behind)} ago
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
  {#if menu && playback.qualities.length > 0}
    <select
      aria-label="Quality"
      value={playback.chosen}
      onchange={(e) => playback.choose(e.currentTarget.value)}
    >
      <option value="">Auto{playback.showing && !playback.chosen ? ` (${playback.showing})` : ""}</option>
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

<style>
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
  .volume {
    width: 4.5rem;
    accent-color: #fff;
  }
  @media (max-width: 480px) {
    .volume {
      display: none;
    }
  }
</style>
