<script lang="ts">
  import { bitrate, percent } from "../lib/format";
  import { filled } from "../lib/history";
  import { live } from "../lib/live.svelte";
  import Chart from "./Chart.svelte";
  let { slug }: { slug: string } = $props();
  const spans = [
    [60, "1 min"],
    [300, "5 min"],
    [900, "15 min"],
    [3600, "1 h"],
  ] as const;
  $effect(() => void live.want(slug));
  const h = $derived(live.history[slug]);
  // Until somebody chooses, the line has the width to itself, up to five minutes.
  let chosen = $state(0);
  const span = $derived(chosen || filled(h, [60, 300]));
</script>

<section class="panel p-3" aria-label="Last hour">
  <div class="mb-2 flex items-center gap-2">
    <h2 class="text-sm font-medium">Over time</h2>
    <div class="join ml-auto" role="group" aria-label="Span">
      {#each spans as [s, text] (s)}
        <button
          class={["btn btn-xs join-item", span === s && "btn-primary"]}
          aria-pressed={span === s}
          onclick={() => (chosen = s)}>{text}</button
        >
      {/each}
    </div>
  </div>
  {#if h}
    <div class="grid gap-3 2xl:grid-cols-2">
      <div>
        <p class="label-quiet">Bitrate in</p>
        <Chart
          values={h.bitrate}
          every={h.every}
          until={h.until}
          {span}
          label="Bitrate in"
          least={2_000_000}
          format={bitrate}
        />
      </div>
      <div>
        <p class="label-quiet">Worker against real time</p>
        <Chart
          values={h.load}
          every={h.every}
          until={h.until}
          {span}
          limit={1000}
          label="Worker load"
          format={percent}
        />
      </div>
      <div class="2xl:col-span-2">
        <p class="label-quiet">Viewers</p>
        <Chart
          values={h.viewers}
          every={h.every}
          until={h.until}
          {span}
          label="Viewers"
          least={4}
          format={(v) => (Number.isInteger(v) ? String(v) : "")}
          height={80}
        />
      </div>
    </div>
  {:else}
    <div class="skeleton h-40"></div>
  {/if}
</section>
