<script lang="ts">
  import { behind } from "../lib/format";
  import { Playback } from "../lib/play.svelte";

  const [, mode, slug] = location.pathname.split("/");
  const embedded = mode === "embed";
  let title = $state(decodeURIComponent(slug));
  let known = $state("");

  async function ask(): Promise<string> {
    const res = await fetch(`/api/v1/public/${slug}`);
    if (res.status === 404) return "missing";
    if (!res.ok) return "silent";
    const c = await res.json();
    title = c.title;
    document.title = c.title;
    return (known = c.state);
  }

  const playback = new Playback(ask);
  let video: HTMLVideoElement;
  let muted = $state(true);
  $effect(() => {
    void ask().catch(() => {});
    playback.attach(video, `/media/${slug}/index.m3u8`);
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
      class={["w-full object-contain", embedded ? "h-full" : "max-h-[calc(100vh-7rem)]"]}
    ></video>
    {#if playback.message}
      <div class="absolute inset-0 grid place-items-center bg-black/60 p-6 text-center" role="status">
        <p class="max-w-sm">{playback.message}</p>
      </div>
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
    <span class="flex-1 truncate text-xs text-white/70">
      {#if Number.isFinite(playback.behind)}{behind(playback.behind)} behind live{/if}
    </span>
    <label class="sr-only" for="quality">Quality</label>
    <select
      id="quality"
      class="select select-sm w-auto bg-black text-white"
      onchange={(e) => playback.choose(Number(e.currentTarget.value))}
    >
      <option value="-1">Auto{playback.showing ? ` (${playback.showing})` : ""}</option>
      {#each playback.qualities as q (q.index)}<option value={q.index}>{q.label}</option>{/each}
    </select>
    <button class="btn btn-sm" onclick={() => video.requestFullscreen?.()}>Full screen</button>
  </div>
</div>
