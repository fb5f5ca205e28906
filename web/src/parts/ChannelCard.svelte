<script lang="ts">
  import { ago, bitrate, frames, percent } from "../lib/format";
  import { filled } from "../lib/history";
  import { live } from "../lib/live.svelte";
  import { tracks } from "../lib/words";
  import type { Status } from "../lib/types";
  import Fact from "./Fact.svelte";
  import Preview from "./Preview.svelte";
  import Chart from "./Chart.svelte";
  import StateBadge from "./StateBadge.svelte";
  let { channel: c }: { channel: Status } = $props();
  $effect(() => void live.want(c.slug));
  const history = $derived(live.history[c.slug]);
  const span = $derived(filled(history, [60, 300, 900]));
  const video = $derived(c.renditions.filter((r) => r.kind === "video" && !r.retired));
</script>

<a
  href="#/channels/{c.slug}"
  class="panel hover:border-primary/60 grid overflow-hidden transition-colors sm:grid-cols-[15rem_1fr]"
  data-channel={c.slug}
>
  <Preview channel={c} />
  <div class="flex min-w-0 flex-col gap-2 p-3">
    <div class="flex items-start gap-2">
      <div class="min-w-0">
        <h2 class="truncate leading-tight font-semibold">{c.title}</h2>
        <p class="label-quiet truncate">{c.slug}</p>
      </div>
      <span class="ml-auto shrink-0"><StateBadge state={c.state} /></span>
    </div>
    {#if c.feed}
      <dl class="grid grid-cols-3 gap-x-3 gap-y-1.5">
        <Fact label="In" value={bitrate(c.feed.bitrate)} />
        <Fact label="Rate" value={frames(c.feed.frameRate)} />
        <Fact label="Connected" value={ago(c.feed.begun, live.now)} />
        <div class="col-span-3"><Fact label="Tracks" value={tracks(c.feed.tracks)} /></div>
        <div class="col-span-2">
          <Fact label="Renditions" value={video.map((r) => r.name).join(" · ") || "sound only"} />
        </div>
        <div>
          <dt class="label-quiet">Worker load</dt>
          <dd class={["text-sm font-medium", (c.worker?.load ?? 0) > 950 && "text-error"]}>
            {percent(c.worker?.load)}
          </dd>
        </div>
        {#if history && history.bitrate.length > 1}
          <div class="col-span-3 hidden sm:block">
            <dt class="label-quiet">Bitrate in, last {span === 60 ? "minute" : `${span / 60} minutes`}</dt>
            <dd>
              <Chart
                values={history.bitrate}
                every={history.every}
                until={history.until}
                {span}
                label="Bitrate in"
                format={bitrate}
                axes={false}
                height={34}
              />
            </dd>
          </div>
        {/if}
      </dl>
    {:else}
      <p class="label-quiet mt-1">
        {#if c.lastFeed}
          The last sender, {c.lastFeed.remote}, left {ago(c.lastFeed.ended, live.now)} ago: {c.lastFeed
            .reason}.
        {:else}
          Waiting for a sender. Open the channel for the server and key to put into an encoder.
        {/if}
      </p>
    {/if}
    {#if c.problems.length}
      <p class="border-warning rounded-field bg-warning/15 mt-auto border-l-3 px-2 py-1 text-xs">
        {c.problems[0].text}
      </p>
    {/if}
  </div>
</a>
