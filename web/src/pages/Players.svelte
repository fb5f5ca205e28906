<script lang="ts">
  // Any players of any channels beside each other, each with how late it is. What stands here is in the page's address.
  import { live } from "../lib/live.svelte";
  import { type Way, ways } from "../lib/ways";
  import PlayerTile from "../parts/PlayerTile.svelte";

  let { tiles }: { tiles: string } = $props();
  const most = 12;
  const usual: (Way | "auto")[] = ["webrtc", "webtransport", "ll-hls", "dash"];
  const list = $derived(
    tiles
      .split(/[+,]/)
      .filter(Boolean)
      .map((t) => {
        const [channel, way = "auto"] = t.split(":");
        return { channel, way };
      }),
  );
  const onAir = $derived(live.channels.filter((c) => c.state === "live" || c.state === "degraded"));
  function go(next: { channel: string; way: string }[]) {
    location.hash = `#/players/${next.map((t) => `${t.channel}:${t.way}`).join("+")}`;
  }
  function add(channel: string, way: string) {
    if (list.length < most) go([...list, { channel, way }]);
  }
  let channel = $state("");
  let way = $state<string>("auto");
  const chosen = $derived(channel || onAir[0]?.slug || live.channels[0]?.slug || "");
</script>

<div class="mb-3 flex flex-wrap items-end gap-2">
  <h1 class="mr-3 text-lg font-semibold">Side by side</h1>
  <label class="grid gap-0.5"
    ><span class="label-quiet">Channel</span>
    <select
      class="select select-sm w-auto"
      value={chosen}
      onchange={(e) => (channel = e.currentTarget.value)}
    >
      {#each live.channels as c (c.slug)}<option value={c.slug}>{c.title}</option>{/each}
    </select></label
  >
  <label class="grid gap-0.5"
    ><span class="label-quiet">Way</span>
    <select class="select select-sm w-auto" bind:value={way}>
      <option value="auto">the player’s choice</option>
      {#each ways as w (w.way)}<option value={w.way}
          >{w.name}{w.way === "native" ? ", the browser’s own" : ""}</option
        >{/each}
    </select></label
  >
  <button
    class="btn btn-primary btn-sm"
    disabled={!chosen || list.length >= most}
    onclick={() => add(chosen, way)}>Add a player</button
  >
  {#if list.length > 0}<button class="btn btn-ghost btn-sm" onclick={() => go([])}>Clear</button>{/if}
</div>
{#if list.length === 0}
  <div class="panel grid justify-items-start gap-3 p-6">
    <p class="label-quiet max-w-prose">
      Put players of one channel or of several beside each other, to see how far behind the camera each way
      is. The address of this page keeps what you choose.
    </p>
    {#if chosen}
      <button class="btn btn-sm" onclick={() => go(usual.map((w) => ({ channel: chosen, way: w })))}
        >Four ways of {live.channels.find((c) => c.slug === chosen)?.title ?? chosen}</button
      >
    {:else}
      <p class="label-quiet">There is no channel yet.</p>
    {/if}
  </div>
{:else}
  <div class="grid gap-3 md:grid-cols-2 2xl:grid-cols-3" data-players>
    {#each list as t, i (`${t.channel}:${t.way}:${i}`)}
      <PlayerTile channel={t.channel} way={t.way} remove={() => go(list.filter((_, n) => n !== i))} />
    {/each}
  </div>
{/if}
