<script lang="ts">
  import { untrack } from "svelte";
  import { behind, clock } from "../lib/format";
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
    <video
      bind:this={video}
      bind:muted
      playsinline
      autoplay
      {poster}
      class={["aspect-video w-full", playback.stale && "opacity-50 grayscale"]}
    ></video>
    {#if playback.message}
      <div
        class="absolute inset-0 grid place-items-center bg-black/60 p-6 text-center text-sm text-white"
        role="status"
      >
        <p class="max-w-xs">{playback.message}</p>
      </div>
    {:else if playback.stale}
      <p
        class="absolute inset-x-0 top-0 bg-black/70 px-3 py-2 text-center text-sm text-white"
        role="status"
        data-stale
      >
        The sender left at {clock(playback.stale)}. This is its last picture; it goes on by itself when a
        sender comes back.
      </p>
    {/if}
  </div>
  <div class="flex flex-wrap items-center gap-2 px-3 pt-3">
    <div class="join max-w-full flex-wrap gap-y-1" role="group" aria-label="Quality">
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
    {#if playback.sounds.length > 1}
      <label class="flex items-center gap-1 text-xs">
        Sound
        <select
          class="select select-xs w-auto"
          value={playback.sound}
          onchange={(e) => playback.listen(e.currentTarget.value)}
        >
          {#each playback.sounds as s (s.id)}<option value={s.id}>{s.label}</option>{/each}
        </select>
      </label>
    {/if}
    {#if playback.texts.length > 0}
      <label class="flex items-center gap-1 text-xs">
        Text
        <select
          class="select select-xs w-auto"
          value={playback.text}
          onchange={(e) => playback.read(e.currentTarget.value)}
        >
          <option value="">off</option>
          {#each playback.texts as t (t.id)}<option value={t.id}>{t.label}</option>{/each}
        </select>
      </label>
    {/if}
    <span class="flex-1"></span>
    <button class="btn btn-xs" onclick={() => (muted = !muted)} aria-pressed={!muted}
      >{muted ? "Unmute" : "Mute"}</button
    >
    <button class="btn btn-xs" onclick={() => playback.toLive()}>Go live</button>
    <button class="btn btn-xs" onclick={() => video.requestFullscreen?.()}>Full screen</button>
  </div>
  <dl class={["grid grid-cols-2 gap-3 p-3 sm:grid-cols-4", playback.stale && "opacity-50"]}>
    <Fact label="On screen" value={playback.showing ? `${playback.showing}, ${playback.size}` : "–"} />
    {#if playback.delay}
      <Fact label="Camera to page" value={behind(playback.delay.median / 1000)} />
    {:else}
      <Fact label="Behind live" value={playback.stale ? "–" : behind(playback.behind)} />
    {/if}
    <Fact label="In hand" value={playback.message || playback.stale ? "–" : behind(playback.buffered)} />
    <Fact label="Stalls" value={String(playback.stalls)} />
  </dl>
</div>
