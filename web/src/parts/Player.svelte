<script lang="ts">
  import "../player/index";
  import { behind } from "../lib/format";
  import type { Playback } from "../lib/play.svelte";
  import type { Way } from "../lib/ways";
  import Fact from "./Fact.svelte";
  let { slug, way = "ll-hls" }: { slug: string; way?: Way } = $props();
  let player = $state.raw<HTMLElement>();
  let playback = $state.raw<Playback | undefined>();
  let video = $state.raw<HTMLVideoElement | undefined>();
  let muted = $state(true);

  /** use takes what plays once the element is there. */
  function use(node: HTMLElement) {
    player = node;
    const take = () =>
      ({ playback, video } = node as HTMLElement & { playback?: Playback; video?: HTMLVideoElement });
    node.addEventListener("message", take);
    return () => node.removeEventListener("message", take);
  }
  $effect(() => {
    const v = video;
    if (!v) return;
    const look = () => (muted = v.muted);
    look();
    v.addEventListener("volumechange", look);
    return () => v.removeEventListener("volumechange", look);
  });
</script>

<div class="panel overflow-hidden">
  <metaplasis-player {@attach use} channel={slug} {way} controls="no"></metaplasis-player>
  <div class="flex flex-wrap items-center gap-2 px-3 pt-3">
    <div class="join max-w-full flex-wrap gap-y-1" role="group" aria-label="Quality">
      <button
        class={["btn btn-xs join-item", !playback?.chosen && "btn-primary"]}
        aria-pressed={!playback?.chosen}
        onclick={() => playback?.choose("")}>Auto</button
      >
      {#each playback?.qualities ?? [] as q (q.id)}
        <button
          class={["btn btn-xs join-item", playback?.chosen === q.id && "btn-primary"]}
          aria-pressed={playback?.chosen === q.id}
          data-quality={q.label}
          onclick={() => playback?.choose(q.id)}>{q.label}</button
        >
      {/each}
    </div>
    {#if playback && playback.sounds.length > 1}
      <label class="flex items-center gap-1 text-xs">
        Sound
        <select
          class="select select-xs w-auto"
          value={playback.sound}
          onchange={(e) => playback?.listen(e.currentTarget.value)}
        >
          {#each playback.sounds as s (s.id)}<option value={s.id}>{s.label}</option>{/each}
        </select>
      </label>
    {/if}
    {#if playback && playback.texts.length > 0}
      <label class="flex items-center gap-1 text-xs">
        Text
        <select
          class="select select-xs w-auto"
          value={playback.text}
          onchange={(e) => playback?.read(e.currentTarget.value)}
        >
          <option value="">off</option>
          {#each playback.texts as t (t.id)}<option value={t.id}>{t.label}</option>{/each}
        </select>
      </label>
    {/if}
    <span class="flex-1"></span>
    <button
      class="btn btn-xs"
      onclick={() => {
        if (video) video.muted = !muted;
      }}
      aria-pressed={!muted}>{muted ? "Unmute" : "Mute"}</button
    >
    <button class="btn btn-xs" onclick={() => playback?.toLive()}>Go live</button>
    <button class="btn btn-xs" onclick={() => void player?.requestFullscreen?.().catch(() => {})}
      >Full screen</button
    >
  </div>
  <dl class={["grid grid-cols-2 gap-3 p-3 sm:grid-cols-4", playback?.stale && "opacity-50"]}>
    <Fact label="On screen" value={playback?.showing ? `${playback.showing}, ${playback.size}` : "–"} />
    {#if playback?.delay}
      <Fact label="Camera to page" value={behind(playback.delay.median / 1000)} />
    {:else}
      <Fact label="Behind live" value={!playback || playback.stale ? "–" : behind(playback.behind)} />
    {/if}
    <Fact
      label="In hand"
      value={!playback || playback.message || playback.stale ? "–" : behind(playback.buffered)}
    />
    <Fact label="Stalls" value={String(playback?.stalls ?? 0)} />
  </dl>
</div>
