<script lang="ts">
  import { untrack } from "svelte";
  import { behind, clock } from "../lib/format";
  import { askPublic } from "../lib/api";
  import { Playback } from "../lib/play.svelte";
  import { address, wayOf } from "../lib/ways";

  const [, mode, slug] = location.pathname.split("/");
  const embedded = mode === "embed";
  const query = new URLSearchParams(location.search);
  const way = wayOf(query.get("as"));
  let title = $state(decodeURIComponent(slug));
  let known = $state("");

  async function ask() {
    const c = await askPublic(slug);
    if (c.title) document.title = title = c.title;
    known = c.state;
    return c;
  }

  const playback = new Playback(ask);
  let video: HTMLVideoElement;
  let muted = $state(true);
  $effect(() => {
    untrack(() =>
      playback.attach(video, address(slug, way, query.get("rungs") ?? ""), way, query.get("rung") ?? ""),
    );
    // For pages that hold this one, and for programs that measure: what is played, and how late.
    Object.assign(window, { playback });
    return () => playback.close();
  });
</script>

<div class={["flex flex-col bg-black text-white", embedded ? "h-screen" : "min-h-screen"]}>
  {#if !embedded}
    <header class="flex items-center gap-3 px-4 py-3">
      <img src="/icon.svg" alt="" class="size-6" />
      <h1 class="truncate font-semibold">{title}</h1>
      {#if known === "live" || known === "degraded"}
        <span class="rounded-selector bg-accent text-accent-content px-2 py-0.5 text-xs font-semibold"
          >Live</span
        >
      {/if}
    </header>
  {/if}
  <div class="relative grid min-h-0 flex-1 place-items-center">
    <video
      bind:this={video}
      bind:muted
      playsinline
      autoplay
      class={[
        "w-full object-contain",
        embedded ? "h-full" : "max-h-[calc(100vh-7rem)]",
        playback.stale && "opacity-50 grayscale",
      ]}
    ></video>
    {#if playback.message}
      <div class="absolute inset-0 grid place-items-center bg-black/60 p-6 text-center" role="status">
        <p class="max-w-sm">{playback.message}</p>
      </div>
    {:else if playback.stale}
      <p class="absolute inset-x-0 top-0 bg-black/70 px-3 py-2 text-center text-sm" role="status" data-stale>
        The programme stopped at {clock(playback.stale)}. It goes on by itself.
      </p>
    {/if}
  </div>
  <div
    class={[
      "flex items-center gap-2 px-3 py-2 text-sm",
      embedded &&
        "absolute inset-x-0 bottom-0 bg-gradient-to-t from-black/80 to-transparent opacity-0 transition-opacity focus-within:opacity-100 hover:opacity-100",
    ]}
  >
    <button class="btn btn-sm" onclick={() => (muted = !muted)}>{muted ? "Unmute" : "Mute"}</button>
    <button class="btn btn-sm" onclick={() => playback.toLive()}>Go live</button>
    {#if playback.sounds.length > 1}
      <select
        class="select select-sm w-auto text-base-content"
        aria-label="Sound"
        value={playback.sound}
        onchange={(e) => playback.listen(e.currentTarget.value)}
      >
        {#each playback.sounds as s (s.id)}<option value={s.id}>{s.label}</option>{/each}
      </select>
    {/if}
    {#if playback.texts.length > 0}
      <select
        class="select select-sm w-auto text-base-content"
        aria-label="Text"
        value={playback.text}
        onchange={(e) => playback.read(e.currentTarget.value)}
      >
        <option value="">no text</option>
        {#each playback.texts as t (t.id)}<option value={t.id}>{t.label}</option>{/each}
      </select>
    {/if}
    <span class="flex-1 truncate text-xs text-white/70">
      {#if playback.delay}{behind(playback.delay.median / 1000)} from camera to page
      {:else if Number.isFinite(playback.behind) && !playback.stale}{behind(playback.behind)} behind live{/if}
    </span>
    <label class="sr-only" for="quality">Quality</label>
    <select
      id="quality"
      class="select select-sm w-auto bg-black text-white"
      onchange={(e) => playback.choose(e.currentTarget.value)}
    >
      <option value="">Auto{playback.showing ? ` (${playback.showing})` : ""}</option>
      {#each playback.qualities as q (q.id)}<option value={q.id} selected={playback.chosen === q.id}
          >{q.label}</option
        >{/each}
    </select>
    <button class="btn btn-sm" onclick={() => video.requestFullscreen?.()}>Full screen</button>
  </div>
</div>
