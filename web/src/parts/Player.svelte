<script lang="ts">
  import { untrack } from "svelte";
  import { behind } from "../lib/format";
  import { Playback, type PublicChannel } from "../lib/play.svelte";
  import { address, type Way } from "../lib/ways";
  import Fact from "./Fact.svelte";
  let {
    slug,
    way = "ll-hls",
    ask,
    poster = "",
  }: { slug: string; way?: Way; ask: () => Promise<PublicChannel>; poster?: string } = $props();
  // svelte-ignore state_referenced_locally
  let playback = $state.raw(new Playback(ask));
  let video: HTMLVideoElement;
  let muted = $state(true);

  $effect(() => {
    const p = new Playback(ask);
    playback = p;
    const [url, as] = [address(slug, way), way];
    untrack(() => p.attach(video, url, as));
    return () => p.close();
  });
</script>

<div class="panel overflow-hidden">
  <div class="relative bg-black">
    <video bind:this={video} bind:muted playsinline autoplay {poster} class="aspect-video w-full"></video>
    {#if playback.message}
      <div
        class="absolute inset-0 grid place-items-center bg-black/60 p-6 text-center text-sm text-white"
        role="status"
      >
        <p class="max-w-xs">{playback.message}</p>
      </div>
    {/if}
  </div>
  <div class="flex flex-wrap items-center gap-2 px-3 pt-3">
    <div class="join" role="group" aria-label="Quality">
      <button
        class={["btn btn-xs join-item", !playback.chosen && "btn-primary"]}
        aria-pressed={!playback.chosen}
        onclick={() => playback.choose("")}>Auto</button
      >
      {#each playback.qualities as q (q.id)}
        <button
          class={["btn btn-xs join-item", playback.chosen === q.id && "btn-primary"]}
          aria-pressed={playback.chosen === q.id}
          data-quality={q.label}
          onclick={() => playback.choose(q.id)}>{q.label}</button
        >
      {/each}
    </div>
    <span class="flex-1"></span>
    <button class="btn btn-xs" onclick={() => (muted = !muted)} aria-pressed={!muted}
      >{muted ? "Unmute" : "Mute"}</button
    >
    <button class="btn btn-xs" onclick={() => playback.toLive()}>Go live</button>
    <button class="btn btn-xs" onclick={() => video.requestFullscreen?.()}>Full screen</button>
  </div>
  <dl class="grid grid-cols-2 gap-3 p-3 sm:grid-cols-4">
    <Fact label="On screen" value={playback.showing ? `${playback.showing}, ${playback.size}` : "–"} />
    {#if playback.delay}
      <Fact label="Camera to page" value={behind(playback.delay.median / 1000)} />
    {:else}
      <Fact label="Behind live" value={behind(playback.behind)} />
    {/if}
    <Fact label="In hand" value={playback.message ? "–" : behind(playback.buffered)} />
    <Fact label="Stalls" value={String(playback.stalls)} />
  </dl>
</div>
