<script lang="ts">
  import "../player/index";
  import OnAir from "../parts/OnAir.svelte";
  import type { Playback, Viewed } from "../lib/play.svelte";

  const [, mode, slug = ""] = location.pathname.split("/");
  const embedded = mode === "embed";
  const query = new URLSearchParams(location.search);
  const wish = (name: string) => query.get(name) ?? "";
  let title = $state(slug ? decodeURIComponent(slug) : (query.get("item") ?? "On air"));
  let known = $state("");

  function hear(e: CustomEvent<Viewed>) {
    if (e.detail.title) document.title = title = e.detail.title;
    known = e.detail.state;
  }
  /** use makes what is played known, for pages that hold this one and for programs that measure. */
  function use(node: HTMLElement) {
    node.addEventListener("channel", hear as EventListener);
    const get = () => (node as HTMLElement & { playback?: Playback }).playback;
    Object.defineProperty(window, "playback", { get, configurable: true });
  }
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
  {#if !slug && !wish("item")}
    <OnAir />
  {:else}
    <metaplasis-player
      {@attach use}
      channel={slug}
      way={wish("as") || "auto"}
      rung={wish("rung")}
      rungs={wish("rungs")}
      delay={wish("delay") || undefined}
      buffer={wish("buffer") || undefined}
      sound={wish("sound")}
      captions={wish("captions")}
      muted={wish("muted")}
      from={wish("from")}
      recording={wish("recording")}
      item={wish("item")}
      controls={wish("controls")}
      menu={wish("menu")}
      seek={wish("seek")}
      style={embedded
        ? "height:100%;aspect-ratio:auto"
        : "width:100%;max-height:calc(100vh - 4rem);margin:auto"}
    ></metaplasis-player>
  {/if}
</div>
