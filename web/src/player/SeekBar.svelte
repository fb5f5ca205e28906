<svelte:options css="injected" />

<script lang="ts">
  // The bar to go elsewhere with: over the time-shift, with markers and pictures, or over what the player holds.
  import { elapsed, share } from "../lib/format";
  import type { Playback } from "../lib/play.svelte";

  let {
    playback,
    video,
    range,
    live,
    still,
  }: {
    playback: Playback;
    video: HTMLVideoElement;
    range: { start: number; end: number; at: number }; // of the player, seconds
    live: boolean;
    still: (at: number) => string; // the address of a picture of a time
  } = $props();

  let now = $state(Date.now());
  $effect(() => {
    const t = setInterval(() => (now = Date.now()), 1000);
    return () => clearInterval(t);
  });
  let dragged = $state<number | undefined>(); // where the hand is on the bar, seconds from now
  let pointed = $state<number | undefined>(); // where the pointer is
  const depth = $derived(Math.max((now - playback.oldest) / 1000, 1));
  const at = $derived(dragged ?? -(Number.isFinite(playback.behind) ? playback.behind : 0));
  const time = (ms: number) => new Date(ms).toLocaleTimeString([], { hour12: false });

  function hover(e: PointerEvent & { currentTarget: HTMLElement }) {
    const box = e.currentTarget.getBoundingClientRect();
    pointed = -(1 - share((e.clientX - box.left) / box.width)) * depth;
  }
  function go(seconds: number) {
    dragged = undefined;
    playback.playAt(Date.now() + seconds * 1000);
  }
</script>

{#if playback.back}
  <div class="past" role="presentation" onpointermove={hover} onpointerleave={() => (pointed = undefined)}>
    {#if pointed !== undefined || dragged !== undefined}
      {@const shown = dragged ?? pointed ?? 0}
      <figure style:left="{share(1 + shown / depth) * 100}%" data-still>
        <img
          src={still(now + shown * 1000)}
          alt=""
          width="160"
          height="90"
          onerror={(e) => ((e.currentTarget as HTMLImageElement).style.visibility = "hidden")}
          onload={(e) => ((e.currentTarget as HTMLImageElement).style.visibility = "")}
        />
        <figcaption>{time(now + shown * 1000)} · {elapsed(-shown)} ago</figcaption>
      </figure>
    {/if}
    {#each playback.markers as m (m.id)}
      <button
        class="marker"
        style:left="{share(1 - (now - m.at) / 1000 / depth) * 100}%"
        title="{m.text || 'Marker'}, {time(m.at)}"
        aria-label="Go to {m.text || 'the marker'}"
        onclick={() => playback.playAt(m.at)}
      ></button>
    {/each}
    <input
      class="seek"
      type="range"
      aria-label="Place"
      aria-valuetext={live ? "live" : `${elapsed(-at)} behind live`}
      min={-depth}
      max="0"
      step="1"
      value={at}
      oninput={(e) => (dragged = Number(e.currentTarget.value))}
      onchange={(e) => go(Number(e.currentTarget.value))}
    />
  </div>
{:else if playback.seeks && range.end - range.start > 4}
  <input
    class="seek"
    type="range"
    aria-label="Place"
    aria-valuetext={live ? "live" : `${elapsed(range.end - range.at)} behind live`}
    min={range.start}
    max={range.end}
    step="0.1"
    value={range.at}
    oninput={(e) => (video.currentTime = Number(e.currentTarget.value))}
  />
{/if}

<style>
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
  .marker {
    border: 0;
    cursor: pointer;
  }
  .marker:focus-visible,
  .seek:focus-visible {
    outline: 2px solid #7cd4d8;
    outline-offset: 1px;
  }
</style>
